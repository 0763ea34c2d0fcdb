#include "tune/search.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <limits>
#include <sstream>

#include "base/fail.hpp"

namespace lathe::tuning {
namespace {

double uniform(std::mt19937_64& r) { return std::generate_canonical<double, 53>(r); }
size_t below(size_t n, std::mt19937_64& r) { return static_cast<size_t>(r() % n); }
double log2_of(int64_t v) { return v > 0 ? std::log2(static_cast<double>(v)) : -1; }

}  // namespace

Space::Space(std::vector<FamilyInfo> families, bool keep_order) : families_(std::move(families)) {
  if (!keep_order) return;
  for (FamilyInfo& f : families_) {
    for (KnobInfo& k : f.knobs) {
      if (k.reorders_sums) k.least = k.most = k.first;
    }
  }
}

Point Space::first(size_t family) const {
  Point p{family, {}};
  for (const KnobInfo& k : families_[family].knobs) p.values.push_back(k.first);
  return p;
}

std::string Space::text(const Point& p) const {
  const FamilyInfo& f = families_[p.family];
  std::string text = fmt::format("{}/{}", f.family, f.version);
  for (size_t i = 0; i < f.knobs.size(); ++i) text += fmt::format(" {}={}", f.knobs[i].name, p.values[i]);
  return text;
}

Point Space::parse(const std::string& text) const {
  for (size_t i = 0; i < families_.size(); ++i) {
    const FamilyInfo& f = families_[i];
    const std::string head = fmt::format("{}/{}", f.family, f.version);
    if (!text.starts_with(head) || (text.size() > head.size() && text[head.size()] != ' ')) continue;
    Point p{i, {}};
    size_t at = head.size();
    for (const KnobInfo& k : f.knobs) {
      const std::string name = fmt::format(" {}=", k.name);
      if (text.compare(at, name.size(), name) != 0) fail(Category::value, "the recipe '{}' does not say knob '{}'", text, k.name);
      at += name.size();
      int64_t v = 0;
      const auto [end, error] = std::from_chars(text.data() + at, text.data() + text.size(), v);
      if (error != std::errc()) fail(Category::value, "the recipe '{}' has no number for knob '{}'", text, k.name);
      at = static_cast<size_t>(end - text.data());
      p.values.push_back(v);
    }
    if (at != text.size()) fail(Category::value, "the recipe '{}' has knobs that {} does not", text, head);
    return p;
  }
  fail(Category::value, "the recipe '{}' is of no family that can do this", text);
}

double Space::points() const {
  double all = 0;
  for (const FamilyInfo& f : families_) {
    double n = 1;
    for (const KnobInfo& k : f.knobs) n *= static_cast<double>((k.most - k.least) / k.step + 1);
    all += n;
  }
  return all;
}

int64_t Space::fitting(const KnobInfo& k, double value) const {
  const double bounded = std::clamp(value, static_cast<double>(k.least), static_cast<double>(k.most));
  const auto v = static_cast<int64_t>(std::llround(bounded / static_cast<double>(k.step))) * k.step;
  if (v < k.least) return v + k.step <= k.most ? v + k.step : k.first;
  if (v > k.most) return v - k.step >= k.least ? v - k.step : k.first;
  return v;
}

// Even in the logarithm: from 1 to 2 is as far as from 100 to 200.
int64_t Space::drawn(const KnobInfo& k, std::mt19937_64& r) const {
  if (k.most <= k.least) return k.first;
  const double low = static_cast<double>(k.least) + 1, high = static_cast<double>(k.most) + 1;
  return fitting(k, low * std::pow(high / low, uniform(r)) - 1);
}

Point Space::random(std::mt19937_64& r) const {
  Point p = first(below(families_.size(), r));
  for (size_t i = 0; i < p.values.size(); ++i) {
    if (uniform(r) < 0.6) p.values[i] = drawn(families_[p.family].knobs[i], r);
  }
  return p;
}

Point Space::changed(const Point& p, std::mt19937_64& r) const {
  Point q = p;
  const auto& knobs = families_[p.family].knobs;
  std::vector<size_t> free;
  for (size_t i = 0; i < knobs.size(); ++i) {
    if (knobs[i].most > knobs[i].least) free.push_back(i);
  }
  if (free.empty()) return random(r);
  for (int n = uniform(r) < 0.7 ? 1 : 2; n > 0; --n) {
    const size_t i = free[below(free.size(), r)];
    const KnobInfo& k = knobs[i];
    const auto v = static_cast<double>(q.values[i]);
    constexpr double kFactors[]{0.5, 2, 0.75, 1.5, 0.25, 4};
    const double how = uniform(r);
    if (how < 0.6) q.values[i] = fitting(k, std::max(v, 1.0) * kFactors[below(std::size(kFactors), r)]);
    else if (how < 0.8) q.values[i] = fitting(k, v + static_cast<double>(k.step) * (uniform(r) < 0.5 ? -1 : 1));
    else if (how < 0.9) q.values[i] = k.first;
    else q.values[i] = drawn(k, r);
  }
  return q;
}

Point Space::crossed(const Point& a, const Point& b, std::mt19937_64& r) const {
  if (a.family != b.family) return changed(a, r);
  Point q = a;
  for (size_t i = 0; i < q.values.size(); ++i) {
    if (uniform(r) < 0.5) q.values[i] = b.values[i];
  }
  return q;
}

void Encoder::learn(const Space& space) {
  for (const FamilyInfo& f : space.families()) {
    Slots& at = by_family_[f.family];
    at.family = slots_.try_emplace("family " + f.family, slots_.size()).first->second;
    at.knobs.clear();
    for (const KnobInfo& k : f.knobs) {
      at.knobs.push_back(slots_.try_emplace("knob " + k.name, slots_.size()).first->second);
      slots_.try_emplace("change " + k.name, at.knobs.back() + 1);
    }
  }
}

std::vector<double> Encoder::sizes(const std::string& problem, int threads) const {
  std::vector<double> x(features(), std::numeric_limits<double>::quiet_NaN());
  x[0] = threads;
  // The last four dims of what is read first, of what is read next, and of the result; and how much the result is.
  const auto shapes = shapes_in(problem);
  const auto put = [&](size_t at, const std::vector<int64_t>& shape) {
    for (size_t d = 0; d < 4 && d < shape.size(); ++d) x[at + d] = log2_of(shape[shape.size() - 1 - d]);
  };
  if (shapes.empty()) return x;
  put(1, shapes.front());
  if (shapes.size() > 1) put(5, shapes[1]);
  put(9, shapes.back());
  x[13] = 0;
  for (int64_t d : shapes.back()) x[13] += std::max(0.0, log2_of(d));
  return x;
}

void Encoder::set(std::vector<double>& x, const std::string& name, double v) const {
  if (const auto it = slots_.find(name); it != slots_.end()) x[kSizes + it->second] = v;
}

void Encoder::put(std::vector<double>& x, const Space& space, const Point& p) const {
  const FamilyInfo& f = space.families()[p.family];
  const Slots& at = by_family_.at(f.family);
  x[kSizes + at.family] = 1;
  for (size_t i = 0; i < f.knobs.size(); ++i) {
    const double v = log2_of(p.values[i]);
    x[kSizes + at.knobs[i]] = v, x[kSizes + at.knobs[i] + 1] = v - log2_of(f.knobs[i].first);
  }
}

std::vector<double> Encoder::row(const std::string& problem, int threads, const Space& space, const Point& p) const {
  std::vector<double> x = sizes(problem, threads);
  put(x, space, p);
  return x;
}

std::vector<double> Encoder::row(const std::string& problem, int threads, const std::string& recipe) const {
  std::vector<double> x = sizes(problem, threads);
  std::istringstream words(recipe);
  std::string word;
  words >> word;
  set(x, "family " + word.substr(0, word.rfind('/')), 1);
  while (words >> word) {
    const size_t equal = word.find('=');
    int64_t v = 0;
    if (equal == std::string::npos || std::from_chars(word.data() + equal + 1, word.data() + word.size(), v).ec != std::errc()) continue;
    set(x, "knob " + word.substr(0, equal), log2_of(v));
  }
  return x;
}

std::vector<std::vector<int64_t>> shapes_in(const std::string& problem) {
  std::vector<std::vector<int64_t>> shapes;
  const size_t bar = problem.rfind('|');
  size_t at = bar == std::string::npos ? problem.size() : bar;
  while ((at = problem.find('[', at)) != std::string::npos) {
    auto& shape = shapes.emplace_back();
    while (at < problem.size() && problem[at] != ']') {
      int64_t v = 0;
      const char* from = problem.data() + at + 1;
      const auto [end, error] = std::from_chars(from, problem.data() + problem.size(), v);
      if (error == std::errc()) shape.push_back(v);
      at = std::max(at + 1, static_cast<size_t>(end - problem.data()));
    }
  }
  return shapes;
}

}  // namespace lathe::tuning
