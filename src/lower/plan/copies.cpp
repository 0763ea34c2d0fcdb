#include "lower/plan/copies.hpp"

#include <algorithm>

#include "base/fail.hpp"

namespace lathe::lower {

void copy_by_all(const StepContext& c, const kernels::CopyPlan& plan, const void* from, void* to) {
  const int64_t pieces = std::min<int64_t>(plan.tasks, c.workers.size() > 1 ? c.workers.size() * 4 : 1);
  c.workers.each(
      pieces, [&](int64_t task, int) { kernels::run_copy(plan, from, to, plan.tasks * task / pieces, plan.tasks * (task + 1) / pieces); });
}

void CopyKernel::run(const StepContext& c) const {
  for (const Part& p : parts) copy_by_all(c, p.plan, pointer<const char>(c, p.from), pointer<char>(c, p.to));
}

int copy_bytes(DType d) {
  const int bits = bit_width(d);
  return bits == 8 || bits == 16 || bits == 32 || bits == 64 ? bits / 8 : 0;
}

CopyKernel::Part copy_part(int bytes, const Shape& shape, std::vector<int64_t> in, std::vector<int64_t> out, Location from,
                           int64_t from_element, Location to) {
  from.offset += from_element * bytes;
  CopyKernel::Part p{kernels::plan_copy(bytes, shape, std::move(in), std::move(out)), std::move(from), std::move(to)};
  if (element_count(shape) == 0) p.plan.tasks = 0;
  return p;
}

Step copy_step(std::vector<std::string> nodes, const std::string& text, double elements, int bytes) {
  Step step;
  step.kind = StepKind::copy;
  step.nodes = std::move(nodes);
  step.text = text;
  step.bytes = 2 * elements * bytes;
  step.beside_others = true;
  return step;
}

Step conversion_step(const std::string& name, const Shape& shape, DType dtype, const Location& from, const Location& to) {
  const int bytes = copy_bytes(dtype);
  if (bytes == 0) fail(Category::internal, "layout change of {}", to_string(dtype));
  auto k = std::make_unique<CopyKernel>();
  k->parts.push_back(copy_part(bytes, shape, strides_at(from, shape), strides_at(to, shape), from, 0, to));
  const bool same = from.layout == to.layout;
  Step step = copy_step({(same ? "copy of " : "layout of ") + name},
                        same                                 ? "contiguous copy"
                        : to.layout == Layout::channels_last ? "to channels-last"
                                                             : "to natural order",
                        static_cast<double>(element_count(shape)), bytes);
  step.kind = StepKind::layout;
  step.made_in = to.layout;
  step.why = same ? "contiguous, and it is part of a larger value" : "that way";
  step.reads = {from.buffer};
  step.writes = {to.buffer};
  step.kernel = std::move(k);
  return step;
}

}  // namespace lathe::lower
