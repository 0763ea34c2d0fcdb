#include "kernels/pool8.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/pool8.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"
#include "kernels/taps.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Channels from c on, as many vectors of `D` as fit; gives where they end.
template <class D>
HWY_INLINE int64_t largest(D d, const uint8_t* const* taps, int64_t count, int64_t c, int64_t channels, uint8_t* out) {
  using T = hn::TFromD<D>;
  const int64_t lanes = hn::Lanes(d);
  for (; c + lanes <= channels; c += lanes) {
    const auto load = [&](int64_t t) HWY_ATTR { return hn::LoadU(d, reinterpret_cast<const T*>(taps[t] + c)); };
    auto most = load(0);
    for (int64_t t = 1; t < count; ++t) most = hn::Max(most, load(t));
    hn::StoreU(most, d, reinterpret_cast<T*>(out + c));
  }
  return c;
}

template <typename T>
void pool(const Pool8Arguments& g) {
  const uint8_t* taps[kMostTapsPool8];
  Taps<kMostTapsPool8> pixels(*g.window, g.taps, g.row_begin);
  for (int64_t row = g.row_begin; row < g.row_end; ++row) {
    pixels.next(taps);
    uint8_t* out = g.out + row * g.out_stride;
    int64_t c = largest(hn::ScalableTag<T>(), taps, g.taps, 0, g.channels, out);
    c = largest(hn::CappedTag<T, 16>(), taps, g.taps, c, g.channels, out);
    largest(hn::CappedTag<T, 1>(), taps, g.taps, c, g.channels, out);
  }
}

LATHE_GIVES_WAY void Pool8Here(const Pool8Arguments& g) {
  if (g.is_signed) pool<int8_t>(g);
  else pool<uint8_t>(g);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Pool8 pool8(Isa isa) { return LATHE_SELECT(isa, Pool8Here); }
}  // namespace lathe::kernels
#endif
