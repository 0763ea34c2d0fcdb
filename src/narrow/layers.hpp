// Nodes with weights, seen as products: Conv, Gemm, MatMul.
#pragma once

#include <algorithm>
#include <functional>
#include <optional>
#include <span>
#include <vector>

#include "lathe/narrow.hpp"

namespace lathe::narrowing {

struct Layer {
  size_t node = 0;
  ValueId input = kAbsent, weights = kAbsent, bias = kAbsent, output = kAbsent;
  int bias_node = -1;                          // the Add behind a MatMul that holds the bias; `output` is its then
  int64_t axis = 0;                            // of the weights: one entry a filter
  int64_t filters = 0, depth = 0, groups = 1;  // depth: numbers a filter sums up
};

// The layer that a node is: constant weights in f32, no other constant in the way. `readers`: Graph::consumers().
std::optional<Layer> layer_of(const Graph& graph, size_t node, const std::vector<std::vector<int>>& readers);

// The weights, a filter a row, and back into the tensor's order.
std::vector<float> by_filter(const Graph& graph, const Layer& layer);
Tensor in_order(const Graph& graph, const Layer& layer, std::span<const float> rows);

// Rows that the layer multiplies its filters by, at up to `most` places spread evenly over its output; `f` gets the group and a row of
// `depth` numbers.
void each_row(const Graph& graph, const Layer& layer, const Tensor& input, int64_t most,
              const std::function<void(int64_t group, const float* row)>& f);

// So many rows are looked at of each item: a few thousand in all.
inline int64_t rows_of_an_item(size_t items) { return std::max<int64_t>(8, 4096 / static_cast<int64_t>(items)); }

// Products of what a layer's filters see, over pairs within blocks along K, and its mean.
class Moments {
 public:
  static constexpr int64_t kBlock = 256;
  // `pairs`: more than the mean is wanted.
  Moments(const Layer& layer, bool pairs);
  void add(int64_t group, const float* row);
  int64_t rows() const { return rows_; }
  double mean(int64_t group, int64_t k) const;
  // Of the block that begins at `begin` (a multiple of kBlock): [size x size], rows above their diagonal mirrored.
  std::vector<double> block(int64_t group, int64_t begin) const;

 private:
  int64_t depth_, groups_, rows_ = 0;
  bool pairs_;
  std::vector<double> sums_;
  std::vector<float> products_;  // by group, by block
  std::vector<int64_t> offsets_;
};

}  // namespace lathe::narrowing
