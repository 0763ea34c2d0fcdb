// The narrow forms in which exporters write a network, made from its f32 form.
#pragma once

#include <lathe/lathe.hpp>

namespace lathe::networks {

// Weights and activations in f16 or bf16. With `casts` the inputs and outputs stay f32, and a Cast stands next to each.
Graph halved(Graph graph, DType to = DType::f16, bool casts = false);

// Convolutions and products by constants as DynamicQuantizeLinear, ConvInteger or MatMulInteger, Cast, Mul and Add; weights are i8, one
// scale for all.
Graph dynamically_quantised(Graph graph);

// Weights of products alone, in i4 by blocks of 32 along K or in i8 by a scale a column, each behind a DequantizeLinear.
Graph weights_quantised(Graph graph, int bits);

// QuantizeLinear and DequantizeLinear around convolutions, products by constants, pools, sums and joins; weights are i8 with a scale a
// filter, activations u8 by the ranges that values take in a run on random inputs.
Graph quantised(Graph graph);

}  // namespace lathe::networks
