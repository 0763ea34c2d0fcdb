// Vector math shared by the kernels, compiled once per instruction set (no include guard of the usual kind: Highway's).
#if defined(LATHE_KERNELS_MATH_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_MATH_INL
#undef LATHE_KERNELS_MATH_INL
#else
#define LATHE_KERNELS_MATH_INL
#endif

#include <hwy/contrib/math/math-inl.h>
#include <hwy/highway.h>

#include <algorithm>
#include <limits>
#include <utility>

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
                             : HWY_TARGET == HWY_NEON ? Isa::neon
                             : HWY_TARGET == HWY_WASM ? Isa::simd128
                                                      : Isa::scalar;

// max and min in which NaN of either side comes through, as the plain path has it. The hardware's give their second operand
// when either is NaN on x86; the scalar target's do not, and ARM's give the other one.
inline constexpr bool kSecondIsNan = HWY_TARGET != HWY_SCALAR && HWY_TARGET != HWY_NEON;
HWY_INLINE VF max_nan(F32, VF a, VF b) {
  const VF y = hn::IfThenElse(hn::IsNaN(a), a, hn::Max(a, b));
  return kSecondIsNan ? y : hn::IfThenElse(hn::IsNaN(b), b, y);
}
HWY_INLINE VF min_nan(F32, VF a, VF b) {
  const VF y = hn::IfThenElse(hn::IsNaN(a), a, hn::Min(a, b));
  return kSecondIsNan ? y : hn::IfThenElse(hn::IsNaN(b), b, y);
}

// Raised to a bound that is no NaN, or lowered to one; NaN stays, and so does a zero that equals it, whatever its sign. x86 gives the
// second operand there, in one instruction.
inline constexpr bool kSecondWins = HWY_TARGET == HWY_SSE4 || HWY_TARGET == HWY_AVX2 || HWY_TARGET == HWY_AVX3;
HWY_INLINE VF at_least(VF x, VF low) {
  if constexpr (kSecondWins) return hn::Max(low, x);
  return hn::IfThenElse(hn::Lt(x, low), low, x);
}
HWY_INLINE VF at_most(VF x, VF high) {
  if constexpr (kSecondWins) return hn::Min(high, x);
  return hn::IfThenElse(hn::Gt(x, high), high, x);
}
HWY_INLINE VF clamped(VF x, VF low, VF high) { return at_most(at_least(x, low), high); }

// Panels of packed weights: vectors of columns, and columns. What reads them must have the same.
inline constexpr int kPanelVectors = HWY_TARGET == HWY_SCALAR || HWY_TARGET == HWY_NEON ? 4 : 2;
inline constexpr int64_t kPanelWidth = kPanelVectors * (HWY_TARGET == HWY_SCALAR ? 1
                                                        : HWY_MAX_BYTES == 0     ? 1
                                                                                 : static_cast<int64_t>(hn::MaxLanes(F32())));

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

// Some vectors worked on together. The functions below are one long chain of dependent instructions a vector: more of it waits than the
// core can look past, and the units idle. Four vectors' chains, written instruction beside instruction, fill them.
template <int N>
struct Several {
  VF v[N];
  // Constructors that the compiler makes up would be for another target.
  HWY_INLINE Several() {}
  template <typename... A>
  requires(sizeof...(A) == N) HWY_INLINE explicit Several(A... a) : v{a...} {}
};
inline constexpr int kTogether = HWY_TARGET == HWY_AVX3 ? 4 : 2;  // registers for more there are not

template <typename V>
inline constexpr int kCount = 1;
template <int N>
inline constexpr int kCount<Several<N>> = N;

HWY_INLINE VF part(VF x, int) { return x; }
template <int N>
HWY_INLINE VF part(const Several<N>& x, int i) {
  return x.v[i];
}

// f of each vector in turn; an operand that is a single vector goes with every one.
template <typename F, typename... A>
HWY_INLINE auto each_of(F f, A... a) {
  constexpr int n = std::max({kCount<A>...});
  if constexpr (n == 1) {
    return f(a...);
  } else {
    return [&]<int... I>(std::integer_sequence<int, I...>) HWY_ATTR {
      const auto one = [&](int i) HWY_ATTR { return f(part(a, i)...); };
      return Several<n>(one(I)...);
    }
    (std::make_integer_sequence<int, n>());
  }
}

