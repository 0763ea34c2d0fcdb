#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

Step begin_step(const PlanBuilder& builder, const Match& match) {
  Step step;
  step.kind = match.kind;
  step.nodes = builder.names(*match.group);
  step.flops = match.work.flops;
  step.bytes = match.work.bytes;
  return step;
}

Anchor anchor_of(Families families, const GraphView& view, const Node& node) {
  for (const StepFamily* f : families) {
    if (const Anchor a = f->anchor(view, node); a != Anchor::none) return a;
  }
  return Anchor::none;
}

std::optional<RowsRead> rows_read(Families families, const GraphView& view, const Node& node) {
  for (const StepFamily* f : families) {
    if (auto rows = f->rows_read(view, node)) return rows;
  }
  return std::nullopt;
}

}  // namespace lathe::lower
