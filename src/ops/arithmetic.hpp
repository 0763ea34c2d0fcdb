// How much arithmetic a node is, whatever its dtype and whoever does it.
#pragma once

#include <optional>

#include "lathe/graph.hpp"

namespace lathe::ops {

// Operations on numbers (a multiply-add counts two), from the sizes that are known; nothing when they are not, for control flow, and for
// ops of other domains. Products, convolutions and recurrent layers are counted exactly, other ops one operation for each number that they
// make or read.
std::optional<double> arithmetic(const Graph& graph, const Node& node);

}  // namespace lathe::ops
