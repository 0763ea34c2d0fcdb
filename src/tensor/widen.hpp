// Moves between stored elements and the widest type of their kind: double for floats, int64 or uint64 for integers and
// bool. Plain evaluation computes in the wide type and narrows once, so each op is written at most three times.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "lathe/tensor.hpp"

namespace lathe {

enum class Wide { f64, i64, u64 };

// f64 for floating types, u64 for u64, i64 for other integers and bool. Throws Error (type) for strings and complex.
Wide wide_of(DType dtype);

// All elements, converted as static_cast does (floats to integers truncate; values outside the range saturate).
template <typename T>
std::vector<T> widen(const Tensor& tensor);
// Rounds to nearest even (floats), wraps (integers), compares with zero (bool). `saturate` as in encode_narrow.
template <typename T>
Tensor narrow(DType dtype, Shape shape, std::span<const T> values, bool saturate = true);
template <typename T>
Tensor narrow(DType dtype, Shape shape, const std::vector<T>& values) {
  return narrow<T>(dtype, std::move(shape), std::span<const T>(values));
}

extern template std::vector<double> widen(const Tensor&);
extern template std::vector<int64_t> widen(const Tensor&);
extern template std::vector<uint64_t> widen(const Tensor&);
extern template Tensor narrow(DType, Shape, std::span<const double>, bool);
extern template Tensor narrow(DType, Shape, std::span<const int64_t>, bool);
extern template Tensor narrow(DType, Shape, std::span<const uint64_t>, bool);

// Integer tensor (shape, axes, starts, ...) as int64; throws Error (type) for other dtypes.
std::vector<int64_t> integers(const Tensor& tensor);

// Calls f with a value of the wide type for `dtype`.
template <typename F>
auto with_wide(DType dtype, F&& f) {
  switch (wide_of(dtype)) {
    case Wide::f64: return f(double{});
    case Wide::u64: return f(uint64_t{});
    default: return f(int64_t{});
  }
}

}  // namespace lathe
