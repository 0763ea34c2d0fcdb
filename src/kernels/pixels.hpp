// Pixels of pictures to floats: resampled, then shifted and scaled.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// One line of a picture that becomes another: pixel i lies between the source's pixels left[i] and right[i] of two lines.
// value = lerp(lerp(top[left], top[right], across), lerp(bottom[left], bottom[right], across), down), each lerp a + (b - a) * t.
struct PixelLine {
  const uint8_t *top, *bottom;  // RGB, interleaved; one byte past the last pixel of each may be read
  const int32_t *left, *right;  // byte offsets, 3 * pixel
  const float* across;          // 0 .. 1
  float down;
  int64_t count;
  bool moved;  // false: left[i] = left[0] + 3 * i and across[i] = 0, a line as it stands
};

// out[c][i] = (value of channel c - mean[c]) * scale[c], c the source's channel.
// Preconditions: no alignment; out overlaps nothing. No allocation, no exception.
using ResamplePixels = void (*)(const PixelLine& line, const float* mean, const float* scale, float* const* out);
ResamplePixels resample_pixels(Isa isa);

}  // namespace lathe::kernels
