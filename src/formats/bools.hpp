// Bools as they come from files.
#pragma once

#include <algorithm>

#include "lathe/tensor.hpp"

namespace lathe {

// Files may hold any byte for true; in memory a bool is 0 or 1. A tensor that is sound, or no bools, is handed on as it is.
inline Tensor sound_bools(Tensor t) {
  if (t.dtype() != DType::boolean) return t;
  const auto* bytes = static_cast<const unsigned char*>(t.data());
  if (std::all_of(bytes, bytes + t.size(), [](unsigned char b) { return b <= 1; })) return t;
  Tensor sound(DType::boolean, t.shape());
  std::transform(bytes, bytes + t.size(), static_cast<unsigned char*>(sound.data()), [](unsigned char b) { return b != 0; });
  return sound;
}

}  // namespace lathe
