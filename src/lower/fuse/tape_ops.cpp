#include "lower/fuse/tape_ops.hpp"

#include <algorithm>
#include <limits>
#include <string>
#include <unordered_map>
#include <vector>

#include "lathe/op.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {

using kernels::TapeOp;

namespace {

using Table = std::unordered_map<std::string_view, TapeOp>;

const Table kUnary{{"Neg", TapeOp::neg},
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
                   {"Sin", TapeOp::sin},
                   {"Cos", TapeOp::cos},
                   {"Tan", TapeOp::tan},
                   {"Atan", TapeOp::atan},
                   {"Asin", TapeOp::asin},
                   {"Acos", TapeOp::acos},
                   {"Sinh", TapeOp::sinh},
                   {"Cosh", TapeOp::cosh},
                   {"Asinh", TapeOp::asinh},
                   {"Acosh", TapeOp::acosh},
                   {"Atanh", TapeOp::atanh},
                   {"Shrink", TapeOp::shrink},
                   {"BitwiseNot", TapeOp::bit_not},
                   {"IsNaN", TapeOp::is_nan},
                   {"IsInf", TapeOp::is_inf},
                   {"Not", TapeOp::logical_not}};

const Table kBinary{{"Add", TapeOp::add},
                    {"Sub", TapeOp::sub},
                    {"Mul", TapeOp::mul},
                    {"Div", TapeOp::div},
                    {"Pow", TapeOp::pow},
                    {"Mod", TapeOp::mod},
                    {"PRelu", TapeOp::prelu},
                    {"Less", TapeOp::less},
                    {"LessOrEqual", TapeOp::less_equal},
                    {"Greater", TapeOp::greater},
                    {"GreaterOrEqual", TapeOp::greater_equal},
                    {"Equal", TapeOp::equal},
                    {"And", TapeOp::logical_and},
                    {"Or", TapeOp::logical_or},
                    {"Xor", TapeOp::logical_xor},
                    {"BitwiseAnd", TapeOp::bit_and},
                    {"BitwiseOr", TapeOp::bit_or},
                    {"BitwiseXor", TapeOp::bit_xor},
                    {"BitShift", TapeOp::shift_left}};

const Table kVariadic{{"Sum", TapeOp::add}, {"Max", TapeOp::max}, {"Min", TapeOp::min}, {"Mean", TapeOp::add}};

std::optional<TapeOp> look_up(const Table& table, std::string_view op) {
  const auto it = table.find(op);
  return it == table.end() ? std::nullopt : std::optional(it->second);
}

bool is_byte(DType d) { return d == DType::u8 || d == DType::i8; }
// What a tape computes on exactly, and what it only converts from and to.
bool tape_dtype(DType d) { return d == DType::f32 || d == DType::boolean || is_byte(d); }
// Whole numbers that a tape computes on in wider ones, or, those without a sign of 64 bits, as if they had one.
bool other_whole(DType d) { return d == DType::i16 || d == DType::u16 || d == DType::u32 || d == DType::u64; }
bool converted_dtype(DType d) {
  return d == DType::f16 || d == DType::bf16 || d == DType::i32 || d == DType::i64 || d == DType::f64 || other_whole(d);
}

}  // namespace

std::optional<TapeOp> unary_tape_op(std::string_view op) { return look_up(kUnary, op); }
std::optional<TapeOp> binary_tape_op(std::string_view op) { return look_up(kBinary, op); }
std::optional<TapeOp> variadic_tape_op(std::string_view op) { return look_up(kVariadic, op); }

