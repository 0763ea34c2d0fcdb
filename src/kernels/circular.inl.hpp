// Circular and hyperbolic functions, those that undo them, remainders and powers of floats, through doubles: within a rounding of the exact
// result (bench/ulp.cpp), compiled once per instruction set (no include guard of the usual kind: Highway's). What lies outside the ranges
// stated is left to the C library, number by number, so that a result does not depend on its neighbours.
#if defined(LATHE_KERNELS_CIRCULAR_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_CIRCULAR_INL
#undef LATHE_KERNELS_CIRCULAR_INL
#else
#define LATHE_KERNELS_CIRCULAR_INL
#endif

#include <cmath>
#include <cstring>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

#if HWY_HAVE_FLOAT64
using F64 = hn::ScalableTag<double>;
using VD = hn::Vec<F64>;
using HalfF32 = hn::Rebind<float, F64>;

// Angles up to here are reduced by three parts of pi/2 whose products with the quotient are exact.
inline constexpr double kMostAngle = 1 << 20;

struct SineCosine {
  VD sine, cosine;  // of what is left of the angle, at most pi/4
  VD quarter;       // how many quarter turns were taken off, modulo 4
};

// Coefficients and parts of pi/2: fdlibm (Sun Microsystems, 1993), k_sin.c, k_cos.c, e_rem_pio2.c.
HWY_INLINE SineCosine sine_cosine(VD x) {
  const F64 d;
  const VD k = hn::Round(hn::Mul(x, hn::Set(d, 6.36619772367581382433e-01)));
  VD r = hn::NegMulAdd(k, hn::Set(d, 1.57079632673412561417e+00), x);
  r = hn::NegMulAdd(k, hn::Set(d, 6.07710050630396597660e-11), r);
  r = hn::NegMulAdd(k, hn::Set(d, 2.02226624879595063154e-21), r);
  const VD z = hn::Mul(r, r);
  VD s = hn::Set(d, -2.50507602534068634195e-08), c = hn::Set(d, -2.75573143513906633035e-07);
  for (const double p : {2.75573137070700676789e-06, -1.98412698298579493134e-04, 8.33333333332248946124e-03, -1.66666666666666324348e-01})
    s = hn::MulAdd(s, z, hn::Set(d, p));
  for (const double p : {2.48015872894767294178e-05, -1.38888888888741095749e-03, 4.16666666666666019037e-02, -0.5, 1.0})
    c = hn::MulAdd(c, z, hn::Set(d, p));
  return {hn::MulAdd(hn::Mul(s, z), r, r), c, hn::NegMulAdd(hn::Floor(hn::Mul(k, hn::Set(d, 0.25))), hn::Set(d, 4), k)};
}

// The sine of what `turned` quarter turns more make.
HWY_INLINE VD sine_turned(VD x, double turned) {
  const F64 d;
  const SineCosine sc = sine_cosine(x);
  VD q = hn::Add(sc.quarter, hn::Set(d, turned));
  q = hn::IfThenElse(hn::Ge(q, hn::Set(d, 4)), hn::Sub(q, hn::Set(d, 4)), q);
  const auto odd = hn::Or(hn::Eq(q, hn::Set(d, 1)), hn::Eq(q, hn::Set(d, 3)));
  const VD y = hn::IfThenElse(odd, sc.cosine, sc.sine);
  return hn::IfThenElse(hn::Ge(q, hn::Set(d, 2)), hn::Neg(y), y);
}

HWY_INLINE VD tangent(VD x) {
  const F64 d;
  const SineCosine sc = sine_cosine(x);
  const auto odd = hn::Or(hn::Eq(sc.quarter, hn::Set(d, 1)), hn::Eq(sc.quarter, hn::Set(d, 3)));
  return hn::Div(hn::IfThenElse(odd, hn::Neg(sc.cosine), sc.sine), hn::IfThenElse(odd, sc.sine, sc.cosine));
}

