// The recipes that a family has for a problem.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "lathe/recipes.hpp"
#include "lower/plan/recipe.hpp"

namespace lathe::lower {

// The value of a knob's range that is next to this one.
int64_t fitting(const KnobInfo& knob, double value);

// The product of its knobs' ranges. A recipe that it holds is safe to run, whoever wrote it; how fast it is, is another matter.
class RecipeSpace {
 public:
  RecipeSpace(std::string_view family, int version) : family_(family), version_(version) {}
  // Widens the range to hold `first`.
  void knob(std::string_view name, int64_t first, int64_t least, int64_t most, int64_t step = 1, bool reorders_sums = false);

  Recipe first() const;
  FamilyInfo info() const { return {family_, version_, knobs_}; }
  // Why the recipe is none of these ("knob 'chunks' is 900, expected 1 to 64"); empty: it is one.
  std::string fault(const Recipe& recipe) const;
  // The first recipe, with those values of `other` that decide the order of sums: what gives the same bits as `other` on another machine.
  Recipe same_bits(const Recipe& other) const;

 private:
  std::string family_;
  int version_;
  std::vector<KnobInfo> knobs_;
};

}  // namespace lathe::lower
