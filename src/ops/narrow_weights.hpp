// Weights of products and convolutions that a model keeps in fewer bits and widens by a node of its own.
#pragma once

#include <optional>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe::ops {

// f16 and bf16, cast to f32; or i8, u8, i4 and u4 through a DequantizeLinear.
struct NarrowWeights {
  // The constant: K x N, or N x K where its products transpose it; of convolutions, which are f16 and bf16 alone, filters x channels x
  // taps.
  ValueId values = kAbsent;
  ValueId scale = kAbsent, zero = kAbsent;  // of a DequantizeLinear
  int64_t block = 0;                        // entries of K that share a scale; 0: all of them
  bool by_column = false;                   // a scale for each entry of N (and block); else one for everything
  bool quantised() const { return scale != kAbsent; }
};

// Of a Cast or DequantizeLinear whose result nothing reads but MatMul and Gemm, as their second operand, or of a Cast whose result nothing
// reads but Conv without groups: these widen such weights as they load them. Nothing for any other node. `readers`: Graph::consumers().
std::optional<NarrowWeights> narrow_weights(const Graph& graph, const Node& node, const std::vector<std::vector<int>>& readers);

}  // namespace lathe::ops
