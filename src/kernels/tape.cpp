#include "kernels/tape.hpp"

#include <algorithm>

#include <cmath>
#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/tape.cpp"
#include <hwy/cache_control.h>
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/circular.inl.hpp"
#include "kernels/halves.inl.hpp"
#include "kernels/quantise.inl.hpp"
#include "kernels/tape_bytes.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Strips are whole vectors long: scratch has room for the tail, memory has not.
template <typename F>
HWY_INLINE void each1(float* out, const float* a, int64_t n, F f) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = 0;
  for (; i + lanes <= n; i += lanes) hn::StoreU(f(d, hn::LoadU(d, a + i)), d, out + i);
  if (i < n) {
    HWY_ALIGN float x[HWY_MAX_BYTES / 4] = {};
    std::memcpy(x, a + i, (n - i) * 4);
    hn::Store(f(d, hn::Load(d, x)), d, x);
    std::memcpy(out + i, x, (n - i) * 4);
  }
}

// The same for functions worth working on several vectors at once.
template <typename F>
HWY_INLINE void each_several(float* out, const float* a, int64_t n, F f) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = 0;
  for (; i + kTogether * lanes <= n; i += kTogether * lanes) {
    Several<kTogether> x;
    LATHE_UNROLL(4)
    for (int k = 0; k < kTogether; ++k) {
      hwy::Prefetch(a + i + k * lanes + 512);  // asked for while this is computed; costs nothing beside it when it is near
      x.v[k] = hn::LoadU(d, a + i + k * lanes);
    }
    x = f(x);
    LATHE_UNROLL(4)
    for (int k = 0; k < kTogether; ++k) hn::StoreU(x.v[k], d, out + i + k * lanes);
  }
  each1(out + i, a + i, n - i, [&](F32, VF x) { return f(x); });
}

// A scalar operand (stride 0) is loaded once.
template <typename F>
HWY_INLINE void each2(float* out, const float* a, bool a_one, const float* b, bool b_one, int64_t n, F f) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = 0;
  if (!a_one && !b_one) {
    for (; i + lanes <= n; i += lanes) hn::StoreU(f(d, hn::LoadU(d, a + i), hn::LoadU(d, b + i)), d, out + i);
  } else if (b_one) {
    const VF y = hn::Set(d, *b);
    if (a_one) {
      const VF r = f(d, hn::Set(d, *a), y);
      for (; i + lanes <= n; i += lanes) hn::StoreU(r, d, out + i);
    } else {
      for (; i + lanes <= n; i += lanes) hn::StoreU(f(d, hn::LoadU(d, a + i), y), d, out + i);
    }
  } else {
    const VF x = hn::Set(d, *a);
    for (; i + lanes <= n; i += lanes) hn::StoreU(f(d, x, hn::LoadU(d, b + i)), d, out + i);
  }
  if (i < n) {
    HWY_ALIGN float x[HWY_MAX_BYTES / 4] = {}, y[HWY_MAX_BYTES / 4] = {};
    for (int64_t k = 0; k < n - i; ++k) {
      x[k] = a_one ? *a : a[i + k];
      y[k] = b_one ? *b : b[i + k];
    }
    hn::Store(f(d, hn::Load(d, x), hn::Load(d, y)), d, x);
    std::memcpy(out + i, x, (n - i) * 4);
  }
}

HWY_INLINE VF select(hn::Mask<F32> m) { return hn::IfThenElseZero(m, hn::Set(F32(), 1.0f)); }
// Not "is other than": what is no number is true, and instruction sets differ in what they say of it then.
HWY_INLINE hn::Mask<F32> truth(VF x) { return hn::Not(hn::Eq(x, hn::Zero(F32()))); }

