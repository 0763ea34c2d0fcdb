// Restored pictures: peak signal to noise, structural similarity.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "lathe/judge_pictures.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

using Plane = std::vector<double>;  // height x width

// Gaussian of deviation 1.5 over 11 pixels, only where it lies inside; for smaller pictures a window as large as they are.
Plane smoothed(const Plane& p, int64_t height, int64_t width, int64_t window) {
  std::vector<double> weight(static_cast<size_t>(window));
  double sum = 0;
  for (int64_t i = 0; i < window; ++i) {
    const double at = static_cast<double>(i) - static_cast<double>(window - 1) / 2;
    sum += weight[static_cast<size_t>(i)] = std::exp(-at * at / (2 * 1.5 * 1.5));
  }
  for (double& w : weight) w /= sum;
  const int64_t oh = height - window + 1, ow = width - window + 1;
  Plane across(static_cast<size_t>(height * ow)), out(static_cast<size_t>(oh * ow));
  for (int64_t y = 0; y < height; ++y) {
    for (int64_t x = 0; x < ow; ++x) {
      double s = 0;
      for (int64_t k = 0; k < window; ++k) s += weight[static_cast<size_t>(k)] * p[static_cast<size_t>(y * width + x + k)];
      across[static_cast<size_t>(y * ow + x)] = s;
    }
  }
  for (int64_t y = 0; y < oh; ++y) {
    for (int64_t x = 0; x < ow; ++x) {
      double s = 0;
      for (int64_t k = 0; k < window; ++k) s += weight[static_cast<size_t>(k)] * across[static_cast<size_t>((y + k) * ow + x)];
      out[static_cast<size_t>(y * ow + x)] = s;
    }
  }
  return out;
}

double similarity(const Plane& a, const Plane& b, int64_t height, int64_t width) {
  const int64_t window = std::min<int64_t>({11, height, width});
  const auto product = [](const Plane& x, const Plane& y) {
    Plane p(x.size());
    for (size_t i = 0; i < p.size(); ++i) p[i] = x[i] * y[i];
    return p;
  };
  const auto smooth = [&](const Plane& p) { return smoothed(p, height, width, window); };
  const Plane ma = smooth(a), mb = smooth(b), aa = smooth(product(a, a)), bb = smooth(product(b, b)), ab = smooth(product(a, b));
  constexpr double kFirst = (0.01 * 255) * (0.01 * 255), kSecond = (0.03 * 255) * (0.03 * 255);
  double sum = 0;
  for (size_t i = 0; i < ma.size(); ++i) {
    const double va = aa[i] - ma[i] * ma[i], vb = bb[i] - mb[i] * mb[i], vab = ab[i] - ma[i] * mb[i];
    sum += (2 * ma[i] * mb[i] + kFirst) * (2 * vab + kSecond) / ((ma[i] * ma[i] + mb[i] * mb[i] + kFirst) * (va + vb + kSecond));
  }
  return sum / static_cast<double>(ma.size());
}

}  // namespace

PictureAnswer picture_answer(std::string item, const Tensor& got, const Tensor& expected, double most, bool channels_last) {
  if (got.shape() != expected.shape() || got.rank() != 4 || got.shape()[0] != 1 || got.size() == 0)
    fail(Category::shape, "'{}': the picture is {}, the one expected {}", item, to_string(got.shape()), to_string(expected.shape()));
  const Shape& s = got.shape();
  const int64_t channels = channels_last ? s[3] : s[1], height = channels_last ? s[1] : s[2], width = channels_last ? s[2] : s[3];
  const auto x = widen<double>(got), y = widen<double>(expected);
  const auto plane = [&](const std::vector<double>& v, int64_t c) {
    Plane p(static_cast<size_t>(height * width));
    for (size_t i = 0; i < p.size(); ++i) {
      const auto n = static_cast<size_t>(channels), k = static_cast<size_t>(c);
      p[i] = std::clamp(v[channels_last ? i * n + k : k * p.size() + i] / most * 255, 0.0, 255.0);
    }
    return p;
  };
  PictureAnswer a{std::move(item)};
  double squares = 0;
  for (int64_t c = 0; c < channels; ++c) {
    const Plane p = plane(x, c), q = plane(y, c);
    for (size_t i = 0; i < p.size(); ++i) squares += (p[i] - q[i]) * (p[i] - q[i]);
    a.ssim += similarity(p, q, height, width) / static_cast<double>(channels);
  }
  const double mean = squares / static_cast<double>(got.size());
  constexpr double kMost = 100;
  a.psnr = mean > 0 ? std::min(kMost, 10 * std::log10(255.0 * 255.0 / mean)) : kMost;
  return a;
}

PictureReport judge_pictures(std::span<const PictureAnswer> answers) {
  PictureReport r;
  r.items = static_cast<int64_t>(answers.size());
  const auto mean = [&](double PictureAnswer::*of) {
    return bootstrap(answers.size(), [&](std::span<const size_t> drawn) {
      double sum = 0;
      for (size_t i : drawn) sum += answers[i].*of;
      return drawn.empty() ? 0 : sum / static_cast<double>(drawn.size());
    });
  };
  r.psnr = mean(&PictureAnswer::psnr);
  r.ssim = mean(&PictureAnswer::ssim);
  r.worst.resize(answers.size());
  std::iota(r.worst.begin(), r.worst.end(), size_t{0});
  std::ranges::stable_sort(r.worst, {}, [&](size_t i) { return answers[i].psnr; });
  return r;
}

}  // namespace lathe
