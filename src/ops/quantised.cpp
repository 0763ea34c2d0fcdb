// Quantisation: to and from integers and narrow floats, and arithmetic on quantised tensors.
// Source: the standard's pages of QuantizeLinear and its relatives. Rounding is to nearest, ties to even.
#include <algorithm>
#include <cmath>

#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"
#include "ops/window.hpp"
#include "tensor/numbers.hpp"

namespace lathe::ops {
namespace {

std::pair<double, double> range_of(DType d) {
  const int bits = bit_width(d);
  if (is_unsigned_int(d)) return {0, std::ldexp(1.0, bits) - 1};
  return {-std::ldexp(1.0, bits - 1), std::ldexp(1.0, bits - 1) - 1};
}

// Which scale belongs to each element: one for all, one along an axis, or one a block along it.
struct Grid {
  int64_t axis = 0, inner = 1, size = 1, block = 0;  // block 0: no blocks
  bool single = true;
  int64_t blocks = 1;
  int64_t at(int64_t i) const {
    if (single) return 0;
    const int64_t k = i / inner % size;
    if (block == 0) return k;
    return (i / (inner * size) * blocks + k / block) * inner + i % inner;
  }
};

Grid grid_of(const Node& node, const Shape& x, const Shape& scale) {
  Grid g;
  const auto scale_rank = static_cast<int64_t>(scale.size());
  if (element_count(scale) == 1 && scale_rank <= 1) return g;
  g.single = false;
  const int64_t rank = static_cast<int64_t>(x.size()), wanted = node.integer("axis", 1);
  g.axis = wrap_axis(wanted, rank);
  g.inner = strides_of(x)[g.axis];
  g.size = x[g.axis];
  if (scale_rank <= 1) {
    if (scale_rank == 0 || scale[0] != g.size)
      fail(Category::shape, "input 1 (the scale) has shape {}, axis {} of the input has {} entries", to_string(scale), g.axis, g.size);
    return g;
  }
  g.block = node.integer("block_size", 0);
  Shape expected = x;
  if (g.block > 0) expected[g.axis] = g.size / g.block + (g.size % g.block != 0 ? 1 : 0);
  else if (scale_rank == rank && scale[g.axis] > 0) {  // the size of a block follows from the shapes
    g.block = (g.size + scale[g.axis] - 1) / scale[g.axis];
    expected[g.axis] = scale[g.axis];
  }
  if (scale != expected || g.block < 1)
    fail(Category::shape, "input 1 (the scale) has shape {}, expected {} for blocks of {} along axis {} of {}", to_string(scale),
         to_string(expected), g.block, g.axis, to_string(x));
  g.blocks = expected[g.axis];
  return g;
}

// Scale and zero point against each other and against what they scale.
void check_grid(const InferContext& c) {
  const auto x = known_shape(c.dims(0)), scale = known_shape(c.dims(1)), zero = known_shape(c.dims(2));
  if (scale && zero && *scale != *zero &&
      !(element_count(*scale) == 1 && element_count(*zero) == 1 && scale->size() < 2 && zero->size() < 2))
    c.fail(Category::shape, fmt::format("input 2 (the zero point) has shape {}, the scale {}", to_string(*zero), to_string(*scale)));
  if (x && scale) grid_of(c.node(), *x, *scale);
}

std::vector<double> zero_points(const EvalContext& c, size_t input, int64_t count) {
  if (!c.has(input)) return std::vector<double>(count, 0);
  auto z = widen<double>(c.in(input));
  if (static_cast<int64_t>(z.size()) != count) fail(Category::shape, "the zero point has {} entries, the scale {}", z.size(), count);
  return z;
}

bool quantised(DType d) { return (is_int(d) && bit_width(d) <= 16) || (is_float(d) && bit_width(d) <= 8); }

DType quantised_type(const Node& n, DType zero_point) {
  if (zero_point != DType::undefined) return zero_point;
  const DType d = dtype_of_number(n.integer("output_dtype", 0));
  return d == DType::undefined ? DType::u8 : d;
}

// The standard divides in the type of the scale (f32 for f16 and bf16 inputs too, unless `precision` says otherwise).
double divided(double x, double scale, bool single) {
  return single ? static_cast<double>(static_cast<float>(x) / static_cast<float>(scale)) : x / scale;
}

std::vector<Tensor> quantize(const EvalContext& c) {
  const Tensor &x = c.in(0), &scale = c.in(1);
  const DType to = quantised_type(c.node, c.has(2) ? c.in(2).dtype() : DType::undefined);
  const Grid g = grid_of(c.node, x.shape(), scale.shape());
  const auto s = widen<double>(scale);
  const auto z = zero_points(c, 2, scale.size());
  auto v = widen<double>(x);
  const bool saturate = c.node.integer("saturate", 1) != 0, single = scale.dtype() != DType::f64;
  for (size_t i = 0; i < v.size(); ++i) {
    const int64_t k = g.at(static_cast<int64_t>(i));
    v[i] = divided(v[i], s[k], single);
    if (!is_float(to)) {
      const auto [low, high] = range_of(to);
      v[i] = std::isnan(v[i]) ? z[k] : std::clamp(std::nearbyint(v[i]) + z[k], low, high);
    }
  }
  return {narrow<double>(to, x.shape(), std::span<const double>(v), saturate)};
}

std::vector<Tensor> dequantize(const EvalContext& c) {
  const Tensor &x = c.in(0), &scale = c.in(1);
  const Grid g = grid_of(c.node, x.shape(), scale.shape());
  const auto s = widen<double>(scale);
  const auto z = zero_points(c, 2, scale.size());
  auto v = widen<double>(x);
  for (size_t i = 0; i < v.size(); ++i) {
    const int64_t k = g.at(static_cast<int64_t>(i));
    v[i] = (v[i] - z[k]) * s[k];
  }
  const DType wanted = dtype_of_number(c.node.integer("output_dtype", 0));
  return {narrow<double>(wanted == DType::undefined ? scale.dtype() : wanted, x.shape(), v)};
}

std::vector<Tensor> dynamic_quantize(const EvalContext& c) {
  const auto v = widen<double>(c.in(0));
  double low = 0, high = 0;  // the range always holds zero
  for (double e : v) {
    low = std::min(low, e);
    high = std::max(high, e);
  }
  const float scale = static_cast<float>(high - low) / 255.0f;
  const double zero = scale == 0 ? 0 : std::clamp(std::nearbyint(static_cast<double>(-static_cast<float>(low) / scale)), 0.0, 255.0);
  std::vector<double> q(v.size());
  for (size_t i = 0; i < v.size(); ++i)
    q[i] = scale == 0 ? zero : std::clamp(std::nearbyint(static_cast<double>(static_cast<float>(v[i]) / scale)) + zero, 0.0, 255.0);
  return {narrow<double>(DType::u8, c.in(0).shape(), q), Tensor::from<float>({}, {scale}),
          narrow<double>(DType::u8, Shape{}, std::vector<double>{zero})};
}

// Integers less their zero point: one for all, or one a row (`axis` of the tensor).
Tensor centred(const Tensor& x, const EvalContext& c, size_t zero, int64_t axis) {
  auto v = widen<int64_t>(x);
  if (c.has(zero)) {
    const auto z = integers(c.in(zero));
    if (z.size() == 1) {
      for (auto& e : v) e -= z[0];
    } else {
      if (axis >= x.rank()) fail(Category::shape, "input {} has {} zero points for a tensor of rank {}", zero, z.size(), x.rank());
      // Along the axis, or for a batch of matrices one along the axis of each.
      const int64_t n = x.shape()[axis], inner = strides_of(x.shape())[axis], count = static_cast<int64_t>(z.size());
      const int64_t batches = x.size() / std::max<int64_t>(1, x.shape()[x.rank() - 1] * x.shape()[std::max(0, x.rank() - 2)]);
      if (count != n && count != n * batches) fail(Category::shape, "input {} has {} zero points, axis {} has {}", zero, count, axis, n);
      for (size_t i = 0; i < v.size(); ++i) {
        const int64_t k = static_cast<int64_t>(i) / inner % n;
        v[i] -= z[count == n ? k : (static_cast<int64_t>(i) / (x.size() / batches)) * n + k];
      }
    }
  }
  return narrow<int64_t>(DType::i64, x.shape(), v);
}

Tensor call(const char* op, const Node& attributes, std::vector<Tensor> inputs, int version = 22) {
  Node n;
  n.op = op;
  n.attributes = attributes.attributes;
  return find_op("", op, version)->plain({n, version, inputs, 1})[0];
}

void infer_matmul_like(InferContext& c, int a, int b, DType result) {
  // The shape of MatMul, from its own inference.
  if (!c.dims(a) || !c.dims(b)) return c.set(0, result, std::nullopt);
  Graph g;
  g.opsets[""] = 13;
  for (int i : {a, b}) {
    Value v;
    v.dtype = DType::f32;
    v.dims = c.dims(i);
    g.add_value(v);
  }
  g.add_value({});
  Node n;
  n.op = "MatMul";
  n.inputs = {0, 1};
  n.outputs = {2};
  InferContext inner(g, n, 13);
  find_op("", "MatMul", 13)->infer(inner);
  c.set(0, result, inner.results()[0].dims);
}

std::vector<Tensor> matmul_integer(const EvalContext& c) {
  const Tensor a = centred(c.in(0), c, 2, std::max(0, c.in(0).rank() - 2)), b = centred(c.in(1), c, 3, c.in(1).rank() - 1);
  const Tensor y = call("MatMul", Node(), {a, b});
  return {narrow<int64_t>(DType::i32, y.shape(), widen<int64_t>(y))};
}

// real = acc * (sa * sb); out = saturate(round(real / sy) + zy)
// `shift`, if any: one a channel, added to real / sy.
Tensor requantised(const Tensor& acc, const std::vector<double>& factor, const std::vector<double>& shift, int64_t inner, double zero,
                   DType to) {
  const auto a = widen<double>(acc);
  std::vector<double> out(a.size());
  const auto [low, high] = is_float(to) ? std::pair<double, double>{-INFINITY, INFINITY} : range_of(to);
  const int64_t n = static_cast<int64_t>(factor.size());
  for (size_t i = 0; i < out.size(); ++i) {
    const double f = n == 1 ? factor[0] : factor[static_cast<int64_t>(i) / inner % n];
    const double s = shift.empty() ? 0 : shift[static_cast<size_t>(static_cast<int64_t>(i) / inner) % shift.size()];
    out[i] = std::clamp(std::nearbyint(a[i] * f + s) + zero, low, high);
  }
  return narrow<double>(to, acc.shape(), out);
}

std::vector<Tensor> qlinear_matmul(const EvalContext& c) {
  const Tensor &a = c.in(0), &b = c.in(3);
  const EvalContext zeros{c.node, c.version, c.inputs, 1};
  const Tensor x = centred(a, zeros, 2, std::max(0, a.rank() - 2)), y = centred(b, zeros, 5, b.rank() - 1);
  const Tensor acc = call("MatMul", Node(), {x, y});
  const auto sa = widen<double>(c.in(1)), sb = widen<double>(c.in(4)), sy = widen<double>(c.in(6));
  const auto zy = widen<double>(c.in(7));
  if (sy.size() != 1 || zy.size() != 1) fail(Category::shape, "the result's scale and zero point must be one each");
  const auto v = widen<double>(acc);
  std::vector<double> out(v.size());
  const int64_t columns = acc.rank() > 0 ? acc.shape().back() : 1, rows = acc.rank() > 1 ? acc.shape()[acc.rank() - 2] : 1;
  const auto [low, high] = is_float(c.in(7).dtype()) ? std::pair<double, double>{-INFINITY, INFINITY} : range_of(c.in(7).dtype());
  const auto factor = [](const std::vector<double>& s, int64_t k, int64_t n, const char* what) {
    if (s.size() == 1) return s[0];
    if (s.empty() || static_cast<int64_t>(s.size()) % n != 0)
      fail(Category::shape, "{} has {} entries, expected 1 or {}", what, s.size(), n);
    return s[k % static_cast<int64_t>(s.size())];
  };
  for (size_t i = 0; i < out.size(); ++i) {
    const int64_t k = static_cast<int64_t>(i);
    const double f =
        factor(sa, k / columns, rows, "a_scale") * factor(sb, k / (rows * columns) * columns + k % columns, columns, "b_scale") / sy[0];
    out[i] = std::clamp(std::nearbyint(v[i] * f) + zy[0], low, high);
  }
  return {narrow<double>(c.in(7).dtype(), acc.shape(), out)};
}

// Conv on centred integers; exact in double below 2^53.
Tensor convolved(const EvalContext& c, const Tensor& x, const Tensor& w, const Tensor& bias) {
  const auto wide = [](const Tensor& t) { return narrow<double>(DType::f64, t.shape(), widen<double>(t)); };
  std::vector<Tensor> in{wide(x), wide(w)};
  if (!bias.empty()) in.push_back(wide(bias));
  return call("Conv", c.node, in);
}

void infer_conv_like(InferContext& c, int x, int w, DType result) {
  const auto weights = known_shape(c.dims(w));
  if (!c.dims(x) || !weights || weights->size() < 3 || c.dims(x)->size() != weights->size()) return c.set(0, result, std::nullopt);
  Dims out{(*c.dims(x))[0], Dim((*weights)[0])};
  const Dims spatial = window_dims(c.node(), std::span<const Dim>(*c.dims(x)).subspan(2), std::span<const int64_t>(*weights).subspan(2));
  out.insert(out.end(), spatial.begin(), spatial.end());
  c.set(0, result, out);
}

std::vector<Tensor> conv_integer(const EvalContext& c) {
  const Tensor y = convolved(c, centred(c.in(0), c, 2, 1), centred(c.in(1), c, 3, 0), {});
  return {narrow<double>(DType::i32, y.shape(), widen<double>(y))};
}

std::vector<Tensor> qlinear_conv(const EvalContext& c) {
  const Tensor acc = convolved(c, centred(c.in(0), c, 2, 1), centred(c.in(3), c, 5, 0), c.has(8) ? c.in(8) : Tensor());
  const double sx = one_real(c, 1), sy = one_real(c, 6);
  auto factor = widen<double>(c.in(4));
  if (factor.size() != 1 && static_cast<int64_t>(factor.size()) != acc.shape()[1])
    fail(Category::shape, "w_scale has {} entries, expected 1 or {}", factor.size(), acc.shape()[1]);
  for (double& f : factor) f = sx * f / sy;
  std::vector<double> shift;
  if (const auto* real = c.node.find<std::vector<float>>(kRealBias)) {
    if (static_cast<int64_t>(real->size()) != acc.shape()[1])
      fail(Category::value, "attribute '{}' has {} entries, expected {}", kRealBias, real->size(), acc.shape()[1]);
    for (float b : *real) shift.push_back(static_cast<double>(b) / sy);
  }
  return {
      requantised(acc, factor, shift, element_count(std::span<const int64_t>(acc.shape()).subspan(2)), one_real(c, 7), c.in(7).dtype())};
}

}  // namespace

void add_quantised(std::vector<OpDef>& out) {
  const auto add = [&](const char* name, int since, int min, int max, Infer infer, Plain plain, int outputs = 1) {
    out.push_back(def(name, since, min, max, Trait::opaque, std::move(infer), std::move(plain), outputs));
  };
  const auto needs_scale = [](InferContext& c) {
    need(
        c, 1, [](DType d) { return is_float(d) || d == DType::i32; }, "a floating type");
  };
  add(
      "QuantizeLinear", 10, 2, 3,
      [needs_scale](InferContext& c) {
        needs_scale(c);
        check_grid(c);
        const DType to = quantised_type(c.node(), c.dtype(2));
        const int64_t asked = c.node().integer("output_dtype", 0);
        c.require(quantised(to) && (asked == 0 || dtype_of_number(asked) == to), Category::type,
                  fmt::format("the result would be {}, output_dtype is {}; expected an integer of up to 16 bits or an 8-bit or 4-bit "
                              "floating type, as the zero point",
                              to_string(to), asked));
        c.set(0, to, c.dims(0));
      },
      quantize);
  add(
      "DequantizeLinear", 10, 2, 3,
      [needs_scale](InferContext& c) {
        needs_scale(c);
        check_grid(c);
        if (c.dtype(0) != DType::undefined)
          c.require(quantised(c.dtype(0)) || c.dtype(0) == DType::i32, Category::type,
                    fmt::format("input 0 (x) is {}, expected a quantised number", to_string(c.dtype(0))));
        const DType wanted = dtype_of_number(c.node().integer("output_dtype", 0));
        c.set(0, wanted == DType::undefined ? c.dtype(1) : wanted, c.dims(0));
      },
      dequantize);
  add(
      "DynamicQuantizeLinear", 11, 1, 1,
      [](InferContext& c) {
        need(c, 0, standard_float, "a floating type");
        c.set(0, DType::u8, c.dims(0));
        c.set(1, DType::f32, Dims{});
        c.set(2, DType::u8, Dims{});
      },
      dynamic_quantize, 3);
  add(
      "MatMulInteger", 10, 2, 4, [](InferContext& c) { infer_matmul_like(c, 0, 1, DType::i32); }, matmul_integer);
  add(
      "QLinearMatMul", 10, 8, 8, [](InferContext& c) { infer_matmul_like(c, 0, 3, c.dtype(7)); }, qlinear_matmul);
  add(
      "ConvInteger", 10, 2, 4, [](InferContext& c) { infer_conv_like(c, 0, 1, DType::i32); }, conv_integer);
  add(
      "QLinearConv", 10, 8, 9, [](InferContext& c) { infer_conv_like(c, 0, 3, c.dtype(7)); }, qlinear_conv);
}

}  // namespace lathe::ops
