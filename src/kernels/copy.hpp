// Strided copies: transposes, slices, expansion, concatenation, layout changes. Any element of 1, 2, 4 or 8 bytes.
#pragma once

#include <cstdint>
#include <vector>

namespace lathe::kernels {

// out[i] for every index i of `shape`: in[sum(i * in_strides)] to out[sum(i * out_strides)]. Strides in elements, may be 0 or negative
// on the input side. Built once by plan_copy, which merges dims that run together and puts the best dim innermost.
struct CopyPlan {
  int element_bytes = 4;
  std::vector<int64_t> shape, in_strides, out_strides;
  int64_t tasks = 1;  // the outermost dim, to share among threads
};

CopyPlan plan_copy(int element_bytes, std::vector<int64_t> shape, std::vector<int64_t> in_strides, std::vector<int64_t> out_strides);
// Does indices [begin, end) of the outermost dim. No allocation.
void run_copy(const CopyPlan& plan, const void* in, void* out, int64_t begin, int64_t end);

}  // namespace lathe::kernels
