// Which layout each value is made in: the choice with the least bytes moved by layout changes over the whole graph.
#pragma once

#include <vector>

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

// By ValueId. `demands`: of each group, in the same order.
std::vector<Layout> choose_layouts(const GraphView& view, const std::vector<Group>& groups, const std::vector<LayoutDemand>& demands);

}  // namespace lathe::lower
