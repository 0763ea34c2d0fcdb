// Which family does a group, by which recipe: what is remembered first, then the best estimate.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lower/recipe/learned.hpp"
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
  bool learned = false;  // beyond the estimate
};

// Where it came from, beside what else there was.
struct Chosen : Choice {
  std::shared_ptr<const Choosing> choosing;  // only where recipes are given to choose by
};

class Chooser {
 public:
  // `tuned`: recipes by problem, followed where they fit; the source's go before them.
  // `learned`: goes before the estimate where it is sure. They outlive the chooser.
  explicit Chooser(RecipeSource* source = nullptr, const Recipes* tuned = nullptr, const LearnedCosts* learned = nullptr)
      : source_(source), tuned_(tuned), learned_(learned) {}
  // `candidates` is not empty, and all of them can be done in the layouts that were chosen. Throws Error (format) when the source has a
  // recipe that none of them could follow.
  Chosen choose(const std::vector<const Candidate*>& candidates, const Problem& problem);

 private:
  Choice best(const std::vector<const Candidate*>& candidates, const Problem& problem);
  Choice stored(const Recipe& recipe, const std::vector<const Candidate*>& candidates, const Problem& problem) const;
  // What is pinned for this step, in place of what was chosen.
  void pin(Choosing& choosing, Choice& choice, const std::vector<const Candidate*>& candidates, const Problem& problem) const;
  std::optional<Choice> tuned(Choosing& choosing, const std::vector<const Candidate*>& candidates, const Problem& problem) const;
  RecipeSource* source_;
  const Recipes* tuned_;
  const LearnedCosts* learned_;
  // Layers repeat. Which families match may depend on the values of constants, which are no part of a problem.
  std::map<std::pair<Problem, std::vector<std::string_view>>, Choice> chosen_;
};

}  // namespace lathe::lower
