// Subgraphs and the scopes around them: what they capture, copying them, keeping names in step.
#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include "base/fail.hpp"
#include "lathe/graph.hpp"

namespace lathe {

std::vector<ValueId> free_values(const Graph& graph) {
  std::vector<bool> settled(graph.values.size(), false);
  for (size_t v = 0; v < graph.values.size(); ++v) settled[v] = graph.values[v].constant.has_value();
  for (ValueId v : graph.inputs) settled[v] = true;
  for (const Node& n : graph.nodes) {
    for (ValueId v : n.outputs) {
      if (v != kAbsent) settled[v] = true;
    }
  }
  std::vector<ValueId> out;
  const auto read = [&](ValueId v) {
    if (v == kAbsent || settled[v]) return;
    settled[v] = true;
    out.push_back(v);
  };
  for (const Node& n : graph.nodes) {
    for (ValueId v : n.inputs) read(v);
    for (const Capture& c : n.captures) read(c.value);
  }
  for (ValueId v : graph.outputs) read(v);
  return out;
}

void resolve_captures(Graph& graph) {
  std::unordered_map<std::string, ValueId> ids;
  for (size_t v = 0; v < graph.values.size(); ++v) ids.try_emplace(graph.values[v].name, static_cast<ValueId>(v));
  for (Node& node : graph.nodes) {
    node.captures.clear();
    node.each_subgraph([&](const std::shared_ptr<Graph>& sub) {
      sub->opsets = graph.opsets;
      resolve_captures(*sub);
      for (ValueId free : free_values(*sub)) {
        const std::string& name = sub->values[free].name;
        if (std::ranges::any_of(node.captures, [&](const Capture& c) { return c.name == name; })) continue;
        const auto [it, fresh] = ids.try_emplace(name, static_cast<ValueId>(graph.values.size()));
        if (fresh) {  // a name from further out
          Value outer;
          outer.name = name;
          graph.add_value(std::move(outer));
        }
        node.captures.push_back({it->second, name});
      }
    });
  }
  for (Function& f : graph.functions) resolve_captures(*f.body);
}

void settle_names(Graph& graph) {
  for (Node& node : graph.nodes) {
    node.each_subgraph([&](const std::shared_ptr<Graph>& sub) {
      for (Capture& c : node.captures) {
        if (c.value == kAbsent) continue;
        const std::string& wanted = graph.values[c.value].name;
        for (Value& v : sub->values) {
          // A value of the subgraph's own under the name that is needed gives way.
          if (v.name == wanted && c.name != wanted) v.name += ".inner";
        }
        for (ValueId free : free_values(*sub)) {
          if (sub->values[free].name == c.name) sub->values[free].name = wanted;
        }
      }
      settle_names(*sub);
    });
    for (Capture& c : node.captures) {
      if (c.value != kAbsent) c.name = graph.values[c.value].name;
    }
  }
}

namespace {

std::shared_ptr<Graph> copied(const std::shared_ptr<Graph>& sub) { return deep_copy(*sub); }

}  // namespace

std::shared_ptr<Graph> deep_copy(const Graph& graph) {
  auto copy = std::make_shared<Graph>(graph);
  for (Node& node : copy->nodes) {
    for (auto& [key, attribute] : node.attributes) {
      if (auto* sub = std::get_if<std::shared_ptr<Graph>>(&attribute.data)) *sub = copied(*sub);
      if (auto* list = std::get_if<std::vector<std::shared_ptr<Graph>>>(&attribute.data))
        std::ranges::transform(*list, list->begin(), copied);
    }
  }
  return copy;
}

Tensor dense(const SparseTensor& sparse) {
  constexpr int64_t kMost = int64_t{1} << 28;
  const int64_t count = element_count(sparse.shape);
  if (count > kMost) fail(Category::resource, "a sparse tensor of shape {} is too large to be made dense", to_string(sparse.shape));
  const int64_t entries = sparse.values.size(), rank = static_cast<int64_t>(sparse.shape.size());
  if (sparse.indices.empty() || sparse.indices.dtype() != DType::i64) fail(Category::type, "the indices of a sparse tensor must be i64");
  const bool linear = sparse.indices.rank() == 1;
  if (!(linear && sparse.indices.size() == entries) &&
      !(sparse.indices.rank() == 2 && sparse.indices.shape()[0] == entries && sparse.indices.shape()[1] == rank)) {
    fail(Category::shape, "a sparse tensor of shape {} has {} values, but indices of shape {}", to_string(sparse.shape), entries,
         to_string(sparse.indices.shape()));
  }
  if (sparse.values.dtype() == DType::string || bit_width(sparse.values.dtype()) < 8)
    fail(Category::unsupported, "sparse tensors of {} are not supported", to_string(sparse.values.dtype()));
  Tensor out(sparse.values.dtype(), sparse.shape);
  const size_t bytes = bit_width(out.dtype()) / 8;
  if (out.byte_size() > 0) std::fill_n(static_cast<char*>(out.data()), out.byte_size(), 0);
  const auto at = sparse.indices.as<int64_t>();
  std::vector<bool> seen(count, false);
  for (int64_t i = 0; i < entries; ++i) {
    int64_t index = 0;
    if (linear) {
      index = at[i];
      if (index < 0 || index >= count) fail(Category::value, "sparse index {} is outside a tensor of {} elements", index, count);
    } else {
      for (int64_t d = 0; d < rank; ++d) {
        const int64_t k = at[i * rank + d];
        if (k < 0 || k >= sparse.shape[d]) fail(Category::value, "sparse index {} is outside dim {} of size {}", k, d, sparse.shape[d]);
        index = index * sparse.shape[d] + k;
      }
    }
    if (seen[index]) fail(Category::value, "sparse index {} is given twice", index);
    seen[index] = true;
    std::copy_n(static_cast<const char*>(sparse.values.data()) + i * bytes, bytes, static_cast<char*>(out.data()) + index * bytes);
  }
  return out;
}

const Function* find_function(const Graph& graph, const Node& node) {
  for (const Function& f : graph.functions) {
    if (f.name == node.op && f.overload == node.overload && (f.domain == "ai.onnx" ? "" : f.domain) == node.domain) return &f;
  }
  return nullptr;
}

namespace {

class Inliner {
 public:
  Inliner(const Graph& root, int64_t most) : root_(root), left_(most), most_(most) {}

