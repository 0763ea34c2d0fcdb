// Rounding weights to whole numbers of their scales.
#pragma once

#include <functional>
#include <span>
#include <vector>

#include "narrow/layers.hpp"

namespace lathe::narrowing {

// The numbers that a weight can become: (n - zero) * scale for whole n from least to most.
struct Grid {
  double scale = 1, zero = 0, least = -127, most = 127;
  double number(double x) const;
  double value(double number) const { return (number - zero) * scale; }
};

// Numbers of the weights, a filter a row. `grid` by filter and place along K. With moments of what the filters see, each column takes up
// the error of those before it, weighted by how they go together (optimal brain surgeon, as Hassibi and Stork 1993 give it, one column
// after another); without, each is rounded to its nearest.
std::vector<float> rounded(const Layer& layer, std::span<const float> rows, const std::function<Grid(int64_t filter, int64_t k)>& grid,
                           const Moments* moments);

}  // namespace lathe::narrowing
