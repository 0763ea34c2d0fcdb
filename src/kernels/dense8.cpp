#include "kernels/dense8.hpp"

#include <algorithm>
#include <array>
#include <cstring>
#include <utility>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/dense8.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/cache_control.h>
#include <hwy/highway.h>

#include "kernels/byte_result.inl.hpp"
#include "kernels/probe.hpp"
#include "kernels/tiles.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

using I32 = hn::ScalableTag<int32_t>;
using VI = hn::Vec<I32>;

#if HWY_TARGET == HWY_AVX3
inline constexpr int kRows8 = 14, kVectors8 = 2;
#elif HWY_TARGET == HWY_SCALAR
inline constexpr int kRows8 = 4, kVectors8 = 4;
#elif HWY_TARGET == HWY_NEON
inline constexpr int kRows8 = 8, kVectors8 = 2;
#else
inline constexpr int kRows8 = 6, kVectors8 = 2;
#endif
inline constexpr int64_t kLanes8 = HWY_TARGET == HWY_SCALAR ? 1 : static_cast<int64_t>(hn::MaxLanes(I32()));
inline constexpr int64_t kWidth8 = kVectors8 * kLanes8;

// Rows of A stand side by side, in groups of 32 bits; an odd number of lines apart.
inline constexpr int64_t kMostGroups = 512, kNearGroups = kMostGroups + 16;
inline constexpr int64_t kMostTaps8 = 64, kMostPanels8 = 16;

// Groups of four bytes of A are unsigned for x86's instruction and signed for ARM's; those of B are signed. Bytes of the other kind are
// moved by 128, and their zero point with them.
inline constexpr bool kSignedGroups = HWY_TARGET == HWY_NEON;

// sum + the products of the group at `a` with each lane's group in `b`, added up.
template <bool kBytes>
HWY_INLINE VI add_products(VI sum, const int32_t* a, VI b) {
#if HWY_TARGET == HWY_AVX3
  if constexpr (kBytes) {
    __m512i s = sum.raw;
    asm("vpdpbusd %2, %1, %0" : "+v"(s) : "v"(_mm512_set1_epi32(*a)), "v"(b.raw));
    return VI{s};
  } else {
    return hn::Add(sum, VI{_mm512_madd_epi16(_mm512_set1_epi32(*a), b.raw)});
  }
#elif HWY_TARGET == HWY_AVX2
  return hn::Add(sum, VI{_mm256_madd_epi16(_mm256_set1_epi32(*a), b.raw)});
#elif HWY_TARGET == HWY_SSE4
  return hn::Add(sum, VI{_mm_madd_epi16(_mm_set1_epi32(*a), b.raw)});
#elif HWY_TARGET == HWY_NEON
  if constexpr (kBytes) {
    int32x4_t s = sum.raw;
    asm(".arch armv8.2-a+dotprod\n\tsdot %0.4s, %1.16b, %2.16b" : "+w"(s) : "w"(vdupq_n_s32(*a)), "w"(b.raw));
    return VI(s);
  }
  const int16x8_t x = vreinterpretq_s16_s32(vdupq_n_s32(*a)), y = vreinterpretq_s16_s32(b.raw);
  return hn::Add(sum, VI(vpaddq_s32(vmull_s16(vget_low_s16(x), vget_low_s16(y)), vmull_high_s16(x, y))));
#elif HWY_TARGET == HWY_WASM
  return hn::Add(sum, VI{wasm_i32x4_dot_i16x8(wasm_i32x4_splat(*a), b.raw)});
#else
  const int32_t x = *a, y = hn::GetLane(b);
  const auto half = [](int32_t v, int i) { return static_cast<int32_t>(static_cast<int16_t>(static_cast<uint32_t>(v) >> (16 * i))); };
  return hn::Set(I32(), hn::GetLane(sum) + half(x, 0) * half(y, 0) + half(x, 1) * half(y, 1));
#endif
}

// Sums begin with `start`: a row of it for each, or (start_stride 0) one for all.
template <int R, int V, bool kBytes>
HWY_NOINLINE void micro8(const int32_t* HWY_RESTRICT a, int64_t groups, const int32_t* HWY_RESTRICT b, int32_t* sums, int64_t stride,
                         const int32_t* start, int64_t start_stride) {
  const I32 d;
  VI acc[R][V];
#pragma GCC unroll 16
  for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
    for (int v = 0; v < V; ++v) acc[r][v] = hn::LoadU(d, start + r * start_stride + v * kLanes8);
  }
#pragma GCC unroll 2
  for (int64_t k = 0; k < groups; ++k) {
    VI bv[V];
#pragma GCC unroll 4
    for (int v = 0; v < V; ++v) bv[v] = hn::LoadU(d, b + v * kLanes8);
    hwy::Prefetch(b + 16 * kWidth8);
#pragma GCC unroll 16
    for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
      for (int v = 0; v < V; ++v) acc[r][v] = add_products<kBytes>(acc[r][v], a + r * kNearGroups + k, bv[v]);
    }
    b += kWidth8;
  }
#pragma GCC unroll 16
  for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
    for (int v = 0; v < V; ++v) hn::StoreU(acc[r][v], d, sums + r * stride + v * kLanes8);
  }
}

