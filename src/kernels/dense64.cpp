#include "kernels/dense64.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/dense64.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

#if HWY_HAVE_FLOAT64
inline constexpr int kRows64 = HWY_TARGET == HWY_AVX3 ? 8 : 4;

// R rows by V vectors of columns from j on.
template <int R, int V, typename D>
HWY_INLINE void tile64(D d, const Dense64Arguments& g, int64_t row, int64_t j) {
  const int64_t lanes = hn::Lanes(d);
  hn::Vec<D> acc[R][V];
  LATHE_UNROLL(8)
  for (int r = 0; r < R; ++r) {
    LATHE_UNROLL(2)
    for (int v = 0; v < V; ++v) acc[r][v] = hn::Zero(d);
  }
  const double *a = g.a + row * g.lda, *b = g.b + j;
  for (int64_t k = 0; k < g.depth; ++k, b += g.ldb) {
    hn::Vec<D> bv[V];
    LATHE_UNROLL(2)
    for (int v = 0; v < V; ++v) bv[v] = hn::LoadU(d, b + v * lanes);
    LATHE_UNROLL(8)
    for (int r = 0; r < R; ++r) {
      const auto av = hn::Set(d, a[r * g.lda + k]);
      LATHE_UNROLL(2)
      for (int v = 0; v < V; ++v) acc[r][v] = hn::MulAdd(av, bv[v], acc[r][v]);
    }
  }
  LATHE_UNROLL(8)
  for (int r = 0; r < R; ++r) {
    LATHE_UNROLL(2)
    for (int v = 0; v < V; ++v) hn::StoreU(acc[r][v], d, g.c + (row + r) * g.ldc + j + v * lanes);
  }
}

template <int V, typename D>
HWY_INLINE void strip64(D d, const Dense64Arguments& g, int64_t j) {
  int64_t row = g.row_begin;
  for (; row + kRows64 <= g.row_end; row += kRows64) tile64<kRows64, V>(d, g, row, j);
  for (; row < g.row_end; ++row) tile64<1, V>(d, g, row, j);
}

LATHE_GIVES_WAY void Dense64Here(const Dense64Arguments& g) {
  const hn::ScalableTag<double> d;
  const hn::CappedTag<double, 1> one;
  const int64_t lanes = hn::Lanes(d);
  int64_t j = 0;
  for (; j + 2 * lanes <= g.columns; j += 2 * lanes) strip64<2>(d, g, j);
  for (; j + lanes <= g.columns; j += lanes) strip64<1>(d, g, j);
  for (; j < g.columns; ++j) strip64<1>(one, g, j);
}
#else
// No vectors of doubles by name: a loop that the compiler may turn into some.
LATHE_GIVES_WAY void Dense64Here(const Dense64Arguments& g) {
  for (int64_t row = g.row_begin; row < g.row_end; ++row) {
    double* c = g.c + row * g.ldc;
    for (int64_t j = 0; j < g.columns; ++j) c[j] = 0;
    for (int64_t k = 0; k < g.depth; ++k) {
      const double a = g.a[row * g.lda + k];
      const double* b = g.b + k * g.ldb;
      for (int64_t j = 0; j < g.columns; ++j) c[j] += a * b[j];
    }
  }
}
#endif

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Dense64 dense64(Isa isa) { return LATHE_SELECT(isa, Dense64Here); }
}  // namespace lathe::kernels
#endif
