// The range of floats, and floats to 8-bit numbers by it.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

struct Range {
  float low = 0, high = 0;  // the range always holds zero
};

// Widens `range` to hold x[0 .. count). NaN are passed over.
// Preconditions: no alignment; nothing past the last element is read. No allocation, no exception.
using FindRange = void (*)(const float* x, int64_t count, Range& range);
FindRange find_range(Isa isa);

// out[i] = saturate(round_to_even(x[i] / scale) + zero) to 0 .. 255; NaN gives 0, and so does everything when scale is 0.
// Preconditions: as above; out overlaps x nowhere; zero is one of 0 .. 255.
using ToBytes = void (*)(const float* x, int64_t count, float scale, int zero, uint8_t* out);
ToBytes to_bytes(Isa isa);

}  // namespace lathe::kernels
