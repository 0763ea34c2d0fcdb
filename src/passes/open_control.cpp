// Control flow written out: what a constant decides becomes the nodes that run, and branches that both fit stand side by side.
#include <fmt/format.h>

#include <algorithm>

#include "lathe/op.hpp"
#include "ops/internal_ops.hpp"
#include "passes/passes.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {
namespace {

// Puts a subgraph's nodes into the graph in place of node n; `arguments` for its inputs. Gives the values its outputs became.
class Splicer {
 public:
  explicit Splicer(Graph& graph) : graph_(graph) {}

  std::vector<ValueId> splice(const Graph& body, const Node& owner, const std::vector<ValueId>& arguments, const std::string& prefix,
                              std::vector<Node>& out) {
    const auto copy = deep_copy(body);
    constexpr ValueId kUnset = -2;
    std::vector<ValueId> ids(copy->values.size(), kUnset);
    for (size_t i = 0; i < copy->inputs.size(); ++i) ids[copy->inputs[i]] = arguments.at(i);
    for (ValueId free : free_values(*copy)) {
      for (const Capture& c : owner.captures) {
        if (c.name == copy->values[free].name) ids[free] = c.value;
      }
    }
    for (size_t v = 0; v < ids.size(); ++v) {
      if (ids[v] != kUnset) continue;
      Value value = copy->values[v];
      value.name = fmt::format("{}/{}", prefix, value.name);
      ids[v] = graph_.add_value(std::move(value));
    }
    for (Node& node : copy->nodes) {
      for (ValueId& v : node.inputs) v = v == kAbsent ? v : ids[v];
      for (ValueId& v : node.outputs) v = v == kAbsent ? v : ids[v];
      for (Capture& c : node.captures) c.value = c.value == kAbsent ? c.value : ids[c.value];
      node.name = fmt::format("{}/{}", prefix, node.name.empty() ? node.op : node.name);
      if (const int64_t version = copy->version_of(node); version != graph_.opset(node.domain)) node.version = version;
      out.push_back(std::move(node));
    }
    std::vector<ValueId> results;
    for (ValueId v : copy->outputs) results.push_back(ids[v]);
    return results;
  }

 private:
  Graph& graph_;
};

void hand_on(std::vector<Node>& out, const std::string& name, ValueId from, ValueId to) {
  if (to == kAbsent) return;
  Node same;
  same.op = "Identity";
  same.name = name;
  same.version = 16;
  same.inputs = {from};
  same.outputs = {to};
  out.push_back(std::move(same));
}

}  // namespace

