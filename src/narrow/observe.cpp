#include "narrow/observe.hpp"

#include <algorithm>
#include <map>

#include "base/fail.hpp"
#include "narrow/parallel.hpp"

namespace lathe::narrowing {
namespace {

// A graph that gives these values, and runs of it.
class Traced {
 public:
  Traced(const Graph& graph, const std::vector<ValueId>& values) {
    Graph g = graph;
    std::map<ValueId, int> outputs;
    g.outputs.clear();
    for (ValueId v : values) {
      const auto input = std::ranges::find(graph.inputs, v);
      if (input != graph.inputs.end()) {
        places_.push_back({true, static_cast<size_t>(input - graph.inputs.begin())});
        continue;
      }
      const auto [it, fresh] = outputs.try_emplace(v, static_cast<int>(g.outputs.size()));
      if (fresh) g.outputs.push_back(v);
      places_.push_back({false, static_cast<size_t>(it->second)});
    }
    if (g.outputs.empty()) return;  // inputs alone: there is nothing to run
    for (ValueId v : g.inputs) names_.push_back(g.values[static_cast<size_t>(v)].name);
    program_ = compile(std::move(g));
    lane_.emplace(program_);
  }
  // The tensors, in the order of `values`.
  std::vector<Tensor> run(const std::vector<Tensor>& inputs, const RunOptions& options) {
    std::optional<Outputs> results;
    if (lane_) {
      // Inputs that only other outputs needed are no inputs of the program.
      std::vector<NamedInput> named;
      for (const Port& p : program_.inputs()) {
        const auto at = static_cast<size_t>(std::ranges::find(names_, p.name) - names_.begin());
        named.push_back({p.name, inputs.at(at)});
      }
      results.emplace(lane_->run(std::span<const NamedInput>(named), options));
    }
    std::vector<Tensor> out;
    for (const Place& p : places_) out.push_back(p.input ? inputs.at(p.index) : (*results)[p.index]);
    return out;
  }

 private:
  struct Place {
    bool input;
    size_t index;
  };
  std::vector<Place> places_;
  std::vector<std::string> names_;
  Program program_;
  std::optional<Lane> lane_;
};

std::vector<Tensor> loaded(const Graph& graph, const Calibration& c, size_t item) {
  std::vector<Tensor> inputs = c.load(item);
  if (inputs.size() != graph.inputs.size())
    fail(Category::value, "calibration item {} has {} tensors, the model {} inputs", item, inputs.size(), graph.inputs.size());
  return inputs;
}

}  // namespace

void observe(const Graph& graph, const std::vector<ValueId>& values, const Calibration& c, const std::string& what,
             const std::function<void(size_t, size_t, const Tensor&)>& visit) {
  Traced traced(graph, values);
  for (size_t item = 0; item < c.items; ++item) {
    if (c.progress) c.progress(what, item, c.items);
    const auto tensors = traced.run(loaded(graph, c, item), c.run);
    in_parallel(tensors.size(), [&](size_t i) { visit(item, i, tensors[i]); });
  }
}

void observe_both(const Graph& first, const std::vector<ValueId>& of_first, const Graph& second, const std::vector<ValueId>& of_second,
                  const Calibration& c, size_t items, const std::string& what,
                  const std::function<void(size_t, const Tensor&, const Tensor&)>& visit) {
  Traced a(first, of_first), b(second, of_second);
  items = std::min(items, c.items);
  for (size_t item = 0; item < items; ++item) {
    if (c.progress) c.progress(what, item, items);
    const auto inputs = loaded(first, c, item * c.items / items);
    const auto left = a.run(inputs, c.run), right = b.run(inputs, c.run);
    in_parallel(left.size(), [&](size_t i) { visit(i, left[i], right[i]); });
  }
}

}  // namespace lathe::narrowing
