// Contractions: MatMul, Gemm, Conv, ConvTranspose. Plain evaluation accumulates in double (or int64).
#include <type_traits>

#include "ops/support.hpp"
#include "ops/window.hpp"

namespace lathe::ops {
namespace {

// ---- MatMul ----

struct MatMulShape {
  Shape batch, out;
  int64_t m, n, k;
};

MatMulShape matmul_shape(Shape a, Shape b) {
  if (a.empty() || b.empty()) fail(Category::shape, "a scalar cannot be a factor of a matrix product");
  const bool row = a.size() == 1, column = b.size() == 1;
  if (row) a.insert(a.begin(), 1);
  if (column) b.push_back(1);
  MatMulShape s;
  s.m = a[a.size() - 2];
  s.k = a.back();
  s.n = b.back();
  if (b[b.size() - 2] != s.k)
    fail(Category::shape, "inner sizes differ: {} against {} in {} times {}", s.k, b[b.size() - 2], to_string(a), to_string(b));
  s.batch = broadcast(std::span<const int64_t>(a).first(a.size() - 2), std::span<const int64_t>(b).first(b.size() - 2));
  s.out = s.batch;
  if (!row) s.out.push_back(s.m);
  if (!column) s.out.push_back(s.n);
  return s;
}

void infer_matmul(InferContext& c) {
  need(c, 0, numeric, "a number");
  need_same(c, 0, 1);
  if (!c.dims(0) || !c.dims(1)) return c.set(0, c.dtype(0), std::nullopt);
  Dims a = *c.dims(0), b = *c.dims(1);
  c.require(!a.empty() && !b.empty(), Category::shape, "a scalar cannot be a factor of a matrix product");
  const bool row = a.size() == 1, column = b.size() == 1;
  if (row) a.insert(a.begin(), Dim(1));
  if (column) b.push_back(Dim(1));
  const Dim k1 = a.back(), k2 = b[b.size() - 2];
  c.require(!k1.known() || !k2.known() || k1.value == k2.value, Category::shape,
            fmt::format("inner sizes differ: {} times {}", to_string(a), to_string(b)));
  Dims out = broadcast(Dims(a.begin(), a.end() - 2), Dims(b.begin(), b.end() - 2));
  if (!row) out.push_back(a[a.size() - 2]);
  if (!column) out.push_back(b.back());
  c.set(0, c.dtype(0), out);
}

// Integers wrap.
template <typename T>
void product(const T* a, const T* b, T* c, int64_t m, int64_t n, int64_t k) {
  if constexpr (std::is_integral_v<T> && std::is_signed_v<T>) {
    using U = std::make_unsigned_t<T>;
    return product(reinterpret_cast<const U*>(a), reinterpret_cast<const U*>(b), reinterpret_cast<U*>(c), m, n, k);
  }
  for (int64_t i = 0; i < m; ++i) {
    for (int64_t p = 0; p < k; ++p) {
      const T f = a[i * k + p];
      for (int64_t j = 0; j < n; ++j) c[i * n + j] += f * b[p * n + j];
    }
  }
}

std::vector<Tensor> matmul(const EvalContext& c) {
  const Tensor &a = c.in(0), &b = c.in(1);
  if (a.dtype() != b.dtype()) fail(Category::type, "inputs differ: {} and {}", to_string(a.dtype()), to_string(b.dtype()));
  const MatMulShape s = matmul_shape(a.shape(), b.shape());
  const auto batch_of = [](const Shape& shape) { return shape.size() > 2 ? Shape(shape.begin(), shape.end() - 2) : Shape(); };
  const auto ia = strided_index(s.batch, broadcast_strides(batch_of(a.shape()), s.batch));
  const auto ib = strided_index(s.batch, broadcast_strides(batch_of(b.shape()), s.batch));
  return with_wide(a.dtype(), [&](auto zero) -> std::vector<Tensor> {
    using T = decltype(zero);
    const auto x = widen<T>(a), y = widen<T>(b);
    std::vector<T> out(element_count(s.out), 0);
    for (size_t i = 0; i < ia.size(); ++i)
      product(x.data() + ia[i] * s.m * s.k, y.data() + ib[i] * s.k * s.n, out.data() + i * s.m * s.n, s.m, s.n, s.k);
    return {narrow<T>(a.dtype(), s.out, out)};
  });
}

// ---- Gemm: alpha * A' * B' + beta * C ----

void infer_gemm(InferContext& c) {
  need(c, 0, numeric, "a number");
  need_same(c, 0, 1);
  if (!c.dims(0) || !c.dims(1)) return c.set(0, c.dtype(0), std::nullopt);
  const Dims &a = *c.dims(0), &b = *c.dims(1);
  c.require(a.size() == 2 && b.size() == 2, Category::shape,
            fmt::format("expected two matrices, got {} and {}", to_string(a), to_string(b)));
  const bool ta = c.node().integer("transA", 0) != 0, tb = c.node().integer("transB", 0) != 0;
  const Dim k1 = a[ta ? 0 : 1], k2 = b[tb ? 1 : 0];
  c.require(!k1.known() || !k2.known() || k1.value == k2.value, Category::shape,
            fmt::format("inner sizes differ: {} and {}", k1.value, k2.value));
  const Dims out{a[ta ? 1 : 0], b[tb ? 0 : 1]};
  if (c.has(2)) {
    need_same(c, 0, 2);
    if (const auto shape = known_shape(c.dims(2)); shape && out[0].known() && out[1].known()) {
      if (broadcast(*shape, Shape{out[0].value, out[1].value}) != Shape{out[0].value, out[1].value}) {
        c.fail(Category::shape, fmt::format("C of {} does not broadcast to {}", to_string(*shape), to_string(out)));
      }
    }
  }
  c.set(0, c.dtype(0), out);
}

template <typename T>
std::vector<T> transposed(const std::vector<T>& v, int64_t rows, int64_t columns) {
  std::vector<T> out(v.size());
  for (int64_t i = 0; i < rows; ++i) {
    for (int64_t j = 0; j < columns; ++j) out[j * rows + i] = v[i * columns + j];
  }
  return out;
}

std::vector<Tensor> gemm(const EvalContext& c) {
  const Tensor &a = c.in(0), &b = c.in(1);
  if (a.rank() != 2 || b.rank() != 2)
    fail(Category::shape, "expected two matrices, got {} and {}", to_string(a.shape()), to_string(b.shape()));
  const bool ta = c.node.integer("transA", 0) != 0, tb = c.node.integer("transB", 0) != 0;
  const int64_t m = a.shape()[ta], k = a.shape()[!ta], n = b.shape()[!tb];
  if (b.shape()[tb] != k) fail(Category::shape, "inner sizes differ: {} and {}", k, b.shape()[tb]);
  const float alpha = c.node.real("alpha", 1), beta = c.node.real("beta", 1);
  return with_wide(a.dtype(), [&](auto zero) -> std::vector<Tensor> {
    using T = decltype(zero);
    auto x = widen<T>(a), y = widen<T>(b);
    if (ta) x = transposed(x, k, m);
    if (tb) y = transposed(y, n, k);
    std::vector<T> out(m * n, 0);
    product(x.data(), y.data(), out.data(), m, n, k);
    for (T& e : out) e = static_cast<T>(alpha * e);
    if (c.has(2)) {
      const auto bias = widen_to<T>(c.in(2), Shape{m, n});
      for (size_t i = 0; i < out.size(); ++i) out[i] += static_cast<T>(beta * bias[i]);
    }
    return {narrow<T>(a.dtype(), Shape{m, n}, out)};
  });
}

// ---- Conv: X [N, C, spatial...], W [M, C/group, kernel...] ----

struct ConvShape {
  int64_t batch, channels, filters, group;
  Shape in, out;  // spatial
  Window window;
};

void check_conv(const Shape& x, const Shape& w, int64_t group, bool transposed) {
  if (x.size() < 3 || x.size() != w.size())
    fail(Category::shape, "X is {} and W is {}; both need batch/filter, channel and the same spatial axes", to_string(x), to_string(w));
  // No larger than what it divides: it is multiplied with below.
  if (group < 1 || group > std::max<int64_t>(1, std::max(x[1], w[0])) || x[1] % group != 0 || w[0] % group != 0)
    fail(Category::value, "group {} does not divide {} channels and {} filters", group, x[1], w[0]);
  if (transposed ? x[1] != w[0] : x[1] != w[1] * group) {
    fail(Category::shape, "X has {} channels, W {} expects {} (group {})", x[1], to_string(w), transposed ? w[0] : w[1] * group, group);
  }
}

ConvShape conv_shape(const Node& node, const Shape& x, const Shape& w) {
  ConvShape s;
  s.group = node.integer("group", 1);
  check_conv(x, w, s.group, false);
  s.batch = x[0];
  s.channels = x[1];
  s.filters = w[0];
  s.in.assign(x.begin() + 2, x.end());
  s.window = read_window(node, s.in, std::span<const int64_t>(w).subspan(2));
  s.out = s.window.out;
  return s;
}

void infer_conv(InferContext& c) {
  need(c, 0, standard_float, "a floating type");
  need_same(c, 0, 1);
  if (c.has(2)) need_same(c, 0, 2);
  const auto w = known_shape(c.dims(1));
  if (!c.dims(0) || !w) return c.set(0, c.dtype(0), std::nullopt);
  const Dims& x = *c.dims(0);
  const int64_t group = c.node().integer("group", 1);
  int64_t channels = 1;  // when the input does not say
  c.require(w->size() < 2 || !__builtin_mul_overflow((*w)[1], group, &channels), Category::value, fmt::format("group is {}", group));
  Shape probe;
  for (size_t i = 0; i < x.size(); ++i) probe.push_back(x[i].known() ? x[i].value : i == 1 ? channels : 1);
  check_conv(probe, *w, group, false);
  Dims out{x[0], Dim((*w)[0])};
  const Dims spatial = window_dims(c.node(), std::span<const Dim>(x).subspan(2), std::span<const int64_t>(*w).subspan(2));
  out.insert(out.end(), spatial.begin(), spatial.end());
  c.set(0, c.dtype(0), out);
}

std::vector<Tensor> conv(const EvalContext& c) {
  const ConvShape s = conv_shape(c.node, c.in(0).shape(), c.in(1).shape());
  const auto x = widen<double>(c.in(0)), w = widen<double>(c.in(1));
  std::vector<double> bias(s.filters, 0);
  if (c.has(2)) bias = widen<double>(c.in(2));
  if (static_cast<int64_t>(bias.size()) != s.filters) fail(Category::shape, "B has {} elements, expected {}", bias.size(), s.filters);
  const int64_t in_size = element_count(s.in), out_size = element_count(s.out), taps = s.window.taps();
  // Source position of each (output position, tap), -1 in the padding, built axis by axis.
  std::vector<int64_t> source(1, 0);
  int64_t positions = 1, seen = 1;
  for (int a = 0; a < s.window.axes(); ++a) {
    const auto table = window_table(s.window, a, s.in[a]);
    const int64_t o = s.out[a], k = s.window.kernel[a];
    std::vector<int64_t> next(positions * o * seen * k);
    for (int64_t p = 0; p < positions; ++p) {
      for (int64_t i = 0; i < o; ++i) {
        for (int64_t t = 0; t < seen; ++t) {
          for (int64_t j = 0; j < k; ++j) {
            const int64_t base = source[p * seen + t], at = table[i * k + j];
            next[((p * o + i) * seen + t) * k + j] = base < 0 || at < 0 ? -1 : base * s.in[a] + at;
          }
        }
      }
    }
    source = std::move(next);
    positions *= o;
    seen *= k;
  }
  const int64_t cg = s.channels / s.group, fg = s.filters / s.group;
  std::vector<double> y(s.batch * s.filters * out_size);
  for (int64_t n = 0; n < s.batch; ++n) {
    for (int64_t f = 0; f < s.filters; ++f) {
      double* row = y.data() + (n * s.filters + f) * out_size;
      std::fill_n(row, out_size, bias[f]);
      for (int64_t ch = 0; ch < cg; ++ch) {
        const double* plane = x.data() + (n * s.channels + f / fg * cg + ch) * in_size;
        const double* kernel = w.data() + (f * cg + ch) * taps;
        for (int64_t o = 0; o < out_size; ++o) {
          double sum = 0;
          for (int64_t t = 0; t < taps; ++t) {
            const int64_t at = source[o * taps + t];
            if (at >= 0) sum += plane[at] * kernel[t];
          }
          row[o] += sum;
        }
      }
    }
  }
  Shape shape{s.batch, s.filters};
  shape.insert(shape.end(), s.out.begin(), s.out.end());
  return {narrow<double>(c.in(0).dtype(), shape, y)};
}

// ---- ConvTranspose: X [N, C, spatial...], W [C, M/group, kernel...] ----

}  // namespace

TransposeGeometry transpose_geometry(const Node& node, std::span<const int64_t> in, std::span<const int64_t> kernel) {
  const size_t n = in.size();
  TransposeGeometry g;
  g.strides = node.integers("strides", std::vector<int64_t>(n, 1));
  g.dilations = node.integers("dilations", std::vector<int64_t>(n, 1));
  auto pads = node.integers("pads", std::vector<int64_t>(2 * n, 0));
  auto extra = node.integers("output_padding", std::vector<int64_t>(n, 0));
  const auto wanted = node.integers("output_shape");
  const std::string mode = node.text("auto_pad", "NOTSET");
  if (g.strides.size() != n || g.dilations.size() != n || pads.size() != 2 * n || extra.size() != n) {
    fail(Category::value, "strides, dilations, pads or output_padding do not have one entry (pads: two) for each of {} spatial axes", n);
  }
  for (size_t i = 0; i < n; ++i) {
    if (g.strides[i] < 1 || g.dilations[i] < 1) fail(Category::value, "strides and dilations must be at least 1");
  }
  check_plausible(in, "the input's shape");
  check_plausible(kernel, "the kernel's shape");
  check_plausible(g.strides, "strides");
  check_plausible(g.dilations, "dilations");
  check_plausible(pads, "pads");
  check_plausible(extra, "output_padding");
  check_plausible(wanted, "output_shape");
  g.begin.resize(n);
  g.out.resize(n);
  for (size_t i = 0; i < n; ++i) {
    const int64_t full = g.strides[i] * (in[i] - 1) + extra[i] + (kernel[i] - 1) * g.dilations[i] + 1;
    const bool same = mode == "SAME_UPPER" || mode == "SAME_LOWER";
    if (!wanted.empty() || same) {
      g.out[i] = same && wanted.empty() ? in[i] * g.strides[i] : wanted.size() == n + 2 ? wanted[i + 2] : wanted.at(i);
      // A larger output than the window reaches keeps zeros at its end.
      const int64_t total = std::max<int64_t>(0, full - g.out[i]);
      g.begin[i] = mode == "SAME_UPPER" ? total / 2 : total - total / 2;
    } else {
      if (mode == "VALID") pads[i] = pads[n + i] = 0;
      g.begin[i] = pads[i];
      g.out[i] = full - pads[i] - pads[n + i];
    }
    if (g.out[i] < 0) fail(Category::shape, "output size {} of spatial axis {} is negative", g.out[i], i);
  }
  return g;
}

namespace {

void infer_conv_transpose(InferContext& c) {
  need(c, 0, standard_float, "a floating type");
  need_same(c, 0, 1);
  const auto w = known_shape(c.dims(1));
  if (!c.dims(0) || !w) return c.set(0, c.dtype(0), std::nullopt);
  const Dims& x = *c.dims(0);
  c.require(x.size() >= 3 && x.size() == w->size(), Category::shape, fmt::format("X is {} and W is {}", to_string(x), to_string(*w)));
  int64_t filters = 0;
  const int64_t groups = c.node().integer("group", 1);
  c.require(groups >= 1 && !__builtin_mul_overflow((*w)[1], groups, &filters), Category::value, fmt::format("group is {}", groups));
  Dims out{x[0], Dim(filters)};
  Shape sizes;
  for (size_t i = 2; i < x.size(); ++i) sizes.push_back(x[i].known() ? x[i].value : int64_t{1} << 20);
  const auto g = transpose_geometry(c.node(), sizes, std::span<const int64_t>(*w).subspan(2));
  for (size_t i = 2; i < x.size(); ++i)
    out.push_back(x[i].known() || !c.node().integers("output_shape").empty() ? Dim(g.out[i - 2]) : Dim());
  c.set(0, c.dtype(0), out);
}

std::vector<Tensor> conv_transpose(const EvalContext& c) {
  const Shape &xs = c.in(0).shape(), &ws = c.in(1).shape();
  const int64_t group = c.node.integer("group", 1);
  check_conv(xs, ws, group, true);
  const Shape in(xs.begin() + 2, xs.end()), kernel(ws.begin() + 2, ws.end());
  const auto g = transpose_geometry(c.node, in, kernel);
  const int64_t batch = xs[0], channels = xs[1], mg = ws[1], filters = mg * group, cg = channels / group;
  const int64_t in_size = element_count(in), out_size = element_count(g.out), taps = element_count(kernel);
  const auto x = widen<double>(c.in(0)), w = widen<double>(c.in(1));
  std::vector<double> bias(filters, 0);
  if (c.has(2)) bias = widen<double>(c.in(2));
  if (static_cast<int64_t>(bias.size()) != filters) fail(Category::shape, "B has {} elements, expected {}", bias.size(), filters);
  // Where each (input position, tap) lands; -1 outside.
  std::vector<int64_t> target(in_size * taps);
  const auto in_strides = strides_of(in), tap_strides = strides_of(kernel);
  for (int64_t p = 0; p < in_size; ++p) {
    for (int64_t t = 0; t < taps; ++t) {
      int64_t at = 0;
      for (size_t a = 0; a < in.size() && at >= 0; ++a) {
        const int64_t o = p / in_strides[a] % in[a] * g.strides[a] + t / tap_strides[a] % kernel[a] * g.dilations[a] - g.begin[a];
        at = o < 0 || o >= g.out[a] ? -1 : at * g.out[a] + o;
      }
      target[p * taps + t] = at;
    }
  }
  std::vector<double> y(batch * filters * out_size);
  for (int64_t n = 0; n < batch; ++n) {
    for (int64_t f = 0; f < filters; ++f) {
      double* plane = y.data() + (n * filters + f) * out_size;
      std::fill_n(plane, out_size, bias[f]);
      for (int64_t ch = 0; ch < cg; ++ch) {
        const int64_t from = f / mg * cg + ch;
        const double* src = x.data() + (n * channels + from) * in_size;
        const double* k = w.data() + (from * mg + f % mg) * taps;
        for (int64_t p = 0; p < in_size; ++p) {
          for (int64_t t = 0; t < taps; ++t) {
            if (target[p * taps + t] >= 0) plane[target[p * taps + t]] += src[p] * k[t];
          }
        }
      }
    }
  }
  Shape shape{batch, filters};
  shape.insert(shape.end(), g.out.begin(), g.out.end());
  return {narrow<double>(c.in(0).dtype(), shape, y)};
}

}  // namespace

void add_contractions(std::vector<OpDef>& out) {
  out.push_back(def("MatMul", 1, 2, 2, Trait::contraction, infer_matmul, matmul));
  out.push_back(def("Gemm", 6, 2, 3, Trait::contraction, infer_gemm, gemm));
  out.push_back(def("Conv", 1, 2, 3, Trait::contraction, infer_conv, conv));
  out.push_back(def("ConvTranspose", 1, 2, 3, Trait::contraction, infer_conv_transpose, conv_transpose));
}

}  // namespace lathe::ops
