#include "forms.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <utility>

namespace lathe::networks {
namespace {

// Nodes are written anew, one after another, into a copy of the graph.
class Rewriting {
 public:
  explicit Rewriting(Graph& graph) : g(graph) { nodes_.swap(g.nodes); }
  ~Rewriting() = default;
  std::vector<Node>& old() { return nodes_; }
  void keep(Node n) { g.nodes.push_back(std::move(n)); }
  ValueId value(const std::string& name, DType dtype) {
    Value v;
    v.name = name + "." + std::to_string(++made_);
    v.dtype = dtype;
    return g.add_value(std::move(v));
  }
  ValueId constant(const std::string& name, Tensor t) {
    const ValueId v = value(name, t.dtype());
    g.values[v].dims = Dims(t.shape().begin(), t.shape().end());
    g.values[v].constant = std::move(t);
    return v;
  }
  std::vector<ValueId> put(const std::string& op, std::vector<ValueId> inputs, const std::vector<DType>& outputs,
                           std::map<std::string, Attribute> attributes = {}) {
    Node n;
    n.op = op;
    n.name = op + "." + std::to_string(++made_);
    n.inputs = std::move(inputs);
    for (DType d : outputs) n.outputs.push_back(value(n.name, d));
    n.attributes = std::move(attributes);
    g.nodes.push_back(n);
    return n.outputs;
  }
  ValueId one(const std::string& op, std::vector<ValueId> inputs, DType dtype, std::map<std::string, Attribute> attributes = {}) {
    return put(op, std::move(inputs), {dtype}, std::move(attributes))[0];
  }
  ValueId cast(ValueId v, DType to) {
    constexpr int64_t kF32 = 1, kF16 = 10, kBF16 = 16;
    Attribute number;
    number.data = to == DType::f32 ? kF32 : to == DType::f16 ? kF16 : kBF16;
    return one("Cast", {v}, to, {{"to", number}});
  }
  // The node that makes an output of the graph keeps its name.
  void finish_as(ValueId made, ValueId result) {
    for (Node& n : g.nodes) std::replace(n.outputs.begin(), n.outputs.end(), made, result);
  }
  const Tensor* tensor(ValueId v) const { return v != kAbsent && g.values[v].constant ? &*g.values[v].constant : nullptr; }

  Graph& g;

