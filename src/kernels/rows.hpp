// Reductions and normalisations over rows: softmax, layer normalisation, sums. fp32.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

enum class RowOp { softmax, log_softmax, layer_norm, sum, mean, max, min, sum_squares, l1, l2, sum_columns, mean_columns };

// Rows are `length` contiguous floats, one after another. Reductions write one float a row; the *_columns forms reduce
// over `length` rows of `width` floats and write `width` floats.
struct RowArguments {
  RowOp op = RowOp::sum;
  const float* in = nullptr;
  float* out = nullptr;
  int64_t length = 0, width = 1;
  int64_t begin = 0, end = 0;    // rows (or blocks of length x width) to do
  const float* scale = nullptr;  // layer_norm: `length` each; bias may be null
  const float* bias = nullptr;
  float epsilon = 1e-5f;
};

using Rows = void (*)(const RowArguments&);
Rows rows(Isa isa);

}  // namespace lathe::kernels
