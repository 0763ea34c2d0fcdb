// A kernel to copy for a new one. It is compiled and tested with the unit tests, and no part of the library.
//
// Kernels work on raw pointers and know nothing of graphs, tensors and threads: a step splits the work and calls one for each part.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// out[i] = a * x[i] + y[i]. NaN comes through, as plain evaluation has it.
// Preconditions: no alignment; out may be x or y, and overlaps neither otherwise; 0 <= begin <= end. Reads and writes [begin, end) and
// nothing past it.
struct SkeletonArguments {
  const float *x = nullptr, *y = nullptr;
  float* out = nullptr;
  float a = 1;
  int64_t begin = 0, end = 0;
};

// No allocation, no exception.
using Skeleton = void (*)(const SkeletonArguments&);
Skeleton skeleton(Isa isa);

}  // namespace lathe::kernels