using Micro8 = void (*)(const int32_t*, int64_t, const int32_t*, int32_t*, int64_t, const int32_t*, int64_t);
template <int V, bool kBytes, int... R>
constexpr std::array<Micro8, sizeof...(R) + 1> micro_row8(std::integer_sequence<int, R...>) {
  return {nullptr, micro8<R + 1, V, kBytes>...};
}
template <bool kBytes, int... V>
constexpr std::array<std::array<Micro8, kRows8 + 1>, sizeof...(V) + 1> micro_table8(std::integer_sequence<int, V...>) {
  return {std::array<Micro8, kRows8 + 1>{}, micro_row8<V + 1, kBytes>(std::make_integer_sequence<int, kRows8>())...};
}
// By vectors of columns, then rows.
inline constexpr auto kPairs8 = micro_table8<false>(std::make_integer_sequence<int, kVectors8>());
#if HWY_TARGET == HWY_AVX3 || HWY_TARGET == HWY_NEON
inline constexpr auto kBytes8 = micro_table8<true>(std::make_integer_sequence<int, kVectors8>());
#else
inline constexpr auto kBytes8 = kPairs8;
#endif

#if HWY_TARGET == HWY_AVX3
// The same over rows that are read where they are: of each segment of K, `groups` groups from lines[segment] + row * row_stride on.
template <int R, int V>
HWY_NOINLINE void in_place8(const uint8_t* const* lines, int64_t segments, int64_t groups, int64_t row_stride,
                            const int32_t* HWY_RESTRICT b, int32_t* sums, int64_t stride, const int32_t* start, int64_t start_stride) {
  // Three rows are reached from one pointer: fourteen pointers would not fit the registers.
  constexpr int kPointers = (R + 2) / 3;
  const I32 d;
  VI acc[R][V];
#pragma GCC unroll 16
  for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
    for (int v = 0; v < V; ++v) acc[r][v] = hn::LoadU(d, start + r * start_stride + v * kLanes8);
  }
  for (int64_t s = 0; s < segments; ++s) {
    const uint8_t* from[kPointers];
#pragma GCC unroll 16
    for (int i = 0; i < kPointers; ++i) from[i] = lines[s] + 3 * i * row_stride;
#pragma GCC unroll 2
    for (int64_t k = 0; k < groups; ++k) {
      VI bv[V];
#pragma GCC unroll 4
      for (int v = 0; v < V; ++v) bv[v] = hn::LoadU(d, b + v * kLanes8);
      hwy::Prefetch(b + 16 * kWidth8);
#pragma GCC unroll 16
      for (int r = 0; r < R; ++r) {
        const auto* a = reinterpret_cast<const int32_t*>(from[r / 3] + r % 3 * row_stride);
#pragma GCC unroll 4
        for (int v = 0; v < V; ++v) acc[r][v] = add_products<true>(acc[r][v], a, bv[v]);
      }
#pragma GCC unroll 16
      for (int i = 0; i < kPointers; ++i) {
        from[i] += 4;
        asm("" : "+r"(from[i]));
      }
      b += kWidth8;
    }
  }
#pragma GCC unroll 16
  for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
    for (int v = 0; v < V; ++v) hn::StoreU(acc[r][v], d, sums + r * stride + v * kLanes8);
  }
}

using InPlace8 = void (*)(const uint8_t* const*, int64_t, int64_t, int64_t, const int32_t*, int32_t*, int64_t, const int32_t*, int64_t);
template <int V, int... R>
constexpr std::array<InPlace8, sizeof...(R) + 1> in_place_row8(std::integer_sequence<int, R...>) {
  return {nullptr, in_place8<R + 1, V>...};
}
inline constexpr std::array<std::array<InPlace8, kRows8 + 1>, kVectors8 + 1> kInPlace8{
    std::array<InPlace8, kRows8 + 1>{}, in_place_row8<1>(std::make_integer_sequence<int, kRows8>()),
    in_place_row8<2>(std::make_integer_sequence<int, kRows8>())};
#endif

