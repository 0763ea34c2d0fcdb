// Elementwise nodes to a tape: a short register program.
#pragma once

#include <optional>
#include <span>
#include <vector>

#include "kernels/tape.hpp"
#include "lower/plan/builder.hpp"

namespace lathe::lower {

// An operand from outside a tape: a value, or a constant that lowering made.
struct TapeSource {
  ValueId value = kAbsent;
  Tensor constant;
  // Shape and type of what it is read from.
  Shape shape(const GraphView& view) const { return value != kAbsent ? view.shape(value) : constant.shape(); }
  kernels::TapeType type(const GraphView& view) const;
  // Where it is; a constant of lowering's own gets a buffer.
  Location locate(PlanBuilder& builder) const;
};

struct BuiltTape {
  kernels::Tape tape;
  std::vector<TapeSource> sources;  // operand i of the tape
};

// Nothing when the tape would be too long or needs too many slots. With `head`, that value is operand 0.
std::optional<BuiltTape> build_tape(const Graph& graph, std::span<const int> nodes, ValueId head = kAbsent);

}  // namespace lathe::lower
