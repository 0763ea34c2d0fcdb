#include "lower/steps/padded_rows.hpp"

#include <algorithm>

namespace lathe::lower {

void PadCopy::run_row(const StepContext& c, int64_t row, int64_t task) const {
  float* dst = pointer<float>(c, to) + row * out_w * channels;
  const int64_t image = row / out_h, y = row % out_h - top, columns = std::min(in_w, out_w - left);
  if (y < 0 || y >= in_h) {
    std::fill_n(dst, out_w * channels, 0.0f);
    return;
  }
  std::fill_n(dst, left * channels, 0.0f);
  std::fill_n(dst + (left + columns) * channels, (out_w - left - columns) * channels, 0.0f);
  dst += left * channels;
  if (before) {
    float* lines = pointer<float>(c, lines_scratch) + task * channels * in_w;
    for (int64_t ch = 0; ch < channels; ++ch) before->run(c, (image * channels + ch) * in_h + y, in_w, lines + ch * in_w, false);
    return interleave(lines, in_w, channels, columns, dst);
  }
  const float* src = pointer<const float>(c, from) + image * strides[0] + y * strides[2];
  if (strides[3] == 1) return interleave(src, strides[1], channels, columns, dst);
  for (int64_t x = 0; x < columns; ++x) {
    for (int64_t ch = 0; ch < channels; ++ch) dst[x * channels + ch] = src[ch * strides[1] + x * strides[3]];
  }
}

}  // namespace lathe::lower
