#include "lathe/dtype.hpp"

#include <array>
#include <bit>
#include <cmath>
#include <limits>

namespace lathe {
namespace {

struct Info {
  std::string_view name, long_name;
  int bits;
  char kind;  // f float, i signed, u unsigned, b bool, s string, c complex, - none
};

constexpr std::array<Info, kDTypeCount> kInfo{{
    {"undefined", "undefined", 0, '-'},
    {"f32", "float", 32, 'f'},
    {"f64", "double", 64, 'f'},
    {"f16", "float16", 16, 'f'},
    {"bf16", "bfloat16", 16, 'f'},
    {"f8e4m3fn", "float8e4m3fn", 8, 'f'},
    {"f8e4m3fnuz", "float8e4m3fnuz", 8, 'f'},
    {"f8e5m2", "float8e5m2", 8, 'f'},
    {"f8e5m2fnuz", "float8e5m2fnuz", 8, 'f'},
    {"f4e2m1", "float4e2m1", 4, 'f'},
    {"i4", "int4", 4, 'i'},
    {"i8", "int8", 8, 'i'},
    {"i16", "int16", 16, 'i'},
    {"i32", "int32", 32, 'i'},
    {"i64", "int64", 64, 'i'},
    {"u4", "uint4", 4, 'u'},
    {"u8", "uint8", 8, 'u'},
    {"u16", "uint16", 16, 'u'},
    {"u32", "uint32", 32, 'u'},
    {"u64", "uint64", 64, 'u'},
    {"bool", "bool", 8, 'b'},
    {"string", "string", 0, 's'},
    {"c64", "complex64", 64, 'c'},
    {"c128", "complex128", 128, 'c'},
    {"f8e8m0", "float8e8m0", 8, 'f'},
}};

const Info& info(DType d) { return kInfo[static_cast<size_t>(d)]; }

// Layout of a narrow floating format. `special`: what the top of the exponent range means.
enum class Special { ieee, nan_all_ones, nan_negative_zero, none };
struct Narrow {
  int exponent_bits, mantissa_bits, bias;
  Special special;
};

Narrow narrow(DType d) {
  switch (d) {
    case DType::f16: return {5, 10, 15, Special::ieee};
    case DType::bf16: return {8, 7, 127, Special::ieee};
    case DType::f8e4m3fn: return {4, 3, 7, Special::nan_all_ones};
    case DType::f8e4m3fnuz: return {4, 3, 8, Special::nan_negative_zero};
    case DType::f8e5m2: return {5, 2, 15, Special::ieee};
    case DType::f8e5m2fnuz: return {5, 2, 16, Special::nan_negative_zero};
    default: return {2, 1, 1, Special::none};  // f4e2m1
  }
}

}  // namespace

std::string_view to_string(DType dtype) { return info(dtype).name; }

std::optional<DType> parse_dtype(std::string_view name) {
  for (int i = 1; i < kDTypeCount; ++i) {
    if (kInfo[i].name == name || kInfo[i].long_name == name) return static_cast<DType>(i);
  }
  if (name == "float32") return DType::f32;
  if (name == "float64") return DType::f64;
  return std::nullopt;
}

int bit_width(DType dtype) { return info(dtype).bits; }
bool is_float(DType dtype) { return info(dtype).kind == 'f'; }
bool is_signed_int(DType dtype) { return info(dtype).kind == 'i'; }
bool is_unsigned_int(DType dtype) { return info(dtype).kind == 'u'; }

namespace {

constexpr uint32_t kPowerNan = 0xFF;
constexpr int kPowerBias = 127;

uint32_t encode_power(double value, bool saturate) {
  if (std::isnan(value) || value < 0) return kPowerNan;
  if (std::isinf(value)) return saturate ? kPowerNan - 1 : kPowerNan;
  if (value == 0) return 0;
  int exponent = std::ilogb(value);
  if (value > std::ldexp(1.5, exponent)) ++exponent;
  if (exponent < -kPowerBias) return 0;
  if (exponent > kPowerBias) return saturate ? kPowerNan - 1 : kPowerNan;
  return static_cast<uint32_t>(exponent + kPowerBias);
}

}  // namespace

double decode_narrow(DType dtype, uint32_t bits) {
  if (dtype == DType::f8e8m0)
    return bits == kPowerNan ? std::numeric_limits<double>::quiet_NaN() : std::ldexp(1.0, static_cast<int>(bits) - kPowerBias);
  const Narrow n = narrow(dtype);
  const int width = 1 + n.exponent_bits + n.mantissa_bits;
  const bool negative = bits >> (width - 1) & 1;
  const int exponent = bits >> n.mantissa_bits & ((1u << n.exponent_bits) - 1);
  const int mantissa = bits & ((1u << n.mantissa_bits) - 1);
  const int top = (1 << n.exponent_bits) - 1;
  const double nan = std::numeric_limits<double>::quiet_NaN();
  if (n.special == Special::nan_negative_zero && negative && exponent == 0 && mantissa == 0) return nan;
  if (n.special == Special::nan_all_ones && exponent == top && mantissa == (1 << n.mantissa_bits) - 1) return nan;
  double value;
  if (n.special == Special::ieee && exponent == top) {
    value = mantissa ? nan : std::numeric_limits<double>::infinity();
  } else if (exponent == 0) {
    value = std::ldexp(mantissa, 1 - n.bias - n.mantissa_bits);
  } else {
    value = std::ldexp((1 << n.mantissa_bits) + mantissa, exponent - n.bias - n.mantissa_bits);
  }
  return negative ? -value : value;
}

uint32_t encode_narrow(DType dtype, double value, bool saturate) {
  if (dtype == DType::f8e8m0) return encode_power(value, saturate);
  const Narrow n = narrow(dtype);
  const int width = 1 + n.exponent_bits + n.mantissa_bits;
  const uint32_t top = (1u << n.exponent_bits) - 1, ones = (1u << n.mantissa_bits) - 1;
  const uint32_t sign = std::signbit(value) ? 1u << (width - 1) : 0;
  const bool wide = dtype == DType::f16 || dtype == DType::bf16;
  // Largest finite value, and what stands for overflow and NaN.
  uint32_t largest, infinity, nan;
  switch (n.special) {
    case Special::ieee:
      largest = (top - 1) << n.mantissa_bits | ones;
      infinity = top << n.mantissa_bits;
      nan = infinity | 1u << (n.mantissa_bits - 1);
      break;
    case Special::nan_all_ones:
      largest = (top << n.mantissa_bits | ones) - 1;
      infinity = nan = top << n.mantissa_bits | ones;
      break;
    case Special::nan_negative_zero:
      largest = top << n.mantissa_bits | ones;
      infinity = nan = 1u << (width - 1);
      break;
    default: largest = infinity = top << n.mantissa_bits | ones; nan = largest;  // the format has no NaN
  }
  const bool unsigned_nan = n.special == Special::nan_negative_zero;
  if (std::isnan(value)) return unsigned_nan ? nan : sign | nan;
  const auto overflow = [&]() -> uint32_t {
    if (saturate && !wide) return sign | largest;
    return unsigned_nan ? nan : sign | infinity;
  };
  const double magnitude = std::fabs(value);
  if (std::isinf(value)) return overflow();
  if (magnitude == 0) return unsigned_nan ? 0 : sign;
  int exponent = std::ilogb(magnitude);
  exponent = std::max(exponent, 1 - n.bias);  // below: denormal, spacing stays that of the lowest binade
  const double scaled = std::nearbyint(std::ldexp(magnitude, n.mantissa_bits - exponent));  // ties to even
  uint32_t code = static_cast<uint32_t>(scaled);
  // `code` counts steps of the binade; adding the exponent field lets a carry move into the next binade by itself.
  if (code >= 1u << n.mantissa_bits) {
    const int64_t full = (int64_t{exponent} + n.bias - 1) * (1 << n.mantissa_bits) + code;
    if (full > static_cast<int64_t>(largest)) return overflow();
    code = static_cast<uint32_t>(full);
  }
  if (code == 0 && unsigned_nan) return 0;
  return sign | code;
}

}  // namespace lathe
