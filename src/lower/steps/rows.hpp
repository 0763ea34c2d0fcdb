// Softmax, normalisations and reductions: work along rows, as the families that do it see it.
#pragma once

#include <memory>
#include <optional>

#include "kernels/rows.hpp"
#include "lower/fuse/row_tape.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

struct RowForm {
  kernels::RowOp op = kernels::RowOp::softmax;
  int64_t count = 0, length = 0, width = 1;  // reductions along columns: `count` blocks of `length` rows of `width` floats
  Layout in = Layout::natural, out = Layout::natural;
};

struct RowsMatch : Match {
  using Match::Match;
  std::optional<RowForm> natural, last;  // for an input that is so
  bool affine = false;                   // scale, and perhaps a shift: inputs 1 and 2
  kernels::RowArguments arguments;
  const RowForm& form(Layout layout) const { return layout == Layout::channels_last && last ? *last : natural ? *natural : *last; }
  const RowForm& form(const Problem& p) const {
    const Problem::Operation& head = p.operations[static_cast<size_t>(std::max(0, p.anchor))];
    return form(p.operands[static_cast<size_t>(head.inputs[0])].layout);
  }
};

// Along the last axis, with elementwise nodes before and after; or one node along any axes next to one another.
Anchor rows_anchor(const GraphView& view, const Node& node);
std::unique_ptr<RowsMatch> match_rows(const GraphView& view, const Group& group);
LayoutDemand rows_layouts(const RowsMatch& match);

// The rows of a step bound to memory, with the nodes around them.
struct BoundRows {
  kernels::Rows rows = nullptr;
  kernels::RowArguments arguments;
  int64_t count = 0;
  Location input, output, scale, bias;
  bool has_scale = false, has_bias = false;
  std::optional<RowTape> before, after;
  // Where the rows that `before` makes go: to `input`, which others read too; else to the output, when it has rows as long; else to
  // scratch.
  bool kept = false, in_output = false;
  Location scratch;
};
// Adds reads, writes and scratch (so many floats, where it is needed) to the step, and begins its text.
void bind_rows(PlanBuilder& builder, const RowsMatch& match, const RowForm& form, kernels::Isa isa, int64_t scratch_floats, BoundRows& rows,
               Step& step);
// What a step's text says of the nodes around its rows.
std::string tapes_text(const BoundRows& rows);

}  // namespace lathe::lower
