// Reductions and normalisations over rows: softmax, layer normalisation, sums. fp32.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

enum class RowOp {
  softmax,
  log_softmax,
  layer_norm,
  rms_norm,
  group_norm,
  sum,
  mean,
  max,
  min,
  sum_squares,
  l1,
  l2,
  sum_columns,
  mean_columns,
  max_columns,
  min_columns,
  sum_squares_columns,
  l1_columns,
  l2_columns
};

// Rows are `length` contiguous floats, one after another. Reductions write one float a row; the *_columns forms reduce
// over `length` rows of `width` floats and write `width` floats.
// Preconditions: no alignment; length and width >= 1; out is the input itself (forms that keep the shape) or does not overlap it. Rows are
// read and written to their last element and not past it.
struct RowArguments {
  RowOp op = RowOp::sum;
  const float* in = nullptr;
  float* out = nullptr;
  int64_t length = 0, width = 1;
  int64_t begin = 0, end = 0;    // rows (or blocks of length x width) to do
  const float* scale = nullptr;  // layer_norm, rms_norm: `length` each; group_norm: one a channel; bias may be null
  const float* bias = nullptr;
  float epsilon = 1e-5f;
  int64_t pixels = 1, channels = 1;          // group_norm: a row is length / pixels channels of one of `channels` in all
  int64_t column_begin = 0, column_end = 0;  // *_columns: columns to do
};

using Rows = void (*)(const RowArguments&);
Rows rows(Isa isa);

}  // namespace lathe::kernels
