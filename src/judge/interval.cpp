#include <algorithm>
#include <cmath>
#include <random>

#include "base/fail.hpp"
#include "lathe/judge.hpp"

namespace lathe {

namespace {
constexpr double kZ = 1.959963984540054;  // 97.5 % of a normal distribution lie below
}

Interval share_of(int64_t right, int64_t items) {
  if (items <= 0) return {0, 0, 1};
  const double n = static_cast<double>(items), p = static_cast<double>(right) / n, z2 = kZ * kZ;
  const double middle = (p + z2 / (2 * n)) / (1 + z2 / n), half = kZ / (1 + z2 / n) * std::sqrt(p * (1 - p) / n + z2 / (4 * n * n));
  // At the ends the formula is exact but for rounding.
  return {p, right == 0 ? 0 : std::max(0.0, middle - half), right == items ? 1 : std::min(1.0, middle + half)};
}

Interval bootstrap(size_t items, const std::function<double(std::span<const size_t>)>& measure, uint64_t seed, int draws) {
  std::vector<size_t> drawn(items);
  for (size_t i = 0; i < items; ++i) drawn[i] = i;
  const double value = measure(drawn);
  if (items == 0 || draws < 1) return {value, value, value};
  std::mt19937_64 random(seed);
  std::vector<double> values;
  for (int d = 0; d < draws; ++d) {
    for (size_t& i : drawn) i = random() % items;
    const double v = measure(drawn);
    if (!std::isnan(v)) values.push_back(v);
  }
  if (values.empty()) return {value, value, value};
  std::ranges::sort(values);
  const auto at = [&](double q) { return values[static_cast<size_t>(std::lround(q * static_cast<double>(values.size() - 1)))]; };
  return {value, at(0.025), at(0.975)};
}

PairedShares compare_paired(const std::vector<bool>& first, const std::vector<bool>& second) {
  if (first.size() != second.size())
    fail(Category::value, "{} items of one model cannot be paired with {} of the other", first.size(), second.size());
  PairedShares s;
  s.items = static_cast<int64_t>(first.size());
  for (size_t i = 0; i < first.size(); ++i) {
    s.only_first += first[i] && !second[i];
    s.only_second += second[i] && !first[i];
  }
  if (s.items == 0) return s;
  const double n = static_cast<double>(s.items) + 2, a = static_cast<double>(s.only_first) + 0.5,
               b = static_cast<double>(s.only_second) + 0.5;
  const double middle = (b - a) / n, half = kZ * std::sqrt(std::max(0.0, a + b - (b - a) * (b - a) / n)) / n;
  s.difference = {static_cast<double>(s.only_second - s.only_first) / static_cast<double>(s.items), std::max(-1.0, middle - half),
                  std::min(1.0, middle + half)};
  const int64_t apart = s.only_first + s.only_second, fewer = std::min(s.only_first, s.only_second);
  double tail = 0;
  for (int64_t k = 0; k <= fewer; ++k) {
    const double ways = std::lgamma(static_cast<double>(apart) + 1) - std::lgamma(static_cast<double>(k) + 1) -
                        std::lgamma(static_cast<double>(apart - k) + 1);
    tail += std::exp(ways - static_cast<double>(apart) * std::log(2.0));
  }
  s.p = std::min(1.0, 2 * tail);
  return s;
}

}  // namespace lathe
