#include "narrow/ranges.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace lathe::narrowing {

void Met::see(const Tensor& t) {
  float a = 0, b = 0;
  bool finite = true;
  for (float x : t.as<float>()) {
    if (!std::isfinite(x)) {
      finite = false;
      continue;
    }
    a = std::min(a, x);
    b = std::max(b, x);
  }
  odd = odd || !finite;
  low = std::min(low, static_cast<double>(a));
  high = std::max(high, static_cast<double>(b));
}

void Met::spread(const Tensor& t) {
  if (empty()) return;
  counts_.resize(kBins);
  const float from = static_cast<float>(low), step = static_cast<float>(kBins / (high - low));
  for (float x : t.as<float>()) {
    if (x == 0 || !std::isfinite(x)) continue;
    ++counts_[static_cast<size_t>(std::clamp((x - from) * step, 0.0f, kBins - 1.0f))];
  }
}

std::pair<double, double> Met::range(const ByteOptions& o) const {
  if (empty() || counts_.empty() || o.range == RangeChoice::extremes) return {low, high};
  switch (o.range) {
    case RangeChoice::percentile: return within(o.percentile / 100);
    case RangeChoice::squares: return least([this](double a, double b) { return squared_error(a, b); });
    default: return least([this](double a, double b) { return divergence(a, b); });
  }
}

std::pair<double, double> Met::within(double share) const {
  const double outside = std::accumulate(counts_.begin(), counts_.end(), 0.0) * (1 - share) / 2;
  double below = 0, above = 0;
  int first = 0, last = kBins - 1;
  while (first < last && below + counts_[static_cast<size_t>(first)] <= outside) below += counts_[static_cast<size_t>(first++)];
  while (last > first && above + counts_[static_cast<size_t>(last)] <= outside) above += counts_[static_cast<size_t>(last--)];
  const double width = (high - low) / kBins;
  return {std::min(0.0, low + first * width), std::max(0.0, low + (last + 1) * width)};
}

// Both ends drawn in together, then each alone.
template <typename F>
std::pair<double, double> Met::least(F error) const {
  double a = 1, b = 1, best = error(low, high);
  const auto attempt = [&](double x, double y) {
    const double e = error(low * x, high * y);
    if (e < best) best = e, a = x, b = y;
  };
  constexpr int kTries = 90;
  for (int i = 1; i < kTries; ++i) attempt(1 - 0.01 * i, 1 - 0.01 * i);
  for (int round = 0; round < 2; ++round) {
    const double x = a, y = b;
    for (int i = 0; i < 40 && low < 0; ++i) attempt(std::min(1.0, x * (0.6 + 0.02 * i)), b);
    for (int i = 0; i < 40 && high > 0; ++i) attempt(a, std::min(1.0, y * (0.6 + 0.02 * i)));
  }
  return {low * a, high * b};
}

double Met::squared_error(double from, double to) const {
  const double step = (to - from) / 255, inside = step * step / 12;
  double sum = 0;
  for (int bin = 0; bin < kBins; ++bin) {
    const double n = counts_[static_cast<size_t>(bin)];
    if (n == 0) continue;
    const double x = centre(bin), apart = x < from ? from - x : x > to ? x - to : 0;
    sum += n * (apart > 0 ? apart * apart : inside);
  }
  return sum;
}

// Of the numbers within the range, those outside counted at its ends, from the same in 256 levels, each spread evenly over the bins of it
// that hold something.
double Met::divergence(double from, double to) const {
  const double width = (high - low) / kBins;
  const int first = std::clamp(static_cast<int>((from - low) / width), 0, kBins - 1),
            last = std::clamp(static_cast<int>((to - low) / width) - 1, first, kBins - 1);
  std::vector<double> is(counts_.begin() + first, counts_.begin() + last + 1), said(is.size());
  const auto bins = static_cast<int>(is.size());
  constexpr int kLevels = 256;
  for (int level = 0; level < kLevels; ++level) {
    const int begin = level * bins / kLevels, end = (level + 1) * bins / kLevels;
    double sum = 0, filled = 0;
    for (int i = begin; i < end; ++i) sum += is[static_cast<size_t>(i)], filled += is[static_cast<size_t>(i)] > 0;
    for (int i = begin; i < end && filled > 0; ++i) said[static_cast<size_t>(i)] = is[static_cast<size_t>(i)] > 0 ? sum / filled : 0;
  }
  is.front() += std::accumulate(counts_.begin(), counts_.begin() + first, 0.0);
  is.back() += std::accumulate(counts_.begin() + last + 1, counts_.end(), 0.0);
  const double all = std::accumulate(is.begin(), is.end(), 0.0), of_said = std::accumulate(said.begin(), said.end(), 0.0);
  if (all == 0 || of_said == 0) return HUGE_VAL;
  double sum = 0;
  for (size_t i = 0; i < is.size(); ++i) {
    if (is[i] == 0) continue;
    constexpr double kNearlyNone = 1e-6;
    sum += is[i] / all * std::log(is[i] / all / std::max(said[i] / of_said, kNearlyNone / bins));
  }
  return sum;
}

}  // namespace lathe::narrowing
