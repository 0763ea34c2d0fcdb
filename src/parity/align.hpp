// Values of two models that stand for the same thing.
#pragma once

#include <map>
#include <string>

#include "lathe/graph.hpp"

namespace lathe::parting {

// Names of `ours` with those of `theirs`: by name, where both have it in the same shape; the rest by their place among nodes of the same op
// whose results have the same shape (the longest common subsequence between values that names have matched).
std::map<std::string, std::string> align(const Graph& ours, const Graph& theirs);

}  // namespace lathe::parting
