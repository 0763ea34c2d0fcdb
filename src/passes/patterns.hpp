// Patterns of whole layers, each tried at a node that may end one. True: the node has been written anew.
#pragma once

#include "passes/rewriter.hpp"

namespace lathe::passes {

// x cos + turned halves of x times sin: RotaryEmbedding.
bool rotary(Rewriter& r, int n);
// Reshape, Transpose, Reshape that move blocks of pixels into channels or back: DepthToSpace, SpaceToDepth.
bool blocks(Rewriter& r, int n);
// Groups of channels normalised as instances, then scale and shift by channel: GroupNormalization.
bool group_normalisation(Rewriter& r, int n);
// [batch, heads, keys, width] of which each head is said several times, for groups of query heads: before that. kAbsent: it is not so.
ValueId before_repetition(const Rewriter& r, ValueId v, std::vector<int>& inside);

}  // namespace lathe::passes
