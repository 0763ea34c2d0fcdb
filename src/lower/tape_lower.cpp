// Elementwise nodes to tapes, and epilogues.
#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>
#include <map>
#include <unordered_map>

#include "base/fail.hpp"
#include "kernels/tape.hpp"
#include "lower/lowering.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {

using kernels::Tape;
using kernels::TapeOp;
using kernels::TapeOperand;

namespace {

constexpr size_t kMaxSteps = 64;

const std::unordered_map<std::string, TapeOp> kUnary{{"Neg", TapeOp::neg},
                                                     {"Abs", TapeOp::abs},
                                                     {"Sqrt", TapeOp::sqrt},
                                                     {"Reciprocal", TapeOp::reciprocal},
                                                     {"Exp", TapeOp::exp},
                                                     {"Log", TapeOp::log},
                                                     {"Tanh", TapeOp::tanh},
                                                     {"Sigmoid", TapeOp::sigmoid},
                                                     {"Erf", TapeOp::erf},
                                                     {"Floor", TapeOp::floor},
                                                     {"Ceil", TapeOp::ceil},
                                                     {"Round", TapeOp::round},
                                                     {"Sign", TapeOp::sign},
                                                     {"Relu", TapeOp::relu},
                                                     {"LeakyRelu", TapeOp::leaky_relu},
                                                     {"Elu", TapeOp::elu},
                                                     {"Celu", TapeOp::celu},
                                                     {"Selu", TapeOp::selu},
                                                     {"Softplus", TapeOp::softplus},
                                                     {"Softsign", TapeOp::softsign},
                                                     {"HardSigmoid", TapeOp::hard_sigmoid},
                                                     {"HardSwish", TapeOp::hard_swish},
                                                     {"Mish", TapeOp::mish},
                                                     {"Gelu", TapeOp::gelu},
                                                     {"ThresholdedRelu", TapeOp::threshold},
                                                     {"Not", TapeOp::logical_not}};

const std::unordered_map<std::string, TapeOp> kBinary{{"Add", TapeOp::add},         {"Sub", TapeOp::sub},
                                                      {"Mul", TapeOp::mul},         {"Div", TapeOp::div},
                                                      {"Pow", TapeOp::pow},         {"PRelu", TapeOp::prelu},
                                                      {"Less", TapeOp::less},       {"LessOrEqual", TapeOp::less_equal},
                                                      {"Greater", TapeOp::greater}, {"GreaterOrEqual", TapeOp::greater_equal},
                                                      {"Equal", TapeOp::equal},     {"And", TapeOp::logical_and},
                                                      {"Or", TapeOp::logical_or},   {"Xor", TapeOp::logical_xor}};

const std::unordered_map<std::string, TapeOp> kVariadic{
    {"Sum", TapeOp::add}, {"Max", TapeOp::max}, {"Min", TapeOp::min}, {"Mean", TapeOp::add}};

bool is_byte(DType d) { return d == DType::u8 || d == DType::i8; }
bool tape_dtype(DType d) { return d == DType::f32 || d == DType::boolean || is_byte(d); }

kernels::TapeType tape_type(DType d) {
  return d == DType::boolean ? kernels::TapeType::boolean
         : d == DType::u8    ? kernels::TapeType::u8
         : d == DType::i8    ? kernels::TapeType::i8
                             : kernels::TapeType::f32;
}

bool constant_here(const Graph& g, ValueId v) { return v != kAbsent && g.values[v].constant && g.values[v].constant->data() != nullptr; }

// Scale and zero point of a QuantizeLinear or DequantizeLinear between f32 and bytes, when both are constants: one for all, or one along an
// axis. `scale` has the shape in which it is broadcast.
struct Quantisation {
  Tensor scale, zero;
  bool is_signed = false;
};
std::optional<Quantisation> quantisation(const Graph& g, const Node& n) {
  const bool to_bytes = n.op == "QuantizeLinear";
  const Value &x = g.values[n.inputs[0]], &y = g.values[n.outputs[0]];
  const DType bytes = to_bytes ? y.dtype : x.dtype;
  if (!is_byte(bytes) || (to_bytes ? x.dtype : y.dtype) != DType::f32 || !constant_here(g, n.inputs[1])) return std::nullopt;
  Quantisation q;
  q.scale = *g.values[n.inputs[1]].constant;
  if (q.scale.dtype() != DType::f32 || q.scale.rank() > 1) return std::nullopt;
  const bool given = n.inputs.size() > 2 && n.inputs[2] != kAbsent;
  if (given && !constant_here(g, n.inputs[2])) return std::nullopt;
  std::vector<double> zero(static_cast<size_t>(q.scale.size()), 0);
  if (given) zero = widen<double>(*g.values[n.inputs[2]].constant);
  if (static_cast<int64_t>(zero.size()) != q.scale.size()) return std::nullopt;
  q.is_signed = bytes == DType::i8;
  const Shape shape = *known_shape(x.dims);
  Shape lies;  // along the axis
  if (q.scale.size() != 1) {
    const int64_t axis = ops::wrap_axis(n.integer("axis", 1), static_cast<int64_t>(shape.size()));
    if (shape[axis] != q.scale.size()) return std::nullopt;
    // The tape adds one zero point after rounding.
    if (to_bytes && std::ranges::any_of(zero, [&](double z) { return z != zero[0]; })) return std::nullopt;
    lies.assign(shape.size() - static_cast<size_t>(axis), 1);
    lies[0] = shape[axis];
  }
  q.scale = q.scale.reshaped(lies);
  q.zero = narrow<double>(DType::f32, lies, zero);
  return q;
}

// Low and high of a Clip whose bounds are attributes or constants; nothing when one is made at run time.
std::optional<std::pair<float, float>> clip_bounds(const Graph& g, const Node& n) {
  constexpr float kInfinity = std::numeric_limits<float>::infinity();
  if (n.inputs.size() == 1) return std::pair{n.real("min", -kInfinity), n.real("max", kInfinity)};
  std::pair<float, float> bounds{-kInfinity, kInfinity};
  for (size_t i = 1; i < n.inputs.size(); ++i) {
    if (n.inputs[i] == kAbsent) continue;
    if (!constant_here(g, n.inputs[i])) return std::nullopt;
    (i == 1 ? bounds.first : bounds.second) = static_cast<float>(widen<double>(*g.values[n.inputs[i]].constant).at(0));
  }
  return bounds;
}

}  // namespace

