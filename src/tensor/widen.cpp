#include "tensor/widen.hpp"

#include <cmath>
#include <cstring>
#include <limits>

#include "base/fail.hpp"

namespace lathe {
namespace {

// Out-of-range float to integer is undefined in C++; here it saturates and NaN gives 0.
template <typename To, typename From>
To convert(From v) {
  if constexpr (std::is_floating_point_v<From> && std::is_integral_v<To>) {
    if (std::isnan(v)) return 0;
    if (v <= static_cast<From>(std::numeric_limits<To>::min())) return std::numeric_limits<To>::min();
    if (v >= static_cast<From>(std::numeric_limits<To>::max())) return std::numeric_limits<To>::max();
  }
  return static_cast<To>(v);
}

template <typename S, typename T>
void read(const Tensor& t, std::vector<T>& out) {
  const S* p = static_cast<const S*>(t.data());
  for (size_t i = 0; i < out.size(); ++i) out[i] = convert<T>(p[i]);
}

template <typename S, typename T>
void write(Tensor& t, std::span<const T> in) {
  S* p = static_cast<S*>(t.data());
  for (size_t i = 0; i < in.size(); ++i) p[i] = convert<S>(in[i]);
}

// Floats to integers narrower than 64 bits wrap like integers do (through int64), so that a cast does not depend on
// the path it took.
template <typename S, typename T>
void write_int(Tensor& t, std::span<const T> in) {
  S* p = static_cast<S*>(t.data());
  for (size_t i = 0; i < in.size(); ++i) p[i] = static_cast<S>(convert<int64_t>(in[i]));
}

uint32_t half_byte(const uint8_t* p, size_t i) { return p[i / 2] >> (i % 2 * 4) & 0xF; }

}  // namespace

Wide wide_of(DType dtype) {
  if (is_float(dtype)) return Wide::f64;
  if (dtype == DType::u64) return Wide::u64;
  if (is_int(dtype) || dtype == DType::boolean) return Wide::i64;
  fail(Category::type, "arithmetic on {} is not defined", to_string(dtype));
}

template <typename T>
std::vector<T> widen(const Tensor& t) {
  std::vector<T> out(t.size());
  const auto* bytes = static_cast<const uint8_t*>(t.data());
  switch (t.dtype()) {
    case DType::f32: read<float>(t, out); break;
    case DType::f64: read<double>(t, out); break;
    case DType::i8: read<int8_t>(t, out); break;
    case DType::i16: read<int16_t>(t, out); break;
    case DType::i32: read<int32_t>(t, out); break;
    case DType::i64: read<int64_t>(t, out); break;
    case DType::u8: read<uint8_t>(t, out); break;
    case DType::u16: read<uint16_t>(t, out); break;
    case DType::u32: read<uint32_t>(t, out); break;
    case DType::u64: read<uint64_t>(t, out); break;
    case DType::boolean:
      for (size_t i = 0; i < out.size(); ++i) out[i] = bytes[i] != 0;
      break;
    case DType::f16:
    case DType::bf16: {
      const auto* p = static_cast<const uint16_t*>(t.data());
      for (size_t i = 0; i < out.size(); ++i) out[i] = convert<T>(decode_narrow(t.dtype(), p[i]));
      break;
    }
    case DType::f8e4m3fn:
    case DType::f8e4m3fnuz:
    case DType::f8e5m2:
    case DType::f8e5m2fnuz:
    case DType::f8e8m0:
      for (size_t i = 0; i < out.size(); ++i) out[i] = convert<T>(decode_narrow(t.dtype(), bytes[i]));
      break;
    case DType::f4e2m1:
      for (size_t i = 0; i < out.size(); ++i) out[i] = convert<T>(decode_narrow(t.dtype(), half_byte(bytes, i)));
      break;
    case DType::u4:
      for (size_t i = 0; i < out.size(); ++i) out[i] = convert<T>(half_byte(bytes, i));
      break;
    case DType::i4:
      for (size_t i = 0; i < out.size(); ++i) out[i] = convert<T>(static_cast<int>(half_byte(bytes, i) ^ 8) - 8);
      break;
    default: fail(Category::type, "arithmetic on {} is not defined", to_string(t.dtype()));
  }
  return out;
}

template <typename T>
Tensor narrow(DType dtype, Shape shape, std::span<const T> in, bool saturate) {
  Tensor t(dtype, std::move(shape));
  if (t.size() != static_cast<int64_t>(in.size()))
    fail(Category::internal, "narrow: {} values for shape {}", in.size(), to_string(t.shape()));
  auto* bytes = static_cast<uint8_t*>(t.data());
  switch (dtype) {
    case DType::f32: write<float>(t, in); break;
    case DType::f64: write<double>(t, in); break;
    case DType::i8: write_int<int8_t>(t, in); break;
    case DType::i16: write_int<int16_t>(t, in); break;
    case DType::i32: write_int<int32_t>(t, in); break;
    case DType::i64: write<int64_t>(t, in); break;
    case DType::u8: write_int<uint8_t>(t, in); break;
    case DType::u16: write_int<uint16_t>(t, in); break;
    case DType::u32: write_int<uint32_t>(t, in); break;
    case DType::u64: write<uint64_t>(t, in); break;
    case DType::boolean:
      for (size_t i = 0; i < in.size(); ++i) bytes[i] = in[i] != T{0};
      break;
    case DType::f16:
    case DType::bf16: {
      auto* p = static_cast<uint16_t*>(t.data());
      for (size_t i = 0; i < in.size(); ++i) p[i] = static_cast<uint16_t>(encode_narrow(dtype, static_cast<double>(in[i])));
      break;
    }
    case DType::f8e4m3fn:
    case DType::f8e4m3fnuz:
    case DType::f8e5m2:
    case DType::f8e5m2fnuz:
    case DType::f8e8m0:
      for (size_t i = 0; i < in.size(); ++i) bytes[i] = static_cast<uint8_t>(encode_narrow(dtype, static_cast<double>(in[i]), saturate));
      break;
    case DType::f4e2m1:
    case DType::u4:
    case DType::i4: {
      std::memset(bytes, 0, t.byte_size());
      for (size_t i = 0; i < in.size(); ++i) {
        const uint32_t code = dtype == DType::f4e2m1 ? encode_narrow(dtype, static_cast<double>(in[i]), saturate)
                                                     : static_cast<uint32_t>(convert<int64_t>(in[i])) & 0xF;
        bytes[i / 2] |= static_cast<uint8_t>(code << (i % 2 * 4));
      }
      break;
    }
    default: fail(Category::type, "arithmetic on {} is not defined", to_string(dtype));
  }
  return t;
}

template std::vector<double> widen(const Tensor&);
template std::vector<int64_t> widen(const Tensor&);
template std::vector<uint64_t> widen(const Tensor&);
template Tensor narrow(DType, Shape, std::span<const double>, bool);
template Tensor narrow(DType, Shape, std::span<const int64_t>, bool);
template Tensor narrow(DType, Shape, std::span<const uint64_t>, bool);

std::vector<int64_t> integers(const Tensor& tensor) {
  if (!is_int(tensor.dtype())) fail(Category::type, "expected an integer tensor, got {}", to_string(tensor.dtype()));
  return widen<int64_t>(tensor);
}

}  // namespace lathe
