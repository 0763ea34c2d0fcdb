// Plain evaluation of nodes, graphs and subgraphs, and the limits it keeps.
#include <algorithm>
#include <utility>

#include "ops/operands.hpp"
#include "ops/support.hpp"

namespace lathe {
namespace {

constexpr EvalLimits kDefault;
thread_local const EvalLimits* in_force = &kDefault;
thread_local int64_t trips = 0;
thread_local int depth = 0;
thread_local bool evaluating = false;

struct Evaluating {
  explicit Evaluating(bool now) : before(std::exchange(evaluating, now)) {}
  ~Evaluating() { evaluating = before; }
  Evaluating(const Evaluating&) = delete;
  Evaluating& operator=(const Evaluating&) = delete;
  bool before;
};

void pulse() {
  if (in_force->pulse != nullptr) in_force->pulse(in_force->pulse_context);
}

// Puts the node's label on errors that do not name it yet.
[[noreturn]] void rethrow_for(const Graph& graph, const Node& node, const Error& e) {
  std::vector<Fault> faults = e.faults();
  for (Fault& f : faults) {
    if (f.where.empty()) f.where = label(graph, node);
  }
  throw Error(std::move(faults));
}

// A graph prepared for being evaluated many times.
class Scope {
 public:
  explicit Scope(const Graph& graph) : graph_(graph), uses_(graph.values.size(), 0) {
    for (const Node& n : graph.nodes) {
      for (ValueId v : n.inputs) use(v);
      for (const Capture& c : n.captures) use(c.value);
    }
    for (ValueId v : graph.outputs) use(v);
  }

  std::vector<Tensor> run(std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer) {
    std::vector<Tensor> values(graph_.values.size());
    std::vector<int> left = uses_;
    for (size_t v = 0; v < values.size(); ++v) {
      if (graph_.values[v].constant) values[v] = *graph_.values[v].constant;
    }
    for (const auto& [v, tensor] : outer) values[v] = tensor;
    for (size_t i = 0; i < inputs.size(); ++i) values[graph_.inputs[i]] = inputs[i];
    const auto drop = [&](ValueId v) {
      if (v != kAbsent && --left[v] == 0) values[v] = Tensor();
    };
    std::vector<Tensor> in, captured;
    for (const Node& node : graph_.nodes) {
      in.clear();
      captured.clear();
      for (ValueId v : node.inputs) in.push_back(v == kAbsent ? Tensor() : values[v]);
      for (const Capture& c : node.captures) captured.push_back(c.value == kAbsent ? Tensor() : values[c.value]);
      auto out = evaluate_node(graph_, node, in, captured);
      for (size_t i = 0; i < node.outputs.size() && i < out.size(); ++i) {
        if (node.outputs[i] != kAbsent && left[node.outputs[i]] > 0) values[node.outputs[i]] = std::move(out[i]);
      }
      for (ValueId v : node.inputs) drop(v);
      for (const Capture& c : node.captures) drop(c.value);
    }
    std::vector<Tensor> out;
    for (ValueId v : graph_.outputs) out.push_back(values[v]);
    return out;
  }

 private:
  void use(ValueId v) {
    if (v != kAbsent) ++uses_[v];
  }

