// What usually goes wrong between two programs for one model, as changes that can be tried.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe::parting {

// Axis i of the result is axis order[i] of t.
Tensor transposed(const Tensor& t, const std::vector<int64_t>& order);

// Another way to make an input.
struct InputChange {
  std::string what;
  std::function<Tensor(const Tensor&)> apply;
};

// Ways that move elements (order of channels, layout, height and width, batch), and ways that change their values (range, mean and scale,
// the model's own by its metadata). `dims`: what the model declares.
std::vector<InputChange> moved(const std::string& name, const Tensor& given, const std::optional<Dims>& dims);
std::vector<InputChange> rescaled(const std::string& name, const Tensor& given, const std::map<std::string, std::string>& metadata);

// A change of one node. `edit` may add nodes at the end of the graph, and constants; it is given the node's index.
struct NodeChange {
  std::string key;   // the same for nodes that can be changed alike: "BatchNormalization epsilon 0.001"
  std::string text;  // "epsilon 0.001 instead of 1e-05"
  std::function<void(Graph&, size_t)> edit;
};

// What is tried on a node of a graph whose constants are folded, likeliest first.
std::vector<NodeChange> changes_of(const Graph& graph, size_t node);

// Values that hang on constants alone become constants, so that changes find them.
void fold_constants(Graph& graph);

}  // namespace lathe::parting
