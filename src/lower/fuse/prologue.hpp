// Elementwise nodes before a product: the rows it reads are made block by block, where it finds them without a copy, or all of them first.
#pragma once

#include <optional>
#include <string>

#include "kernels/dense.hpp"
#include "lower/fuse/row_tape.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

struct Prologue {
  RowTape tape;
  Location scratch;
  int64_t length = 0, pitch = 0;  // of a row; floats from row to row
  int64_t block = 0;              // rows made together, for each task; 0: all of them, before any task multiplies
  // Rows [begin, end) to where row 0 would stand at `to`.
  void make(const StepContext& c, int64_t begin, int64_t end, float* to) const {
    for (int64_t row = begin; row < end; ++row) tape.run(c, row, length, to + row * pitch, false);
  }
  void make_all(const StepContext& c, int64_t rows) const;
  // A task of the product: its rows are made, then multiplied.
  void multiply(const StepContext& c, int64_t task, kernels::DenseArguments& a, kernels::Dense dense) const;
};

// Adds the knob 'prologue_rows' for rows of this length when the group has nodes ahead. `split`: how rows and panels are shared out.
void prologue_knob(const Match& match, const Machine& machine, int64_t length, const Split& split, RecipeSpace& space);
// Why the recipe's knob does not go with its split.
std::string prologue_fault(const Match& match, const Recipe& recipe);
// Nothing when the group has no nodes ahead. `rows`: of `whole`, a row being what runs fastest in the layout.
std::optional<Prologue> bind_prologue(PlanBuilder& builder, const Match& match, const Machine& machine, const Recipe& recipe,
                                      const Shape& whole, Layout layout, int64_t rows, Step& step);
// ", 3 nodes before, 14 rows at a time".
std::string prologue_text(const Group& group, const std::optional<Prologue>& prologue);

}  // namespace lathe::lower
