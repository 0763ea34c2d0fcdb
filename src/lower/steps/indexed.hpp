// Rows by index tables: what padding, tiling and resizing to the nearest share.
#pragma once

#include <vector>

#include "kernels/copy.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

// Element i of axis a of the result is element tables[a][i] of the input, or `fill` where that is -1; for elements of 1, 2, 4 or 8 bytes.
// Tables are in the order of the shape, whatever the layout.
void add_indexed(PlanBuilder& builder, const Match& match, std::vector<std::vector<int64_t>> tables, uint64_t fill, const char* text,
                 Layout layout = Layout::natural);
// Of a node's inputs after the first: those that are constants; the others are empty.
std::vector<Tensor> constants_of(const GraphView& view, const Node& node);

}  // namespace lathe::lower
