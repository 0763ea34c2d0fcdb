// Which layout each value is made in: the choice with the least bytes moved by layout changes over the whole graph.
//
// Steps that have no choice are fixed; a tape, a Concat and other movement take one layout for all they read and write. A change of a value
// costs its bytes once, however many read it so. Two labels with such costs are a minimum cut (V. Kolmogorov, R. Zabih, What energy
// functions can be minimized via graph cuts?, 2004).
#include <algorithm>

#include "lower/lowering.hpp"
#include "lower/minimum_cut.hpp"
#include "ops/support.hpp"
#include "ops/window.hpp"

namespace lathe::lower {

namespace {

// How a group takes or gives a value: in an order that is fixed, in the group's own, or in any.
enum class Order { natural, last, own, any };

struct Wishes {
  Order out = Order::natural;
  Order whole = Order::natural;  // operands of the result's shape, and what movement ops read
  Order input = Order::natural;  // of an anchor: what it reads first
};

// Whether a Transpose takes the standard's order to the other one, or back.
bool turns(const Node& n, size_t rank, bool to_last) {
  const auto perm = n.integers("perm");
  if (n.op != "Transpose" || rank < 3 || perm.size() != rank) return false;
  const auto order = physical_order(static_cast<int>(rank), Layout::channels_last);
  for (size_t i = 0; i < rank; ++i) {
    if (to_last ? perm[i] != order[i] : perm[static_cast<size_t>(order[i])] != static_cast<int64_t>(i)) return false;
  }
  return true;
}

Wishes wishes_of(Lowering& l, const Group& group) {
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.anchor >= 0 ? group.anchor : group.nodes[0]];
  if (!n.domain.empty() || n.inputs.empty() || n.outputs.empty() || n.inputs[0] == kAbsent || n.outputs[0] == kAbsent) return {};
  if (group.anchor >= 0) {
    if (n.op != "Conv" || !can_anchor(g, n)) return {};
    const Shape xs = l.shape(n.inputs[0]), ws = l.shape(n.inputs[1]);
    const bool padded =
        n.integer("group", 1) == 1 && xs.size() == 4 &&
        pads_rows(ops::read_window(n, std::span<const int64_t>(xs).subspan(2), std::span<const int64_t>(ws).subspan(2)), ws[1]);
    return {Order::last, Order::last, padded ? (group.ahead().empty() ? Order::any : Order::natural) : Order::last};
  }
  if (std::ranges::all_of(group.nodes, [&](int i) { return tapeable(g, g.nodes[i]); })) return {Order::own, Order::own, Order::own};
  if (!l.is_static(n.inputs[0]) || !l.is_static(n.outputs[0])) return {};
  const Shape s = l.shape(n.inputs[0]);
  if (n.op == "Concat" || n.op == "Split" || n.op == "Slice" || n.op == "DepthToSpace" || n.op == "SpaceToDepth")
    return {Order::own, Order::own, Order::own};
  if (pools_lines(g, n)) return {Order::own, Order::own, Order::own};
  if (fast_pool(g, n) || (n.op == "ConvTranspose" && all_f32(g, n) && s.size() <= 4)) return {Order::last, Order::last, Order::last};
  if (n.op == "QLinearConv" || n.op == "ConvInteger") return {Order::last, Order::any, Order::last};
  if (n.op.ends_with("oftmax") && s.size() > 2 && g.version_of(n) >= 13 && n.integer("axis", -1) == 1)
    return {Order::last, Order::last, Order::last};
  if (n.op == "GlobalAveragePool" || n.op == "ReduceMean" || n.op == "ReduceSum" || n.op == "ReduceMax")
    return {Order::natural, Order::any, Order::any};  // the result of a spatial one is the same bytes in both
  if (turns(n, s.size(), true)) return {Order::natural, Order::last, Order::last};
  if (turns(n, s.size(), false)) return {Order::last, Order::natural, Order::natural};
  if (n.op == "Transpose") return {Order::natural, Order::any, Order::any};
  return {};
}

}  // namespace

