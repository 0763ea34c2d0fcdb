// What the passes that recognise patterns share: looking upwards from a node, and writing it anew in its place.
#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "lathe/op.hpp"
#include "passes/passes.hpp"

namespace lathe::passes {

// Of the default domain.
inline bool is_op(const Node& n, std::string_view op) { return n.domain.empty() && n.op == op; }
// The types that a node's outputs get from the inputs it has; nothing when its op would not take them. The graph is not changed.
std::optional<std::vector<InferContext::Result>> inferred(const Graph& graph, const Node& node);
// The name, or the name with a number behind it when a value has it already.
std::string unused_name(const Graph& graph, const std::string& name);

// Nodes are never taken out here: the last node of a pattern is written anew to read what the pattern's first nodes read, and what nobody
// reads any more goes with remove_dead. Values keep their makers, so positions stay right while a pass runs.
class Rewriter {
 public:
  Rewriter(Graph& graph, std::string pass);

  Graph& graph() { return graph_; }
  const Node& node(int n) const { return graph_.nodes[n]; }
  // Index of the node of the default domain that makes `v` as its first output and has this op; -1: none.
  int maker(ValueId v, std::string_view op) const;
  // Index of the node that makes `v`, whichever of its outputs it is; -1: none.
  int producer(ValueId v) const { return v == kAbsent || static_cast<size_t>(v) >= made_.size() ? -1 : made_[v]; }
  // The only element of a constant.
  std::optional<double> scalar(ValueId v) const;
  bool is_scalar(ValueId v, double wanted) const;
  // The other input of a node of two, when one of them is a constant of one element equal to `wanted`.
  std::optional<ValueId> beside(int n, double wanted) const;
  // The constant a value holds, with its elements there.
  const Tensor* constant(ValueId v) const;
  std::optional<Shape> shape(ValueId v) const;
  DType dtype(ValueId v) const { return graph_.values[v].dtype; }
  const std::optional<Dims>& graph_dims(ValueId v) const { return graph_.values[v].dims; }
  std::optional<std::vector<int64_t>> integers(ValueId v) const;
  int readers(ValueId v) const { return readers_[v]; }  // the graph's outputs counted
  bool is_output(ValueId v) const;
  // Axes of a reduction, as attribute or constant, wrapped and sorted; nothing when they are not known.
  std::optional<std::vector<int64_t>> axes(int n) const;

  ValueId add_constant(const std::string& name, Tensor t);
  // Writes node n anew; its first output stays, others must be unread. `version`: of the op's definition. `inside`: nodes it stands for.
  // False, and nothing is changed, when the op would not take these inputs, or would give another type or shape than the node has: a
  // pattern that has looked too little then stays what it is.
  bool become(int n, std::string op, int64_t version, std::vector<ValueId> inputs, std::map<std::string, Attribute> attributes,
              const std::vector<int>& inside);
  // Puts a node in front of node n once the pass is over; gives its output. What would not be of this type and shape makes every node that
  // would read it refuse to be.
  ValueId before(int n, std::string op, int64_t version, std::vector<ValueId> inputs, std::map<std::string, Attribute> attributes,
                 DType dtype, Dims dims);
  // The same with several outputs, of which those without dims stay absent.
  std::vector<ValueId> before(int n, std::string op, int64_t version, std::vector<ValueId> inputs,
                              std::map<std::string, Attribute> attributes, DType dtype, const std::vector<std::optional<Dims>>& dims);
  void note(std::string change) { report_.changes.push_back(std::move(change)); }
  Report finish();

 private:
  // Whether the node's op takes its inputs and gives its outputs the types and dims that their values have.
  bool agrees(const Node& node) const;

  Graph& graph_;
  Report report_;
  std::vector<int> made_, readers_;
  std::vector<std::pair<int, Node>> added_;
  std::set<ValueId> refused_;  // results of added nodes that do not agree
};

}  // namespace lathe::passes
