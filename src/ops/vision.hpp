// What the vision ops need from rooms above: decoding pictures.
#pragma once

#include <string_view>

#include "lathe/tensor.hpp"

namespace lathe::ops {

// Bytes of a picture file to u8 height x width x 3, RGB.
using PictureDecoder = Tensor (*)(std::string_view bytes);
// The files room puts its reader here.
void set_picture_decoder(PictureDecoder decoder);

}  // namespace lathe::ops
