// Passes: Graph to Graph. Each reports what it changed.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe::passes {

struct Report {
  std::string pass;
  std::vector<std::string> changes;  // one sentence each
};

// Evaluates nodes whose inputs are all constants, and Shape and Size of known shapes. Results above `limit_bytes` are
// left to run time unless they are no larger than what they are made of.
// `keep_quantised`: weights behind a DequantizeLinear stay the numbers they are.
Report fold_constants(Graph& graph, int64_t limit_bytes = int64_t{64} << 20, bool keep_quantised = false);
// Identity, Dropout in inference, Cast to the same dtype, Transpose that moves nothing.
Report remove_identities(Graph& graph);
// BatchNormalization with constant parameters, and constant factors along the channels, into the Conv, ConvTranspose, Gemm or MatMul before
// them.
Report fold_normalisation(Graph& graph);
// Patterns that exporters write out in elementary ops (normalisations, GELU and its relatives, softmax, attention) become the standard's op
// for each. Attention needs known shapes.
Report recognise(Graph& graph);
// Between DequantizeLinear and QuantizeLinear, moves and maxima are done on the quantised numbers; exact.
Report quantised_moves(Graph& graph);
// Products and convolutions between DequantizeLinear and QuantizeLinear become ops on the quantised numbers. Results may differ by one step
// of the output's scale where the float form rounds the other way.
Report quantised_steps(Graph& graph);
// Weights of 4 and 8 bits behind a DequantizeLinear are turned, and rows of them looked up, as the numbers they are.
Report quantised_weights(Graph& graph);
// Nodes on f16 and bf16 compute in f32, and so do values between them; `round_each`: each rounds its result to what the model declares.
Report widen_halves(Graph& graph, bool round_each);
// Losses, normalisations whose statistics are results too, masks of dropouts: as nodes that have steps.
Report training_forms(Graph& graph);
// Whole numbers of other types than i32 and i64 are computed in these; divisions by what a run brings come behind a look at it.
Report whole_numbers(Graph& graph);
// Ops that few models have become nodes that have steps: convolutions at offsets, affine grids, blocks added back and the like.
Report seldom_ops(Graph& graph);
// Convolutions with several filters a channel, and transposed ones of volumes, by channels or to few filters, become plain convolutions
// and moves. Needs known shapes and weights.
Report convolution_forms(Graph& graph);
// Ops in forms that no step is written for become ops in forms that one is: along the last axis, products for sums over letters, recurrent
// layers with the steps first.
Report usual_forms(Graph& graph);
// Normalisations, softmax and the like on f64, and MeanVarianceNormalization, become reductions and elementwise nodes; products of bytes of
// which neither is a constant, products of floats.
Report written_out(Graph& graph);
// Nodes that compute what another computes already.
Report share_common(Graph& graph);
// Transposes that cancel or join, views of views, slices, pads, casts and factors that change nothing.
Report simplify(Graph& graph);
// Two products by constants in a row become one where that is cheaper.
Report merge_products(Graph& graph);
// A few cheap elementwise nodes on what is in memory anyway, read by several elementwise nodes: each of those gets them for itself, and the
// value in between is neither written nor read. Needs known shapes; after everything that shares.
Report recompute(Graph& graph);
// If on a constant: the branch taken in its place. Loop of a few constant trips: written out.
Report open_control(Graph& graph);
// Tensors that stand in sequences and optionals on their way are taken directly, where it is known which they are.
Report known_sequences(Graph& graph);
// If on a value of the run, whose branches give the same sizes: both stand in the graph, and a choice (ops::kChoice) between their results.
// Steps that only the other branch needs are left out of a run (lower/schedule/choices.cpp). Needs known shapes.
Report inline_branches(Graph& graph);
// Nodes on sizes that are known only while running become subgraphs (ops::kPart), which are compiled for the sizes met. After everything
// else.
Report separate_parts(Graph& graph);
// A state that grows along an axis from run to run.
struct GrowingState {
  ValueId input = kAbsent, output = kAbsent;
  int axis = -1;
};
// Axes of states in a model's order: of each part, which axis of the state each of [batch, heads, positions, width] is; and the axis along
// which parts are stacked (-1: there is one part).
struct StateOrder {
  int stack = -1;
  std::vector<std::vector<int>> parts{{0, 1, 2, 3}};
  bool operator==(const StateOrder&) const = default;
};
// States whose positions are another axis than the third, or that hold keys and values in one: gives way to states that are
// [batch, heads, positions, width] each, which it returns with their orders; the rest stays what it is. Of a graph for one length, with all
// types inferred, before its passes.
std::vector<GrowingState> straighten_states(Graph& graph, const std::vector<GrowingState>& states, std::vector<StateOrder>& orders);
// Who asks for the size of what is made of a state by moving its axes alone, asks for the state's own.
void ask_states_themselves(Graph& graph, const std::vector<GrowingState>& states);
// Attention puts what is new behind states that the lane holds (ops::kHeld) and reads them there: their inputs and outputs go. What keeps it
// from that, or "". Of a graph for one length, after everything else; when it fails the graph is not to be used.
std::string hold_states(Graph& graph, const std::vector<GrowingState>& states);
// Of two graphs that hold states, made for two lengths: makes the first one right for any, by cutting off what hangs on the length. Values
// that the rest reads of that become inputs (`cut`, behind those there are), with dims that change left open. `base_values`: so many values
// the model has itself; `made`: the nodes that make those of them that it has not, of values it has. What keeps it from that, or "".
std::string cut_at_length(Graph& graph, const Graph& other, size_t base_values, std::vector<ValueId>& cut, std::vector<Node>& made);

// The graph in two: what can be made of these inputs alone, once for many runs, and the rest, which takes what the first makes as inputs
// of the same names. Random ops belong to the rest. Throws Error (value): no such input.
struct OnceAndEach {
  Graph once, each;
};
OnceAndEach part_once(const Graph& graph, const std::vector<std::string>& inputs);
// Nodes whose results nobody reads, and constants nobody reads.
Report remove_dead(Graph& graph);
// Keeps only what the named outputs need. Throws Error (value) naming the outputs there are.
Report cut_to_outputs(Graph& graph, const std::vector<std::string>& outputs);

}  // namespace lathe::passes
