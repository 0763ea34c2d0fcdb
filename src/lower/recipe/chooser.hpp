// Which family does a group, by which recipe: what is remembered first, then the best estimate.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

// Recipes that were chosen before. Not trusted: what it gives is checked.
class RecipeSource {
 public:
  virtual ~RecipeSource() = default;
  // For the next group, in the order of the plan. `same_machine`: it was chosen for as many threads; else only what decides the order of
  // sums is taken from it.
  virtual std::optional<Recipe> next(const Problem& problem) = 0;
  virtual bool same_machine() const = 0;
};

// An archive's: one recipe a group.
class StoredRecipes : public RecipeSource {
 public:
  StoredRecipes(const std::vector<Recipe>& recipes, bool same_machine) : recipes_(recipes), same_machine_(same_machine) {}
  std::optional<Recipe> next(const Problem& problem) override;
  bool same_machine() const override { return same_machine_; }
  bool used_up() const { return at_ == recipes_.size(); }

 private:
  const std::vector<Recipe>& recipes_;
  size_t at_ = 0;
  bool same_machine_;
};

struct Choice {
  size_t candidate = 0;
  Recipe recipe;
};

class Chooser {
 public:
  explicit Chooser(RecipeSource* source = nullptr) : source_(source) {}
  // `candidates` is not empty, and all of them can be done in the layouts that were chosen. Throws Error (format) when the source has a
  // recipe that none of them could follow.
  Choice choose(const std::vector<const Candidate*>& candidates, const Problem& problem);

 private:
  Choice best(const std::vector<const Candidate*>& candidates, const Problem& problem);
  RecipeSource* source_;
  // Layers repeat. Which families match may depend on the values of constants, which are no part of a problem.
  std::map<std::pair<Problem, std::vector<std::string_view>>, Choice> chosen_;
};

}  // namespace lathe::lower