// The operations the functions need, on one vector or several. Numbers are broadcast.
template <typename V>
HWY_INLINE V add(V a, V b) {
  return each_of([](VF x, VF y) HWY_ATTR { return hn::Add(x, y); }, a, b);
}
template <typename V>
HWY_INLINE V add(V a, float b) {
  return each_of([](VF x, VF y) HWY_ATTR { return hn::Add(x, y); }, a, hn::Set(F32(), b));
}
template <typename V>
HWY_INLINE V mul(V a, V b) {
  return each_of([](VF x, VF y) HWY_ATTR { return hn::Mul(x, y); }, a, b);
}
template <typename V>
HWY_INLINE V mul(V a, float b) {
  return each_of([](VF x, VF y) HWY_ATTR { return hn::Mul(x, y); }, a, hn::Set(F32(), b));
}
template <typename V>
HWY_INLINE V mul_add(V a, V b, V c) {
  return each_of([](VF x, VF y, VF z) HWY_ATTR { return hn::MulAdd(x, y, z); }, a, b, c);
}
template <typename V>
HWY_INLINE V mul_add(V a, V b, float c) {
  return each_of([](VF x, VF y, VF z) HWY_ATTR { return hn::MulAdd(x, y, z); }, a, b, hn::Set(F32(), c));
}
template <typename V>
HWY_INLINE V mul_add(V a, float b, V c) {
  return each_of([](VF x, VF y, VF z) HWY_ATTR { return hn::MulAdd(x, y, z); }, a, hn::Set(F32(), b), c);
}
template <typename V>
HWY_INLINE V mul_add(V a, float b, float c) {
  return each_of([](VF x, VF y, VF z) HWY_ATTR { return hn::MulAdd(x, y, z); }, a, hn::Set(F32(), b), hn::Set(F32(), c));
}
template <typename V>
HWY_INLINE V one_minus(V a) {
  return each_of([](VF x) HWY_ATTR { return hn::Sub(hn::Set(F32(), 1.0f), x); }, a);
}
template <typename V>
HWY_INLINE V absolute(V a) {
  return each_of([](VF x) HWY_ATTR { return hn::Abs(x); }, a);
}
template <typename V>
HWY_INLINE V negative(V a) {
  return each_of([](VF x) HWY_ATTR { return hn::Neg(x); }, a);
}
template <typename V>
HWY_INLINE V with_sign(V size, V sign) {
  return each_of([](VF x, VF y) HWY_ATTR { return hn::CopySign(x, y); }, size, sign);
}
// NaN gives the limit.
template <typename V>
HWY_INLINE V at_most(V a, float limit) {
  return each_of([](VF x, VF y) HWY_ATTR { return hn::Min(x, y); }, a, hn::Set(F32(), limit));
}
// NaN gives NaN on x86.
template <typename V>
HWY_INLINE V at_least(V a, float limit) {
  return each_of([](VF x, VF y) HWY_ATTR { return hn::Max(y, x); }, a, hn::Set(F32(), limit));
}
template <typename V>
HWY_INLINE V above_or(V a, float limit, V above, V otherwise) {  // a > limit ? above : otherwise
  return each_of([](VF x, VF y, VF p, VF q) HWY_ATTR { return hn::IfThenElse(hn::Gt(x, y), p, q); }, a, hn::Set(F32(), limit), above,
                 otherwise);
}

// p 2^n for whole n from -126 to 127; AVX-512: any, over- and underflow included.
template <typename V>
HWY_INLINE V scale_by_power(V p, V n) {
  return each_of(
      [](VF x, VF y) HWY_ATTR {
#if HWY_TARGET == HWY_AVX3
        return VF{_mm512_scalef_ps(x.raw, y.raw)};
#else
        const hn::RebindToSigned<F32> di;
        return hn::Mul(x, hn::BitCast(F32(), hn::ShiftLeft<23>(hn::Add(hn::ConvertTo(di, y), hn::Set(di, 127)))));
#endif
      },
      p, n);
}

// e^x for x from -87 to 88: Cody and Waite's reduction to 2^n e^r with |r| <= ln 2 / 2, and a minimax polynomial for e^r.
template <typename V>
HWY_INLINE V exp_within(V x) {
  const V n = each_of([](VF v) HWY_ATTR { return hn::Round(v); }, mul(x, 1.44269504f));
  V r = mul_add(n, -0.693359375f, x);
  r = mul_add(n, 2.12194440e-4f, r);
  const V rr = mul(r, r);
  V p = mul_add(r, 1.9875691500e-4f, 1.3981999507e-3f);
  p = mul_add(p, r, 8.3334519073e-3f);
  p = mul_add(p, r, 4.1665795894e-2f);
  p = mul_add(p, r, 1.6666665459e-1f);
  p = mul_add(p, r, 5.0000001201e-1f);
  return scale_by_power(add(mul_add(p, rr, r), 1.0f), n);
}

// e^x, denormals included; infinity and NaN come through. Bounds: bench/ulp.
template <typename V>
HWY_INLINE V exp_f32(V x) {
#if HWY_TARGET == HWY_AVX3
  // The clamp keeps n in range; it gives its second operand when that is NaN.
  return exp_within(each_of([](VF v) HWY_ATTR { return hn::Min(hn::Set(F32(), 90.0f), hn::Max(hn::Set(F32(), -105.0f), v)); }, x));
#else
  return each_of(
      [](VF v) HWY_ATTR {
        const F32 d;
        const VF high = hn::Set(d, 88.72283f);
        VF y = hn::Exp(d, hn::Min(high, hn::Max(hn::Set(d, -104.0f), v)));
        y = hn::IfThenElse(hn::Gt(v, high), hn::Set(d, std::numeric_limits<float>::infinity()), y);
        return hn::IfThenElse(hn::IsNaN(v), v, y);
      },
      x);
#endif
}

