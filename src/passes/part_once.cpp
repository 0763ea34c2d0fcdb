// What of a graph is made once for many runs.
#include <algorithm>
#include <set>

#include "base/fail.hpp"
#include "base/gives_way.hpp"
#include "lathe/op.hpp"
#include "passes/passes.hpp"

namespace lathe::passes {
namespace {

template <typename F>
void each_read(const Node& n, F&& f) {
  for (const ValueId v : n.inputs) {
    if (v != kAbsent) f(v);
  }
  for (const Capture& c : n.captures) {
    if (c.value != kAbsent) f(c.value);
  }
}

bool pure(const Graph& g, const Node& n) {
  const OpDef* def = find_op(n.domain, n.op, g.version_of(n));
  bool all = def && def->pure;
  n.each_subgraph([&](const std::shared_ptr<Graph>& sub) {
    for (const Node& inner : sub->nodes) all = all && pure(*sub, inner);
  });
  return all;
}

}  // namespace

LATHE_GIVES_WAY OnceAndEach part_once(const Graph& graph, const std::vector<std::string>& inputs) {
  std::set<ValueId> early;  // what can be made of them
  for (const std::string& name : inputs) {
    const ValueId v = graph.find_value(name);
    if (v == kAbsent || std::ranges::find(graph.inputs, v) == graph.inputs.end())
      fail(Category::value, "the graph has no input '{}'", name);
    early.insert(v);
  }
  const std::set<ValueId> given = early;
  std::set<ValueId> fixed;  // what can be made of constants: dequantised weights; both parts may need it
  std::vector<bool> once(graph.nodes.size()), both(graph.nodes.size());
  for (size_t n = 0; n < graph.nodes.size(); ++n) {
    const Node& node = graph.nodes[n];
    bool any = false, all = pure(graph, node);
    each_read(node, [&](ValueId v) {
      any = any || early.contains(v);
      all = all && (early.contains(v) || fixed.contains(v) || graph.values[static_cast<size_t>(v)].constant);
    });
    once[n] = any && all;
    both[n] = !any && all;
    if (once[n] || both[n]) (once[n] ? early : fixed).insert(node.outputs.begin(), node.outputs.end());
  }
  early.erase(kAbsent);
  OnceAndEach out{graph, graph};
  std::vector<ValueId> seam;  // what is handed over
  const auto hand_over = [&](ValueId v) {
    if (early.contains(v) && std::ranges::find(seam, v) == seam.end()) seam.push_back(v);
  };
  for (size_t n = 0; n < graph.nodes.size(); ++n) {
    if (!once[n]) each_read(graph.nodes[n], hand_over);
  }
  for (const ValueId v : graph.outputs) hand_over(v);
  const auto keep = [&](Graph& g, bool first) {
    std::vector<Node> nodes;
    for (size_t n = 0; n < g.nodes.size(); ++n) {
      if (once[n] == first || both[n]) nodes.push_back(std::move(g.nodes[n]));
    }
    g.nodes = std::move(nodes);
  };
  keep(out.once, true);
  keep(out.each, false);
  std::erase_if(out.once.inputs, [&](ValueId v) { return !given.contains(v); });
  out.once.outputs.clear();
  std::erase_if(out.each.inputs, [&](ValueId v) { return given.contains(v); });
  for (const ValueId v : seam) {
    if (!given.contains(v)) out.once.outputs.push_back(v);
    out.each.inputs.push_back(v);
  }
  remove_dead(out.once);
  remove_dead(out.each);
  return out;
}

}  // namespace lathe::passes
