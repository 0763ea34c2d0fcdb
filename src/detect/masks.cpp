// A class for each pixel of a picture, from what a model gave.
#include <algorithm>
#include <cmath>

#include "base/fail.hpp"
#include "lathe/detect.hpp"
#include "tensor/widen.hpp"

namespace lathe {

Tensor mask_of(const Tensor& output, Fit fit, int64_t height, int64_t width) {
  const Shape& s = output.shape();
  const bool scores = s.size() == 4 && s[0] == 1 && is_float(output.dtype()),
             named = s.size() == 3 && s[0] == 1 && !is_float(output.dtype());
  if (!scores && !named)
    fail(Category::shape, "the output is {} of {}: a mask is scores [1, classes, height, width] or whole numbers [1, height, width]",
         to_string(output.dtype()), to_string(s));
  const int64_t classes = scores ? s[1] : 1, oh = s[s.size() - 2], ow = s[s.size() - 1];
  std::vector<int64_t> said(static_cast<size_t>(oh * ow));
  if (named) {
    said = widen<int64_t>(output);
  } else {
    const auto v = widen<double>(output);
    const size_t plane = said.size();
    const bool shares = std::ranges::all_of(v, [](double x) { return x >= 0 && x <= 1; });
    for (size_t i = 0; i < plane; ++i) {
      if (classes == 1) {
        said[i] = v[i] > (shares ? 0.5 : 0.0) ? 1 : 0;
        continue;
      }
      size_t best = 0;
      for (size_t c = 1; c < static_cast<size_t>(classes); ++c) {
        if (v[c * plane + i] > v[best * plane + i]) best = c;
      }
      said[i] = static_cast<int64_t>(best);
    }
  }
  const Placement p = placement(fit, height, width, oh, ow);
  Tensor mask(DType::i64, {height, width});
  const auto out = mask.as<int64_t>();
  for (int64_t y = 0; y < height; ++y) {
    const auto sy = static_cast<int64_t>(std::floor((static_cast<double>(y) + 0.5) * p.scale_y + p.top));
    for (int64_t x = 0; x < width; ++x) {
      const auto sx = static_cast<int64_t>(std::floor((static_cast<double>(x) + 0.5) * p.scale_x + p.left));
      out[static_cast<size_t>(y * width + x)] = sy < 0 || sx < 0 || sy >= oh || sx >= ow ? -1 : said[static_cast<size_t>(sy * ow + sx)];
    }
  }
  return mask;
}

}  // namespace lathe
