// Which outputs of a model are states: values that its next run gets as inputs.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "lathe/program.hpp"

namespace lathe {

// Pairs by names: "present.*=past.*" pairs each output whose name is the left side, with anything in place of the star, with the input that
// has the same there on the right side. Several patterns are separated by commas; one without a star is a pair. Throws Error (value): a
// pattern without "=" or that pairs nothing, a name that is not there, an input or output in two pairs.
std::vector<StatePair> pair_states(const Graph& graph, std::string_view patterns);
// Under this key of its metadata a model may say which outputs are states, as patterns.
inline constexpr const char* kStatesKey = "lathe.states";
// Pairs that its metadata name, or found: an output and an input of the same dtype and of sizes that fit, whose names are alike but for
// words such as past and present, in and out, old and new; each must be the only one for the other. Nothing where that is not certain.
std::vector<StatePair> find_states(const Graph& graph);

}  // namespace lathe
