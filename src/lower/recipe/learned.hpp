// What recipes that were measured beforehand taught about knobs, beyond the estimates: where another value is expected to be clearly
// faster.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "kernels/isa.hpp"
#include "lower/recipe/features.hpp"
#include "lower/recipe/recipe_space.hpp"
#include "lower/recipe/trees.hpp"

namespace lathe::lower {

// For one instruction set. It only turns knobs that leave the order of sums alone, of the family that the estimate takes: results keep
// their bits. Says nothing of more threads than it was taught with, nor of families that it has not seen enough of.
class LearnedCosts {
 public:
  LearnedCosts(int most_threads, std::vector<std::string> families, Features features, Trees trees);
  // Throws Error (format): `text` is none that text() made.
  static LearnedCosts read(std::string_view text);
  std::string text() const;

  bool knows(std::string_view family, int threads) const;
  // Expected logarithm of the time by these values of the knobs / the time by the estimate's.
  double expected(const std::string& problem, int threads, const FamilyInfo& family, std::span<const int64_t> values) const;
  // A recipe of the space that is expected to take less time than the first one by `sure` or more.
  std::optional<Recipe> better(const std::string& problem, int threads, const RecipeSpace& space, double sure = kSure) const;

  // Less is within what the model does not know (scripts/cost_model shows what other values would have given).
  static constexpr double kSure = 0.1;

 private:
  int most_threads_ = 0;
  std::vector<std::string> families_;
  Features features_;
  Trees trees_;
};

// What ships with the library; null where nothing was taught.
const LearnedCosts* learned_costs(kernels::Isa isa);

}  // namespace lathe::lower
