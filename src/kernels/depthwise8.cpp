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

inline constexpr int kPixels = 6;      // at a time: their sums need not wait for one another, and share the weights
inline constexpr int64_t kLine = 256;  // channels finished at a time

template <bool kSigned>
HWY_INLINE VF load_bytes(const uint8_t* p) {
  const F32 d;
  const hn::RebindToSigned<F32> di;
  if constexpr (kSigned)
    return hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(hn::Rebind<int8_t, F32>(), reinterpret_cast<const int8_t*>(p))));
  else return hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(hn::Rebind<uint8_t, F32>(), p)));
}

// A vector of channels, from c on, of P pixels; their taps are P pointers apart.
template <bool kSigned, int P>
HWY_INLINE void sum_taps(const Depthwise8Arguments& g, const uint8_t* const* taps, int64_t c, int32_t* lines) {
  const F32 d;
  const hn::RebindToSigned<F32> di;
  const VF start = hn::Mul(hn::Set(d, -static_cast<float>(g.a_zero)), hn::LoadU(d, g.weight_sums + c));
  VF acc[P];
  LATHE_UNROLL(8)
  for (int r = 0; r < P; ++r) acc[r] = start;
  for (int64_t t = 0; t < g.taps; ++t) {
    const VF w = hn::LoadU(d, g.weights + t * g.channels + c);
    LATHE_UNROLL(8)
    for (int r = 0; r < P; ++r) acc[r] = hn::MulAdd(load_bytes<kSigned>(taps[t * P + r] + c), w, acc[r]);
  }
  LATHE_UNROLL(8)
  for (int r = 0; r < P; ++r) hn::StoreU(hn::ConvertTo(di, acc[r]), di, lines + r * kLine);
}

template <bool kSigned, int P>
HWY_INLINE void pixels(const Depthwise8Arguments& g, int64_t row) {
  const hn::RebindToSigned<F32> di;
  const int64_t lanes = hn::Lanes(F32());
  const uint8_t* taps[kMostTapsDepthwise8 * P];
  alignas(64) int32_t lines[kLine * P];
  point_rows(*g.window, row, P, 0, g.taps, int64_t{0}, taps);
  for (int64_t from = 0; from < g.channels; from += kLine) {
    const int64_t until = std::min(g.channels, from + kLine);
    int64_t c = from;
    for (; c + lanes <= until; c += lanes) sum_taps<kSigned, P>(g, taps, c, lines + c - from);
    for (; c < until; ++c) {
      for (int r = 0; r < P; ++r) {
        int32_t sum = 0;
        for (int64_t t = 0; t < g.taps; ++t) {
          const uint8_t* p = taps[t * P + r] + c;
          sum += ((kSigned ? static_cast<int8_t>(*p) : static_cast<int32_t>(*p)) - g.a_zero) *
                 static_cast<int32_t>(g.weights[t * g.channels + c]);
        }
        lines[r * kLine + c - from] = sum;
      }
    }
    for (int r = 0; g.bias && !g.reals && r < P; ++r) {
      for (int64_t j = from; j < until; ++j)
        lines[r * kLine + j - from] =
            static_cast<int32_t>(static_cast<uint32_t>(lines[r * kLine + j - from]) + static_cast<uint32_t>(g.bias[j]));
    }
    int64_t done = from;
    for (; g.out && done + lanes <= until; done += lanes) {
      const ByteColumns columns(g, done);
      const int32_t* line = lines + done - from;
      uint8_t* out = g.out + row * g.ldc + done;
      const auto write = [&](int r) HWY_ATTR { return columns.write(hn::LoadU(di, line + r * kLine), out + r * g.ldc); };
      auto far = ByteColumns::all();
      for (int r = 0; r < P; ++r) far = hn::And(far, write(r));
      for (int r = 0; HWY_UNLIKELY(!ByteColumns::all_true(far)) && r < P; ++r) {
        if (!ByteColumns::all_true(write(r))) requantise_exactly(g, line + r * kLine, out + r * g.ldc, done, lanes);
      }
    }
    for (int r = 0; r < P && done < until; ++r) finish_line(g, lines + r * kLine + done - from, row + r, done, until - done);
  }
}

template <bool kSigned>
void depthwise(const Depthwise8Arguments& g) {
  const RunTape run = g.epilogue.tape ? run_tape(kHere) : nullptr;
  int64_t row = g.row_begin;
  for (; row + kPixels <= g.row_end; row += kPixels) pixels<kSigned, kPixels>(g, row);
  for (; row < g.row_end; ++row) pixels<kSigned, 1>(g, row);
  if (!run) return;
  tape_over_rows(g.epilogue, run, g.reals + g.row_begin * g.ldc, g.ldc, g.row_begin, g.row_end - g.row_begin, 0, g.channels);
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
