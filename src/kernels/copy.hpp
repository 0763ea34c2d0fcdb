// Strided copies: transposes, slices, expansion, concatenation, layout changes. Any element of 1, 2, 4 or 8 bytes.
#pragma once

#include <cstdint>
#include <vector>

namespace lathe::kernels {

// out[i] for every index i of `shape`: in[sum(i * in_strides)] to out[sum(i * out_strides)]. Strides in elements, may be 0 or negative
// on the input side. Built once by plan_copy, which merges dims that run together and puts the best dim innermost.
// Preconditions: pointers aligned to the element; input and output do not overlap; out strides are positive and visit no element twice;
// element_bytes is 1, 2, 4 or 8. Reads and writes exactly the elements named.
struct CopyPlan {
  int element_bytes = 4;
  std::vector<int64_t> shape, in_strides, out_strides;
  int64_t tasks = 1;    // the outermost dim, to share among threads
  bool stream = false;  // transpositions write whole lines past the caches: the result is larger than they are
};

// Transposed results of at least this many bytes are written past the caches: beyond a core's own they take half the time so (1.6 MiB took
// twice). Rows go by memcpy, which is faster here than streaming stores (docs/decisions/0005).
inline constexpr int64_t kStreamBytes = int64_t{2} << 20;

// out[i0, .., ik] = in[table0[i0], .., tablek[ik]], or the fill element where a table says -1: padding, tiling, nearest neighbours.
struct IndexedCopy {
  int element_bytes = 4;
  std::vector<int64_t> in_shape, out_shape;
  std::vector<std::vector<int64_t>> tables;  // one an axis
  // Of the innermost axis: runs that lie alike on both sides (step 1), repeat one element (step 0), or are filled (at -1).
  struct Run {
    int64_t to, at, length;
    int step;
  };
  std::vector<Run> runs;  // empty: element by element through the table
  int64_t repeat = 0;     // innermost: each element so many times in a row
  uint64_t fill = 0;      // its low element_bytes
  int64_t rows = 0;       // of the innermost axis; tasks are ranges of them
};
// Works out the runs.
IndexedCopy plan_indexed(int element_bytes, std::vector<int64_t> in_shape, std::vector<std::vector<int64_t>> tables, uint64_t fill);
void run_indexed(const IndexedCopy& plan, const void* in, void* out, int64_t begin, int64_t end);

CopyPlan plan_copy(int element_bytes, std::vector<int64_t> shape, std::vector<int64_t> in_strides, std::vector<int64_t> out_strides);
// Does indices [begin, end) of the outermost dim. No allocation.
void run_copy(const CopyPlan& plan, const void* in, void* out, int64_t begin, int64_t end);

// Sixteen by sixteen floats turned: out[i * out_stride + j] = in[i + j * in_stride].
using TurnSquare = void (*)(const float* in, int64_t in_stride, float* out, int64_t out_stride);
TurnSquare turn_square();

}  // namespace lathe::kernels
