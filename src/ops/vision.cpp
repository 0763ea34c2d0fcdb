// Ops of vision models: boxes, regions, sampling grids, deformable convolution, unpooling, local normalisation.
#include "ops/vision.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "ops/grid.hpp"
#include "ops/regions.hpp"
#include "ops/support.hpp"
#include "ops/window.hpp"

namespace lathe::ops {

namespace {
PictureDecoder picture_decoder = nullptr;
}
void set_picture_decoder(PictureDecoder decoder) { picture_decoder = decoder; }

namespace {

// ---- NonMaxSuppression ----

struct Box {
  double y1, x1, y2, x2, area;
};

Box box_between(double y1, double x1, double y2, double x2) { return {y1, x1, y2, x2, std::max(0.0, y2 - y1) * std::max(0.0, x2 - x1)}; }

double overlap(const Box& a, const Box& b) {
  const double h = std::min(a.y2, b.y2) - std::max(a.y1, b.y1), w = std::min(a.x2, b.x2) - std::max(a.x1, b.x1);
  if (h <= 0 || w <= 0) return 0;
  const double both = a.area + b.area - h * w;
  return both <= 0 ? 0 : h * w / both;
}

// Places of scores above `least`. Detectors give millions of scores of which hardly any are: blocks without one are passed over whole.
void find_above(const float* score, int64_t count, double least, std::vector<int64_t>& found) {
  constexpr int64_t kBlock = 32;
  found.clear();
  // The largest float that is not above: comparing in float then is comparing in double.
  float limit = static_cast<float>(least);
  if (static_cast<double>(limit) > least) limit = std::nextafter(limit, -INFINITY);
  for (int64_t i = 0; i < count; i += kBlock) {
    const int64_t n = std::min(kBlock, count - i);
    int any = 0;
    for (int64_t k = 0; k < n; ++k) any |= static_cast<int>(score[i + k] > limit);
    if (any == 0) continue;
    for (int64_t k = 0; k < n; ++k) {
      if (score[i + k] > limit) found.push_back(i + k);
    }
  }
}

std::vector<Tensor> non_max_suppression(const EvalContext& c) {
  const Shape &bs = c.in(0).shape(), &ss = c.in(1).shape();
  if (bs.size() != 3 || ss.size() != 3 || bs[2] != 4 || bs[0] != ss[0] || bs[1] != ss[2])
    fail(Category::shape, "boxes are {} and scores {}, expected batch x boxes x 4 and batch x classes x boxes", to_string(bs),
         to_string(ss));
  const auto boxes = widen<double>(c.in(0));
  const auto scores = c.in(1).as<float>();
  const int64_t most = c.has(2) ? one_integer(c, 2) : 0;
  const double iou = c.has(3) ? one_real(c, 3) : 0, least = c.has(4) ? one_real(c, 4) : -INFINITY;
  if (!(iou >= 0 && iou <= 1)) fail(Category::value, "iou_threshold is {}, expected 0 to 1", iou);
  const bool center = c.node.integer("center_point_box", 0) != 0;
  const int64_t count = bs[1], classes = ss[1];
  std::vector<Box> corners(count);
  std::vector<int64_t> out, left, kept;
  for (int64_t b = 0; b < bs[0] && most > 0; ++b) {
    for (int64_t i = 0; i < count; ++i) {
      const double* p = boxes.data() + (b * count + i) * 4;
      corners[i] = center ? box_between(p[1] - p[3] / 2, p[0] - p[2] / 2, p[1] + p[3] / 2, p[0] + p[2] / 2)
                          : box_between(std::min(p[0], p[2]), std::min(p[1], p[3]), std::max(p[0], p[2]), std::max(p[1], p[3]));
    }
    for (int64_t k = 0; k < classes; ++k) {
      const float* score = scores.data() + (b * classes + k) * count;
      if (c.has(4)) {
        find_above(score, count, least, left);
      } else {
        left.resize(static_cast<size_t>(count));
        std::iota(left.begin(), left.end(), int64_t{0});
      }
      // A heap, for only the best are asked for; of equal scores the first box is better.
      const auto rank = [&](int64_t i) { return std::isnan(score[i]) ? -INFINITY : score[i]; };
      const auto worse = [&](int64_t i, int64_t j) { return rank(i) != rank(j) ? rank(i) < rank(j) : i > j; };
      std::make_heap(left.begin(), left.end(), worse);
      kept.clear();
      while (!left.empty() && static_cast<int64_t>(kept.size()) < most) {
        std::pop_heap(left.begin(), left.end(), worse);
        const int64_t i = left.back();
        left.pop_back();
        if (!std::any_of(kept.begin(), kept.end(), [&](int64_t j) { return overlap(corners[i], corners[j]) > iou; })) kept.push_back(i);
      }
      for (int64_t i : kept) out.insert(out.end(), {b, k, i});
    }
  }
  return {Tensor::from<int64_t>({static_cast<int64_t>(out.size() / 3), 3}, out)};
}

// ---- regions ----

std::vector<Tensor> roi_align(const EvalContext& c) {
  const Shape &xs = c.in(0).shape(), &rs = c.in(1).shape();
  if (xs.size() != 4 || rs.size() != 2 || rs[1] != 4 || c.in(2).size() != rs[0])
    fail(Category::shape, "X {}, rois {} and batch_indices {} do not fit", to_string(xs), to_string(rs), to_string(c.in(2).shape()));
  const auto x = widen<double>(c.in(0)), rois = widen<double>(c.in(1));
  const auto batch = integers(c.in(2));
  const RegionRule rule = RegionRule::of(c.node, c.version);
  const int64_t channels = xs[1], height = xs[2], width = xs[3];
  check_plain_size(rs[0] * channels * rule.out_height * rule.out_width);
  std::vector<double> y;
  for (int64_t r = 0; r < rs[0]; ++r) {
    check_batch(batch[r], xs[0]);
    const Region region = rule.region(rois.data() + r * 4);
    const int64_t samples = region.ny * region.nx;
    for (int64_t ch = 0; ch < channels; ++ch) {
      const double* plane = x.data() + (batch[r] * channels + ch) * height * width;
      for (int64_t i = 0; i < rule.out_height; ++i) {
        for (int64_t j = 0; j < rule.out_width; ++j) {
          double acc = rule.max ? -INFINITY : 0;
          for (int64_t a = 0; a < region.ny; ++a) {
            for (int64_t b = 0; b < region.nx; ++b) {
              int64_t index[4];
              double weight[4];
              rule.corners(region, i, j, a, b, height, width, index, weight);
              for (int k = 0; k < 4; ++k) {
                const double v = index[k] < 0 ? 0 : weight[k] * plane[index[k]];
                if (rule.max) acc = std::max(acc, v);  // as the standard's max mode takes it
                else acc += v;
              }
            }
          }
          y.push_back(rule.max ? (samples > 0 ? acc : 0) : acc / static_cast<double>(std::max<int64_t>(1, samples)));
        }
      }
    }
  }
  return {narrow<double>(c.in(0).dtype(), Shape{rs[0], channels, rule.out_height, rule.out_width}, y)};
}

std::vector<Tensor> max_roi_pool(const EvalContext& c) {
  const Shape &xs = c.in(0).shape(), &rs = c.in(1).shape();
  const auto pooled = c.node.integers("pooled_shape");
  if (xs.size() != 4 || rs.size() != 2 || rs[1] != 5 || pooled.size() != 2 || pooled[0] < 1 || pooled[1] < 1)
    fail(Category::shape, "X {}, rois {} and pooled_shape {} do not fit", to_string(xs), to_string(rs), to_string(pooled));
  const auto x = widen<double>(c.in(0)), rois = widen<double>(c.in(1));
  const double scale = c.node.real("spatial_scale", 1);
  const int64_t channels = xs[1], height = xs[2], width = xs[3];
  std::vector<double> y;
  for (int64_t r = 0; r < rs[0]; ++r) {
    const double* p = rois.data() + r * 5;
    if (!(p[0] >= 0 && p[0] < static_cast<double>(xs[0]))) fail(Category::value, "batch index {} is outside a batch of {}", p[0], xs[0]);
    const int64_t batch = static_cast<int64_t>(p[0]);
    const auto at = [&](double v) {
      const double place = std::floor(v * scale + 0.5);
      if (!(std::fabs(place) < 1e9)) fail(Category::value, "a region of interest is absurdly large");
      return static_cast<int64_t>(place);
    };
    const int64_t x1 = at(p[1]), y1 = at(p[2]), h = std::max<int64_t>(at(p[4]) - y1 + 1, 1), w = std::max<int64_t>(at(p[3]) - x1 + 1, 1);
    for (int64_t ch = 0; ch < channels; ++ch) {
      const double* plane = x.data() + (batch * channels + ch) * height * width;
      for (int64_t i = 0; i < pooled[0]; ++i) {
        for (int64_t j = 0; j < pooled[1]; ++j) {
          const auto edge = [](int64_t k, int64_t n, int64_t size, int64_t first, int64_t limit, bool up) {
            const double e = static_cast<double>(k) * static_cast<double>(size) / static_cast<double>(n);
            return std::clamp<int64_t>(static_cast<int64_t>(up ? std::ceil(e) : std::floor(e)) + first, 0, limit);
          };
          const int64_t r0 = edge(i, pooled[0], h, y1, height, false), r1 = edge(i + 1, pooled[0], h, y1, height, true);
          const int64_t c0 = edge(j, pooled[1], w, x1, width, false), c1 = edge(j + 1, pooled[1], w, x1, width, true);
          double best = r1 <= r0 || c1 <= c0 ? 0 : -INFINITY;
          for (int64_t a = r0; a < r1; ++a) {
            for (int64_t b = c0; b < c1; ++b) best = std::max(best, plane[a * width + b]);
          }
          y.push_back(best);
        }
      }
    }
  }
  return {narrow<double>(c.in(0).dtype(), Shape{rs[0], channels, pooled[0], pooled[1]}, y)};
}

// ---- GridSample, AffineGrid ----

std::vector<Tensor> grid_sample(const EvalContext& c) {
  const Tensor &X = c.in(0), &G = c.in(1);
  const int64_t axes = X.rank() - 2;
  if (axes < 1 || G.rank() != X.rank() || G.shape().back() != axes || G.shape()[0] != X.shape()[0])
    fail(Category::shape, "X is {} and grid {}, expected N x C x spatial and N x spatial x {}", to_string(X.shape()), to_string(G.shape()),
         axes);
  const GridRule rule(c.node, c.version, X.shape());
  const auto x = widen<double>(X), grid = widen<double>(G);
  const Shape in(X.shape().begin() + 2, X.shape().end()), out(G.shape().begin() + 1, G.shape().end() - 1);
  const int64_t channels = X.shape()[1], in_size = element_count(in), out_size = element_count(out);
  Shape shape{X.shape()[0], channels};
  shape.insert(shape.end(), out.begin(), out.end());
  if (in_size == 0 && !rule.padded_with_zeros() && element_count(shape) > 0)
    fail(Category::shape, "X is {}: there is no pixel that padding_mode '{}' could take", to_string(X.shape()),
         c.node.text("padding_mode", "zeros"));
  check_plain_size(element_count(shape));
  std::vector<double> y(element_count(shape)), weight(rule.taps());
  std::vector<int64_t> index(rule.taps());
  for (int64_t b = 0; b < X.shape()[0]; ++b) {
    for (int64_t p = 0; p < out_size; ++p) {
      rule.at(grid.data() + (b * out_size + p) * axes, index.data(), weight.data());
      for (int64_t k = 0; k < rule.taps(); ++k) {
        if (index[k] < 0) continue;
        for (int64_t ch = 0; ch < channels; ++ch)
          y[(b * channels + ch) * out_size + p] += weight[k] * x[(b * channels + ch) * in_size + index[k]];
      }
    }
  }
  return {narrow<double>(X.dtype(), shape, y)};
}

// Base coordinates in [-1, 1] of every position of N x C x spatial, turned by the N x axes x (axes + 1) matrices.
std::vector<Tensor> affine_grid(const EvalContext& c) {
  const auto theta = widen<double>(c.in(0));
  const auto size = integers(c.in(1));
  const int64_t axes = static_cast<int64_t>(size.size()) - 2;
  if ((axes != 2 && axes != 3) || c.in(0).shape() != Shape{size[0], axes, axes + 1})
    fail(Category::shape, "theta is {} and size has {} entries", to_string(c.in(0).shape()), size.size());
  const bool corners = c.node.integer("align_corners", 0) != 0;
  const Shape spatial(size.begin() + 2, size.end());
  Shape shape{size[0]};
  shape.insert(shape.end(), spatial.begin(), spatial.end());
  shape.push_back(axes);
  check_plain_size(element_count(shape));
  const auto strides = strides_of(spatial);
  std::vector<double> y;
  for (int64_t n = 0; n < size[0]; ++n) {
    for (int64_t p = 0; p < element_count(spatial); ++p) {
      std::vector<double> base(axes + 1, 1);
      for (int64_t a = 0; a < axes; ++a) {
        const double i = static_cast<double>(p / strides[a] % spatial[a]), m = static_cast<double>(spatial[a]);
        base[axes - 1 - a] = corners ? (m > 1 ? -1 + 2 * i / (m - 1) : 0) : (2 * i + 1) / m - 1;
      }
      for (int64_t r = 0; r < axes; ++r) {
        double sum = 0;
        for (int64_t k = 0; k <= axes; ++k) sum += theta[(n * axes + r) * (axes + 1) + k] * base[k];
        y.push_back(sum);
      }
    }
  }
  return {narrow<double>(c.in(0).dtype(), shape, y)};
}

// ---- DeformConv: every tap reads at its own offset, weighted by a mask ----

std::vector<Tensor> deform_conv(const EvalContext& c) {
  const Shape &xs = c.in(0).shape(), &ws = c.in(1).shape(), &os = c.in(2).shape();
  if (xs.size() != 4 || ws.size() != 4 || os.size() != 4)
    fail(Category::shape, "X, W and offset are {}, {} and {}; all need rank 4", to_string(xs), to_string(ws), to_string(os));
  const int64_t group = c.node.integer("group", 1), offset_group = c.node.integer("offset_group", 1);
  const Shape in{xs[2], xs[3]};
  const Window w = read_window(c.node, in, std::span<const int64_t>(ws).subspan(2));
  const int64_t taps = w.taps(), oh = w.out[0], ow = w.out[1], channels = xs[1], filters = ws[0];
  if (group < 1 || offset_group < 1 || group > std::max<int64_t>(1, channels) || offset_group > std::max<int64_t>(1, channels) ||
      channels != ws[1] * group || filters % group != 0 || channels % offset_group != 0 ||
      os != Shape{xs[0], offset_group * taps * 2, oh, ow}) {
    fail(Category::shape, "X {}, W {} and offset {} do not fit (group {}, offset_group {})", to_string(xs), to_string(ws), to_string(os),
         group, offset_group);
  }
  const auto x = widen<double>(c.in(0)), k = widen<double>(c.in(1)), offset = widen<double>(c.in(2));
  const auto bias = c.has(3) ? widen<double>(c.in(3)) : std::vector<double>(filters, 0);
  const auto mask = c.has(4) ? widen<double>(c.in(4)) : std::vector<double>();
  if (static_cast<int64_t>(bias.size()) != filters || (c.has(4) && c.in(4).shape() != Shape{xs[0], offset_group * taps, oh, ow}))
    fail(Category::shape, "the bias or the mask does not fit");
  const int64_t cg = channels / group, fg = filters / group, co = channels / offset_group;
  std::vector<double> y(xs[0] * filters * oh * ow), column(channels * taps);
  for (int64_t n = 0; n < xs[0]; ++n) {
    for (int64_t i = 0; i < oh; ++i) {
      for (int64_t j = 0; j < ow; ++j) {
        for (int64_t ch = 0; ch < channels; ++ch) {
          const double* plane = x.data() + (n * channels + ch) * in[0] * in[1];
          for (int64_t t = 0; t < taps; ++t) {
            const int64_t g = ch / co, ky = t / w.kernel[1], kx = t % w.kernel[1];
            const auto at = [&](int64_t which) {
              return offset[((n * offset_group + g) * taps * 2 + t * 2 + which) * oh * ow + i * ow + j];
            };
            const double py = static_cast<double>(i * w.strides[0] - w.pads_begin[0] + ky * w.dilations[0]) + at(0);
            const double px = static_cast<double>(j * w.strides[1] - w.pads_begin[1] + kx * w.dilations[1]) + at(1);
            double v = 0;
            if (py > -1 && px > -1 && py < static_cast<double>(in[0]) && px < static_cast<double>(in[1])) {
              const int64_t y0 = static_cast<int64_t>(std::floor(py)), x0 = static_cast<int64_t>(std::floor(px));
              const double fy = py - static_cast<double>(y0), fx = px - static_cast<double>(x0);
              const auto pixel = [&](int64_t r, int64_t q) {
                return r < 0 || q < 0 || r >= in[0] || q >= in[1] ? 0.0 : plane[r * in[1] + q];
              };
              v = (1 - fy) * ((1 - fx) * pixel(y0, x0) + fx * pixel(y0, x0 + 1)) +
                  fy * ((1 - fx) * pixel(y0 + 1, x0) + fx * pixel(y0 + 1, x0 + 1));
            }
            if (!mask.empty()) v *= mask[((n * offset_group + g) * taps + t) * oh * ow + i * ow + j];
            column[ch * taps + t] = v;
          }
        }
        for (int64_t f = 0; f < filters; ++f) {
          double sum = bias[f];
          for (int64_t q = 0; q < cg * taps; ++q) sum += k[f * cg * taps + q] * column[(f / fg) * cg * taps + q];
          y[((n * filters + f) * oh + i) * ow + j] = sum;
        }
      }
    }
  }
  return {narrow<double>(c.in(0).dtype(), Shape{xs[0], filters, oh, ow}, y)};
}

// ---- Col2Im: overlapping blocks added back into a picture ----

struct Blocks {
  std::vector<int64_t> image, block, strides, dilations, pads, counts;
};

Blocks blocks_of(const Node& n, const std::vector<int64_t>& image, const std::vector<int64_t>& block) {
  const size_t axes = image.size();
  Blocks b{image,
           block,
           n.integers("strides", std::vector<int64_t>(axes, 1)),
           n.integers("dilations", std::vector<int64_t>(axes, 1)),
           n.integers("pads", std::vector<int64_t>(2 * axes, 0)),
           {}};
  if (block.size() != axes || b.strides.size() != axes || b.dilations.size() != axes || b.pads.size() != 2 * axes)
    fail(Category::value, "image_shape, block_shape, strides, dilations and pads do not agree in length");
  check_plausible(image, "image_shape");
  check_plausible(block, "block_shape");
  check_plausible(b.strides, "strides");
  check_plausible(b.dilations, "dilations");
  check_plausible(b.pads, "pads");
  for (size_t a = 0; a < axes; ++a) {
    if (b.strides[a] < 1 || b.dilations[a] < 1 || block[a] < 1)
      fail(Category::value, "strides, dilations and block_shape must be at least 1");
    b.counts.push_back((image[a] + b.pads[a] + b.pads[axes + a] - b.dilations[a] * (block[a] - 1) - 1) / b.strides[a] + 1);
    if (b.counts.back() < 1) fail(Category::shape, "blocks of {} do not fit an image axis of {}", block[a], image[a]);
  }
  return b;
}

std::vector<Tensor> col2im(const EvalContext& c) {
  const Blocks b = blocks_of(c.node, integers(c.in(1)), integers(c.in(2)));
  const int64_t taps = element_count(b.block), places = element_count(b.counts), pixels = element_count(b.image);
  const Shape& xs = c.in(0).shape();
  if (xs.size() != 3 || xs[1] % taps != 0 || xs[2] != places)
    fail(Category::shape, "input is {}, expected N x (C * {}) x {}", to_string(xs), taps, places);
  const int64_t channels = xs[1] / taps;
  check_plain_size(xs[0] * channels * pixels);
  const auto x = widen<double>(c.in(0));
  std::vector<double> y(xs[0] * channels * pixels, 0);
  const auto block_strides = strides_of(b.block), count_strides = strides_of(b.counts);
  for (int64_t t = 0; t < taps; ++t) {
    for (int64_t l = 0; l < places; ++l) {
      int64_t at = 0;
      for (size_t a = 0; a < b.image.size() && at >= 0; ++a) {
        const int64_t i =
            l / count_strides[a] % b.counts[a] * b.strides[a] + t / block_strides[a] % b.block[a] * b.dilations[a] - b.pads[a];
        at = i < 0 || i >= b.image[a] ? -1 : at * b.image[a] + i;
      }
      for (int64_t nc = 0; at >= 0 && nc < xs[0] * channels; ++nc) y[nc * pixels + at] += x[(nc * taps + t) * places + l];
    }
  }
  Shape shape{xs[0], channels};
  shape.insert(shape.end(), b.image.begin(), b.image.end());
  return {narrow<double>(c.in(0).dtype(), shape, y)};
}

// ---- unpooling and local normalisation ----

Shape unpool_shape(const Node& n, const Shape& x) {
  const size_t axes = x.size() < 2 ? 0 : x.size() - 2;
  const auto kernel = n.integers("kernel_shape"), strides = n.integers("strides", std::vector<int64_t>(axes, 1)),
             pads = n.integers("pads", std::vector<int64_t>(2 * axes, 0));
  if (kernel.size() != axes || strides.size() != axes || pads.size() != 2 * axes)
    fail(Category::value, "kernel_shape, strides and pads do not fit {} spatial axes", axes);
  if (axes == 0) fail(Category::shape, "input is {}, expected batch, channel and spatial axes", to_string(x));
  check_plausible(x, "the input's shape");
  check_plausible(kernel, "kernel_shape");
  check_plausible(strides, "strides");
  check_plausible(pads, "pads");
  Shape out(x.begin(), x.begin() + 2);
  for (size_t a = 0; a < axes; ++a) out.push_back((x[a + 2] - 1) * strides[a] - pads[a] - pads[axes + a] + kernel[a]);
  return out;
}

std::vector<Tensor> max_unpool(const EvalContext& c) {
  const Shape inferred = unpool_shape(c.node, c.in(0).shape());
  const Shape shape = c.has(2) ? Shape(integers(c.in(2))) : inferred;
  if (c.in(1).shape() != c.in(0).shape() || shape.size() != inferred.size()) fail(Category::shape, "X, I and output_shape do not agree");
  const auto x = widen<double>(c.in(0));
  const auto at = integers(c.in(1));
  check_plain_size(element_count(shape));
  std::vector<double> y(element_count(shape), 0);
  // Indices count through the tensor of the inferred shape; a larger output_shape has room around.
  const auto from = strides_of(inferred), to = strides_of(shape);
  for (size_t i = 0; i < at.size(); ++i) {
    int64_t target = 0;
    bool inside = at[i] >= 0 && at[i] < element_count(inferred);
    for (size_t d = 0; d < shape.size() && inside; ++d) {
      const int64_t k = at[i] / from[d] % inferred[d];
      inside = k < shape[d];
      target += k * to[d];
    }
    if (!inside) fail(Category::value, "index {} is outside an output of {}", at[i], to_string(shape));
    y[target] = x[i];
  }
  return {narrow<double>(c.in(0).dtype(), shape, y)};
}

std::vector<Tensor> local_response(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 2) fail(Category::shape, "input is {}, expected at least batch and channel", to_string(x.shape()));
  const int64_t size = c.node.integer("size", 0), channels = x.shape()[1], inner = strides_of(x.shape())[1];
  if (size < 1) fail(Category::value, "attribute size is {}, expected at least 1", size);
  const double alpha = c.node.real("alpha", 1e-4f), beta = c.node.real("beta", 0.75f), bias = c.node.real("bias", 1);
  const auto v = widen<double>(x);
  std::vector<double> y(v.size());
  for (size_t i = 0; i < v.size(); ++i) {
    const int64_t ch = static_cast<int64_t>(i) / inner % channels;
    const int64_t from = std::max<int64_t>(0, ch - (size - 1) / 2), to = std::min<int64_t>(channels - 1, ch + size / 2);
    double sum = 0;
    for (int64_t k = from; k <= to; ++k) {
      const double e = v[i + (k - ch) * inner];
      sum += e * e;
    }
    y[i] = v[i] / std::pow(bias + alpha / static_cast<double>(size) * sum, beta);
  }
  return {narrow<double>(x.dtype(), x.shape(), y)};
}

std::vector<Tensor> decode_image(const EvalContext& c) {
  if (c.in(0).dtype() != DType::u8 || c.in(0).rank() != 1) fail(Category::type, "the encoded stream must be a list of u8");
  if (picture_decoder == nullptr) fail(Category::unsupported, "no picture decoder is there");
  const std::string format = c.node.text("pixel_format", "RGB");
  if (format != "RGB" && format != "BGR" && format != "Grayscale")
    fail(Category::value, "pixel_format is '{}', expected RGB, BGR or Grayscale", format);
  const auto bytes = c.in(0).as<uint8_t>();
  Tensor rgb = picture_decoder({reinterpret_cast<const char*>(bytes.data()), bytes.size()});
  auto p = rgb.as<uint8_t>();
  if (format == "BGR") {
    for (size_t i = 0; i + 2 < p.size(); i += 3) std::swap(p[i], p[i + 2]);
  }
  if (format != "Grayscale") return {rgb};
  std::vector<double> grey;
  for (size_t i = 0; i + 2 < p.size(); i += 3) grey.push_back(0.299 * p[i] + 0.587 * p[i + 1] + 0.114 * p[i + 2]);
  for (double& g : grey) g = std::nearbyint(g);
  return {narrow<double>(DType::u8, Shape{rgb.shape()[0], rgb.shape()[1], 1}, grey)};
}

}  // namespace