kernels::TapeType type_of_source(Lowering& l, const TapeSource& s) {
  return tape_type(s.value != kAbsent ? l.dtype(s.value) : s.constant.dtype());
}

bool tapeable(const Graph& g, const Node& n) {
  if (!n.domain.empty() || n.outputs.empty() || n.outputs[0] == kAbsent) return false;
  for (size_t i = 1; i < n.outputs.size(); ++i) {
    if (n.outputs[i] != kAbsent) return false;
  }
  const auto known = [&](ValueId v) { return tape_dtype(g.values[v].dtype) && known_shape(g.values[v].dims); };
  if (!known(n.outputs[0])) return false;
  for (ValueId v : n.inputs) {
    if (v != kAbsent && !known(v)) return false;
  }
  // Every operand is read at the indices of the result: it must broadcast to it. (A bound of Clip may be one element of a higher rank.)
  const Shape out = *known_shape(g.values[n.outputs[0]].dims);
  for (ValueId v : n.inputs) {
    if (v == kAbsent || n.op == "BatchNormalization") continue;
    if (n.op.ends_with("uantizeLinear") && v != n.inputs[0]) continue;  // these lie along an axis
    const Shape s = *known_shape(g.values[v].dims);
    if (s.size() > out.size()) return false;
    for (size_t i = 0; i < s.size(); ++i) {
      if (s[i] != 1 && s[i] != out[out.size() - s.size() + i]) return false;
    }
  }
  const auto in = [&](size_t i) { return g.values[n.inputs[i]].dtype; };
  // Before version 7 an axis says how the second input lies against the first.
  if (n.attributes.contains("axis") && kBinary.contains(n.op)) return false;
  if (n.op == "PRelu" && g.version_of(n) < 7) return false;  // its slopes lie along the channels
  if (kUnary.contains(n.op)) return n.op == "Not" || in(0) == DType::f32;
  if (n.op == "Clip") return in(0) == DType::f32;
  if (kVariadic.contains(n.op)) return in(0) == DType::f32 && n.inputs.size() <= 8;
  if (n.op == "Where") return in(1) == DType::f32 && g.values[n.outputs[0]].dtype == DType::f32;
  if (n.op == "Cast") {
    const DType from = in(0), to = g.values[n.outputs[0]].dtype;
    return is_byte(to) ? from == DType::boolean || from == to : is_byte(from) ? to == DType::f32 : true;
  }
  if (n.op == "QuantizeLinear" || n.op == "DequantizeLinear") return quantisation(g, n).has_value();
  if (n.op == "BatchNormalization") {
    if (n.integer("training_mode", 0) != 0 || (g.version_of(n) < 7 && !n.integer("is_test", 0)) || in(0) != DType::f32) return false;
    for (size_t i = 1; i < 5; ++i) {
      if (!constant_here(g, n.inputs[i])) return false;
    }
    return known_shape(g.values[n.inputs[0]].dims)->size() >= 2;
  }
  if (kBinary.contains(n.op))
    return in(0) == in(1) && (in(0) == DType::f32 || n.op == "Equal" || n.op == "And" || n.op == "Or" || n.op == "Xor");
  return false;
}