  void run(Graph& g) {
    std::vector<Node> nodes = std::move(g.nodes);
    g.nodes.clear();
    std::unordered_set<std::string> names;
    for (const Value& v : g.values) names.insert(v.name);
    for (Node& n : nodes) place(g, std::move(n), names);
  }

 private:
  void place(Graph& g, Node node, std::unordered_set<std::string>& names) {
    if (--left_ < 0) fail(Category::resource, "with its functions written out the model has more than {} nodes", most_);
    const Function* f = find_function(root_, node);
    if (f == nullptr) {
      node.each_subgraph([&](const std::shared_ptr<Graph>& sub) { run(*sub); });
      g.nodes.push_back(std::move(node));
      return;
    }
    if (std::ranges::find(stack_, f) != stack_.end() || stack_.size() > 100) {
      std::vector<std::string> circle;
      for (const Function* s : stack_) circle.push_back(s->name);
      fail(Category::value, "function '{}' calls itself ({}, {}); functions must not be recursive", f->name, fmt::join(circle, ", "),
           f->name);
    }
    stack_.push_back(f);
    expand(g, node, *f, names);
    stack_.pop_back();
  }

  void expand(Graph& g, const Node& call, const Function& f, std::unordered_set<std::string>& names) {
    const auto body = deep_copy(*f.body);
    const std::string label = call.name.empty() ? f.name : call.name;
    std::string prefix = label;
    for (int i = 1; !used_.insert(prefix).second; ++i) prefix = fmt::format("{}_{}", label, i);
    if (call.inputs.size() > body->inputs.size() || call.outputs.size() > body->outputs.size()) {
      throw Error({{Category::value, fmt::format("node '{}' ({})", call.name, call.op),
                    fmt::format("has {} inputs and {} outputs, function '{}' takes {} and gives {}", call.inputs.size(),
                                call.outputs.size(), f.name, body->inputs.size(), body->outputs.size())}});
    }
    constexpr ValueId kUnset = -2;
    std::vector<ValueId> ids(body->values.size(), kUnset);
    for (size_t i = 0; i < body->inputs.size(); ++i) ids[body->inputs[i]] = i < call.inputs.size() ? call.inputs[i] : kAbsent;
    std::vector<std::pair<ValueId, ValueId>> handed_on;  // outputs that are inputs, or outputs twice
    for (size_t i = 0; i < call.outputs.size(); ++i) {
      if (call.outputs[i] == kAbsent) continue;
      ValueId& id = ids[body->outputs[i]];
      if (id == kUnset && !body->values[body->outputs[i]].constant) id = call.outputs[i];
      else handed_on.emplace_back(body->outputs[i], call.outputs[i]);
    }
    for (size_t v = 0; v < ids.size(); ++v) {
      if (ids[v] != kUnset) continue;
      Value value = body->values[v];
      value.name = prefix + "/" + value.name;
      while (!names.insert(value.name).second) value.name += "_";
      ids[v] = g.add_value(std::move(value));
    }
    const auto map = [&](std::vector<ValueId>& list) {
      for (ValueId& v : list) v = v == kAbsent ? kAbsent : ids[v];
    };
    for (Node& node : body->nodes) {
      adopt(g, node, call, f);
      map(node.inputs);
      map(node.outputs);
      for (Capture& c : node.captures) c.value = c.value == kAbsent ? kAbsent : ids[c.value];
      node.name = prefix + "/" + (node.name.empty() ? node.op : node.name);
      node.module = (call.module.empty() ? "" : call.module + "/") + label;
      place(g, std::move(node), names);
    }
    for (const auto& [from, to] : handed_on) {
      Node same;
      same.op = "Identity";
      same.name = prefix + "/" + body->values[from].name;
      same.inputs = {ids[from]};
      same.outputs = {to};
      if (g.opset("") < 1) same.version = 1;
      same.module = (call.module.empty() ? "" : call.module + "/") + label;
      g.nodes.push_back(std::move(same));
    }
  }