// e^x for x at most 0 and no NaN, as softmax needs it: what would be a denormal below e^-87.3 is 0 but on AVX-512. -inf gives 0.
template <typename V>
HWY_INLINE V exp_down(V x) {
#if HWY_TARGET == HWY_AVX3
  return exp_within(at_least(x, -105.0f));
#else
  constexpr float kLow = -87.33654f;
  return each_of([](VF v, VF e) HWY_ATTR { return hn::IfThenElseZero(hn::Ge(v, hn::Set(F32(), kLow)), e); }, x,
                 exp_within(at_least(x, kLow)));
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

// 1 / y for y from 1 to 8e37 within 0.7 ULP: a guess and a step of Newton's where the hardware has a good guess; a wide division keeps its
// port busy for longer than all the rest of a function takes.
template <typename V>
HWY_INLINE V inverse_within(V y) {
#if HWY_TARGET == HWY_AVX3
  const V guess = each_of([](VF v) HWY_ATTR { return VF{_mm512_rcp14_ps(v.raw)}; }, y);
  const V off = each_of([](VF v, VF r) HWY_ATTR { return hn::NegMulAdd(v, r, hn::Set(F32(), 1.0f)); }, y, guess);
  return mul_add(off, guess, guess);
#else
  return each_of([](VF v) HWY_ATTR { return hn::Div(hn::Set(F32(), 1.0f), v); }, y);
#endif
}

// The same for y up to infinity.
template <typename V>
HWY_INLINE V inverse_from_one(V y) {
#if HWY_TARGET == HWY_AVX3
  const F32 d;
  VF most = part(y, 0);
  for (int i = 1; i < kCount<V>; ++i) most = hn::Max(part(y, i), most);  // a NaN is NaN by either way
  if (HWY_LIKELY(hn::AllTrue(d, hn::Lt(most, hn::Set(d, 8e37f))))) return inverse_within(y);
  return each_of([](VF v) HWY_ATTR { return hn::Div(hn::Set(F32(), 1.0f), v); }, y);
#else
  return inverse_within(y);
#endif
}

// tanh: an odd polynomial near zero (Cephes' coefficients), 1 - 2 / (e^2x + 1) beyond. A NaN is not beyond, and comes through the
// polynomial.
template <typename V>
HWY_INLINE V tanh_f32(V x) {
  const V t = absolute(x), s = mul(x, x);
  const V inverse = inverse_within(add(exp_within(at_most(add(t, t), 20.0f)), 1.0f));
  const V far = with_sign(each_of([](VF v) HWY_ATTR { return hn::NegMulAdd(hn::Set(F32(), 2.0f), v, hn::Set(F32(), 1.0f)); }, inverse), x);
  V p = mul_add(s, -5.70498872745e-3f, 2.06390887954e-2f);
  p = mul_add(p, s, -5.37397155531e-2f);
  p = mul_add(p, s, 1.33314422036e-1f);
  p = mul_add(p, s, -3.33332819422e-1f);
  return above_or(t, 0.625f, far, mul_add(mul(p, s), x, x));
}

template <typename V>
HWY_INLINE V sigmoid_f32(V x) {
  return inverse_from_one(add(exp_f32(negative(x)), 1.0f));
}

// erf: a polynomial near zero, 1 - exp(polynomial) beyond; both minimax fits, about 1 ulp. A NaN comes
// through the near one; past 4 the far one is 1.
template <typename V>
HWY_INLINE V erf_f32(V x) {
  const V size = absolute(x), s = mul(x, x), t = at_most(size, 4.0f), tt = mul(t, t);
  V r = mul_add(t, -1.72853470e-5f, 3.83197126e-4f);
  const V u = mul_add(t, -3.88396438e-3f, 2.42546219e-2f);
  r = mul_add(r, tt, u);
  r = mul_add(r, t, -1.06777877e-1f);
  r = mul_add(r, t, -6.34846687e-1f);
  r = mul_add(r, t, -1.28717512e-1f);
  r = mul_add(r, t, negative(t));
  const V far = with_sign(one_minus(exp_within(r)), x);
  V p = mul_add(s, -5.96761703e-4f, 4.99119423e-3f);
  p = mul_add(p, s, -2.67681349e-2f);
  p = mul_add(p, s, 1.12819925e-1f);
  p = mul_add(p, s, -3.76125336e-1f);
  p = mul_add(p, s, 1.28379166e-1f);
  return above_or(size, 0.921875f, far, mul_add(p, x, x));
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
