// Plain evaluation as a step: what no other family does, what values of a run decide, and nodes with subgraphs.
#include <fmt/format.h>

#include <algorithm>

#include "lower/steps/tensor_step.hpp"
#include "ops/arithmetic.hpp"

namespace lathe::lower {
namespace {

// Hands subgraphs to the lane.
class Host : public BodyHost {
 public:
  Host(const ControlSite* site, Bodies* bodies) : site_(site), bodies_(bodies) {}
  bool run(const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer,
           std::vector<Tensor>& out) override {
    return bodies_->run(*site_, body, inputs, outer, out);
  }

 private:
  const ControlSite* site_;
  Bodies* bodies_;
};

class PlainKernel : public TensorKernel {
 public:
  std::unique_ptr<ControlSite> site;  // of a node with subgraphs

 protected:
  std::vector<Tensor> make(const StepContext& c, std::span<const Tensor> inputs, std::span<const Tensor> captured,
                           std::span<Tensor> before) const override {
    for (Tensor& t : before) t = Tensor();  // memory that a subgraph's lane may write again
    Host host(site.get(), c.bodies);
    return evaluate_node(*graph, *node, inputs, captured, site && c.bodies ? &host : nullptr);
  }
};

class PlainFamily : public StepFamily {
 public:
  // `bodies`: subgraphs run as programs of their own.
  explicit PlainFamily(bool bodies) : bodies_(bodies) {}
  std::string_view name() const override { return bodies_ ? "plain" : "plain.nodes"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (group.nodes.size() != 1) return nullptr;
    const bool control = bodies_ && view.node(group.nodes[0]).has_subgraphs();
    auto m = std::make_unique<Match>(view, group, control ? StepKind::control : StepKind::plain);
    m->work.flops = ops::arithmetic(view.graph(), m->node()).value_or(0);
    for (ValueId v : m->node().outputs) {
      if (view.is_static(v)) m->work.bytes += static_cast<double>(Tensor::borrow(view.dtype(v), view.shape(v), nullptr).byte_size());
    }
    return m;
  }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    const Node& n = m.node();
    auto k = std::make_unique<PlainKernel>();
    Step step = begin_step(b, m);
    step.nodes = {node_label(n)};
    step.text = "plain evaluation";
    step.counted = ops::arithmetic(m.view->graph(), n).has_value() || !is_real(*m.view, n);
    if (m.kind == StepKind::control) {
      step.counted = false;
      step.text = "subgraphs as programs of their own, made when they first run";
      k->site = std::make_unique<ControlSite>();
      k->site->node = &n;
      for (const Capture& c : n.captures) k->site->constant.push_back(c.value != kAbsent && b.is_constant(c.value));
    }
    k->bind(b, step, n);
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

 private:
  // Whether it does arithmetic on numbers, which nobody counts.
  static bool is_real(const GraphView& view, const Node& n) {
    const OpDef* def = view.definition(n);
    if (def && (def->trait == Trait::movement || def->trait == Trait::view)) return false;
    return std::ranges::any_of(n.outputs, [&](ValueId v) { return v != kAbsent && is_float(view.dtype(v)); });
  }

  bool bodies_;
};

}  // namespace

const StepFamily& plain() {
  static const PlainFamily family(true);
  return family;
}

const StepFamily& plain_nodes() {
  static const PlainFamily family(false);
  return family;
}

}  // namespace lathe::lower
