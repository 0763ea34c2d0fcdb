// A class for each pixel.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "lathe/judge_pictures.hpp"

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
