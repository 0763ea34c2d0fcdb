// Rows of elements that lie a few places apart: pictures whose channels lie side by side, every other element, rows backwards.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// What a kernel is there for; the rest goes element by element.
inline constexpr int64_t kMostApart = 4;
inline bool steps_by_vectors(int64_t step) { return step == -1 || (step >= 2 && step <= kMostApart); }

struct StrideKernels {
  // out[i] = in[i * step] for i in [0, n), steps_by_vectors(step).
  void (*take)(int element_bytes, const void* in, int64_t step, void* out, int64_t n);
  // out[i * parts + k] = in[k * stride + i] for i in [0, n), k in [0, parts), parts 2 to kMostApart.
  void (*weave)(int element_bytes, const void* in, int64_t stride, int64_t parts, void* out, int64_t n);
};
// Preconditions: element_bytes 1, 2, 4 or 8; aligned to the element; out overlaps in nowhere. Reads and writes exactly the elements
// named. No allocation, no exception.
StrideKernels strides(Isa isa);

}  // namespace lathe::kernels