namespace {

// Steps over virtual registers: sources first come, temporaries after.
class TapeMaker {
 public:
  explicit TapeMaker(const Graph& g) : graph_(g) {}

  int source(ValueId v) {
    const auto it = registers_.find(v);
    if (it != registers_.end()) return it->second;
    sources_.push_back({v, {}});
    kinds_.push_back(static_cast<int>(sources_.size()) - 1);
    return registers_[v] = static_cast<int>(kinds_.size()) - 1;
  }
  int source(Tensor t) {
    sources_.push_back({kAbsent, std::move(t)});
    kinds_.push_back(static_cast<int>(sources_.size()) - 1);
    return static_cast<int>(kinds_.size()) - 1;
  }
  int scalar(float v) { return source(Tensor::from<float>({}, {v})); }
  int put(TapeOp op, int a, int b = -1, int c = -1, float p = 0, float q = 0) {
    kinds_.push_back(-1);
    steps_.push_back({op, static_cast<int>(kinds_.size()) - 1, {a, b, c}, p, q});
    return steps_.back().out;
  }

  void node(const Node& n) {
    const auto in = [&](size_t i) { return source(n.inputs[i]); };
    int out = -1;
    if (const auto u = kUnary.find(n.op); u != kUnary.end()) {
      TapeOp op = u->second;
      float p = 0, q = 0;
      if (n.op == "LeakyRelu") p = n.real("alpha", 0.01f);
      if (n.op == "Elu" || n.op == "Celu" || n.op == "ThresholdedRelu") p = n.real("alpha", 1);
      if (n.op == "Selu") p = n.real("alpha", 1.67326319217681884765625f), q = n.real("gamma", 1.05070102214813232421875f);
      if (n.op == "HardSigmoid") p = n.real("alpha", 0.2f), q = n.real("beta", 0.5f);
      if (n.op == "Gelu" && n.text("approximate", "none") == "tanh") op = TapeOp::gelu_tanh;
      out = put(op, in(0), -1, -1, p, q);
    } else if (const auto b = kBinary.find(n.op); b != kBinary.end()) {
      out = put(b->second, in(0), in(1));
    } else if (const auto v = kVariadic.find(n.op); v != kVariadic.end()) {
      // A sum for a mean is taken of operands made smaller by a power of two, so that it stays in range where the mean does.
      const bool mean = n.op == "Mean" && n.inputs.size() > 1;
      const float shrink = std::ldexp(1.0f, -static_cast<int>(std::bit_width(n.inputs.size() - 1)));
      const auto operand = [&](size_t i) { return mean ? put(TapeOp::mul, in(i), scalar(shrink)) : in(i); };
      out = operand(0);
      for (size_t i = 1; i < n.inputs.size(); ++i) out = put(v->second, out, operand(i));
      if (mean) out = put(TapeOp::div, out, scalar(static_cast<float>(n.inputs.size()) * shrink));
      if (n.inputs.size() == 1) out = put(TapeOp::copy, out);
    } else if (n.op == "Where") {
      out = put(TapeOp::where, in(0), in(1), in(2));
    } else if (n.op == "Cast") {
      const bool to_bool = graph_.values[n.outputs[0]].dtype == DType::boolean && graph_.values[n.inputs[0]].dtype == DType::f32;
      out = to_bool ? put(TapeOp::logical_not, put(TapeOp::logical_not, in(0))) : put(TapeOp::copy, in(0));
    } else if (n.op == "Clip") {
      out = clip(n);
    } else if (n.op == "DequantizeLinear") {
      const Quantisation q = *quantisation(graph_, n);
      out = in(0);
      if (std::ranges::any_of(q.zero.as<float>(), [](float z) { return z != 0; })) out = put(TapeOp::sub, out, source(q.zero));
      out = put(TapeOp::mul, out, source(q.scale));
    } else if (n.op == "QuantizeLinear") {
      const Quantisation q = *quantisation(graph_, n);
      out = put(q.is_signed ? TapeOp::quantise_i8 : TapeOp::quantise_u8, put(TapeOp::div, in(0), source(q.scale)), -1, -1,
                q.zero.as<float>()[0]);
    } else {  // BatchNormalization with constant parameters: x * scale + shift along axis 1
      const auto p = [&](size_t i) { return widen<double>(*graph_.values[n.inputs[i]].constant); };
      const auto gamma = p(1), beta = p(2), mean = p(3), variance = p(4);
      const size_t rank = known_shape(graph_.values[n.inputs[0]].dims)->size();
      std::vector<double> scale(gamma.size()), shift(gamma.size());
      for (size_t c = 0; c < gamma.size(); ++c) {
        scale[c] = gamma[c] / std::sqrt(variance[c] + n.real("epsilon", 1e-5f));
        shift[c] = beta[c] - mean[c] * scale[c];
      }
      Shape shape(rank, 1);
      shape[1] = static_cast<int64_t>(gamma.size());
      out = put(TapeOp::add, put(TapeOp::mul, in(0), source(narrow<double>(DType::f32, shape, scale))),
                source(narrow<double>(DType::f32, shape, shift)));
    }
    registers_[n.outputs[0]] = out;
  }

