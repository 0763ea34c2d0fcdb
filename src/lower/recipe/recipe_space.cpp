#include "lower/recipe/recipe_space.hpp"

#include <algorithm>
#include <cmath>

#include "base/fail.hpp"

namespace lathe::lower {

int64_t fitting(const KnobInfo& k, double value) {
  const double bounded = std::clamp(value, static_cast<double>(k.least), static_cast<double>(k.most));
  const auto v = static_cast<int64_t>(std::llround(bounded / static_cast<double>(k.step))) * k.step;
  if (v < k.least) return v + k.step <= k.most ? v + k.step : k.first;
  if (v > k.most) return v - k.step >= k.least ? v - k.step : k.first;
  return v;
}

void RecipeSpace::knob(std::string_view name, int64_t first, int64_t least, int64_t most, int64_t step, bool reorders_sums) {
  knobs_.push_back({std::string(name), first, std::min(first, least), std::max(first, most), step, reorders_sums});
}

Recipe RecipeSpace::first() const {
  Recipe r{family_, version_, {}};
  for (const KnobInfo& k : knobs_) r.knobs.push_back({k.name, k.first});
  return r;
}

std::string RecipeSpace::fault(const Recipe& r) const {
  if (r.family != family_ || r.version != version_)
    return fmt::format("it is for {} version {}, expected {} version {}", r.family, r.version, family_, version_);
  if (r.knobs.size() != knobs_.size()) return fmt::format("it has {} knobs, expected {}", r.knobs.size(), knobs_.size());
  for (size_t i = 0; i < knobs_.size(); ++i) {
    const KnobInfo& k = knobs_[i];
    const int64_t value = r.knobs[i].value;
    if (r.knobs[i].name != k.name) return fmt::format("knob {} is '{}', expected '{}'", i, r.knobs[i].name, k.name);
    if (value == k.first) continue;
    if (value < k.least || value > k.most || value % k.step != 0)
      return fmt::format("knob '{}' is {}, expected {} to {}{}", k.name, value, k.least, k.most,
                         k.step > 1 ? fmt::format(" in steps of {}", k.step) : "");
  }
  return "";
}

Recipe RecipeSpace::same_bits(const Recipe& other) const {
  Recipe r = first();
  for (size_t i = 0; i < knobs_.size(); ++i) {
    if (!knobs_[i].reorders_sums) continue;
    const auto it = std::ranges::find(other.knobs, knobs_[i].name, &Knob::name);
    if (it != other.knobs.end()) r.knobs[i].value = it->value;
  }
  return r;
}

}  // namespace lathe::lower
