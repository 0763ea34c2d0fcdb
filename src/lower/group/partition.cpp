#include "lower/group/partition.hpp"

#include <algorithm>

#include "lower/fuse/epilogue.hpp"
#include "lower/fuse/tape_builder.hpp"
#include "lower/fuse/tape_ops.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

// Elementwise nodes after an anchor whose results stay inside, up to the longest prefix with a single way out.
Group grow_tail(const GraphView& view, int anchor, const std::vector<bool>& taken) {
  const Graph& g = view.graph();
  const auto& readers = view.readers();
  Group best{anchor, {anchor}, Anchor::tiles};
  const ValueId head = g.nodes[anchor].outputs[0];
  const Shape shape = *known_shape(g.values[head].dims);
  if (shape.empty()) return best;
  std::vector<int> nodes{anchor};
  std::vector<ValueId> made{head};
  const auto inside = [&](int n) { return std::find(nodes.begin(), nodes.end(), n) != nodes.end(); };
  // Only readers of what the group makes can join it: a worklist in node order.
  std::vector<int> waiting = readers[head];
  constexpr size_t kMostTried = 24;
  while (!waiting.empty() && nodes.size() < kMostTried) {
    const auto it = std::min_element(waiting.begin(), waiting.end());
    const int n = *it;
    std::erase(waiting, n);
    if (taken[n] || inside(n) || !tapeable(g, g.nodes[n])) continue;
    const ValueId out = g.nodes[n].outputs[0];
    if (g.values[out].dtype != DType::f32 || known_shape(g.values[out].dims) != shape) continue;
    bool fits = true;
    for (ValueId v : g.nodes[n].inputs) {
      if (v == kAbsent || std::find(made.begin(), made.end(), v) != made.end()) continue;
      // Operands from outside: readable as rows x columns in the layout the anchor writes.
      const Shape s = *known_shape(g.values[v].dims);
      const Layout layout = columns_axis(view, g.nodes[anchor]) == 1 && shape.size() > 2 ? Layout::channels_last : Layout::natural;
      if (s.size() > shape.size() || (!matrix_strides(s, {kNoBuffer, 0, s == shape ? layout : Layout::natural}, shape, layout) &&
                                      !matrix_strides(s, {kNoBuffer, 0, layout}, shape, layout)))
        fits = false;
      if (s.size() < shape.size() && !matrix_strides(s, {kNoBuffer, 0, Layout::natural}, shape, layout)) fits = false;
    }
    if (!fits) continue;
    nodes.push_back(n);
    std::sort(nodes.begin(), nodes.end());
    made.push_back(out);
    for (int r : readers[out]) waiting.push_back(r);
    // One way out, and it is the last node's result?
    int ways = 0;
    for (int m : nodes) {
      const ValueId v = g.nodes[m].outputs[0];
      const bool leaves = view.is_output(v) || std::any_of(readers[v].begin(), readers[v].end(), [&](int r) { return !inside(r); });
      ways += leaves || (m == nodes.back() && readers[v].empty());
      if (leaves && m != nodes.back()) ways = 99;
    }
    if (ways == 1) {
      Group candidate{anchor, nodes, Anchor::tiles};
      if (split_epilogue(view, candidate)) best = std::move(candidate);
    }
  }
  return best;
}

// Elementwise nodes that end in `sink`: producers whose results nobody else reads.
Group grow_tape(const GraphView& view, int sink, const std::vector<bool>& taken) {
  const Graph& g = view.graph();
  const auto& made = view.producers();
  const auto& readers = view.readers();
  Group group{-1, {sink}};
  const Shape shape = *known_shape(g.values[g.nodes[sink].outputs[0]].dims);
  bool grew = true;
  std::vector<int> refused;
  while (grew) {
    grew = false;
    for (size_t i = 0; i < group.nodes.size() && !grew; ++i) {
      for (ValueId v : g.nodes[group.nodes[i]].inputs) {
        if (v == kAbsent || made[v] < 0) continue;
        const int p = made[v];
        const auto inside = [&](int n) { return std::find(group.nodes.begin(), group.nodes.end(), n) != group.nodes.end(); };
        if (taken[p] || inside(p) || std::find(refused.begin(), refused.end(), p) != refused.end()) continue;
        if (!tapeable(g, g.nodes[p]) || view.is_output(v) || known_shape(g.values[v].dims) != shape) continue;
        if (!std::all_of(readers[v].begin(), readers[v].end(), inside)) continue;
        std::vector<int> nodes = group.nodes;
        nodes.push_back(p);
        std::sort(nodes.begin(), nodes.end());
        if (!build_tape(g, nodes)) {
          refused.push_back(p);
          continue;
        }
        group.nodes = std::move(nodes);
        grew = true;
        break;
      }
    }
  }
  return group;
}

