// Nodes on sizes that are known only while running go, together, into subgraphs that are compiled for the sizes met.
#include <algorithm>
#include <map>
#include <set>

#include "lathe/op.hpp"
#include "ops/internal_ops.hpp"
#include "ops/narrow_weights.hpp"
#include "passes/passes.hpp"

namespace lathe::passes {
namespace {

bool open_size(const Value& v) { return !v.composite && !v.constant && (v.dtype == DType::undefined || !known_shape(v.dims)); }

// Sizes on their way from a tensor to where they are used: kept with both, so that they are constants once the tensor's size is known.
bool may_be_sizes(const Value& v) {
  constexpr int64_t kMost = 64;
  const auto shape = known_shape(v.dims);
  return (v.dtype == DType::i64 || v.dtype == DType::i32 || v.dtype == DType::boolean) && shape && element_count(*shape) <= kMost;
}

class Separator {
 public:
  explicit Separator(Graph& g) : g_(g), producers_(g.producers()), readers_(g.consumers()), depth_(g.nodes.size(), 0) {}

  Report run() {
    Report report{"separate_parts", {}};
    for (size_t n = 0; n < g_.nodes.size(); ++n) place(n);
    for (size_t n = 0; n < g_.nodes.size(); ++n) take_weights(n);
    std::map<int, std::vector<size_t>> parts;  // nodes by depth
    for (size_t n = 0; n < g_.nodes.size(); ++n) {
      if (depth_[n] % 2 == 1) parts[depth_[n]].push_back(n);
    }
    for (const auto& [depth, nodes] : parts) {
      if (worth_a_part(nodes)) wrap(nodes, report);
    }
    if (report.changes.empty()) return report;
    std::vector<Node> kept;
    for (size_t n = 0; n < g_.nodes.size(); ++n) {
      if (!gone_.contains(n)) kept.push_back(std::move(g_.nodes[n]));
    }
    std::ranges::move(made_, std::back_inserter(kept));
    g_.nodes = std::move(kept);
    g_.sort();
    return report;
  }

 private:
  template <typename F>
  static void each_read(const Node& n, F&& f) {
    for (ValueId v : n.inputs) {
      if (v != kAbsent) f(v);
    }
    for (const Capture& c : n.captures) {
      if (c.value != kAbsent) f(c.value);
    }
  }

  // Depth: how often the way to a node changes between known sizes (even) and open ones (odd). Nodes of one depth need nothing of a deeper
  // one, so each odd depth can be one part.
  void place(size_t n) {
    const Node& node = g_.nodes[n];
    bool open = false, depends = false;
    each_read(node, [&](ValueId v) {
      open |= open_size(g_.values[static_cast<size_t>(v)]);
      const int made = producers_[static_cast<size_t>(v)];
      depends |= made >= 0 && depth_[static_cast<size_t>(made)] > 0;
    });
    const auto sizes = [&](ValueId v) { return v == kAbsent || may_be_sizes(g_.values[static_cast<size_t>(v)]); };
    const bool late = open || (depends && std::ranges::all_of(node.outputs, sizes));
    int depth = late ? 1 : 0;
    each_read(node, [&](ValueId v) {
      const int made = producers_[static_cast<size_t>(v)];
      if (made < 0) return;
      const int before = depth_[static_cast<size_t>(made)];
      depth = std::max(depth, before + (before % 2 == (late ? 1 : 0) ? 0 : 1));
    });
    depth_[n] = depth;
  }

  // Weights that products and convolutions widen themselves go with them: outside they would be widened in each run.
  void take_weights(size_t n) {
    if (depth_[n] % 2 == 1 || !ops::narrow_weights(g_, g_.nodes[n], readers_)) return;
    const auto& readers = readers_[static_cast<size_t>(g_.nodes[n].outputs[0])];
    const int depth = depth_[static_cast<size_t>(readers.front())];
    if (depth % 2 == 1 && std::ranges::all_of(readers, [&](int r) { return depth_[static_cast<size_t>(r)] == depth; })) depth_[n] = depth;
  }

