// Lines of byte pictures with their padding written out, some at a time, so that they are still in the cache when a kernel reads them.
#pragma once

#include <algorithm>
#include <cstdint>
#include <cstring>

#include "base/memory.hpp"

namespace lathe::lower {

struct PaddedLines {
  uint8_t flip = 0;                           // 0x80 makes unsigned bytes of signed ones
  int64_t in_h = 0, out_h = 0, top = 0;       // lines: of the picture, of results, of padding above
  int64_t in_row = 0, out_row = 0, left = 0;  // bytes
  int64_t pixel = 0, pitch = 0;               // bytes, and from one to the next
  int64_t stride = 1, extent = 1;             // lines: from one line of results to the next; what one of them reads
  int64_t block = 1;                          // lines of results at a time

  int64_t block_bytes() const {
    constexpr int64_t kPastTheEnd = 4;  // a run is filled up to whole groups
    return static_cast<int64_t>(round_up(static_cast<size_t>(((block - 1) * stride + extent) * out_row + kPastTheEnd), kAlignment));
  }
  // What lines [from, to) of results of a picture read.
  void copy(const uint8_t* picture, int64_t from, int64_t to, uint8_t zero, uint8_t* out) const {
    const int64_t kept = std::min(in_row, out_row - left), first = from * stride - top, last = (to - 1) * stride - top + extent;
    for (int64_t y = first; y < last; ++y, out += out_row) {
      if (y < 0 || y >= in_h) {
        std::memset(out, zero ^ flip, static_cast<size_t>(out_row));
        continue;
      }
      const uint8_t* in = picture + y * (in_row / pixel) * pitch;
      std::memset(out, zero ^ flip, static_cast<size_t>(left));
      if (pitch != pixel) {
        for (int64_t i = 0; i < kept; i += pixel) std::memcpy(out + left + i, in + i / pixel * pitch, static_cast<size_t>(pixel));
        in = out + left;
      } else if (flip == 0) {
        std::memcpy(out + left, in, static_cast<size_t>(kept));
      }
      for (int64_t i = 0; flip != 0 && i < kept; ++i) out[left + i] = in[i] ^ flip;
      std::memset(out + left + kept, zero ^ flip, static_cast<size_t>(out_row - left - kept));
    }
  }
};

}  // namespace lathe::lower
