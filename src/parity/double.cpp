// A model with every floating-point value in double.
#include <algorithm>

#include "base/fail.hpp"
#include "lathe/divergence.hpp"
#include "ops/operands.hpp"
#include "parity/net.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// What becomes double. Formats of 8 and 4 bits are codes, as bytes are: what makes and reads them says what they mean.
bool widens(DType t) { return t == DType::f32 || t == DType::f16 || t == DType::bf16; }

// The standard's numbers of these types.
constexpr int64_t kFloat = 1, kFloat16 = 10, kDouble = 11, kBfloat16 = 16;

int64_t number_of(DType t) { return t == DType::f16 ? kFloat16 : t == DType::bf16 ? kBfloat16 : t == DType::f64 ? kDouble : kFloat; }

Tensor widened(const Tensor& t) {
  if (t.composite() || !widens(t.dtype())) return t;
  return narrow<double>(DType::f64, t.shape(), widen<double>(t));
}

void widen_type(Type& type) {
  if (widens(type.dtype)) type.dtype = DType::f64;
  for (Type& inner : type.inner) widen_type(inner);
}

// Attributes that name a type, or hold numbers of one.
void widen_attributes(Node& node) {
  for (auto& [name, attribute] : node.attributes) {
    if (auto* number = std::get_if<int64_t>(&attribute.data)) {
      const bool type = name == "to" || name == "dtype" || name == "output_dtype" || name == "output_datatype" || name == "stash_type" ||
                        name == "softmax_precision";
      if (type && (*number == kFloat || *number == kFloat16 || *number == kBfloat16)) *number = kDouble;
    } else if (auto* tensor = std::get_if<Tensor>(&attribute.data); tensor && (node.op == "Constant" || node.op == "ConstantOfShape")) {
      *tensor = widened(*tensor);
    }
  }
  if (node.op == "SequenceEmpty" && !node.attributes.contains("dtype")) node.attributes["dtype"].data = kDouble;
  if (node.op == "ConstantOfShape" && !node.attributes.contains("value")) node.attributes["value"].data = Tensor::from<double>({1}, {0.0});
  if (node.op == "Constant" && node.domain.empty()) {
    for (const char* name : {"value_float", "value_floats"}) {
      const auto it = node.attributes.find(name);
      if (it == node.attributes.end()) continue;
      std::vector<double> numbers;
      Shape shape;
      if (const auto* one = std::get_if<float>(&it->second.data)) {
        numbers = {*one};
      } else if (const auto* many = std::get_if<std::vector<float>>(&it->second.data)) {
        numbers.assign(many->begin(), many->end());
        shape = {static_cast<int64_t>(many->size())};
      }
      node.attributes.erase(it);
      node.attributes["value"].data = Tensor::from<double>(shape, std::span<const double>(numbers));
      break;
    }
  }
}

class Widening {
 public:
  explicit Widening(Graph& graph) : g_(graph) {}

  void run() {
    for (Value& v : g_.values) {
      before_.push_back(v.dtype);
      if (widens(v.dtype)) v.dtype = DType::f64;
      if (v.constant) v.constant = widened(*v.constant);
      if (v.composite) {
        Type type = *v.composite;
        widen_type(type);
        v.composite = std::make_shared<const Type>(std::move(type));
      }
    }
    for (Default& d : g_.defaults) widen_type(d.declared);
    std::vector<Node> old = std::move(g_.nodes);
    g_.nodes.clear();
    for (Node& node : old) {
      node.each_subgraph([](const std::shared_ptr<Graph>& sub) { Widening(*sub).run(); });
      add(std::move(node));
    }
  }

 private:
  // The types of its outputs when it takes what the graph now holds; nothing: it does not.
  std::optional<std::vector<DType>> takes(const Node& node) const {
    const OpDef* def = find_op(node.domain, node.op, g_.version_of(node));
    if (def == nullptr) return std::nullopt;
    try {
      InferContext context(g_, node, static_cast<int>(g_.version_of(node)));
      if (def->statement) ops::check_statement(*def->statement, context);
      def->infer(context);
      std::vector<DType> types;
      for (const auto& r : context.results()) types.push_back(r.dtype);
      return types;
    } catch (const Error&) {
      return std::nullopt;
    }
  }

