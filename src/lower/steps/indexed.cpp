#include "lower/steps/indexed.hpp"

#include <algorithm>

namespace lathe::lower {
namespace {

class IndexedKernel : public StepKernel {
 public:
  kernels::IndexedCopy plan;
  Location input, output;

  void run(const StepContext& c) const override {
    const int64_t pieces = std::min<int64_t>(plan.rows, c.workers.size() > 1 ? c.workers.size() * 4 : 1);
    c.workers.each(pieces, [&](int64_t piece, int) {
      kernels::run_indexed(plan, pointer<const char>(c, input), pointer<char>(c, output), plan.rows * piece / pieces,
                           plan.rows * (piece + 1) / pieces);
    });
  }
};

}  // namespace

void add_indexed(PlanBuilder& b, const Match& m, std::vector<std::vector<int64_t>> tables, uint64_t fill, const char* text, Layout layout) {
  const ValueId in = m.node().inputs[0], out = m.node().outputs[0];
  auto k = std::make_unique<IndexedKernel>();
  Shape stored = b.shape(in);
  if (layout == Layout::channels_last) {
    std::rotate(stored.begin() + 1, stored.begin() + 2, stored.end());
    std::rotate(tables.begin() + 1, tables.begin() + 2, tables.end());
  }
  k->plan = kernels::plan_indexed(bit_width(b.dtype(in)) / 8, std::move(stored), std::move(tables), fill);
  if (element_count(b.shape(out)) == 0) k->plan.rows = 0;
  Step step = begin_step(b, m);
  step.beside_others = true;
  step.text = text;
  k->input = b.contiguous(in, layout);
  k->output = b.define(out, layout);
  step.reads = {k->input.buffer};
  step.writes = {k->output.buffer};
  step.kernel = std::move(k);
  b.add(std::move(step));
}

std::vector<Tensor> constants_of(const GraphView& view, const Node& n) {
  std::vector<Tensor> held;
  for (size_t i = 0; i < n.inputs.size(); ++i)
    held.push_back(i > 0 && n.inputs[i] != kAbsent && view.is_constant(n.inputs[i]) ? view.constant(n.inputs[i]) : Tensor());
  return held;
}

}  // namespace lathe::lower
