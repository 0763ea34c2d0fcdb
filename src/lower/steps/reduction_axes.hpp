// The axes of a reduction, wherever its version of the standard keeps them.
#pragma once

#include "lower/plan/graph_view.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {

// As they are given, not wrapped; empty when none are. Nothing when a run decides on them.
inline std::optional<std::vector<int64_t>> axes_of(const GraphView& view, const Node& n) {
  if (!ops::axes_are_input(n.op, view.version(n))) return n.integers("axes");
  if (!given(n.inputs, 1)) return std::vector<int64_t>();
  if (!view.is_constant(n.inputs[1])) return std::nullopt;
  return integers(view.constant(n.inputs[1]));
}

}  // namespace lathe::lower