  std::optional<BuiltTape> finish(ValueId result) {
    // Registers to slots: sources keep theirs, temporaries share by lifetime.
    if (steps_.empty() || steps_.size() > kMaxSteps) return std::nullopt;
    std::vector<int> last(kinds_.size(), -1), slot(kinds_.size(), -1);
    for (size_t s = 0; s < steps_.size(); ++s) {
      for (int r : steps_[s].in) {
        if (r >= 0) last[r] = static_cast<int>(s);
      }
    }
    if (registers_.at(result) != steps_.back().out) return std::nullopt;
    BuiltTape out;
    for (size_t r = 0; r < kinds_.size(); ++r) slot[r] = kinds_[r];
    const int inputs = static_cast<int>(sources_.size());
    std::vector<int> free;
    int slots = inputs;
    for (size_t s = 0; s < steps_.size(); ++s) {
      const Virtual& v = steps_[s];
      // The output may take an input's slot: strips are read before they are written, element by element.
      for (int i = 0; i < 3; ++i) {
        const int r = v.in[i];
        const bool repeated = (i > 0 && v.in[0] == r) || (i > 1 && v.in[1] == r);
        if (r >= 0 && kinds_[r] < 0 && last[r] == static_cast<int>(s) && !repeated) free.push_back(slot[r]);
      }
      if (free.empty()) {
        slot[v.out] = slots++;
      } else {
        slot[v.out] = free.back();
        free.pop_back();
      }
      const auto at = [&](int r) { return static_cast<uint8_t>(r < 0 ? 0 : slot[r]); };
      out.tape.steps.push_back({v.op, at(v.out), at(v.in[0]), at(v.in[1]), at(v.in[2]), v.p, v.q});
    }
    if (slots > kernels::kMaxSlots) return std::nullopt;
    out.tape.inputs = inputs;
    out.tape.slots = slots;
    out.tape.result = out.tape.steps.back().out;
    out.sources = std::move(sources_);
    return out;
  }

 private:
  struct Virtual {
    TapeOp op;
    int out;
    int in[3];
    float p, q;
  };

  int clip(const Node& n) {
    int x = source(n.inputs[0]);
    if (const auto bounds = clip_bounds(graph_, n)) return put(TapeOp::clip, x, -1, -1, bounds->first, bounds->second);
    if (n.inputs[1] != kAbsent) x = put(TapeOp::max, x, source(n.inputs[1]));
    if (n.inputs.size() > 2 && n.inputs[2] != kAbsent) x = put(TapeOp::min, x, source(n.inputs[2]));
    return x;
  }

  const Graph& graph_;
  std::vector<TapeSource> sources_;
  std::vector<int> kinds_;  // per register: index of its source, or -1
  std::map<ValueId, int> registers_;
  std::vector<Virtual> steps_;
};

}  // namespace

std::optional<BuiltTape> build_tape(const Graph& graph, std::span<const int> nodes, ValueId head) {
  TapeMaker maker(graph);
  if (head != kAbsent) maker.source(head);
  for (int n : nodes) maker.node(graph.nodes[n]);
  return maker.finish(graph.nodes[nodes.back()].outputs[0]);
}

