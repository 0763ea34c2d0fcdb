// What follows an anchor whose result is a matrix of rows x columns, done before the tile leaves registers or the first cache.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kernels/dense.hpp"
#include "lower/fuse/tape_builder.hpp"

namespace lathe::lower {

// Nodes after the anchor, split into what the micro-kernel does in registers (bias, residual, clamp) and a tape for the rest.
struct Epilogue {
  ValueId scale = kAbsent;         // of whole sums: one, or one a column
  ValueId factor = kAbsent;        // of sums in f32, one a column: behind a convolution whose weights stay narrow
  std::optional<TapeSource> bias;  // one a column
  ValueId residual = kAbsent;
  bool clamp = false;
  float low = 0, high = 0;
  std::optional<BuiltTape> tape;
  std::string text;  // "bias + residual + clamp"
};

// The logical axis of an anchor's result that the columns are: channels, or the last axis of a product.
int columns_axis(const GraphView& view, const Node& anchor);
// Nothing when what follows the anchor does not fit a tape.
std::optional<Epilogue> split_epilogue(const GraphView& view, const Group& group);
// The same for an anchor that adds a bias of its own, an input of its node; with kAbsent it does not. Throws Error (internal) when the
// group was put together although it does not fit.
Epilogue epilogue_of(const GraphView& view, const Group& group, ValueId bias_input);

// An epilogue bound to memory: what a kernel needs to fill a DenseEpilogue while running.
struct BoundEpilogue {
  Location factor, bias, residual;
  bool has_factor = false, has_bias = false, has_residual = false;
  int64_t residual_stride = 0;
  bool clamp = false;
  float low = 0, high = 0;
  kernels::Tape tape;
  std::vector<Location> locations;  // operands 1.. of the tape
  std::vector<int64_t> row_strides, column_strides;
  std::vector<kernels::TapeType> types;
  // `operands` is the caller's memory for kMaxSlots entries, `column` the first column of this call (of a group).
  void fill(const StepContext& c, int64_t column, kernels::DenseEpilogue& e, kernels::TapeOperand* operands) const;
};
// Adds the operands' buffers to step.reads.
BoundEpilogue bind_epilogue(PlanBuilder& builder, const Epilogue& e, ValueId out, Layout layout, Step& step);

}  // namespace lathe::lower
