// Folds and maps along a row, and the parts of row ops that rows.cpp does for whole rows and row_parts.cpp for parts of them; compiled
// once per instruction set.
#if defined(LATHE_KERNELS_ROWS_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_ROWS_INL
#undef LATHE_KERNELS_ROWS_INL
#else
#define LATHE_KERNELS_ROWS_INL
#endif

#include <hwy/cache_control.h>
#include <hwy/highway.h>

#include <cmath>
#include <cstdint>
#include <limits>
#include <type_traits>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

inline constexpr auto kAdd = [](auto a, auto x) { return hn::Add(a, x); };
inline constexpr auto kMax = [](auto a, auto x) { return hn::IfThenElse(hn::IsNaN(a), a, hn::IfThenElse(hn::IsNaN(x), x, hn::Max(a, x))); };
inline constexpr auto kMin = [](auto a, auto x) { return hn::IfThenElse(hn::IsNaN(a), a, hn::IfThenElse(hn::IsNaN(x), x, hn::Min(a, x))); };
inline constexpr auto kSquare = [](auto a, auto x) { return hn::MulAdd(x, x, a); };
inline constexpr auto kAbsolute = [](auto a, auto x) { return hn::Add(a, hn::Abs(x)); };

template <typename Join>
HWY_INLINE float across(VF v, Join join) {
  const F32 d;
  if constexpr (std::is_same_v<Join, std::remove_const_t<decltype(kAdd)>>) return hn::GetLane(hn::SumOfLanes(d, v));
  HWY_ALIGN float part[HWY_MAX_BYTES / 4 + 1];
  hn::Store(v, d, part);
  const hn::CappedTag<float, 1> one;
  auto acc = hn::Set(one, part[0]);
  for (size_t k = 1; k < hn::Lanes(d); ++k) acc = join(acc, hn::Set(one, part[k]));
  return hn::GetLane(acc);
}

// Two kilobytes, asked for ahead of what is read: a loop that does little else than read overtakes the hardware's own look-ahead, and takes
// a sixth longer from memory. From L2 it costs 3 %.
HWY_INLINE void ask_ahead(const float* x, int64_t n) {
  for (int64_t k = 0; k < n; k += 16) hwy::Prefetch(x + 512 + k);
}

// Folds f(acc, x) over n floats with four accumulators, then joins them.
template <typename Step, typename Join>
HWY_INLINE float fold(const float* x, int64_t n, float start, Step step, Join join) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  VF a0 = hn::Set(d, start), a1 = a0, a2 = a0, a3 = a0;
  int64_t i = 0;
  for (; i + 4 * lanes <= n; i += 4 * lanes) {
    ask_ahead(x + i, 4 * lanes);
    a0 = step(a0, hn::LoadU(d, x + i));
    a1 = step(a1, hn::LoadU(d, x + i + lanes));
    a2 = step(a2, hn::LoadU(d, x + i + 2 * lanes));
    a3 = step(a3, hn::LoadU(d, x + i + 3 * lanes));
  }
  for (; i + lanes <= n; i += lanes) a0 = step(a0, hn::LoadU(d, x + i));
  const hn::CappedTag<float, 1> one;
  auto acc = hn::Set(one, across(join(join(a0, a1), join(a2, a3)), join));
  for (; i < n; ++i) acc = step(acc, hn::Set(one, x[i]));
  return hn::GetLane(acc);
}

// Numbers added one after another: each addition rounds, and over a million equal ones that adds up to three digits. So sums of so many are
// added up in double.
inline constexpr int64_t kInTurn = 256;

// Sums what `step` makes of n floats.
template <typename Step>
HWY_INLINE float sum_of(const float* x, int64_t n, Step step) {
  const int64_t block = 4 * kInTurn * static_cast<int64_t>(hn::Lanes(F32()));
  double sum = 0;
  for (int64_t i = 0; i < n; i += block) sum += static_cast<double>(fold(x + i, n - i < block ? n - i : block, 0.0f, step, kAdd));
  return static_cast<float>(sum);
}

// A load that is not done again for a second use: from memory, every load of a line that is still on its way counts.
HWY_INLINE VF loaded(const float* x) {
  VF v = hn::LoadU(F32(), x);
#if HWY_ARCH_X86 && HWY_TARGET != HWY_SCALAR
  asm("" : "+x"(v.raw));
#endif
  return v;
}

// The largest or smallest of n floats; NaN when there is one. Looking for NaN in every step takes longer than the comparisons do: a sum
// carried along turns NaN with it (and now and then for infinities, or by overflow); then it is done again with care.
template <bool largest, bool ahead = true>
HWY_INLINE float extreme(const float* x, int64_t n) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), whole = n - n % (4 * lanes);
  const auto better = [](auto a, auto b) { return largest ? hn::Max(a, b) : hn::Min(a, b); };
  const float worst = largest ? -std::numeric_limits<float>::infinity() : std::numeric_limits<float>::infinity();
  VF a0 = hn::Set(d, worst), a1 = a0, odd = hn::Zero(d);
  for (int64_t i = 0; i < whole; i += 4 * lanes) {
    if constexpr (ahead) ask_ahead(x + i, 4 * lanes);
    const VF v0 = loaded(x + i), v1 = loaded(x + i + lanes), v2 = loaded(x + i + 2 * lanes), v3 = loaded(x + i + 3 * lanes);
    a0 = better(a0, better(v0, v1));
    a1 = better(a1, better(v2, v3));
    odd = hn::Add(odd, hn::Add(hn::Add(v0, v1), hn::Add(v2, v3)));
  }
  const auto careful = [](auto a, auto v) { return largest ? kMax(a, v) : kMin(a, v); };
  if (!hn::AllFalse(d, hn::IsNaN(odd))) return fold(x, n, worst, careful, careful);
  const VF most = better(a0, a1);
  const float first = whole == 0 ? worst : largest ? hn::GetLane(hn::MaxOfLanes(d, most)) : hn::GetLane(hn::MinOfLanes(d, most));
  return whole == n ? first : fold(x + whole, n - whole, first, careful, careful);
}

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

