// Plain evaluation as a step: what no other family does, what values of a run decide, and nodes with subgraphs.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "lower/recipe/step_family.hpp"
#include "ops/arithmetic.hpp"

namespace lathe::lower {
namespace {

class PlainKernel : public StepKernel {
 public:
  std::shared_ptr<const Graph> graph;
  const Node* node = nullptr;
  struct Source {
    ValueId value = kAbsent;
    std::optional<Tensor> constant;
    Location location;
    bool dynamic = false;
  };
  std::vector<Source> sources, captures;
  struct Target {
    ValueId value = kAbsent;
    Location location;
    bool dynamic = false;
  };
  std::vector<Target> targets;
  std::unique_ptr<ControlSite> site;  // of a node with subgraphs

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

  void run(const StepContext& c) const override {
    const std::vector<Tensor> inputs = fetch(c, sources), captured = fetch(c, captures);
    Host host(site.get(), c.bodies);
    auto results = evaluate_node(*graph, *node, inputs, captured, site && c.bodies ? &host : nullptr);
    for (size_t i = 0; i < targets.size(); ++i) {
      const Target& t = targets[i];
      if (t.value == kAbsent) continue;
      if (i >= results.size())
        throw Error(
            {{Category::internal, label(*graph, *node), fmt::format("gave {} outputs, expected {}", results.size(), targets.size())}});
      Tensor& r = results[i];
      if (t.dynamic) {
        // A view of an input would not outlive the input's memory in the arena.
        c.tensors[t.value] = r.owned() ? std::move(r) : r.clone();
        continue;
      }
      const Value& v = graph->values[t.value];
      // What the values decide agrees with inference (evaluate_node looks); what the model itself declares may be wrong.
      if (r.shape() != *known_shape(v.dims) || r.dtype() != v.dtype) {
        throw Error({{Category::shape, label(*graph, *node),
                      fmt::format("gives {} of {} for '{}', the model declares {} of {}", to_string(r.dtype()), to_string(r.shape()),
                                  v.name, to_string(v.dtype), to_string(*v.dims))}});
      }
      if (r.byte_size() > 0) std::memcpy(pointer<void>(c, t.location), r.data(), r.byte_size());
    }
  }

  std::vector<Tensor> fetch(const StepContext& c, const std::vector<Source>& from) const {
    std::vector<Tensor> out;
    for (const Source& s : from) {
      if (s.value == kAbsent) out.emplace_back();
      else if (s.constant) out.push_back(*s.constant);
      else if (s.dynamic) out.push_back(c.tensors[s.value]);
      else
        out.push_back(
            Tensor::borrow(graph->values[s.value].dtype, *known_shape(graph->values[s.value].dims), pointer<void>(c, s.location)));
    }
    return out;
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
    step.reads_tensors = true;
    step.counted = ops::arithmetic(m.view->graph(), n).has_value() || !is_real(*m.view, n);
    k->node = &n;
    const auto source = [&](ValueId v) {
      PlainKernel::Source s;
      s.value = v;
      if (v == kAbsent) return s;
      if (b.is_constant(v)) {
        s.constant = b.constant(v);
        b.keep_original(v);
      } else if (b.is_static(v)) {
        s.location = b.contiguous(v, Layout::natural);
        step.reads.push_back(s.location.buffer);
      } else {
        s.dynamic = true;
      }
      return s;
    };
    for (ValueId v : n.inputs) k->sources.push_back(source(v));
    for (const Capture& c : n.captures) k->captures.push_back(source(c.value));
    if (m.kind == StepKind::control) {
      step.counted = false;
      step.text = "subgraphs as programs of their own, made when they first run";
      k->site = std::make_unique<ControlSite>();
      k->site->node = &n;
      for (const Capture& c : n.captures) k->site->constant.push_back(c.value != kAbsent && b.is_constant(c.value));
    }
    for (ValueId v : n.outputs) {
      PlainKernel::Target t;
      t.value = v;
      if (v != kAbsent) {
        t.dynamic = !b.is_static(v);
        step.keeps |= t.dynamic;
        if (!t.dynamic) {
          t.location = b.define(v, Layout::natural);
          step.writes.push_back(t.location.buffer);
        }
      }
      k->targets.push_back(t);
    }
    k->graph = b.shared_graph();
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
