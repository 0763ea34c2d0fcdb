// What a run need not do.
#pragma once

#include "lower/plan/plan.hpp"

namespace lathe::lower {

// Gives steps whose results only one side of choices reads their guards, and puts them behind what makes the conditions. Before memory is
// planned and steps are joined.
void leave_out(Plan& plan);

}  // namespace lathe::lower