  // Nodes that only move a few numbers are evaluated plainly as well; sequences and the like are no inputs of programs.
  bool worth_a_part(const std::vector<size_t>& nodes) const {
    bool works = false;
    for (size_t n : nodes) {
      const Node& node = g_.nodes[n];
      const OpDef* def = find_op(node.domain, node.op, g_.version_of(node));
      works |= def != nullptr && def->trait != Trait::movement && def->trait != Trait::view;
      bool composite = false;
      const auto look = [&](ValueId v) { composite |= v != kAbsent && g_.values[static_cast<size_t>(v)].composite != nullptr; };
      each_read(node, look);
      std::ranges::for_each(node.outputs, look);
      if (composite) return false;
    }
    return works;
  }

  void wrap(const std::vector<size_t>& nodes, Report& report) {
    auto body = std::make_shared<Graph>();
    body->opsets = g_.opsets;
    body->ir_version = g_.ir_version;
    std::map<ValueId, ValueId> inside;
    const auto adopt = [&](ValueId v, bool made_here) {
      if (v == kAbsent) return kAbsent;
      const auto [it, fresh] = inside.try_emplace(v, kAbsent);
      if (fresh) {
        Value value = g_.values[static_cast<size_t>(v)];
        if (!made_here) value.constant.reset();  // captured, so that one copy of it is kept
        it->second = body->add_value(std::move(value));
      }
      return it->second;
    };
    const std::set<size_t> members(nodes.begin(), nodes.end());
    Node part;
    part.domain = ops::kInternalDomain;
    part.op = ops::kPart;
    part.version = 1;
    const Node& first = g_.nodes[nodes.front()];
    part.name = "from " + (first.name.empty() ? first.op : first.name);
    for (size_t n : nodes) {
      for (ValueId v : g_.nodes[n].outputs) adopt(v, true);
    }
    std::set<std::string> names;
    for (const auto& [outer, inner] : inside) names.insert(body->values[static_cast<size_t>(inner)].name);
    for (size_t n : nodes) {
      Node copy = g_.nodes[n];
      each_read(copy, [&](ValueId v) {
        if (inside.contains(v)) return;
        std::string& name = body->values[static_cast<size_t>(adopt(v, false))].name;
        while (name.empty() || !names.insert(name).second) name += "'";
        part.captures.push_back({v, name});
      });
      for (ValueId& v : copy.inputs) v = adopt(v, false);
      for (ValueId& v : copy.outputs) v = adopt(v, true);
      for (Capture& c : copy.captures) c.value = adopt(c.value, false);
      body->nodes.push_back(std::move(copy));
    }
    for (size_t n : nodes) {
      for (ValueId v : g_.nodes[n].outputs) {
        if (v == kAbsent) continue;
        const auto outside = [&](int reader) { return !members.contains(static_cast<size_t>(reader)); };
        const bool leaves =
            std::ranges::find(g_.outputs, v) != g_.outputs.end() || std::ranges::any_of(readers_[static_cast<size_t>(v)], outside);
        if (!leaves) continue;
        part.outputs.push_back(v);
        body->outputs.push_back(inside.at(v));
      }
    }
    part.attributes["body"].data = std::move(body);
    report.changes.push_back("'" + part.name + "': " + std::to_string(nodes.size()) + (nodes.size() == 1 ? " node" : " nodes") +
                             " on sizes that are known only while running");
    gone_.insert(nodes.begin(), nodes.end());
    made_.push_back(std::move(part));
  }

  Graph& g_;
  std::vector<int> producers_;
  std::vector<std::vector<int>> readers_;
  std::vector<int> depth_;
  std::set<size_t> gone_;
  std::vector<Node> made_;
};

}  // namespace

Report separate_parts(Graph& g) { return Separator(g).run(); }

}  // namespace lathe::passes