  void add(Node node) {
    if (node.has_subgraphs()) {
      g_.nodes.push_back(std::move(node));
      return;
    }
    Node wide = node;
    widen_attributes(wide);
    // What the users' own ops do with doubles is not known.
    const bool standard = node.domain.empty() || node.domain == "ai.onnx.ml";
    std::optional<std::vector<DType>> types = standard ? takes(wide) : std::nullopt;
    if (types) {
      node = std::move(wide);
    } else {
      for (ValueId& v : node.inputs) {
        if (v != kAbsent && widens(before(v))) v = cast(v, before(v), g_.values[static_cast<size_t>(v)].name);
      }
      types = takes(node);
    }
    // Outputs that stay narrow all the same are widened behind it.
    std::vector<std::pair<ValueId, ValueId>> narrow;
    for (size_t i = 0; i < node.outputs.size(); ++i) {
      const ValueId v = node.outputs[i];
      if (v == kAbsent || !widens(before(v))) continue;
      const DType made = types && i < types->size() && (*types)[i] != DType::undefined ? (*types)[i] : before(v);
      if (made == DType::f64 || !widens(made)) continue;
      const ValueId own = fresh(g_.values[static_cast<size_t>(v)].name, made, g_.values[static_cast<size_t>(v)].dims);
      narrow.emplace_back(own, v);
      node.outputs[i] = own;
    }
    g_.nodes.push_back(std::move(node));
    for (const auto& [from, to] : narrow) g_.nodes.push_back(cast_node(from, to, DType::f64));
  }

  DType before(ValueId v) const { return static_cast<size_t>(v) < before_.size() ? before_[static_cast<size_t>(v)] : DType::undefined; }

  ValueId fresh(const std::string& name, DType dtype, const std::optional<Dims>& dims) {
    Value value;
    value.name = fmt::format("{}/{}#{}", name, to_string(dtype), g_.values.size());
    value.dtype = dtype;
    value.dims = dims;
    return g_.add_value(std::move(value));
  }

  static Node cast_node(ValueId from, ValueId to, DType dtype) {
    Node n;
    n.op = "Cast";
    n.inputs = {from};
    n.outputs = {to};
    n.attributes["to"].data = number_of(dtype);
    return n;
  }

  ValueId cast(ValueId v, DType to, const std::string& name) {
    const std::optional<Dims> dims = g_.values[static_cast<size_t>(v)].dims;
    if (const auto& constant = g_.values[static_cast<size_t>(v)].constant) {
      const Tensor exact = lathe::narrow<double>(to, constant->shape(), widen<double>(*constant));
      const ValueId own = fresh(name, to, dims);
      g_.values[static_cast<size_t>(own)].constant = exact;
      return own;
    }
    const ValueId own = fresh(name, to, dims);
    g_.nodes.push_back(cast_node(v, own, to));
    return own;
  }

  Graph& g_;
  std::vector<DType> before_;
};

// Types of the values inside subgraphs that no one declares: which nodes take doubles depends on what they read. Sizes are left open, for
// those that are declared may be one trip's.
void type_bodies(Graph& around) {
  for (Node& node : around.nodes) {
    node.each_subgraph([&](const std::shared_ptr<Graph>& sub) {
      Graph scope = *sub;
      for (Value& v : scope.values) {
        if (!v.constant) v.dims.reset();
      }
      for (const ValueId free : free_values(scope)) {
        Value& v = scope.values[static_cast<size_t>(free)];
        const auto it = std::ranges::find(node.captures, v.name, &Capture::name);
        if (it != node.captures.end()) parting::take_type(v, around, it->value);
      }
      parting::take_carried_types(scope, scope.inputs.size(), around, node);
      try {
        infer(scope);
      } catch (const Error&) {  // what was found up to there is of use; the whole is inferred again once it is in double
      }
      for (size_t v = 0; v < sub->values.size(); ++v) {
        Value& to = sub->values[v];
        if (to.dtype != DType::undefined || to.composite) continue;
        to.dtype = scope.values[v].dtype;
        to.composite = scope.values[v].composite;
      }
      type_bodies(*sub);
    });
  }
}

}  // namespace

namespace parting {

void take_type(Value& v, const Graph& around, ValueId outer) {
  if (outer == kAbsent || v.dtype != DType::undefined || v.composite) return;
  v.dtype = around.values[static_cast<size_t>(outer)].dtype;
  v.composite = around.values[static_cast<size_t>(outer)].composite;
}

void take_carried_types(Graph& body, size_t inputs, const Graph& around, const Node& node) {
  if (!node.domain.empty() || (node.op != "Loop" && node.op != "Scan")) return;
  for (size_t i = 0; i < std::min(inputs, node.inputs.size()); ++i)
    take_type(body.values[static_cast<size_t>(body.inputs[i])], around, node.inputs[i]);
}

}  // namespace parting

Graph in_double(const Graph& graph) {
  Graph g = std::move(*deep_copy(graph));
  inline_functions(g);
  g.functions.clear();
  type_bodies(g);
  Widening(g).run();
  infer(g);
  return g;
}

}  // namespace lathe
