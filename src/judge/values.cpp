#include <algorithm>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "lathe/judge.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

struct Sums {
  double count = 0, absolute = 0, squared = 0, sum = 0, sum_squared = 0;
  void add(const ValueAnswer& a) {
    if (a.odd) return;
    count += static_cast<double>(a.count);
    absolute += a.absolute;
    squared += a.squared;
    sum += a.sum;
    sum_squared += a.sum_squared;
  }
  double mean_absolute() const { return count > 0 ? absolute / count : NAN; }
  double root_mean_square() const { return count > 0 ? std::sqrt(squared / count) : NAN; }
  double r_squared() const {
    const double spread = count > 0 ? sum_squared - sum * sum / count : 0;
    return spread > 0 ? 1 - squared / spread : NAN;
  }
};

Sums sums_of(std::span<const ValueAnswer> answers, std::span<const size_t> drawn) {
  Sums s;
  for (size_t i : drawn) s.add(answers[i]);
  return s;
}

}  // namespace

ValueAnswer value_answer(std::string item, const Tensor& got, const Tensor& expected) {
  const auto x = widen<double>(got), y = widen<double>(expected);
  if (x.size() != y.size()) fail(Category::shape, "item '{}': the model gives {} values, {} are expected", item, x.size(), y.size());
  ValueAnswer a;
  a.item = std::move(item);
  a.count = static_cast<int64_t>(x.size());
  for (size_t i = 0; i < x.size(); ++i) {
    const double apart = std::fabs(x[i] - y[i]);
    a.odd = a.odd || !std::isfinite(apart);
    a.absolute += apart;
    a.squared += apart * apart;
    a.sum += y[i];
    a.sum_squared += y[i] * y[i];
    a.largest = std::max(a.largest, apart);
  }
  return a;
}

ValueReport judge_values(std::span<const ValueAnswer> answers) {
  ValueReport r;
  r.items = static_cast<int64_t>(answers.size());
  r.odd = std::ranges::count_if(answers, &ValueAnswer::odd);
  const auto measure = [&](double (Sums::*of)() const) {
    return bootstrap(answers.size(), [&](std::span<const size_t> drawn) { return (sums_of(answers, drawn).*of)(); });
  };
  r.mean_absolute = measure(&Sums::mean_absolute);
  r.root_mean_square = measure(&Sums::root_mean_square);
  r.r_squared = measure(&Sums::r_squared);
  r.worst.resize(answers.size());
  std::iota(r.worst.begin(), r.worst.end(), size_t{0});
  std::ranges::stable_sort(r.worst, std::greater<>(), [&](size_t i) {
    const ValueAnswer& a = answers[i];
    return a.odd ? INFINITY : a.absolute / static_cast<double>(std::max<int64_t>(1, a.count));
  });
  return r;
}

Interval compare_values(std::span<const ValueAnswer> first, std::span<const ValueAnswer> second) {
  if (first.size() != second.size())
    fail(Category::value, "{} items of one model cannot be paired with {} of the other", first.size(), second.size());
  return bootstrap(first.size(), [&](std::span<const size_t> drawn) {
    return sums_of(second, drawn).mean_absolute() - sums_of(first, drawn).mean_absolute();
  });
}

}  // namespace lathe
