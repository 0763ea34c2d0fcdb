// What the families of ArgMax, ArgMin and TopK share: what their nodes select, and which of them it is for.
#pragma once

#include <memory>

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

struct SelectMatch : Match {
  using Match::Match;
  bool top = false;                          // TopK
  int64_t outer = 1, length = 0, inner = 1;  // rows: `length` elements, `inner` apart
  int64_t most = 1;                          // TopK: k
  // The kernel for few of a row of f32 takes it; else the one for any numbers does.
  bool for_few() const;
};

// Nothing when the group is no selection, or one of nothing.
std::unique_ptr<SelectMatch> match_selection(const GraphView& view, const Group& group);

}  // namespace lathe::lower