// Every number: beyond 1 by its reciprocal, beyond tan(pi/8) by the difference to pi/4; the series is enough then.
HWY_INLINE VD arc_tangent(VD x) {
  const F64 d;
  const VD one = hn::Set(d, 1), a = hn::Abs(x);
  const auto beyond = hn::Gt(a, one);
  const VD b = hn::IfThenElse(beyond, hn::Div(one, a), a);
  const auto middle = hn::Gt(b, hn::Set(d, 0.41421356237309503));
  const VD t = hn::IfThenElse(middle, hn::Div(hn::Sub(b, one), hn::Add(b, one)), b), z = hn::Mul(t, t);
  VD s = hn::Set(d, 1.0 / 25);
  for (int n = 23; n >= 3; n -= 2) s = hn::MulAdd(s, z, hn::Set(d, (n % 4 == 3 ? -1.0 : 1.0) / n));
  VD y = hn::MulAdd(hn::Mul(s, z), t, t);
  y = hn::Add(y, hn::IfThenElseZero(middle, hn::Set(d, 0.78539816339744831)));
  y = hn::IfThenElse(beyond, hn::Sub(hn::Set(d, 1.57079632679489662), y), y);
  return hn::CopySign(y, x);
}

// NaN outside -1 to 1.
HWY_INLINE VD arc_sine(VD x) {
  const F64 d;
  const VD one = hn::Set(d, 1);
  return arc_tangent(hn::Div(x, hn::Sqrt(hn::Mul(hn::Sub(one, x), hn::Add(one, x)))));
}
HWY_INLINE VD arc_cosine(VD x) {
  const F64 d;
  const VD one = hn::Set(d, 1), half = arc_tangent(hn::Sqrt(hn::Div(hn::Sub(one, x), hn::Add(one, x))));
  return hn::Add(half, half);
}

// Up to kMostHyperbolic in magnitude: what is beyond leaves the floats before long.
inline constexpr double kMostHyperbolic = 88;
HWY_INLINE VD hyperbolic_sine(VD x) {
  const F64 d;
  const VD less_one = hn::Expm1(d, hn::Abs(x));
  const VD twice = hn::Add(less_one, hn::Div(less_one, hn::Add(less_one, hn::Set(d, 1))));
  return hn::CopySign(hn::Mul(twice, hn::Set(d, 0.5)), x);
}
HWY_INLINE VD hyperbolic_cosine(VD x) {
  const F64 d;
  const VD e = hn::Exp(d, hn::Abs(x)), half = hn::Set(d, 0.5);
  return hn::MulAdd(e, half, hn::Div(half, e));
}

// Of finite numbers. Towards zero log1p keeps the digits that a logarithm would lose.
HWY_INLINE VD area_sine(VD x) {
  const F64 d;
  const VD a = hn::Abs(x), z = hn::Mul(a, a), one = hn::Set(d, 1);
  return hn::CopySign(hn::Log1p(d, hn::Add(a, hn::Div(z, hn::Add(one, hn::Sqrt(hn::Add(one, z)))))), x);
}
HWY_INLINE VD area_cosine(VD x) {
  const F64 d;
  const VD one = hn::Set(d, 1), t = hn::Max(hn::Sub(x, one), hn::Zero(d));
  const VD y = hn::Log1p(d, hn::Add(t, hn::Sqrt(hn::Mul(t, hn::Add(t, hn::Set(d, 2))))));
  return hn::IfThenElse(hn::Lt(x, one), hn::Set(d, std::numeric_limits<double>::quiet_NaN()), y);
}
inline constexpr double kMostAreaTangent = 0.99999994;  // the float before 1
HWY_INLINE VD area_tangent(VD x) {
  const F64 d;
  const VD a = hn::Abs(x);
  return hn::CopySign(hn::Mul(hn::Set(d, 0.5), hn::Log1p(d, hn::Div(hn::Add(a, a), hn::Sub(hn::Set(d, 1), a)))), x);
}

// Of finite numbers: what is left of x after whole multiples of y, with the sign of x. Exact for a quotient below kMostQuotient: its
// product with y fits a double, and if the quotient was rounded up to the next whole number, y is given back.
inline constexpr double kMostQuotient = 1 << 28;
HWY_INLINE VD left_over(VD x, VD y) {
  const F64 d;
  const VD b = hn::Abs(y), r = hn::NegMulAdd(hn::Floor(hn::Div(hn::Abs(x), b)), b, hn::Abs(x));
  return hn::CopySign(hn::IfThenElse(hn::Lt(r, hn::Zero(d)), hn::Add(r, b), r), x);
}

