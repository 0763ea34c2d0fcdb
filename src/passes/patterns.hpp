// Patterns of whole layers, each tried at a node that may end one. True: the node has been written anew.
#pragma once

#include "passes/rewriter.hpp"

namespace lathe::passes {

// A part of x along its last axis, as a Slice or a Split gives it.
struct Part {
  ValueId x = kAbsent;
  int64_t from = 0, to = 0;
  int node = -1;
};
std::optional<Part> part_of(const Rewriter& r, ValueId v);

// x cos + turned halves of x times sin: RotaryEmbedding.
bool rotary(Rewriter& r, int n);
// Reshape, Transpose, Reshape that move blocks of pixels into channels or back: DepthToSpace, SpaceToDepth.
bool blocks(Rewriter& r, int n);
// Groups of channels normalised as instances, then scale and shift by channel: GroupNormalization.
bool group_normalisation(Rewriter& r, int n);
// [batch, heads, keys, width] of which each head is said several times, for groups of query heads: before that. kAbsent: it is not so.
ValueId before_repetition(const Rewriter& r, ValueId v, std::vector<int>& inside);

// Scores that are replaced where they are hidden: a mask is added instead.
bool hidden_scores(Rewriter& r, int n);
// softmax(q k' scale + masks) v: Attention. With or without the heads joined again behind it.
bool attention(Rewriter& r, int n);

// Cells of recurrent layers written out in products and gates: LSTM and GRU of one step; then cells in a row that share their weights and
// hand their state on, one layer of as many steps.
Report recurrent_cells(Graph& graph);

}  // namespace lathe::passes
