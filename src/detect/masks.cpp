// A class for each pixel of a picture, from what a model gave.
#include "detect/masks.hpp"

#include <algorithm>
#include <cmath>

#include "base/fail.hpp"
#include "detect/floats.hpp"

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
    const detecting::Floats floats(output);
    const float* v = floats.data();
    const size_t plane = said.size();
    if (classes == 1) {
      const bool shares = std::all_of(v, v + plane, [](float x) { return x >= 0 && x <= 1; });
      for (size_t i = 0; i < plane; ++i) said[i] = v[i] > (shares ? 0.5f : 0.0f) ? 1 : 0;
    } else {
      // Plane by plane, as they lie in memory.
      std::vector<float> best(v, v + plane);
      for (size_t c = 1; c < static_cast<size_t>(classes); ++c) {
        const float* scores = v + c * plane;
        for (size_t i = 0; i < plane; ++i) {
          if (scores[i] > best[i]) best[i] = scores[i], said[i] = static_cast<int64_t>(c);
        }
      }
    }
  }
  const Placement p = placement(fit, height, width, oh, ow);
  Tensor mask(DType::i64, {height, width});
  const auto out = mask.as<int64_t>();
  // The same columns are read on every line.
  std::vector<int64_t> columns;
  for (int64_t x = 0; x < width; ++x) {
    const auto sx = static_cast<int64_t>(std::floor((static_cast<double>(x) + 0.5) * p.scale_x + p.left));
    columns.push_back(sx >= ow ? -1 : sx);
  }
  for (int64_t y = 0; y < height; ++y) {
    const auto sy = static_cast<int64_t>(std::floor((static_cast<double>(y) + 0.5) * p.scale_y + p.top));
    for (int64_t x = 0; x < width; ++x) {
      const int64_t sx = columns[static_cast<size_t>(x)];
      out[static_cast<size_t>(y * width + x)] = sy < 0 || sx < 0 || sy >= oh ? -1 : said[static_cast<size_t>(sy * ow + sx)];
    }
  }
  return mask;
}

namespace detecting {

Tensor mask_in_picture(const Tensor& output, const PictureOptions& input, int64_t height, int64_t width) {
  const Shape& s = output.shape();
  const bool same = s.size() >= 2 && s[s.size() - 2] == input.height && s.back() == input.width;
  if (same || input.height == 0 || input.width == 0) return mask_of(output, input.fit, height, width);
  Tensor whole = mask_of(output, Fit::stretch, input.height, input.width);
  return mask_of(whole.reshaped({1, input.height, input.width}), input.fit, height, width);
}

}  // namespace detecting

}  // namespace lathe
