// Where GridSample reads.
#pragma once

#include <cmath>
#include <cstdint>

#include "lathe/graph.hpp"

namespace lathe::ops {

class GridRule {
 public:
  static constexpr int kMostAxes = 8;
  static constexpr int kMostTaps = 16;  // of pictures: the cubic kernel's

  // `x`: shape of what is read. Throws Error (value) for modes that are not known.
  GridRule(const Node& node, int64_t version, const Shape& x);

  int axes() const { return axes_; }
  int64_t taps() const { return combinations_; }
  int64_t taps_along() const { return each_; }  // of one axis: 1 (the nearest), 2 (linear), 4 (cubic)
  bool padded_with_zeros() const { return padding_ == Padding::zeros; }
  bool reflects() const { return padding_ == Padding::reflection; }
  bool corners() const { return corners_; }
  bool pixels() const { return pixels_; }  // positions are those of pixels
  // For one position of the grid (the last axis first): indices into the spatial axes, -1 where a zero stands, and weights. [taps]
  void at(const double* position, int64_t* index, double* weight) const;

 private:
  enum class Mode : uint8_t { nearest, linear, cubic };
  enum class Padding : uint8_t { zeros, border, reflection };
  int64_t settle(int64_t i, int64_t n) const;

  Mode mode_ = Mode::linear;
  Padding padding_ = Padding::zeros;
  bool corners_ = false, pixels_ = false;
  int axes_ = 0, each_ = 1;  // taps along an axis
  int64_t combinations_ = 1;
  int64_t size_[kMostAxes] = {}, stride_[kMostAxes] = {};
};

}  // namespace lathe::ops
