// Elementwise nodes done row by row: a tape whose operands are found by the row's index in each dim.
#pragma once

#include <span>
#include <vector>

#include "lower/fuse/tape_builder.hpp"

namespace lathe::lower {

struct RowTape {
  kernels::RunTape run_tape = nullptr;
  kernels::Tape tape;
  std::vector<Location> locations;
  std::vector<kernels::TapeType> types;
  std::vector<int64_t> dims;                  // of the rows, slowest first
  std::vector<std::vector<int64_t>> strides;  // per operand, per dim; then along the row

  // `length` elements of a row, from this one on. With `own`, operand 0 is the row itself, where `to` points.
  void run(const StepContext& c, int64_t row, int64_t length, float* to, bool own, int64_t from = 0) const;
  // Rows [first, last), one after another from `to` on. Short ones many at a time: a call of the tape for each would cost more than its
  // work. Operands that do not run on from row to row (one a channel, one a row, parts of something wider) are copied out for so many rows.
  void run_rows(const StepContext& c, int64_t first, int64_t last, int64_t length, void* to, kernels::TapeType to_type, bool own) const;
};

// Over values of this shape, a row being what runs fastest in the layout; with `head`, that value is the row itself. Adds reads, bytes and
// arithmetic to the step.
RowTape bind_row_tape(PlanBuilder& builder, kernels::Isa isa, std::span<const int> nodes, ValueId head, const Shape& whole, Layout layout,
                      Step& step);

}  // namespace lathe::lower
