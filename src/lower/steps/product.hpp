// Matrix products, MatMul and Gemm, as the families that do them see them.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "lower/fuse/epilogue.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/product_weights.hpp"
#include "ops/narrow_weights.hpp"

namespace lathe::lower {

struct ProductMatch : Match {
  using Match::Match;
  Shape as, bs, os;
  int64_t m = 0, n = 0, k = 0;
  bool transpose_a = false, transpose_b = false;
  float alpha = 1;
  std::vector<int64_t> a_offsets{0}, b_offsets{0};  // by batch, in matrices
  int64_t b_matrices = 1;
  Epilogue epilogue;
  std::optional<ops::NarrowWeights> narrow;  // B as the model keeps it
  ValueId a() const { return node().inputs[0]; }
  ValueId b() const { return node().inputs[1]; }
  int64_t batches() const { return static_cast<int64_t>(a_offsets.size()); }
  int64_t k_stride() const { return transpose_b ? 1 : n; }
  int64_t n_stride() const { return transpose_b ? k : 1; }
};

// Nothing when the group is no such product of floats.
std::unique_ptr<ProductMatch> match_product(const GraphView& view, const Group& group);

// B, where it is a constant that is not quantised: packed, f32 ones times alpha.
struct ConstantPanels {
  kernels::PanelType type = kernels::PanelType::f32;
  Location at;
};
std::optional<ConstantPanels> pack_constant(PlanBuilder& builder, const ProductMatch& match, const MatrixForm& form);

}  // namespace lathe::lower
