#include "kernels/dense_narrow.hpp"

#include <algorithm>

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

// Bytes ahead of their use that weights are fetched from memory.
inline constexpr int64_t kNarrowAhead = 2048;

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

template <NarrowType T, bool kZeros, int R>
void narrow_panel(const NarrowArguments& g, int64_t panel) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), blocks = narrow_blocks(g.b);
  const uint8_t* HWY_RESTRICT q = g.b.data + panel * g.b.k * kEntry<T>;
  const float* scales = g.b.scales + panel * blocks * kNarrowWidth;
  const float* zeros = kZeros && g.b.zeros ? g.b.zeros + panel * blocks * kNarrowWidth : nullptr;
  VF total[R][kNarrowVectors];
  LATHE_UNROLL(4)
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
        LATHE_UNROLL(4)
        for (int r = 0; r < R; ++r) acc[u][r][v] = hn::Zero(d);
      }
    }
    const float* HWY_RESTRICT a = g.a + block * g.b.block;
    const int64_t length = std::min(g.b.block, g.b.k - block * g.b.block);
    const auto step = [&](int u, int64_t ahead) HWY_ATTR {
      VF w[kNarrowVectors];
      load_numbers<T>(q + ahead * kEntry<T>, w);
      LATHE_UNROLL(4)
      for (int v = 0; v < kNarrowVectors; ++v) {
        if (kZeros) w[v] = hn::Sub(w[v], zero[v]);
      }
      LATHE_UNROLL(4)
      for (int r = 0; r < R; ++r) {
        const VF x = hn::Set(d, a[r * g.lda + ahead]);
        LATHE_UNROLL(4)
        for (int v = 0; v < kNarrowVectors; ++v) acc[u][r][v] = hn::MulAdd(x, w[v], acc[u][r][v]);
      }
    };
    int64_t k = 0;
    for (; k + 4 <= length; k += 4) {
      hwy::Prefetch(q + kNarrowAhead);
      if (kEntry<T> * 4 > 64) hwy::Prefetch(q + kNarrowAhead + 64);
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
      LATHE_UNROLL(4)
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

template <NarrowType T, bool kZeros>
void narrow_rows(const NarrowArguments& g, int64_t panel) {
  switch (g.rows) {
    case 1: return narrow_panel<T, kZeros, 1>(g, panel);
    case 2: return narrow_panel<T, kZeros, 2>(g, panel);
    case 3: return narrow_panel<T, kZeros, 3>(g, panel);
    default: return narrow_panel<T, kZeros, 4>(g, panel);
  }
}

void NarrowProductHere(const NarrowArguments& g) {
  const DenseEpilogue& e = g.epilogue;
  const RunTape tape = e.tape ? run_tape(kHere) : nullptr;
  const bool zeros = g.b.zeros != nullptr || g.b.zero != 0;
  const auto panel_of = g.b.type == NarrowType::i8   ? (zeros ? narrow_rows<NarrowType::i8, true> : narrow_rows<NarrowType::i8, false>)
                        : g.b.type == NarrowType::u8 ? (zeros ? narrow_rows<NarrowType::u8, true> : narrow_rows<NarrowType::u8, false>)
                                                     : (zeros ? narrow_rows<NarrowType::u4, true> : narrow_rows<NarrowType::u4, false>);
  for (int64_t p = g.panel_begin; p < g.panel_end; ++p) {
    panel_of(g, p);
    if (e.bias || e.residual || e.clamp || e.tape)
      finish_columns(g, tape, p * kNarrowWidth, std::min(kNarrowWidth, g.b.n - p * kNarrowWidth));
  }
}

template <NarrowType T>
void widen_numbers(const NarrowPanels& b, int64_t panel, float* HWY_RESTRICT out) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), blocks = narrow_blocks(b);
  const uint8_t* HWY_RESTRICT q = b.data + panel * b.k * kEntry<T>;
  for (int64_t block = 0; block < blocks; ++block) {
    const int64_t at = (panel * blocks + block) * kNarrowWidth, end = std::min(b.k, (block + 1) * b.block);
    for (int64_t k = block * b.block; k < end; ++k, q += kEntry<T>, out += kNarrowWidth) {
      VF w[kNarrowVectors];
      load_numbers<T>(q, w);
      LATHE_UNROLL(4)
      for (int v = 0; v < kNarrowVectors; ++v) {
        w[v] = hn::Sub(w[v], b.zeros ? hn::LoadU(d, b.zeros + at + v * lanes) : hn::Set(d, b.zero));
        hn::StoreU(hn::Mul(w[v], hn::LoadU(d, b.scales + at + v * lanes)), d, out + v * lanes);
      }
    }
  }
}

void WidenPanelHere(const NarrowPanels& b, int64_t panel, float* out) {
  switch (b.type) {
    case NarrowType::i8: return widen_numbers<NarrowType::i8>(b, panel, out);
    case NarrowType::u8: return widen_numbers<NarrowType::u8>(b, panel, out);
    default: return widen_numbers<NarrowType::u4>(b, panel, out);
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
NarrowProduct narrow_product(Isa isa) { return LATHE_SELECT(isa, NarrowProductHere); }
WidenPanel widen_panel(Isa isa) { return LATHE_SELECT(isa, WidenPanelHere); }
}  // namespace lathe::kernels
#endif