  // Opset versions of the function, and attributes that refer to the call's; also in subgraphs.
  void adopt(const Graph& g, Node& node, const Node& call, const Function& f) {
    const auto it = f.body->opsets.find(node.domain);
    if (it != f.body->opsets.end() && it->second != g.opset(node.domain)) node.version = it->second;
    for (auto a = node.attributes.begin(); a != node.attributes.end();) {
      const std::string reference = a->second.reference;
      if (reference.empty()) {
        ++a;
        continue;
      }
      if (const auto given = call.attributes.find(reference); given != call.attributes.end()) (a++)->second = given->second;
      else if (const auto otherwise = f.defaults.find(reference); otherwise != f.defaults.end()) (a++)->second = otherwise->second;
      else a = node.attributes.erase(a);  // left out by the caller: the op's own default holds
    }
    node.each_subgraph([&](const std::shared_ptr<Graph>& sub) {
      for (Node& inner : sub->nodes) adopt(g, inner, call, f);
    });
  }

  const Graph& root_;
  int64_t left_, most_;
  std::vector<const Function*> stack_;
  std::unordered_set<std::string> used_;
};

}  // namespace

void inline_functions(Graph& graph, int64_t most) {
  if (graph.functions.empty()) return;
  for (Node& node : graph.nodes) {  // subgraphs are rewritten too: they must not be shared with another Graph
    for (auto& [key, attribute] : node.attributes) {
      if (auto* sub = std::get_if<std::shared_ptr<Graph>>(&attribute.data)) *sub = deep_copy(**sub);
    }
  }
  Inliner(graph, most).run(graph);
  graph.functions.clear();
}

}  // namespace lathe
