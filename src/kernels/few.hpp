// Convolutions to a few filters, channels-last: masks, depth, scores of a single class. Each result is a scalar product over vectors of
// channels; panels of filters would be mostly empty. fp32.
#pragma once

#include <cstdint>

#include "kernels/dense.hpp"

namespace lathe::kernels {

inline constexpr int64_t kMostFew = 4;        // filters
inline constexpr int64_t kMostFewTaps = 128;  // of a window

// out[m, f] = epilogue(sum over taps t and channels c of x[m, t, c] * weights[f][t][c]).
// Preconditions: no alignment; 1 to kMostFew filters; 1 to kMostFewTaps taps; `zeros` of the window has `channels` floats; out overlaps
// neither the picture nor the weights. Channels are read to the last one and not past it.
struct FewArguments {
  const WindowRows* window = nullptr;
  int64_t channels = 0, filters = 1, taps = 1;
  const float* weights = nullptr;
  DenseEpilogue epilogue;              // bias, residual, clamp, tape; columns are filters
  int64_t row_begin = 0, row_end = 0;  // output pixels
  float* out = nullptr;
  int64_t out_stride = 0;  // floats from one output pixel to the next
};
// No allocation, no exception.
using Few = void (*)(const FewArguments&);
Few few_filters(Isa isa);

}  // namespace lathe::kernels
