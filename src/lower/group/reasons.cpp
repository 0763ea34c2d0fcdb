#include "lower/group/reasons.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "lower/fuse/tape_ops.hpp"

namespace lathe::lower {

std::string why(const GraphView& view, const Group& group) {
  const auto& last = view.graph().nodes[group.nodes.back()];
  std::string text;
  if (group.role == Anchor::rows) {
    const auto around = static_cast<int64_t>(group.nodes.size()) - 1;
    const std::string& op = view.graph().nodes[group.anchor].op;
    text = fmt::format("{} the same rows: done while a row is in the first cache",
                       around > 1 ? fmt::format("{} elementwise nodes around the {} work on", around, op)
                                  : fmt::format("an elementwise node next to the {} works on", op));
    if (group.kept) text += "; what stands before it is written too, for its other readers";
  } else if (group.anchor >= 0 && group.nodes.size() > 1) {
    const std::string& op = view.graph().nodes[group.anchor].op;
    const size_t ahead = group.ahead().size(), after = group.nodes.size() - 1 - ahead;
    if (group.joined)
      text = fmt::format(
          "from {} on each convolution makes what the next one alone reads: one step, which can pass a few lines at a time through all of "
          "them",
          node_label(view.node(group.nodes[0])));
    else if (ahead > 0)
      text = fmt::format("{} what the {} reads: done on its rows as it comes to them",
                         ahead > 1 ? fmt::format("{} nodes make", ahead) : "a node makes", op);
    if (after > 0 && !group.joined)
      text +=
          fmt::format("{}{} its shape: done on each tile before it leaves registers or the first cache", ahead > 0 ? "; " : "",
                      after > 1 ? fmt::format("{} nodes after the {} keep", after, op) : fmt::format("the node after the {} keeps", op));
  } else if (group.nodes.size() > 1) {
    text = fmt::format("{} elementwise nodes of one shape whose results in between nobody else reads: one pass over memory",
                       group.nodes.size());
  }
  size_t merged = 0;
  for (int n : group.nodes) merged += view.graph().nodes[n].merged.size();
  if (merged > 0)
    text += fmt::format("{}{} node{} of the model folded in by passes", text.empty() ? "" : "; ", merged, merged > 1 ? "s" : "");
  if (text.empty()) text = last.outputs.empty() ? "alone" : "a step of its own";
  return text;
}

std::string why_not(const GraphView& view, Families families, const Group& group, const std::vector<int>& owner, bool fuse) {
  const Graph& g = view.graph();
  const auto node_name = [&](int n) { return node_label(view.node(n)); };
  const Node& last = g.nodes[group.nodes.back()];
  if (!fuse) return "fusion is off";
  const ValueId out = last.outputs.empty() ? kAbsent : last.outputs[0];
  if (out == kAbsent) return "";
  if (view.is_output(out)) return "its result is an output of the model";
  std::vector<int> next = view.readers()[out];
  next.erase(std::unique(next.begin(), next.end()), next.end());
  if (next.empty()) return "nobody reads its result";
  if (next.size() > 1) return fmt::format("its result is read by {} nodes: {} and others", next.size(), node_name(next[0]));
  const Node& reader = g.nodes[next[0]];
  const std::string name = node_name(next[0]);
  if (anchor_of(families, view, reader) == Anchor::tiles) {
    if (group.anchor >= 0 || !tapeable(g, last) || reader.inputs[0] != out)
      return fmt::format("{} multiplies: a step of its own begins there", name);
    const auto rows = rows_read(families, view, reader);
    if (!rows) return fmt::format("{} reads each number several times, in windows or as its second operand: made once, before", name);
    return fmt::format("{} reads {} rows of {}: a call for each costs more than the memory it saves", name, rows->rows, rows->length);
  }
  if (!tapeable(g, reader)) return fmt::format("{} is not elementwise over known f32 shapes", name);
  if (group.anchor < 0 && !tapeable(g, last)) return fmt::format("{} is done by a kernel of its own that takes nothing after it", last.op);
  const auto made = known_shape(g.values[out].dims), wanted = known_shape(g.values[reader.outputs[0]].dims);
  if (made != wanted) return fmt::format("{} makes another shape, {}", name, wanted ? to_string(*wanted) : "not known yet");
  if (owner[next[0]] >= 0) return fmt::format("{} already belongs to the step that makes its other operand", name);
  return fmt::format("with {} the epilogue would not fit its registers", name);
}

}  // namespace lathe::lower