void run_step(const TapeStep& s, float* out, const float* a, bool a_one, const float* b, bool b_one, const float* c, bool c_one,
              int64_t n) {
  const float p = s.p, q = s.q;
  switch (s.op) {
    case TapeOp::copy: return each1(out, a, n, [](F32, VF x) { return x; });
    case TapeOp::neg: return each1(out, a, n, [](F32, VF x) { return hn::Neg(x); });
    case TapeOp::abs: return each1(out, a, n, [](F32, VF x) { return hn::Abs(x); });
    case TapeOp::sqrt: return each1(out, a, n, [](F32, VF x) { return hn::Sqrt(x); });
    case TapeOp::reciprocal: return each1(out, a, n, [](F32 d, VF x) { return hn::Div(hn::Set(d, 1.0f), x); });
    case TapeOp::exp: return each_several(out, a, n, [](auto x) HWY_ATTR { return exp_f32(x); });
    case TapeOp::log: return each1(out, a, n, [](F32 d, VF x) { return log_f32(d, x); });
    case TapeOp::tanh: return each_several(out, a, n, [](auto x) HWY_ATTR { return tanh_f32(x); });
    case TapeOp::sigmoid: return each_several(out, a, n, [](auto x) HWY_ATTR { return sigmoid_f32(x); });
    case TapeOp::erf: return each_several(out, a, n, [](auto x) HWY_ATTR { return erf_f32(x); });
    case TapeOp::floor: return each1(out, a, n, [](F32, VF x) { return hn::Floor(x); });
    case TapeOp::ceil: return each1(out, a, n, [](F32, VF x) { return hn::Ceil(x); });
    case TapeOp::round: return each1(out, a, n, [](F32, VF x) { return hn::Round(x); });
    case TapeOp::sign:
      return each1(out, a, n, [](F32 d, VF x) {
        const VF y = hn::Sub(select(hn::Gt(x, hn::Zero(d))), select(hn::Lt(x, hn::Zero(d))));
        return hn::IfThenElse(hn::IsNaN(x), x, y);
      });
    // max(0, x): the hardware's max gives its second operand when either is NaN.
    case TapeOp::relu: return each1(out, a, n, [](F32 d, VF x) { return at_least(x, hn::Zero(d)); });
    case TapeOp::leaky_relu:
      return each1(out, a, n, [p](F32 d, VF x) { return hn::IfThenElse(hn::Lt(x, hn::Zero(d)), hn::Mul(x, hn::Set(d, p)), x); });
    case TapeOp::elu:
    case TapeOp::celu:
    case TapeOp::selu: {
      // out = gain * (x > 0 ? x : alpha * (e^(x / shape) - 1)); near zero e^x - 1 by Highway's Expm1 keeps its digits.
      const float alpha = p, gain = s.op == TapeOp::selu ? q : 1, inverse = s.op == TapeOp::celu ? 1 / p : 1;
      return each1(out, a, n, [=](F32 d, VF x) {
        const VF low = hn::Max(hn::Set(d, -80.0f), hn::Min(hn::Zero(d), hn::Mul(x, hn::Set(d, inverse))));
        const VF y = hn::Mul(hn::Set(d, alpha), hn::Expm1(d, low));
        return hn::IfThenElse(hn::IsNaN(x), x, hn::Mul(hn::Set(d, gain), hn::IfThenElse(hn::Gt(x, hn::Zero(d)), x, y)));
      });
    }
    case TapeOp::softplus:  // max(x, 0) + log1p(e^-|x|)
      return each1(out, a, n, [](F32 d, VF x) { return hn::Add(max_nan(d, x, hn::Zero(d)), hn::Log1p(d, exp_f32(hn::Neg(hn::Abs(x))))); });
    case TapeOp::softsign: return each1(out, a, n, [](F32 d, VF x) { return hn::Div(x, hn::Add(hn::Set(d, 1.0f), hn::Abs(x))); });
    case TapeOp::hard_sigmoid:
      return each1(out, a, n, [p, q](F32 d, VF x) {
        const VF y = hn::MulAdd(x, hn::Set(d, p), hn::Set(d, q));
        return min_nan(d, max_nan(d, y, hn::Zero(d)), hn::Set(d, 1.0f));
      });
    case TapeOp::hard_swish:
      return each1(out, a, n, [](F32 d, VF x) {
        const VF y = hn::MulAdd(x, hn::Set(d, 1.0f / 6), hn::Set(d, 0.5f));
        return hn::Mul(x, min_nan(d, max_nan(d, y, hn::Zero(d)), hn::Set(d, 1.0f)));
      });
    case TapeOp::clip: return each1(out, a, n, [p, q](F32 d, VF x) { return clamped(x, hn::Set(d, p), hn::Set(d, q)); });
    case TapeOp::mish:
      return each1(out, a, n, [](F32 d, VF x) {
        return hn::Mul(x, tanh_f32(hn::Add(max_nan(d, x, hn::Zero(d)), hn::Log1p(d, exp_f32(hn::Neg(hn::Abs(x)))))));
      });
    case TapeOp::gelu:
      return each_several(out, a, n, [](auto x) HWY_ATTR {
        const auto h = mul(x, 0.5f);
        return mul_add(h, erf_f32(mul(x, 0.70710678118654752f)), h);
      });
    case TapeOp::gelu_tanh:
      return each_several(out, a, n, [](auto x) HWY_ATTR {
        const auto h = mul(x, 0.5f), cube = mul(mul(x, x), x);
        return mul_add(h, tanh_f32(mul(mul_add(cube, 0.044715f, x), 0.7978845608028654f)), h);
      });
    case TapeOp::threshold: return each1(out, a, n, [p](F32 d, VF x) { return hn::IfThenElse(hn::Gt(x, hn::Set(d, p)), x, hn::Zero(d)); });
    case TapeOp::dequantise: return each1(out, a, n, [p, q](F32 d, VF x) { return hn::Mul(hn::Sub(x, hn::Set(d, p)), hn::Set(d, q)); });
    case TapeOp::quantise_u8:
    case TapeOp::quantise_i8: {
      const float low = s.op == TapeOp::quantise_u8 ? 0 : -128, high = s.op == TapeOp::quantise_u8 ? 255 : 127;
      const Quantiser quantised(q, p, low, high);
      return each1(out, a, n, [&](F32, VF x) HWY_ATTR { return quantised(x); });
    }
    case TapeOp::round_f16: return each1(out, a, n, [](F32, VF x) { return round_f16(x); });
    case TapeOp::round_bf16: return each1(out, a, n, [](F32, VF x) { return from_bf16(to_bf16(x)); });
    case TapeOp::sin:
      return each_through_double(
          out, a, n, kMostAngle, [](VD x) HWY_ATTR { return sine_turned(x, 0); }, [](double x) { return static_cast<float>(std::sin(x)); });
    case TapeOp::cos:
      return each_through_double(
          out, a, n, kMostAngle, [](VD x) HWY_ATTR { return sine_turned(x, 1); }, [](double x) { return static_cast<float>(std::cos(x)); });
    case TapeOp::tan:
      return each_through_double(
          out, a, n, kMostAngle, [](VD x) HWY_ATTR { return tangent(x); }, [](double x) { return static_cast<float>(std::tan(x)); });
    case TapeOp::atan:
      return each_through_double(
          out, a, n, HUGE_VAL, [](VD x) HWY_ATTR { return arc_tangent(x); }, [](float x) { return std::atan(x); });
    case TapeOp::asin:
      return each_through_double(
          out, a, n, 1, [](VD x) HWY_ATTR { return arc_sine(x); }, [](float x) { return std::asin(x); });
    case TapeOp::acos:
      return each_through_double(
          out, a, n, 1, [](VD x) HWY_ATTR { return arc_cosine(x); }, [](float x) { return std::acos(x); });
    case TapeOp::sinh:
      return each_through_double(
          out, a, n, kMostHyperbolic, [](VD x) HWY_ATTR { return hyperbolic_sine(x); },
          [](double x) { return static_cast<float>(std::sinh(x)); });
    case TapeOp::cosh:
      return each_through_double(
          out, a, n, kMostHyperbolic, [](VD x) HWY_ATTR { return hyperbolic_cosine(x); },
          [](double x) { return static_cast<float>(std::cosh(x)); });
    case TapeOp::asinh:
      return each_through_double(
          out, a, n, std::numeric_limits<float>::max(), [](VD x) HWY_ATTR { return area_sine(x); }, [](float x) { return std::asinh(x); });
    case TapeOp::acosh:
      return each_through_double(
          out, a, n, std::numeric_limits<float>::max(), [](VD x) HWY_ATTR { return area_cosine(x); },
          [](float x) { return std::acosh(x); });
    case TapeOp::atanh:
      return each_through_double(
          out, a, n, kMostAreaTangent, [](VD x) HWY_ATTR { return area_tangent(x); }, [](float x) { return std::atanh(x); });
    case TapeOp::shrink:
      return each1(out, a, n, [p, q](F32 d, VF x) {
        const VF y = hn::IfThenElseZero(hn::Gt(x, hn::Set(d, p)), hn::Sub(x, hn::Set(d, q)));
        return hn::IfThenElse(hn::Lt(x, hn::Set(d, -p)), hn::Add(x, hn::Set(d, q)), y);
      });
    case TapeOp::is_nan: return each1(out, a, n, [](F32, VF x) { return select(hn::IsNaN(x)); });
    case TapeOp::is_inf:
      return each1(out, a, n, [p, q](F32 d, VF x) {
        const VF inf = hn::Set(d, HUGE_VALF);
        return hn::Max(p != 0 ? select(hn::Eq(x, hn::Neg(inf))) : hn::Zero(d), q != 0 ? select(hn::Eq(x, inf)) : hn::Zero(d));
      });
    case TapeOp::logical_not: return each1(out, a, n, [](F32 d, VF x) { return select(hn::Eq(x, hn::Zero(d))); });
    case TapeOp::add: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return hn::Add(x, y); });
    case TapeOp::sub: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return hn::Sub(x, y); });
    case TapeOp::mul: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return hn::Mul(x, y); });
    case TapeOp::div: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return hn::Div(x, y); });
    case TapeOp::min: return each2(out, a, a_one, b, b_one, n, [](F32 d, VF x, VF y) { return min_nan(d, x, y); });
    case TapeOp::max: return each2(out, a, a_one, b, b_one, n, [](F32 d, VF x, VF y) { return max_nan(d, x, y); });
    case TapeOp::pow:
      // Common exponents by multiplication.
      if (b_one && *b == 2.0f) return each1(out, a, n, [](F32, VF x) { return hn::Mul(x, x); });
      if (b_one && *b == 3.0f) return each1(out, a, n, [](F32, VF x) { return hn::Mul(hn::Mul(x, x), x); });
      return each_power(out, a, a_one, b, b_one, n);
    case TapeOp::mod: return each_left_over(out, a, a_one, b, b_one, n);
    case TapeOp::prelu:
      return each2(out, a, a_one, b, b_one, n, [](F32 d, VF x, VF y) { return hn::IfThenElse(hn::Lt(x, hn::Zero(d)), hn::Mul(x, y), x); });
    case TapeOp::less: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return select(hn::Lt(x, y)); });
    case TapeOp::less_equal: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return select(hn::Le(x, y)); });
    case TapeOp::greater: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return select(hn::Gt(x, y)); });
    case TapeOp::greater_equal: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return select(hn::Ge(x, y)); });
    case TapeOp::equal: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return select(hn::Eq(x, y)); });
    case TapeOp::logical_and: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return select(hn::And(truth(x), truth(y))); });
    case TapeOp::logical_or: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return select(hn::Or(truth(x), truth(y))); });
    case TapeOp::logical_xor: return each2(out, a, a_one, b, b_one, n, [](F32, VF x, VF y) { return select(hn::Xor(truth(x), truth(y))); });
    case TapeOp::bit_not:
    case TapeOp::bit_and:
    case TapeOp::bit_or:
    case TapeOp::bit_xor:
    case TapeOp::shift_left:
    case TapeOp::shift_right: return;  // of whole numbers (tape_wide.cpp)
    case TapeOp::where:
      if (!a_one) {
        const F32 d;
        const int64_t lanes = hn::Lanes(d);
        const VF yes = hn::Set(d, *b), no = hn::Set(d, *c);
        int64_t i = 0;
        for (; i + lanes <= n; i += lanes)
          hn::StoreU(hn::IfThenElse(truth(hn::LoadU(d, a + i)), b_one ? yes : hn::LoadU(d, b + i), c_one ? no : hn::LoadU(d, c + i)), d,
                     out + i);
        for (; i < n; ++i) out[i] = a[i] != 0 ? b[b_one ? 0 : i] : c[c_one ? 0 : i];
        return;
      }
      for (int64_t i = 0; i < n; ++i) out[i] = a[a_one ? 0 : i] != 0 ? b[b_one ? 0 : i] : c[c_one ? 0 : i];
      return;
  }
}

