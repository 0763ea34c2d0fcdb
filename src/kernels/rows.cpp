#include "kernels/rows.hpp"

#include <cmath>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/rows.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Folds f(acc, x) over n floats with four accumulators, then joins them.
template <typename Step, typename Join>
HWY_INLINE float fold(const float* x, int64_t n, float start, Step step, Join join) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  VF a0 = hn::Set(d, start), a1 = a0, a2 = a0, a3 = a0;
  int64_t i = 0;
  for (; i + 4 * lanes <= n; i += 4 * lanes) {
    a0 = step(a0, hn::LoadU(d, x + i));
    a1 = step(a1, hn::LoadU(d, x + i + lanes));
    a2 = step(a2, hn::LoadU(d, x + i + 2 * lanes));
    a3 = step(a3, hn::LoadU(d, x + i + 3 * lanes));
  }
  for (; i + lanes <= n; i += lanes) a0 = step(a0, hn::LoadU(d, x + i));
  HWY_ALIGN float part[HWY_MAX_BYTES / 4 + 1];
  hn::Store(join(join(a0, a1), join(a2, a3)), d, part);
  const hn::CappedTag<float, 1> one;
  auto acc = hn::Set(one, part[0]);
  for (int64_t k = 1; k < lanes; ++k) acc = join(acc, hn::Set(one, part[k]));
  for (; i < n; ++i) acc = step(acc, hn::Set(one, x[i]));
  return hn::GetLane(acc);
}

inline constexpr auto kAdd = [](auto a, auto x) { return hn::Add(a, x); };
inline constexpr auto kMax = [](auto a, auto x) { return hn::IfThenElse(hn::IsNaN(a), a, hn::IfThenElse(hn::IsNaN(x), x, hn::Max(a, x))); };
inline constexpr auto kMin = [](auto a, auto x) { return hn::IfThenElse(hn::IsNaN(a), a, hn::IfThenElse(hn::IsNaN(x), x, hn::Min(a, x))); };
inline constexpr auto kSquare = [](auto a, auto x) { return hn::MulAdd(x, x, a); };
inline constexpr auto kAbsolute = [](auto a, auto x) { return hn::Add(a, hn::Abs(x)); };

template <typename F>
HWY_INLINE void map(float* out, const float* x, int64_t n, F f) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = 0;
  for (; i + lanes <= n; i += lanes) hn::StoreU(f(hn::LoadU(d, x + i), i), d, out + i);
  if (i < n) {
    HWY_ALIGN float t[HWY_MAX_BYTES / 4 + 1] = {};
    for (int64_t k = i; k < n; ++k) t[k - i] = x[k];
    hn::Store(f(hn::Load(d, t), i), d, t);
    for (int64_t k = i; k < n; ++k) out[k] = t[k - i];
  }
}

void softmax(const float* x, float* y, int64_t n, bool log) {
  const F32 d;
  const float top = fold(x, n, -std::numeric_limits<float>::infinity(), kMax, kMax);
  const VF t = hn::Set(d, top);
  if (log) {
    // The exponentials are summed strip by strip: y is not needed for them.
    float sum = 0;
    float strip[256];
    for (int64_t i = 0; i < n; i += 256) {
      const int64_t k = n - i < 256 ? n - i : 256;
      map(strip, x + i, k, [&](VF v, int64_t) { return exp_f32(d, hn::Sub(v, t)); });
      sum += fold(strip, k, 0.0f, kAdd, kAdd);
    }
    const VF shift = hn::Set(d, top + std::log(sum));
    return map(y, x, n, [&](VF v, int64_t) { return hn::Sub(v, shift); });
  }
  map(y, x, n, [&](VF v, int64_t) { return exp_f32(d, hn::Sub(v, t)); });
  const VF inverse = hn::Set(d, 1.0f / fold(y, n, 0.0f, kAdd, kAdd));
  map(y, y, n, [&](VF v, int64_t) { return hn::Mul(v, inverse); });
}

