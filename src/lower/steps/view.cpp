// Ops that give the same elements another shape: a change of name.
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {
namespace {

class ViewFamily : public StepFamily {
 public:
  std::string_view name() const override { return "view"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const OpDef* def = view.definition(n);
    if (!n.domain.empty() || n.inputs.empty() || !def || def->trait != Trait::view) return nullptr;
    if (!view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0])) return nullptr;
    for (size_t i = 1; i < n.outputs.size(); ++i) {
      if (n.outputs[i] != kAbsent) return nullptr;
    }
    if (n.op == "Dropout" && given(n.inputs, 2)) return nullptr;  // may be training
    // Sizes only known at run time do not fit: plain evaluation reports it.
    if (element_count(view.shape(n.inputs[0])) != element_count(view.shape(n.outputs[0]))) return nullptr;
    return std::make_unique<Match>(view, group, StepKind::copy);
  }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    const ValueId in = m.node().inputs[0], out = m.node().outputs[0];
    const Location at = b.locate(in);
    if (!at.contiguous() && at.layout == Layout::natural) {
      if (const auto strides = reshaped_strides(b.shape(in), at.strides, b.shape(out)))
        return b.alias(out, {at.buffer, at.offset, Layout::natural, *strides});
    }
    b.alias(out, b.contiguous(in, Layout::natural));
  }
};

}  // namespace

const StepFamily& views() {
  static const ViewFamily family;
  return family;
}

}  // namespace lathe::lower
