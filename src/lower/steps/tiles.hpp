// Products and convolutions by tiles of bf16: what their operands are, as the families of both see it.
#pragma once

#include <algorithm>
#include <optional>
#include <string>

#include "kernels/dense_tiles.hpp"
#include "lower/plan/graph_view.hpp"
#include "lower/plan/step.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/narrow_weights.hpp"
#include "ops/support.hpp"
#include "tensor/numbers.hpp"

namespace lathe::lower {

// Whether no weight is NaN or infinity, as far as they are known.
bool finite_weights(const GraphView& view, ValueId v);

// Of a node, its weights as the model keeps them: of 16 bits (or nothing: f32).
inline kernels::TileForm tile_form(const GraphView& view, const Node& node, const std::optional<ops::NarrowWeights>& narrow) {
  if (!narrow || narrow->quantised()) return {};
  const DType dtype = view.dtype(narrow->values);
  return {dtype == DType::f16 ? kernels::PanelType::f16 : kernels::PanelType::bf16,
          node.integer(ops::kRowsLike, 0) == number_of_dtype(dtype)};
}

// Rows that are made by nodes before the product come some at a time, and B would be parted for each of them.
inline bool parts_too_often(const Group& group, const kernels::TileForm& form) { return !group.ahead().empty() && form.products() > 1; }

// Tasks that take turns at rooms of scratch, as many at once as there are rooms. (A lane may have more workers.)
template <typename F>
void each_in_rooms(const StepContext& c, int64_t rooms, int64_t tasks, F&& f) {
  rooms = std::min(rooms, tasks);
  c.workers.each(rooms, [&](int64_t room, int) {
    for (int64_t task = tasks * room / rooms; task < tasks * (room + 1) / rooms; ++task) f(task, room);
  });
}

inline std::string tiles_text(const kernels::TileForm& form) {
  return form.products() == 1 ? "by tiles" : fmt::format("by tiles, {} products for one", form.products());
}

}  // namespace lathe::lower
