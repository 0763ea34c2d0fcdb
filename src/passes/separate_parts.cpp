// Nodes on sizes that are known only while running, and nodes of which numbers of a run decide sizes or axes, go, together, into
// subgraphs that are compiled for the sizes and the numbers met.
#include <algorithm>
#include <map>
#include <numeric>
#include <set>

#include "lathe/op.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/internal_ops.hpp"
#include "ops/narrow_weights.hpp"
#include "ops/operands.hpp"
#include "passes/passes.hpp"

namespace lathe::passes {
namespace {

bool open_size(const Value& v) { return !v.composite && !v.constant && (v.dtype == DType::undefined || !known_shape(v.dims)); }

constexpr int64_t kMostSizes = 64;

bool few(const Value& v) {
  const auto shape = known_shape(v.dims);
  return !v.composite && shape && element_count(*shape) <= kMostSizes;
}

// Sizes on their way from a tensor to where they are used: kept with both, so that they are constants once the tensor's size is known.
bool may_be_sizes(const Value& v) { return (v.dtype == DType::i64 || v.dtype == DType::i32 || v.dtype == DType::boolean) && few(v); }

class Separator {
 public:
  explicit Separator(Graph& g)
      : g_(g), producers_(g.producers()), readers_(g.consumers()), depth_(g.nodes.size(), 0), of_sizes_(g.nodes.size(), false) {}

