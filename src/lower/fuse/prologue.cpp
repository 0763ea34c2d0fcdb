#include "lower/fuse/prologue.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace lathe::lower {
namespace {

constexpr std::string_view kRows = "prologue_rows";

// Rows that the dense kernel reads where they are stand so far apart.
int64_t pitch_of(int64_t length) { return length <= kernels::kNearStride - 16 ? kernels::kNearStride : length; }

}  // namespace

void Prologue::make_all(const StepContext& c, int64_t rows) const {
  constexpr int64_t kTask = 16384;  // elements
  const int64_t each = std::max<int64_t>(1, kTask / std::max<int64_t>(1, length));
  float* to = pointer<float>(c, scratch);
  c.workers.each((rows + each - 1) / each, [&](int64_t task, int) { make(c, task * each, std::min(rows, (task + 1) * each), to); });
}

void Prologue::multiply(const StepContext& c, int64_t task, kernels::DenseArguments& a, kernels::Dense dense) const {
  a.lda = pitch;
  float* rows_of_task = pointer<float>(c, scratch);
  if (block == 0) {
    a.a = rows_of_task;
    return dense(a);
  }
  rows_of_task += task * block * pitch;
  const int64_t begin = a.row_begin, end = a.row_end;
  // Blocks of equal height: a last one of a row or two would be summed in another order.
  const int64_t blocks = (end - begin + block - 1) / block;
  for (int64_t i = 0; i < blocks; ++i) {
    a.row_begin = begin + (end - begin) * i / blocks;
    a.row_end = begin + (end - begin) * (i + 1) / blocks;
    float* first = rows_of_task - a.row_begin * pitch;
    make(c, a.row_begin, a.row_end, first);
    a.a = first;
    dense(a);
  }
}

void prologue_knob(const Match& match, const Machine& machine, int64_t length, const Split& split, RecipeSpace& space) {
  if (match.group->ahead().empty()) return;
  const int64_t tile = kernels::max_rows(machine.isa), least = (8 + tile - 1) / tile * tile;
  const int64_t near_rows = std::max<int64_t>((int64_t{48} << 10) / pitch_of(length) / tile * tile, least);
  // Where panels are shared out, every task reads all rows.
  space.knob(kRows, split.panel_tasks == 1 ? near_rows : 0, 0, std::max<int64_t>(16 * near_rows, 1024 * tile), tile);
}

std::string prologue_fault(const Match& match, const Recipe& recipe) {
  if (match.group->ahead().empty()) return "";
  const int64_t rows = recipe.at(kRows);
  if (rows > 0 && recipe.at("panel_tasks") > 1) return "rows are made block by block where panels are shared out";
  // A block of a few rows would be summed in another order.
  return rows > 0 && rows < 8 ? "blocks of fewer than 8 rows" : "";
}

std::optional<Prologue> bind_prologue(PlanBuilder& builder, const Match& match, const Machine& machine, const Recipe& recipe,
                                      const Shape& whole, Layout layout, int64_t rows, Step& step) {
  const Group& group = *match.group;
  if (group.ahead().empty()) return std::nullopt;
  Prologue p;
  p.tape = bind_row_tape(builder, machine.isa, group.ahead(), kAbsent, whole, layout, step);
  p.length = whole[physical_order(static_cast<int>(whole.size()), layout).back()];
  p.pitch = pitch_of(p.length);
  p.block = recipe.at(kRows);
  const int64_t held = p.block > 0 ? recipe.at("row_tasks") * p.block : rows;
  p.scratch = {builder.scratch(static_cast<size_t>(held * p.pitch) * sizeof(float))};
  step.scratch.push_back(p.scratch.buffer);
  return p;
}

std::string prologue_text(const Group& group, const std::optional<Prologue>& prologue) {
  const size_t ahead = group.ahead().size();
  if (ahead == 0) return "";
  const std::string where = !prologue             ? "into the padded rows"
                            : prologue->block > 0 ? fmt::format("{} rows at a time", prologue->block)
                                                  : "first";
  return fmt::format(", {} before, {}", ahead > 1 ? fmt::format("{} nodes", ahead) : "a node", where);
}

}  // namespace lathe::lower
