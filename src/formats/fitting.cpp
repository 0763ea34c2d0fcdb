// Pixels to input tensors: fitted, reordered, normalised, in one pass over the picture.
#include <algorithm>
#include <cmath>
#include <cstring>

#include "base/fail.hpp"
#include "kernels/pixels.hpp"
#include "lathe/formats.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// Where each output pixel of one axis reads: a source pixel, and the weight of the one after it. Outside of [first, first + count) the
// result is no part of the picture.
struct Taps {
  int64_t first = 0, count = 0;
  std::vector<int64_t> low;  // of `count`
  std::vector<float> weight;
  bool moved = false;  // false: pixels as they stand
};

// Output pixels [first, first + count), over source pixels [begin, begin + length) of `from`.
Taps taps_over(int64_t from, double begin, double length, int64_t first, int64_t count) {
  Taps t{first, count, {}, {}, false};
  for (int64_t i = 0; i < count; ++i) {
    const double at =
        std::clamp(begin + (static_cast<double>(i) + 0.5) * length / static_cast<double>(count) - 0.5, 0.0, static_cast<double>(from - 1));
    const auto low = static_cast<int64_t>(at);
    t.low.push_back(low);
    t.weight.push_back(static_cast<float>(at - static_cast<double>(low)));
    t.moved = t.moved || t.weight.back() != 0 || low != t.low[0] + i;
  }
  return t;
}

// Part of the source of one axis, and the part of the result that it becomes.
struct Part {
  double begin = 0, length = 0;
  int64_t first = 0, count = 0;
};
std::pair<Part, Part> fitted(Fit fit, int64_t h, int64_t w, int64_t oh, int64_t ow) {
  const double fh = static_cast<double>(h), fw = static_cast<double>(w), down = static_cast<double>(oh) / fh,
               across = static_cast<double>(ow) / fw;
  if (fit == Fit::pad) {
    const double scale = std::min(down, across);
    const auto kept = [&](double from, int64_t to) { return std::clamp<int64_t>(std::llround(from * scale), 1, to); };
    const int64_t ih = kept(fh, oh), iw = kept(fw, ow);
    return {{0, fh, (oh - ih) / 2, ih}, {0, fw, (ow - iw) / 2, iw}};
  }
  if (fit == Fit::crop) {
    const double scale = std::max(down, across), lh = static_cast<double>(oh) / scale, lw = static_cast<double>(ow) / scale;
    return {{(fh - lh) / 2, lh, 0, oh}, {(fw - lw) / 2, lw, 0, ow}};
  }
  if (fit == Fit::keep) {
    const auto axis = [](int64_t from, int64_t to) {
      const int64_t both = std::min(from, to);
      return Part{static_cast<double>((from - both) / 2), static_cast<double>(both), (to - both) / 2, both};
    };
    return {axis(h, oh), axis(w, ow)};
  }
  return {{0, fh, 0, oh}, {0, fw, 0, ow}};
}

// Weights of the source pixels that each output pixel is the mean of: a triangle as wide as the output pixel is, at least two pixels.
struct Smooth {
  std::vector<int64_t> begin;
  std::vector<std::vector<float>> weights;
};
Smooth smooth_taps(int64_t from, const Part& p) {
  Smooth s;
  const double step = p.length / static_cast<double>(p.count), reach = std::max(1.0, step);
  for (int64_t i = 0; i < p.count; ++i) {
    const double middle = p.begin + (static_cast<double>(i) + 0.5) * step;
    const auto first = std::max<int64_t>(0, static_cast<int64_t>(std::floor(middle - reach))),
               last = std::min(from, static_cast<int64_t>(std::ceil(middle + reach)));
    std::vector<double> w;
    double sum = 0;
    for (int64_t x = first; x < last; ++x) {
      w.push_back(std::max(0.0, 1 - std::abs(static_cast<double>(x) + 0.5 - middle) / reach));
      sum += w.back();
    }
    s.begin.push_back(first);
    s.weights.emplace_back();
    for (double v : w) s.weights.back().push_back(static_cast<float>(v / sum));
  }
  return s;
}

