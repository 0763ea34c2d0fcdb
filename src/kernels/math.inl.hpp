// Vector math shared by the kernels, compiled once per instruction set (no include guard of the usual kind: Highway's).
#if defined(LATHE_KERNELS_MATH_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_MATH_INL
#undef LATHE_KERNELS_MATH_INL
#else
#define LATHE_KERNELS_MATH_INL
#endif

#include <hwy/contrib/math/math-inl.h>
#include <hwy/highway.h>

#include <limits>

#include "kernels/isa.hpp"

// Instrumented builds check every access: written out, the loops of large kernels would take them minutes to compile.
#undef LATHE_UNROLL
#undef LATHE_UNROLL_TEXT
#undef LATHE_INSTRUMENTED
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
#define LATHE_INSTRUMENTED 1
#elif defined(__clang__)
#define LATHE_INSTRUMENTED __has_feature(address_sanitizer) || __has_feature(thread_sanitizer)
#else
#define LATHE_INSTRUMENTED 0
#endif
#if LATHE_INSTRUMENTED
#define LATHE_UNROLL(n)
#else
#define LATHE_UNROLL_TEXT(text) _Pragma(#text)
#define LATHE_UNROLL(n) LATHE_UNROLL_TEXT(GCC unroll n)
#endif

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

namespace hn = hwy::HWY_NAMESPACE;
using F32 = hn::ScalableTag<float>;
using VF = hn::Vec<F32>;

// The instruction set this copy of the file is compiled for.
inline constexpr Isa kHere = HWY_TARGET == HWY_AVX3   ? Isa::avx512
                             : HWY_TARGET == HWY_AVX2 ? Isa::avx2
                             : HWY_TARGET == HWY_SSE4 ? Isa::sse4
                                                      : Isa::scalar;

// max and min in which NaN of either side comes through, as the plain path has it. The hardware's give their second operand
// when either is NaN; the scalar target's do not.
HWY_INLINE VF max_nan(F32, VF a, VF b) {
  const VF y = hn::IfThenElse(hn::IsNaN(a), a, hn::Max(a, b));
  return HWY_TARGET == HWY_SCALAR ? hn::IfThenElse(hn::IsNaN(b), b, y) : y;
}
HWY_INLINE VF min_nan(F32, VF a, VF b) {
  const VF y = hn::IfThenElse(hn::IsNaN(a), a, hn::Min(a, b));
  return HWY_TARGET == HWY_SCALAR ? hn::IfThenElse(hn::IsNaN(b), b, y) : y;
}

// Loads and stores of the first few lanes are an instruction.
inline constexpr bool kMasks = HWY_TARGET == HWY_AVX3 || HWY_TARGET == HWY_AVX2;

// The first n lanes only: nothing past them is touched; other lanes load as 0.
HWY_INLINE VF load_part(const float* p, int64_t n) {
  const F32 d;
  if constexpr (kMasks) {
    return hn::MaskedLoad(hn::FirstN(d, static_cast<size_t>(n)), d, p);
  } else {
    HWY_ALIGN float t[HWY_MAX_BYTES / 4 + 1] = {};
    for (int64_t i = 0; i < n; ++i) t[i] = p[i];
    return hn::Load(d, t);
  }
}
HWY_INLINE void store_part(VF v, float* p, int64_t n) {
  const F32 d;
  if constexpr (kMasks) {
    hn::BlendedStore(v, hn::FirstN(d, static_cast<size_t>(n)), d, p);
  } else {
    HWY_ALIGN float t[HWY_MAX_BYTES / 4 + 1];
    hn::Store(v, d, t);
    for (int64_t i = 0; i < n; ++i) p[i] = t[i];
  }
}

// Cody and Waite's reduction of e^x to 2^n e^r with |r| <= ln 2 / 2, and a minimax polynomial for e^r.
HWY_INLINE VF exp_reduced(F32 d, VF x, VF& n) {
  n = hn::Round(hn::Mul(x, hn::Set(d, 1.44269504f)));
  VF r = hn::MulAdd(n, hn::Set(d, -0.693359375f), x);
  r = hn::MulAdd(n, hn::Set(d, 2.12194440e-4f), r);
  VF p = hn::Set(d, 1.9875691500e-4f);
  p = hn::MulAdd(p, r, hn::Set(d, 1.3981999507e-3f));
  p = hn::MulAdd(p, r, hn::Set(d, 8.3334519073e-3f));
  p = hn::MulAdd(p, r, hn::Set(d, 4.1665795894e-2f));
  p = hn::MulAdd(p, r, hn::Set(d, 1.6666665459e-1f));
  p = hn::MulAdd(p, r, hn::Set(d, 5.0000001201e-1f));
  return hn::Add(hn::MulAdd(p, hn::Mul(r, r), r), hn::Set(d, 1.0f));
}

// e^x, denormals included; infinity and NaN come through. Bounds: bench/ulp.
HWY_INLINE VF exp_f32(F32 d, VF x) {
#if HWY_TARGET == HWY_AVX3
  // One instruction scales by 2^n, over- and underflow included. The clamp keeps n in range; it gives its second operand when that is NaN.
  VF n;
  const VF p = exp_reduced(d, hn::Min(hn::Set(d, 90.0f), hn::Max(hn::Set(d, -105.0f), x)), n);
  return VF{_mm512_scalef_ps(p.raw, n.raw)};
#else
  const VF high = hn::Set(d, 88.72283f);
  VF y = hn::Exp(d, hn::Min(high, hn::Max(hn::Set(d, -104.0f), x)));
  y = hn::IfThenElse(hn::Gt(x, high), hn::Set(d, std::numeric_limits<float>::infinity()), y);
  return hn::IfThenElse(hn::IsNaN(x), x, y);
#endif
}