std::optional<std::pair<int64_t, int64_t>> matrix_strides(const Shape& shape, const Place& place, const Shape& out, Layout out_layout) {
  const auto order = physical_order(static_cast<int>(out.size()), out_layout);
  const auto dims = permuted(out, order), strides = permuted(operand_strides(shape, place, out), order);
  // All dims but the last must run together as one.
  int64_t row = 0, span = 0;
  bool any = false;
  for (int i = static_cast<int>(dims.size()) - 2; i >= 0; --i) {
    if (dims[i] == 1) continue;
    if (!any) {
      row = strides[i];
      span = row * dims[i];
      any = true;
    } else {
      if (strides[i] != span) return std::nullopt;
      span *= dims[i];
    }
  }
  return std::pair{row, dims.back() == 1 ? int64_t{0} : strides.back()};
}

std::optional<Epilogue> split_epilogue(const Graph& g, const Group& whole, int columns_axis) {
  const Group group{whole.anchor, {whole.from_anchor().begin(), whole.from_anchor().end()}};
  Epilogue e;
  const ValueId made = g.nodes[group.anchor].outputs[0];
  const Shape out = *known_shape(g.values[made].dims);
  ValueId head = made;
  size_t next = 1;
  // What may still come in registers: 0 bias, 1 residual, 2 clamp. The anchor's own third input takes its place.
  int stage = 0;
  if (const Node& anchor = g.nodes[group.anchor]; anchor.inputs.size() > 2 && anchor.inputs[2] != kAbsent) {
    if (anchor.op == "Gemm" && known_shape(g.values[anchor.inputs[2]].dims) == out) stage = 2;
    else if (!constant_here(g, anchor.inputs[2])) stage = 1;
  }
  const auto reader_count = [&](ValueId v) {
    int count = 0;
    for (size_t i = 1; i < group.nodes.size(); ++i) {
      const auto& in = g.nodes[group.nodes[i]].inputs;
      count += static_cast<int>(std::count(in.begin(), in.end(), v));
    }
    return count;
  };
  const auto say = [&](const char* part) { e.text += (e.text.empty() ? "" : " + ") + std::string(part); };
  for (; next < group.nodes.size(); ++next) {
    const Node& n = g.nodes[group.nodes[next]];
    // In registers there is one value: a head read twice (x * sigmoid(x)) goes to the tape.
    if (reader_count(head) != 1) break;
    if (n.op == "Add" && n.inputs.size() == 2 && stage < 2) {
      const ValueId other = n.inputs[0] == head ? n.inputs[1] : n.inputs[0];
      if (n.inputs[0] != head && n.inputs[1] != head) break;
      if (g.values[other].dtype != DType::f32) break;
      const Shape shape = *known_shape(g.values[other].dims);
      const bool vector = [&] {  // one element a column, nothing along the other dims
        if (element_count(shape) != out[columns_axis] || out[columns_axis] == 1) return false;
        const int from_end = static_cast<int>(out.size()) - columns_axis;
        return static_cast<int>(shape.size()) >= from_end && shape[shape.size() - from_end] == out[columns_axis];
      }();
      if (vector && stage == 0 && constant_here(g, other)) {
        e.bias = TapeSource{other, {}};
        stage = 1;
        say("bias");
      } else if (shape == out) {
        e.residual = other;
        stage = 2;
        say("residual");
      } else {
        break;
      }
    } else if ((n.op == "Relu" || n.op == "Clip") && n.inputs[0] == head) {
      const auto bounds = n.op == "Relu" ? std::optional(std::pair{0.0f, std::numeric_limits<float>::infinity()}) : clip_bounds(g, n);
      if (!bounds) break;
      e.clamp = true;
      e.low = bounds->first;
      e.high = bounds->second;
      say(n.op == "Relu" ? "relu" : "clip");
      head = n.outputs[0];
      ++next;
      break;
    } else {
      break;
    }
    head = n.outputs[0];
  }
  if (next < group.nodes.size()) {
    e.tape = build_tape(g, std::span<const int>(group.nodes).subspan(next), head);
    if (!e.tape) return std::nullopt;
    // Constants of the tape's own (a normalisation's, a scale along an axis) must lie along the matrix too: one stride from row to row.
    const Layout layout = columns_axis == 1 && out.size() > 2 ? Layout::channels_last : Layout::natural;
    for (size_t i = 1; i < e.tape->sources.size(); ++i) {
      const TapeSource& s = e.tape->sources[i];
      if (s.value == kAbsent && !matrix_strides(s.constant.shape(), {kNoBuffer, 0, Layout::natural}, out, layout)) return std::nullopt;
    }
    say("tape of");
    e.text += fmt::format(" {}", e.tape->tape.steps.size());
  }
  return e;
}

