#include "kernels/dense_narrow.hpp"

#include <algorithm>
#include <utility>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/dense_narrow.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/cache_control.h>
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

inline constexpr int kNarrowVectors = kPanelVectors;
inline constexpr int64_t kNarrowWidth = kPanelWidth;

// The numbers of one entry of K, as floats.
template <NarrowType T>
HWY_INLINE void load_numbers(const uint8_t* q, VF (&out)[kNarrowVectors]) {
  const F32 d;
  const hn::Rebind<int32_t, F32> wide;
  const int64_t lanes = hn::Lanes(d);
  if constexpr (T == NarrowType::u4) {
    const hn::Rebind<uint8_t, F32> bytes;
    constexpr int kHalf = kNarrowVectors / 2;
    LATHE_UNROLL(2)
    for (int v = 0; v < kHalf; ++v) {
      const auto both = hn::PromoteTo(wide, hn::LoadU(bytes, q + v * lanes));
      out[v] = hn::ConvertTo(d, hn::And(both, hn::Set(wide, 15)));
      out[v + kHalf] = hn::ConvertTo(d, hn::ShiftRight<4>(both));
    }
  } else {
    LATHE_UNROLL(4)
    for (int v = 0; v < kNarrowVectors; ++v) {
      if constexpr (T == NarrowType::i8) {
        const hn::Rebind<int8_t, F32> bytes;
        out[v] = hn::ConvertTo(d, hn::PromoteTo(wide, hn::LoadU(bytes, reinterpret_cast<const int8_t*>(q) + v * lanes)));
      } else {
        const hn::Rebind<uint8_t, F32> bytes;
        out[v] = hn::ConvertTo(d, hn::PromoteTo(wide, hn::LoadU(bytes, q + v * lanes)));
      }
    }
  }
}

template <NarrowType T>
inline constexpr int64_t kEntry = T == NarrowType::u4 ? kNarrowWidth / 2 : kNarrowWidth;  // bytes

// What follows the sums of a panel's columns.
void finish_columns(const NarrowArguments& g, RunTape tape, int64_t column, int64_t columns) {
  const DenseEpilogue& e = g.epilogue;
  for (int64_t r = 0; r < g.rows; ++r) {
    float* c = g.c + r * g.ldc + column;
    for (int64_t j = 0; j < columns; ++j) {
      float x = c[j];
      if (e.bias) x += e.bias[column + j];
      if (e.residual) x += e.residual[r * e.residual_stride + column + j];
      if (e.clamp) {  // NaN stays
        if (x < e.low) x = e.low;
        if (x > e.high) x = e.high;
      }
      c[j] = x;
    }
    if (e.tape) tape_over_row(e, tape, c, r, column, columns);
  }
}

// Numbers of 4 bits by looking them up in a register of sixteen floats, the common zero point taken off already.
inline constexpr bool kLooksUp = HWY_TARGET == HWY_AVX3;
#if HWY_TARGET == HWY_AVX3
// A lookup takes the four lowest bits of its index and leaves the others out.
HWY_INLINE void look_up(const uint8_t* q, VF table, VF (&out)[kNarrowVectors]) {
  static_assert(kNarrowVectors == 2);
  const __m512i both = _mm512_cvtepu8_epi32(_mm_loadu_si128(reinterpret_cast<const __m128i*>(q)));
  out[0] = VF{_mm512_permutexvar_ps(both, table.raw)};
  out[1] = VF{_mm512_permutexvar_ps(_mm512_srli_epi32(both, 4), table.raw)};
}
#else
HWY_INLINE void look_up(const uint8_t*, VF, VF (&)[kNarrowVectors]) {}
#endif

inline constexpr int kMostRows = HWY_TARGET == HWY_AVX3 ? 8 : 4;  // accumulators are short with more