// One row's part of K, from `skip` elements of its first run on, `count` of them, as groups; the last group is filled up with zeros. Bytes
// grouped as bytes become of the kind that kSignedGroups says. Returns their sum as they are written, when it is asked for.
int32_t gather8(const uint8_t* const* runs, int64_t stride, int64_t run, int64_t skip, int64_t count, bool bytes, bool is_signed,
                bool summed, int32_t* to) {
  int32_t sum = 0;
  if (bytes) {
    auto* out = reinterpret_cast<uint8_t*>(to);
    const hn::ScalableTag<uint8_t> d8;
    const int64_t lanes = hn::Lanes(d8);
    const uint8_t flip_one = is_signed != kSignedGroups ? 0x80 : 0;
    const auto flip = hn::Set(d8, flip_one);
    int64_t done = 0;
    for (int64_t t = 0, at = skip; done < count; ++t, at = 0) {
      const uint8_t* in = runs[t * stride] + at;
      const int64_t n = std::min(run - at, count - done);
      int64_t i = 0;
      for (; i + lanes <= n; i += lanes) hn::StoreU(hn::Xor(hn::LoadU(d8, in + i), flip), d8, out + done + i);
#if HWY_TARGET == HWY_AVX3
      // What is stored past the end is written over, or not read: there is room for a vector behind the row.
      if (i < n) hn::StoreU(hn::Xor(hn::MaskedLoad(hn::FirstN(d8, static_cast<size_t>(n - i)), d8, in + i), flip), d8, out + done + i);
#else
      for (; i < n; ++i) out[done + i] = static_cast<uint8_t>(in[i] ^ flip_one);
#endif
      done += n;
    }
    for (int64_t i = count; i % 4 != 0; ++i) out[i] = 0;
    for (int64_t i = 0; summed && i < count; ++i) sum += kSignedGroups ? static_cast<int8_t>(out[i]) : out[i];
    return sum;
  }
  auto* out = reinterpret_cast<int16_t*>(to);
  int64_t done = 0;
  for (int64_t t = 0, at = skip; done < count; ++t, at = 0) {
    const uint8_t* in = runs[t * stride] + at;
    const int64_t n = std::min(run - at, count - done);
    if (is_signed) {
      for (int64_t i = 0; i < n; ++i) out[done + i] = static_cast<int8_t>(in[i]);
    } else {
      for (int64_t i = 0; i < n; ++i) out[done + i] = in[i];
    }
    done += n;
  }
  if (count % 2 != 0) out[count] = 0;
  for (int64_t i = 0; summed && i < count; ++i) sum += out[i];
  return sum;
}

// The part of K of `count` groups from group `first` on of some rows, side by side; `pointers` is room for kMostTaps8 a row. Adds to the
// sums of rows.
void gather_rows8(const Dense8Arguments& g, int64_t row, int height, int64_t first, int64_t count, bool bytes, const uint8_t** pointers,
                  int32_t* near_by, int32_t* row_sums) {
  const int64_t each = bytes ? 4 : 2;
  // The taps this part of K touches; few enough to point at (a part is at most kMostGroups groups, a run at least one element).
  const int64_t from = first * each, to = std::min(g.b->k, (first + count) * each);
  for (int64_t at = from; at < to;) {
    const int64_t tap = at / g.run, taps = std::min(kMostTaps8, (to + g.run - 1) / g.run - tap);
    // More taps than are pointed at: up to the last whole group among them.
    int64_t until = std::min(to, (tap + taps) * g.run);
    if (until < to) until -= (until - from) % each;
    if (g.window) {
      point_rows(*g.window, row, height, tap, taps, int64_t{0}, pointers);
    } else {
      for (int r = 0; r < height; ++r) pointers[r] = g.a + (row + r) * g.lda;
    }
    for (int r = 0; r < height; ++r)
      row_sums[r] += gather8(pointers + r, height, g.run, at - tap * g.run, until - at, bytes, g.a_signed, g.b->any_zero,
                             near_by + r * kNearGroups + (at - from) / each);
    at = until;
  }
}

// What every row adds to its sums, by column: bias, and what the zero point of A makes of B's columns.
void shared_terms(const Dense8Arguments& g, int32_t a_zero, int64_t column, int64_t columns, int32_t* add) {
  const PackedBytes& b = *g.b;
  const auto k = static_cast<uint32_t>(b.k), za = static_cast<uint32_t>(a_zero);  // sums wrap as the standard's 32-bit ones do
  for (int64_t j = 0; j < columns; ++j) {
    add[j] =
        static_cast<int32_t>(static_cast<uint32_t>(g.bias ? g.bias[column + j] : 0) -
                             za * static_cast<uint32_t>(b.column_sums[column + j]) + k * za * static_cast<uint32_t>(b.zero[column + j]));
  }
}

using Factors8 = ByteFactors<kMostPanels8 * kWidth8>;

// A panel's sums of some rows to bytes, by floats: vector by vector, whose factors stay in registers for all rows. Columns past the last
// are sums of nothing. Where floats cannot be trusted the row is done again in double.
void to_bytes8(const Dense8Arguments& g, const Factors8& factors, const int32_t* sums, int64_t stride, int64_t row, int rows,
               int64_t panel_column, int64_t column, int64_t columns) {
  const I32 d;
  uint8_t* out = g.out + row * g.ldc + column;
  const auto again = [&](int r, int64_t from, int64_t count) {
    requantise_exactly(g, sums + r * stride + from, out + r * g.ldc + from, column + from, count);
  };
  int64_t from = 0;
#if HWY_TARGET == HWY_AVX3
  if (columns == kWidth8) {
    const ByteColumns left(factors, panel_column), right(factors, panel_column + kLanes8);
    const __m512i order = _mm512_setr_epi32(0, 4, 8, 12, 1, 5, 9, 13, 2, 6, 10, 14, 3, 7, 11, 15);
    for (int r = 0; r < rows; r += 2) {
      const int second = std::min(r + 1, rows - 1);
      Far far = none_far();
      const auto part = [&](int of, const ByteColumns& c, int64_t at)
                            HWY_ATTR { return c.rounded(hn::LoadU(d, sums + of * stride + at), far); };
      const VI a = part(r, left, 0), b = part(r, right, kLanes8), e = part(second, left, 0), f = part(second, right, kLanes8);
      const __m512i both = _mm512_permutexvar_epi32(order, saturated(g.out_signed, a, b, e, f));
      _mm256_storeu_si256(reinterpret_cast<__m256i*>(out + r * g.ldc), _mm512_castsi512_si256(both));
      _mm256_storeu_si256(reinterpret_cast<__m256i*>(out + second * g.ldc), _mm512_extracti64x4_epi64(both, 1));
      if (HWY_LIKELY(trusted(far, factors))) continue;
      again(r, 0, columns);
      again(second, 0, columns);
    }
    return;
  }
#endif
  for (; from < columns; from += kLanes8) {
    const ByteColumns c(factors, panel_column + from);
    const int64_t count = std::min(kLanes8, columns - from);
    for (int r = 0; r < rows; ++r) {
      Far far = none_far();
      uint8_t *to = out + r * g.ldc + from, part[kLanes8];
      c.write(g, hn::LoadU(d, sums + r * stride + from), count == kLanes8 ? to : part, far);
      if (HWY_UNLIKELY(!trusted(far, factors))) again(r, from, count);
      else if (count < kLanes8) std::memcpy(to, part, static_cast<size_t>(count));
    }
  }
}

