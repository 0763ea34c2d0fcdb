// The step of a product: what it multiplies, how it is split, what comes before and after.
#pragma once

#include <optional>
#include <vector>

#include "lower/fuse/epilogue.hpp"
#include "lower/fuse/prologue.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/product_weights.hpp"

namespace lathe::lower {

class ProductKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  Location a, b, output;
  Location packed;  // constant, or scratch when B is made at run time
  bool pack_while_running = false, transpose_a = false;
  kernels::PanelType b_type = kernels::PanelType::f32;
  WidenedPanels widened_parts;        // of 16-bit and quantised weights
  int64_t slots = 0;                  // of packed matrices: each task packs its batches' own ones, one after another, where they stay near
  Location a_turned;                  // scratch
  Location packed_rows;               // scratch, by task
  int64_t packed_row_floats = 0;      // of each; 0: none
  std::optional<Location> tile_room;  // scratch: so many rooms
  int64_t tile_rooms = 0;
  bool rows_like_b = false;
  int64_t m = 0, n = 0, k = 0, b_k_stride = 0, b_n_stride = 0;
  int64_t a_pitch = 0, out_pitch = 0;  // floats from row to row
  float alpha = 1;
  std::vector<int64_t> a_offsets, b_offsets;  // by batch, in matrices
  int64_t b_matrices = 1, width = 0, panels = 0, k_block = 0, panel_block = 0, tile_rows = 0, fetch_ahead = 0;
  bool from_memory = false;
  Split split;
  std::optional<Prologue> before;
  BoundEpilogue epilogue;
  // Weights of 4 or 8 bits.
  std::optional<BoundNarrow> narrow;
  bool whole_panels = false;  // of these: a few rows pass over them as they are, or they become floats for tiles
  kernels::NarrowProduct multiply_narrow = nullptr;
  kernels::WidenPanel widen = nullptr;
  int64_t narrow_rows = 0, pass_rows = 0;  // that are done so, and of these in one pass
  Location widened;                        // scratch, by task: some panels as floats

  void run(const StepContext& c) const override;

 private:
  // By whole panels of quantised weights.
  void run_narrow(const StepContext& c) const;
};

}  // namespace lathe::lower
