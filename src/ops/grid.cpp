#include "ops/grid.hpp"

#include <algorithm>

#include "base/fail.hpp"
#include "ops/internal_attributes.hpp"

namespace lathe::ops {
namespace {

double cubic_weight(double d) {
  constexpr double a = -0.75;
  d = std::fabs(d);
  if (d <= 1) return ((a + 2) * d - (a + 3)) * d * d + 1;
  if (d < 2) return ((a * d - 5 * a) * d + 8 * a) * d - 4 * a;
  return 0;
}

// Reflects x at the borders low and high until it is between them.
double reflected(double x, double low, double high) {
  const double span = high - low;
  if (span <= 0) return low;
  double d = std::fmod(std::fabs(x - low), 2 * span);
  if (d > span) d = 2 * span - d;
  return low + d;
}

}  // namespace

GridRule::GridRule(const Node& node, int64_t version, const Shape& x)
    : corners_(node.integer("align_corners", 0) != 0), pixels_(node.integer(kPixelGrid, 0) != 0) {
  const std::string mode = node.text("mode", version >= 20 ? "linear" : "bilinear"), padding = node.text("padding_mode", "zeros");
  if (mode == "nearest") mode_ = Mode::nearest;
  else if (mode == "linear" || mode == "bilinear") mode_ = Mode::linear;
  else if (mode == "cubic" || mode == "bicubic") mode_ = Mode::cubic;
  else fail(Category::value, "mode '{}' is not known", mode);
  if (padding == "border") padding_ = Padding::border;
  else if (padding == "reflection") padding_ = Padding::reflection;
  else if (padding != "zeros") fail(Category::value, "padding_mode '{}' is not known", padding);
  axes_ = static_cast<int>(x.size()) - 2;
  if (axes_ < 1 || axes_ > kMostAxes) fail(Category::shape, "X has {} axes, expected 3 to {}", x.size(), kMostAxes + 2);
  if (mode_ == Mode::cubic && axes_ != 2) fail(Category::value, "mode cubic is for pictures; X has {} spatial axes", axes_);
  each_ = mode_ == Mode::nearest ? 1 : mode_ == Mode::linear ? 2 : 4;
  int64_t stride = 1;
  for (int a = axes_ - 1; a >= 0; --a) {
    size_[a] = x[static_cast<size_t>(a) + 2];
    stride_[a] = stride;
    stride *= size_[a];
    combinations_ *= each_;
  }
}

int64_t GridRule::settle(int64_t i, int64_t n) const {
  if (i >= 0 && i < n) return i;
  if (padding_ == Padding::zeros) return -1;
  if (padding_ == Padding::border) return std::clamp<int64_t>(i, 0, n - 1);
  const double r = corners_ ? reflected(static_cast<double>(i), 0, static_cast<double>(n - 1))
                            : reflected(static_cast<double>(i), -0.5, static_cast<double>(n) - 0.5);
  return std::clamp<int64_t>(static_cast<int64_t>(std::nearbyint(r)), 0, n - 1);
}

void GridRule::at(const double* position, int64_t* index, double* weight) const {
  int64_t along[kMostAxes][4];
  double share[kMostAxes][4];
  for (int a = 0; a < axes_; ++a) {
    const double n = static_cast<double>(size_[a]), raw = position[axes_ - 1 - a];
    double at = pixels_ ? raw : corners_ ? (raw + 1) / 2 * (n - 1) : ((raw + 1) * n - 1) / 2;
    if (!(std::fabs(at) <= 1e15)) at = padding_ == Padding::zeros ? -1e9 : 0;
    // Borders act on the position itself for nearest and linear; the cubic kernel settles each tap.
    if (mode_ != Mode::cubic) {
      if (padding_ == Padding::border) at = std::clamp(at, 0.0, n - 1);
      else if (padding_ == Padding::reflection)
        at = std::clamp(corners_ ? reflected(at, 0, n - 1) : reflected(at, -0.5, n - 0.5), 0.0, n - 1);
    }
    const auto first = static_cast<int64_t>(mode_ == Mode::nearest ? std::nearbyint(at) : std::floor(at)) - (mode_ == Mode::cubic ? 1 : 0);
    if (mode_ == Mode::nearest) {
      share[a][0] = 1;
    } else if (mode_ == Mode::linear) {
      share[a][1] = at - static_cast<double>(first);
      share[a][0] = 1 - share[a][1];
    } else {
      for (int t = 0; t < 4; ++t) share[a][t] = cubic_weight(at - static_cast<double>(first + t));
    }
    for (int t = 0; t < each_; ++t) along[a][t] = settle(first + t, size_[a]);
  }
  for (int64_t k = 0; k < combinations_; ++k) {
    double w = 1;
    int64_t place = 0, rest = k;
    for (int a = axes_ - 1; a >= 0; --a) {
      const int64_t t = rest % each_, i = along[a][t];
      rest /= each_;
      w *= share[a][t];
      place = i < 0 || place < 0 ? -1 : place + i * stride_[a];
    }
    // What weighs nothing is not read: a value there may be infinite.
    index[k] = w == 0 ? -1 : place;
    weight[k] = w;
  }
}

}  // namespace lathe::ops
