// Products by weights of 4 or 8 bits (NarrowPanels), which stay as they are in memory and are widened in registers.
#pragma once

#include <cstdint>

#include "kernels/dense.hpp"
#include "kernels/narrow_panels.hpp"

namespace lathe::kernels {

// As many rows as pass over the packed weights themselves together.
int64_t narrow_rows(Isa isa);

// c[row + r, ...] = epilogue(a[r] * B) for rows r < `rows` and panels [panel_begin, panel_end). Preconditions: 1 <= rows <= narrow_rows();
// block >= 1, k >= 1; nothing needs alignment; c overlaps neither a nor B. Reads and writes nothing past the last row, column or byte.
struct NarrowArguments {
  NarrowPanels b;
  const float* a = nullptr;
  int64_t lda = 0, rows = 0;
  int64_t panel_begin = 0, panel_end = 0;
  float* c = nullptr;
  int64_t ldc = 0;
  DenseEpilogue epilogue;
  int64_t fetch_ahead = kFetchAhead;  // as in DenseArguments
};
// No allocation, no exception.
using NarrowProduct = void (*)(const NarrowArguments&);
NarrowProduct narrow_product(Isa isa);
WidenPanel widen_panel(Isa isa);

}  // namespace lathe::kernels
