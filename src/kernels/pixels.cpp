#include "kernels/pixels.hpp"

#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/pixels.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/halves.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

HWY_INLINE float One(const PixelLine& l, int64_t i, int c) {
  const uint8_t *top = l.top + l.left[i] + c, *bottom = l.bottom + l.left[i] + c;
  const float a = top[0], b = top[3], p = bottom[0], q = bottom[3];
  const float t = a + (b - a) * l.across[i], u = p + (q - p) * l.across[i];
  return t + (u - t) * l.down;
}

// A line as it stands.
int64_t Straight(const PixelLine& l, const float* mean, const float* scale, float* const* out) {
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
  return i;
}

// Pixels are put side by side by plain copies first: the processors' own gathers take longer.
int64_t Moved(const PixelLine& l, const float* mean, const float* scale, float* const* out) {
  constexpr int64_t kBlock = 64;
  const F32 d;
  const hn::Rebind<int32_t, F32> di;
  const int64_t lanes = hn::Lanes(d);
  const VF down = hn::Set(d, l.down);
  const auto low = hn::Set(di, 255);
  // Eight bytes hold a pixel, the one after it, and two that are left out.
  const auto byte = [&](hn::Vec<decltype(di)> word, int at) HWY_ATTR {
    switch (at) {
      case 0: return hn::ConvertTo(d, hn::And(word, low));
      case 1: return hn::ConvertTo(d, hn::And(hn::ShiftRight<8>(word), low));
      case 2: return hn::ConvertTo(d, hn::And(hn::ShiftRight<16>(word), low));
      default: return hn::ConvertTo(d, hn::And(hn::ShiftRight<24>(word), low));
    }
  };
  const auto lerp = [&](VF a, VF b, VF t) HWY_ATTR { return hn::Add(a, hn::Mul(hn::Sub(b, a), t)); };
  // Once: as far as the compiler knows, results may lie where these do.
  const VF m[3]{hn::Set(d, mean[0]), hn::Set(d, mean[1]), hn::Set(d, mean[2])},
      by[3]{hn::Set(d, scale[0]), hn::Set(d, scale[1]), hn::Set(d, scale[2])};
  HWY_ALIGN int32_t tops[2 * kBlock], bottoms[2 * kBlock];
  int64_t i = 0;
  for (; i + lanes <= l.count; i += kBlock) {
    const int64_t n = HWY_MIN(kBlock, l.count - i);
    for (int64_t k = 0; k < n; ++k) {
      const int32_t left = l.left[i + k];
      std::memcpy(&tops[2 * k], l.top + left, 8);
      std::memcpy(&bottoms[2 * k], l.bottom + left, 8);
    }
    int64_t k = 0;
    for (; k + lanes <= n; k += lanes) {
      hn::Vec<decltype(di)> a, b, p, q;
      hn::LoadInterleaved2(di, tops + 2 * k, a, b);
      hn::LoadInterleaved2(di, bottoms + 2 * k, p, q);
      const VF across = hn::LoadU(d, l.across + i + k);
      LATHE_UNROLL(3)
      for (int c = 0; c < 3; ++c) {
        const VF t = lerp(byte(a, c), c == 0 ? byte(a, 3) : byte(b, c - 1), across),
                 u = lerp(byte(p, c), c == 0 ? byte(p, 3) : byte(q, c - 1), across);
        hn::StoreU(hn::Mul(hn::Sub(lerp(t, u, down), m[c]), by[c]), d, out[c] + i + k);
      }
    }
    if (k < n) return i + k;
  }
  return HWY_MIN(i, l.count);
}

LATHE_GIVES_WAY void ResamplePixelsHere(const PixelLine& l, const float* mean, const float* scale, float* const* out) {
  int64_t i = 0;
  if (!l.moved && l.count > 0) i = Straight(l, mean, scale, out);
  else i = Moved(l, mean, scale, out);
  for (; i < l.count; ++i) {
    for (int c = 0; c < 3; ++c) out[c][i] = (One(l, i, c) - mean[c]) * scale[c];
  }
}

// A vector as what is stored, in lanes of its own width.
template <PixelKind kKind>
HWY_INLINE auto Stored(VF v) {
  const hn::RebindToSigned<F32> di;
  if constexpr (kKind == PixelKind::f32) return v;
  else if constexpr (kKind == PixelKind::f16) return hn::TruncateTo(U16(), to_f16(v));
  else if constexpr (kKind == PixelKind::bf16) return hn::TruncateTo(U16(), to_bf16(v));
  else {
    const F32 d;
    const VF held = hn::IfThenElseZero(hn::Eq(v, v), hn::Min(hn::Max(v, hn::Zero(d)), hn::Set(d, 255.0f)));
    return hn::DemoteTo(hn::Rebind<uint8_t, F32>(), hn::ConvertTo(di, hn::Round(held)));
  }
}
template <PixelKind kKind>
struct Element;
template <>
struct Element<PixelKind::f32> {
  using T = float;
};
template <>
struct Element<PixelKind::f16> {
  using T = uint16_t;
};
template <>
struct Element<PixelKind::bf16> {
  using T = uint16_t;
};
template <>
struct Element<PixelKind::u8> {
  using T = uint8_t;
};

template <PixelKind kKind>
void StoreAs(const float* const* rows, int64_t count, bool interleaved, void* const* out) {
  using T = typename Element<kKind>::T;
  const F32 d;
  const hn::Rebind<T, F32> dt;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = 0;
  for (; i + lanes <= count; i += lanes) {
    const auto a = Stored<kKind>(hn::LoadU(d, rows[0] + i)), b = Stored<kKind>(hn::LoadU(d, rows[1] + i)),
               c = Stored<kKind>(hn::LoadU(d, rows[2] + i));
    if (interleaved) {
      hn::StoreInterleaved3(a, b, c, dt, static_cast<T*>(out[0]) + 3 * i);
    } else {
      hn::StoreU(a, dt, static_cast<T*>(out[0]) + i);
      hn::StoreU(b, dt, static_cast<T*>(out[1]) + i);
      hn::StoreU(c, dt, static_cast<T*>(out[2]) + i);
    }
  }
  HWY_ALIGN float some[HWY_MAX_BYTES / 4] = {};
  HWY_ALIGN T one[HWY_MAX_BYTES / 4];
  for (int r = 0; r < 3 && i < count; ++r) {
    std::memcpy(some, rows[r] + i, static_cast<size_t>(count - i) * sizeof(float));
    hn::StoreU(Stored<kKind>(hn::Load(d, some)), dt, one);
    for (int64_t k = i; k < count; ++k) {
      if (interleaved) static_cast<T*>(out[0])[3 * k + r] = one[k - i];
      else static_cast<T*>(out[r])[k] = one[k - i];
    }
  }
}

LATHE_GIVES_WAY void StorePixelsHere(const float* const* rows, int64_t count, PixelKind kind, bool interleaved, void* const* out) {
  switch (kind) {
    case PixelKind::f32: StoreAs<PixelKind::f32>(rows, count, interleaved, out); break;
    case PixelKind::f16: StoreAs<PixelKind::f16>(rows, count, interleaved, out); break;
    case PixelKind::bf16: StoreAs<PixelKind::bf16>(rows, count, interleaved, out); break;
    case PixelKind::u8: StoreAs<PixelKind::u8>(rows, count, interleaved, out); break;
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
ResamplePixels resample_pixels(Isa isa) { return LATHE_SELECT(isa, ResamplePixelsHere); }
StorePixels store_pixels(Isa isa) { return LATHE_SELECT(isa, StorePixelsHere); }
}  // namespace lathe::kernels
#endif