  Report run() {
    Report report{"separate_parts", {}};
    for (size_t n = 0; n < g_.nodes.size(); ++n) place(n);
    for (size_t n = 0; n < g_.nodes.size(); ++n) take_weights(n);
    for (const auto& [at, nodes] : parts()) {
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

  // Operands by whose numbers sizes or axes are decided, which only a run brings. Where a window of one size moves over its data (Slice),
  // or numbers begin somewhere else in each run (Range), nearly every run brings others: not worth compiling for.
  std::vector<ValueId> decided_by(const Node& n) const {
    std::vector<ValueId> which;
    const OpDef* def = find_op(n.domain, n.op, g_.version_of(n));
    if (def == nullptr || def->statement == nullptr || !def->pure || n.has_subgraphs() || n.op == "Slice" || n.op == "Range") return which;
    const auto& operands = def->statement->operands;
    for (size_t i = 0; i < operands.size() && i < n.inputs.size(); ++i) {
      if (!operands[i].decides || n.inputs[i] == kAbsent) continue;
      const Value& v = g_.values[static_cast<size_t>(n.inputs[i])];
      if (v.constant) continue;
      if (!few(v) || v.dtype == DType::string) return {};
      which.push_back(n.inputs[i]);
    }
    return which;
  }

  // Whether sizes alone make it what it is: then it is a constant where the sizes are known.
  bool made_of_sizes(ValueId v) const {
    if (v == kAbsent || g_.values[static_cast<size_t>(v)].constant) return true;
    const int made = producers_[static_cast<size_t>(v)];
    return made >= 0 && of_sizes_[static_cast<size_t>(made)];
  }
  // Of a node whose operands' makers were asked before.
  bool makes_of_sizes(const Node& n) const {
    if (n.domain.empty() && (n.op == "Shape" || n.op == "Size")) return true;
    const OpDef* def = find_op(n.domain, n.op, g_.version_of(n));
    bool all = def != nullptr && def->pure && !n.has_subgraphs();
    each_read(n, [&](ValueId read) { all = all && made_of_sizes(read); });
    return all;
  }

  // A window that moves over its data has a step that takes data of any size, and in a part would keep its readers' sizes open.
  bool slices_at_run(const Node& n) const {
    if (n.op != "Slice" || !n.domain.empty() || g_.version_of(n) < 10) return false;
    return std::ranges::any_of(n.inputs.begin() + 1, n.inputs.end(), [&](ValueId v) { return !made_of_sizes(v); });
  }

  // Depth: how often the way to a node changes between known sizes (even) and open ones (odd). Nodes of one depth need nothing of a deeper
  // one, so those of an odd depth can be parts.
  void place(size_t n) {
    const Node& node = g_.nodes[n];
    of_sizes_[n] = makes_of_sizes(node);
    bool open = false, depends = false;
    each_read(node, [&](ValueId v) {
      open |= open_size(g_.values[static_cast<size_t>(v)]);
      const int made = producers_[static_cast<size_t>(v)];
      depends |= made >= 0 && depth_[static_cast<size_t>(made)] > 0;
    });
    const auto sizes = [&](ValueId v) { return v == kAbsent || may_be_sizes(g_.values[static_cast<size_t>(v)]); };
    std::vector<ValueId> deciding = decided_by(node);
    const bool late = !slices_at_run(node) && (open || !deciding.empty() || (depends && std::ranges::all_of(node.outputs, sizes)));
    int depth = late ? 1 : 0;
    each_read(node, [&](ValueId v) {
      const int made = producers_[static_cast<size_t>(v)];
      if (made < 0) return;
      const int before = depth_[static_cast<size_t>(made)];
      depth = std::max(depth, before + (before % 2 == (late ? 1 : 0) ? 0 : 1));
    });
    // Its numbers come from outside of the part, where they are known before it runs.
    std::erase_if(deciding, [&](ValueId v) { return made_of_sizes(v); });
    for (ValueId v : deciding) {
      const int made = producers_[static_cast<size_t>(v)];
      if (made >= 0 && depth <= depth_[static_cast<size_t>(made)]) depth = depth_[static_cast<size_t>(made)] + 2;
    }
    depth_[n] = depth;
    if (!deciding.empty()) deciding_[n] = std::move(deciding);
  }

  // Weights that products and convolutions widen themselves go with them: outside they would be widened in each run.
  void take_weights(size_t n) {
    if (depth_[n] % 2 == 1 || !ops::narrow_weights(g_, g_.nodes[n], readers_)) return;
    const auto& readers = readers_[static_cast<size_t>(g_.nodes[n].outputs[0])];
    const int depth = depth_[static_cast<size_t>(readers.front())];
    if (depth % 2 == 1 && std::ranges::all_of(readers, [&](int r) { return depth_[static_cast<size_t>(r)] == depth; })) depth_[n] = depth;
  }

  // Nodes of one depth that hang together, by depth and the first of them: each part is compiled for no more than its own sizes.
  std::map<std::pair<int, size_t>, std::vector<size_t>> parts() const {
    std::vector<size_t> first(g_.nodes.size());
    std::iota(first.begin(), first.end(), size_t{0});
    const auto root = [&](size_t n) {
      while (first[n] != n) n = first[n] = first[first[n]];
      return n;
    };
    for (size_t n = 0; n < g_.nodes.size(); ++n) {
      if (depth_[n] % 2 == 0) continue;
      each_read(g_.nodes[n], [&](ValueId v) {
        const int made = producers_[static_cast<size_t>(v)];
        if (made < 0 || depth_[static_cast<size_t>(made)] != depth_[n]) return;
        const size_t a = root(n), b = root(static_cast<size_t>(made));
        first[std::max(a, b)] = std::min(a, b);
      });
    }
    std::map<std::pair<int, size_t>, std::vector<size_t>> parts;
    for (size_t n = 0; n < g_.nodes.size(); ++n) {
      if (depth_[n] % 2 == 1) parts[{depth_[n], root(n)}].push_back(n);
    }
    return parts;
  }

  // Nodes that only move a few numbers are evaluated plainly as well; sequences and the like are no inputs of programs.
  bool worth_a_part(const std::vector<size_t>& nodes) const {
    bool works = false;
    for (size_t n : nodes) {
      const Node& node = g_.nodes[n];
      const OpDef* def = find_op(node.domain, node.op, g_.version_of(node));
      works |= deciding_.contains(n) || (def != nullptr && def->trait != Trait::movement && def->trait != Trait::view);
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
    std::vector<int64_t> numbers;
    for (size_t i = 0; i < part.captures.size(); ++i) {
      const auto decides = [&](size_t n) {
        const auto it = deciding_.find(n);
        return it != deciding_.end() && std::ranges::find(it->second, part.captures[i].value) != it->second.end();
      };
      if (std::ranges::any_of(nodes, decides)) numbers.push_back(static_cast<int64_t>(i));
    }
    if (!numbers.empty()) part.attributes[ops::kDeciding].data = std::move(numbers);
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
                             (part.attributes.contains(ops::kDeciding) ? " on sizes that numbers of the run decide"
                                                                       : " on sizes that are known only while running"));
    gone_.insert(nodes.begin(), nodes.end());
    made_.push_back(std::move(part));
  }

  Graph& g_;
  std::vector<int> producers_;
  std::vector<std::vector<int>> readers_;
  std::vector<int> depth_;
  std::map<size_t, std::vector<ValueId>> deciding_;  // by node: what its part must know the numbers of
  std::vector<bool> of_sizes_;                       // by node
  std::set<size_t> gone_;
  std::vector<Node> made_;
};

}  // namespace

Report separate_parts(Graph& g) { return Separator(g).run(); }

}  // namespace lathe::passes
