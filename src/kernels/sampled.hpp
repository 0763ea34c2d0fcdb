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

using Sampled = void (*)(const SampledArguments&);
Sampled sampled(Isa isa);

}  // namespace lathe::kernels
