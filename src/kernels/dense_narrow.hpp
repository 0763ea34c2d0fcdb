// Products by weights of 4 or 8 bits with scales: w = (q - zero) * scale, one scale and zero point for each column and block of K. The
// weights stay as they are in memory and are widened in registers.
#pragma once

#include <cstdint>

#include "kernels/dense.hpp"

namespace lathe::kernels {

enum class NarrowType : uint8_t { i8, u8, u4 };  // i4 is packed as u4, 8 added to numbers and zero points

// K x N in panels of panel_width(isa) columns. Entry k of a panel is `width` numbers (u4: column j in the low half of byte j, column
// j + width / 2 in its high half); columns past N hold zeros. Scales and zero points: [panel][block][width] floats.
struct NarrowPanels {
  NarrowType type = NarrowType::i8;
  int64_t k = 0, n = 0, block = 0;  // block: entries of K that share a scale, the last ones perhaps fewer; K: one a column
  const uint8_t* data = nullptr;
  const float* scales = nullptr;
  const float* zeros = nullptr;  // null: `zero` for all
  float zero = 0;
};
inline int64_t narrow_bits(NarrowType t) { return t == NarrowType::u4 ? 4 : 8; }
inline int64_t narrow_blocks(const NarrowPanels& b) { return (b.k + b.block - 1) / b.block; }

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
};
// No allocation, no exception.
using NarrowProduct = void (*)(const NarrowArguments&);
NarrowProduct narrow_product(Isa isa);
WidenPanel widen_panel(Isa isa);

}  // namespace lathe::kernels
