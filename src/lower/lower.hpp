// Lowering: a Graph with known shapes to a Plan.
#pragma once

#include <memory>
#include <vector>

#include "lower/plan/plan.hpp"
#include "lower/recipe/machine.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

struct LowerOptions {
  Machine machine;
  bool fuse = true;
  bool plain = false;  // every node by plain evaluation
  bool winograd = true;
  bool learned = true;  // knobs by what measured recipes taught (recipe/learned.hpp), where it is sure; false: by the estimates alone
  Families only;        // no others, of all tables; empty: all there are
  const Recipes* recipes = nullptr;  // to choose by; with them, steps tell what there was to choose from
};

// What an archive remembers of a plan.
struct Remembered {
  std::vector<Recipe> recipes;   // a group each, in order; then of what runs side by side
  bool same_threads = true;      // chosen for as many threads as these; else only what decides the order of sums is taken from them
  std::shared_ptr<Weights> own;  // packed forms of constants of these shapes alone
};

// `base_constants`: values that are constants in the Program's own graph; their packed forms go to `weights`, those of other constants
// (folded for these shapes) stay with the plan. Throws Error; of category format when `remembered` does not fit the graph.
Plan lower(std::shared_ptr<const Graph> graph, const LowerOptions& options, Weights& weights, const std::vector<bool>& base_constants,
           const Remembered* remembered = nullptr);

}  // namespace lathe::lower
