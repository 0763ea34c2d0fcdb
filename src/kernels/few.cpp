#include "kernels/few.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/few.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// P pixels from `row` on: their sums share the weights, and need not wait for one another.
template <int P, int N>
HWY_INLINE void pixels(const FewArguments& g, int64_t row) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), whole = g.channels - g.channels % lanes;
  const auto counted = hn::FirstN(d, static_cast<size_t>(whole + lanes - g.channels));
  const float* taps[kMostFewTaps * P];
  point_rows(*g.window, row, P, 0, g.taps, int64_t{0}, taps);
  VF acc[P][N];
  float rest[P][N] = {};
  LATHE_UNROLL(4)
  for (int p = 0; p < P; ++p) {
    LATHE_UNROLL(4)
    for (int f = 0; f < N; ++f) acc[p][f] = hn::Zero(d);
  }
  for (int64_t t = 0; t < g.taps; ++t) {
    const float* const* from = taps + t * P;
    const float* w = g.weights + t * g.channels;
    const int64_t next = g.taps * g.channels;  // filter
    for (int64_t c = 0; c < whole; c += lanes) {
      VF x[P];
      LATHE_UNROLL(4)
      for (int p = 0; p < P; ++p) x[p] = hn::LoadU(d, from[p] + c);
      LATHE_UNROLL(4)
      for (int f = 0; f < N; ++f) {
        const VF v = hn::LoadU(d, w + f * next + c);
        LATHE_UNROLL(4)
        for (int p = 0; p < P; ++p) acc[p][f] = hn::MulAdd(x[p], v, acc[p][f]);
      }
    }
    if (whole == g.channels) continue;
    if (whole > 0) {
      // The last vector lies over the one before, whose weights are not counted again.
      const int64_t c = g.channels - lanes;
      LATHE_UNROLL(4)
      for (int f = 0; f < N; ++f) {
        const VF v = hn::IfThenZeroElse(counted, hn::LoadU(d, w + f * next + c));
        LATHE_UNROLL(4)
        for (int p = 0; p < P; ++p) acc[p][f] = hn::MulAdd(hn::IfThenZeroElse(counted, hn::LoadU(d, from[p] + c)), v, acc[p][f]);
      }
      continue;
    }
    for (int64_t c = 0; c < g.channels; ++c) {
      for (int p = 0; p < P; ++p) {
        for (int f = 0; f < N; ++f) rest[p][f] += from[p][c] * w[f * next + c];
      }
    }
  }
  const DenseEpilogue& e = g.epilogue;
  for (int p = 0; p < P; ++p) {
    for (int f = 0; f < N; ++f) {
      float v = hn::GetLane(hn::SumOfLanes(d, acc[p][f])) + rest[p][f];
      if (e.bias) v += e.bias[f];
      if (e.residual) v += e.residual[(row + p) * e.residual_stride + f];
      if (e.clamp) v = v < e.low ? e.low : v > e.high ? e.high : v;  // NaN stays
      g.out[(row + p) * g.out_stride + f] = v;
    }
  }
}

template <int N>
void rows_of(const FewArguments& g) {
  int64_t row = g.row_begin;
  for (; row + 4 <= g.row_end; row += 4) pixels<4, N>(g, row);
  for (; row < g.row_end; ++row) pixels<1, N>(g, row);
}

void FewHere(const FewArguments& g) {
  if (g.filters == 1) rows_of<1>(g);
  else if (g.filters == 2) rows_of<2>(g);
  else if (g.filters == 3) rows_of<3>(g);
  else rows_of<4>(g);
  if (g.epilogue.tape)
    tape_over_rows(g.epilogue, run_tape(kHere), g.out + g.row_begin * g.out_stride, g.out_stride, g.row_begin, g.row_end - g.row_begin, 0,
                   g.filters);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Few few_filters(Isa isa) { return LATHE_SELECT(isa, FewHere); }
}  // namespace lathe::kernels
#endif
