// Masks of pictures that were fitted into a model's input.
#pragma once

#include "lathe/detect.hpp"

namespace lathe::detecting {

// mask_of() for a model whose output may be smaller or larger than what it took: the picture lies in the input, which the output covers.
Tensor mask_in_picture(const Tensor& output, const PictureOptions& input, int64_t height, int64_t width);

}  // namespace lathe::detecting
