// Where a picture's pixels lie in what a model was given.
#pragma once

#include <cstdint>

#include "lathe/formats.hpp"

namespace lathe::judging {

// input = picture * scale + offset, in pixels, for each axis: as pictures are fitted (formats/picture.cpp).
struct Placed {
  double scale_x = 1, scale_y = 1, left = 0, top = 0;
};
Placed placed(Fit fit, int64_t height, int64_t width, int64_t input_height, int64_t input_width);

}  // namespace lathe::judging