kernels::TapeType tape_type(DType d) {
  switch (d) {
    case DType::boolean: return kernels::TapeType::boolean;
    case DType::u8: return kernels::TapeType::u8;
    case DType::i8: return kernels::TapeType::i8;
    case DType::i16: return kernels::TapeType::i16;
    case DType::u16: return kernels::TapeType::u16;
    case DType::u32: return kernels::TapeType::u32;
    case DType::u64: return kernels::TapeType::u64;
    case DType::f16: return kernels::TapeType::f16;
    case DType::bf16: return kernels::TapeType::bf16;
    case DType::i32: return kernels::TapeType::i32;
    case DType::i64: return kernels::TapeType::i64;
    case DType::f64: return kernels::TapeType::f64;
    default: return kernels::TapeType::f32;
  }
}

kernels::TapeType compute_of(const Graph& g, const Node& n) {
  const auto type = [&](size_t i) { return tape_type(g.values[n.inputs[i]].dtype); };
  const auto wide = [](kernels::TapeType t) {
    return t == kernels::TapeType::f64 || t == kernels::TapeType::i32 || t == kernels::TapeType::i64;
  };
  if (n.op == "Cast" && tape_type(g.values[n.outputs[0]].dtype) == kernels::TapeType::f32) return kernels::TapeType::f32;
  const kernels::TapeType t = type(n.op == "Where" ? 1 : 0);
  if (n.op == "Cast") {
    const DType from = g.values[n.inputs[0]].dtype, to = g.values[n.outputs[0]].dtype;
    if ((to == DType::i32 || to == DType::i64) && (is_byte(from) || from == DType::i16 || from == DType::u16)) return tape_type(to);
  }
  if (t == kernels::TapeType::u32 || t == kernels::TapeType::u64) {  // which floats do not hold
    const bool to_double = n.op == "Cast" && g.values[n.outputs[0]].dtype == DType::f64;
    return to_double ? kernels::TapeType::f64 : kernels::TapeType::i64;
  }
  return wide(t) ? t : kernels::TapeType::f32;
}

bool ends_tape(const Graph& g, const Node& n) {
  const DType d = g.values[n.outputs[0]].dtype;
  // Cut off, and wrapped, when it is stored; the float in the tape is not.
  if (is_byte(d) && (n.op == "Add" || n.op == "Sub" || n.op == "Mul")) return true;
  if (n.op == "Cast" && is_byte(d) && g.values[n.inputs[0]].dtype != DType::boolean && g.values[n.inputs[0]].dtype != d) return true;
  if (compute_of(g, n) != kernels::TapeType::f32) return tape_type(d) != compute_of(g, n);
  return converted_dtype(d) && d != DType::f16 && d != DType::bf16;
}

bool constant_here(const Graph& g, ValueId v) { return v != kAbsent && g.values[v].constant && g.values[v].constant->data() != nullptr; }

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

std::optional<std::pair<float, float>> clip_bounds(const Graph& g, const Node& n) {
  constexpr float kInfinity = std::numeric_limits<float>::infinity();
  if (g.version_of(n) < 11) return std::pair{n.real("min", -kInfinity), n.real("max", kInfinity)};
  std::pair<float, float> bounds{-kInfinity, kInfinity};
  for (size_t i = 1; i < n.inputs.size(); ++i) {
    if (n.inputs[i] == kAbsent) continue;
    if (!constant_here(g, n.inputs[i])) return std::nullopt;
    (i == 1 ? bounds.first : bounds.second) = static_cast<float>(widen<double>(*g.values[n.inputs[i]].constant).at(0));
  }
  return bounds;
}