// A strip as floats. `stride` in elements; what stands apart is looked up one by one.
template <typename T>
HWY_INLINE void widen_strip(const void* from, int64_t stride, int64_t n, float* to) {
  const T* p = static_cast<const T*>(from);
  if (stride == 1) {
    for (int64_t k = 0; k < n; ++k) to[k] = static_cast<float>(p[k]);
  } else {
    for (int64_t k = 0; k < n; ++k) to[k] = static_cast<float>(p[k * stride]);
  }
}
template <typename Load>
HWY_INLINE void widen_halves(const void* from, int64_t stride, int64_t n, float* to, Load load) {
  const uint16_t* p = static_cast<const uint16_t*>(from);
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = 0;
  if (stride == 1) {
    for (; i + lanes <= n; i += lanes) hn::StoreU(load(p + i), d, to + i);
  }
  for (; i < n; i += lanes) {
    HWY_ALIGN uint16_t some[HWY_MAX_BYTES / 4] = {};
    const int64_t count = n - i < lanes ? n - i : lanes;
    for (int64_t k = 0; k < count; ++k) some[k] = p[(i + k) * stride];
    if (count == lanes) {
      hn::StoreU(load(some), d, to + i);
    } else {
      HWY_ALIGN float wide[HWY_MAX_BYTES / 4];
      hn::Store(load(some), d, wide);
      std::memcpy(to + i, wide, static_cast<size_t>(count) * sizeof(float));
    }
  }
}
void load_strip(TapeType type, const void* from, int64_t stride, int64_t n, float* to) {
  switch (type) {
    case TapeType::f32: return widen_strip<float>(from, stride, n, to);
    case TapeType::u8: return widen_strip<uint8_t>(from, stride, n, to);
    case TapeType::i8: return widen_strip<int8_t>(from, stride, n, to);
    case TapeType::i16: return widen_strip<int16_t>(from, stride, n, to);
    case TapeType::u16: return widen_strip<uint16_t>(from, stride, n, to);
    case TapeType::u32: return widen_strip<uint32_t>(from, stride, n, to);
    case TapeType::u64: return widen_strip<uint64_t>(from, stride, n, to);
    case TapeType::i32: return widen_strip<int32_t>(from, stride, n, to);
    case TapeType::i64: return widen_strip<int64_t>(from, stride, n, to);
    case TapeType::f64: return widen_strip<double>(from, stride, n, to);
    case TapeType::f16: return widen_halves(from, stride, n, to, [](const uint16_t* p) HWY_ATTR { return load_f16(p); });
    case TapeType::bf16: return widen_halves(from, stride, n, to, [](const uint16_t* p) HWY_ATTR { return load_bf16(p); });
    case TapeType::boolean:
      for (int64_t k = 0; k < n; ++k) to[k] = static_cast<const uint8_t*>(from)[k * stride] != 0;
      return;
  }
}