#if HWY_TARGET == HWY_AVX3
// As many columns are done with vectors along K, where a panel would be mostly empty.
inline constexpr int64_t kFewColumns8 = 4, kFewBytes8 = 32768, kVector8 = 64;

// Sums of R rows, row after row.
template <int R, int C>
void few_columns_rows8(const Dense8Arguments& g, const uint8_t* columns, int64_t column_bytes, int64_t padded, const int32_t* add,
                       int64_t row, int32_t* to) {
  const hn::ScalableTag<uint8_t> d8;
  const auto flip = hn::Set(d8, g.a_signed ? 0x80 : 0);
  const uint8_t* pointers[kMostTaps8 * R];
  __m512i acc[R][C];
  for (int r = 0; r < R; ++r) {
    for (int c = 0; c < C; ++c) acc[r][c] = _mm512_setzero_si512();
  }
  for (int64_t tap = 0; tap < g.segments; tap += kMostTaps8) {
    const int64_t taps = std::min(kMostTaps8, g.segments - tap);
    if (g.window) {
      point_rows(*g.window, row, R, tap, taps, int64_t{0}, pointers);
    } else {
      for (int r = 0; r < R; ++r) pointers[r] = g.a + (row + r) * g.lda;
    }
    for (int64_t t = 0; t < taps; ++t) {
      const uint8_t* at = columns + (tap + t) * padded;
      for (int64_t i = 0; i < g.run; i += kVector8) {
        __m512i b[C];
        for (int c = 0; c < C; ++c) b[c] = _mm512_load_si512(at + c * column_bytes + i);
        for (int r = 0; r < R; ++r) {
          const uint8_t* p = pointers[t * R + r] + i;
          const auto x = i + kVector8 <= g.run ? hn::LoadU(d8, p) : hn::MaskedLoad(hn::FirstN(d8, static_cast<size_t>(g.run - i)), d8, p);
          const __m512i a = hn::Xor(x, flip).raw;
          for (int c = 0; c < C; ++c) asm("vpdpbusd %2, %1, %0" : "+v"(acc[r][c]) : "v"(a), "v"(b[c]));
        }
      }
    }
  }
  for (int r = 0; r < R; ++r) {
    for (int c = 0; c < C; ++c)
      to[r * C + c] = static_cast<int32_t>(static_cast<uint32_t>(_mm512_reduce_add_epi32(acc[r][c])) + static_cast<uint32_t>(add[c]));
  }
}

// As many rows of so few columns are finished at once: column by column, as if it were a row.
inline constexpr int64_t kFewRows8 = 64;

template <int C>
void finish_few8(const Dense8Arguments& g, const int32_t* sums, int64_t row, int64_t rows) {
  if (!g.out) {
    for (int64_t r = 0; r < rows; ++r) finish_line(g, sums + r * C, row + r, 0, C);
    return;
  }
  for (int c = 0; c < C; ++c) {
    ByteFactors<kLanes8> factors;
    factors.set(g, c, 1);
    std::fill_n(factors.factor, kLanes8, factors.factor[0]), std::fill_n(factors.shift, kLanes8, factors.shift[0]);
    std::fill_n(factors.limit, kLanes8, factors.limit[0]);
    const ByteColumns column(factors, 0);
    for (int64_t from = 0; from < rows; from += kLanes8) {
      const int64_t count = std::min(kLanes8, rows - from);
      alignas(64) int32_t line[kLanes8] = {};
      uint8_t made[kLanes8];
      for (int64_t r = 0; r < count; ++r) line[r] = sums[(from + r) * C + c];
      Far far = none_far();
      column.write(g, hn::LoadU(I32(), line), made, far);
      for (int64_t r = 0; r < count && HWY_UNLIKELY(!trusted(far, factors)); ++r) requantise_exactly(g, line + r, made + r, c, 1);
      for (int64_t r = 0; r < count; ++r) g.out[(row + from + r) * g.ldc + c] = made[r];
    }
  }
}

