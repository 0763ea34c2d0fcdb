// What a branch of an If made becomes the If's result. Which steps only one branch needs, schedule/choices.cpp finds out.
#include <cstring>

#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/internal_ops.hpp"

namespace lathe::lower {
namespace {

class ChoiceKernel : public StepKernel {
 public:
  Location condition, yes, no, output;
  size_t bytes = 0;

  void run(const StepContext& c) const override {
    const bool first = *pointer<const uint8_t>(c, condition) != 0;
    const char* from = pointer<const char>(c, first ? yes : no);
    if (char* to = pointer<char>(c, output); to != from) std::memcpy(to, from, bytes);
  }
};

class ChoiceFamily : public StepFamily {
 public:
  std::string_view name() const override { return "choice"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!ops::is_choice(n) || view.dtype(n.inputs[0]) != DType::boolean) return nullptr;
    if (!std::ranges::all_of(n.inputs, [&](ValueId v) { return view.is_static(v); }) || !view.is_static(n.outputs[0])) return nullptr;
    if (element_count(view.shape(n.inputs[0])) != 1 || copy_bytes(view.dtype(n.outputs[0])) == 0) return nullptr;
    auto m = std::make_unique<Match>(view, group, StepKind::copy);
    m->work.bytes = 2 * static_cast<double>(element_count(view.shape(n.outputs[0]))) * copy_bytes(view.dtype(n.outputs[0]));
    return m;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::shared, Order::shared, Order::shared}; }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    const Node& n = m.node();
    auto k = std::make_unique<ChoiceKernel>();
    const Layout layout = b.preferred(n.outputs[0]);
    k->condition = b.contiguous(n.inputs[0], Layout::natural);
    k->yes = b.contiguous(n.inputs[1], layout), k->no = b.contiguous(n.inputs[2], layout);
    k->output = b.define(n.outputs[0], layout);
    k->bytes = static_cast<size_t>(element_count(b.shape(n.outputs[0])) * copy_bytes(b.dtype(n.outputs[0])));
    Step step = begin_step(b, m);
    step.text = "what the branch that was taken made";
    step.reads = {k->condition.buffer, k->yes.buffer, k->no.buffer};
    step.writes = {k->output.buffer};
    if (k->yes.offset == 0 && k->yes.buffer != k->no.buffer && k->yes.buffer != k->condition.buffer) step.in_place = k->yes.buffer;
    step.choice = BranchChoice{k->condition, k->yes.buffer, k->no.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& choices() {
  static const ChoiceFamily family;
  return family;
}

}  // namespace lathe::lower