// kZeros: what load gives has zero points to be taken off yet.
template <NarrowType T, bool kZeros, int R>
void narrow_panel(const NarrowArguments& g, int64_t panel) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), blocks = narrow_blocks(g.b);
  const uint8_t* HWY_RESTRICT q = g.b.data + panel * g.b.k * kEntry<T>;
  const float* scales = g.b.scales + panel * blocks * kNarrowWidth;
  const float* zeros = kZeros && g.b.zeros ? g.b.zeros + panel * blocks * kNarrowWidth : nullptr;
  constexpr bool kTable = kLooksUp && T == NarrowType::u4;
  const VF table = hn::Sub(hn::Iota(d, 0), hn::Set(d, zeros ? 0 : g.b.zero));
  // Sums over all blocks: in memory where registers are short of the accumulators' room.
  VF total[R][kNarrowVectors];
  LATHE_UNROLL(8)
  for (int r = 0; r < R; ++r) {
    LATHE_UNROLL(4)
    for (int v = 0; v < kNarrowVectors; ++v) total[r][v] = hn::Zero(d);
  }
  for (int64_t block = 0; block < blocks; ++block) {
    // One or two rows would wait for their own sums: those of alternate entries run side by side.
    constexpr int U = R > 2 ? 1 : 2;
    VF acc[U][R][kNarrowVectors], zero[kNarrowVectors];
    LATHE_UNROLL(4)
    for (int v = 0; v < kNarrowVectors; ++v) {
      zero[v] = zeros ? hn::LoadU(d, zeros + v * lanes) : hn::Set(d, g.b.zero);
      LATHE_UNROLL(2)
      for (int u = 0; u < U; ++u) {
        LATHE_UNROLL(8)
        for (int r = 0; r < R; ++r) acc[u][r][v] = hn::Zero(d);
      }
    }
    const float* HWY_RESTRICT a = g.a + block * g.b.block;
    const int64_t length = std::min(g.b.block, g.b.k - block * g.b.block);
    const auto step = [&](int u, int64_t ahead) HWY_ATTR {
      VF w[kNarrowVectors];
      if constexpr (kTable) look_up(q + ahead * kEntry<T>, table, w);
      else load_numbers<T>(q + ahead * kEntry<T>, w);
      LATHE_UNROLL(4)
      for (int v = 0; v < kNarrowVectors; ++v) {
        if (kZeros) w[v] = hn::Sub(w[v], zero[v]);
      }
      LATHE_UNROLL(8)
      for (int r = 0; r < R; ++r) {
        const VF x = hn::Set(d, a[r * g.lda + ahead]);
        LATHE_UNROLL(4)
        for (int v = 0; v < kNarrowVectors; ++v) acc[u][r][v] = hn::MulAdd(x, w[v], acc[u][r][v]);
      }
    };
    int64_t k = 0;
    for (; k + 4 <= length; k += 4) {
      hwy::Prefetch(q + g.fetch_ahead);
      if (kEntry<T> * 4 > 64) hwy::Prefetch(q + g.fetch_ahead + 64);
      step(0, 0);
      step(U - 1, 1);
      step(0, 2);
      step(U - 1, 3);
      a += 4;
      q += 4 * kEntry<T>;
    }
    for (; k < length; ++k) {
      step(0, 0);
      ++a;
      q += kEntry<T>;
    }
    LATHE_UNROLL(4)
    for (int v = 0; v < kNarrowVectors; ++v) {
      const VF scale = hn::LoadU(d, scales + v * lanes);
      LATHE_UNROLL(8)
      for (int r = 0; r < R; ++r) {
        VF sum = acc[0][r][v];
        if constexpr (U > 1) sum = hn::Add(sum, acc[1][r][v]);
        total[r][v] = hn::MulAdd(sum, scale, total[r][v]);
      }
    }
    scales += kNarrowWidth;
    if (zeros) zeros += kNarrowWidth;
  }
  const int64_t column = panel * kNarrowWidth, columns = std::min(kNarrowWidth, g.b.n - column);
  for (int r = 0; r < R; ++r) {
    float* c = g.c + r * g.ldc + column;
    for (int v = 0; v < kNarrowVectors; ++v) {
      const int64_t left = columns - v * lanes;
      if (left >= lanes) hn::StoreU(total[r][v], d, c + v * lanes);
      else if (left > 0) store_part(total[r][v], c + v * lanes, left);
    }
  }
}

