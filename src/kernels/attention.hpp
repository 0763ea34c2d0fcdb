// Softmax taken block of keys by block of keys, for attention that never holds a whole row of scores. fp32.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// Rows of scores against one block of keys. What was gathered so far (out, sum) is scaled to the new maximum of each row.
// Preconditions: no alignment; scores, maximum, sum and out do not overlap; rows >= 0, columns >= 1, out_stride >= width. A row of scores
// has room for `columns` rounded up to whole vectors, and stride is no less; what stands behind `columns` is written over. A mask
// has `columns` entries a row. Nothing else past a row's end is read or written.
struct SoftenArguments {
  float* scores = nullptr;  // [rows][columns], stride `stride`; become exp(score - maximum)
  int64_t stride = 0, rows = 0, columns = 0;
  float *maximum = nullptr, *sum = nullptr;  // by row: highest score and sum of exponentials so far
  float* out = nullptr;                      // by row, `width` floats
  int64_t out_stride = 0, width = 0;
  bool first = false;  // nothing was gathered yet: maximum, sum and out hold nothing
  // Added to the scores, or (bool) which of them count; row by row, 0: one row for all.
  const float* mask = nullptr;
  const uint8_t* keep = nullptr;
  int64_t mask_stride = 0;
  // Row r sees only keys below visible + r; anything from `columns` on hides none.
  int64_t visible = INT64_MAX / 2;
};
using Soften = void (*)(const SoftenArguments&);
Soften soften(Isa isa);

// Few rows of queries against keys as they stand in memory: putting keys side by side for a product would cost more than the product.
// scores[r][j] = scale * (row r of q) . (row j of k).
// Preconditions: no alignment; scores overlaps neither q nor k; strides >= width (q, k) and >= keys (scores). Reads exactly the rows given.
struct DotsArguments {
  const float* q = nullptr;
  int64_t q_stride = 0, rows = 0;
  const float* k = nullptr;
  int64_t k_stride = 0, keys = 0, width = 0;
  float scale = 1;
  float* scores = nullptr;
  int64_t stride = 0;
};
using Dots = void (*)(const DotsArguments&);
Dots dots(Isa isa);
// out[r] += the sum of the rows of v, each by its weight[r][j].
// Preconditions: no alignment; out overlaps neither weights nor v; strides >= keys (weights) and >= width (v, out).
struct MixArguments {
  const float* weights = nullptr;
  int64_t stride = 0, rows = 0;
  const float* v = nullptr;
  int64_t v_stride = 0, keys = 0, width = 0;
  float* out = nullptr;
  int64_t out_stride = 0;
};
using Mix = void (*)(const MixArguments&);
Mix mix(Isa isa);

// out[r][i] / sum[r].
// Preconditions: no alignment; out_stride >= width.
struct SettleArguments {
  float* out = nullptr;
  int64_t out_stride = 0, width = 0, rows = 0;
  const float* sum = nullptr;
  float blind = 0;  // what the zeros of a row that saw no key at all are multiplied by: 0, or NaN to give NaN
};
void settle(const SettleArguments& arguments);

}  // namespace lathe::kernels
