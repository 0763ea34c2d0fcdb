// Arithmetic on dims of which some are names: results are expressions in a normal form, so that equal sizes have equal texts.
//
//   batch, seq + 1, 2*seq + past, floor((height - 1)/2) + 1, batch*heads
//
// What does not fit the form, or grows too long, is unknown.
#pragma once

#include <cstdint>
#include <map>
#include <string>

#include "lathe/graph.hpp"

namespace lathe {

// Throw Error (shape) when known sizes overflow.
Dim sum(const Dim& a, const Dim& b);
Dim difference(const Dim& a, const Dim& b);
Dim product(const Dim& a, const Dim& b);
// Rounded down; `by` > 0.
Dim quotient(const Dim& a, int64_t by);
// Whether it is a name alone, as a model gives it, and no expression of ours.
bool is_name(const Dim& dim);
// With sizes in place of names; the dim itself where a name it needs is not among them, or where the size would be negative.
Dim bound(const Dim& dim, const std::map<std::string, int64_t>& sizes);

}  // namespace lathe