Report open_control(Graph& graph) {
  Report report{"open control flow", {}};
  constexpr int64_t kMostTrips = 16, kMostNodes = 256;
  std::vector<Node> nodes = std::move(graph.nodes), out;
  graph.nodes.clear();
  Splicer splicer(graph);
  const auto integer = [&](ValueId v) -> std::optional<int64_t> {
    if (v == kAbsent || !graph.values[v].constant) return std::nullopt;
    const Tensor& t = *graph.values[v].constant;
    if (t.composite() || t.size() != 1 || t.data() == nullptr || (t.dtype() != DType::i64 && t.dtype() != DType::boolean))
      return std::nullopt;
    return widen<int64_t>(t)[0];
  };
  for (Node& node : nodes) {
    const std::string name = node.name.empty() ? node.op : node.name;
    if (node.domain.empty() && node.op == "If") {
      if (const auto condition = integer(node.inputs[0])) {
        const auto* body = node.find<std::shared_ptr<Graph>>(*condition ? "then_branch" : "else_branch");
        if (body && (*body)->outputs.size() >= node.outputs.size()) {
          const auto results = splicer.splice(**body, node, {}, name, out);
          for (size_t i = 0; i < node.outputs.size(); ++i) hand_on(out, name, results[i], node.outputs[i]);
          report.changes.push_back(fmt::format("{}: its condition is constant, the {} branch stands in its place", label(graph, node),
                                               *condition ? "then" : "else"));
          continue;
        }
      }
    }
    if (ops::is_choice(node)) {
      if (const auto condition = integer(node.inputs[0])) {
        hand_on(out, name, node.inputs[*condition ? 1 : 2], node.outputs[0]);
        report.changes.push_back(fmt::format("{}: its condition is constant", label(graph, node)));
        continue;
      }
    }
    if (node.domain.empty() && node.op == "Loop") {
      const auto trips = integer(node.inputs[0]);
      const bool going = node.inputs.size() < 2 || node.inputs[1] == kAbsent || integer(node.inputs[1]) == 1;
      const auto* held = node.find<std::shared_ptr<Graph>>("body");
      const size_t carried = node.inputs.size() > 2 ? node.inputs.size() - 2 : 0;
      if (trips && *trips >= 1 && *trips <= kMostTrips && going && held) {
        const Graph& body = **held;
        // The condition must stay true whatever happens: it is a constant, or the one that came in.
        const ValueId condition = body.outputs.empty() ? kAbsent : body.outputs[0];
        bool stays =
            condition != kAbsent && body.inputs.size() == 2 + carried && (condition == body.inputs[1] || body.values[condition].constant);
        if (condition != kAbsent && !stays && body.inputs.size() == 2 + carried) {
          for (const Node& inner : body.nodes)
            stays = stays || (inner.op == "Identity" && inner.outputs[0] == condition && inner.inputs[0] == body.inputs[1]);
        }
        if (stays && body.values[condition].constant) stays = widen<int64_t>(*body.values[condition].constant).at(0) != 0;
        const bool collects = body.outputs.size() > 1 + carried;
        const bool known = std::ranges::none_of(node.inputs, [&](ValueId v) { return v != kAbsent && graph.values[v].composite; });
        if (stays && !collects && known && static_cast<int64_t>(body.nodes.size()) * *trips <= kMostNodes &&
            node.outputs.size() <= carried) {
          std::vector<ValueId> state(node.inputs.begin() + 2, node.inputs.end());
          const auto constant = [&](const std::string& what, Tensor t) {
            Value v;
            v.name = what;
            v.dtype = t.dtype();
            v.dims = Dims{};
            v.constant = std::move(t);
            return graph.add_value(std::move(v));
          };
          const ValueId yes = constant(name + "/going", Tensor::from<bool>({}, {true}));
          for (int64_t trip = 0; trip < *trips; ++trip) {
            std::vector<ValueId> arguments{constant(fmt::format("{}/trip_{}", name, trip), Tensor::from<int64_t>({}, {trip})), yes};
            arguments.insert(arguments.end(), state.begin(), state.end());
            const auto results = splicer.splice(body, node, arguments, fmt::format("{}/{}", name, trip), out);
            state.assign(results.begin() + 1, results.begin() + 1 + static_cast<int64_t>(carried));
          }
          for (size_t i = 0; i < node.outputs.size(); ++i) hand_on(out, name, state[i], node.outputs[i]);
          report.changes.push_back(fmt::format("{}: {} trips written out", label(graph, node), *trips));
          continue;
        }
      }
    }
    out.push_back(std::move(node));
  }
  graph.nodes = std::move(out);
  return report;
}