// The picture's part of the result, [count, count, 3] bytes, by smooth taps along both axes.
std::vector<uint8_t> smoothed(std::span<const uint8_t> src, int64_t h, int64_t w, const Part& y, const Part& x) {
  const Smooth down = smooth_taps(h, y), across = smooth_taps(w, x);
  std::vector<uint8_t> out(static_cast<size_t>(y.count * x.count * 3));
  std::vector<float> line(static_cast<size_t>(w * 3));
  for (int64_t i = 0; i < y.count; ++i) {
    std::ranges::fill(line, 0.0f);
    const auto& weights = down.weights[static_cast<size_t>(i)];
    for (size_t k = 0; k < weights.size(); ++k) {
      const uint8_t* from = src.data() + (down.begin[static_cast<size_t>(i)] + static_cast<int64_t>(k)) * w * 3;
      for (int64_t j = 0; j < w * 3; ++j) line[static_cast<size_t>(j)] += weights[k] * static_cast<float>(from[j]);
    }
    for (int64_t j = 0; j < x.count; ++j) {
      const auto& own = across.weights[static_cast<size_t>(j)];
      float sum[3]{};
      for (size_t k = 0; k < own.size(); ++k) {
        const float* p = line.data() + (across.begin[static_cast<size_t>(j)] + static_cast<int64_t>(k)) * 3;
        for (int c = 0; c < 3; ++c) sum[c] += own[k] * p[c];
      }
      for (int c = 0; c < 3; ++c)
        out[static_cast<size_t>((i * x.count + j) * 3 + c)] = static_cast<uint8_t>(std::lrint(std::clamp(sum[c], 0.0f, 255.0f)));
    }
  }
  return out;
}

}  // namespace

Shape picture_tensor_shape(const Tensor& pixels, const PictureOptions& o) {
  if (pixels.dtype() != DType::u8 || pixels.rank() != 3 || pixels.shape()[2] != 3)
    fail(Category::shape, "pixels are {} {}, expected u8, height x width x 3", to_string(pixels.dtype()), to_string(pixels.shape()));
  if (pixels.shape()[0] == 0 || pixels.shape()[1] == 0) fail(Category::shape, "the picture is empty");
  const int64_t oh = o.height ? o.height : pixels.shape()[0], ow = o.width ? o.width : pixels.shape()[1];
  return o.channels_last ? Shape{1, oh, ow, o.channels} : Shape{1, o.channels, oh, ow};
}

Tensor picture_to_tensor(const Tensor& pixels, const PictureOptions& o) {
  Tensor out(o.dtype, picture_tensor_shape(pixels, o));
  picture_into(pixels, o, out);
  return out;
}

