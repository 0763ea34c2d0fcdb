// What the families of pools share.
#pragma once

#include <bit>
#include <cmath>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

#include "kernels/pool_any.hpp"
#include "lower/fuse/window.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"

namespace lathe::lower {

struct PoolMatch : Match {
  using Match::Match;
  Shape xs, ys;
  ops::Window window;
  bool average() const { return kind == StepKind::average_pool; }
  // Averages are taken of operands made smaller by the first power of two that is no less than the taps.
  float shrink() const {
    return average() ? std::ldexp(1.0f, -static_cast<int>(std::bit_width(static_cast<uint64_t>(window.taps() - 1)))) : 1.0f;
  }
  std::vector<float> divisors() const {
    std::vector<float> out;
    if (!average()) return out;
    for (int64_t n : ops::average_pool_counts(window, spatial(xs), node().integer("count_include_pad", 0) != 0))
      out.push_back(1.0f / (static_cast<float>(n) * shrink()));
    return out;
  }
};

std::optional<kernels::PoolNumber> number_of(DType d);
int64_t most_pool_tasks(const Machine& machine);
// `any`: of other numbers, or with places.
std::unique_ptr<PoolMatch> match_pool(const GraphView& view, const Group& group, bool any = false);

}  // namespace lathe::lower
