// Packed weights of 4 or 8 bits with scales: w = (q - zero) * scale, one scale and zero point for each column and block of K.
#pragma once

#include <cstdint>

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

// Entries [begin, end) of K of a panel as floats, as the dense kernel takes them.
using WidenPanel = void (*)(const NarrowPanels&, int64_t panel, int64_t begin, int64_t end, float* out);

}  // namespace lathe::kernels
