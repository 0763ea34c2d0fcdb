// 16-bit floats to and from f32, compiled once per instruction set (no include guard of the usual kind: Highway's).
#if defined(LATHE_KERNELS_HALVES_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_HALVES_INL
#undef LATHE_KERNELS_HALVES_INL
#else
#define LATHE_KERNELS_HALVES_INL
#endif

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Their bits in the low half of 32-bit lanes; rounded to the nearest, ties to even. NaN stays NaN, without what it carries.
using U32 = hn::RebindToUnsigned<F32>;
using VU = hn::Vec<U32>;

inline constexpr bool kHasF16 = HWY_TARGET == HWY_AVX2 || HWY_TARGET == HWY_AVX3 || HWY_TARGET == HWY_NEON;

HWY_INLINE VF from_bf16(VU bits) { return hn::BitCast(F32(), hn::ShiftLeft<16>(bits)); }
HWY_INLINE VU to_bf16(VF x) {
  const U32 u;
  const VU bits = hn::BitCast(u, x);
  const VU rounded = hn::ShiftRight<16>(hn::Add(hn::Add(bits, hn::Set(u, 0x7fffu)), hn::And(hn::ShiftRight<16>(bits), hn::Set(u, 1u))));
  const VU nan = hn::Or(hn::ShiftRight<16>(hn::And(bits, hn::Set(u, 0x80000000u))), hn::Set(u, 0x7fc0u));
  return hn::IfThenElse(hn::RebindMask(u, hn::IsNaN(x)), nan, rounded);
}
HWY_INLINE VF from_f16(VU bits) {
  const U32 u;
  const F32 d;
  const VU magnitude = hn::And(bits, hn::Set(u, 0x7fffu)), sign = hn::ShiftLeft<16>(hn::And(bits, hn::Set(u, 0x8000u)));
  // Exponents move by a multiplication, which makes denormals normal.
  const VU x = hn::BitCast(u, hn::Mul(hn::BitCast(d, hn::ShiftLeft<13>(magnitude)), hn::Set(d, 0x1p112f)));
  const VU special = hn::Or(x, hn::Set(u, 0x7f800000u));
  return hn::BitCast(d, hn::Or(sign, hn::IfThenElse(hn::Gt(magnitude, hn::Set(u, 0x7bffu)), special, x)));
}
HWY_INLINE VU to_f16(VF x) {
  const U32 u;
  const F32 d;
  const VU bits = hn::BitCast(u, x), magnitude = hn::And(bits, hn::Set(u, 0x7fffffffu));
  const VU sign = hn::ShiftRight<16>(hn::And(bits, hn::Set(u, 0x80000000u)));
  // Below the smallest normal one, adding a number whose last place is the spacing there rounds.
  const VU least = hn::Set(u, 0x3f000000u);
  const VU denormal = hn::Sub(hn::BitCast(u, hn::Add(hn::BitCast(d, magnitude), hn::BitCast(d, least))), least);
  const VU odd = hn::And(hn::ShiftRight<13>(magnitude), hn::Set(u, 1u));
  const VU normal = hn::ShiftRight<13>(hn::Add(hn::Add(magnitude, hn::Set(u, 0xc8000fffu)), odd));
  VU y = hn::IfThenElse(hn::Lt(magnitude, hn::Set(u, 0x38800000u)), denormal, normal);
  y = hn::IfThenElse(hn::Gt(magnitude, hn::Set(u, 0x477fffffu)), hn::Set(u, 0x7c00u), y);
  y = hn::IfThenElse(hn::Gt(magnitude, hn::Set(u, 0x7f800000u)), hn::Set(u, 0x7e00u), y);
  return hn::Or(y, sign);
}

using U16 = hn::Rebind<uint16_t, F32>;
HWY_INLINE VF load_bf16(const uint16_t* p) { return from_bf16(hn::PromoteTo(U32(), hn::LoadU(U16(), p))); }
HWY_INLINE void store_bf16(VF x, uint16_t* p) { hn::StoreU(hn::TruncateTo(U16(), to_bf16(x)), U16(), p); }
HWY_INLINE VF load_f16(const uint16_t* p) {
  if constexpr (kHasF16)
    return hn::PromoteTo(F32(), hn::LoadU(hn::Rebind<hwy::float16_t, F32>(), reinterpret_cast<const hwy::float16_t*>(p)));
  else return from_f16(hn::PromoteTo(U32(), hn::LoadU(U16(), p)));
}
HWY_INLINE void store_f16(VF x, uint16_t* p) {
  const hn::Rebind<hwy::float16_t, F32> d16;
  if constexpr (kHasF16) hn::StoreU(hn::DemoteTo(d16, x), d16, reinterpret_cast<hwy::float16_t*>(p));
  else hn::StoreU(hn::TruncateTo(U16(), to_f16(x)), U16(), p);
}
HWY_INLINE VF round_f16(VF x) {
  if constexpr (kHasF16) return hn::PromoteTo(F32(), hn::DemoteTo(hn::Rebind<hwy::float16_t, F32>(), x));
  else return from_f16(to_f16(x));
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