int64_t to_integer(float x) {
  if (!(x > -0x1p63f)) return x != x ? 0 : INT64_MIN;
  return x >= 0x1p63f ? INT64_MAX : static_cast<int64_t>(x);
}
template <typename Store>
HWY_INLINE void narrow_halves(const float* from, int64_t n, void* to, Store store) {
  uint16_t* p = static_cast<uint16_t*>(to);
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = 0;
  for (; i + lanes <= n; i += lanes) store(hn::LoadU(d, from + i), p + i);
  if (i < n) {
    HWY_ALIGN float wide[HWY_MAX_BYTES / 4] = {};
    HWY_ALIGN uint16_t some[HWY_MAX_BYTES / 4];
    std::memcpy(wide, from + i, static_cast<size_t>(n - i) * sizeof(float));
    store(hn::Load(d, wide), some);
    std::memcpy(p + i, some, static_cast<size_t>(n - i) * sizeof(uint16_t));
  }
}
// The lowest bits of a whole number.
template <typename T>
HWY_INLINE void wrap_strip(const float* from, int64_t n, T* to) {
  int32_t small = 1;
  for (int64_t k = 0; k < n; ++k) small &= static_cast<int32_t>(from[k] > -0x1p31f) & static_cast<int32_t>(from[k] < 0x1p31f);
  if (small != 0) {
    for (int64_t k = 0; k < n; ++k) to[k] = static_cast<T>(static_cast<int32_t>(from[k]));
  } else {
    for (int64_t k = 0; k < n; ++k) to[k] = static_cast<T>(to_integer(from[k]));
  }
}
void store_strip(TapeType type, const float* from, int64_t n, void* to) {
  switch (type) {
    case TapeType::f32: std::memcpy(to, from, static_cast<size_t>(n) * sizeof(float)); return;
    case TapeType::f16: return narrow_halves(from, n, to, [](VF x, uint16_t* p) HWY_ATTR { store_f16(x, p); });
    case TapeType::bf16: return narrow_halves(from, n, to, [](VF x, uint16_t* p) HWY_ATTR { store_bf16(x, p); });
    case TapeType::f64:
      for (int64_t k = 0; k < n; ++k) static_cast<double*>(to)[k] = from[k];
      return;
    case TapeType::i64:
    case TapeType::u64: return wrap_strip(from, n, static_cast<int64_t*>(to));
    case TapeType::i32:
    case TapeType::u32: return wrap_strip(from, n, static_cast<int32_t*>(to));
    case TapeType::i16:
    case TapeType::u16: return wrap_strip(from, n, static_cast<uint16_t*>(to));
    case TapeType::boolean:
      for (int64_t k = 0; k < n; ++k) static_cast<uint8_t*>(to)[k] = from[k] != 0;
      return;
    default: return wrap_strip(from, n, static_cast<uint8_t*>(to));
  }
}
// Of numbers that are whole.
void store_quantised(const float* from, int64_t n, uint8_t* to) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t k = 0;
  for (; k + lanes <= n; k += lanes) store_bytes(hn::LoadU(d, from + k), to + k);
  for (; k < n; ++k) to[k] = static_cast<uint8_t>(static_cast<int32_t>(from[k]));
}

