// Matrix products in double. Both matrices are read where they are: nothing is packed.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// c[i, j] = sum over k of a[i, k] * b[k, j], for rows [row_begin, row_end) and all columns.
// Preconditions: no alignment; c overlaps neither a nor b; depth >= 1. Nothing past the last element of a row is read or written.
struct Dense64Arguments {
  const double* a = nullptr;
  const double* b = nullptr;
  double* c = nullptr;
  int64_t lda = 0, ldb = 0, ldc = 0;  // elements from row to row
  int64_t row_begin = 0, row_end = 0, columns = 0, depth = 0;
};
// No allocation, no exception.
using Dense64 = void (*)(const Dense64Arguments&);
Dense64 dense64(Isa isa);

}  // namespace lathe::kernels