void add_vision(std::vector<OpDef>& out) {
  const auto add = [&](const char* name, int since, int min, int max, Infer infer, Plain plain, int outputs = 1) {
    out.push_back(def(name, since, min, max, Trait::opaque, std::move(infer), std::move(plain), outputs));
  };
  const auto float_like = [](auto dims) {
    return [dims](InferContext& c) {
      need(c, 0, standard_float, "a floating type");
      c.set(0, c.dtype(0), dims(c));
    };
  };
  add(
      "NonMaxSuppression", 10, 2, 5,
      [](InferContext& c) {
        c.set(0, DType::i64, Dims{Dim(), Dim(3)});
      },
      non_max_suppression);
  add("RoiAlign", 10, 3, 3, float_like([](InferContext& c) -> std::optional<Dims> {
        if (c.rank(0) != 4 || c.rank(1) != 2) return std::nullopt;
        return Dims{(*c.dims(1))[0], (*c.dims(0))[1], Dim(c.node().integer("output_height", 1)), Dim(c.node().integer("output_width", 1))};
      }),
      roi_align);
  add("MaxRoiPool", 1, 2, 2, float_like([](InferContext& c) -> std::optional<Dims> {
        const auto p = c.node().integers("pooled_shape");
        if (c.rank(0) != 4 || c.rank(1) != 2 || p.size() != 2) return std::nullopt;
        return Dims{(*c.dims(1))[0], (*c.dims(0))[1], Dim(p[0]), Dim(p[1])};
      }),
      max_roi_pool);
  add(
      "GridSample", 16, 2, 2,
      [](InferContext& c) {
        if (!c.dims(0) || !c.dims(1)) return c.set(0, c.dtype(0), std::nullopt);
        c.require(c.rank(0) == c.rank(1) && c.rank(0) >= 3, Category::shape,
                  fmt::format("X is {} and grid {}", to_string(*c.dims(0)), to_string(*c.dims(1))));
        const Dim& names = c.dims(1)->back();
        c.require(!names.known() || names.value == c.rank(0) - 2, Category::shape,
                  fmt::format("input 1 (grid) has shape {}, expected a last dim of {}", to_string(*c.dims(1)), c.rank(0) - 2));
        Dims dims{(*c.dims(0))[0], (*c.dims(0))[1]};
        dims.insert(dims.end(), c.dims(1)->begin() + 1, c.dims(1)->end() - 1);
        c.set(0, c.dtype(0), dims);
      },
      grid_sample);
  add("AffineGrid", 20, 2, 2, float_like([](InferContext& c) -> std::optional<Dims> {
        const auto size = c.integers(1);
        if (!size) return std::nullopt;
        const int64_t axes = static_cast<int64_t>(size->size()) - 2;
        c.require(axes == 2 || axes == 3, Category::shape, fmt::format("input 1 (size) has {} entries, expected 4 or 5", size->size()));
        for (int64_t s : *size) c.require(s >= 0, Category::value, fmt::format("input 1 (size) holds {}", s));
        if (const auto theta = known_shape(c.dims(0)); theta && *theta != Shape{(*size)[0], axes, axes + 1})
          c.fail(Category::shape,
                 fmt::format("input 0 (theta) has shape {}, expected {}", to_string(*theta), to_string(Shape{(*size)[0], axes, axes + 1})));
        Dims dims{Dim((*size)[0])};
        for (size_t i = 2; i < size->size(); ++i) dims.emplace_back((*size)[i]);
        dims.emplace_back(static_cast<int64_t>(size->size()) - 2);
        return dims;
      }),
      affine_grid);
  add("DeformConv", 19, 3, 5, float_like([](InferContext& c) -> std::optional<Dims> {
        const auto w = known_shape(c.dims(1));
        if (c.rank(0) != 4 || !w || w->size() != 4) return std::nullopt;
        Dims dims{(*c.dims(0))[0], Dim((*w)[0])};
        const Dims spatial = window_dims(c.node(), std::span<const Dim>(*c.dims(0)).subspan(2), std::span<const int64_t>(*w).subspan(2));
        dims.insert(dims.end(), spatial.begin(), spatial.end());
        return dims;
      }),
      deform_conv);
  add(
      "Col2Im", 18, 3, 3,
      [](InferContext& c) {
        const auto image = c.integers(1), block = c.integers(2);
        if (!image || c.rank(0) != 3) return c.set(0, c.dtype(0), std::nullopt);
        const Dim all = (*c.dims(0))[1];
        const auto taps = block ? std::optional<int64_t>(element_count(*block)) : std::nullopt;
        Dims dims{(*c.dims(0))[0], all.known() && taps && *taps > 0 ? Dim(all.value / *taps) : Dim()};
        for (int64_t s : *image) dims.emplace_back(s);
        c.set(0, c.dtype(0), dims);
      },
      col2im);
  for (const int since : {9, 11}) {
    add("MaxUnpool", since, 2, 3, float_like([](InferContext& c) -> std::optional<Dims> {
          if (c.has(2)) {
            const auto s = c.integers(2);
            if (s && c.rank(0) >= 0)
              c.require(static_cast<int>(s->size()) == c.rank(0), Category::shape,
                        fmt::format("input 2 (output_shape) has {} entries, expected {}", s->size(), c.rank(0)));
            for (int64_t size : s.value_or(std::vector<int64_t>()))
              c.require(size >= 0, Category::value, fmt::format("input 2 (output_shape) holds {}", size));
            return s ? std::optional<Dims>(to_dims(*s)) : std::nullopt;
          }
          const auto s = known_shape(c.dims(0));
          return s ? std::optional<Dims>(to_dims(unpool_shape(c.node(), *s))) : std::nullopt;
        }),
        max_unpool);
  }
  add("LRN", 1, 1, 1, float_like([](InferContext& c) { return c.dims(0); }), local_response);
  add(
      "ImageDecoder", 20, 1, 1,
      [](InferContext& c) {
        c.set(0, DType::u8, Dims{Dim(), Dim(), Dim(c.node().text("pixel_format", "RGB") == "Grayscale" ? 1 : 3)});
      },
      decode_image);
}

}  // namespace lathe::ops