LATHE_GIVES_WAY void RunTapeHere(const Tape& tape, const TapeOperand* operands, void* out, TapeType out_type, int64_t count);

// Between bytes, where all can be done in one pass; false: it cannot.
bool run_on_bytes(const Tape& tape, const TapeOperand* operands, void* out, TapeType out_type, int64_t count) {
  if (QuantisedPair pair; pair.read(tape, operands, out_type)) {
    pair.run(operands, out, count);
    return true;
  }
#if HWY_TARGET != HWY_SCALAR
  if (count < kWorthTable) return false;
  TapeOperand given[kMaxSlots];
  if (const TapeParts* parts = tape.parts.get();
      parts && std::ranges::all_of(parts->operands, [&](uint8_t i) { return operands[i].stride == 0; })) {
    given[0] = {out, 1, parts->between};
    for (size_t i = 0; i < parts->operands.size(); ++i) given[i + 1] = operands[parts->operands[i]];
    RunTapeHere(parts->before, operands, out, parts->between, count);
    RunTapeHere(parts->after, given, out, out_type, count);
    return true;
  }
  const int from = one_byte_operand(tape, operands, out_type);
  if (from < 0) return false;
  uint8_t all[256], table[256];
  for (int i = 0; i < 256; ++i) all[i] = static_cast<uint8_t>(i);
  std::copy_n(operands, tape.inputs, given);
  given[from].data = all;
  RunTapeHere(tape, given, table, out_type, 256);
  look_up(table, static_cast<const uint8_t*>(operands[from].data), static_cast<uint8_t*>(out), count);
  return true;
#else
  return false;
#endif
}

