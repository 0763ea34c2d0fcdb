// Geometry of values in memory.
#include "lower/plan/location.hpp"

#include <algorithm>

namespace lathe::lower {

std::vector<int> physical_order(int rank, Layout layout) {
  std::vector<int> order;
  for (int i = 0; i < rank; ++i) order.push_back(i);
  if (layout == Layout::channels_last && rank > 2) {
    order.erase(order.begin() + 1);
    order.push_back(1);
  }
  return order;
}

std::vector<int64_t> logical_strides(const Shape& shape, Layout layout) {
  const auto order = physical_order(static_cast<int>(shape.size()), layout);
  std::vector<int64_t> strides(shape.size());
  int64_t run = 1;
  for (int i = static_cast<int>(order.size()) - 1; i >= 0; --i) {
    strides[order[i]] = run;
    run *= shape[order[i]];
  }
  return strides;
}

bool same_in_both(const Shape& s) { return s.size() < 3 || s[1] == 1 || element_count(std::span<const int64_t>(s).subspan(2)) == 1; }

std::vector<int64_t> strides_at(const Location& location, const Shape& shape) {
  return location.strides.empty() ? logical_strides(shape, location.layout) : location.strides;
}

bool is_contiguous(const Shape& shape, std::span<const int64_t> strides, Layout layout) {
  const auto own = logical_strides(shape, layout);
  for (size_t i = 0; i < shape.size(); ++i) {
    if (shape[i] != 1 && own[i] != strides[i]) return false;
  }
  return element_count(shape) > 0;
}

bool inner_is_contiguous(const Shape& shape, std::span<const int64_t> strides, Layout layout) {
  const auto order = physical_order(static_cast<int>(shape.size()), layout);
  const auto last = std::find_if(order.rbegin(), order.rend(), [&](int i) { return shape[i] != 1; });
  return (last == order.rend() || strides[*last] == 1) && std::ranges::all_of(strides, [](int64_t s) { return s >= 0; });
}

int64_t contiguous_run(const Location& location, const Shape& shape) {
  if (location.strides.empty()) return element_count(shape);
  const auto order = physical_order(static_cast<int>(shape.size()), location.layout);
  int64_t run = 1;
  for (auto i = order.rbegin(); i != order.rend(); ++i) {
    if (shape[*i] == 1) continue;
    if (location.strides[*i] != run) break;
    run *= shape[*i];
  }
  return run;
}

std::optional<int64_t> row_pitch(const Location& location, const Shape& shape) {
  if (shape.empty()) return std::nullopt;
  const auto order = physical_order(static_cast<int>(shape.size()), location.layout);
  const auto strides = strides_at(location, shape);
  if (shape[order.back()] != 1 && strides[order.back()] != 1) return std::nullopt;
  int64_t pitch = 0, span = 0;
  for (int i = static_cast<int>(order.size()) - 2; i >= 0; --i) {
    const int64_t size = shape[order[i]], stride = strides[order[i]];
    if (size == 1) continue;
    if (pitch == 0) pitch = stride;
    else if (stride != span) return std::nullopt;
    span = stride * size;
  }
  return pitch > 0 ? pitch : std::max<int64_t>(1, shape[order.back()]);
}

std::vector<int64_t> operand_strides(const Shape& shape, Layout layout, const Shape& out) {
  return operand_strides(shape, Location{kNoBuffer, 0, layout}, out);
}

std::vector<int64_t> operand_strides(const Shape& shape, const Location& location, const Shape& out) {
  const auto own = strides_at(location, shape);
  std::vector<int64_t> strides(out.size(), 0);
  for (size_t i = 0; i < shape.size(); ++i) {
    if (shape[i] != 1) strides[out.size() - shape.size() + i] = own[i];
  }
  return strides;
}

std::optional<std::pair<int64_t, int64_t>> matrix_strides(const Shape& shape, const Location& location, const Shape& out,
                                                          Layout out_layout) {
  const auto order = physical_order(static_cast<int>(out.size()), out_layout);
  const auto dims = permuted(out, order), strides = permuted(operand_strides(shape, location, out), order);
  // All dims but the last must run together as one.
  int64_t row = 0, span = 0;
  bool any = false;
  for (int i = static_cast<int>(dims.size()) - 2; i >= 0; --i) {
    if (dims[i] == 1) continue;
    if (!any) {
      row = strides[i];
      span = row * dims[i];
      any = true;
    } else {
      if (strides[i] != span) return std::nullopt;
      span *= dims[i];
    }
  }
  return std::pair{row, dims.back() == 1 ? int64_t{0} : strides.back()};
}

std::optional<std::vector<int64_t>> reshaped_strides(const Shape& from, std::span<const int64_t> strides, const Shape& to) {
  // Axes of more than one entry, from the last on; each side is taken apart into runs of the same number of elements.
  std::vector<int64_t> out(to.size(), 1);
  auto i = static_cast<int64_t>(from.size()) - 1, o = static_cast<int64_t>(to.size()) - 1;
  while (true) {
    while (i >= 0 && from[i] == 1) --i;
    while (o >= 0 && to[o] == 1) --o;
    if (i < 0 || o < 0) break;
    int64_t in_run = from[i], out_run = to[o], first = o;
    const int64_t step = strides[i];
    int64_t last = i;
    while (in_run != out_run) {
      if (in_run < out_run) {
        while (last > 0 && from[last - 1] == 1) --last;
        if (last == 0) return std::nullopt;
        // The axis before must go on where this one ends.
        int64_t below = last;
        while (from[below] == 1) ++below;
        if (strides[last - 1] != strides[below] * from[below]) return std::nullopt;
        in_run *= from[--last];
      } else {
        if (first == 0) return std::nullopt;
        out_run *= to[--first];
      }
    }
    int64_t stride = step;
    for (int64_t k = o; k >= first; --k) {
      out[k] = stride;
      stride *= to[k];
    }
    i = last - 1;
    o = first - 1;
  }
  return i < 0 && o < 0 ? std::optional(out) : std::nullopt;
}

void join_dims(std::vector<int64_t>& dims, std::vector<std::vector<int64_t>>& strides) {
  std::vector<int64_t> joined;
  std::vector<std::vector<int64_t>> joined_strides(strides.size());
  for (size_t d = 0; d < dims.size(); ++d) {
    if (dims[d] == 1) continue;
    bool merges = !joined.empty();
    for (size_t i = 0; i < strides.size() && merges; ++i) merges = joined_strides[i].back() == strides[i][d] * dims[d];
    if (merges) joined.back() *= dims[d];
    else joined.push_back(dims[d]);
    for (size_t i = 0; i < strides.size(); ++i) {
      if (merges) joined_strides[i].back() = strides[i][d];
      else joined_strides[i].push_back(strides[i][d]);
    }
  }
  dims = std::move(joined);
  strides = std::move(joined_strides);
}

}  // namespace lathe::lower
