// Weighted resampling of planes along both their axes (linear, cubic, with or without antialiasing), or of pictures channels-last. fp32, or
// bytes summed up in fp32.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// Output (y, x) of a plane is the sum over taps of wy[y][i] * wx[x][j] * in[ay[y][i]][ax[x][j]].
inline constexpr int64_t kMostTaps = 64;

// Preconditions: no alignment; out and rows overlap neither one another nor the input; indices in ay and ax lie in the plane; rows [begin,
// end) exist. Nothing past a plane is read or written.
struct ResampleArguments {
  const float* in = nullptr;
  float* out = nullptr;
  // Bytes instead of both, and room for a source row as floats. Results are round_to_even((sum - zero) * factor) + out_zero where `rounds`,
  // else the fraction is dropped (what is whole but for 2^-10 counts as whole); saturated.
  const uint8_t* in_bytes = nullptr;
  uint8_t* out_bytes = nullptr;
  float* line = nullptr;
  bool is_signed = false, rounds = false;
  float zero = 0, factor = 1, out_zero = 0;
  int64_t in_height = 0, in_width = 0, out_height = 0, out_width = 0;
  int64_t channels = 1;                        // side by side: what stands at a place of a plane
  int64_t taps_y = 0, taps_x = 0;              // taps_y at most kMostTaps
  const int32_t *ay = nullptr, *ax = nullptr;  // y: out_height x taps_y; x: taps_x x out_width
  const float *wy = nullptr, *wx = nullptr;
  int64_t begin = 0, end = 0;  // output rows, planes one after another
  float* rows = nullptr;       // room for ring x out_width x channels floats
  int64_t ring = 0;            // source rows kept after they were resampled along x; at least taps_y
  int64_t* kept = nullptr;     // [ring]
  // Regular stretches of the x table with few taps side by side, done with loads in order: every source twice (up) or every second source
  // (down; an even number of taps). Between begin and end, output 2i + p is the sum over t of regular[p][t] * in[i + at[p] + t]; output i
  // (down) that of regular[0][t] * in[2i + at[0] + t].
  enum class Pattern { none, up, down } pattern = Pattern::none;
  static constexpr int64_t kMostRegular = 8;
  int64_t pattern_begin = 0, pattern_end = 0, pattern_at[2] = {};
  float regular[2][kMostRegular] = {};
};

// Finds the pattern, if there is one, in the tables of x.
void find_pattern(ResampleArguments& arguments);

// Rows [begin, end) by themselves, along x alone: out_width results of in_width numbers each. Neither y nor rows, ring and kept are looked
// at.
using ResampleRows = void (*)(const ResampleArguments&);
ResampleRows resample_rows(Isa isa);

using Resample = void (*)(const ResampleArguments&);
Resample resample(Isa isa);

}  // namespace lathe::kernels