// Of finite numbers, a base that is normal; NaN for a negative base and an exponent that is no whole number.
HWY_INLINE VD power(VD x, VD y) {
  const F64 d;
  const VD a = hn::Abs(x), whole = hn::Round(y);
  // What is beyond these is 0 or infinite as a float.
  const VD e = hn::Min(hn::Max(hn::Mul(y, hn::Log(d, a)), hn::Set(d, -200)), hn::Set(d, 200));
  VD r = hn::Exp(d, e);
  const VD half = hn::Mul(whole, hn::Set(d, 0.5));
  const auto odd = hn::Ne(hn::Floor(half), half), negative = hn::Lt(x, hn::Zero(d));
  r = hn::IfThenElse(hn::And(negative, odd), hn::Neg(r), r);
  return hn::IfThenElse(hn::And(negative, hn::Ne(whole, y)), hn::Set(d, std::numeric_limits<double>::quiet_NaN()), r);
}

// Doubles in a vector of this instruction set, at most.
inline constexpr int64_t kMostDoubles = HWY_TARGET == HWY_SCALAR ? 1 : HWY_MAX_BYTES / 8;

// out[i] = f(a[i]) up to `most` in magnitude, else otherwise(a[i]). `out` may be `a`.
template <typename F, typename Otherwise>
HWY_INLINE void each_through_double(float* out, const float* a, int64_t n, double most, F f, Otherwise otherwise) {
  const F64 d;
  const HalfF32 h;
  const int64_t lanes = hn::Lanes(d);
  const VD limit = hn::Set(d, most);
  for (int64_t i = 0; i < n; i += lanes) {
    const int64_t here = std::min(lanes, n - i);
    HWY_ALIGN float part[kMostDoubles] = {};
    if (here < lanes) std::memcpy(part, a + i, static_cast<size_t>(here) * 4);
    const float* from = here < lanes ? part : a + i;
    const VD x = hn::PromoteTo(d, hn::LoadU(h, from));
    const auto y = hn::DemoteTo(h, f(x));
    if (here == lanes && hn::AllTrue(d, hn::Le(hn::Abs(x), limit))) {
      hn::StoreU(y, h, out + i);
      continue;
    }
    HWY_ALIGN float made[kMostDoubles];
    hn::StoreU(y, h, made);
    for (int64_t k = 0; k < here; ++k) {
      if (!(std::fabs(from[k]) <= most)) made[k] = otherwise(from[k]);
    }
    std::memcpy(out + i, made, static_cast<size_t>(here) * 4);
  }
}

// out[i] = f(a[i], b[i]) where usual(a[i], b[i], result), else otherwise(a[i], b[i]); either may be one number for all. `out` may be
// either.
template <typename F, typename Usual, typename Otherwise>
HWY_INLINE void each_pair_through_double(float* out, const float* a, bool a_one, const float* b, bool b_one, int64_t n, F f, Usual usual,
                                         Otherwise otherwise) {
  const F64 d;
  const HalfF32 h;
  const int64_t lanes = hn::Lanes(d);
  for (int64_t i = 0; i < n; i += lanes) {
    const int64_t here = std::min(lanes, n - i);
    HWY_ALIGN float base[kMostDoubles] = {}, exponent[kMostDoubles] = {};
    const bool whole = here == lanes;
    const auto operand = [&](const float* from, bool one, float* part) HWY_ATTR {
      if (one) return hn::Set(d, static_cast<double>(*from));
      if (!whole) std::memcpy(part, from + i, static_cast<size_t>(here) * 4);
      return hn::PromoteTo(d, hn::LoadU(h, whole ? from + i : part));
    };
    const VD x = operand(a, a_one, base), y = operand(b, b_one, exponent);
    const VD r = f(x, y);
    const auto good = usual(x, y, r);
    if (whole && hn::AllTrue(d, good)) {
      hn::StoreU(hn::DemoteTo(h, r), h, out + i);
      continue;
    }
    HWY_ALIGN float made[kMostDoubles];
    HWY_ALIGN double is_good[kMostDoubles];
    hn::StoreU(hn::DemoteTo(h, r), h, made);
    hn::Store(hn::IfThenElseZero(good, hn::Set(d, 1)), d, is_good);
    for (int64_t k = 0; k < here; ++k) {
      if (is_good[k] == 0) made[k] = otherwise(a[a_one ? 0 : i + k], b[b_one ? 0 : i + k]);
    }
    std::memcpy(out + i, made, static_cast<size_t>(here) * 4);
  }
}

