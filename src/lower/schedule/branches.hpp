// Independent steps that are each too small to share among threads are run side by side.
#pragma once

#include <span>

#include "lower/plan/plan.hpp"
#include "lower/recipe/machine.hpp"

namespace lathe::lower {

// The family of their recipes: whether they run at the same time, a thread each, or one after the other with all threads for each.
inline constexpr std::string_view kSideBySide = "side_by_side";

// Where there are threads for them. Before memory is planned. `recipes`: to choose by, or null; with them, steps tell what there was to
// choose from. `stored`: an archive's, in the order of such steps; those that do not fit are not followed: how fast it is, is all that
// hangs on them. What was chosen is added to the plan's recipes.
void join_branches(Plan& plan, const Machine& machine, const Recipes* recipes = nullptr, std::span<const Recipe> stored = {});

}  // namespace lathe::lower
