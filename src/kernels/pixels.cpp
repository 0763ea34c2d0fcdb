#include "kernels/pixels.hpp"

#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/pixels.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

HWY_INLINE float One(const PixelLine& l, int64_t i, int c) {
  const float a = l.top[l.left[i] + c], b = l.top[l.right[i] + c], p = l.bottom[l.left[i] + c], q = l.bottom[l.right[i] + c];
  const float t = a + (b - a) * l.across[i], u = p + (q - p) * l.across[i];
  return t + (u - t) * l.down;
}

// A line as it stands: no gathers.
void Straight(const PixelLine& l, const float* mean, const float* scale, float* const* out) {
  const F32 d;
  const hn::Rebind<uint8_t, F32> du;
  const hn::Rebind<int32_t, F32> di;
  const int64_t lanes = hn::Lanes(d);
  const VF down = hn::Set(d, l.down);
  const uint8_t *top = l.top + l.left[0], *bottom = l.bottom + l.left[0];
  int64_t i = 0;
  for (; i + lanes <= l.count; i += lanes) {
    hn::Vec<decltype(du)> a[3], b[3];
    hn::LoadInterleaved3(du, top + 3 * i, a[0], a[1], a[2]);
    if (l.down != 0) hn::LoadInterleaved3(du, bottom + 3 * i, b[0], b[1], b[2]);
    for (int c = 0; c < 3; ++c) {
      VF v = hn::ConvertTo(d, hn::PromoteTo(di, a[c]));
      if (l.down != 0) v = hn::Add(v, hn::Mul(hn::Sub(hn::ConvertTo(d, hn::PromoteTo(di, b[c])), v), down));
      hn::StoreU(hn::Mul(hn::Sub(v, hn::Set(d, mean[c])), hn::Set(d, scale[c])), d, out[c] + i);
    }
  }
  for (; i < l.count; ++i) {
    for (int c = 0; c < 3; ++c) out[c][i] = (One(l, i, c) - mean[c]) * scale[c];
  }
}

void ResamplePixelsHere(const PixelLine& l, const float* mean, const float* scale, float* const* out) {
  if (!l.moved && l.count > 0) {
    Straight(l, mean, scale, out);
    return;
  }
  int64_t i = 0;
#if HWY_TARGET != HWY_SCALAR
  const F32 d;
  const hn::Rebind<int32_t, F32> di;
  const int64_t lanes = hn::Lanes(d);
  const VF down = hn::Set(d, l.down);
  const auto low = hn::Set(di, 255);
  // A gathered word holds the three channels of a pixel and a byte that is left out.
  const auto words = [&](const uint8_t* line, hn::Vec<decltype(di)> at)
                         HWY_ATTR { return hn::GatherOffset(di, reinterpret_cast<const int32_t*>(line), at); };
  const auto channel = [&](hn::Vec<decltype(di)> word, int c) HWY_ATTR {
    const auto v = c == 0 ? word : c == 1 ? hn::ShiftRight<8>(word) : hn::ShiftRight<16>(word);
    return hn::ConvertTo(d, hn::And(v, low));
  };
  const auto lerp = [&](VF a, VF b, VF t) HWY_ATTR { return hn::Add(a, hn::Mul(hn::Sub(b, a), t)); };
  for (; i + lanes <= l.count; i += lanes) {
    const auto left = hn::LoadU(di, l.left + i), right = hn::LoadU(di, l.right + i);
    const VF across = hn::LoadU(d, l.across + i);
    const auto a = words(l.top, left), b = words(l.top, right), p = words(l.bottom, left), q = words(l.bottom, right);
    for (int c = 0; c < 3; ++c) {
      const VF t = lerp(channel(a, c), channel(b, c), across), u = lerp(channel(p, c), channel(q, c), across);
      hn::StoreU(hn::Mul(hn::Sub(lerp(t, u, down), hn::Set(d, mean[c])), hn::Set(d, scale[c])), d, out[c] + i);
    }
  }
#endif
  for (; i < l.count; ++i) {
    for (int c = 0; c < 3; ++c) out[c][i] = (One(l, i, c) - mean[c]) * scale[c];
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
ResamplePixels resample_pixels(Isa isa) { return LATHE_SELECT(isa, ResamplePixelsHere); }
}  // namespace lathe::kernels
#endif
