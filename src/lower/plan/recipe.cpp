#include "lower/plan/recipe.hpp"

#include <algorithm>

#include "base/fail.hpp"

namespace lathe::lower {

int64_t Recipe::at(std::string_view knob) const {
  const auto it = std::ranges::find(knobs, knob, &Knob::name);
  if (it == knobs.end()) fail(Category::internal, "the recipe {} has no knob '{}'", describe(*this), knob);
  return it->value;
}

std::string describe(const Recipe& recipe) {
  std::string text = fmt::format("{}/{}", recipe.family, recipe.version);
  for (const Knob& k : recipe.knobs) text += fmt::format(" {}={}", k.name, k.value);
  return text;
}

}  // namespace lathe::lower
