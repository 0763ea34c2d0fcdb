// Winograd's minimal filtering for 3x3 windows of stride 1: 2x2 or 4x4 outputs from a tile of two inputs more on each side, with a
// product for each of the tile's inputs: 16 where the direct sum takes 36, 36 where it takes 144. Channels-last, fp32.
//
// Y = At [(G g Gt) . (Bt d B)] A, with the points 0, +-p of Winograd<>::kPoints and infinity. For 4x4 they are 3/4 and 3/2, whose
// transforms err least in f32 (docs/decisions/0008). Source: S. Winograd, Arithmetic Complexity of Computations (1980), chapter V.
#pragma once

#include <cstdint>

#include "kernels/dense.hpp"

namespace lathe::kernels {

struct WinogradShape {
  int64_t outputs = 4;  // of a tile, on a side: 2 or 4
  int64_t in_h = 0, in_w = 0, channels = 0;
  int64_t out_h = 0, out_w = 0, filters = 0;
  int64_t top = 0, left = 0;                       // padding
  int64_t in_image = 0, in_row = 0, in_pixel = 0;  // floats from one to the next
  int64_t out_pixel = 0;
  int64_t side() const { return outputs + 2; }
  int64_t points() const { return side() * side(); }
  int64_t tiles_y() const { return (out_h + outputs - 1) / outputs; }
  int64_t tiles_x() const { return (out_w + outputs - 1) / outputs; }
  int64_t tiles() const { return tiles_y() * tiles_x(); }  // of an image
};

// Where the transformed inputs of `count` tiles stand: for each point a matrix of tiles x channels whose rows are kNearStride apart, as the
// dense kernel reads them without a copy; several points share a row when they fit.
struct WinogradRows {
  int64_t per_row = 1, group = 0;
  WinogradRows(int64_t count, int64_t channels)
      : per_row(channels > 0 && channels < kNearStride - 16 ? (kNearStride - 16) / channels : 1), group(count * kNearStride) {
    if (group / 16 % 2 == 0) group += 16;  // an odd number of lines: the points' tiles fall into different sets of L1
  }
  int64_t at(int64_t point, int64_t channels) const { return point / per_row * group + point % per_row * channels; }
  int64_t floats(int64_t points) const { return (points + per_row - 1) / per_row * group; }
};
// Floats from a point's results (tiles x filters) to the next point's.
inline int64_t winograd_results(int64_t count, int64_t filters) { return ((count * filters + 15) / 16 | 1) * 16; }

// Preconditions: no alignment; rows and results of the sizes that WinogradRows and winograd_results give, overlapping nothing; weights
// below 1e18 in magnitude (their transforms must not overflow). Pictures are read and written where they have pixels, and nowhere else.
struct WinogradInput {
  const WinogradShape* shape = nullptr;
  const float* in = nullptr;     // all images
  int64_t first = 0, count = 0;  // tiles, counted through all images
  int64_t begin = 0, end = 0;    // of these, [begin, end) are transformed now
  float* rows = nullptr;         // WinogradRows(count, channels)
  uint8_t* odd = nullptr;        // by tile from `first`: whether its inputs hold NaN or infinity, which a transform would spread
};
struct WinogradOutput {
  const WinogradShape* shape = nullptr;
  const float* results = nullptr;  // as many matrices of count x filters as a tile has points, winograd_results apart
  int64_t first = 0, count = 0, begin = 0, end = 0;
  const uint8_t* odd = nullptr;
  const float* in = nullptr;       // odd tiles are summed directly, from these
  const float* weights = nullptr;  // [filter][channel][3][3]; or null, and
  // panels of `width` filters, in each for every tap and channel the filters' weights side by side (k = tap * channels + channel).
  const void* panels = nullptr;
  PanelType panel_type = PanelType::f32;
  int64_t width = 0;
  DenseEpilogue epilogue;  // rows are output pixels, columns filters
  float* out = nullptr;
};

using TransformInput = void (*)(const WinogradInput&);
using TransformOutput = void (*)(const WinogradOutput&);
// G g Gt of panels [begin, end) as they stand in memory (see WinogradOutput::panels), in f32: weights that are transformed while they are
// used are a fourth, or of 16 bits an eighth, of what stands ready.
struct WinogradWeights {
  const void* panels = nullptr;
  PanelType type = PanelType::f32;
  int64_t channels = 0, width = 0, begin = 0, end = 0;
  float* to = nullptr;  // for each of a tile's points a matrix of end - begin packed panels of channels x width, one behind the other
};
using TransformWeights = void (*)(const WinogradWeights&);
// G g Gt in double: [filter][channel][3][3] to a packed matrix of channels x filters for each of a tile's points,
// packed_size(channels, filters, width) apart.
using TransformWeightsAhead = void (*)(const float* weights, int64_t filters, int64_t channels, int64_t width, float* packed);

struct WinogradKernels {
  TransformInput input = nullptr;
  TransformOutput output = nullptr;
  TransformWeights weights_now = nullptr;
  TransformWeightsAhead weights_ahead = nullptr;
};
// For tiles of 2x2 and of 4x4 outputs.
WinogradKernels winograd2(Isa isa);
WinogradKernels winograd4(Isa isa);

}  // namespace lathe::kernels