BoundEpilogue bind_epilogue(Lowering& l, const Epilogue& e, ValueId out, Layout layout, Step& step) {
  BoundEpilogue b;
  const Shape shape = l.shape(out);
  if (e.bias) {
    b.bias = e.bias->value != kAbsent ? l.place(e.bias->value, Layout::natural) : Place{l.constant_buffer(e.bias->constant)};
    b.has_bias = true;
    step.reads.push_back(b.bias.buffer);
  }
  if (e.residual != kAbsent) {
    b.residual = l.place_rows(e.residual, layout, b.residual_stride);
    b.has_residual = true;
    step.reads.push_back(b.residual.buffer);
  }
  b.clamp = e.clamp;
  b.low = e.low;
  b.high = e.high;
  if (e.tape) {
    b.tape = e.tape->tape;
    for (size_t i = 1; i < e.tape->sources.size(); ++i) {
      const TapeSource& s = e.tape->sources[i];
      const Shape operand = s.value != kAbsent ? l.shape(s.value) : s.constant.shape();
      Place at = s.value != kAbsent ? l.where_with_gaps(s.value) : Place{l.constant_buffer(s.constant)};
      auto strides = matrix_strides(operand, at, shape, layout);
      if (!strides) {  // its layout is not the output's: bring it there
        at = l.place(s.value, layout);
        strides = matrix_strides(operand, at, shape, layout);
        if (!strides) fail(Category::internal, "an epilogue operand of {} does not lie along {}", to_string(operand), to_string(shape));
      }
      b.places.push_back(at);
      b.row_strides.push_back(strides->first);
      b.column_strides.push_back(strides->second);
      b.types.push_back(type_of_source(l, s));
      step.reads.push_back(at.buffer);
    }
  }
  return b;
}

void BoundEpilogue::fill(const StepContext& c, int64_t column, kernels::DenseEpilogue& e, TapeOperand* operands) const {
  if (has_bias) e.bias = pointer<const float>(c, bias) + column;
  if (has_residual) {
    e.residual = pointer<const float>(c, residual) + column;
    e.residual_stride = residual_stride;
  }
  e.clamp = clamp;
  e.low = low;
  e.high = high;
  if (tape.steps.empty()) return;
  e.tape = &tape;
  e.operands = operands;
  e.row_strides = row_strides.data();
  for (size_t i = 0; i < places.size(); ++i) {
    operands[i] = {pointer<const char>(c, places[i]) + column * column_strides[i] * bytes_of(types[i]), column_strides[i], types[i]};
  }
}

// ---- tapes over rows ----

void join_dims(std::vector<int64_t>& dims, std::vector<std::vector<int64_t>>& strides) {
  std::vector<int64_t> joined;
  std::vector<std::vector<int64_t>> joined_strides(strides.size());
  for (size_t d = 0; d < dims.size(); ++d) {
    if (dims[d] == 1) continue;
    bool merges = !joined.empty();
    for (size_t i = 0; i < strides.size() && merges; ++i) merges = joined_strides[i].back() == strides[i][d] * dims[d];
    if (merges) joined.back() *= dims[d];
    else joined.push_back(dims[d]);
    for (size_t i = 0; i < strides.size(); ++i) {
      if (merges) joined_strides[i].back() = strides[i][d];
      else joined_strides[i].push_back(strides[i][d]);
    }
  }
  dims = std::move(joined);
  strides = std::move(joined_strides);
}

void RowTape::run(const StepContext& c, int64_t row, int64_t length, float* to, bool own) const {
  TapeOperand operands[kernels::kMaxSlots];
  if (own) operands[0] = {to, 1, kernels::TapeType::f32};
  for (size_t i = 0; i < places.size(); ++i) {
    const int64_t at = row_offset(dims, strides[i], row);
    operands[i + (own ? 1 : 0)] = {pointer<const char>(c, places[i]) + at * bytes_of(types[i]), strides[i].back(), types[i]};
  }
  run_tape(tape, operands, to, kernels::TapeType::f32, length);
}

