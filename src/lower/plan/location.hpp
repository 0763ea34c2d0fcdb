// Where a value is in memory: which buffer, and how far apart its elements are.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe::lower {

using BufferId = int;
inline constexpr BufferId kNoBuffer = -1;

// natural: row-major in the standard's order. channels_last: axis 1 runs fastest (N, spatial..., C).
enum class Layout { natural, channels_last };

// Invariant: `strides` is empty (contiguous in the order of `layout`) or has one entry an axis, and then what runs fastest in that order is
// still contiguous. No buffer: the value's size is only known at run time (or it holds strings), and it is a Tensor of the lane.
struct Location {
  BufferId buffer = kNoBuffer;
  size_t offset = 0;  // bytes
  Layout layout = Layout::natural;
  std::vector<int64_t> strides = {};  // elements from one index to the next, by axis, where the value is part of a larger one
  bool contiguous() const { return strides.empty(); }
};

// Order of dims from slowest to fastest in memory.
std::vector<int> physical_order(int rank, Layout layout);
// Elements from one index to the next, by axis, of a contiguous value.
std::vector<int64_t> logical_strides(const Shape& shape, Layout layout);
// With one channel or one pixel both layouts are the same bytes.
bool same_in_both(const Shape& shape);

template <typename T>
std::vector<T> permuted(const std::vector<T>& v, const std::vector<int>& order) {
  std::vector<T> out;
  for (int i : order) out.push_back(v[i]);
  return out;
}

// Of a value of this shape at that location.
std::vector<int64_t> strides_at(const Location& location, const Shape& shape);
// Whether elements with these strides fill their memory in the order of the layout.
bool is_contiguous(const Shape& shape, std::span<const int64_t> strides, Layout layout);
// Whether what runs fastest in that order is contiguous.
bool inner_is_contiguous(const Shape& shape, std::span<const int64_t> strides, Layout layout);
// Elements. For elementwise steps, what lies in shorter runs is made contiguous first: a copy costs less than so many calls.
inline constexpr int64_t kShortRun = 32;
// Elements in a contiguous run.
int64_t contiguous_run(const Location& location, const Shape& shape);
// Elements from row to row, a row being what runs fastest, when all rows are equally far apart.
std::optional<int64_t> row_pitch(const Location& location, const Shape& shape);
// Strides with which an operand is read at every index of `out` (logical order; 0 where it is broadcast).
std::vector<int64_t> operand_strides(const Shape& shape, const Location& location, const Shape& out);
std::vector<int64_t> operand_strides(const Shape& shape, Layout layout, const Shape& out);
// Row and column stride of an operand seen from a matrix whose columns are the innermost physical dim of `out`.
std::optional<std::pair<int64_t, int64_t>> matrix_strides(const Shape& shape, const Location& location, const Shape& out,
                                                          Layout out_layout);
// The strides of the same elements in the same order seen as another shape, when there are such.
std::optional<std::vector<int64_t>> reshaped_strides(const Shape& from, std::span<const int64_t> strides, const Shape& to);
// Dims of one entry go, and dims that are contiguous for all operands become one. `strides`: by operand, then by dim.
void join_dims(std::vector<int64_t>& dims, std::vector<std::vector<int64_t>>& strides);

// Where row `row`, counted through `dims`, begins for an operand with these strides (one a dim, then along the row).
inline int64_t row_offset(std::span<const int64_t> dims, const std::vector<int64_t>& strides, int64_t row) {
  int64_t at = 0;
  for (size_t d = dims.size(); d-- > 0; row /= dims[d]) at += row % dims[d] * strides[d];
  return at;
}

}  // namespace lathe::lower