template <int C>
void few_columns8(const Dense8Arguments& g, const int32_t* add, RunTape run) {
  const PackedBytes& b = *g.b;
  const int64_t padded = (g.run + kVector8 - 1) / kVector8 * kVector8, column_bytes = padded * g.segments;
  alignas(64) uint8_t columns[kFewBytes8];
  std::memset(columns, 0, static_cast<size_t>(column_bytes * C));
  for (int64_t k = 0; k < b.k; ++k) {
    for (int c = 0; c < C; ++c)
      columns[c * column_bytes + k / g.run * padded + k % g.run] =
          static_cast<uint8_t>(static_cast<uint32_t>(b.groups[k / 4 * kWidth8 + c]) >> (8 * (k % 4)));
  }
  for (int64_t row = g.row_begin; row < g.row_end; row += kFewRows8) {
    const int64_t rows = std::min(kFewRows8, g.row_end - row);
    int32_t sums[kFewRows8 * C];
    int64_t r = 0;
    for (; r + 4 <= rows; r += 4) few_columns_rows8<4, C>(g, columns, column_bytes, padded, add, row + r, sums + r * C);
    for (; r < rows; ++r) few_columns_rows8<1, C>(g, columns, column_bytes, padded, add, row + r, sums + r * C);
    finish_few8<C>(g, sums, row, rows);
  }
  if (g.reals && run) tape_over_rows(g.epilogue, run, g.reals + g.row_begin * g.ldc, g.ldc, g.row_begin, g.row_end - g.row_begin, 0, C);
}

// False: they are not so few, or not of the form.
bool few_columns8(const Dense8Arguments& g, int32_t a_zero, RunTape run) {
  const PackedBytes& b = *g.b;
  const int64_t padded = (g.run + kVector8 - 1) / kVector8 * kVector8;
  if (b.grouping != Grouping::bytes || b.n > kFewColumns8 || b.any_zero || g.run < 16 || padded * g.segments * b.n > kFewBytes8)
    return false;
  if (g.panel_begin == g.panel_end) return true;
  int32_t add[kFewColumns8];
  shared_terms(g, a_zero, 0, b.n, add);
  switch (b.n) {
    case 1: few_columns8<1>(g, add, run); break;
    case 2: few_columns8<2>(g, add, run); break;
    case 3: few_columns8<3>(g, add, run); break;
    default: few_columns8<4>(g, add, run);
  }
  return true;
}
#endif

// Sums of some rows and of `columns` columns, of a block that begins at `begin`, from its column `first` on, to results.
void finish_tile8(const Dense8Arguments& g, const Factors8& factors, RunTape run, const int32_t* sums, int64_t stride, int64_t row,
                  int height, int64_t begin, int64_t first, int64_t columns) {
  for (int64_t at = 0; at < columns; at += kWidth8) {
    const int64_t wide = std::min(kWidth8, columns - at), column = begin + first + at;
    if (g.out) to_bytes8(g, factors, sums + at, stride, row, height, first + at, column, wide);
    else
      for (int r = 0; r < height; ++r) finish_line(g, sums + r * stride + at, row + r, column, wide);
  }
  if (g.reals && g.epilogue.tape) {
    tape_over_rows(g.epilogue, run, g.reals + row * g.ldc + begin + first, g.ldc, row, height, begin + first, columns);
  }
}

#if HWY_TARGET == HWY_AVX3
// Tiles end where lines do.
void dense8_in_place(const Dense8Arguments& g, RunTape run) {
  const PackedBytes& b = *g.b;
  const int64_t line = g.window ? g.window->out_w : g.row_end;
  alignas(64) int32_t sums[kRows8 * kMostPanels8 * kWidth8];
  alignas(64) int32_t add[kMostPanels8 * kWidth8] = {};
  Factors8 factors;
  const uint8_t* lines[kMostTaps8];
  const int64_t block = std::min(g.panel_block, kMostPanels8), stride = block * kWidth8;
  for (int64_t panel = g.panel_begin; panel < g.panel_end; panel += block) {
    const int64_t panels = std::min(block, g.panel_end - panel), begin = panel * kWidth8, columns = std::min(panels * kWidth8, b.n - begin);
    shared_terms(g, g.a_zero, begin, columns, add);
    if (g.out) factors.set(g, begin, columns);
    for (int64_t row = g.row_begin; row < g.row_end;) {
      const int64_t left = std::min(g.row_end - row, line - row % line), tiles = (left + kRows8 - 1) / kRows8;
      const int height = static_cast<int>(left / tiles);
      for (int64_t tap = 0; tap < g.segments; tap += kMostTaps8) {
        const int64_t taps = std::min(kMostTaps8, g.segments - tap);
        if (g.window) point_rows(*g.window, row, 1, tap, taps, int64_t{0}, lines);
        else lines[0] = g.a + row * g.lda;
        for (int64_t p = 0; p < panels; ++p) {
          int32_t* to = sums + p * kWidth8;
          // What came before is carried on with by the same tile.
          kInPlace8[(std::min(kWidth8, columns - p * kWidth8) + kLanes8 - 1) / kLanes8][height](
              lines, taps, g.run / 4, g.row_stride, b.groups + ((panel + p) * b.panel_groups + tap * g.run / 4) * kWidth8, to, stride,
              tap > 0 ? to : add + p * kWidth8, tap > 0 ? stride : 0);
        }
      }
      finish_tile8(g, factors, run, sums, stride, row, height, begin, 0, columns);
      row += height;
    }
  }
}
#endif

