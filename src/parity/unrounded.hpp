// Models that round to a few bits between their nodes, without that.
#pragma once

#include <map>
#include <string>

#include "lathe/graph.hpp"

namespace lathe::parting {

struct Unrounded {
  Graph graph;                            // QuantizeLinear and DequantizeLinear between nodes pass on what they are given
  std::map<std::string, Graph> rounding;  // by the value that was rounded: what that does to it, as a model of one input and output
};

// Weights stay as they are. No rounding: there is none between nodes, or numbers of a few bits are computed with as such (a product of
// bytes, an output that is one).
Unrounded unrounded(const Graph& graph);

}  // namespace lathe::parting