bool tapeable(const Graph& g, const Node& n) {
  if (!n.domain.empty() || n.outputs.empty() || n.outputs[0] == kAbsent) return false;
  for (size_t i = 1; i < n.outputs.size(); ++i) {
    if (n.outputs[i] != kAbsent) return false;
  }
  const bool cast = n.op == "Cast";
  const auto wide_dtype = [](DType d) { return d == DType::f64 || d == DType::i32 || d == DType::i64; };
  const auto known = [&](ValueId v) {
    const DType d = g.values[v].dtype;
    return (tape_dtype(d) || wide_dtype(d) || (cast && converted_dtype(d))) && known_shape(g.values[v].dims);
  };
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
  const DType d = n.inputs.empty() || n.inputs[0] == kAbsent ? DType::undefined : in(0), result = g.values[n.outputs[0]].dtype;
  const bool real = d == DType::f32 || d == DType::f64, number = d == DType::f32 || wide_dtype(d);
  if (kUnary.contains(n.op)) {
    if (n.op == "Not") return d == DType::boolean;
    if (n.op == "BitwiseNot") return d == DType::i32 || d == DType::i64;
    return real || (number && (n.op == "Neg" || n.op == "Abs" || n.op == "Sign" || n.op == "Relu"));
  }
  // Bytes are exact as floats; sums of them are cut to bytes when they are stored.
  const bool numeric = number || is_byte(d);
  if (n.op == "Clip") return numeric && (g.version_of(n) >= 11 || real);
  if (kVariadic.contains(n.op))
    return (n.op == "Max" || n.op == "Min" ? numeric : number) && n.inputs.size() <= 8 &&
           std::ranges::all_of(n.inputs, [&](ValueId v) { return g.values[v].dtype == d; });
  if (n.op == "Where") return in(1) == in(2) && (tape_dtype(in(1)) || wide_dtype(in(1))) && result == in(1) && d == DType::boolean;
  if (cast) {
    const DType from = in(0), to = g.values[n.outputs[0]].dtype;
    // A double or a large integer is not the float nearest to it: those that do not become one are converted by themselves.
    const bool half = from == DType::f16 || from == DType::bf16;
    if (to == DType::u64) return is_int(from);
    if (to == DType::f32) return true;
    if (from == DType::u64) return is_int(to) || to == DType::boolean || to == DType::f64;
    if (other_whole(from)) return true;
    if (is_byte(to)) return true;  // the last of its tape, but for what is a byte or a boolean before
    if (wide_dtype(from)) return wide_dtype(to) || other_whole(to) || to == DType::boolean || to == DType::f16 || to == DType::bf16;
    if (half) return converted_dtype(to) || to == DType::boolean;
    if (converted_dtype(to)) return from == DType::f32 || from == DType::boolean || is_byte(from);
    return is_byte(from) ? to == DType::boolean : true;
  }
  if (n.op == "QuantizeLinear" || n.op == "DequantizeLinear") return quantisation(g, n).has_value();
  if (n.op == "BatchNormalization") {
    if (n.integer("training_mode", 0) != 0 || (g.version_of(n) < 7 && !n.integer("is_test", 0)) || in(0) != DType::f32) return false;
    for (size_t i = 1; i < 5; ++i) {
      if (!constant_here(g, n.inputs[i])) return false;
    }
    return known_shape(g.values[n.inputs[0]].dims)->size() >= 2;
  }
  if (!kBinary.contains(n.op) || in(0) != in(1)) return false;
  const bool logic = n.op == "And" || n.op == "Or" || n.op == "Xor";
  if (logic) return d == DType::boolean;
  const bool whole = d == DType::i32 || d == DType::i64;
  if (n.op.starts_with("Bitwise") || n.op == "BitShift") return whole;
  if (n.op == "Equal") return number || tape_dtype(d);
  const bool compares = n.op.starts_with("Less") || n.op.starts_with("Greater"), sums = n.op == "Add" || n.op == "Sub" || n.op == "Mul";
  if (is_byte(d)) return compares || sums;
  if (!number) return false;
  if (n.op == "Mod" && real) return n.integer("fmod", 0) != 0;
  if (real) return true;
  if (n.op == "PRelu") return false;
  // A division by zero is an error of the run, which a tape cannot report.
  if ((n.op != "Div" && n.op != "Mod") || n.attributes.contains(ops::kDivisorsChecked)) return true;
  if (!constant_here(g, n.inputs[1])) return false;
  return std::ranges::none_of(widen<int64_t>(*g.values[n.inputs[1]].constant), [](int64_t v) { return v == 0; });
}

}  // namespace lathe::lower
