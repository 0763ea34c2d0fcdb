// Element types of tensors, and the narrow formats' conversions.
#pragma once

#include <complex>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace lathe {

enum class DType : uint8_t {
  undefined,
  f32,
  f64,
  f16,
  bf16,
  f8e4m3fn,
  f8e4m3fnuz,
  f8e5m2,
  f8e5m2fnuz,
  f4e2m1,
  i4,
  i8,
  i16,
  i32,
  i64,
  u4,
  u8,
  u16,
  u32,
  u64,
  boolean,
  string,
  c64,
  c128,
  f8e8m0,  // powers of two alone: no sign, no zero
};

inline constexpr int kDTypeCount = static_cast<int>(DType::f8e8m0) + 1;

// "f32", "i64", "bool", "string", ...
std::string_view to_string(DType dtype);
// Accepts the short names above and the standard's long ones ("float", "float16", "int64", ...).
std::optional<DType> parse_dtype(std::string_view name);

// Bits of one element in memory; 0 for undefined and string. Types of 4 bits are packed two to a byte, low half first.
int bit_width(DType dtype);
bool is_float(DType dtype);  // any floating format, 4 to 64 bits
bool is_signed_int(DType dtype);
bool is_unsigned_int(DType dtype);
inline bool is_int(DType dtype) { return is_signed_int(dtype) || is_unsigned_int(dtype); }
inline bool is_complex(DType dtype) { return dtype == DType::c64 || dtype == DType::c128; }

// Storage of the narrow floating types: bits only. Arithmetic happens in a wider type.
struct Half {
  uint16_t bits = 0;
};
struct BFloat16 {
  uint16_t bits = 0;
};

// Decodes the low bit_width(dtype) bits of a floating type narrower than 32 bits.
double decode_narrow(DType dtype, uint32_t bits);
// Rounds to nearest, ties to even (f8e8m0: to the nearest power of two, NaN for negative numbers). Out of range: the largest finite value
// when `saturate` (float8, float4 only), else infinity where the format has one, else NaN.
uint32_t encode_narrow(DType dtype, double value, bool saturate = true);

template <typename T>
inline constexpr DType kDTypeOf = DType::undefined;
template <>
inline constexpr DType kDTypeOf<float> = DType::f32;
template <>
inline constexpr DType kDTypeOf<double> = DType::f64;
template <>
inline constexpr DType kDTypeOf<Half> = DType::f16;
template <>
inline constexpr DType kDTypeOf<BFloat16> = DType::bf16;
template <>
inline constexpr DType kDTypeOf<int8_t> = DType::i8;
template <>
inline constexpr DType kDTypeOf<int16_t> = DType::i16;
template <>
inline constexpr DType kDTypeOf<int32_t> = DType::i32;
template <>
inline constexpr DType kDTypeOf<int64_t> = DType::i64;
template <>
inline constexpr DType kDTypeOf<uint8_t> = DType::u8;
template <>
inline constexpr DType kDTypeOf<uint16_t> = DType::u16;
template <>
inline constexpr DType kDTypeOf<uint32_t> = DType::u32;
template <>
inline constexpr DType kDTypeOf<uint64_t> = DType::u64;
template <>
inline constexpr DType kDTypeOf<bool> = DType::boolean;
template <>
inline constexpr DType kDTypeOf<std::string> = DType::string;
template <>
inline constexpr DType kDTypeOf<std::complex<float>> = DType::c64;
template <>
inline constexpr DType kDTypeOf<std::complex<double>> = DType::c128;

}  // namespace lathe
