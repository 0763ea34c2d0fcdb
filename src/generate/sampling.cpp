// The next token from a row of scores.
#include <algorithm>
#include <cmath>

#include "base/fail.hpp"
#include "lathe/generate.hpp"

namespace lathe {

void check(const Sampling& s) {
  const auto refuse = [](std::string_view what, double is, std::string_view expected) {
    fail(Category::value, "{} is {}, expected {}", what, is, expected);
  };
  if (!(s.temperature >= 0) || !std::isfinite(s.temperature)) refuse("temperature", s.temperature, "0 or more");
  if (s.top_k < 0) refuse("top_k", static_cast<double>(s.top_k), "0 or more");
  if (!(s.top_p > 0) || s.top_p > 1) refuse("top_p", s.top_p, "more than 0 and at most 1");
  if (!(s.repetition > 0) || !std::isfinite(s.repetition)) refuse("repetition", s.repetition, "more than 0");
  if (s.repetition_window < 0) refuse("repetition_window", static_cast<double>(s.repetition_window), "0 or more");
}

namespace {

int64_t highest(std::span<const float> scores) {
  int64_t best = -1;
  for (size_t i = 0; i < scores.size(); ++i) {
    if (scores[i] == scores[i] && (best < 0 || scores[i] > scores[static_cast<size_t>(best)])) best = static_cast<int64_t>(i);
  }
  if (best < 0) fail(Category::value, "none of the {} scores is a number", scores.size());
  return best;
}

}  // namespace

int64_t pick(std::span<const float> scores, std::span<const int64_t> before, const Sampling& s, double u) {
  if (s.temperature == 0 && s.repetition == 1) return highest(scores);
  std::vector<double> x(scores.begin(), scores.end());
  if (s.repetition != 1) {
    const size_t window = s.repetition_window == 0 ? before.size() : std::min(before.size(), static_cast<size_t>(s.repetition_window));
    std::vector<int64_t> last(before.end() - static_cast<ptrdiff_t>(window), before.end());
    std::ranges::sort(last);
    last.erase(std::unique(last.begin(), last.end()), last.end());
    for (const int64_t t : last) {
      if (t < 0 || t >= static_cast<int64_t>(x.size())) continue;
      double& v = x[static_cast<size_t>(t)];
      v = v > 0 ? v / s.repetition : v * s.repetition;
    }
  }
  std::vector<int64_t> order;
  for (size_t i = 0; i < x.size(); ++i) {
    if (x[i] == x[i] && x[i] != -HUGE_VAL) order.push_back(static_cast<int64_t>(i));
  }
  if (order.empty()) fail(Category::value, "none of the {} scores is a number", scores.size());
  const auto likelier = [&](int64_t a, int64_t b) {
    const double va = x[static_cast<size_t>(a)], vb = x[static_cast<size_t>(b)];
    return va != vb ? va > vb : a < b;
  };
  if (s.temperature == 0) return *std::ranges::min_element(order, likelier);
  const bool some = s.top_k > 0 && s.top_k < static_cast<int64_t>(order.size());
  if (some) {
    std::nth_element(order.begin(), order.begin() + s.top_k, order.end(), likelier);
    order.resize(static_cast<size_t>(s.top_k));
    std::ranges::sort(order);
  }
  // In the place of the scores their shares, by token; sums in the order of tokens.
  double top = -HUGE_VAL, sum = 0;
  for (const int64_t t : order) top = std::max(top, x[static_cast<size_t>(t)]);
  std::vector<double> share(x.size());
  for (const int64_t t : order) {
    const double v = x[static_cast<size_t>(t)];
    sum += share[static_cast<size_t>(t)] = v == top ? 1 : std::exp((v - top) / s.temperature);
  }
  // From the likeliest on, as far as is needed: few tokens have most of the sum.
  size_t sorted = 0;
  const auto next = [&](size_t i) {
    if (i >= sorted) {
      const size_t until = std::min(order.size(), std::max<size_t>(64, sorted * 4));
      const auto from = order.begin() + static_cast<ptrdiff_t>(sorted), to = order.begin() + static_cast<ptrdiff_t>(until);
      if (to != order.end()) std::nth_element(from, to, order.end(), likelier);
      std::sort(from, to, likelier);
      sorted = until;
    }
    return order[i];
  };
  double whole = sum;
  size_t count = order.size();
  if (s.top_p < 1) {
    double running = 0;
    for (size_t i = 0; i < order.size(); ++i) {
      running += share[static_cast<size_t>(next(i))];
      if (running >= s.top_p * sum) {
        count = i + 1;
        break;
      }
    }
    whole = running;
  }
  double running = 0;
  for (size_t i = 0; i < count; ++i) {
    const int64_t t = next(i);
    running += share[static_cast<size_t>(t)];
    if (running > u * whole) return t;
  }
  return next(count - 1);
}

}  // namespace lathe
