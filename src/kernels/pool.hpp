// Pooling of planes in the standard's order: vectors along a line. Channels-last pictures go through planes.hpp.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// One axis of the window: input lines or columns `out * stride + tap * dilation - begin` of `in`; those outside count as padding.
struct PoolAxis {
  int64_t in = 1, out = 1, kernel = 1, stride = 1, dilation = 1, begin = 0;
};

// Preconditions: no alignment; out and scratch overlap neither one another nor the input; lines [begin, end) exist. Nothing past a line's
// end is read or written.
struct PoolArguments {
  bool average = false;  // else the largest; a window with nothing in it gives -infinity
  PoolAxis y, x;
  const float* in = nullptr;  // [plane][in.y][in.x]
  float* out = nullptr;       // [plane][out.y][out.x]
  // average: 1 / (count * shrink) for each output of a plane. Inputs are multiplied by `shrink`, a power of two, before they are added up,
  // so that a sum stays in range where the average does.
  const float* divisors = nullptr;
  float shrink = 1;
  int64_t begin = 0, end = 0;  // output lines, counted through all planes
  float* scratch = nullptr;    // pool_scratch(x) floats
};

// Floats that a call needs for a line and its parts.
int64_t pool_scratch(const PoolAxis& x);

using Pool = void (*)(const PoolArguments&);
Pool pool(Isa isa);

}  // namespace lathe::kernels