  const Graph& graph_;
  std::vector<int> uses_;
};

}  // namespace

LimitScope::LimitScope(const EvalLimits& limits) : before_(std::exchange(in_force, &limits)), trips_before_(std::exchange(trips, 0)) {}
LimitScope::~LimitScope() {
  in_force = before_;
  trips = trips_before_;
}

void count_trip() {
  pulse();
  if (++trips > in_force->trips) fail(Category::resource, "the loops of this run passed the limit of {} trips", in_force->trips);
}

namespace ops {

void check_plain_size(int64_t elements) {
  if (elements > in_force->elements)
    fail(Category::resource, "plain evaluation would make {} elements, the limit is {}", elements, in_force->elements);
}

int64_t element_count(std::span<const int64_t> shape) {
  const int64_t count = lathe::element_count(shape);
  if (evaluating) check_plain_size(count);
  return count;
}

}  // namespace ops

struct Body::Impl {
  std::shared_ptr<Graph> graph;
  Scope scope;
  std::vector<std::pair<ValueId, Tensor>> outer;
  BodyHost* host;
};

Body::Body(const EvalContext& context, std::string_view attribute) {
  const auto* graph = context.node.find<std::shared_ptr<Graph>>(attribute);
  if (graph == nullptr) fail(Category::value, "attribute '{}' must hold a graph", attribute);
  impl_ = std::make_unique<Impl>(Impl{*graph, Scope(**graph), {}, context.bodies});
  for (ValueId v : free_values(**graph)) {
    const auto& captures = context.node.captures;
    const auto it = std::ranges::find(captures, (*graph)->values[v].name, &Capture::name);
    if (it == captures.end() || static_cast<size_t>(it - captures.begin()) >= context.captures.size())
      fail(Category::value, "its subgraph reads '{}', which nothing around it gives", (*graph)->values[v].name);
    impl_->outer.emplace_back(v, context.captures[it - captures.begin()]);
  }
}

Body::~Body() = default;
size_t Body::input_count() const { return impl_->graph->inputs.size(); }
size_t Body::output_count() const { return impl_->graph->outputs.size(); }

std::vector<Tensor> Body::run(std::span<const Tensor> inputs) {
  if (inputs.size() != input_count())
    fail(Category::value, "its subgraph takes {} inputs, the node gives {}", input_count(), inputs.size());
  if (depth >= in_force->depth) fail(Category::resource, "subgraphs are nested deeper than the limit of {}", in_force->depth);
  struct Deeper {
    Deeper() { ++depth; }
    ~Deeper() { --depth; }
  } deeper;
  if (impl_->host != nullptr) {
    const Evaluating no(false);  // the limit on elements is one of plain evaluation
    std::vector<Tensor> out;
    if (impl_->host->run(impl_->graph, inputs, impl_->outer, out)) return out;
  }
  return impl_->scope.run(inputs, impl_->outer);
}

std::vector<Tensor> evaluate_node(const Graph& graph, const Node& node, std::span<const Tensor> inputs, std::span<const Tensor> captures,
                                  BodyHost* bodies) {
  try {
    pulse();
    const int64_t version = graph.version_of(node);
    const OpDef* d = find_op(node.domain, node.op, version);
    if (d == nullptr) fail(Category::unsupported, "op is not known");
    for (size_t i = 0; i < std::max<size_t>(inputs.size(), d->min_inputs); ++i) {
      const bool here = i < inputs.size() && !inputs[i].empty();
      if (!here && static_cast<int>(i) < d->min_inputs) fail(Category::value, "input {} is left out, but the op needs it", i);
      if (here && inputs[i].composite() && !d->composites)
        fail(Category::type, "input {} is a {}, expected a tensor", i, to_string(inputs[i].kind()));
    }
    ops::check_present(*d, node);
    if (node.has_subgraphs()) {  // what its bodies do is checked node by node
      const InferContext here(node, static_cast<int>(version), inputs);
      if (d->statement) ops::check_statement(*d->statement, here);
      const Evaluating yes(true);
      return d->plain({node, static_cast<int>(version), inputs, static_cast<int>(node.outputs.size()), captures, bodies});
    }
    // The same statement and the same inference as while compiling, now with everything known.
    InferContext here(node, static_cast<int>(version), inputs);
    if (d->statement) ops::check_statement(*d->statement, here);
    d->infer(here);
    const Evaluating yes(true);
    for (const auto& promised : here.results()) {  // before anything is made
      if (const auto shape = known_shape(promised.dims)) (void)ops::element_count(*shape);
    }
    auto results = d->plain({node, static_cast<int>(version), inputs, static_cast<int>(node.outputs.size()), captures, bodies});
    for (size_t i = 0; i < results.size() && i < here.results().size(); ++i) {
      const auto& promised = here.results()[i];
      const auto shape = known_shape(promised.dims);
      if (results[i].composite() || results[i].empty() || node.outputs[i] == kAbsent) continue;
      if ((shape && *shape != results[i].shape()) || (promised.dtype != DType::undefined && promised.dtype != results[i].dtype()))
        fail(Category::internal, "output {} is {} of {}, its inference says {} of {}", i, to_string(results[i].dtype()),
             to_string(results[i].shape()), to_string(promised.dtype), shape ? to_string(*shape) : "?");
    }
    return results;
  } catch (const Error& e) {
    rethrow_for(graph, node, e);
  } catch (const std::bad_alloc&) {
    throw Error({{Category::resource, label(graph, node), "out of memory"}});
  } catch (const std::exception& e) {
    throw Error({{Category::value, label(graph, node), fmt::format("malformed attributes or inputs ({})", e.what())}});
  }
}

std::vector<Tensor> evaluate_plain(const Graph& graph, std::span<const Tensor> inputs, const EvalLimits& limits) {
  if (inputs.size() != graph.inputs.size()) fail(Category::value, "the graph takes {} inputs, got {}", graph.inputs.size(), inputs.size());
  const LimitScope scope(limits);
  if (graph.functions.empty()) return Scope(graph).run(inputs, {});
  const auto written_out = deep_copy(graph);
  inline_functions(*written_out);
  return Scope(*written_out).run(inputs, {});
}

}  // namespace lathe
