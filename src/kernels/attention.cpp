#include "kernels/attention.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <type_traits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/attention.cpp"
#include <hwy/cache_control.h>
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// The largest of `start` and n numbers, whole vectors of them; NaN when there is one. Looking for NaN in every step takes longer than the
// comparisons do: a sum carried along turns NaN with it (and for infinities of both signs); then it is done again with care.
float largest(const float* s, int64_t n, float start) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  VF a0 = hn::Set(d, start), a1 = a0, odd0 = hn::Zero(d), odd1 = odd0;
  int64_t i = 0;
  for (; i + 2 * lanes <= n; i += 2 * lanes) {
    const VF v0 = hn::LoadU(d, s + i), v1 = hn::LoadU(d, s + i + lanes);
    a0 = hn::Max(v0, a0), a1 = hn::Max(v1, a1);
    odd0 = hn::Add(odd0, v0), odd1 = hn::Add(odd1, v1);
  }
  if (i < n) {
    const VF v = hn::LoadU(d, s + i);
    a0 = hn::Max(v, a0), odd0 = hn::Add(odd0, v);
  }
  // What was the largest before is no number: its row is given up already, and stays so.
  if (HWY_LIKELY(hn::AllFalse(d, hn::IsNaN(hn::Add(odd0, odd1))) && start == start)) return hn::GetLane(hn::MaxOfLanes(d, hn::Max(a0, a1)));
  VF most = hn::Set(d, start);
  for (i = 0; i < n; i += lanes) most = max_nan(d, hn::LoadU(d, s + i), most);
  // A NaN in any lane must win; the maximum over lanes may lose it.
  return hn::AllFalse(d, hn::IsNaN(most)) ? hn::GetLane(hn::MaxOfLanes(d, most)) : std::numeric_limits<float>::quiet_NaN();
}

LATHE_GIVES_WAY void SoftenHere(const SoftenArguments& g) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  constexpr float kNone = -std::numeric_limits<float>::infinity();
  for (int64_t r = 0; r < g.rows; ++r) {
    float* s = g.scores + r * g.stride;
    const int64_t seen = std::clamp<int64_t>(g.visible + r, 0, g.columns);
    // Up to whole vectors, where the row has room behind it: what is hidden is so low that nothing comes of it.
    const int64_t whole = seen - seen % lanes, rest = seen - whole, padded = whole + (rest > 0 ? lanes : 0);
    const auto last = hn::FirstN(d, static_cast<size_t>(rest));
    if (g.mask) {
      const float* m = g.mask + r * g.mask_stride;
      for (int64_t i = 0; i < whole; i += lanes) hn::StoreU(hn::Add(hn::LoadU(d, s + i), hn::LoadU(d, m + i)), d, s + i);
      if (rest > 0) hn::StoreU(hn::Add(hn::LoadU(d, s + whole), load_part(m + whole, rest)), d, s + whole);
    } else if (g.keep) {
      const uint8_t* m = g.keep + r * g.mask_stride;
      for (int64_t i = 0; i < seen; ++i) s[i] = m[i] ? s[i] : kNone;
    }
    if (rest > 0) hn::StoreU(hn::IfThenElse(last, hn::LoadU(d, s + whole), hn::Set(d, kNone)), d, s + whole);
    float maximum = g.first ? kNone : g.maximum[r];
    const float before = maximum;
    maximum = largest(s, padded, maximum);
    // While no key counts, every weight is 0 (and not exp(-inf + inf)).
    const float shift = maximum == kNone ? 0 : maximum;
    if (!(shift <= std::numeric_limits<float>::max())) {  // NaN, or infinity less infinity: nothing but NaN comes of the row
      constexpr float kNaN = std::numeric_limits<float>::quiet_NaN();
      std::fill_n(s, g.columns, kNaN);
      std::fill_n(g.out + r * g.out_stride, g.width, kNaN);
      g.maximum[r] = g.sum[r] = kNaN;
      continue;
    }
    VF sum = hn::Zero(d);
    const VF t = hn::Set(d, shift);
    int64_t i = 0;
    for (; i + kTogether * lanes <= padded; i += kTogether * lanes) {
      Several<kTogether> e;
      LATHE_UNROLL(4)
      for (int k = 0; k < kTogether; ++k) e.v[k] = hn::Sub(hn::LoadU(d, s + i + k * lanes), t);
      e = exp_down(e);
      LATHE_UNROLL(4)
      for (int k = 0; k < kTogether; ++k) {
        sum = hn::Add(sum, e.v[k]);
        hn::StoreU(e.v[k], d, s + i + k * lanes);
      }
    }
    for (; i < padded; i += lanes) {
      const VF e = exp_down(hn::Sub(hn::LoadU(d, s + i), t));
      sum = hn::Add(sum, e);
      hn::StoreU(e, d, s + i);
    }
    float row_sum = hn::GetLane(hn::SumOfLanes(d, sum));
    for (; i < g.columns; ++i) s[i] = 0;
    float* out = g.out + r * g.out_stride;
    if (g.first) {
      for (int64_t j = 0; j < g.width; ++j) out[j] = 0;
    } else if (!(before == maximum)) {
      const float factor = before == kNone ? 0 : std::exp(before - shift);
      row_sum += g.sum[r] * factor;
      const VF f = hn::Set(d, factor);
      int64_t j = 0;
      for (; j + lanes <= g.width; j += lanes) hn::StoreU(hn::Mul(hn::LoadU(d, out + j), f), d, out + j);
      for (; j < g.width; ++j) out[j] *= factor;
    } else {
      row_sum += g.sum[r];
    }
    g.maximum[r] = maximum;
    g.sum[r] = row_sum;
  }
}

