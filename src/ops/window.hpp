// Geometry of sliding windows: convolution, pooling. One reading of the attributes for inference, plain evaluation
// and the compiled kernels.
#pragma once

#include "lathe/op.hpp"

namespace lathe::ops {

struct Window {
  std::vector<int64_t> kernel, strides, dilations;
  std::vector<int64_t> pads_begin, pads_end;
  std::vector<int64_t> out;  // output size an axis
  int axes() const { return static_cast<int>(kernel.size()); }
  int64_t taps() const;
};

// Reads kernel_shape (or takes `kernel`), strides, dilations, pads, auto_pad, ceil_mode for spatial sizes `in`.
// Throws Error (value, shape).
Window read_window(const Node& node, std::span<const int64_t> in, std::span<const int64_t> kernel = {});
// Output dims of the spatial axes when some sizes are not known.
Dims window_dims(const Node& node, std::span<const Dim> in, std::span<const int64_t> kernel = {});

// Source coordinate of every (output index, tap) on one axis; -1 in the padding. Row-major out x kernel.
std::vector<int64_t> window_table(const Window& w, int axis, int64_t in);

// How many taps an average divides by at each output position: those inside the input, or inside the padded input.
std::vector<int64_t> average_pool_counts(const Window& w, std::span<const int64_t> in, bool count_padding);

// A transposed convolution: input i and tap k land on output i * stride + k * dilation - begin, axis by axis.
struct TransposeGeometry {
  std::vector<int64_t> strides, dilations, begin, out;
};
// Throws Error (value, shape).
TransposeGeometry transpose_geometry(const Node& node, std::span<const int64_t> in, std::span<const int64_t> kernel);

}  // namespace lathe::ops
