// Long rows in parts: what each part contributes to the row's statistics, and its results once those of the row are known. fp32.
#pragma once

#include <cstdint>

#include "kernels/rows.hpp"

namespace lathe::kernels {

// Preconditions: op is softmax, log_softmax, layer_norm, rms_norm or group_norm; no alignment; length >= 1; out is the input itself or does
// not overlap it. Both are read and written to their last element and not past it.
struct RowPart {
  RowOp op = RowOp::softmax;
  const float* in = nullptr;
  float* out = nullptr;  // softmax: measuring puts powers of e here, and finishing reads them
  int64_t length = 0;    // of the part
  // Of the row, for finishing. softmax: results are what is there times `factor`. log_softmax: (in - shift). The others:
  // (in - shift) * factor, scaled and moved by `scale` and `bias` (which may be null): of the part's elements, or of all channels.
  float shift = 0, factor = 1;
  const float* scale = nullptr;
  const float* bias = nullptr;
  int64_t pixels = 1;   // group_norm: numbers of a channel
  int64_t first = 0;    // group_norm: the part's first element, counted from the row's
  int64_t channel = 0;  // group_norm: the row's first channel
};

struct PartStatistics {
  double centre = 0;  // softmax, log_softmax: the largest number (NaN when there is one); layer_norm, group_norm: the mean
  double sum = 0;     // of powers of e, each number less the largest (0 when that is not finite); of squares of what lies off the centre
};

// No allocation, no exception.
using MeasurePart = void (*)(const RowPart&, PartStatistics&);
using FinishPart = void (*)(const RowPart&);
MeasurePart measure_part(Isa isa);
FinishPart finish_part(Isa isa);

}  // namespace lathe::kernels