using PanelOf = void (*)(const NarrowArguments&, int64_t panel);
template <NarrowType T, bool kZeros, int... R>
PanelOf by_rows(int64_t rows, std::integer_sequence<int, R...>) {
  static constexpr PanelOf kAll[]{narrow_panel<T, kZeros, R + 1>...};
  return kAll[rows - 1];
}
template <NarrowType T>
PanelOf panel_of_type(const NarrowArguments& g) {
  constexpr bool kTable = kLooksUp && T == NarrowType::u4;
  constexpr std::make_integer_sequence<int, kMostRows> kAllRows;
  return g.b.zeros != nullptr || (!kTable && g.b.zero != 0) ? by_rows<T, true>(g.rows, kAllRows) : by_rows<T, false>(g.rows, kAllRows);
}

int64_t NarrowRowsHere() { return kMostRows; }

LATHE_GIVES_WAY void NarrowProductHere(const NarrowArguments& g) {
  const DenseEpilogue& e = g.epilogue;
  const RunTape tape = e.tape ? run_tape(kHere) : nullptr;
  const PanelOf panel_of = g.b.type == NarrowType::i8   ? panel_of_type<NarrowType::i8>(g)
                           : g.b.type == NarrowType::u8 ? panel_of_type<NarrowType::u8>(g)
                                                        : panel_of_type<NarrowType::u4>(g);
  for (int64_t p = g.panel_begin; p < g.panel_end; ++p) {
    panel_of(g, p);
    if (e.bias || e.residual || e.clamp || e.tape)
      finish_columns(g, tape, p * kNarrowWidth, std::min(kNarrowWidth, g.b.n - p * kNarrowWidth));
  }
}

template <NarrowType T>
void widen_numbers(const NarrowPanels& b, int64_t panel, int64_t begin, int64_t end, float* HWY_RESTRICT out) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), blocks = narrow_blocks(b);
  const uint8_t* HWY_RESTRICT q = b.data + (panel * b.k + begin) * kEntry<T>;
  constexpr bool kTable = kLooksUp && T == NarrowType::u4;
  const VF table = hn::Sub(hn::Iota(d, 0), hn::Set(d, b.zeros ? 0 : b.zero));
  for (int64_t k = begin; k < end;) {
    const int64_t block = k / b.block, at = (panel * blocks + block) * kNarrowWidth, stop = std::min(end, (block + 1) * b.block);
    VF zero[kNarrowVectors], scale[kNarrowVectors];
    LATHE_UNROLL(4)
    for (int v = 0; v < kNarrowVectors; ++v) {
      zero[v] = b.zeros ? hn::LoadU(d, b.zeros + at + v * lanes) : hn::Set(d, kTable ? 0 : b.zero);
      scale[v] = hn::LoadU(d, b.scales + at + v * lanes);
    }
    for (; k < stop; ++k, q += kEntry<T>, out += kNarrowWidth) {
      VF w[kNarrowVectors];
      if constexpr (kTable) look_up(q, table, w);
      else load_numbers<T>(q, w);
      LATHE_UNROLL(4)
      for (int v = 0; v < kNarrowVectors; ++v) hn::StoreU(hn::Mul(hn::Sub(w[v], zero[v]), scale[v]), d, out + v * lanes);
    }
  }
}

LATHE_GIVES_WAY void WidenPanelHere(const NarrowPanels& b, int64_t panel, int64_t begin, int64_t end, float* out) {
  switch (b.type) {
    case NarrowType::i8: return widen_numbers<NarrowType::i8>(b, panel, begin, end, out);
    case NarrowType::u8: return widen_numbers<NarrowType::u8>(b, panel, begin, end, out);
    default: return widen_numbers<NarrowType::u4>(b, panel, begin, end, out);
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
int64_t narrow_rows(Isa isa) { return LATHE_SELECT(isa, NarrowRowsHere)(); }
NarrowProduct narrow_product(Isa isa) { return LATHE_SELECT(isa, NarrowProductHere); }
WidenPanel widen_panel(Isa isa) { return LATHE_SELECT(isa, WidenPanelHere); }
}  // namespace lathe::kernels
#endif
