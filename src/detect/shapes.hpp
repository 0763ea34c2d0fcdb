// How outputs are read as tables of boxes, whatever the order of their axes.
#pragma once

#include <algorithm>
#include <string>
#include <vector>

#include "base/fail.hpp"
#include "lathe/detect.hpp"

namespace lathe::detecting {

inline size_t place_of(const Answers& outputs, const std::string& name) {
  const auto it = std::ranges::find(outputs.names, name);
  if (it == outputs.names.end())
    fail(Category::value, "detect names an output '{}', the model has {}", name, fmt::join(outputs.names, ", "));
  return static_cast<size_t>(it - outputs.names.begin());
}

inline std::string all_of(const Answers& outputs) {
  std::string all;
  for (size_t i = 0; i < outputs.names.size(); ++i)
    all += fmt::format("{}'{}' {} {}", i ? ", " : "", outputs.names[i], to_string(outputs.tensors[i].dtype()),
                       to_string(outputs.tensors[i].shape()));
  return all;
}

// A table of one item: element (row, column) lies at start + row * row_step + column * column_step.
struct Grid {
  int64_t items = 0, rows = 0, columns = 0, row_step = 0, column_step = 0, item_step = 0;
};

// Boxes of a map of cells: (anchor, value, row, column).
struct CellGrid {
  int64_t items = 0, channels = 0, rows = 0, columns = 0;
  bool channels_last = false;
};

// A rank-2, 3 or 4 tensor as [items, rows, columns]; `columns`: how many a row has, 0 when nobody says, then the shorter axis. A middle
// axis of 1 ([n, boxes, 1, 4]) goes. Gives rows 0 when it is none.
inline Grid grid_of(const Shape& shape, int64_t columns, std::optional<bool> turned = {}) {
  Shape s = shape;
  if (s.size() == 4 && s[2] == 1) s.erase(s.begin() + 2);
  if (s.size() == 2) s.insert(s.begin(), 1);
  Grid g;
  if (s.size() != 3) return g;
  g.items = s[0];
  g.item_step = s[1] * s[2];
  const bool transposed = turned ? *turned : columns > 0 ? s[2] != columns && s[1] == columns : s[1] < s[2] && s[1] >= 5;
  if (!turned && columns > 0 && !transposed && s[2] != columns) return g;
  if (transposed) g.rows = s[2], g.columns = s[1], g.row_step = 1, g.column_step = s[2];
  else g.rows = s[1], g.columns = s[2], g.row_step = s[2], g.column_step = 1;
  return g;
}

}  // namespace lathe::detecting
