// Which nodes become one step.
#pragma once

#include <vector>

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

// Every node is in one group, or is a cast of weights that the products which read it widen themselves. Groups stand in an order in which
// each can run once those before it have. `fuse` false: a node a group.
std::vector<Group> partition(const GraphView& view, Families families, const Machine& machine, bool fuse);

}  // namespace lathe::lower
