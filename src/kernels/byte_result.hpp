// What kernels of 8-bit operands make of their sums.
#pragma once

#include <cstdint>

#include "kernels/dense.hpp"

namespace lathe::kernels {

// What becomes of sums: 32-bit numbers as they are; or floats, float(sum) * scale and the epilogue; or requantised,
// saturate(round_to_even(double(sum + bias) * factor [+ shift]) + out_zero).
struct ByteResult {
  int32_t* sums = nullptr;
  float* reals = nullptr;
  const float* scales = nullptr;  // of reals: one, or (scale_stride 1) one a column; null: 1
  int64_t scale_stride = 0;
  DenseEpilogue epilogue;  // of reals; its residual may be `reals` itself
  uint8_t* out = nullptr;
  bool out_signed = false;
  int64_t ldc = 0;                  // elements
  const int32_t* bias = nullptr;    // one a column, or null
  const double* factors = nullptr;  // one a column
  const double* shifts = nullptr;   // one a column, or null
  int32_t out_zero = 0;
};

}  // namespace lathe::kernels
