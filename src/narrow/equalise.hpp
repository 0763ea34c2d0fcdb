// Scales moved from activations of uneven channels into the weights that read them.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "lathe/narrow.hpp"

namespace lathe::narrowing {

// The values whose channels could be scaled: what layers alone read, made by a layer or a layer normalisation, with nothing but what
// commutes with positive factors (Relu, LeakyRelu, pools) in between.
std::vector<ValueId> evenable(const Graph& graph);
// `most`: the largest magnitude met, by channel, of the values above. The model computes the same but for rounding. Gives how many values
// it did so for.
int equalise(Graph& graph, const std::map<ValueId, std::vector<float>>& most);

// Channels of a value that a layer reads: dim 1 of what a Conv reads, the last dim of what a product does.
void note_channels(const Tensor& t, bool conv, std::vector<float>& most);

}  // namespace lathe::narrowing