void Lowering::choose_layouts(const std::vector<Group>& groups) {
  const Graph& g = *graph_;
  wanted_.assign(g.values.size(), Layout::natural);
  if (options_.plain) return;
  const int count = static_cast<int>(groups.size());
  std::vector<Wishes> wishes;
  for (const Group& group : groups) wishes.push_back(wishes_of(*this, group));
  if (std::ranges::none_of(wishes, [](const Wishes& w) { return w.out == Order::last || w.input == Order::last; })) return;
  // Of each value: who makes it, how, and who reads it how. A fixed order is the source (natural) or the sink.
  constexpr int kNobody = MinimumCut::kSource;
  const auto node_of = [&](int group, Order order) {
    return order == Order::own ? group : order == Order::last ? MinimumCut::kSink : MinimumCut::kSource;
  };
  std::vector<int> maker(g.values.size(), kNobody);
  std::vector<std::vector<int>> readers(g.values.size());
  for (int i = 0; i < count; ++i) {
    const Group& group = groups[static_cast<size_t>(i)];
    const Wishes& w = wishes[static_cast<size_t>(i)];
    const int head = group.anchor >= 0 ? group.anchor : group.nodes[0];
    const ValueId out = g.nodes[group.nodes.back()].outputs.empty() ? kAbsent : g.nodes[group.nodes.back()].outputs[0];
    const bool movement = group.anchor < 0 && group.nodes.size() == 1 && !tapeable(g, g.nodes[head]);
    std::vector<ValueId> inside;
    for (int n : group.nodes) {
      for (ValueId v : g.nodes[n].outputs) {
        if (v == kAbsent) continue;
        inside.push_back(v);
        maker[v] = node_of(i, w.out);
      }
    }
    for (int n : group.nodes) {
      for (size_t k = 0; k < g.nodes[n].inputs.size(); ++k) {
        const ValueId v = g.nodes[n].inputs[k];
        if (v == kAbsent || !is_static(v) || std::ranges::find(inside, v) != inside.end()) continue;
        const bool ahead = group.anchor >= 0 && n < group.anchor, first = k == 0 && (n == head || ahead);
        const bool whole = movement ? k == 0 || g.nodes[n].op == "Concat" : out != kAbsent && is_static(out) && shape(v) == shape(out);
        Order order = whole ? w.whole : Order::any;
        if (group.anchor >= 0 && first) order = w.input;
        else if (group.anchor < 0 && w.out != Order::own) order = w.whole;  // no tape: all it reads
        if (order != Order::any) readers[v].push_back(node_of(i, order));
      }
      for (const Capture& c : g.nodes[n].captures) {
        if (c.value != kAbsent) readers[c.value].push_back(MinimumCut::kSource);
      }
    }
  }
  for (ValueId v : g.outputs) readers[v].push_back(MinimumCut::kSource);
  // Nodes: groups, then two for each value that could have to change.
  std::vector<ValueId> changing;
  for (size_t v = 0; v < g.values.size(); ++v) {
    const bool any = std::ranges::any_of(readers[v], [&](int r) { return r != maker[v]; });
    if (any && is_static(static_cast<ValueId>(v)) && !same_in_both(shape(static_cast<ValueId>(v))))
      changing.push_back(static_cast<ValueId>(v));
  }
  MinimumCut cut(count + 2 * static_cast<int>(changing.size()));
  constexpr double kNever = 1e30;
  for (size_t i = 0; i < changing.size(); ++i) {
    const ValueId v = changing[i];
    const int towards = count + 2 * static_cast<int>(i), back = towards + 1;
    const double bytes = static_cast<double>(element_count(shape(v))) * bit_width(dtype(v)) / 8 + 1;
    cut.edge(maker[v], towards, bytes);  // made natural, and somebody wants it channels-last
    cut.edge(back, maker[v], bytes);     // the other way round
    for (int r : readers[v]) {
      cut.edge(towards, r, kNever);
      cut.edge(r, back, kNever);
    }
  }
  cut.solve();
  const auto last = [&](int node) { return node == MinimumCut::kSink || (node != MinimumCut::kSource && cut.on_sink_side(node)); };
  for (size_t v = 0; v < g.values.size(); ++v) {
    if (last(maker[v])) wanted_[v] = Layout::channels_last;
    // A transposition that could be a change of name is one when somebody wants it so.
    if (maker[v] == MinimumCut::kSink && std::ranges::none_of(readers[v], last)) wanted_[v] = Layout::natural;
  }
}

}  // namespace lathe::lower
