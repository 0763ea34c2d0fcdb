// Pixels of pictures to floats: resampled, then shifted and scaled; and rows of floats to what an input holds.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// One line of a picture that becomes another: pixel i lies between the source's pixel at left[i] of two lines and the one after it.
// value = lerp(lerp(top[left], top[left + 3], across), lerp(bottom[left], bottom[left + 3], across), down), each lerp a + (b - a) * t.
struct PixelLine {
  const uint8_t *top, *bottom;  // RGB, interleaved; eight bytes from each left[i] on may be read
  const int32_t* left;          // byte offsets, 3 * pixel
  const float* across;          // 0 .. 1; 0 of the last pixel, which has none after it
  float down;
  int64_t count;
  bool moved;  // false: left[i] = left[0] + 3 * i and across[i] = 0, a line as it stands
};

// out[c][i] = (value of channel c - mean[c]) * scale[c], c the source's channel.
// Preconditions: no alignment; out overlaps nothing. No allocation, no exception.
using ResamplePixels = void (*)(const PixelLine& line, const float* mean, const float* scale, float* const* out);
ResamplePixels resample_pixels(Isa isa);

enum class PixelKind { f32, f16, bf16, u8 };  // u8: to the nearest, halves to even, held within 0 .. 255; NaN gives 0

// Three rows, one after another at out[0], out[1], out[2], or interleaved at out[0] alone. Floats are rounded to nearest even.
// Preconditions: as above.
using StorePixels = void (*)(const float* const* rows, int64_t count, PixelKind kind, bool interleaved, void* const* out);
StorePixels store_pixels(Isa isa);

}  // namespace lathe::kernels
