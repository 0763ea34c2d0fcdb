// Steps that have no choice are fixed; elementwise steps, a Concat and other movement take one layout for all they read and write. A change
// of a value costs its bytes once, however many read it so. Two labels with such costs are a minimum cut (V. Kolmogorov, R. Zabih, What
// energy functions can be minimized via graph cuts?, 2004).
#include "lower/group/layouts.hpp"

#include <algorithm>

#include "lower/fuse/tape_ops.hpp"
#include "lower/group/minimum_cut.hpp"

namespace lathe::lower {

std::vector<Layout> choose_layouts(const GraphView& view, const std::vector<Group>& groups, const std::vector<LayoutDemand>& demands) {
  const Graph& g = view.graph();
  std::vector<Layout> preferred(g.values.size(), Layout::natural);
  const auto last_of = [](const LayoutDemand& d) { return d.out == Order::channels_last || d.input == Order::channels_last; };
  if (std::ranges::none_of(demands, last_of)) return preferred;
  const int count = static_cast<int>(groups.size());
  // Of each value: who makes it, how, and who reads it how. A fixed order is the source (natural) or the sink.
  constexpr int kNobody = MinimumCut::kSource;
  const auto node_of = [&](int group, Order order) {
    return order == Order::shared ? group : order == Order::channels_last ? MinimumCut::kSink : MinimumCut::kSource;
  };
  std::vector<int> maker(g.values.size(), kNobody);
  std::vector<std::vector<int>> readers(g.values.size());
  for (int i = 0; i < count; ++i) {
    const Group& group = groups[static_cast<size_t>(i)];
    const LayoutDemand& demand = demands[static_cast<size_t>(i)];
    const int head = group.head();
    const ValueId out = g.nodes[group.nodes.back()].outputs.empty() ? kAbsent : g.nodes[group.nodes.back()].outputs[0];
    const bool movement = group.anchor < 0 && group.nodes.size() == 1 && !tapeable(g, g.nodes[head]);
    std::vector<ValueId> inside;
    for (int n : group.nodes) {
      for (ValueId v : g.nodes[n].outputs) {
        if (v == kAbsent) continue;
        inside.push_back(v);
        maker[v] = node_of(i, demand.out);
      }
    }
    for (int n : group.nodes) {
      for (size_t k = 0; k < g.nodes[n].inputs.size(); ++k) {
        const ValueId v = g.nodes[n].inputs[k];
        if (v == kAbsent || !view.is_static(v) || std::ranges::find(inside, v) != inside.end()) continue;
        const bool ahead = group.anchor >= 0 && n < group.anchor, first = k == 0 && (n == head || ahead);
        const bool whole =
            movement ? k == 0 || g.nodes[n].op == "Concat" : out != kAbsent && view.is_static(out) && view.shape(v) == view.shape(out);
        Order order = whole ? demand.whole : Order::any;
        if (group.anchor >= 0 && first) order = demand.input;
        else if (group.anchor < 0 && demand.out != Order::shared) order = demand.whole;  // no tape: all it reads
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
    if (any && view.is_static(static_cast<ValueId>(v)) && !same_in_both(view.shape(static_cast<ValueId>(v))))
      changing.push_back(static_cast<ValueId>(v));
  }
  MinimumCut cut(count + 2 * static_cast<int>(changing.size()));
  constexpr double kNever = 1e30;
  for (size_t i = 0; i < changing.size(); ++i) {
    const ValueId v = changing[i];
    const int towards = count + 2 * static_cast<int>(i), back = towards + 1;
    const double bytes = static_cast<double>(element_count(view.shape(v))) * bit_width(view.dtype(v)) / 8 + 1;
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
    if (last(maker[v])) preferred[v] = Layout::channels_last;
    // A transposition that could be a change of name is one when somebody wants it so.
    if (maker[v] == MinimumCut::kSink && std::ranges::none_of(readers[v], last)) preferred[v] = Layout::natural;
  }
  return preferred;
}

}  // namespace lathe::lower
