// Which ops tapes have, and what their attributes and constants are to a tape.
#pragma once

#include <optional>
#include <string_view>
#include <utility>

#include "kernels/tape.hpp"
#include "lathe/graph.hpp"

namespace lathe::lower {

// Whether the node can be part of a tape: f32 (bool for comparisons and logic, bytes where they are quantised), shapes known, an op the
// tape has.
bool tapeable(const Graph& graph, const Node& node);

kernels::TapeType tape_type(DType dtype);
// What a tape with this node computes in: f32 (booleans, bytes and narrow floats too), f64, i32 or i64.
kernels::TapeType compute_of(const Graph& graph, const Node& node);
// Whether a tape can only end with this node: what it makes is converted, and not computed on in floats.
bool ends_tape(const Graph& graph, const Node& node);
// The op of a node of one operand, of two, or of any number folded from the left; nothing when it is none.
std::optional<kernels::TapeOp> unary_tape_op(std::string_view op);
std::optional<kernels::TapeOp> binary_tape_op(std::string_view op);
std::optional<kernels::TapeOp> variadic_tape_op(std::string_view op);

// Whether the value is a constant whose numbers are there (not packed and dropped).
bool constant_here(const Graph& graph, ValueId v);

// Scale and zero point of a QuantizeLinear or DequantizeLinear between f32 and bytes, when both are constants: one for all, or one along an
// axis. `scale` has the shape in which it is broadcast.
struct Quantisation {
  Tensor scale, zero;
  bool is_signed = false;
};
std::optional<Quantisation> quantisation(const Graph& graph, const Node& node);

// Low and high of a Clip whose bounds are attributes or constants; nothing when one is made at run time.
std::optional<std::pair<float, float>> clip_bounds(const Graph& graph, const Node& node);

}  // namespace lathe::lower
