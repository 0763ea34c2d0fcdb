// Windows over channels-last pictures as tables of offsets.
#pragma once

#include <span>
#include <vector>

#include "kernels/dense.hpp"
#include "lathe/graph.hpp"
#include "ops/window.hpp"

namespace lathe::lower {

// Tables of offsets of a window's taps along up to three spatial axes; missing ones count as size 1 in front.
struct WindowTables {
  std::vector<int64_t> z, y, x;
  kernels::WindowShape shape;

  // As kernels read it: over the pictures at `base`, with `zeros` in the padding.
  template <typename T>
  kernels::WindowRowsOf<T> rows(const T* base = nullptr, const T* zeros = nullptr) const {
    kernels::WindowRowsOf<T> w;
    static_cast<kernels::WindowShape&>(w) = shape;
    w.z = z.data(), w.y = y.data(), w.x = x.data();
    w.base = base, w.zeros = zeros;
    return w;
  }
};
// `in`: the spatial sizes of the picture; `strides`: its own, by axis: image, channel, then the spatial ones.
WindowTables window_tables(const ops::Window& window, std::span<const int64_t> in, std::span<const int64_t> strides);

// The spatial sizes of a picture, or of a kernel: what comes after the first two dims.
inline std::span<const int64_t> spatial(const Shape& shape) { return std::span<const int64_t>(shape).subspan(2); }

}  // namespace lathe::lower
