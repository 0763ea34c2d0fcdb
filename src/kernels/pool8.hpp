// Largest elements of windows of bytes, channels-last.
#pragma once

#include <cstdint>

#include "kernels/dense.hpp"

namespace lathe::kernels {

inline constexpr int64_t kMostTapsPool8 = 128;

// out[m, c] = max over taps t of x[m, t, c], for output pixels [row_begin, row_end).
// Preconditions: 1 <= taps <= kMostTapsPool8; what stands in the padding is the least byte, `channels` of them; the result overlaps
// nothing. Reads `channels` bytes at each tap and nothing past them. No allocation, no exception.
struct Pool8Arguments {
  const WindowRowsOf<uint8_t>* window = nullptr;
  bool is_signed = false;
  int64_t taps = 1, channels = 0;
  int64_t row_begin = 0, row_end = 0;
  uint8_t* out = nullptr;
  int64_t out_stride = 0;  // from one pixel to the next
};
using Pool8 = void (*)(const Pool8Arguments&);
Pool8 pool8(Isa isa);

}  // namespace lathe::kernels
