// Boxes that overlap a better one.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// Boxes by corners, each side an array.
struct Corners {
  const float *left, *top, *right, *bottom;
};

// Whether the box (l, t, r, b) overlaps one of `kept[0 .. count)` by more than `most` of what both cover together. Boxes turned inside out
// have no area; NaN overlap nothing.
// Preconditions: no alignment; nothing past the last element is read. No allocation, no exception.
using Overlapped = bool (*)(const Corners& kept, int64_t count, float l, float t, float r, float b, float most);
Overlapped overlapped(Isa isa);

// Writes the places of the elements above `least`, in their order, and gives their number. NaN are left out.
// Preconditions: as above; `places` has room for `count`.
using FindAbove = int64_t (*)(const float* x, int64_t count, float least, int32_t* places);
FindAbove find_above(Isa isa);

}  // namespace lathe::kernels