 private:
  std::vector<Node> nodes_;
  int made_ = static_cast<int>(g.values.size());  // names differ from those of a rewriting before this one
};

void forget_types(Graph& g) {
  std::set<ValueId> known(g.inputs.begin(), g.inputs.end());
  for (size_t v = 0; v < g.values.size(); ++v) {
    if (g.values[v].constant || known.contains(static_cast<ValueId>(v))) continue;
    g.values[v].dtype = DType::undefined;
    g.values[v].dims.reset();
  }
}

// Constants that nobody reads any more would be written with the model all the same.
void drop_unread(Graph& g) {
  const auto readers = g.consumers();
  for (size_t v = 0; v < g.values.size(); ++v) {
    if (readers[v].empty() && std::ranges::find(g.outputs, static_cast<ValueId>(v)) == g.outputs.end()) g.values[v].constant.reset();
  }
}

// Normalisations are folded into convolutions before a net is quantised.
void fold_normalisations(Graph& g) {
  Rewriting r(g);
  std::map<ValueId, size_t> conv_of;
  for (Node& n : r.old()) {
    const auto at = n.op == "BatchNormalization" ? conv_of.find(n.inputs[0]) : conv_of.end();
    if (at == conv_of.end()) {
      if (n.op == "Conv") conv_of[n.outputs[0]] = g.nodes.size();
      r.keep(std::move(n));
      continue;
    }
    const auto p = [&](size_t i) { return r.tensor(n.inputs[i])->as<float>(); };
    const Tensor& w = *r.tensor(g.nodes[at->second].inputs[1]);
    Tensor folded(DType::f32, w.shape()), bias(DType::f32, {w.shape()[0]});
    const int64_t each = w.size() / w.shape()[0];
    const Tensor* own = g.nodes[at->second].inputs.size() > 2 ? r.tensor(g.nodes[at->second].inputs[2]) : nullptr;
    for (int64_t f = 0; f < w.shape()[0]; ++f) {
      const float factor = p(1)[f] / std::sqrt(p(4)[f] + n.real("epsilon", 1e-5f));
      for (int64_t i = 0; i < each; ++i) folded.as<float>()[f * each + i] = w.as<float>()[f * each + i] * factor;
      bias.as<float>()[f] = p(2)[f] + ((own ? own->as<float>()[f] : 0) - p(3)[f]) * factor;
    }
    const ValueId weights = r.constant("folded", std::move(folded)), biases = r.constant("bias", std::move(bias));
    Node& conv = g.nodes[at->second];
    conv.inputs[1] = weights;
    conv.inputs.resize(2);
    conv.inputs.push_back(biases);
    conv.outputs = n.outputs;
  }
}

// i8 weights with one scale, or one for each entry of an axis.
struct Narrowed {
  Tensor numbers, scales;
};
Narrowed narrowed(const Tensor& w, int64_t axis) {
  const int64_t count = axis < 0 ? 1 : w.shape()[axis];
  int64_t inner = 1;
  for (int64_t d = axis + 1; axis >= 0 && d < w.rank(); ++d) inner *= w.shape()[d];
  std::vector<float> most(count, 1e-8f);
  const auto of = [&](int64_t i) { return axis < 0 ? 0 : i / inner % count; };
  for (int64_t i = 0; i < w.size(); ++i) most[of(i)] = std::max(most[of(i)], std::fabs(w.as<float>()[i]));
  Narrowed n{Tensor(DType::i8, w.shape()), Tensor(DType::f32, axis < 0 ? Shape{} : Shape{count})};
  for (int64_t k = 0; k < count; ++k) n.scales.as<float>()[k] = most[k] / 127;
  for (int64_t i = 0; i < w.size(); ++i)
    n.numbers.as<int8_t>()[i] = static_cast<int8_t>(std::nearbyint(w.as<float>()[i] / n.scales.as<float>()[of(i)]));
  return n;
}

Tensor turned(const Tensor& w) {
  Tensor t(DType::f32, {w.shape()[1], w.shape()[0]});
  for (int64_t i = 0; i < w.shape()[0]; ++i) {
    for (int64_t j = 0; j < w.shape()[1]; ++j) t.as<float>()[j * w.shape()[0] + i] = w.as<float>()[i * w.shape()[1] + j];
  }
  return t;
}

bool by_constant(const Rewriting& r, const Node& n) {
  const Tensor* w = n.inputs.size() > 1 ? r.tensor(n.inputs[1]) : nullptr;
  return w && (n.op == "Conv" || (n.op == "MatMul" && w->rank() == 2) || n.op == "Gemm");
}

}  // namespace

Graph halved(Graph g, DType to, bool casts) {
  std::set<ValueId> wide;  // sizes and scales of Resize stay what they are
  for (const Node& n : g.nodes) {
    if (n.op == "Resize" && n.inputs.size() > 2) wide.insert(n.inputs[2]);
  }
  for (size_t i = 0; i < g.values.size(); ++i) {
    Value& v = g.values[i];
    if (v.dtype != DType::f32 || wide.contains(static_cast<ValueId>(i))) continue;
    v.dtype = to;
    if (!v.constant) continue;
    Tensor narrow(to, v.constant->shape());
    for (int64_t k = 0; k < narrow.size(); ++k)
      static_cast<uint16_t*>(narrow.data())[k] = static_cast<uint16_t>(encode_narrow(to, v.constant->as<float>()[k]));
    v.constant = std::move(narrow);
  }
  if (casts) {
    Rewriting r(g);
    std::map<ValueId, ValueId> inside;
    for (ValueId v : g.inputs) {
      if (g.values[v].dtype != to) continue;
      g.values[v].dtype = DType::f32;
      inside[v] = r.cast(v, to);
    }
    for (Node& n : r.old()) {
      for (ValueId& v : n.inputs) v = inside.contains(v) ? inside[v] : v;
      r.keep(std::move(n));
    }
    for (ValueId& v : g.outputs) {
      if (g.values[v].dtype != to) continue;
      const ValueId inner = std::exchange(v, r.cast(v, DType::f32));
      std::swap(g.values[inner].name, g.values[v].name);
    }
  }
  drop_unread(g);
  forget_types(g);
  infer(g);
  return g;
}

Graph dynamically_quantised(Graph g) {
  fold_normalisations(g);
  Rewriting r(g);
  std::map<ValueId, std::vector<ValueId>> quantised;  // of an activation: bytes, scale, zero point
  for (Node& n : r.old()) {
    if (!by_constant(r, n)) {
      r.keep(std::move(n));
      continue;
    }
    const bool convolves = n.op == "Conv";
    auto& x = quantised[n.inputs[0]];
    if (x.empty()) x = r.put("DynamicQuantizeLinear", {n.inputs[0]}, {DType::u8, DType::f32, DType::u8});
    const Tensor held = *r.tensor(n.inputs[1]);
    const Narrowed w = narrowed(n.op == "Gemm" && n.integer("transB", 0) ? turned(held) : held, -1);
    const ValueId numbers = r.constant("weights", w.numbers), scale = r.constant("scale", w.scales),
                  zero = r.constant("zero", Tensor::from<int8_t>({}, {0}));
    const ValueId sums = r.one(convolves ? "ConvInteger" : "MatMulInteger", {x[0], numbers, x[2], zero}, DType::i32,
                               convolves ? n.attributes : std::map<std::string, Attribute>());
    ValueId y = r.one("Mul", {r.cast(sums, DType::f32), r.one("Mul", {x[1], scale}, DType::f32)}, DType::f32);
    if (n.inputs.size() > 2) {
      const Tensor bias = *r.tensor(n.inputs[2]);
      Shape along{1, bias.size()};
      if (convolves) along.insert(along.end(), held.rank() - 2, 1);
      y = r.one("Add", {y, convolves ? r.constant("bias", bias.reshaped(along)) : n.inputs[2]}, DType::f32);
    }
    r.finish_as(y, n.outputs[0]);
  }
  drop_unread(g);
  forget_types(g);
  infer(g);
  return g;
}

Graph weights_quantised(Graph g, int bits) {
  NarrowOptions how{.weights = bits == 8 ? DType::i8 : DType::i4, .block = bits == 8 ? 0 : 32, .least = 1, .leave = {}};
  bool any = false;
  for (const Node& n : g.nodes) {
    const bool product = (n.op == "MatMul" || n.op == "Gemm") && g.values[n.inputs[1]].constant;
    any = any || product;
    if (!product) how.leave.push_back(n.name);
  }
  if (any) narrow_model(g, how);
  return g;
}

Graph quantised(Graph g) {
  fold_normalisations(g);
  forget_types(g);
  infer(g);
  const std::set<std::string> ops{"Conv",   "MatMul", "Gemm",  "Add", "MaxPool", "AveragePool", "GlobalAveragePool",
                                  "Concat", "Mul",    "Resize"};
  // What is quantised: what these ops read and give, but for what a clamp follows.
  std::set<ValueId> wanted;
  const auto readers = g.consumers();
  const auto clamped = [&](ValueId v) {
    return readers[v].size() == 1 && (g.nodes[readers[v][0]].op == "Relu" || g.nodes[readers[v][0]].op == "Clip");
  };
  const auto want = [&](ValueId v) {
    if (v != kAbsent && !g.values[v].constant && g.values[v].dtype == DType::f32 && !clamped(v)) wanted.insert(v);
  };
  std::set<ValueId> given;
  for (const Node& n : g.nodes) {
    const bool one = ops.contains(n.op) || ((n.op == "Relu" || n.op == "Clip") && given.contains(n.inputs[0]));
    if (!one) continue;
    if (ops.contains(n.op)) {
      for (ValueId v : n.inputs) want(v);
    }
    want(n.outputs[0]);
    given.insert(n.outputs[0]);
  }
  // Their ranges.
  Graph traced = g;
  traced.outputs.assign(wanted.begin(), wanted.end());
  std::erase_if(traced.outputs, [&](ValueId v) { return std::ranges::find(g.inputs, v) != g.inputs.end(); });
  const std::vector<ValueId> made = traced.outputs;
  const Program p = compile(std::move(traced), {.fuse = false});
  const auto inputs = random_inputs(p, p.bound_shapes(), 1);
  Lane lane(p);
  const Outputs results = lane.run(std::span<const Tensor>(inputs));
  std::map<ValueId, std::pair<float, float>> ranges;
  const auto learn = [&](ValueId v, const Tensor& t) {
    auto& [low, high] = ranges[v];
    for (float e : t.as<float>()) low = std::min(low, e), high = std::max(high, e);
  };
  for (size_t i = 0; i < made.size(); ++i) learn(made[i], results[i]);
  for (size_t i = 0; i < g.inputs.size(); ++i) {
    if (wanted.contains(g.inputs[i])) learn(g.inputs[i], inputs[i]);
  }

  Rewriting r(g);
  std::map<ValueId, ValueId> through;  // what readers read instead
  std::map<ValueId, float> scales;     // of what they read
  const auto pass = [&](ValueId v) {
    if (!wanted.contains(v)) return;
    const auto [low, high] = ranges[v];
    const float scale = std::max((high - low) / 255, 1e-8f);
    const ValueId s = r.constant("scale", Tensor::from<float>({}, {scale})),
                  z = r.constant("zero",
                                 Tensor::from<uint8_t>({}, {static_cast<uint8_t>(std::clamp(std::nearbyint(-low / scale), 0.0f, 255.0f))}));
    through[v] = r.one("DequantizeLinear", {r.one("QuantizeLinear", {v, s, z}, DType::u8), s, z}, DType::f32);
    scales[through[v]] = scale;
  };
  for (ValueId v : g.inputs) pass(v);
  const std::set<ValueId> outputs(g.outputs.begin(), g.outputs.end());
  for (Node& n : r.old()) {
    for (ValueId& v : n.inputs) v = v != kAbsent && through.contains(v) ? through[v] : v;
    if (by_constant(r, n) && scales.contains(n.inputs[0])) {
      const int64_t axis = n.op == "Conv" || n.integer("transB", 0) != 0 ? 0 : 1;
      const Narrowed w = narrowed(*r.tensor(n.inputs[1]), axis);
      Attribute along;
      along.data = axis;
      const ValueId s = r.constant("scales", w.scales);
      n.inputs[1] = r.one("DequantizeLinear", {r.constant("weights", w.numbers), s}, DType::f32, {{"axis", along}});
      if (n.inputs.size() > 2) {
        const Tensor bias = *r.tensor(n.inputs[2]);
        Tensor numbers(DType::i32, bias.shape()), steps(DType::f32, bias.shape());
        for (int64_t k = 0; k < bias.size(); ++k) {
          steps.as<float>()[k] = scales[n.inputs[0]] * w.scales.as<float>()[k];
          numbers.as<int32_t>()[k] = static_cast<int32_t>(std::nearbyint(bias.as<float>()[k] / steps.as<float>()[k]));
        }
        along.data = int64_t{0};
        n.inputs[2] = r.one("DequantizeLinear", {r.constant("bias", numbers), r.constant("steps", steps)}, DType::f32, {{"axis", along}});
      }
    }
    const ValueId out = n.outputs[0];
    r.keep(std::move(n));
    if (!outputs.contains(out)) pass(out);
  }
  drop_unread(g);
  forget_types(g);
  infer(g);
  return g;
}

}  // namespace lathe::networks