RowTape bind_row_tape(Lowering& l, std::span<const int> nodes, ValueId head, const Shape& whole, Layout layout, Step& step) {
  RowTape t;
  auto built = build_tape(l.graph(), nodes, head);
  if (!built) fail(Category::internal, "a tape that was planned does not fit");
  t.run_tape = kernels::run_tape(l.options().isa);
  t.tape = built->tape;
  const auto order = physical_order(static_cast<int>(whole.size()), layout);
  t.dims = permuted(whole, order);
  t.dims.pop_back();
  for (size_t i = head == kAbsent ? 0 : 1; i < built->sources.size(); ++i) {
    const TapeSource& s = built->sources[i];
    const Shape operand = s.value != kAbsent ? l.shape(s.value) : s.constant.shape();
    Place at = s.value != kAbsent ? l.where_with_gaps(s.value) : Place{l.constant_buffer(s.constant)};
    if (s.value != kAbsent && at.layout != layout && operand == whole) at = l.place(s.value, layout);
    t.places.push_back(at);
    t.types.push_back(type_of_source(l, s));
    t.strides.push_back(permuted(operand_strides(operand, at, whole), order));
    step.reads.push_back(at.buffer);
    step.bytes += static_cast<double>(element_count(operand)) * static_cast<double>(bytes_of(t.types.back()));
  }
  // A division a dim for each row and operand: what runs together is counted together. Not along the row.
  std::vector<int64_t> along;
  for (auto& s : t.strides) {
    along.push_back(s.back());
    s.pop_back();
  }
  join_dims(t.dims, t.strides);
  for (size_t i = 0; i < along.size(); ++i) t.strides[i].push_back(along[i]);
  step.flops += static_cast<double>(element_count(whole)) * static_cast<double>(t.tape.steps.size());
  return t;
}

// ---- what comes before a product ----

void Prologue::make_all(const StepContext& c, int64_t rows) const {
  constexpr int64_t kTask = 16384;  // elements
  const int64_t each = std::max<int64_t>(1, kTask / std::max<int64_t>(1, length));
  float* to = pointer<float>(c, room);
  c.workers.each((rows + each - 1) / each, [&](int64_t task, int) { make(c, task * each, std::min(rows, (task + 1) * each), to); });
}

bool prologue_pays(int64_t rows, int64_t length) {
  // What any machine of today does: a call for a row, and bytes written and read again near and far.
  constexpr double kCall = 6e-9, kNear = 60e9, kFar = 12e9;
  const double bytes = 4.0 * static_cast<double>(rows * length);
  return 2 * bytes / (bytes > 1e6 ? kFar : kNear) > kCall * static_cast<double>(rows);
}

std::optional<Prologue> bind_prologue(Lowering& l, const Group& group, const Shape& whole, Layout layout, int64_t rows, const Split& split,
                                      Step& step) {
  if (group.ahead().empty()) return std::nullopt;
  Prologue p;
  p.tape = bind_row_tape(l, group.ahead(), kAbsent, whole, layout, step);
  const auto order = physical_order(static_cast<int>(whole.size()), layout);
  p.length = whole[order.back()];
  // Rows that the dense kernel reads where they are stand so far apart.
  p.pitch = p.length <= kernels::kNearStride - 16 ? kernels::kNearStride : p.length;
  const int64_t tile = kernels::max_rows(l.options().isa);
  const int64_t near_rows = std::max<int64_t>((int64_t{48} << 10) / p.pitch / tile, (8 + tile - 1) / tile) * tile;
  // Where panels are shared out, every task reads all rows.
  if (split.panel_tasks == 1) p.block = near_rows;
  const int64_t held = p.block > 0 ? split.row_tasks * p.block : rows;
  p.room = {l.scratch(static_cast<size_t>(held * p.pitch) * sizeof(float))};
  step.scratch.push_back(p.room.buffer);
  return p;
}

// ---- a tape as a step of its own ----

namespace {

class TapeKernel : public StepKernel {
 public:
  kernels::RunTape run_tape = nullptr;
  Tape tape;
  Place out;
  kernels::TapeType out_type = kernels::TapeType::f32;
  std::vector<Place> places;
  std::vector<kernels::TapeType> types;
  std::vector<int64_t> dims;                  // outer dims, then the inner one
  std::vector<std::vector<int64_t>> strides;  // per operand, per dim; the last is the result's
  int64_t rows = 1, chunks = 1, chunk = 0, rows_a_task = 1;

  int64_t offset(size_t operand, int64_t row, int64_t from) const {
    const auto& s = strides[operand];
    return row_offset(std::span(dims).first(dims.size() - 1), s, row) + from * s.back();
  }

