// What a product multiplies by, when it is a constant: packed for the kernels, in the type that the model keeps it in.
#pragma once

#include "kernels/dense_narrow.hpp"
#include "lower/plan/builder.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/narrow_weights.hpp"

namespace lathe::lower {

// `matrices` of K x N, one after another; element (k, n) of one at k * k_stride + n * n_stride.
struct MatrixForm {
  int64_t matrices = 1, k = 0, n = 0, k_stride = 0, n_stride = 0, width = 0;  // width: of a panel
  bool transposed = false;
  int64_t panels() const { return (n + width - 1) / width; }
  int64_t packed_numbers() const { return panels() * k * width; }  // of one matrix
};

// The f32 constant `b`, times alpha.
Location pack_weights(PlanBuilder& builder, ValueId b, const MatrixForm& form, float alpha);
// One of f16 or bf16.
Location pack_halves(PlanBuilder& builder, ValueId values, const MatrixForm& form);

// Scratch in which panels of 16 bits, or quantised ones, become floats: a room for each task.
struct WidenedPanels {
  Location at;
  int64_t floats = 0;  // of a room; 0: there is none, the kernel widens in registers
  float* room(const StepContext& c, int64_t task) const { return floats > 0 ? pointer<float>(c, at) + task * floats : nullptr; }
};
// Nothing where panels are floats already, or where too few of `rows` pass over each (quantised ones always have it).
WidenedPanels bind_widened(PlanBuilder& builder, kernels::PanelType type, kernels::Isa isa, int64_t rows, int64_t panels, int64_t depth,
                           const Recipe& recipe, int64_t tasks, Step& step);

// The knobs of the dense kernel itself: the height of its register tiles, and how far ahead (bytes) it asks for weights from memory.
void dense_knobs(RecipeSpace& space, kernels::Isa isa);

struct BoundNarrow {
  kernels::NarrowPanels form;  // without its pointers
  Location data, scales, zeros;
  bool has_zeros = false;
  kernels::NarrowPanels panels(const StepContext& c) const;
};
// One of 4 or 8 bits. Adds its buffers to step.reads.
BoundNarrow pack_narrow(PlanBuilder& builder, const ops::NarrowWeights& weights, const MatrixForm& form, Step& step);

}  // namespace lathe::lower
