#include "lower/steps/tiles.hpp"

#include <algorithm>
#include <span>

namespace lathe::lower {

bool finite_weights(const GraphView& view, ValueId v) {
  const auto narrow = view.narrow(v);
  const auto& c = view.graph().values[static_cast<size_t>(narrow ? narrow->values : v)].constant;
  if (!c || c->data() == nullptr) return true;  // not known, or looked at before it was packed
  if (narrow) {
    const unsigned exponent = c->dtype() == DType::f16 ? 0x7c00 : 0x7f80;
    const std::span halves(static_cast<const uint16_t*>(c->data()), static_cast<size_t>(c->size()));
    return std::ranges::none_of(halves, [&](uint16_t h) { return (h & exponent) == exponent; });
  }
  // A sum of zeros unless something is not finite; without a branch for each.
  float sum = 0;
  for (float x : c->as<float>()) sum += x * 0.0f;
  return sum == 0;
}

}  // namespace lathe::lower
