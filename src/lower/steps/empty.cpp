// What has no elements: there is nothing to run.
#include <algorithm>

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {
namespace {

class EmptyFamily : public StepFamily {
 public:
  std::string_view name() const override { return "empty"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    // What other ops may find wrong with their operands (an index, a length), plain evaluation looks at.
    constexpr std::string_view kMoves[]{"Slice", "Split", "Trilu", "Transpose", "Expand", "Tile", "Concat"};
    const OpDef* def = view.definition(n);
    if (!def || !n.domain.empty() || n.has_subgraphs()) return nullptr;
    if (def->trait != Trait::view && def->trait != Trait::elementwise && std::ranges::find(kMoves, n.op) == std::end(kMoves))
      return nullptr;
    return makes_nothing(view.graph(), n) ? std::make_unique<Match>(view, group, StepKind::copy) : nullptr;
  }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    for (ValueId v : m.node().outputs) {
      if (v != kAbsent) b.define(v, Layout::natural);
    }
  }
};

}  // namespace

const StepFamily& empty_results() {
  static const EmptyFamily family;
  return family;
}

}  // namespace lathe::lower