// p 2^n for whole n from -126 to 127.
HWY_INLINE VF scale_by_power(F32 d, VF p, VF n) {
#if HWY_TARGET == HWY_AVX3
  return VF{_mm512_scalef_ps(p.raw, n.raw)};
#else
  const hn::RebindToSigned<F32> di;
  const auto power = hn::ShiftLeft<23>(hn::Add(hn::ConvertTo(di, n), hn::Set(di, 127)));
  return hn::Mul(p, hn::BitCast(d, power));
#endif
}

// e^x for x from -87 to 88.
HWY_INLINE VF exp_within(F32 d, VF x) {
  VF n;
  const VF p = exp_reduced(d, x, n);
  return scale_by_power(d, p, n);
}

// e^x for x at most 0 and no NaN, as softmax needs it: what would be a denormal below e^-87.3 is 0 but on AVX-512. -inf gives 0.
HWY_INLINE VF exp_down(F32 d, VF x) {
#if HWY_TARGET == HWY_AVX3
  return exp_within(d, hn::Max(hn::Set(d, -105.0f), x));
#else
  const VF low = hn::Set(d, -87.33654f);
  return hn::IfThenElseZero(hn::Ge(x, low), exp_within(d, hn::Max(x, low)));
#endif
}

HWY_INLINE VF log_f32(F32 d, VF x) {
  const VF inf = hn::Set(d, std::numeric_limits<float>::infinity());
  VF y = hn::Log(d, x);
  y = hn::IfThenElse(hn::Eq(x, hn::Zero(d)), hn::Neg(inf), y);
  y = hn::IfThenElse(hn::Eq(x, inf), inf, y);
  y = hn::IfThenElse(hn::Lt(x, hn::Zero(d)), hn::Set(d, std::numeric_limits<float>::quiet_NaN()), y);
  return hn::IfThenElse(hn::IsNaN(x), x, y);
}

// tanh: an odd polynomial near zero (Cephes' coefficients), 1 - 2 / (e^2x + 1) beyond. A NaN is not beyond, and comes through the
// polynomial.
HWY_INLINE VF tanh_f32(F32 d, VF x) {
  const VF t = hn::Abs(x), s = hn::Mul(x, x), one = hn::Set(d, 1.0f);
  const VF e = exp_within(d, hn::Min(hn::Set(d, 20.0f), hn::Add(t, t)));
  const VF far = hn::CopySign(hn::Sub(one, hn::Div(hn::Set(d, 2.0f), hn::Add(e, one))), x);
  VF p = hn::Set(d, -5.70498872745e-3f);
  p = hn::MulAdd(p, s, hn::Set(d, 2.06390887954e-2f));
  p = hn::MulAdd(p, s, hn::Set(d, -5.37397155531e-2f));
  p = hn::MulAdd(p, s, hn::Set(d, 1.33314422036e-1f));
  p = hn::MulAdd(p, s, hn::Set(d, -3.33332819422e-1f));
  return hn::IfThenElse(hn::Gt(t, hn::Set(d, 0.625f)), far, hn::MulAdd(hn::Mul(p, s), x, x));
}

HWY_INLINE VF sigmoid_f32(F32 d, VF x) { return hn::Div(hn::Set(d, 1.0f), hn::Add(hn::Set(d, 1.0f), exp_f32(d, hn::Neg(x)))); }

// erf: a polynomial near zero, 1 - exp(polynomial) beyond; both minimax fits, about 1 ulp. A NaN comes
// through the near one; past 4 the far one is 1.
HWY_INLINE VF erf_f32(F32 d, VF x) {
  const VF size = hn::Abs(x), s = hn::Mul(x, x), t = hn::Min(size, hn::Set(d, 4.0f)), tt = hn::Mul(t, t);
  VF r = hn::MulAdd(hn::Set(d, -1.72853470e-5f), t, hn::Set(d, 3.83197126e-4f));
  const VF u = hn::MulAdd(hn::Set(d, -3.88396438e-3f), t, hn::Set(d, 2.42546219e-2f));
  r = hn::MulAdd(r, tt, u);
  r = hn::MulAdd(r, t, hn::Set(d, -1.06777877e-1f));
  r = hn::MulAdd(r, t, hn::Set(d, -6.34846687e-1f));
  r = hn::MulAdd(r, t, hn::Set(d, -1.28717512e-1f));
  r = hn::MulAdd(r, t, hn::Neg(t));
  const VF far = hn::CopySign(hn::Sub(hn::Set(d, 1.0f), exp_within(d, r)), x);
  VF p = hn::Set(d, -5.96761703e-4f);
  p = hn::MulAdd(p, s, hn::Set(d, 4.99119423e-3f));
  p = hn::MulAdd(p, s, hn::Set(d, -2.67681349e-2f));
  p = hn::MulAdd(p, s, hn::Set(d, 1.12819925e-1f));
  p = hn::MulAdd(p, s, hn::Set(d, -3.76125336e-1f));
  p = hn::MulAdd(p, s, hn::Set(d, 1.28379166e-1f));
  const VF near = hn::MulAdd(p, x, x);
  return hn::IfThenElse(hn::Gt(size, hn::Set(d, 0.921875f)), far, near);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
