// What the families of ArgMax, ArgMin and TopK share: what their nodes select, and which of them it is for.
#pragma once

#include <memory>

#include "kernels/select.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

// Values, or where they stand.
constexpr Numbers selects(DType d) { return {d, d, DType::undefined}; }
inline constexpr Numbers kSelects[]{selects(DType::f32), selects(DType::f64), selects(DType::i32),
                                    selects(DType::i64), selects(DType::u8),  selects(DType::i8)};

struct SelectMatch : Match {
  using Match::Match;
  bool top = false;                          // TopK
  int64_t outer = 1, length = 0, inner = 1;  // rows: `length` elements, `inner` apart
  int64_t most = 1;                          // TopK: k
  // There is a kernel for it; else everything is sorted.
  bool has_kernel() const;
};

// Of f32, f64, i32, i64, u8 or i8.
kernels::SelectNumber select_number(DType dtype);

// Nothing when the group is no selection, or one of nothing.
std::unique_ptr<SelectMatch> match_selection(const GraphView& view, const Group& group);

}  // namespace lathe::lower