void layer_norm(const RowArguments& g, const float* x, float* y) {
  const F32 d;
  const int64_t n = g.length, whole = n - n % hn::Lanes(d);
  const float mean = fold(x, n, 0.0f, kAdd, kAdd) / static_cast<float>(n);
  const auto square = [mean](auto a, auto v) {
    const hn::DFromV<decltype(v)> tag;
    const auto c = hn::Sub(v, hn::Set(tag, mean));
    return hn::MulAdd(c, c, a);
  };
  const float variance = fold(x, n, 0.0f, square, kAdd) / static_cast<float>(n);
  const float inverse = 1.0f / std::sqrt(variance + g.epsilon);
  for (int64_t i = 0; i < whole; i += hn::Lanes(d)) {
    VF v = hn::Mul(hn::Mul(hn::Sub(hn::LoadU(d, x + i), hn::Set(d, mean)), hn::Set(d, inverse)), hn::LoadU(d, g.scale + i));
    if (g.bias) v = hn::Add(v, hn::LoadU(d, g.bias + i));
    hn::StoreU(v, d, y + i);
  }
  for (int64_t i = whole; i < n; ++i) y[i] = (x[i] - mean) * inverse * g.scale[i] + (g.bias ? g.bias[i] : 0.0f);
}

// Sums `length` rows of `width` floats into one row.
void columns(const RowArguments& g, const float* x, float* y) {
  const F32 d;
  const float factor = g.op == RowOp::mean_columns ? 1.0f / static_cast<float>(g.length) : 1.0f;
  const int64_t lanes = hn::Lanes(d);
  int64_t c = 0;
  const auto block = [&](auto count) {
    constexpr int V = decltype(count)::value;
    for (; c + V * lanes <= g.width; c += V * lanes) {
      VF acc[V];
      for (int v = 0; v < V; ++v) acc[v] = hn::Zero(d);
      for (int64_t r = 0; r < g.length; ++r) {
        for (int v = 0; v < V; ++v) acc[v] = hn::Add(acc[v], hn::LoadU(d, x + r * g.width + c + v * lanes));
      }
      for (int v = 0; v < V; ++v) hn::StoreU(hn::Mul(acc[v], hn::Set(d, factor)), d, y + c + v * lanes);
    }
  };
  block(std::integral_constant<int, 4>());
  block(std::integral_constant<int, 1>());
  for (; c < g.width; ++c) {
    float acc = 0;
    for (int64_t r = 0; r < g.length; ++r) acc += x[r * g.width + c];
    y[c] = acc * factor;
  }
}

void RowsHere(const RowArguments& g) {
  const float inf = std::numeric_limits<float>::infinity();
  for (int64_t r = g.begin; r < g.end; ++r) {
    const float* x = g.in + r * g.length * g.width;
    switch (g.op) {
      case RowOp::softmax: softmax(x, g.out + r * g.length, g.length, false); break;
      case RowOp::log_softmax: softmax(x, g.out + r * g.length, g.length, true); break;
      case RowOp::layer_norm: layer_norm(g, x, g.out + r * g.length); break;
      case RowOp::sum: g.out[r] = fold(x, g.length, 0.0f, kAdd, kAdd); break;
      case RowOp::mean: g.out[r] = fold(x, g.length, 0.0f, kAdd, kAdd) / static_cast<float>(g.length); break;
      case RowOp::max: g.out[r] = fold(x, g.length, -inf, kMax, kMax); break;
      case RowOp::min: g.out[r] = fold(x, g.length, inf, kMin, kMin); break;
      case RowOp::sum_squares: g.out[r] = fold(x, g.length, 0.0f, kSquare, kAdd); break;
      case RowOp::l2: g.out[r] = std::sqrt(fold(x, g.length, 0.0f, kSquare, kAdd)); break;
      case RowOp::l1: g.out[r] = fold(x, g.length, 0.0f, kAbsolute, kAdd); break;
      case RowOp::sum_columns:
      case RowOp::mean_columns: columns(g, x, g.out + r * g.width); break;
    }
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Rows rows(Isa isa) { return LATHE_SELECT(isa, RowsHere); }
}  // namespace lathe::kernels
#endif
