// Depthwise convolution of 8-bit pictures, channels-last: each channel with a filter of its own.
#pragma once

#include <cstdint>

#include "kernels/dense8.hpp"

namespace lathe::kernels {

// Sums are taken in f32, which is exact as long as each stays below 2^24.
inline constexpr int64_t kMostTapsDepthwise8 = 128;

// sums[m, c] = sum over taps t of (x[m, t, c] - a_zero) * w[t, c]; then as ByteResult has it.
// Preconditions: 1 <= taps <= kMostTapsDepthwise8; |w| <= 255; what stands in the padding is a_zero; results overlap no operand. Reads
// `channels` bytes at each tap and nothing past them. No allocation, no exception.
struct Depthwise8Arguments : ByteResult {
  const WindowRowsOf<uint8_t>* window = nullptr;
  bool a_signed = false;
  int32_t a_zero = 0;
  const float* weights = nullptr;      // [taps][channels], less their zero points
  const float* weight_sums = nullptr;  // of each channel's taps
  int64_t taps = 1, channels = 0;
  int64_t row_begin = 0, row_end = 0;
};
using Depthwise8 = void (*)(const Depthwise8Arguments&);
Depthwise8 depthwise8(Isa isa);

}  // namespace lathe::kernels
