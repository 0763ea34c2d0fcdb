// Data movement ops as strided reads: one description for plain evaluation and the compiled copy kernel.
#pragma once

#include <optional>

#include "lathe/op.hpp"

namespace lathe::ops {

// Output element at index i is source element offset + sum(i * strides).
struct StridedRead {
  Shape shape;
  std::vector<int64_t> strides;
  int64_t offset = 0;
};

// Transpose, Slice, Expand, Unsqueeze-like views of `in`. `constants[i]`: value of input i, null for the data. Throws
// Error (value, shape); nothing when the op is not of this kind.
std::optional<StridedRead> strided_read(const Node& node, int version, const Shape& in, std::span<const Tensor* const> constants);

// Padding and tiling as tables: source position of each output position of an axis, -1 for the fill.
struct AxisTables {
  std::vector<std::vector<int64_t>> tables;
  Tensor fill;  // one element, or nothing for zero
};
// `constants` as above. Nothing when an input that counts is not known, or the op is neither Pad nor Tile.
std::optional<AxisTables> axis_tables(const Node& node, int version, DType dtype, const Shape& in,
                                      std::span<const Tensor* const> constants);

// Start, size and axis of each output of Split. `parts`: explicit sizes, or empty for equal ones.
std::vector<int64_t> split_sizes(int64_t total, std::vector<int64_t> parts, int64_t outputs, bool uneven);

// Tensors end to end along an axis; a run of `count` along it; one slice without the axis; slices along a new axis. Throw Error (shape).
Tensor join(std::span<const Tensor> parts, int64_t axis);
Tensor part_of(const Tensor& whole, int64_t axis, int64_t at, int64_t count);
Tensor pick(const Tensor& whole, int64_t axis, int64_t at);
Tensor stack(std::span<const Tensor> items, int64_t axis);

// The shape Reshape gives. Throws Error (shape).
Shape reshape_target(const Shape& in, std::vector<int64_t> wanted, bool allow_zero);

}  // namespace lathe::ops
