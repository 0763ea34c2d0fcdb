#include "tune/search.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "base/fail.hpp"
#include "lower/recipe/recipe_space.hpp"

namespace lathe::tuning {
namespace {

using lower::fitting;

double uniform(std::mt19937_64& r) { return std::generate_canonical<double, 53>(r); }
size_t below(size_t n, std::mt19937_64& r) { return static_cast<size_t>(r() % n); }

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

void Space::forget(std::mt19937_64& r) {
  for (FamilyInfo& f : families_) {
    for (KnobInfo& k : f.knobs) k.first = drawn(k, r);
  }
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

}  // namespace lathe::tuning