HWY_INLINE void each_power(float* out, const float* a, bool a_one, const float* b, bool b_one, int64_t n) {
  each_pair_through_double(
      out, a, a_one, b, b_one, n, [](VD x, VD y) HWY_ATTR { return power(x, y); },
      [](VD x, VD y, VD r) HWY_ATTR {
        const F64 d;
        const VD least = hn::Set(d, std::numeric_limits<float>::min()), most = hn::Set(d, std::numeric_limits<float>::max());
        const VD size = hn::Abs(x);
        // Results too large for a float are not infinite on every instruction set; what is no number is one on all.
        return hn::And(hn::And(hn::Ge(size, least), hn::Le(size, most)),
                       hn::And(hn::Le(hn::Abs(y), most), hn::Not(hn::Ge(hn::Abs(r), most))));
      },
      [](float x, float y) { return std::pow(x, y); });
}

HWY_INLINE void each_left_over(float* out, const float* a, bool a_one, const float* b, bool b_one, int64_t n) {
  each_pair_through_double(
      out, a, a_one, b, b_one, n, [](VD x, VD y) HWY_ATTR { return left_over(x, y); },
      [](VD x, VD y, VD) HWY_ATTR {
        const F64 d;
        const VD most = hn::Set(d, std::numeric_limits<float>::max());
        return hn::And(hn::Le(hn::Abs(y), most), hn::Lt(hn::Abs(x), hn::Mul(hn::Abs(y), hn::Set(d, kMostQuotient))));
      },
      [](float x, float y) { return std::fmod(x, y); });
}
#else
// No vectors of doubles: the C library's functions, number by number.
using VD = double;
inline constexpr double kMostAngle = 1 << 20;
inline VD sine_turned(VD x, double turned) { return turned == 0 ? std::sin(x) : std::cos(x); }  // by a quarter at most
inline VD tangent(VD x) { return std::tan(x); }
inline VD arc_tangent(VD x) { return std::atan(x); }
inline VD arc_sine(VD x) { return std::asin(x); }
inline VD arc_cosine(VD x) { return std::acos(x); }
inline constexpr double kMostHyperbolic = 88, kMostAreaTangent = 0.99999994;
inline VD hyperbolic_sine(VD x) { return std::sinh(x); }
inline VD hyperbolic_cosine(VD x) { return std::cosh(x); }
inline VD area_sine(VD x) { return std::asinh(x); }
inline VD area_cosine(VD x) { return std::acosh(x); }
inline VD area_tangent(VD x) { return std::atanh(x); }
template <typename F, typename Otherwise>
void each_through_double(float* out, const float* a, int64_t n, double most, F f, Otherwise otherwise) {
  for (int64_t i = 0; i < n; ++i) out[i] = std::fabs(a[i]) <= most ? static_cast<float>(f(static_cast<double>(a[i]))) : otherwise(a[i]);
}
inline void each_power(float* out, const float* a, bool a_one, const float* b, bool b_one, int64_t n) {
  for (int64_t i = 0; i < n; ++i)
    out[i] = static_cast<float>(std::pow(static_cast<double>(a[a_one ? 0 : i]), static_cast<double>(b[b_one ? 0 : i])));
}
inline void each_left_over(float* out, const float* a, bool a_one, const float* b, bool b_one, int64_t n) {
  for (int64_t i = 0; i < n; ++i) out[i] = std::fmod(a[a_one ? 0 : i], b[b_one ? 0 : i]);
}
#endif

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
