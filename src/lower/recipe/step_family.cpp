#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

bool StepFamily::takes(DType reads, DType stores) const {
  return numbers().empty() || std::ranges::any_of(numbers(), [&](const Numbers& n) {
           return n.reads == reads && (n.stores == DType::undefined || n.stores == stores);
         });
}

void look(const StepFamily& family, const GraphView& view, const Group& group, const Machine& machine, std::vector<Candidate>& out) {
  const Node& head = view.node(group.head());
  const auto first = [&](const std::vector<ValueId>& list, bool present) {
    const auto it = present ? std::ranges::find_if(list, [](ValueId v) { return v != kAbsent; }) : list.begin();
    return it == list.end() || *it == kAbsent ? DType::undefined : view.dtype(*it);
  };
  if (family.takes(first(head.inputs, false), first(head.outputs, true))) {
    if (auto match = family.match(view, group, machine)) out.push_back({&family, std::move(match)});
  }
  for (const StepFamily* form : family.forms()) look(*form, view, group, machine, out);
}

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