LATHE_GIVES_WAY void DotsHere(const DotsArguments& g) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), whole = g.width - g.width % lanes;
  constexpr int kKeys = 4;        // sums that do not wait for one another
  constexpr int64_t kAhead = 16;  // rows that are asked for before they are needed: they come from far away
  const auto dot = [&]<int N>(std::integral_constant<int, N>, const float* q, int64_t j, float* to) HWY_ATTR {
    const float* k = g.k + j * g.k_stride;
    VF acc[N];
    LATHE_UNROLL(4)
    for (int n = 0; n < N; ++n) acc[n] = hn::Zero(d);
    for (int64_t i = 0; i < whole; i += lanes) {
      LATHE_UNROLL(4)
      for (int n = 0; n < N; ++n) hwy::Prefetch(k + (n + kAhead) * g.k_stride + i);
      const VF x = hn::LoadU(d, q + i);
      LATHE_UNROLL(4)
      for (int n = 0; n < N; ++n) acc[n] = hn::MulAdd(x, hn::LoadU(d, k + n * g.k_stride + i), acc[n]);
    }
    if (whole < g.width) {
      const VF x = load_part(q + whole, g.width - whole);
      LATHE_UNROLL(4)
      for (int n = 0; n < N; ++n) acc[n] = hn::MulAdd(x, load_part(k + n * g.k_stride + whole, g.width - whole), acc[n]);
    }
    for (int n = 0; n < N; ++n) to[j + n] = g.scale * hn::GetLane(hn::SumOfLanes(d, acc[n]));
  };
  for (int64_t r = 0; r < g.rows; ++r) {
    int64_t j = 0;
    for (; j + kKeys <= g.keys; j += kKeys) dot(std::integral_constant<int, kKeys>(), g.q + r * g.q_stride, j, g.scores + r * g.stride);
    for (; j < g.keys; ++j) dot(std::integral_constant<int, 1>(), g.q + r * g.q_stride, j, g.scores + r * g.stride);
  }
}

LATHE_GIVES_WAY void MixHere(const MixArguments& g) {
  constexpr int64_t kAhead = 16;
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  const auto columns = [&]<int N>(std::integral_constant<int, N>, const float* w, int64_t i, float* out) HWY_ATTR {
    VF acc[N];
    LATHE_UNROLL(4)
    for (int n = 0; n < N; ++n) acc[n] = hn::LoadU(d, out + i + n * lanes);
    for (int64_t j = 0; j < g.keys; ++j) {
      const VF by = hn::Set(d, w[j]);
      LATHE_UNROLL(4)
      for (int n = 0; n < N; ++n) hwy::Prefetch(g.v + (j + kAhead) * g.v_stride + i + n * lanes);
      LATHE_UNROLL(4)
      for (int n = 0; n < N; ++n) acc[n] = hn::MulAdd(by, hn::LoadU(d, g.v + j * g.v_stride + i + n * lanes), acc[n]);
    }
    LATHE_UNROLL(4)
    for (int n = 0; n < N; ++n) hn::StoreU(acc[n], d, out + i + n * lanes);
  };
  for (int64_t r = 0; r < g.rows; ++r) {
    const float* w = g.weights + r * g.stride;
    float* out = g.out + r * g.out_stride;
    int64_t i = 0;
    for (; i + 4 * lanes <= g.width; i += 4 * lanes) columns(std::integral_constant<int, 4>(), w, i, out);
    for (; i + lanes <= g.width; i += lanes) columns(std::integral_constant<int, 1>(), w, i, out);
    if (i < g.width) {
      const int64_t n = g.width - i;
      VF acc = load_part(out + i, n);
      for (int64_t j = 0; j < g.keys; ++j) acc = hn::MulAdd(hn::Set(d, w[j]), load_part(g.v + j * g.v_stride + i, n), acc);
      store_part(acc, out + i, n);
    }
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

Soften soften(Isa isa) { return LATHE_SELECT(isa, SoftenHere); }
Dots dots(Isa isa) { return LATHE_SELECT(isa, DotsHere); }
Mix mix(Isa isa) { return LATHE_SELECT(isa, MixHere); }

void settle(const SettleArguments& a) {
  for (int64_t r = 0; r < a.rows; ++r) {
    float* out = a.out + r * a.out_stride;
    const float factor = a.sum[r] == 0 ? a.blind : 1 / a.sum[r];
    for (int64_t j = 0; j < a.width; ++j) out[j] *= factor;
  }
}

}  // namespace lathe::kernels
#endif
