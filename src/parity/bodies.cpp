// Runs of a subgraph, one by one, on exact inputs: which is the first that goes wrong.
#include "parity/bodies.hpp"

#include <algorithm>
#include <cmath>
#include <map>

#include "base/fail.hpp"

namespace lathe::parting {
namespace {

struct Found {};  // ends plain evaluation: what comes after the run that was looked for is of no interest

// A subgraph as a model: what it takes from around it is constant where it is so there, and an input elsewhere.
class Standing {
 public:
  Standing(const Graph& around, const Node& node, const Graph& body, std::span<const std::pair<ValueId, Tensor>> outer)
      : graph(*deep_copy(body)) {
    for (const ValueId v : graph.inputs) graph.values[static_cast<size_t>(v)].dims.reset();
    for (const auto& [v, tensor] : outer) {
      Value& value = graph.values[static_cast<size_t>(v)];
      const auto capture = std::ranges::find(node.captures, value.name, &Capture::name);
      const Value& there = around.values[static_cast<size_t>(capture->value)];
      value.dtype = there.dtype;
      value.composite = there.composite;
      value.constant = there.constant;
      value.dims.reset();
      if (there.constant) value.dims = Dims(tensor.shape().begin(), tensor.shape().end());
      else captured.push_back(v), graph.inputs.push_back(v);
    }
  }

  std::vector<Tensor> arguments(std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer) const {
    std::vector<Tensor> all(inputs.begin(), inputs.end());
    for (const ValueId v : captured) all.push_back(std::ranges::find(outer, v, &std::pair<ValueId, Tensor>::first)->second);
    return all;
  }

  Graph graph;
  std::vector<ValueId> captured;
};

class Watcher : public BodyHost {
 public:
  Watcher(const Graph& part, const Graph& exact, const CompileOptions& options, const Tolerances& tolerances, const RunOptions& run,
          const EvalLimits& limits)
      : part_(part), exact_(exact), options_(options), tolerances_(tolerances), run_(run), limits_(limits) {
    options_.shapes.clear();
    options_.dims.clear();
    options_.outputs.clear();
    options_.given.clear();
  }

  bool run(const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer,
           std::vector<Tensor>& out) override {
    const auto [it, fresh] = bodies_.try_emplace(body.get());
    Body& b = it->second;
    if (fresh) begin(b, *body, outer);
    out = evaluate_plain(b.exact->graph, b.exact->arguments(inputs, outer), limits_);
    if (!b.lane) return true;
    std::vector<Tensor> fed = b.exact->arguments(inputs, outer);
    for (size_t i = 0; i < fed.size(); ++i) fed[i] = as_type(fed[i], b.dtypes[i]);
    const Outputs got = b.lane->run(std::span<const Tensor>(fed), run_);
    const int64_t number = b.runs++;
    for (size_t i = 0; i < out.size(); ++i) {
      const Comparison c = compare_value(got.name(i), got[i], out[i], tolerances_, 1);
      const double error = error_of(got[i], out[i], 1);
      const bool jumps = error > 10 * std::max(floor_of(got[i].dtype()), 1e-300) && error > worst_;
      if (c.pass && !jumps) continue;
      worst_ = error;
      found = BodyRun{b.name, number, b.standing->graph, fed};
      if (!c.pass) throw Found{};
    }
    return true;
  }

  std::optional<BodyRun> found;

 private:
  struct Body {
    std::string name;
    std::optional<Standing> exact, standing;
    std::vector<DType> dtypes;  // of what it takes, in the model
    std::optional<Lane> lane;   // none: no program can be made of it
    int64_t runs = 0;
  };

  void begin(Body& b, const Graph& body, std::span<const std::pair<ValueId, Tensor>> outer) {
    const Node& wide = exact_.nodes.front();
    const Node& node = part_.nodes.front();
    b.exact.emplace(exact_, wide, body, outer);
    for (const auto& [name, attribute] : wide.attributes) {
      const auto* graph = std::get_if<std::shared_ptr<Graph>>(&attribute.data);
      if (graph && graph->get() == &body) b.name = name;
    }
    const auto own = node.attributes.find(b.name);
    if (own == node.attributes.end()) return;
    b.standing.emplace(part_, node, *std::get<std::shared_ptr<Graph>>(own->second.data), outer);
    Graph& g = b.standing->graph;
    const size_t inner = g.inputs.size() - b.standing->captured.size();
    take_carried_types(g, inner, part_, node);
    for (const ValueId v : g.inputs) b.dtypes.push_back(g.values[static_cast<size_t>(v)].dtype);
    try {
      infer(g);  // types of values inside are told by what comes in
      b.lane.emplace(compile(g, options_));
    } catch (const Error& e) {
      if (e.category() == Category::cancelled) throw;
    }
  }

  const Graph &part_, &exact_;
  CompileOptions options_;
  const Tolerances& tolerances_;
  const RunOptions& run_;
  const EvalLimits& limits_;
  std::map<const Graph*, Body> bodies_;
  double worst_ = 0;
};

}  // namespace

std::optional<BodyRun> first_wrong_run(const Graph& part, std::span<const Tensor> inputs, const CompileOptions& options,
                                       const Tolerances& tolerances, const RunOptions& run) {
  if (part.nodes.size() != 1) return std::nullopt;
  const Graph exact = in_double(part);
  if (exact.nodes.size() != 1) return std::nullopt;
  const Node& node = exact.nodes.front();
  std::map<ValueId, Tensor> values;
  for (size_t i = 0; i < exact.inputs.size(); ++i) {
    const ValueId v = exact.inputs[i];
    values[v] = as_type(inputs[i], exact.values[static_cast<size_t>(v)].dtype);
  }
  const auto value = [&](ValueId v) {
    if (v == kAbsent) return Tensor();
    const auto& constant = exact.values[static_cast<size_t>(v)].constant;
    return constant ? *constant : values.at(v);
  };
  std::vector<Tensor> read, captured;
  for (const ValueId v : node.inputs) read.push_back(value(v));
  for (const Capture& c : node.captures) captured.push_back(value(c.value));
  const Watched watched(run, options.limits);
  const LimitScope scope(watched.limits());
  Watcher watcher(part, exact, options, tolerances, run, watched.limits());
  try {
    (void)evaluate_node(exact, node, read, captured, &watcher);
  } catch (const Found&) {
  }
  return std::move(watcher.found);
}

}  // namespace lathe::parting
