// What the forms of narrowing share: initializers of a model, subgraphs included.
#pragma once

#include <map>

#include "lathe/narrow.hpp"

namespace lathe::narrowing {

// Of all initializers, those in subgraphs too.
int64_t initializer_bytes(const Graph& graph);

// Weights that subgraphs alone read, kept as halves behind a Cast where they are read; what was done is added to the report. `halves`:
// values that are there as halves already.
void halve_bodies(Graph& graph, DType to, const std::map<ValueId, ValueId>& halves, NarrowReport& report);

}  // namespace lathe::narrowing
