#include "kernels/few.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/few.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Where a filter's runs of floats lie: in the picture, for each of P pixels, and among its weights.
template <int P>
struct Runs {
  int64_t count = 0, length = 0;
  const float* from[kMostFewTaps * P];
  const float* weights[kMostFewTaps];
};

// Whether the taps of each line of the kernel are one run for this pixel.
HWY_INLINE bool sees_lines(const FewArguments& g, int64_t row) {
  const WindowRows& w = *g.window;
  const int64_t* x = w.x + row % w.out_w * w.kw;
  return w.kw > 1 && x[0] >= 0 && x[w.kw - 1] == x[0] + (w.kw - 1) * g.channels;
}

// Lines of the kernel as one run each, for P pixels of one line that all see them so: fewer pointers, and fewer ends of loops. Lines in the
// padding are left out.
template <int P>
HWY_INLINE void whole_lines(const FewArguments& g, int64_t row, Runs<P>& runs) {
  const WindowRows& w = *g.window;
  const int64_t plane = w.out_h * w.out_w, volume = plane * w.out_d;
  const int64_t* x = w.x + row % w.out_w * w.kw;
  const int64_t oz = row % volume / plane, oy = row % plane / w.out_w;
  const float* base = w.base + row / volume * w.image_stride;
  runs.length = w.kw * g.channels;
  for (int64_t line = 0; line < w.kd * w.kh; ++line) {
    const int64_t z = w.z[oz * w.kd + line / w.kh], y = w.y[oy * w.kh + line % w.kh];
    if ((z | y) < 0) continue;
    for (int p = 0; p < P; ++p) runs.from[runs.count * P + p] = base + z + y + x[p * w.kw];
    runs.weights[runs.count++] = g.weights + line * runs.length;
  }
}

// P pixels from `row` on: their sums share the weights, and need not wait for one another. False, and nothing is done: some see whole lines
// and some do not. How a pixel is summed hangs on itself alone, whatever it is shared out with.
template <int P, int N>
HWY_INLINE bool pixels(const FewArguments& g, int64_t row) {
  const F32 d;
  int whole_ones = 0;
  for (int p = 0; p < P; ++p) whole_ones += sees_lines(g, row + p);
  if (whole_ones != 0 && (whole_ones != P || row % g.window->out_w + P > g.window->out_w)) return false;
  Runs<P> runs;
  if (whole_ones == P) {
    whole_lines(g, row, runs);
  } else {
    runs.count = g.taps, runs.length = g.channels;
    point_rows(*g.window, row, P, 0, g.taps, int64_t{0}, runs.from);
    for (int64_t t = 0; t < g.taps; ++t) runs.weights[t] = g.weights + t * g.channels;
  }
  const int64_t lanes = hn::Lanes(d), length = runs.length, whole = length - length % lanes;
  const auto counted = hn::FirstN(d, static_cast<size_t>(whole + lanes - length));
  const int64_t next = g.taps * g.channels;  // filter
  VF acc[P][N];
  float rest[P][N] = {};
  LATHE_UNROLL(8)
  for (int p = 0; p < P; ++p) {
    LATHE_UNROLL(4)
    for (int f = 0; f < N; ++f) acc[p][f] = hn::Zero(d);
  }
  for (int64_t t = 0; t < runs.count; ++t) {
    const float* const* from = runs.from + t * P;
    const float* w = runs.weights[t];
    for (int64_t c = 0; c < whole; c += lanes) {
      VF x[P];
      LATHE_UNROLL(8)
      for (int p = 0; p < P; ++p) {
        x[p] = hn::LoadU(d, from[p] + c);
#if HWY_TARGET == HWY_AVX3
        asm("" : "+v"(x[p].raw));  // or it is loaded again for each filter
#endif
      }
      LATHE_UNROLL(4)
      for (int f = 0; f < N; ++f) {
        const VF v = hn::LoadU(d, w + f * next + c);
        LATHE_UNROLL(8)
        for (int p = 0; p < P; ++p) acc[p][f] = hn::MulAdd(x[p], v, acc[p][f]);
      }
    }
    if (whole == length) continue;
    if (whole > 0) {
      // The last vector lies over the one before, whose weights are not counted again.
      const int64_t c = length - lanes;
      LATHE_UNROLL(4)
      for (int f = 0; f < N; ++f) {
        const VF v = hn::IfThenZeroElse(counted, hn::LoadU(d, w + f * next + c));
        LATHE_UNROLL(8)
        for (int p = 0; p < P; ++p) acc[p][f] = hn::MulAdd(hn::IfThenZeroElse(counted, hn::LoadU(d, from[p] + c)), v, acc[p][f]);
      }
      continue;
    }
    for (int64_t c = 0; c < length; ++c) {
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
  return true;
}

template <int P, int N>
void rows_by(const FewArguments& g, int64_t& row) {
  for (; row + P <= g.row_end; row += P) {
    if (pixels<P, N>(g, row)) continue;
    for (int64_t one = row; one < row + P; ++one) pixels<1, N>(g, one);
  }
}

template <int N>
void rows_of(const FewArguments& g) {
  int64_t row = g.row_begin;
#if HWY_TARGET == HWY_AVX3
  if constexpr (N <= 3) rows_by<8, N>(g, row);  // registers for twice as many: weights of large windows come from L2
#endif
  rows_by<4, N>(g, row);
  rows_by<1, N>(g, row);
}

LATHE_GIVES_WAY void FewHere(const FewArguments& g) {
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
