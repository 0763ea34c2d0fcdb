// Strided copies as steps: what movement ops share, and what changes a layout.
#pragma once

#include <string>
#include <vector>

#include "kernels/copy.hpp"
#include "lower/plan/step.hpp"

namespace lathe::lower {

class CopyKernel : public StepKernel {
 public:
  struct Part {
    kernels::CopyPlan plan;
    Location from, to;  // offsets point at the first element read and written
  };
  std::vector<Part> parts;
  void run(const StepContext& c) const override;
};

// A copy by all threads of a run.
void copy_by_all(const StepContext& c, const kernels::CopyPlan& plan, const void* from, void* to);

// Bytes of an element that can be copied as a number; 0: it cannot (packed bits, strings).
int copy_bytes(DType dtype);
// A copy of `shape`, elements `in` apart at `from` (from its `from_element`-th on) to elements `out` apart at `to`.
CopyKernel::Part copy_part(int bytes, const Shape& shape, std::vector<int64_t> in, std::vector<int64_t> out, Location from,
                           int64_t from_element, Location to);
Step copy_step(std::vector<std::string> nodes, const std::string& text, double elements, int bytes);
// A copy between two layouts of the same value, or out of a larger one.
Step conversion_step(const std::string& name, const Shape& shape, DType dtype, const Location& from, const Location& to);

}  // namespace lathe::lower
