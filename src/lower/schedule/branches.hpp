// Independent steps that are each too small to share among threads are run side by side.
#pragma once

#include "lower/plan/plan.hpp"
#include "lower/recipe/machine.hpp"

namespace lathe::lower {

// Where there are threads for them. Before memory is planned.
void join_branches(Plan& plan, const Machine& machine);

}  // namespace lathe::lower
