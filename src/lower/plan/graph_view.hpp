// The shaped graph as matching looks at it: who makes and reads what, what is constant. Looking changes nothing.
#pragma once

#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "lathe/graph.hpp"
#include "lathe/op.hpp"
#include "ops/narrow_weights.hpp"

namespace lathe::lower {

// Of what a step's first node reads: what the rest of its nodes are to it.
enum class Anchor : uint8_t {
  none,   // elementwise nodes, or one node alone
  tiles,  // nodes after it are done on its tiles; nodes before it on the rows that it reads
  rows,   // nodes before and after it are done row by row
};

// A set of nodes that becomes one step, in topological order. Invariants: with an anchor, `anchor` is one of `nodes`; the last node makes
// the only value that leaves the group, but for what is `kept`.
struct Group {
  int anchor = -1;  // index of the contraction or reduction in its midst
  std::vector<int> nodes;
  Anchor role = Anchor::none;
  bool kept = false;    // what the nodes before a reduction make is read elsewhere too
  bool joined = false;  // what stands ahead of the anchor are groups of tiles, each read by the next alone
  int head() const { return anchor >= 0 ? anchor : nodes[0]; }
  bool single() const { return anchor < 0 && nodes.size() == 1; }
  std::span<const int> ahead() const;
  std::span<const int> from_anchor() const;
};

class GraphView {
 public:
  // `restore`: gives a constant back whose original is gone. The graph must outlive the view.
  GraphView(const Graph& graph, std::function<Tensor(ValueId)> restore);
  GraphView(const GraphView&) = delete;
  GraphView& operator=(const GraphView&) = delete;

  const Graph& graph() const { return graph_; }
  const Node& node(int n) const { return graph_.nodes[static_cast<size_t>(n)]; }
  int version(const Node& n) const { return static_cast<int>(graph_.version_of(n)); }
  const OpDef* definition(const Node& n) const { return find_op(n.domain, n.op, graph_.version_of(n)); }
  // By ValueId: the nodes that read it, in order, once for each time; the node that makes it, or -1.
  const std::vector<std::vector<int>>& readers() const { return readers_; }
  const std::vector<int>& producers() const { return producers_; }
  bool is_output(ValueId v) const;

  // Held in a buffer of known size (else a Tensor of the lane, or absent).
  bool is_static(ValueId v) const { return v != kAbsent && !dynamic_[static_cast<size_t>(v)]; }
  bool is_constant(ValueId v) const { return graph_.values[static_cast<size_t>(v)].constant.has_value(); }
  bool is_f32(ValueId v) const { return is_static(v) && dtype(v) == DType::f32; }
  const std::vector<bool>& dynamic() const { return dynamic_; }
  Shape shape(ValueId v) const { return *known_shape(graph_.values[static_cast<size_t>(v)].dims); }
  DType dtype(ValueId v) const { return graph_.values[static_cast<size_t>(v)].dtype; }
  // What a product reads in place of this value: the weights it was widened from. Nothing for most values.
  std::optional<ops::NarrowWeights> narrow(ValueId v) const;
  // The tensor of a constant; when the original has been packed and dropped it is made from the packed form.
  Tensor constant(ValueId v) const;
  // Whether the constants as a whole leave the caches from one run to the next.
  bool weights_leave_caches() const { return much_weight_; }

 private:
  const Graph& graph_;
  std::function<Tensor(ValueId)> restore_;
  std::vector<std::vector<int>> readers_;
  std::vector<int> producers_;
  std::vector<bool> dynamic_;
  bool much_weight_ = false;
};

// "name (Op)".
std::string node_label(const Node& node);
// Whether all of a node's results are empty. Such nodes stay alone and are left to plain evaluation, which still checks their operands:
// kernels need not divide by sizes that may be 0.
bool makes_nothing(const Graph& graph, const Node& node);
// Whether it is an op of the default domain whose operands and first result are f32 of known size.
bool all_f32(const Graph& graph, const Node& node);
// Whether the optional input or output is given.
inline bool given(const std::vector<ValueId>& list, size_t i) { return i < list.size() && list[i] != kAbsent; }
// Entries of dims [from, to).
int64_t product(const Shape& shape, size_t from, size_t to);

}  // namespace lathe::lower