LATHE_GIVES_WAY void Dense8Here(const Dense8Arguments& g) {
  const PackedBytes& b = *g.b;
  const bool bytes = b.grouping == Grouping::bytes;
  const auto& table = bytes ? kBytes8 : kPairs8;
  const int64_t each = bytes ? 4 : 2, groups = (b.k + each - 1) / each;
  const int64_t pieces = std::max<int64_t>(1, (groups + kMostGroups - 1) / kMostGroups), part = (groups + pieces - 1) / pieces;
  const RunTape run = g.epilogue.tape ? run_tape(kHere) : nullptr;
  const int32_t a_zero = g.a_zero + (!bytes || g.a_signed == kSignedGroups ? 0 : kSignedGroups ? -128 : 128);
#if HWY_TARGET == HWY_AVX3
  if (few_columns8(g, a_zero, run)) return;
  if (g.in_place) return dense8_in_place(g, run);
#endif
  const int64_t rows = g.row_end - g.row_begin, tiles = (rows + kRows8 - 1) / kRows8;
  alignas(64) int32_t near_by[kRows8 * kNearGroups];
  alignas(64) int32_t sums[kRows8 * kMostPanels8 * kWidth8];
  alignas(64) int32_t add[kMostPanels8 * kWidth8] = {};
  Factors8 factors;
  const uint8_t* pointers[kMostTaps8 * kRows8];
  const int64_t block = std::min(g.panel_block, kMostPanels8), stride = block * kWidth8;
  for (int64_t panel = g.panel_begin; panel < g.panel_end; panel += block) {
    const int64_t panels = std::min(block, g.panel_end - panel);
    shared_terms(g, a_zero, panel * kWidth8, std::min(panels * kWidth8, b.n - panel * kWidth8), add);
    if (g.out) factors.set(g, panel * kWidth8, std::min(panels * kWidth8, b.n - panel * kWidth8));
    for (int64_t t = 0; t < tiles; ++t) {
      const int64_t row = g.row_begin + rows * t / tiles;
      const int height = static_cast<int>(g.row_begin + rows * (t + 1) / tiles - row);
      int32_t row_sums[kRows8] = {};
      for (int64_t piece = 0; piece < pieces; ++piece) {
        const int64_t first = piece * part, count = std::min(part, groups - first);
        gather_rows8(g, row, height, first, count, bytes, pointers, near_by, row_sums);
        for (int64_t p = panel; p < panel + panels; ++p) {
          int32_t* to = sums + (p - panel) * kWidth8;
          table[(std::min(kWidth8, b.n - p * kWidth8) + kLanes8 - 1) / kLanes8][height](
              near_by, count, b.groups + (p * b.panel_groups + first) * kWidth8, to, stride, piece > 0 ? to : add + (p - panel) * kWidth8,
              piece > 0 ? stride : 0);
        }
      }
      const int64_t begin = panel * kWidth8, columns = std::min(panels * kWidth8, b.n - begin);
      for (int r = 0; b.any_zero && r < height; ++r) {
        for (int64_t j = 0; j < columns; ++j) {
          auto& sum = sums[r * stride + j];
          sum = static_cast<int32_t>(static_cast<uint32_t>(sum) -
                                     static_cast<uint32_t>(b.zero[begin + j]) * static_cast<uint32_t>(row_sums[r]));
        }
      }
      finish_tile8(g, factors, run, sums, stride, row, height, begin, 0, columns);
    }
  }
}

#if HWY_TARGET == HWY_AVX3
// Fewer rows than this leave most of a tile empty: they go by dot products of vectors.
inline constexpr int64_t kFewForTiles = 5;
inline constexpr int kTileRows8 = 2 * tiles::kRows;

// Up to 32 rows by a panel's columns: of each segment of K, `chunks` products of `groups` groups each, from lines[segment] + row *
// row_stride on. Sums begin with `start`, as in micro8.
template <bool kSigned, bool kLower, bool kRight>
void tile8(const uint8_t* const* lines, int64_t segments, int64_t chunks, int64_t groups, int64_t row_stride, int upper,
           const int32_t* HWY_RESTRICT b, int32_t* sums, int64_t stride, const int32_t* start, int64_t start_stride) {
  constexpr int64_t kPanel = kWidth8 * 4;  // bytes
  const int64_t from = start_stride * 4, to = stride * 4, below = upper * row_stride;
  tiles::load<0>(start, from);
  if constexpr (kRight) tiles::load<1>(start + kLanes8, from);
  if constexpr (kLower) tiles::load<2>(start + upper * start_stride, from);
  if constexpr (kLower && kRight) tiles::load<3>(start + upper * start_stride + kLanes8, from);
  for (int64_t s = 0; s < segments; ++s) {
    const uint8_t* a = lines[s];
    for (int64_t c = 0; c < chunks; ++c, a += 4 * groups, b += groups * kWidth8) {
      tiles::load<6>(b, kPanel);
      tiles::load<4>(a, row_stride);
      tiles::add_bytes<kSigned, 0, 4, 6>();
      if constexpr (kRight) {
        tiles::load<7>(b + kLanes8, kPanel);
        tiles::add_bytes<kSigned, 1, 4, 7>();
      }
      if constexpr (kLower) {
        tiles::load<5>(a + below, row_stride);
        tiles::add_bytes<kSigned, 2, 5, 6>();
        if constexpr (kRight) tiles::add_bytes<kSigned, 3, 5, 7>();
      }
    }
  }
  tiles::store<0>(sums, to);
  if constexpr (kRight) tiles::store<1>(sums + kLanes8, to);
  if constexpr (kLower) tiles::store<2>(sums + upper * stride, to);
  if constexpr (kLower && kRight) tiles::store<3>(sums + upper * stride + kLanes8, to);
}
using Tile8 = decltype(&tile8<false, false, false>);
// By whether A is signed, whether there are lower rows, whether there are right columns.
inline constexpr Tile8 kTiles8[2][2][2] = {
    {{tile8<false, false, false>, tile8<false, false, true>}, {tile8<false, true, false>, tile8<false, true, true>}},
    {{tile8<true, false, false>, tile8<true, false, true>}, {tile8<true, true, false>, tile8<true, true, true>}}};

