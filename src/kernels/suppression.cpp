#include "kernels/suppression.hpp"

#include <algorithm>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/suppression.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

LATHE_GIVES_WAY bool OverlappedHere(const Corners& kept, int64_t count, float l, float t, float r, float b, float most) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  const float own = std::max(r - l, 0.0f) * std::max(b - t, 0.0f);
  const VF left = hn::Set(d, l), top = hn::Set(d, t), right = hn::Set(d, r), bottom = hn::Set(d, b), area = hn::Set(d, own),
           limit = hn::Set(d, most), zero = hn::Zero(d);
  int64_t i = 0;
  for (; i + lanes <= count; i += lanes) {
    const VF kl = hn::LoadU(d, kept.left + i), kt = hn::LoadU(d, kept.top + i), kr = hn::LoadU(d, kept.right + i),
             kb = hn::LoadU(d, kept.bottom + i);
    const VF w = hn::Max(hn::Sub(hn::Min(right, kr), hn::Max(left, kl)), zero),
             h = hn::Max(hn::Sub(hn::Min(bottom, kb), hn::Max(top, kt)), zero), both = hn::Mul(w, h);
    const VF other = hn::Mul(hn::Max(hn::Sub(kr, kl), zero), hn::Max(hn::Sub(kb, kt), zero));
    // Without a division, which would be most of the time.
    const auto over = hn::Gt(both, hn::Mul(limit, hn::Sub(hn::Add(area, other), both)));
    if (!hn::AllFalse(d, hn::And(over, hn::Gt(both, zero)))) return true;
  }
  for (; i < count; ++i) {
    const float w = std::max(std::min(r, kept.right[i]) - std::max(l, kept.left[i]), 0.0f),
                h = std::max(std::min(b, kept.bottom[i]) - std::max(t, kept.top[i]), 0.0f), both = w * h;
    const float other = std::max(kept.right[i] - kept.left[i], 0.0f) * std::max(kept.bottom[i] - kept.top[i], 0.0f);
    if (both > 0 && both > most * (own + other - both)) return true;
  }
  return false;
}

LATHE_GIVES_WAY int64_t FindAboveHere(const float* x, int64_t count, float least, int32_t* places) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  const VF limit = hn::Set(d, least);
  int64_t found = 0, i = 0;
  for (; i + lanes <= count; i += lanes) {
    if (hn::AllFalse(d, hn::Gt(hn::LoadU(d, x + i), limit))) continue;
    for (int64_t k = i; k < i + lanes; ++k) {
      if (x[k] > least) places[found++] = static_cast<int32_t>(k);
    }
  }
  for (; i < count; ++i) {
    if (x[i] > least) places[found++] = static_cast<int32_t>(i);
  }
  return found;
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Overlapped overlapped(Isa isa) { return LATHE_SELECT(isa, OverlappedHere); }
FindAbove find_above(Isa isa) { return LATHE_SELECT(isa, FindAboveHere); }
}  // namespace lathe::kernels
#endif
