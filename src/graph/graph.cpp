#include "lathe/graph.hpp"

#include <algorithm>
#include <unordered_map>

#include "base/fail.hpp"

namespace lathe {

std::string to_string(const Dim& dim) {
  if (dim.known()) return std::to_string(dim.value);
  return dim.symbol.empty() ? "?" : dim.symbol;
}

std::string to_string(const Dims& dims) {
  if (dims.empty()) return "scalar";
  std::string text;
  for (const Dim& d : dims) text += (text.empty() ? "" : " x ") + to_string(d);
  return text;
}

std::optional<Shape> known_shape(const std::optional<Dims>& dims) {
  if (!dims) return std::nullopt;
  Shape shape;
  for (const Dim& d : *dims) {
    if (!d.known()) return std::nullopt;
    shape.push_back(d.value);
  }
  return shape;
}

bool fits(const Shape& shape, const std::optional<Dims>& dims) {
  return !dims || std::ranges::equal(shape, *dims, [](int64_t size, const Dim& d) { return !d.known() || d.value == size; });
}

std::string to_string(const Type& type) {
  const auto inside = [&] { return type.inner.empty() ? std::string("anything") : to_string(type.inner.front()); };
  switch (type.kind) {
    case Type::Kind::sequence: return "sequence of " + inside();
    case Type::Kind::optional: return "optional " + inside();
    case Type::Kind::map: return fmt::format("map of {} to {}", to_string(type.dtype), inside());
    default:
      return fmt::format("{}{}{}", type.kind == Type::Kind::sparse ? "sparse " : "", to_string(type.dtype),
                         type.dims ? " " + to_string(*type.dims) : "");
  }
}

Type type_of(const Value& value) {
  if (value.composite) return *value.composite;
  Type t;
  t.dtype = value.dtype;
  t.dims = value.dims;
  return t;
}

void set_type(Value& value, Type type) {
  if (type.kind == Type::Kind::tensor) {
    value.dtype = type.dtype;
    value.dims = std::move(type.dims);
    value.composite = nullptr;
  } else {
    value.dtype = DType::undefined;
    value.dims.reset();
    value.composite = std::make_shared<const Type>(std::move(type));
  }
}

bool Node::has_subgraphs() const {
  bool any = false;
  each_subgraph([&](const auto&) { any = true; });
  return any;
}

int64_t Node::integer(std::string_view key, int64_t otherwise) const {
  const auto* v = find<int64_t>(key);
  return v ? *v : otherwise;
}

float Node::real(std::string_view key, float otherwise) const {
  const auto* v = find<float>(key);
  return v ? *v : otherwise;
}

std::string Node::text(std::string_view key, std::string_view otherwise) const {
  const auto* v = find<std::string>(key);
  return v ? *v : std::string(otherwise);
}

std::vector<int64_t> Node::integers(std::string_view key, std::vector<int64_t> otherwise) const {
  const auto* v = find<std::vector<int64_t>>(key);
  return v ? *v : otherwise;
}

ValueId Graph::add_value(Value value) {
  values.push_back(std::move(value));
  return static_cast<ValueId>(values.size() - 1);
}

ValueId Graph::find_value(std::string_view name) const {
  for (size_t i = 0; i < values.size(); ++i) {
    if (values[i].name == name) return static_cast<ValueId>(i);
  }
  return kAbsent;
}

int64_t Graph::opset(std::string_view domain) const {
  const auto it = opsets.find(std::string(domain == "ai.onnx" ? "" : domain));
  return it == opsets.end() ? 0 : it->second;
}

void open_defaults(Graph& graph, const std::vector<std::string>& names) {
  if (names.empty()) return;
  for (const std::string& name : names) {
    const auto it = std::ranges::find_if(graph.defaults, [&](const Default& d) { return graph.values[d.value].name == name; });
    if (it == graph.defaults.end()) {
      std::vector<std::string> known;
      for (const Default& d : graph.defaults) known.push_back(graph.values[d.value].name);
      fail(Category::value, "no input with a value of its own is named '{}'; {}", name,
           known.empty() ? std::string("the model has none") : fmt::format("they are {}", fmt::join(known, ", ")));
    }
    Value& v = graph.values[it->value];
    v.constant.reset();
    set_type(v, it->declared);
    graph.inputs.push_back(it->value);
    graph.defaults.erase(it);
  }
  // Sizes may have come from the values that were there.
  for (const Node& n : graph.nodes) {
    for (ValueId v : n.outputs) {
      if (v != kAbsent && !graph.values[v].constant) graph.values[v].dims.reset();
    }
  }
}

std::vector<int> Graph::producers() const {
  std::vector<int> out(values.size(), -1);
  for (size_t n = 0; n < nodes.size(); ++n) {
    for (ValueId v : nodes[n].outputs) {
      if (v != kAbsent) out[v] = static_cast<int>(n);
    }
  }
  return out;
}

std::vector<std::vector<int>> Graph::consumers() const {
  std::vector<std::vector<int>> out(values.size());
  for (size_t n = 0; n < nodes.size(); ++n) {
    for (ValueId v : nodes[n].inputs) {
      if (v != kAbsent) out[v].push_back(static_cast<int>(n));
    }
    for (const Capture& c : nodes[n].captures) {
      if (c.value != kAbsent) out[c.value].push_back(static_cast<int>(n));
    }
  }
  return out;
}

void Graph::sort() {
  const auto made = producers();
  std::vector<std::vector<int>> readers(nodes.size());
  std::vector<int> waiting(nodes.size(), 0);
  for (size_t n = 0; n < nodes.size(); ++n) {
    std::vector<ValueId> reads = nodes[n].inputs;
    for (const Capture& c : nodes[n].captures) reads.push_back(c.value);
    nodes[n].each_subgraph([](const std::shared_ptr<Graph>& sub) { sub->sort(); });
    for (ValueId v : reads) {
      if (v == kAbsent || made[v] < 0) continue;
      readers[made[v]].push_back(static_cast<int>(n));
      ++waiting[n];
    }
  }
  std::vector<int> order;
  std::vector<int> ready;  // a heap of node indices, smallest first: keeps the order that is there where it can
  const auto later = std::greater<int>();
  for (size_t n = 0; n < nodes.size(); ++n) {
    if (waiting[n] == 0) ready.push_back(static_cast<int>(n));
  }
  std::make_heap(ready.begin(), ready.end(), later);
  while (!ready.empty()) {
    std::pop_heap(ready.begin(), ready.end(), later);
    const int n = ready.back();
    ready.pop_back();
    order.push_back(n);
    for (int r : readers[n]) {
      if (--waiting[r] == 0) {
        ready.push_back(r);
        std::push_heap(ready.begin(), ready.end(), later);
      }
    }
  }
  if (order.size() != nodes.size()) {
    std::vector<std::string> stuck;
    for (size_t n = 0; n < nodes.size() && stuck.size() < 5; ++n) {
      if (waiting[n] > 0) stuck.push_back(label(*this, nodes[n]));
    }
    fail(Category::value, "the graph has a cycle: {} wait for one another's outputs; a model must be acyclic", fmt::join(stuck, ", "));
  }
  std::vector<Node> sorted;
  sorted.reserve(nodes.size());
  for (int n : order) sorted.push_back(std::move(nodes[n]));
  nodes = std::move(sorted);
}

namespace {

bool equal(const Attribute::Data& a, const Attribute::Data& b);

template <typename T>
bool equal_lists(const std::vector<T>& a, const std::vector<T>& b, auto same) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end(), same);
}