LATHE_GIVES_WAY void Dense8InTiles(const Dense8Arguments& g) {
  const PackedBytes& b = *g.b;
  const bool stays_signed = g.in_place && g.a_signed, lined = g.in_place && g.window;
  if (g.row_end - g.row_begin < kFewForTiles && !stays_signed) return Dense8Here(g);
  const RunTape run = g.epilogue.tape ? run_tape(kHere) : nullptr;
  const int32_t moved_zero = g.a_zero + (g.a_signed ? 128 : 0), a_zero = stays_signed ? g.a_zero : moved_zero;
  if (few_columns8(g, moved_zero, run)) return;

  alignas(64) int32_t near_by[kTileRows8 * kNearGroups];
  alignas(64) int32_t sums[kTileRows8 * kMostPanels8 * kWidth8];
  alignas(64) int32_t add[kMostPanels8 * kWidth8];
  Factors8 factors;
  const uint8_t* pointers[kMostTaps8 * kTileRows8];
  tiles::Shape shape;
  const int64_t groups = g.in_place ? g.run / 4 : (b.k + 3) / 4;  // of a segment that stands where it is, or of K
  const int64_t chunk = g.in_place ? tiles::dividing(groups) : tiles::even(groups), chunks = tiles::along(groups, chunk);
  // K by pieces: taps that are pointed at, or chunks that are gathered.
  const int64_t parts = g.in_place ? g.segments : chunks, most = g.in_place ? kMostTaps8 : kMostGroups / chunk;
  const int64_t pieces = (parts + most - 1) / most, piece = (parts + pieces - 1) / pieces;
  const int64_t line = lined ? g.window->out_w : 0, block = std::min(g.panel_block, kMostPanels8);
  // A panel's sums are finished while they are near, where nothing has to wait for others.
  const bool by_panel = pieces == 1 && !(g.reals && run);
  const int64_t stride = by_panel ? kWidth8 : block * kWidth8;

  for (int64_t panel = g.panel_begin; panel < g.panel_end; panel += block) {
    const int64_t panels = std::min(block, g.panel_end - panel), begin = panel * kWidth8, columns = std::min(panels * kWidth8, b.n - begin);
    std::fill_n(add, panels * kWidth8, 0);
    shared_terms(g, a_zero, begin, columns, add);
    if (g.out) factors.set(g, begin, columns);
    int height = 0;
    for (int64_t row = g.row_begin; row < g.row_end; row += height) {
      int64_t left = g.row_end - row;
      if (lined) left = std::min(left, line - row % line);
      height = static_cast<int>(tiles::even(left, kTileRows8));
      const int upper = height > tiles::kRows ? (height + 1) / 2 : height, lower = height - upper;
      shape.take(upper, lower, static_cast<int>(chunk));
      int32_t row_sums[kTileRows8] = {};
      const auto finish = [&](int32_t* at, int64_t from, int64_t count) {
        for (int r = 0; b.any_zero && r < height; ++r) {
          for (int64_t j = 0; j < count; ++j) {
            auto& sum = at[r * stride + j];
            sum = static_cast<int32_t>(static_cast<uint32_t>(sum) -
                                       static_cast<uint32_t>(b.zero[begin + from + j]) * static_cast<uint32_t>(row_sums[r]));
          }
        }
        finish_tile8(g, factors, run, at, stride, row, height, begin, from, count);
      };
      for (int64_t first = 0; first < parts; first += piece) {
        const int64_t count = std::min(piece, parts - first);
        int64_t segments = 1, each = chunks, row_stride = g.row_stride, group = 0;
        if (g.in_place) {
          segments = count, group = first * groups;
          if (g.window) point_rows(*g.window, row, 1, first, count, int64_t{0}, pointers);
          else pointers[0] = g.a + row * g.lda;
        } else {
          each = count, group = first * chunk, row_stride = kNearGroups * 4;
          gather_rows8(g, row, height, group, std::min(count * chunk, groups - group), true, pointers, near_by, row_sums);
          const int64_t missing = group + count * chunk - groups;
          for (int r = 0; missing > 0 && r < height; ++r) std::fill_n(near_by + r * kNearGroups + groups - group, missing, 0);
          pointers[0] = reinterpret_cast<const uint8_t*>(near_by);
        }
        for (int64_t p = 0; p < panels; ++p) {
          const int64_t from = p * kWidth8, wide = std::min(kWidth8, columns - from);
          int32_t* to = by_panel ? sums : sums + from;
          kTiles8[stays_signed][lower > 0][wide > kLanes8](pointers, segments, each, chunk, row_stride, upper,
                                                           b.groups + ((panel + p) * b.panel_groups + group) * kWidth8, to, stride,
                                                           first > 0 ? to : add + from, first > 0 ? stride : 0);
          if (by_panel) finish(to, from, wide);
        }
      }
      if (!by_panel) finish(sums, 0, columns);
    }
  }
}
#endif

