// Pixel after pixel of a window over bytes.
#pragma once

#include <cstdint>

#include "kernels/dense.hpp"

namespace lathe::kernels {

// Where the taps of one pixel after another stand.
template <int64_t kMost>
class Taps {
 public:
  Taps(const WindowRowsOf<uint8_t>& w, int64_t taps, int64_t first) : w_(w), lines_(taps / w.kw) {
    const int64_t plane = w.out_h * w.out_w, volume = plane * w.out_d;
    image_ = first / volume, oz_ = first % volume / plane, oy_ = first % plane / w.out_w, ox_ = first % w.out_w;
  }
  // Those of the next pixel.
  void next(const uint8_t** out) {
    if (!pointed_) point_lines();
    const int64_t* x = w_.x + ox_ * w_.kw;
    // Each offset is -1 or >= 0.
    if (inside_ && x[0] >= 0 && x[w_.kw - 1] >= 0) {
      for (int64_t l = 0; l < lines_; ++l) {
        for (int64_t k = 0; k < w_.kw; ++k) *out++ = base_[l] + x[k];
      }
    } else {
      for (int64_t l = 0; l < lines_; ++l) {
        for (int64_t k = 0; k < w_.kw; ++k) *out++ = base_[l] && x[k] >= 0 ? base_[l] + x[k] : w_.zeros;
      }
    }
    if (++ox_ < w_.out_w) return;
    ox_ = 0;
    if (++oy_ == w_.out_h) {
      oy_ = 0;
      if (++oz_ == w_.out_d) oz_ = 0, ++image_;
    }
    pointed_ = false;
  }

 private:
  void point_lines() {
    const uint8_t* picture = w_.base + image_ * w_.image_stride;
    inside_ = pointed_ = true;
    for (int64_t l = 0; l < lines_; ++l) {
      const int64_t z = w_.z[oz_ * w_.kd + l / w_.kh], y = w_.y[oy_ * w_.kh + l % w_.kh];
      base_[l] = (z | y) >= 0 ? picture + z + y : nullptr;
      inside_ = inside_ && base_[l];
    }
  }

  const WindowRowsOf<uint8_t>& w_;
  int64_t lines_, image_ = 0, oz_ = 0, oy_ = 0, ox_ = 0;
  const uint8_t* base_[kMost];  // of each line of the kernel; null in the padding
  bool inside_ = true, pointed_ = false;
};

}  // namespace lathe::kernels