// Elementwise nodes around a reduction over rows. What comes after keeps its shape and is read nowhere else; of what comes before, the last
// value may be: then it is written too, unless a reader stands before the group's end, where the group runs.
Group grow_rows(const GraphView& view, int anchor, const std::vector<bool>& taken) {
  const Graph& g = view.graph();
  const auto& made = view.producers();
  const auto& readers = view.readers();
  Group group{anchor, {anchor}, Anchor::rows};
  const ValueId in = g.nodes[anchor].inputs[0], out = g.nodes[anchor].outputs[0];
  const Shape shape = *known_shape(g.values[in].dims);
  // After: one node at a time, while the result so far has one reader.
  std::vector<int> tail;
  ValueId at = out;
  while (known_shape(g.values[out].dims) == shape && !readers[at].empty() && !view.is_output(at)) {
    const int n = readers[at][0];
    if (std::ranges::any_of(readers[at], [&](int r) { return r != n; }) || taken[n] || !tapeable(g, g.nodes[n])) break;
    const ValueId next = g.nodes[n].outputs[0];
    if (g.values[next].dtype != DType::f32 || known_shape(g.values[next].dims) != shape) break;
    tail.push_back(n);
    if (!build_tape(g, tail, out)) {
      tail.pop_back();
      break;
    }
    at = next;
  }
  // Before: what ends in the anchor's input.
  std::vector<int> head;
  const int p = made[in], last = tail.empty() ? anchor : tail.back();
  if (p >= 0 && !taken[p] && tapeable(g, g.nodes[p]) && std::ranges::find(tail, p) == tail.end()) {
    const bool elsewhere = view.is_output(in) || std::ranges::any_of(readers[in], [&](int r) { return r != anchor; });
    if (!elsewhere || std::ranges::all_of(readers[in], [&](int r) { return r == anchor || r > last; })) {
      head = grow_tape(view, p, taken).nodes;
      group.kept = elsewhere;
    }
  }
  group.nodes.insert(group.nodes.begin(), head.begin(), head.end());
  group.nodes.insert(group.nodes.end(), tail.begin(), tail.end());
  return group;
}

// Two steps of tiles, the second of which reads what the first makes, where a family does them as one.
void join_pairs(const GraphView& view, Families families, std::vector<Group>& groups) {
  std::vector<int> ends_in(view.graph().nodes.size(), -1);  // of each node, the group that it ends
  const auto of_tiles = [](const Group& group) { return group.role == Anchor::tiles; };
  for (size_t i = 0; i < groups.size(); ++i) {
    if (of_tiles(groups[i])) ends_in[groups[i].nodes.back()] = static_cast<int>(i);
  }
  for (Group& group : groups) {
    if (!of_tiles(group) || group.nodes.empty()) continue;
    const ValueId in = view.node(group.anchor).inputs[0];
    const int p = view.producers()[in], before = p < 0 ? -1 : ends_in[p];
    if (before < 0 || view.is_output(in) || view.readers()[in] != std::vector<int>{group.anchor}) continue;
    std::vector<int>& first = groups[static_cast<size_t>(before)].nodes;
    Group both = group;
    both.nodes.insert(both.nodes.begin(), first.begin(), first.end());
    both.joined = true;
    if (std::ranges::none_of(families, [&](const StepFamily* f) { return f->joins(view, both); })) continue;
    group = std::move(both);
    first.clear();
    ends_in[p] = -1;
  }
  std::erase_if(groups, [](const Group& group) { return group.nodes.empty(); });
}

}  // namespace

std::vector<Group> partition(const GraphView& view, Families families, const Machine& machine, bool fuse) {
  const Graph& g = view.graph();
  const auto& readers = view.readers();
  const auto& made = view.producers();
  const int count = static_cast<int>(g.nodes.size());
  std::vector<bool> taken(g.nodes.size(), false);
  std::vector<Group> groups;
  const auto take = [&](Group group) {
    for (int n : group.nodes) taken[n] = true;
    groups.push_back(std::move(group));
  };
  std::vector<Anchor> anchors;
  for (const Node& n : g.nodes) anchors.push_back(anchor_of(families, view, n));
  for (int n = 0; n < count; ++n) {
    if (makes_nothing(g, g.nodes[n])) {
      take({-1, {n}});
      continue;
    }
    // Weights that products widen themselves: what widens them is no step of its own.
    if (!ops::narrow_weights(g, g.nodes[n], readers)) continue;
    taken[n] = std::ranges::all_of(readers[g.nodes[n].outputs[0]],
                                   [&](int r) { return anchors[r] == Anchor::tiles && !makes_nothing(g, g.nodes[r]); });
  }
  for (int n = 0; n < count; ++n) {
    if (taken[n] || anchors[n] != Anchor::tiles) continue;
    take(fuse ? grow_tail(view, n, taken) : Group{n, {n}, Anchor::tiles});
  }
  for (int n = 0; n < count && fuse; ++n) {
    if (taken[n] || anchors[n] != Anchor::rows) continue;
    Group group = grow_rows(view, n, taken);
    if (group.nodes.size() > 1) take(std::move(group));
  }
  if (fuse) join_pairs(view, families, groups);
  // What comes before a product and could not go with what made its operands: on the rows it reads, where that saves more than it costs.
  for (Group& group : groups) {
    if (group.role != Anchor::tiles || group.joined || !fuse) continue;
    const ValueId in = g.nodes[group.anchor].inputs[0];
    const int p = made[in];
    if (p < 0 || taken[p] || !tapeable(g, g.nodes[p]) || view.is_output(in) || readers[in] != std::vector<int>{group.anchor}) continue;
    const auto rows = rows_read(families, view, g.nodes[group.anchor]);
    if (!rows || !row_calls_pay(machine.rates, rows->rows, rows->length)) continue;
    const std::vector<int> ahead = grow_tape(view, p, taken).nodes;
    for (int n : ahead) taken[n] = true;
    group.nodes.insert(group.nodes.begin(), ahead.begin(), ahead.end());
  }
  for (int n = count - 1; n >= 0; --n) {
    if (taken[n]) continue;
    take(fuse && tapeable(g, g.nodes[n]) ? grow_tape(view, n, taken) : Group{-1, {n}});
  }
  // A group runs where its last node stood: everything it reads has been made by then.
  std::ranges::sort(groups, {}, [](const Group& group) { return group.nodes.back(); });
  return groups;
}

}  // namespace lathe::lower
