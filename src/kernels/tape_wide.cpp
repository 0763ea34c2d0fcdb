// Tapes in double and in whole numbers: plain loops, which the compiler turns into vectors of each instruction set. Functions of doubles
// are the C library's.
#include "kernels/tape.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <limits>
#include <type_traits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/tape_wide.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {
namespace {

template <typename T>
inline constexpr bool kReal = std::is_floating_point_v<T>;

template <typename T, typename F>
void each1(const T* a, T* out, int64_t n, F f) {
  for (int64_t i = 0; i < n; ++i) out[i] = f(a[i]);
}
template <typename T, typename F>
void each2(const T* a, bool a_one, const T* b, bool b_one, T* out, int64_t n, F f) {
  if (!a_one && !b_one) {
    for (int64_t i = 0; i < n; ++i) out[i] = f(a[i], b[i]);
  } else if (!a_one) {
    const T y = *b;
    for (int64_t i = 0; i < n; ++i) out[i] = f(a[i], y);
  } else {
    const T x = *a;
    for (int64_t i = 0; i < n; ++i) out[i] = f(x, b[b_one ? 0 : i]);
  }
}

// By bits: a branch would be guessed wrong as often as not.
template <typename T>
T chosen(bool first, T yes, T no) {
  using Bits = std::conditional_t<sizeof(T) == 8, uint64_t, uint32_t>;
  const Bits mask = Bits{0} - static_cast<Bits>(first);
  return std::bit_cast<T>((std::bit_cast<Bits>(yes) & mask) | (std::bit_cast<Bits>(no) & ~mask));
}

// Whole numbers wrap: signed overflow goes through unsigned ones.
template <typename T, typename F>
T wrapping(T a, T b, F f) {
  if constexpr (kReal<T>) return f(a, b);
  else return static_cast<T>(f(static_cast<std::make_unsigned_t<T>>(a), static_cast<std::make_unsigned_t<T>>(b)));
}
template <typename T>
T quotient(T a, T b) {
  if constexpr (!kReal<T>) {
    if (b == -1) return static_cast<T>(0 - static_cast<std::make_unsigned_t<T>>(a));
  }
  return a / b;
}
template <typename T>
T remainder(T a, T b, bool of_dividend) {
  if constexpr (kReal<T>) {
    return std::fmod(a, b);
  } else {
    T r;
    if constexpr (sizeof(T) == 4) {
      // By doubles, which there are vectors of: a quotient of 32-bit numbers that is not whole is further from the next whole number than
      // rounding takes it. What -1 leaves is what 1 leaves, without its overflow.
      const T by = b == -1 ? 1 : b;
      r = a - static_cast<T>(static_cast<double>(a) / static_cast<double>(by)) * by;
    } else {
      if (b == -1) return 0;
      r = a % b;
    }
    return !of_dividend && r != 0 && (r ^ b) < 0 ? r + b : r;
  }
}

// Numbers of 64 bits that 32 would hold, as most indices and sizes are: by doubles, which there are vectors of.
bool fit_32(const int64_t* x, int64_t n) {
  uint64_t high = 0;
  for (int64_t i = 0; i < n; ++i) high |= (static_cast<uint64_t>(x[i]) + 0x80000000u) >> 32;
  return high == 0;
}
template <typename T>
bool all_fit_32(const T* a, bool a_one, const T* b, bool b_one, int64_t n) {
  if constexpr (std::is_same_v<T, int64_t>) return fit_32(a, a_one ? 1 : n) && fit_32(b, b_one ? 1 : n);
  else return !kReal<T>;
}

// Whole numbers wrap; what is below one is cut off.
template <typename T>
T power(T x, T y) {
  if constexpr (kReal<T>) {
    return std::pow(x, y);
  } else {
    if (y < 0) return x == 1 ? T{1} : x != T{-1} ? T{0} : (y & 1) != 0 ? T{-1} : T{1};
    using U = std::make_unsigned_t<T>;
    U result = 1, base = static_cast<U>(x);
    for (auto left = static_cast<U>(y); left > 0; left >>= 1, base *= base) {
      if ((left & 1) != 0) result *= base;
    }
    return static_cast<T>(result);
  }
}
template <typename T, typename F>
T shifted(T x, T y, F f) {
  using U = std::make_unsigned_t<T>;
  const U by = static_cast<U>(y);
  return by >= sizeof(T) * 8 ? T{0} : static_cast<T>(f(static_cast<U>(x), by));
}

double sigmoid(double x) { return x >= 0 ? 1 / (1 + std::exp(-x)) : std::exp(x) / (1 + std::exp(x)); }
double softplus(double x) { return x > 0 ? x + std::log1p(std::exp(-x)) : std::log1p(std::exp(x)); }
double clamp(double x, double low, double high) { return x < low ? low : x > high ? high : x; }

// Functions that only floats have.
bool run_real(const TapeStep& s, const double* a, double* out, int64_t n) {
  const double p = s.p, q = s.q;
  const auto each = [&](auto f) { return each1(a, out, n, f), true; };
  switch (s.op) {
    case TapeOp::sqrt: return each([](double x) { return std::sqrt(x); });
    case TapeOp::reciprocal: return each([](double x) { return 1 / x; });
    case TapeOp::exp: return each([](double x) { return std::exp(x); });
    case TapeOp::log: return each([](double x) { return std::log(x); });
    case TapeOp::tanh: return each([](double x) { return std::tanh(x); });
    case TapeOp::sigmoid: return each(sigmoid);
    case TapeOp::erf: return each([](double x) { return std::erf(x); });
    case TapeOp::floor: return each([](double x) { return std::floor(x); });
    case TapeOp::ceil: return each([](double x) { return std::ceil(x); });
    case TapeOp::round: return each([](double x) { return std::nearbyint(x); });
    case TapeOp::leaky_relu: return each([p](double x) { return x < 0 ? p * x : x; });
    case TapeOp::elu: return each([p](double x) { return x < 0 ? p * std::expm1(x) : x; });
    case TapeOp::celu: return each([p](double x) { return x < 0 ? p * std::expm1(x / p) : x; });
    case TapeOp::selu: return each([p, q](double x) { return q * (x > 0 ? x : p * std::expm1(x)); });
    case TapeOp::softplus: return each(softplus);
    case TapeOp::softsign: return each([](double x) { return x / (1 + std::fabs(x)); });
    case TapeOp::hard_sigmoid: return each([p, q](double x) { return clamp(p * x + q, 0, 1); });
    case TapeOp::hard_swish: return each([](double x) { return x * clamp(x / 6 + 0.5, 0, 1); });
    case TapeOp::mish: return each([](double x) { return x * std::tanh(softplus(x)); });
    case TapeOp::gelu: return each([](double x) { return 0.5 * x * (1 + std::erf(x * 0.70710678118654752440)); });
    case TapeOp::gelu_tanh:
      return each([](double x) { return 0.5 * x * (1 + std::tanh(0.79788456080286535588 * (x + 0.044715 * x * x * x))); });
    case TapeOp::threshold: return each([p](double x) { return x > p ? x : 0; });
    case TapeOp::sin: return each([](double x) { return std::sin(x); });
    case TapeOp::cos: return each([](double x) { return std::cos(x); });
    case TapeOp::tan: return each([](double x) { return std::tan(x); });
    case TapeOp::atan: return each([](double x) { return std::atan(x); });
    case TapeOp::asin: return each([](double x) { return std::asin(x); });
    case TapeOp::acos: return each([](double x) { return std::acos(x); });
    case TapeOp::sinh: return each([](double x) { return std::sinh(x); });
    case TapeOp::cosh: return each([](double x) { return std::cosh(x); });
    case TapeOp::asinh: return each([](double x) { return std::asinh(x); });
    case TapeOp::acosh: return each([](double x) { return std::acosh(x); });
    case TapeOp::atanh: return each([](double x) { return std::atanh(x); });
    case TapeOp::shrink: return each([p, q](double x) { return x < -p ? x + q : x > p ? x - q : 0; });
    case TapeOp::is_nan: return each([](double x) { return x != x ? 1.0 : 0.0; });
    case TapeOp::is_inf: return each([p, q](double x) { return std::isinf(x) && (x < 0 ? p : q) != 0 ? 1.0 : 0.0; });
    default: return false;
  }
}

template <typename T>
void run_step(const TapeStep& s, T* out, const T* a, bool a_one, const T* b, bool b_one, const T* c, bool c_one, int64_t n) {
  const auto two = [&](auto f) { each2(a, a_one, b, b_one, out, n, f); };
  switch (s.op) {
    case TapeOp::neg: return each1(a, out, n, [](T x) { return wrapping<T>(0, x, [](auto u, auto v) { return kReal<T> ? -v : u - v; }); });
    case TapeOp::abs:
      return each1(a, out, n, [](T x) {  // (a choice between both would make doubles of whole numbers)
        if constexpr (kReal<T>) return std::fabs(x);
        else return x < 0 ? wrapping<T>(0, x, std::minus<>()) : x;
      });
    case TapeOp::sign: return each1(a, out, n, [](T x) { return x != x ? x : static_cast<T>((x > 0) - (x < 0)); });
    case TapeOp::relu: return each1(a, out, n, [](T x) { return x < 0 ? 0 : x; });
    case TapeOp::clip:
      return each1(a, out, n, [&](T x) {
        return x < static_cast<T>(s.p) ? static_cast<T>(s.p) : x > static_cast<T>(s.q) ? static_cast<T>(s.q) : x;
      });
    case TapeOp::logical_not: return each1(a, out, n, [](T x) { return static_cast<T>(x == 0); });
    case TapeOp::add: return two([](T x, T y) { return wrapping(x, y, std::plus<>()); });
    case TapeOp::sub: return two([](T x, T y) { return wrapping(x, y, std::minus<>()); });
    case TapeOp::mul: return two([](T x, T y) { return wrapping(x, y, std::multiplies<>()); });
    case TapeOp::div:
      if (all_fit_32(a, a_one, b, b_one, n)) {
        return two([](T x, T y) {
          const auto by = static_cast<int32_t>(y);
          const auto q = static_cast<int32_t>(static_cast<double>(static_cast<int32_t>(x)) / static_cast<double>(by == -1 ? 1 : by));
          return by == -1 ? wrapping<T>(0, static_cast<T>(q), std::minus<>()) : static_cast<T>(q);
        });
      }
      return two([](T x, T y) { return quotient(x, y); });
    case TapeOp::mod:
      if (all_fit_32(a, a_one, b, b_one, n)) {
        return two([&](T x, T y) { return static_cast<T>(remainder(static_cast<int32_t>(x), static_cast<int32_t>(y), s.p != 0)); });
      }
      return two([&](T x, T y) { return remainder(x, y, s.p != 0); });
    case TapeOp::min: return two([](T x, T y) { return x != x || x < y ? x : y; });
    case TapeOp::max: return two([](T x, T y) { return x != x || x > y ? x : y; });
    case TapeOp::pow: return two([](T x, T y) { return power(x, y); });
    case TapeOp::prelu: return two([](T x, T y) { return x < 0 ? static_cast<T>(x * y) : x; });
    case TapeOp::less: return two([](T x, T y) { return static_cast<T>(x < y); });
    case TapeOp::less_equal: return two([](T x, T y) { return static_cast<T>(x <= y); });
    case TapeOp::greater: return two([](T x, T y) { return static_cast<T>(x > y); });
    case TapeOp::greater_equal: return two([](T x, T y) { return static_cast<T>(x >= y); });
    case TapeOp::equal: return two([](T x, T y) { return static_cast<T>(x == y); });
    case TapeOp::where:
      // Each form a loop of its own, which becomes vectors.
      if (a_one) {
        const T* from = *a != 0 ? b : c;
        if (*a != 0 ? b_one : c_one) std::fill_n(out, n, T{*from});
        else std::copy_n(from, n, out);
      } else if (b_one && c_one) {
        const T yes = *b, no = *c;
        for (int64_t i = 0; i < n; ++i) out[i] = chosen(a[i] != 0, yes, no);
      } else if (b_one) {
        const T yes = *b;
        for (int64_t i = 0; i < n; ++i) {
          const T no = c[i];
          out[i] = chosen(a[i] != 0, yes, no);
        }
      } else if (c_one) {
        const T no = *c;
        for (int64_t i = 0; i < n; ++i) {
          const T yes = b[i];
          out[i] = chosen(a[i] != 0, yes, no);
        }
      } else {
        for (int64_t i = 0; i < n; ++i) {
          const T yes = b[i], no = c[i];  // both are read, whichever it is
          out[i] = chosen(a[i] != 0, yes, no);
        }
      }
      return;
    default:
      if constexpr (kReal<T>) {
        if (run_real(s, a, out, n)) return;
      } else {
        switch (s.op) {
          case TapeOp::bit_not: return each1(a, out, n, [](T x) { return static_cast<T>(~x); });
          case TapeOp::bit_and: return two([](T x, T y) { return static_cast<T>(x & y); });
          case TapeOp::bit_or: return two([](T x, T y) { return static_cast<T>(x | y); });
          case TapeOp::bit_xor: return two([](T x, T y) { return static_cast<T>(x ^ y); });
          case TapeOp::shift_left: return two([](T x, T y) { return shifted(x, y, [](auto u, auto by) { return u << by; }); });
          case TapeOp::shift_right: return two([](T x, T y) { return shifted(x, y, [](auto u, auto by) { return u >> by; }); });
          default: break;
        }
      }
      std::copy_n(a, n, out);
  }
}

template <typename T, typename From>
void load_as(const void* from, int64_t stride, int64_t n, T* to) {
  const From* p = static_cast<const From*>(from);
  if (stride == 1) {
    for (int64_t i = 0; i < n; ++i) to[i] = static_cast<T>(p[i]);
  } else {
    for (int64_t i = 0; i < n; ++i) to[i] = static_cast<T>(p[i * stride]);
  }
}
template <typename T>
void load(TapeType type, const void* from, int64_t stride, int64_t n, T* to) {
  switch (type) {
    case TapeType::f32: return load_as<T, float>(from, stride, n, to);
    case TapeType::f64: return load_as<T, double>(from, stride, n, to);
    case TapeType::i32: return load_as<T, int32_t>(from, stride, n, to);
    case TapeType::i64: return load_as<T, int64_t>(from, stride, n, to);
    case TapeType::i8: return load_as<T, int8_t>(from, stride, n, to);
    case TapeType::i16: return load_as<T, int16_t>(from, stride, n, to);
    case TapeType::u16: return load_as<T, uint16_t>(from, stride, n, to);
    case TapeType::u32: return load_as<T, uint32_t>(from, stride, n, to);
    case TapeType::u64: return load_as<T, uint64_t>(from, stride, n, to);
    case TapeType::boolean:
      if (stride == 1) {  // becomes vectors
        for (int64_t i = 0; i < n; ++i) to[i] = static_cast<const uint8_t*>(from)[i] != 0;
      } else {
        for (int64_t i = 0; i < n; ++i) to[i] = static_cast<const uint8_t*>(from)[i * stride] != 0;
      }
      return;
    default: return load_as<T, uint8_t>(from, stride, n, to);
  }
}

template <typename T>
int64_t whole(T x) {
  if constexpr (kReal<T>) {
    if (!(x > -0x1p63)) return x != x ? 0 : std::numeric_limits<int64_t>::min();
    return x >= 0x1p63 ? std::numeric_limits<int64_t>::max() : static_cast<int64_t>(x);
  } else {
    return x;
  }
}
template <typename T, typename To>
void store_as(const T* from, int64_t n, void* to) {
  for (int64_t i = 0; i < n; ++i) {
    if constexpr (kReal<To>) static_cast<To*>(to)[i] = static_cast<To>(from[i]);
    else static_cast<To*>(to)[i] = static_cast<To>(whole(from[i]));
  }
}
// To 16 bits with kMantissa of them behind the point: to the nearest, ties to even. NaN stays NaN, without what it carries.
template <int kMantissa, int kBias>
uint16_t to_half(double x) {
  constexpr int kShift = 52 - kMantissa;
  constexpr auto kInfinity = static_cast<uint64_t>(2 * kBias + 1) << kMantissa;
  const auto bits = std::bit_cast<uint64_t>(x), magnitude = bits & ~(uint64_t{1} << 63);
  const auto sign = static_cast<uint16_t>(bits >> 63 << 15);
  if (x != x) return static_cast<uint16_t>(sign | kInfinity | uint64_t{1} << (kMantissa - 1));
  // Below the smallest normal one they stand at even distances.
  constexpr double kUnit = kBias == 15 ? 0x1p24 : 0x1p133, kLeast = kBias == 15 ? 0x1p-14 : 0x1p-126;
  if (std::fabs(x) < kLeast) return static_cast<uint16_t>(sign | static_cast<uint16_t>(std::nearbyint(std::fabs(x) * kUnit)));
  const uint64_t rounded = (magnitude + (uint64_t{1} << (kShift - 1)) - 1 + (magnitude >> kShift & 1)) >> kShift;
  return static_cast<uint16_t>(sign | std::min(rounded - (static_cast<uint64_t>(1023 - kBias) << kMantissa), kInfinity));
}
template <typename T, int kMantissa, int kBias>
void store_half(const T* from, int64_t n, void* to) {
  for (int64_t i = 0; i < n; ++i) static_cast<uint16_t*>(to)[i] = to_half<kMantissa, kBias>(static_cast<double>(from[i]));
}

template <typename T>
void store(TapeType type, const T* from, int64_t n, void* to) {
  switch (type) {
    case TapeType::f16: return store_half<T, 10, 15>(from, n, to);
    case TapeType::bf16: return store_half<T, 7, 127>(from, n, to);
    case TapeType::f32: return store_as<T, float>(from, n, to);
    case TapeType::f64: return store_as<T, double>(from, n, to);
    case TapeType::i16:
    case TapeType::u16: return store_as<T, uint16_t>(from, n, to);
    case TapeType::u32: return store_as<T, uint32_t>(from, n, to);
    case TapeType::i32: return store_as<T, int32_t>(from, n, to);
    case TapeType::i64:
    case TapeType::u64: return store_as<T, int64_t>(from, n, to);
    case TapeType::boolean:
      for (int64_t i = 0; i < n; ++i) {
        if constexpr (std::is_same_v<T, int64_t>) {  // the sign of it or of its negative
          const auto bits = static_cast<uint64_t>(from[i]);
          static_cast<uint8_t*>(to)[i] = static_cast<uint8_t>((bits | (0 - bits)) >> 63);
        } else {
          static_cast<uint8_t*>(to)[i] = from[i] != 0;
        }
      }
      return;
    default: return store_as<T, uint8_t>(from, n, to);
  }
}

template <typename T>
void run_wide(const Tape& tape, const TapeOperand* operands, void* out, TapeType out_type, int64_t count) {
  constexpr int64_t kAll = kMaxSlots * kStrip / 2;
  alignas(64) T memory[kAll];
  constexpr TapeType kOwn = kReal<T> ? TapeType::f64 : sizeof(T) == 8 ? TapeType::i64 : TapeType::i32;
  int slots = tape.inputs;
  for (const TapeStep& step : tape.steps) slots = std::max(slots, step.out + 1);
  const int64_t each = kAll / std::max(slots, 3) / 64 * 64;
  const T* slot[kMaxSlots];
  bool one[kMaxSlots];
  for (int64_t at = 0; at < count; at += each) {
    const int64_t n = std::min(each, count - at);
    for (int i = 0; i < tape.inputs; ++i) {
      const TapeOperand& o = operands[i];
      const char* from = static_cast<const char*>(o.data) + at * o.stride * bytes_of(o.type);
      one[i] = o.stride == 0;
      if (o.type == kOwn && (o.stride == 0 || o.stride == 1)) {
        slot[i] = reinterpret_cast<const T*>(from);
      } else {
        load(o.type, from, o.stride, one[i] ? 1 : n, memory + i * each);
        slot[i] = memory + i * each;
      }
    }
    for (size_t s = 0; s < tape.steps.size(); ++s) {
      const TapeStep& step = tape.steps[s];
      const int k = arity(step.op);
      const bool direct = s + 1 == tape.steps.size() && out_type == kOwn;
      T* to = direct ? static_cast<T*>(out) + at : memory + step.out * each;
      if (k == 1 && one[step.a]) {
        const T value = slot[step.a][0];
        T made;
        run_step<T>(step, &made, &value, false, nullptr, false, nullptr, false, 1);
        std::fill_n(to, n, made);
      } else {
        run_step<T>(step, to, slot[step.a], one[step.a], k > 1 ? slot[step.b] : nullptr, k > 1 && one[step.b],
                    k > 2 ? slot[step.c] : nullptr, k > 2 && one[step.c], n);
      }
      slot[step.out] = to;
      one[step.out] = false;
    }
    if (out_type != kOwn) store(out_type, slot[tape.result], n, static_cast<char*>(out) + at * bytes_of(out_type));
  }
}

}  // namespace

LATHE_GIVES_WAY void WideF64Here(const Tape& tape, const TapeOperand* operands, void* out, TapeType out_type, int64_t count) {
  run_wide<double>(tape, operands, out, out_type, count);
}
LATHE_GIVES_WAY void WideI32Here(const Tape& tape, const TapeOperand* operands, void* out, TapeType out_type, int64_t count) {
  run_wide<int32_t>(tape, operands, out, out_type, count);
}
LATHE_GIVES_WAY void WideI64Here(const Tape& tape, const TapeOperand* operands, void* out, TapeType out_type, int64_t count) {
  run_wide<int64_t>(tape, operands, out, out_type, count);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
RunTape run_tape_in(TapeType compute, Isa isa) {
  switch (compute) {
    case TapeType::f64: return LATHE_SELECT(isa, WideF64Here);
    case TapeType::i32: return LATHE_SELECT(isa, WideI32Here);
    case TapeType::i64: return LATHE_SELECT(isa, WideI64Here);
    default: return run_tape(isa);
  }
}
}  // namespace lathe::kernels
#endif
