// A class for each pixel.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "judge/geometry.hpp"
#include "lathe/judge_pictures.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

double overlap_of(int64_t both, int64_t said, int64_t is) {
  const int64_t either = said + is - both;
  return either > 0 ? static_cast<double>(both) / static_cast<double>(either) : NAN;
}

struct Pixels {
  std::vector<int64_t> both, said, is;
  int64_t right = 0, all = 0;
};
Pixels summed(std::span<const MaskAnswer> answers, std::span<const size_t> drawn, int64_t classes) {
  const auto n = static_cast<size_t>(classes);
  Pixels p{std::vector<int64_t>(n), std::vector<int64_t>(n), std::vector<int64_t>(n)};
  for (size_t i : drawn) {
    const MaskAnswer& a = answers[i];
    for (size_t c = 0; c < n; ++c) p.both[c] += a.both[c], p.said[c] += a.said[c], p.is[c] += a.is[c];
    p.right += a.right, p.all += a.pixels;
  }
  return p;
}
double mean_overlap_of(const Pixels& p) {
  double sum = 0, counted = 0;
  for (size_t c = 0; c < p.both.size(); ++c) {
    const double o = overlap_of(p.both[c], p.said[c], p.is[c]);
    if (!std::isnan(o)) sum += o, ++counted;
  }
  return counted > 0 ? sum / counted : 0;
}

}  // namespace

Tensor read_mask(const std::filesystem::path& path) {
  const Tensor pixels = read_picture(path);
  const auto rgb = pixels.as<uint8_t>();
  Tensor mask(DType::i64, {pixels.shape()[0], pixels.shape()[1]});
  const auto out = mask.as<int64_t>();
  for (size_t i = 0; i < out.size(); ++i) {
    if (rgb[3 * i] != rgb[3 * i + 1] || rgb[3 * i] != rgb[3 * i + 2])
      fail(Category::format, "{}: a mask is a greyscale picture whose values are classes; this one has colours", path.string());
    constexpr uint8_t kNobodySays = 255;
    out[i] = rgb[3 * i] == kNobodySays ? -1 : rgb[3 * i];
  }
  return mask;
}

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
  const judging::Placed p = judging::placed(fit, height, width, oh, ow);
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

double MaskAnswer::mean_overlap() const { return mean_overlap_of({both, said, is, right, pixels}); }

MaskAnswer mask_answer(std::string item, const Tensor& said, const Tensor& expected, int64_t classes) {
  if (said.shape() != expected.shape())
    fail(Category::shape, "'{}': the mask said is {}, the one expected {}", item, to_string(said.shape()), to_string(expected.shape()));
  const auto n = static_cast<size_t>(classes);
  MaskAnswer a{std::move(item), std::vector<int64_t>(n), std::vector<int64_t>(n), std::vector<int64_t>(n)};
  const auto x = said.as<int64_t>(), y = expected.as<int64_t>();
  for (size_t i = 0; i < x.size(); ++i) {
    if (x[i] < 0 || y[i] < 0) continue;
    if (x[i] >= classes || y[i] >= classes)
      fail(Category::value, "'{}': class {} at pixel {}, there are {}", a.item, std::max(x[i], y[i]), i, classes);
    ++a.said[static_cast<size_t>(x[i])];
    ++a.is[static_cast<size_t>(y[i])];
    ++a.pixels;
    if (x[i] != y[i]) continue;
    ++a.both[static_cast<size_t>(x[i])];
    ++a.right;
  }
  return a;
}

MaskReport judge_masks(std::span<const MaskAnswer> answers, int64_t classes) {
  MaskReport r;
  r.items = static_cast<int64_t>(answers.size());
  const auto over = [&](auto measure) {
    return bootstrap(answers.size(), [&](std::span<const size_t> drawn) { return measure(summed(answers, drawn, classes)); });
  };
  r.mean_overlap = over(mean_overlap_of);
  r.right = over([](const Pixels& p) { return p.all > 0 ? static_cast<double>(p.right) / static_cast<double>(p.all) : 0.0; });
  for (size_t c = 0; c < static_cast<size_t>(classes); ++c)
    r.classes.push_back(over([c](const Pixels& p) { return overlap_of(p.both[c], p.said[c], p.is[c]); }));
  r.worst.resize(answers.size());
  std::iota(r.worst.begin(), r.worst.end(), size_t{0});
  std::ranges::stable_sort(r.worst, {}, [&](size_t i) { return answers[i].mean_overlap(); });
  return r;
}

}  // namespace lathe