// e to the power of (x - largest), which no x exceeds, into e; returns their sum. `next` is asked for meanwhile, or null.
HWY_INLINE double exponentials(const float* x, float* e, int64_t n, float largest, const float* next) {
  const F32 d;
  const VF t = hn::Set(d, largest);
  const int64_t lanes = hn::Lanes(d), whole = n - n % (kTogether * lanes);
  double sum = 0;
  for (int64_t begin = 0; begin < whole; begin += kInTurn * kTogether * lanes) {
    const int64_t end = whole - begin < kInTurn * kTogether * lanes ? whole : begin + kInTurn * kTogether * lanes;
    Several<kTogether> sums{};
    LATHE_UNROLL(4)
    for (int k = 0; k < kTogether; ++k) sums.v[k] = hn::Zero(d);
    for (int64_t i = begin; i < end; i += kTogether * lanes) {
      Several<kTogether> v;
      LATHE_UNROLL(4)
      for (int k = 0; k < kTogether; ++k) {
        if (next) hwy::Prefetch(next + i + k * lanes);  // memory works on the next row while this one is computed
        v.v[k] = hn::Sub(hn::LoadU(d, x + i + k * lanes), t);
      }
      v = exp_down(v);
      sums = add(sums, v);
      LATHE_UNROLL(4)
      for (int k = 0; k < kTogether; ++k) hn::StoreU(v.v[k], d, e + i + k * lanes);
    }
    VF all = sums.v[0];
    for (int k = 1; k < kTogether; ++k) all = hn::Add(all, sums.v[k]);
    sum += static_cast<double>(across(all, kAdd));
  }
  map(e + whole, x + whole, n - whole, [&](VF v, int64_t) { return exp_down(hn::Sub(v, t)); });
  return sum + static_cast<double>(fold(e + whole, n - whole, 0.0f, kAdd, kAdd));
}

// Their sum alone, strip by strip; NaN when the largest is not finite.
HWY_INLINE double sum_of_exponentials(const float* x, int64_t n, float largest) {
  const VF t = hn::Set(F32(), largest);
  double sum = 0;
  float strip[256];
  for (int64_t i = 0; i < n; i += 256) {
    const int64_t k = n - i < 256 ? n - i : 256;
    map(strip, x + i, k, [&](VF v, int64_t) { return exp_f32(hn::Sub(v, t)); });
    sum += static_cast<double>(fold(strip, k, 0.0f, kAdd, kAdd));
  }
  return sum;
}

// The square of the distance from the mean, added up.
HWY_INLINE float squared_distances(const float* x, int64_t n, float mean) {
  return sum_of(x, n, [mean](auto a, auto v) {
    const hn::DFromV<decltype(v)> tag;
    const auto c = hn::Sub(v, hn::Set(tag, mean));
    return hn::MulAdd(c, c, a);
  });
}

// y = (x - mean) * inverse * scale + bias, the last two by element; bias may be null.
HWY_INLINE void normalise(const float* x, float* y, int64_t n, float mean, float inverse, const float* scale, const float* bias) {
  const F32 d;
  const int64_t whole = n - n % static_cast<int64_t>(hn::Lanes(d));
  for (int64_t i = 0; i < whole; i += hn::Lanes(d)) {
    VF v = hn::Mul(hn::Mul(hn::Sub(hn::LoadU(d, x + i), hn::Set(d, mean)), hn::Set(d, inverse)), hn::LoadU(d, scale + i));
    if (bias) v = hn::Add(v, hn::LoadU(d, bias + i));
    hn::StoreU(v, d, y + i);
  }
  for (int64_t i = whole; i < n; ++i) y[i] = (x[i] - mean) * inverse * scale[i] + (bias ? bias[i] : 0.0f);
}

// y = x * inverse * scale.
HWY_INLINE void scale_by_root(const float* x, float* y, int64_t n, float inverse, const float* scale) {
  const F32 d;
  const int64_t whole = n - n % static_cast<int64_t>(hn::Lanes(d));
  for (int64_t i = 0; i < whole; i += hn::Lanes(d))
    hn::StoreU(hn::Mul(hn::Mul(hn::LoadU(d, x + i), hn::Set(d, inverse)), hn::LoadU(d, scale + i)), d, y + i);
  for (int64_t i = whole; i < n; ++i) y[i] = x[i] * inverse * scale[i];
}

// y = (x - mean) * scale + shift, of one channel.
HWY_INLINE void normalise_channel(const float* x, float* y, int64_t n, float mean, float scale, float shift) {
  const F32 d;
  int64_t i = 0;
  for (; i + static_cast<int64_t>(hn::Lanes(d)) <= n; i += hn::Lanes(d))
    hn::StoreU(hn::MulAdd(hn::Sub(hn::LoadU(d, x + i), hn::Set(d, mean)), hn::Set(d, scale), hn::Set(d, shift)), d, y + i);
  for (; i < n; ++i) y[i] = (x[i] - mean) * scale + shift;
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif  // toggle
