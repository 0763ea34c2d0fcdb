// Reductions of doubles and whole numbers, and those of floats that have no kernel of vectors. Sums go in the order of plain evaluation.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

enum class WideReduction : uint8_t { sum, mean, max, min, product, l1, l2, sum_square, log_sum };
enum class WideNumber : uint8_t { f32, f64, i32, i64 };

// out[o * inner + j] = the reduction over i of x[(o * length + i) * inner + j], for results [begin, end). Floats are summed in double; sums
// and products of whole numbers wrap; their means, roots and logarithms are taken in double, cut off, and saturate.
// Preconditions: length >= 1; aligned to the element; out overlaps x nowhere.
struct WideReductionArguments {
  WideReduction op = WideReduction::sum;
  const void* x = nullptr;
  void* out = nullptr;
  int64_t length = 1, inner = 1, begin = 0, end = 0;
};
// No allocation, no exception.
using ReduceWide = void (*)(WideNumber type, const WideReductionArguments& arguments);
ReduceWide reduce_wide(Isa isa);

}  // namespace lathe::kernels
