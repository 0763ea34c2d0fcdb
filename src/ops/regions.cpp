#include "ops/regions.hpp"

#include <algorithm>
#include <cmath>

#include "base/fail.hpp"

namespace lathe::ops {

RegionRule RegionRule::of(const Node& node, int64_t version) {
  RegionRule r;
  r.out_height = node.integer("output_height", 1), r.out_width = node.integer("output_width", 1),
  r.ratio = node.integer("sampling_ratio", 0);
  if (r.out_height < 1 || r.out_width < 1 || r.ratio < 0)
    fail(Category::value, "output_height, output_width or sampling_ratio is out of range");
  r.scale = node.real("spatial_scale", 1);
  r.half = version >= 16 && node.text("coordinate_transformation_mode", "half_pixel") == "half_pixel";
  r.max = node.text("mode", "avg") == "max";
  return r;
}

void check_batch(int64_t index, int64_t batch) {
  if (index < 0 || index >= batch) fail(Category::value, "batch index {} is outside a batch of {}", index, batch);
}

Region RegionRule::region(const double* box) const {
  const double shift = half ? 0.5 : 0;
  const double x2 = box[2] * scale - shift, y2 = box[3] * scale - shift;
  Region r;
  r.x1 = box[0] * scale - shift, r.y1 = box[1] * scale - shift;
  double w = x2 - r.x1, h = y2 - r.y1;
  if (!half) w = std::max(w, 1.0), h = std::max(h, 1.0);
  r.bin_h = h / static_cast<double>(out_height), r.bin_w = w / static_cast<double>(out_width);
  const auto samples = [&](double bin) {
    if (ratio > 0) return ratio;
    if (!(std::fabs(bin) < 65536)) fail(Category::value, "a region of interest is absurdly large");
    return static_cast<int64_t>(std::max(0.0, std::ceil(bin)));
  };
  r.ny = samples(r.bin_h), r.nx = samples(r.bin_w);
  return r;
}

void RegionRule::corners(const Region& r, int64_t i, int64_t j, int64_t a, int64_t b, int64_t height, int64_t width, int64_t* index,
                         double* weight) const {
  double y = r.y1 + (static_cast<double>(i) + (static_cast<double>(a) + 0.5) / static_cast<double>(r.ny)) * r.bin_h;
  double x = r.x1 + (static_cast<double>(j) + (static_cast<double>(b) + 0.5) / static_cast<double>(r.nx)) * r.bin_w;
  // Written so that NaN counts as outside, too.
  const bool inside = y >= -1 && y <= static_cast<double>(height) && x >= -1 && x <= static_cast<double>(width);
  if (!inside || height == 0 || width == 0) {
    std::fill_n(index, 4, -1);
    std::fill_n(weight, 4, 0.0);
    return;
  }
  y = std::max(0.0, y);
  x = std::max(0.0, x);
  int64_t y0 = static_cast<int64_t>(y), x0 = static_cast<int64_t>(x), y1 = y0 + 1, x1 = x0 + 1;
  if (y0 >= height - 1) y0 = y1 = height - 1, y = static_cast<double>(y0);
  if (x0 >= width - 1) x0 = x1 = width - 1, x = static_cast<double>(x0);
  const double fy = y - static_cast<double>(y0), fx = x - static_cast<double>(x0);
  index[0] = y0 * width + x0, index[1] = y0 * width + x1, index[2] = y1 * width + x0, index[3] = y1 * width + x1;
  weight[0] = (1 - fy) * (1 - fx), weight[1] = (1 - fy) * fx, weight[2] = fy * (1 - fx), weight[3] = fy * fx;
}

}  // namespace lathe::ops
