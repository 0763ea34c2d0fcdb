#include <algorithm>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "lathe/judge.hpp"

namespace lathe {
namespace {

double ratio(int64_t a, int64_t b) { return b > 0 ? static_cast<double>(a) / static_cast<double>(b) : 0; }

// Of the counts by class; classes that nobody has or says are left out.
double mean_f1(const std::vector<int64_t>& items, const std::vector<int64_t>& said, const std::vector<int64_t>& right) {
  double sum = 0;
  int64_t classes = 0;
  for (size_t c = 0; c < items.size(); ++c) {
    if (items[c] + said[c] == 0) continue;
    ++classes;
    sum += 2.0 * static_cast<double>(right[c]) / static_cast<double>(items[c] + said[c]);
  }
  return classes > 0 ? sum / static_cast<double>(classes) : 0;
}

}  // namespace

ClassAnswer answer_of(std::string item, int64_t expected, std::span<const double> scores, int most) {
  ClassAnswer a;
  a.item = std::move(item);
  a.expected = expected;
  a.odd = std::ranges::any_of(scores, [](double v) { return std::isnan(v); });
  if (a.odd) return a;
  std::vector<int64_t> order(scores.size());
  std::iota(order.begin(), order.end(), 0);
  const auto kept = static_cast<int64_t>(std::min<size_t>(scores.size(), static_cast<size_t>(std::max(1, most))));
  const auto score = [&](int64_t c) { return scores[static_cast<size_t>(c)]; };
  std::partial_sort(order.begin(), order.begin() + kept, order.end(),
                    [&](int64_t x, int64_t y) { return score(x) != score(y) ? score(x) > score(y) : x < y; });
  order.resize(static_cast<size_t>(kept));
  for (int64_t c : order) a.scores.push_back(score(c));
  a.best = std::move(order);
  return a;
}

ClassReport judge_classes(std::span<const ClassAnswer> answers, const std::vector<std::string>& labels, int k) {
  const size_t classes = labels.size();
  ClassReport r;
  r.items = static_cast<int64_t>(answers.size());
  r.k = k;
  r.confusion.assign(classes * classes, 0);
  std::vector<int64_t> items(classes, 0), said(classes, 0), right(classes, 0);
  const auto count = [&](const ClassAnswer& a) {
    ++items[static_cast<size_t>(a.expected)];
    if (a.best.empty()) return;
    ++said[static_cast<size_t>(a.best.front())];
    right[static_cast<size_t>(a.expected)] += a.right();
  };
  int64_t first = 0, among = 0;
  for (size_t i = 0; i < answers.size(); ++i) {
    const ClassAnswer& a = answers[i];
    const auto inside = [&](int64_t c) { return c >= 0 && c < static_cast<int64_t>(classes); };
    if (!inside(a.expected) || !std::ranges::all_of(a.best, inside))
      fail(Category::value, "item '{}': class {} is not one of the {} labels", a.item, inside(a.expected) ? a.best.front() : a.expected,
           classes);
    count(a);
    first += a.right();
    const auto end = a.best.begin() + std::min<int64_t>(k, static_cast<int64_t>(a.best.size()));
    among += !a.odd && std::find(a.best.begin(), end, a.expected) != end;
    r.odd += a.odd;
    if (!a.best.empty()) ++r.confusion[static_cast<size_t>(a.expected) * classes + static_cast<size_t>(a.best.front())];
    if (!a.right()) r.wrong.push_back(i);
  }
  std::ranges::stable_sort(r.wrong, std::greater<>(),
                           [&](size_t i) { return answers[i].scores.empty() ? -INFINITY : answers[i].scores.front(); });
  r.top_1 = share_of(first, r.items);
  r.top_k = share_of(among, r.items);
  for (size_t c = 0; c < classes; ++c) {
    ClassMeasure m{labels[c], items[c], said[c], right[c], share_of(right[c], items[c]), share_of(right[c], said[c]), 0};
    m.f1 = ratio(2 * right[c], items[c] + said[c]);
    r.classes.push_back(std::move(m));
  }
  r.mean_f1 = bootstrap(answers.size(), [&](std::span<const size_t> drawn) {
    std::ranges::fill(items, 0);
    std::ranges::fill(said, 0);
    std::ranges::fill(right, 0);
    for (size_t i : drawn) count(answers[i]);
    return mean_f1(items, said, right);
  });
  return r;
}

}  // namespace lathe
