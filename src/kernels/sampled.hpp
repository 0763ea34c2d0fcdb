// Planes read at places of their own, several weighted values for each result: sampling grids, regions. fp32.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// Result (plane, p) is the sum over taps of weights[t][p] * in[plane][at[t][p]]; where `at` is negative it is left out.
// Preconditions: no alignment; out does not overlap in; indices below 2^31 that lie in a plane; rows of `at` and `weights` begin `row`
// apart, at least `places` of them. Nothing past a plane is read, and only `places` of each are written.
struct SampledArguments {
  const float* in = nullptr;
  float* out = nullptr;
  int64_t planes = 0, in_plane = 0, out_plane = 0;  // elements from one plane to the next
  int64_t places = 0, taps = 0, row = 0;
  const int32_t* at = nullptr;
  const float* weights = nullptr;
  bool all_inside = false;  // no index is negative
  bool more = false;        // added to what is there
};

// Taps of lines, pictures and volumes, for places of a grid. One along each axis (nearest), two (linear), or four (cubic); the taps of the
// last axis run fastest; -1 where a tap is outside or weighs nothing. Positions from -1 to 1 are the middles of the first and last elements
// (corners) or their outer borders. In double, as plain evaluation has it.
// Preconditions: no alignment; at and weights have a row of `row` elements for each tap and overlap nothing; the sizes' product is below
// 2^31, each of them below 2^30.
enum class GridTaps : uint8_t { nearest = 1, linear = 2, cubic = 4 };
struct GridArguments {
  const float* grid = nullptr;  // `axes` positions a place, of the last axis first
  int64_t places = 0, row = 0;
  int axes = 2;                 // 1 to 3
  int64_t size[3] = {1, 1, 1};  // of the axes, from the first on
  GridTaps taps = GridTaps::linear;
  bool pixels = false;                   // positions are those of pixels, whatever `corners` says
  bool corners = false, border = false;  // border: positions outside count as those of the border; else zeros stand there
  int32_t* at = nullptr;
  float* weights = nullptr;
};
// Whether no index is negative.
using FindTaps = bool (*)(const GridArguments&);
FindTaps find_taps(Isa isa);

using Sampled = void (*)(const SampledArguments&);
Sampled sampled(Isa isa);

// The same for pictures whose channels run fastest: result p is `channels` floats, the sum over taps of weights[t][p] times the floats from
// in[at[t][p] * channels]. Preconditions as above.
struct SampledPixelsArguments {
  const float* in = nullptr;
  float* out = nullptr;
  int64_t channels = 0, places = 0, taps = 0, row = 0;
  const int32_t* at = nullptr;
  const float* weights = nullptr;
};
using SampledPixels = void (*)(const SampledPixelsArguments&);
SampledPixels sampled_pixels(Isa isa);

}  // namespace lathe::kernels
