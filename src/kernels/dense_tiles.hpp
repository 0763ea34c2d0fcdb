// The dense kernel by tiles (kernels/tiles.hpp), whose products are of bf16 with sums in f32.
//
// A number is taken as the sum of as many parts of bf16 as its type has bits for: bf16 as it is, f16 in two, f32 in three, each the nearest
// to what those before it leave. Of the products of parts those are summed that are not smaller than the last bit of the largest. So a
// product of f32 is off by at most 2^-25 of itself, less than what rounding it to f32 costs, and one of two f16 by 2^-18. Parts below
// 2^-126 are zero. What is not finite is the last part, which is multiplied by first parts alone, behind a one: infinity times nothing
// would be NaN.
#pragma once

#include "kernels/dense.hpp"

namespace lathe::kernels {

// Bytes of DenseArguments::tile_room.
inline constexpr int64_t kTileRoom = 16 * 65536;
// Of what: B's type, and whether A's numbers are of that type too, or f32.
struct TileForm {
  PanelType b = PanelType::f32;
  bool rows_like_b = false;
  constexpr int b_parts() const { return b == PanelType::f32 ? 3 : b == PanelType::f16 ? 2 : 1; }
  constexpr int a_parts() const { return rows_like_b ? b_parts() : 3; }
  // How many products stand for one.
  constexpr int products() const { return a_parts() == 1 ? 1 : a_parts() == 2 ? 3 : b_parts() == 1 ? 3 : b_parts() == 2 ? 5 : 6; }
};
// DenseArguments as dense() takes them, with tile_room; B's panels are those of the same instruction set. Of 16 bits, B is finite.
void dense_by_tiles(const DenseArguments& g);

// Floats to their parts, `distance` numbers from part to part.
void part_floats(int parts, const float* from, int64_t count, uint16_t* to, int64_t distance);

// Rows that are parted already, read where they are: pixels of lines whose padding is written out.
struct PartedRows {
  WindowRowsOf<uint16_t> window;  // over the first part; nothing of it lies in the padding
  int64_t distance = 0;           // numbers from part to part
  int64_t pixel = 0;              // numbers from one result of a line to the next
};
// The longest K there is room for, parted as a whole.
int64_t most_parted_depth(PanelType type);  // of B's elements
// Preconditions: run is even, segments * run <= most_parted_depth, at most 64 segments; g.a and g.window are not looked at.
void parted_by_tiles(const DenseArguments& g, const PartedRows& rows);

}  // namespace lathe::kernels
