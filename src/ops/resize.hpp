// What a resize does to each axis: one description for plain evaluation and the compiled kernels.
#pragma once

#include <optional>

#include "lathe/op.hpp"

namespace lathe::ops {

struct ResizeAxis {
  bool same = true;             // nothing happens to it
  int64_t taps = 1;             // sources of one output position
  std::vector<int64_t> at;      // out x taps
  std::vector<double> weights;  // out x taps
};

// What becomes of the sums of a Resize of bytes by weights: round_to_even((sum - zero) * factor) + out_zero, or (not `rounds`) the fraction
// is dropped, where what is whole but for 2^-10 counts as whole; saturated.
struct ByteSums {
  bool rounds = false;
  double zero = 0, factor = 1, out_zero = 0;
};
// Throws Error (value) when its attribute does not fit.
ByteSums byte_sums(const Node& node);

struct ResizePlan {
  Shape out;
  std::vector<ResizeAxis> axes;
  bool nearest = true;
};

// `constants[i]`: value of input i where it is known. Nothing when one that counts is not, or when values outside the input are asked
// for. Throws Error (value, shape).
std::optional<ResizePlan> resize_plan(const Node& node, int version, const Shape& in, std::span<const Tensor> constants);

}  // namespace lathe::ops
