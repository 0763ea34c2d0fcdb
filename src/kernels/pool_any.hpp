// Pools of other numbers than f32, and those that say where each maximum stood: a line of results at a time, tap after tap.
#pragma once

#include <cstdint>

#include "kernels/pool.hpp"

namespace lathe::kernels {

enum class PoolNumber : uint8_t { f32, f64, u8, i8 };

// Lines [begin, end) of the results, counted through planes, depths and rows. Results are those of plain evaluation: maxima are the first
// of equal ones, NaN wins, sums go tap by tap. Preconditions: everything is aligned to its element; nothing overlaps; divisors (average
// only) has an entry for each result of a plane.
struct PoolAnyArguments {
  PoolNumber type = PoolNumber::f32;
  bool average = false;  // f64 only
  PoolAxis z, y, x;
  const void* in = nullptr;
  void* out = nullptr;
  int64_t* where = nullptr;    // or null: the index of each maximum among all elements; -1 from its plane's first where a window sees none
  bool columns_first = false;  // `where` counts in planes whose first axis runs fastest
  const int64_t* divisors = nullptr;
  int64_t begin = 0, end = 0;
};
// No allocation, no exception.
using PoolAny = void (*)(const PoolAnyArguments& arguments);
PoolAny pool_any(Isa isa);

}  // namespace lathe::kernels
