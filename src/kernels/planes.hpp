// Window kernels on channels-last data: depthwise convolution, convolutions of small groups, pooling. fp32.
#pragma once

#include <cstdint>

#include "kernels/dense.hpp"

namespace lathe::kernels {

// grouped: convolutions of small groups, as many filters as channels in each.
enum class PlaneOp { depthwise, grouped, max, average };

// Preconditions: no alignment; out overlaps neither the picture nor the weights; at most kMaxPlaneTaps taps, groups of 1 to kMostGroup (a
// power of two); 0 <= row_begin <= row_end. Channels are read and written to the last one and not past it.
struct PlaneArguments {
  PlaneOp op = PlaneOp::max;
  const WindowRows* window = nullptr;  // `zeros` unused: taps in the padding are skipped
  int64_t channels = 0;                // in all groups
  int64_t group = 1;                   // grouped: channels of a group, a power of two up to kMostGroup
  const float* weights = nullptr;      // depthwise: [tap][channel]; grouped: [tap][channel of the group][filter]
  // average: 1 / (count * shrink) for each output pixel of an image; inputs are multiplied by `shrink`, a power of two (see pool.hpp).
  const float* divisors = nullptr;
  float shrink = 1;
  DenseEpilogue epilogue;              // bias, residual, clamp, tape; columns are channels
  int64_t row_begin = 0, row_end = 0;  // output pixels
  float* out = nullptr;                // [pixel][channel]
  int64_t out_stride = 0;              // floats from one output pixel to the next
};

// No allocation.
// Windows with more taps than this are left to the caller.
inline constexpr int64_t kMaxPlaneTaps = 1024;
inline constexpr int64_t kMostGroup = 16;
using Plane = void (*)(const PlaneArguments&);
Plane plane(Isa isa);

// `pixels` neighbours of some channels, each channel's `channel_stride` floats after the one before, written pixel by pixel.
using Interleave = void (*)(const float* in, int64_t channel_stride, int64_t channels, int64_t pixels, float* out);
Interleave interleave(Isa isa);

}  // namespace lathe::kernels