  void run(const StepContext& c) const override {
    const int64_t inner = dims.back();
    const int64_t row_tasks = (rows + rows_a_task - 1) / rows_a_task;
    c.workers.each(row_tasks * chunks, [&](int64_t task, int) {
      const int64_t first = task / chunks * rows_a_task, last = std::min(rows, first + rows_a_task);
      const int64_t from = task % chunks * chunk, count = std::min(chunk, inner - from);
      TapeOperand operands[kernels::kMaxSlots];
      for (int64_t row = first; row < last; ++row) {
        for (size_t i = 0; i < places.size(); ++i)
          operands[i] = {pointer<const char>(c, places[i]) + offset(i, row, from) * bytes_of(types[i]), strides[i].back(), types[i]};
        run_tape(tape, operands, pointer<char>(c, out) + offset(places.size(), row, from) * bytes_of(out_type), out_type, count);
      }
    });
  }
};

}  // namespace

bool lower_tape(Lowering& l, const Group& group) {
  if (group.anchor >= 0) return false;
  const Graph& g = l.graph();
  for (int n : group.nodes) {
    if (!tapeable(g, g.nodes[n])) return false;
  }
  auto built = build_tape(g, group.nodes);
  if (!built) return false;
  const ValueId out = g.nodes[group.nodes.back()].outputs[0];
  const Shape shape = l.shape(out);
  const Layout layout = l.wanted(out);
  auto kernel = std::make_unique<TapeKernel>();
  Step step;
  step.kind = "tape";
  step.nodes = l.names(group);
  kernel->tape = built->tape;
  kernel->run_tape = kernels::run_tape(l.options().isa);
  kernel->out_type = tape_type(l.dtype(out));
  const auto order = physical_order(static_cast<int>(shape.size()), layout);
  const auto dims = permuted(shape, order);
  std::vector<std::vector<int64_t>> strides;
  for (const TapeSource& s : built->sources) {
    const Shape operand = s.value != kAbsent ? l.shape(s.value) : s.constant.shape();
    Place at = s.value != kAbsent ? l.where_with_gaps(s.value) : Place{l.constant_buffer(s.constant)};
    // A whole operand in the other layout would be gathered element by element: convert it once instead.
    if (s.value != kAbsent && operand == shape && (at.layout != layout || run_of(at, operand) < kShortRun)) at = l.place(s.value, layout);
    kernel->places.push_back(at);
    kernel->types.push_back(type_of_source(l, s));
    strides.push_back(permuted(operand_strides(operand, at, shape), order));
    step.reads.push_back(at.buffer);
    step.bytes += static_cast<double>(element_count(operand)) * static_cast<double>(bytes_of(kernel->types.back()));
    if (step.in_place == kNoBuffer && s.value != kAbsent && operand == shape && at.layout == layout && at.offset == 0 &&
        at.strides.empty() && kernel->out_type == kernels::TapeType::f32 && kernel->types.back() == kernels::TapeType::f32) {
      step.in_place = at.buffer;
    }
  }
  // Another operand may see the same memory at other indices (a view of it): then in place would be wrong.
  if (std::count(step.reads.begin(), step.reads.end(), step.in_place) > 1) step.in_place = kNoBuffer;
  kernel->out = l.define_with_gaps(out, layout, kShortRun);
  step.writes.push_back(kernel->out.buffer);
  if (l.is_part(out)) step.in_place = kNoBuffer;
  strides.push_back(permuted(strides_at(kernel->out, shape), order));
  kernel->dims = dims;
  kernel->strides = std::move(strides);
  join_dims(kernel->dims, kernel->strides);
  if (kernel->dims.empty()) {
    kernel->dims = {1};
    for (auto& s : kernel->strides) s = {0};
  }
  const int64_t total = element_count(shape), inner = kernel->dims.back();
  kernel->rows = inner ? total / inner : 0;
  constexpr int64_t kTask = 16384;  // elements a task: well above what it costs to hand one out
  kernel->chunk = kernel->rows >= l.options().threads ? std::max<int64_t>(1, inner) : std::min(std::max<int64_t>(1, inner), kTask);
  kernel->chunks = (inner + kernel->chunk - 1) / kernel->chunk;
  kernel->rows_a_task = std::max<int64_t>(1, kTask / std::max<int64_t>(1, kernel->chunk));
  if (total == 0) kernel->rows = kernel->chunks = 0;

  step.bytes += static_cast<double>(total) * static_cast<double>(bytes_of(kernel->out_type));
  step.flops = static_cast<double>(total) * static_cast<double>(built->tape.steps.size());
  step.recipe = fmt::format("tape of {} over {} rows of {}", built->tape.steps.size(), kernel->rows, inner);
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
