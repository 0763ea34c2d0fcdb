#include "kernels/range.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/range.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/quantise.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

LATHE_GIVES_WAY void FindRangeHere(const float* x, int64_t count, Range& range) {
  constexpr int kChains = 4;  // as many minima at a time: each waits for the one before it
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  VF low[kChains], high[kChains];
  for (int k = 0; k < kChains; ++k) low[k] = hn::Set(d, range.low), high[k] = hn::Set(d, range.high);
  const auto widen = [&](int k, VF v) HWY_ATTR {
    // A comparison with NaN is false: it is passed over.
    low[k] = hn::IfThenElse(hn::Lt(v, low[k]), v, low[k]);
    high[k] = hn::IfThenElse(hn::Gt(v, high[k]), v, high[k]);
  };
  int64_t i = 0;
  for (; i + kChains * lanes <= count; i += kChains * lanes) {
    LATHE_UNROLL(4)
    for (int k = 0; k < kChains; ++k) widen(k, hn::LoadU(d, x + i + k * lanes));
  }
  for (; i + lanes <= count; i += lanes) widen(0, hn::LoadU(d, x + i));
  HWY_ALIGN float lows[HWY_MAX_BYTES / 4], highs[HWY_MAX_BYTES / 4];
  for (int k = 0; k < kChains; ++k) {
    hn::Store(low[k], d, lows);
    hn::Store(high[k], d, highs);
    for (int64_t j = 0; j < lanes; ++j) range.low = std::min(range.low, lows[j]), range.high = std::max(range.high, highs[j]);
  }
  for (; i < count; ++i) range.low = std::min(range.low, x[i]), range.high = std::max(range.high, x[i]);
}

LATHE_GIVES_WAY void ToBytesHere(const float* x, int64_t count, float scale, int zero, uint8_t* out) {
  if (scale == 0) {
    std::memset(out, 0, static_cast<size_t>(count));
    return;
  }
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  const Quantiser quantiser(scale, static_cast<float>(zero), 0, 255);
  const auto quantised = [&](VF v) HWY_ATTR { return hn::IfThenElseZero(hn::Eq(v, v), quantiser(v)); };
  int64_t i = 0;
  for (; i + lanes <= count; i += lanes) store_bytes(quantised(hn::LoadU(d, x + i)), out + i);
  if (i < count) {
    HWY_ALIGN float some[HWY_MAX_BYTES / 4] = {};
    std::memcpy(some, x + i, static_cast<size_t>(count - i) * sizeof(float));
    HWY_ALIGN uint8_t bytes[HWY_MAX_BYTES / 4];
    store_bytes(quantised(hn::Load(d, some)), bytes);
    std::memcpy(out + i, bytes, static_cast<size_t>(count - i));
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
FindRange find_range(Isa isa) { return LATHE_SELECT(isa, FindRangeHere); }
ToBytes to_bytes(Isa isa) { return LATHE_SELECT(isa, ToBytesHere); }
}  // namespace lathe::kernels
#endif