namespace {

bool is_one_tensor(const Value& v) { return !v.composite && v.dtype != DType::undefined && known_shape(v.dims).has_value(); }

// Whether a branch can be compiled as it stands whatever decides: everything in it has a known size, and nothing goes wrong while it is
// inferred and folded, as it may in a branch that exporters leave behind and no run takes. It has been tried on a copy then.
bool can_stand(const Graph& graph, const Node& owner, const Graph& body, const std::vector<ValueId>& wanted) {
  constexpr size_t kMostNodes = 1024;
  constexpr int64_t kMostBytes = int64_t{64} << 20;  // of weights, which are packed for both branches
  if (body.nodes.size() > kMostNodes || body.outputs.size() < wanted.size()) return false;
  const auto trial = deep_copy(body);
  for (ValueId free : free_values(*trial)) {
    const auto capture = std::ranges::find(owner.captures, trial->values[free].name, &Capture::name);
    if (capture == owner.captures.end() || capture->value == kAbsent || !is_one_tensor(graph.values[capture->value])) return false;
    const Value& outer = graph.values[capture->value];
    Value& inner = trial->values[free];
    inner.dtype = outer.dtype, inner.dims = outer.dims, inner.constant = outer.constant;
    if (!inner.constant) trial->inputs.push_back(free);
  }
  int64_t bytes = 0;
  for (const Value& v : trial->values) {
    if (v.constant && !v.constant->composite()) bytes += static_cast<int64_t>(v.constant->byte_size());
  }
  if (bytes > kMostBytes) return false;
  try {
    infer(*trial);
    fold_constants(*trial);
  } catch (const Error&) {
    return false;
  }
  for (const Node& n : trial->nodes) {
    if (!std::ranges::all_of(n.outputs, [&](ValueId v) { return v == kAbsent || is_one_tensor(trial->values[v]); })) return false;
  }
  for (size_t i = 0; i < wanted.size(); ++i) {
    const Value &made = trial->values[trial->outputs[i]], &outside = graph.values[wanted[i]];
    if (!is_one_tensor(made) || made.dtype != outside.dtype || known_shape(made.dims) != known_shape(outside.dims)) return false;
  }
  return true;
}

}  // namespace

Report inline_branches(Graph& graph) {
  Report report{"open control flow", {}};
  if (std::ranges::none_of(graph.nodes, [](const Node& n) { return n.domain.empty() && n.op == "If"; })) return report;
  std::vector<Node> nodes = std::move(graph.nodes), out;
  graph.nodes.clear();
  Splicer splicer(graph);
  for (Node& node : nodes) {
    const auto* yes = node.op == "If" ? node.find<std::shared_ptr<Graph>>("then_branch") : nullptr;
    const auto* no = node.op == "If" ? node.find<std::shared_ptr<Graph>>("else_branch") : nullptr;
    const auto fits = [&] {
      if (!node.domain.empty() || !yes || !no) return false;
      const Value& condition = graph.values[node.inputs[0]];
      const auto shape = known_shape(condition.dims);
      if (condition.constant || condition.dtype != DType::boolean || !shape || element_count(*shape) != 1) return false;
      // What the step that chooses copies: bytes, and some.
      const auto copied = [&](ValueId v) {
        if (v == kAbsent || !is_one_tensor(graph.values[v])) return false;
        const DType d = graph.values[v].dtype;
        return d != DType::string && bit_width(d) >= 8 && element_count(*known_shape(graph.values[v].dims)) > 0;
      };
      const bool all = std::ranges::all_of(node.outputs, copied);
      return all && can_stand(graph, node, **yes, node.outputs) && can_stand(graph, node, **no, node.outputs);
    };
    if (!fits()) {
      out.push_back(std::move(node));
      continue;
    }
    const std::string name = node.name.empty() ? node.op : node.name;
    const auto then = splicer.splice(**yes, node, {}, name + "/then", out), otherwise = splicer.splice(**no, node, {}, name + "/else", out);
    for (size_t i = 0; i < node.outputs.size(); ++i) {
      Node choice;
      choice.domain = ops::kInternalDomain, choice.op = ops::kChoice, choice.version = 1;
      choice.name = name;
      choice.inputs = {node.inputs[0], then[i], otherwise[i]};
      choice.outputs = {node.outputs[i]};
      out.push_back(std::move(choice));
    }
    report.changes.push_back(fmt::format("{}: both branches fit and stand in the graph; a run takes one of them", label(graph, node)));
  }
  graph.nodes = std::move(out);
  return report;
}

}  // namespace lathe::passes
