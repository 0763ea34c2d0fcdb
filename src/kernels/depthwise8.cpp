#include "kernels/depthwise8.hpp"

#include <algorithm>
#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/depthwise8.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/byte_result.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

inline constexpr int kAtOnce = 4;  // vectors of channels, so that sums need not wait for one another

template <bool kSigned>
HWY_INLINE VF load_bytes(const uint8_t* p) {
  const F32 d;
  const hn::RebindToSigned<F32> di;
  if constexpr (kSigned) return hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(hn::Rebind<int8_t, F32>(), reinterpret_cast<const int8_t*>(p))));
  else return hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(hn::Rebind<uint8_t, F32>(), p)));
}

// Channels [c, c + V vectors) of one pixel.
template <bool kSigned, int V>
HWY_INLINE void sum_taps(const uint8_t* const* taps, int64_t count, const float* w, int64_t pitch, const float* sums, float zero, int64_t c,
                         int32_t* line) {
  const F32 d;
  const hn::RebindToSigned<F32> di;
  const int64_t lanes = hn::Lanes(d);
  VF acc[V];
  LATHE_UNROLL(4)
  for (int v = 0; v < V; ++v) acc[v] = hn::Mul(hn::Set(d, -zero), hn::LoadU(d, sums + c + v * lanes));
  for (int64_t t = 0; t < count; ++t) {
    LATHE_UNROLL(4)
    for (int v = 0; v < V; ++v)
      acc[v] = hn::MulAdd(load_bytes<kSigned>(taps[t] + c + v * lanes), hn::LoadU(d, w + t * pitch + c + v * lanes), acc[v]);
  }
  LATHE_UNROLL(4)
  for (int v = 0; v < V; ++v) hn::StoreU(hn::ConvertTo(di, acc[v]), di, line + v * lanes);
}

template <bool kSigned>
void depthwise(const Depthwise8Arguments& g) {
  constexpr int64_t kLine = 256;  // channels finished at a time
  const int64_t lanes = hn::Lanes(F32());
  const RunTape run = g.epilogue.tape ? run_tape(kHere) : nullptr;
  const float zero = static_cast<float>(g.a_zero);
  const uint8_t* taps[kMostTapsDepthwise8];
  alignas(64) int32_t line[kLine];
  for (int64_t row = g.row_begin; row < g.row_end; ++row) {
    point_rows(*g.window, row, 1, 0, g.taps, int64_t{0}, taps);
    for (int64_t from = 0; from < g.channels; from += kLine) {
      const int64_t until = std::min(g.channels, from + kLine);
      int64_t c = from;
      for (; c + kAtOnce * lanes <= until; c += kAtOnce * lanes)
        sum_taps<kSigned, kAtOnce>(taps, g.taps, g.weights, g.channels, g.weight_sums, zero, c, line + c - from);
      for (; c + lanes <= until; c += lanes)
        sum_taps<kSigned, 1>(taps, g.taps, g.weights, g.channels, g.weight_sums, zero, c, line + c - from);
      for (; c < until; ++c) {
        int32_t sum = 0;
        for (int64_t t = 0; t < g.taps; ++t) {
          const int32_t x = kSigned ? static_cast<int8_t>(taps[t][c]) : static_cast<int32_t>(taps[t][c]);
          sum += (x - g.a_zero) * static_cast<int32_t>(g.weights[t * g.channels + c]);
        }
        line[c - from] = sum;
      }
      if (g.bias && !g.reals) {
        for (int64_t j = from; j < until; ++j)
          line[j - from] = static_cast<int32_t>(static_cast<uint32_t>(line[j - from]) + static_cast<uint32_t>(g.bias[j]));
      }
      finish_line(g, line, row, from, until - from);
    }
    if (run) tape_over_row(g.epilogue, run, g.reals + row * g.ldc, row, 0, g.channels);
  }
}

void Depthwise8Here(const Depthwise8Arguments& g) {
  if (g.a_signed) depthwise<true>(g);
  else depthwise<false>(g);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Depthwise8 depthwise8(Isa isa) { return LATHE_SELECT(isa, Depthwise8Here); }
}  // namespace lathe::kernels
#endif