void picture_into(const Tensor& pixels, const PictureOptions& o, Tensor& out) {
  const Shape shape = picture_tensor_shape(pixels, o);
  if (o.channels != 1 && o.channels != 3) fail(Category::value, "a picture gives 1 or 3 channels, the input wants {}", o.channels);
  if (o.dtype != DType::u8 && !is_float(o.dtype)) fail(Category::type, "pictures become floats or u8, not {}", to_string(o.dtype));
  if (out.dtype() != o.dtype || out.shape() != shape)
    fail(Category::shape, "the picture becomes {} {}, the tensor it goes to is {} {}", to_string(o.dtype), to_string(shape),
         to_string(out.dtype()), to_string(out.shape()));
  const auto channel = [&](const std::vector<float>& v, int64_t c, const char* what) {
    if (v.size() != 1 && v.size() != static_cast<size_t>(o.channels)) {
      fail(Category::value, "{} has {} values, expected 1 or {} (one a channel)", what, v.size(), o.channels);
    }
    return v.size() == 1 ? v[0] : v[static_cast<size_t>(c)];
  };
  std::span<const uint8_t> src = pixels.as<uint8_t>();
  int64_t h = pixels.shape()[0], w = pixels.shape()[1];
  const int64_t oh = shape[o.channels_last ? 1 : 2], ow = shape[o.channels_last ? 2 : 3];
  auto [py, px] = fitted(o.fit, h, w, oh, ow);
  std::vector<uint8_t> smooth;
  if (o.antialias && (py.length > static_cast<double>(py.count) || px.length > static_cast<double>(px.count))) {
    smooth = smoothed(src, h, w, py, px);
    src = smooth, h = py.count, w = px.count;
    py.begin = px.begin = 0, py.length = static_cast<double>(h), px.length = static_cast<double>(w);
  }
  const Taps ys = taps_over(h, py.begin, py.length, py.first, py.count), xs = taps_over(w, px.begin, px.length, px.first, px.count);
  std::vector<int32_t> left;
  for (int64_t x : xs.low) left.push_back(static_cast<int32_t>(3 * x));
  // The kernel reads eight bytes from each pixel on; what is not there after the last ones counts for nothing.
  constexpr int64_t kRead = 8;
  const int64_t safe = h - 1 - kRead / (3 * w) - 1;  // lines up to this one have so many after them
  std::vector<uint8_t> last(src.begin() + (safe + 1 > 0 ? (safe + 1) * w * 3 : 0), src.end());
  last.resize(last.size() + kRead, 0);
  const auto line = [&](int64_t y) {
    return y > safe ? last.data() + (y - std::max<int64_t>(0, safe + 1)) * w * 3 : src.data() + y * w * 3;
  };
  const bool luma = o.channels == 1;
  float mean[3]{}, scale[3]{1, 1, 1};
  for (int64_t c = 0; c < 3 && !luma; ++c) {
    const int64_t to = o.bgr ? 2 - c : c;
    mean[c] = channel(o.mean, to, "mean"), scale[c] = channel(o.scale, to, "scale");
  }
  const float luma_mean = luma ? channel(o.mean, 0, "mean") : 0, luma_scale = luma ? channel(o.scale, 0, "scale") : 1;
  // Other floats than these go by doubles.
  const bool other = o.dtype != DType::f32 && o.dtype != DType::f16 && o.dtype != DType::bf16 && o.dtype != DType::u8;
  const kernels::PixelKind kind = o.dtype == DType::u8     ? kernels::PixelKind::u8
                                  : o.dtype == DType::f16  ? kernels::PixelKind::f16
                                  : o.dtype == DType::bf16 ? kernels::PixelKind::bf16
                                                           : kernels::PixelKind::f32;
  Tensor wide = other ? Tensor(DType::f32, shape) : out;
  const size_t each = static_cast<size_t>(bit_width(wide.dtype())) / 8;
  if (xs.count < ow || ys.count < oh) std::memset(wide.data(), 0, wide.byte_size());
  auto* base = static_cast<std::byte*>(wide.data());
  const bool straight = kind == kernels::PixelKind::f32 && !o.channels_last && !luma;
  const auto resample = kernels::resample_pixels(kernels::best());
  const auto store = kernels::store_pixels(kernels::best());
  std::vector<float> rows(static_cast<size_t>(straight ? 0 : 3 * xs.count));
  for (int64_t i = 0; i < ys.count; ++i) {
    const int64_t y = ys.first + i;
    // Where channel `c` of the result begins on this line.
    const auto place = [&](int64_t c) {
      const int64_t at = o.channels_last ? (y * ow + xs.first) * o.channels + c : (c * oh + y) * ow + xs.first;
      return base + static_cast<size_t>(at) * each;
    };
    float* to[3];
    for (int64_t c = 0; c < 3; ++c) to[c] = straight ? reinterpret_cast<float*>(place(o.bgr ? 2 - c : c)) : rows.data() + c * xs.count;
    const auto at = static_cast<size_t>(i);
    resample({line(ys.low[at]), line(std::min(ys.low[at] + 1, h - 1)), left.data(), xs.weight.data(), ys.weight[at], xs.count, xs.moved},
             mean, scale, to);
    if (straight) continue;
    if (luma) {
      for (int64_t x = 0; x < xs.count; ++x)
        to[0][x] = (0.299f * to[0][x] + 0.587f * to[1][x] + 0.114f * to[2][x] - luma_mean) * luma_scale;
      // One row: the other two are its own again, put where it goes.
      const float* same[3]{to[0], to[0], to[0]};
      void* one[3]{place(0), place(0), place(0)};
      store(same, xs.count, kind, false, one);
      continue;
    }
    const float* from[3]{to[o.bgr ? 2 : 0], to[1], to[o.bgr ? 0 : 2]};
    void* const where[3]{place(0), place(1), place(2)};
    store(from, xs.count, kind, o.channels_last, where);
  }
  if (other) {
    const Tensor narrowed = narrow<double>(o.dtype, shape, widen<double>(wide));
    std::memcpy(out.data(), narrowed.data(), out.byte_size());
  }
}

}  // namespace lathe