LATHE_GIVES_WAY void RunTapeHere(const Tape& tape, const TapeOperand* operands, void* out, TapeType out_type, int64_t count) {
  if (bytes_of(out_type) == 1 && run_on_bytes(tape, operands, out, out_type, count)) return;
  alignas(64) float memory[kMaxSlots * kStrip];
  // Few slots have longer strips each: less to do between them, and all of them still stay in L1.
  int slots = tape.inputs;
  for (const TapeStep& step : tape.steps) slots = std::max(slots, step.out + 1);
  const int64_t each = kMaxSlots * kStrip / std::max(slots, 3) / 64 * 64;
  const auto scratch = [&](int i) { return memory + i * each; };
  const float* slot[kMaxSlots];
  bool one[kMaxSlots];
  // A single step needs no scratch between steps: all of it in one go.
  const bool wide = out_type == TapeType::f32;
  bool direct = tape.steps.size() == 1 && wide && arity(tape.steps[0].op) < 3;
  for (int i = 0; i < tape.inputs; ++i)
    direct = direct && operands[i].type == TapeType::f32 && (operands[i].stride == 0 || operands[i].stride == 1);
  const int64_t strip = direct ? count : each;
  // A conversion at the end is done by storing; one that is all there is, by loading.
  const TapeStep& end = tape.steps.back();
  const bool by_storing = (end.op == TapeOp::copy && !wide) || (end.op == TapeOp::round_f16 && out_type == TapeType::f16) ||
                          (end.op == TapeOp::round_bf16 && out_type == TapeType::bf16);
  if (tape.steps.size() == 1 && end.op == TapeOp::copy && wide && !direct && operands[end.a].stride != 0)
    return load_strip(operands[end.a].type, operands[end.a].data, operands[end.a].stride, count, static_cast<float*>(out));
  for (int64_t at = 0; at < count; at += strip) {
    const int64_t n = count - at < strip ? count - at : strip;
    for (int i = 0; i < tape.inputs; ++i) {
      const TapeOperand& o = operands[i];
      one[i] = o.stride == 0;
      if (o.type != TapeType::f32) {
        load_strip(o.type, static_cast<const char*>(o.data) + at * o.stride * bytes_of(o.type), o.stride, one[i] ? 1 : n, scratch(i));
        slot[i] = scratch(i);
      } else if (o.stride <= 1 && o.stride >= 0) {
        slot[i] = static_cast<const float*>(o.data) + at * o.stride;
      } else {
        const float* p = static_cast<const float*>(o.data) + at * o.stride;
        for (int64_t k = 0; k < n; ++k) scratch(i)[k] = p[k * o.stride];
        slot[i] = scratch(i);
      }
    }
    for (size_t s = 0; s < tape.steps.size(); ++s) {
      const TapeStep& step = tape.steps[s];
      const bool last = s + 1 == tape.steps.size();
      if (last && by_storing && !one[step.a]) {
        slot[step.out] = slot[step.a];
        break;
      }
      float* to = last && wide ? static_cast<float*>(out) + at : scratch(step.out);
      const int k = arity(step.op);
      // A unary step of a single value is done on the value.
      const bool single = k == 1 && one[step.a] && !last;
      if (k == 1 && one[step.a] && last) {
        alignas(64) float value[1] = {slot[step.a][0]};
        run_step(step, value, value, false, value, false, value, false, 1);
        for (int64_t i = 0; i < n; ++i) to[i] = value[0];
      } else {
        run_step(step, to, slot[step.a], one[step.a], k > 1 ? slot[step.b] : nullptr, k > 1 && one[step.b], k > 2 ? slot[step.c] : nullptr,
                 k > 2 && one[step.c], single ? 1 : n);
      }
      slot[step.out] = to;
      one[step.out] = single;
    }
    if (!wide) {
      void* to = static_cast<char*>(out) + at * bytes_of(out_type);
      if (end.op == TapeOp::quantise_u8 || end.op == TapeOp::quantise_i8) store_quantised(slot[tape.result], n, static_cast<uint8_t*>(to));
      else store_strip(out_type, slot[tape.result], n, to);
    }
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

int arity(TapeOp op) { return op == TapeOp::where ? 3 : op >= TapeOp::add ? 2 : 1; }

RunTape run_tape(Isa isa) { return LATHE_SELECT(isa, RunTapeHere); }

}  // namespace lathe::kernels
#endif