bool equal_graphs(const std::shared_ptr<Graph>& a, const std::shared_ptr<Graph>& b) { return lathe::equal(*a, *b); }

bool equal(const Attribute::Data& a, const Attribute::Data& b) {
  if (a.index() != b.index()) return false;
  return std::visit(
      [&](const auto& x) {
        using T = std::decay_t<decltype(x)>;
        const T& y = std::get<T>(b);
        if constexpr (std::is_same_v<T, Tensor>) return identical(x, y);
        else if constexpr (std::is_same_v<T, std::shared_ptr<Graph>>) return equal_graphs(x, y);
        else if constexpr (std::is_same_v<T, SparseTensor>)
          return identical(x.values, y.values) && identical(x.indices, y.indices) && x.shape == y.shape;
        else if constexpr (std::is_same_v<T, std::vector<Tensor>>) return equal_lists(x, y, identical);
        else if constexpr (std::is_same_v<T, std::vector<std::shared_ptr<Graph>>>) return equal_lists(x, y, equal_graphs);
        else return x == y;
      },
      a);
}

bool equal_attributes(const std::map<std::string, Attribute>& a, const std::map<std::string, Attribute>& b) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const auto& x, const auto& y) {
    return x.first == y.first && x.second.reference == y.second.reference && equal(x.second.data, y.second.data);
  });
}

}  // namespace

bool equal(const Graph& a, const Graph& b) {
  if (a.name != b.name || a.doc != b.doc || a.opsets != b.opsets || a.metadata != b.metadata || a.ir_version != b.ir_version ||
      a.producer != b.producer || a.producer_version != b.producer_version || a.model_domain != b.model_domain ||
      a.model_version != b.model_version) {
    return false;
  }
  const auto names = [](const Graph& g, const std::vector<ValueId>& ids) {
    std::vector<std::string> out;
    for (ValueId v : ids) out.push_back(v == kAbsent ? "" : g.values[v].name);
    return out;
  };
  if (names(a, a.inputs) != names(b, b.inputs) || names(a, a.outputs) != names(b, b.outputs)) return false;
  std::unordered_map<std::string, const Value*> by_name;
  for (const Value& v : b.values) by_name[v.name] = &v;
  if (a.values.size() != b.values.size()) return false;
  for (const Value& v : a.values) {
    const auto it = by_name.find(v.name);
    if (it == by_name.end()) return false;
    const Value& w = *it->second;
    if (v.dtype != w.dtype || v.dims != w.dims || (v.composite == nullptr) != (w.composite == nullptr) ||
        (v.composite && *v.composite != *w.composite) || v.doc != w.doc || v.constant.has_value() != w.constant.has_value() ||
        (v.constant && !identical(*v.constant, *w.constant))) {
      return false;
    }
  }
  const auto same_node = [&](const Node& x, const Node& y) {
    if (x.op != y.op || x.domain != y.domain || x.name != y.name || x.doc != y.doc || x.overload != y.overload ||
        x.metadata != y.metadata || names(a, x.inputs) != names(b, y.inputs) || names(a, x.outputs) != names(b, y.outputs)) {
      return false;
    }
    return equal_attributes(x.attributes, y.attributes);
  };
  const auto same_function = [](const Function& x, const Function& y) {
    return x.name == y.name && x.domain == y.domain && x.doc == y.doc && x.overload == y.overload && x.attributes == y.attributes &&
           equal_attributes(x.defaults, y.defaults) && equal(*x.body, *y.body);
  };
  return equal_lists(a.nodes, b.nodes, same_node) && equal_lists(a.functions, b.functions, same_function);
}

std::string label(const Graph& graph, const Node& node) {
  if (!node.name.empty()) return fmt::format("node '{}' ({})", node.name, node.op);
  for (size_t i = 0; i < graph.nodes.size(); ++i) {
    if (&graph.nodes[i] == &node) return fmt::format("node #{} ({})", i, node.op);
  }
  return fmt::format("a node ({})", node.op);
}

}  // namespace lathe
