// Why nodes are one step, and why no more of them: sentences for people.
#pragma once

#include <string>
#include <vector>

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

std::string why(const GraphView& view, const Group& group);
// `owner`: by node, the group of several nodes that it is in; -1: none.
std::string why_not(const GraphView& view, Families families, const Group& group, const std::vector<int>& owner, bool fuse);

}  // namespace lathe::lower