int64_t Width8Here() { return kWidth8; }
int Rows8Here() { return kRows8; }

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

Dense8 dense8(Isa isa) {
#if HWY_ARCH_X86 && (HWY_TARGETS & HWY_AVX3)
  if (isa == Isa::amx) return N_AVX3::Dense8InTiles;
#endif
  return LATHE_SELECT(isa, Dense8Here);
}
int64_t panel_width8(Isa isa) { return LATHE_SELECT(isa, Width8Here)(); }
int max_rows8(Isa isa) { return isa == Isa::amx ? 32 : LATHE_SELECT(isa, Rows8Here)(); }
Grouping grouping8(Isa isa) { return (is_avx512(isa) || isa == Isa::neon) && has_int8_dot() ? Grouping::bytes : Grouping::pairs; }
bool reads_in_place8(Isa isa) { return is_avx512(isa) && has_int8_dot(); }
bool reads_signed_in_place8(Isa isa) { return isa == Isa::amx; }

namespace {
int64_t group_size8(Isa isa) { return grouping8(isa) == Grouping::bytes ? 4 : 2; }
int64_t panel_groups8(Isa isa, int64_t k) {
  const int64_t groups = (k + group_size8(isa) - 1) / group_size8(isa);
  return isa == Isa::amx ? tiles::whole(groups) : groups;
}
int64_t group_numbers8(Isa isa, int64_t k, int64_t n) {
  const int64_t width = panel_width8(isa);
  return (n + width - 1) / width * panel_groups8(isa, k) * width;
}
}  // namespace

int64_t packed_bytes_size(Isa isa, int64_t k, int64_t n) { return group_numbers8(isa, k, n) + 2 * n; }

PackedBytes packed_bytes(Isa isa, int64_t k, int64_t n, const int32_t* at) {
  PackedBytes p;
  p.grouping = grouping8(isa);
  p.k = k, p.n = n, p.width = panel_width8(isa);
  p.panel_groups = panel_groups8(isa, k);
  p.groups = at;
  p.column_sums = at + group_numbers8(isa, k, n);
  p.zero = p.column_sums + n;
  p.any_zero = std::any_of(p.zero, p.zero + n, [](int32_t z) { return z != 0; });
  return p;
}

void pack_bytes(Isa isa, const uint8_t* b, bool is_signed, int64_t k_stride, int64_t n_stride, int64_t k, int64_t n,
                const std::vector<int32_t>& zero, int32_t* to) {
  const bool bytes = grouping8(isa) == Grouping::bytes;
  const int64_t each = group_size8(isa), width = panel_width8(isa), groups = panel_groups8(isa, k), numbers = group_numbers8(isa, k, n);
  std::fill_n(to, numbers + n, 0);
  int32_t *sums = to + numbers, *zeros = sums + n;
  const int32_t shift = bytes && !is_signed ? -128 : 0;  // unsigned weights move down by 128 to fit signed bytes
  for (int64_t j = 0; j < n; ++j) {
    zeros[j] = zero[zero.size() == 1 ? 0 : j] + shift;
    int32_t* panel = to + j / width * groups * width + j % width;
    for (int64_t i = 0; i < k; ++i) {
      const uint8_t raw = b[i * k_stride + j * n_stride];
      const int32_t v = (is_signed ? static_cast<int8_t>(raw) : static_cast<int32_t>(raw)) + shift;
      sums[j] += v;
      auto& group = reinterpret_cast<uint32_t&>(panel[i / each * width]);
      if (bytes) group |= (static_cast<uint32_t>(v) & 0xffu) << (8 * (i % 4));
      else group |= (static_cast<uint32_t>(v) & 0xffffu) << (16 * (i % 2));
    }
  }
}

uint8_t unpacked_byte(const PackedBytes& b, bool is_signed, int64_t k, int64_t n) {
  const bool bytes = b.grouping == Grouping::bytes;
  const int64_t each = bytes ? 4 : 2;
  const auto group = static_cast<uint32_t>(b.groups[(n / b.width * b.panel_groups + k / each) * b.width + n % b.width]);
  const uint32_t v = group >> (bytes ? 8 * (k % 4) : 16 * (k % 2));
  return static_cast<uint8_t>(v + (bytes && !is_signed ? 128 : 0));
}

}  // namespace lathe::kernels
#endif
