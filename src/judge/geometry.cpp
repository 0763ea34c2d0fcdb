#include "judge/geometry.hpp"

#include <algorithm>
#include <cmath>

namespace lathe::judging {

Placed placed(Fit fit, int64_t height, int64_t width, int64_t input_height, int64_t input_width) {
  const auto h = static_cast<double>(height), w = static_cast<double>(width), ih = static_cast<double>(input_height),
             iw = static_cast<double>(input_width);
  if (fit == Fit::stretch) return {iw / w, ih / h, 0, 0};
  if (fit == Fit::pad) {
    const double scale = std::min(ih / h, iw / w);
    const auto kept = [&](double from, int64_t to) { return std::clamp<int64_t>(std::llround(from * scale), 1, to); };
    const int64_t kh = kept(h, input_height), kw = kept(w, input_width);
    return {static_cast<double>(kw) / w, static_cast<double>(kh) / h, static_cast<double>((input_width - kw) / 2),
            static_cast<double>((input_height - kh) / 2)};
  }
  const double scale = std::max(ih / h, iw / w);
  return {scale, scale, (iw - w * scale) / 2, (ih - h * scale) / 2};
}

}  // namespace lathe::judging
