#include "kernels/dense_tiles.hpp"

#include <algorithm>
#include <array>
#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/dense_tiles.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/cache_control.h>
#include <hwy/highway.h>

#include "kernels/halves.inl.hpp"
#include "kernels/tiles.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

#if HWY_TARGET == HWY_AVX3
inline constexpr int64_t kWidth = 32, kLanes = 16;
inline constexpr int kTall = 2 * tiles::kRows;
// Rows of A, all parts of a piece of K: so many bytes each, and as many groups of rows at a time as stay in L2 while all of B passes. They
// stand a cache line further apart, not to fall on the same lines of L1.
template <int P>
inline constexpr int64_t kPieceBytes = P == 1 ? 2048 : 4096;
template <int P>
inline constexpr int64_t kRowBytes = kPieceBytes<P> + 64;
template <int P>
inline constexpr int64_t kGroupRows = (P == 1 ? 12 : 6) * kTall;
template <int P>
inline constexpr int64_t kRoom = kGroupRows<P>* kRowBytes<P> + kPieceBytes<P>* kWidth;
static_assert(kRoom<1> <= kTileRoom && kRoom<2> <= kTileRoom);
inline constexpr int64_t kMostPoints = 64;  // taps pointed at together
static_assert(kPanelWidth == kWidth);

// The nearest bf16, in the low half of each lane; denormals become zero.
HWY_INLINE __m256i nearest(VF x) {
  __m256i y;
  asm("vcvtneps2bf16 %1, %0" : "=v"(y) : "v"(x.raw));
  return y;
}
HWY_INLINE VF widened(__m256i halves) { return VF{_mm512_castsi512_ps(_mm512_slli_epi32(_mm512_cvtepu16_epi32(halves), 16))}; }

// The parts of a vector of numbers.
template <int P>
HWY_INLINE void part(VF x, __m256i (&parts)[P]) {
  parts[0] = nearest(x);
  if constexpr (P > 1) {
    VF rest = hn::Sub(x, widened(parts[0]));
    constexpr int kNotFinite = 0x99;
    if (const __mmask16 odd = _mm512_fpclass_ps_mask(rest.raw, kNotFinite); HWY_UNLIKELY(odd != 0)) {
      const __mmask16 special = _mm512_fpclass_ps_mask(x.raw, kNotFinite), large = static_cast<__mmask16>(odd & ~special);
      // A number so large that its nearest is not finite begins with the one below.
      const __m512i bits = _mm512_castps_si512(x.raw);
      parts[0] = _mm256_mask_mov_epi16(parts[0], large, _mm512_cvtepi32_epi16(_mm512_srli_epi32(bits, 16)));
      rest = hn::Sub(x, widened(parts[0]));
      const __m256i sign = _mm512_cvtepi32_epi16(_mm512_srli_epi32(_mm512_and_si512(bits, _mm512_set1_epi32(INT32_MIN)), 16));
      const __m256i last = nearest(x);
      parts[0] = _mm256_mask_mov_epi16(parts[0], special, _mm256_or_si256(sign, _mm256_set1_epi16(0x3f80)));
      for (int p = 1; p < P; ++p) {
        const __m256i finite = nearest(rest);
        if (p + 1 < P) rest = hn::Sub(rest, widened(finite));
        parts[p] = _mm256_mask_mov_epi16(finite, special, p + 1 < P ? _mm256_setzero_si256() : last);
      }
      return;
    }
    for (int p = 1; p < P; ++p) {
      parts[p] = nearest(rest);
      if (p + 1 < P) rest = hn::Sub(rest, widened(parts[p]));
    }
  }
}

// `count` floats to the parts of a row, `part_bytes` apart.
template <int P>
HWY_INLINE void part_run(const float* HWY_RESTRICT from, int64_t count, char* to, int64_t part_bytes) {
  const F32 d;
  __m256i parts[P];
  int64_t i = 0;
  for (; i + kLanes <= count; i += kLanes) {
    part<P>(hn::LoadU(d, from + i), parts);
    for (int p = 0; p < P; ++p) _mm256_storeu_si256(reinterpret_cast<__m256i*>(to + p * part_bytes + 2 * i), parts[p]);
  }
  if (i == count) return;
  const auto left = static_cast<__mmask16>((1u << (count - i)) - 1);
  part<P>(VF{_mm512_maskz_loadu_ps(left, from + i)}, parts);
  for (int p = 0; p < P; ++p) _mm256_mask_storeu_epi16(to + p * part_bytes + 2 * i, left, parts[p]);
}

// The piece [from, from + count) of K of some rows, filled up with zeros to part_bytes.
template <int P>
void part_rows(const DenseArguments& g, int64_t row, int rows, int64_t from, int64_t count, char* to, int64_t part_bytes) {
  const float* pointers[kMostPoints * kTall];
  for (int64_t at = from, end = from + count; at < end;) {
    const int64_t tap = at / g.run, taps = std::min(kMostPoints, (end + g.run - 1) / g.run - tap),
                  until = std::min(end, (tap + taps) * g.run);
    if (g.window) {
      point_rows(*g.window, row, rows, tap, taps, int64_t{0}, pointers);
    } else {
      for (int r = 0; r < rows; ++r) pointers[r] = g.a + (row + r) * g.lda;
    }
    for (int r = 0; r < rows; ++r) {
      for (int64_t k = at; k < until;) {
        const int64_t t = k / g.run, length = std::min(until, (t + 1) * g.run) - k;
        part_run<P>(pointers[(t - tap) * rows + r] + k % g.run, length, to + r * kRowBytes<P> + 2 * (k - from), part_bytes);
        k += length;
      }
    }
    at = until;
  }
  for (int r = 0; 2 * count < part_bytes && r < rows; ++r) {
    for (int p = 0; p < P; ++p)
      std::memset(to + r * kRowBytes<P> + p * part_bytes + 2 * count, 0, static_cast<size_t>(part_bytes - 2 * count));
  }
}

template <PanelType T>
HWY_INLINE VF load_numbers(const void* panel, int64_t at) {
  if constexpr (T == PanelType::f32) return hn::LoadU(F32(), static_cast<const float*>(panel) + at);
  else if constexpr (T == PanelType::f16) return load_f16(static_cast<const uint16_t*>(panel) + at);
  else return load_bf16(static_cast<const uint16_t*>(panel) + at);
}

template <PanelType T>
inline constexpr int kParts = TileForm{T}.b_parts();

// Bytes ahead of their use that B is fetched from memory.
inline constexpr int64_t kAhead = 2048;

// `count` rows of a panel as groups of two, part by part; zeros up to `groups` groups.
template <PanelType T>
void part_panel(const void* panel, int64_t count, int64_t groups, char* to) {
  constexpr int P = kParts<T>;
  constexpr int64_t kGroup = 2 * kWidth * (T == PanelType::f32 ? 4 : 2);
  int64_t group = 0;
  if constexpr (T == PanelType::bf16) {
    // Two rows of numbers as they are, interleaved.
    alignas(64) static constexpr auto kOrder = [] {
      std::array<uint16_t, 64> order{};
      for (uint16_t i = 0; i < 64; ++i) order[i] = static_cast<uint16_t>(i / 2 + i % 2 * 32);
      return order;
    }();
    const __m512i left = _mm512_load_si512(kOrder.data()), right = _mm512_load_si512(kOrder.data() + 32);
    for (; group < count / 2; ++group) {
      const char* from = static_cast<const char*>(panel) + group * kGroup;
      hwy::Prefetch(from + kAhead), hwy::Prefetch(from + kAhead + 64);
      const __m512i even = _mm512_loadu_si512(from), odd = _mm512_loadu_si512(from + 64);
      _mm512_storeu_si512(to + group * 128, _mm512_permutex2var_epi16(even, left, odd));
      _mm512_storeu_si512(to + group * 128 + 64, _mm512_permutex2var_epi16(even, right, odd));
    }
  }
  for (; group < groups; ++group) {
    for (int64_t line = 0; line < kGroup; line += 64) hwy::Prefetch(static_cast<const char*>(panel) + group * kGroup + kAhead + line);
    for (int64_t column = 0; column < kWidth; column += kLanes) {
      const auto load = [&](int64_t k) HWY_ATTR { return k < count ? load_numbers<T>(panel, k * kWidth + column) : hn::Zero(F32()); };
      __m256i even[P], odd[P];
      part<P>(load(2 * group), even);
      part<P>(load(2 * group + 1), odd);
      for (int p = 0; p < P; ++p) {
        const __m512i both = _mm512_or_si512(_mm512_cvtepu16_epi32(even[p]), _mm512_slli_epi32(_mm512_cvtepu16_epi32(odd[p]), 16));
        _mm512_storeu_si512(to + ((p * groups + group) * kWidth + column) * 4, both);
      }
    }
  }
}

// Tiles of A and B of a piece of K, by part: segments of K, each of some chunks of groups.
struct Piece {
  const char* const* a;  // by segment
  const char* b;
  int64_t a_part, b_part;  // bytes from part to part
  int64_t a_row;           // bytes from row to row
  int64_t segments, chunks, groups;
  int upper;  // rows
};

template <bool kLower>
HWY_INLINE void load_a(const Piece& p, int part, const char* at) {
  const char* from = at + part * p.a_part;
  tiles::load<4>(from, p.a_row);
  if constexpr (kLower) tiles::load<5>(from + p.upper * p.a_row, p.a_row);
}
template <bool kRight>
HWY_INLINE void load_b(const Piece& p, int part, const char* at) {
  const char* from = at + part * p.b_part;
  tiles::load<6>(from, kWidth * 4);
  if constexpr (kRight) tiles::load<7>(from + kLanes * 4, kWidth * 4);
}
template <bool kLower, bool kRight>
HWY_INLINE void add() {
  tiles::add_halves<0, 4, 6>();
  if constexpr (kRight) tiles::add_halves<1, 4, 7>();
  if constexpr (kLower) tiles::add_halves<2, 5, 6>();
  if constexpr (kLower && kRight) tiles::add_halves<3, 5, 7>();
}

// Where sums of a tile stand, and how many numbers it is from row to row.
struct Sums {
  float* at = nullptr;
  int64_t stride = 0;
};

// Sums of up to 32 rows by a panel's columns, added to those at `start`, or to zero where that is null.
template <int A, int B, bool kLower, bool kRight>
void tile(const Piece& p, Sums start, Sums sums) {
  if (start.at == nullptr) {
    tiles::zero<0>();
    if constexpr (kRight) tiles::zero<1>();
    if constexpr (kLower) tiles::zero<2>();
    if constexpr (kLower && kRight) tiles::zero<3>();
  } else {
    const float* below = start.at + p.upper * start.stride;
    tiles::load<0>(start.at, start.stride * 4);
    if constexpr (kRight) tiles::load<1>(start.at + kLanes, start.stride * 4);
    if constexpr (kLower) tiles::load<2>(below, start.stride * 4);
    if constexpr (kLower && kRight) tiles::load<3>(below + kLanes, start.stride * 4);
  }
  const char *a = nullptr, *b = p.b;
  for (int64_t c = 0; c < p.segments * p.chunks; ++c, a += p.groups * 4, b += p.groups * kWidth * 4) {
    if (c % p.chunks == 0) a = p.a[c / p.chunks];
    // One side stays from product to product.
    const auto rows = [&](int part) { load_a<kLower>(p, part, a), add<kLower, kRight>(); };
    const auto columns = [&](int part) { load_b<kRight>(p, part, b), add<kLower, kRight>(); };
    if constexpr (A == 1) {
      load_a<kLower>(p, 0, a), columns(0);
    } else if constexpr (A == 2) {
      load_a<kLower>(p, 0, a), columns(1), columns(0), rows(1);
    } else if constexpr (B == 1) {
      load_b<kRight>(p, 0, b), rows(2), rows(1), rows(0);
    } else if constexpr (B == 2) {
      load_a<kLower>(p, 0, a), columns(1), rows(1), columns(0), rows(0), rows(2);
    } else {
      load_a<kLower>(p, 0, a), columns(2), columns(1), rows(1), columns(0), rows(2), rows(0);
    }
  }
  float* below = sums.at + p.upper * sums.stride;
  tiles::store<0>(sums.at, sums.stride * 4);
  if constexpr (kRight) tiles::store<1>(sums.at + kLanes, sums.stride * 4);
  if constexpr (kLower) tiles::store<2>(below, sums.stride * 4);
  if constexpr (kLower && kRight) tiles::store<3>(below + kLanes, sums.stride * 4);
}
// By whether there are lower rows, whether there are right columns.
template <int A, int B>
inline constexpr auto kTileOf =
    std::array{std::array{tile<A, B, false, false>, tile<A, B, false, true>}, std::array{tile<A, B, true, false>, tile<A, B, true, true>}};

// Sums of a tile to C.
void finish(const DenseArguments& g, const float* sums, int64_t row, int rows, int64_t column, int64_t columns) {
  const F32 d;
  const DenseEpilogue& e = g.epilogue;
  for (int64_t v = 0; v < columns; v += kLanes) {
    const auto there = static_cast<__mmask16>(columns - v >= kLanes ? 0xffffu : (1u << (columns - v)) - 1);
    const auto load = [there](const float* p) HWY_ATTR { return VF{_mm512_maskz_loadu_ps(there, p)}; };
    const VF factor = e.factor ? load(e.factor + column + v) : hn::Set(d, 1), bias = e.bias ? load(e.bias + column + v) : hn::Zero(d);
    for (int r = 0; r < rows; ++r) {
      VF x = hn::LoadU(d, sums + r * kWidth + v);
      if (e.factor) x = hn::Mul(x, factor);
      if (e.bias) x = hn::Add(x, bias);
      if (e.residual) x = hn::Add(x, load(e.residual + (row + r) * e.residual_stride + column + v));
      if (e.clamp) x = clamped(x, hn::Set(d, e.low), hn::Set(d, e.high));
      _mm512_mask_storeu_ps(g.c + (row + r) * g.ldc + column + v, there, x.raw);
    }
  }
}

// Between two pieces of K, sums stand in C: of whole panels tiles put them there, of the last one these.
void sums_from(const DenseArguments& g, float* sums, int64_t row, int rows, int64_t column, int64_t columns) {
  for (int r = 0; r < rows; ++r) std::memcpy(sums + r * kWidth, g.c + (row + r) * g.ldc + column, static_cast<size_t>(columns) * 4);
}
void sums_to(const DenseArguments& g, const float* sums, int64_t row, int rows, int64_t column, int64_t columns) {
  for (int r = 0; r < rows; ++r) std::memcpy(g.c + (row + r) * g.ldc + column, sums + r * kWidth, static_cast<size_t>(columns) * 4);
}

template <PanelType T, bool kLikeB>
void by_tiles(const DenseArguments& g) {
  constexpr int A = TileForm{T, kLikeB}.a_parts(), B = kParts<T>;
  constexpr int64_t kElement = T == PanelType::f32 ? 4 : 2;
  const RunTape run = g.epilogue.tape ? run_tape(kHere) : nullptr;
  char *rows_at = static_cast<char*>(g.tile_room), *panel_at = rows_at + kGroupRows<A> * kRowBytes<A>;
  alignas(64) float sums[kTall * kWidth];
  const int64_t k = g.segments * g.run, rows = g.row_end - g.row_begin;
  constexpr int64_t kMost = kPieceBytes<A> / 2 / A / 32 * 32;
  const int64_t pieces = tiles::along(k, kMost), piece = tiles::along(tiles::along(k, pieces), 2) * 2;
  const int64_t row_groups = tiles::along(rows, kGroupRows<A>);
  tiles::Shape shape;
  for (int64_t group = 0; group < row_groups; ++group) {
    const int64_t begin = g.row_begin + rows * group / row_groups, end = g.row_begin + rows * (group + 1) / row_groups;
    const int64_t height = tiles::even(end - begin, kTall);  // of a tile; the last one's may be less
    for (int64_t from = 0; from < k; from += piece) {
      const int64_t count = std::min(piece, k - from), pairs = (count + 1) / 2;
      const int64_t chunk = tiles::even(pairs), chunks = tiles::along(pairs, chunk), part_bytes = chunk * chunks * 4;
      const bool first = from == 0, last = from + count == k;
      for (int64_t row = begin; row < end; row += height)
        part_rows<A>(g, row, static_cast<int>(std::min(height, end - row)), from, count, rows_at + (row - begin) * kRowBytes<A>,
                     part_bytes);
      for (int64_t panel = g.panel_begin; panel < g.panel_end; ++panel) {
        const int64_t column = panel * kWidth, columns = std::min(kWidth, g.columns - column);
        part_panel<T>(static_cast<const char*>(g.b) + (panel * k + from) * kWidth * kElement, count, chunk * chunks, panel_at);
        for (int64_t row = begin; row < end; row += height) {
          const int tall = static_cast<int>(std::min(height, end - row)), upper = tall > tiles::kRows ? (tall + 1) / 2 : tall;
          shape.take(upper, tall - upper, static_cast<int>(chunk));
          const char* tile_rows = rows_at + (row - begin) * kRowBytes<A>;
          const Piece p{&tile_rows, panel_at, part_bytes, part_bytes * kWidth, kRowBytes<A>, 1, chunks, chunk, upper};
          const bool right = columns > kLanes, whole = columns == kWidth;
          const Sums beside{sums, kWidth}, kept = whole ? Sums{g.c + row * g.ldc + column, g.ldc} : beside;
          if (!first && !whole) sums_from(g, sums, row, tall, column, columns);
          kTileOf<A, B>[tall > upper][right](p, first ? Sums() : kept, last ? beside : kept);
          if (last) finish(g, sums, row, tall, column, columns);
          else if (!whole) sums_to(g, sums, row, tall, column, columns);
        }
        if (last && run) tape_over_rows(g.epilogue, run, g.c + begin * g.ldc + column, g.ldc, begin, end - begin, column, columns);
      }
    }
  }
}

template <PanelType T, bool kLikeB>
void by_tiles_in_place(const DenseArguments& g, const PartedRows& rows) {
  constexpr int A = TileForm{T, kLikeB}.a_parts(), B = kParts<T>;
  constexpr int64_t kElement = T == PanelType::f32 ? 4 : 2;
  const RunTape run = g.epilogue.tape ? run_tape(kHere) : nullptr;
  char* panel_at = static_cast<char*>(g.tile_room);
  alignas(64) float sums[kTall * kWidth];
  const int64_t k = g.segments * g.run, line = rows.window.out_w, chunk = tiles::dividing(g.run / 2);
  const uint16_t* points[kMostPoints];
  const char* segments[kMostPoints];
  tiles::Shape shape;
  for (int64_t panel = g.panel_begin; panel < g.panel_end; ++panel) {
    const int64_t column = panel * kWidth, columns = std::min(kWidth, g.columns - column);
    part_panel<T>(static_cast<const char*>(g.b) + panel * k * kWidth * kElement, k, k / 2, panel_at);
    for (int64_t row = g.row_begin, tall = 0; row < g.row_end; row += tall) {
      tall = tiles::even(std::min(g.row_end - row, line - row % line), kTall);
      const int height = static_cast<int>(tall), upper = height > tiles::kRows ? (height + 1) / 2 : height;
      point_rows(rows.window, row, 1, 0, g.segments, int64_t{0}, points);
      for (int64_t s = 0; s < g.segments; ++s) segments[s] = reinterpret_cast<const char*>(points[s]);
      shape.take(upper, height - upper, static_cast<int>(chunk));
      const Piece p{segments, panel_at, rows.distance * 2, k / 2 * kWidth * 4, rows.pixel * 2, g.segments, g.run / 2 / chunk, chunk, upper};
      kTileOf<A, B>[height > upper][columns > kLanes](p, Sums(), {sums, kWidth});
      finish(g, sums, row, height, column, columns);
      if (run) tape_over_rows(g.epilogue, run, g.c + row * g.ldc + column, g.ldc, row, tall, column, columns);
    }
  }
}

template <bool kLikeB>
void dense_by_type(const DenseArguments& g) {
  switch (g.b_type) {
    case PanelType::f32: return by_tiles<PanelType::f32, false>(g);
    case PanelType::f16: return by_tiles<PanelType::f16, kLikeB>(g);
    default: return by_tiles<PanelType::bf16, kLikeB>(g);
  }
}
template <bool kLikeB>
void parted_by_type(const DenseArguments& g, const PartedRows& rows) {
  switch (g.b_type) {
    case PanelType::f32: return by_tiles_in_place<PanelType::f32, false>(g, rows);
    case PanelType::f16: return by_tiles_in_place<PanelType::f16, kLikeB>(g, rows);
    default: return by_tiles_in_place<PanelType::bf16, kLikeB>(g, rows);
  }
}

LATHE_GIVES_WAY void DenseByTilesHere(const DenseArguments& g) { g.rows_like_b ? dense_by_type<true>(g) : dense_by_type<false>(g); }
LATHE_GIVES_WAY void PartedByTilesHere(const DenseArguments& g, const PartedRows& rows) {
  g.rows_like_b ? parted_by_type<true>(g, rows) : parted_by_type<false>(g, rows);
}
LATHE_GIVES_WAY void PartFloatsHere(int parts, const float* from, int64_t count, uint16_t* to, int64_t distance) {
  auto* bytes = reinterpret_cast<char*>(to);
  switch (parts) {
    case 3: return part_run<3>(from, count, bytes, distance * 2);
    case 2: return part_run<2>(from, count, bytes, distance * 2);
    default: return part_run<1>(from, count, bytes, distance * 2);
  }
}
#endif

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

int64_t most_parted_depth(PanelType type) { return kTileRoom / (32 * 2 * TileForm{type}.b_parts()); }

#if HWY_ARCH_X86 && (HWY_TARGETS & HWY_AVX3)
void dense_by_tiles(const DenseArguments& g) { N_AVX3::DenseByTilesHere(g); }
void parted_by_tiles(const DenseArguments& g, const PartedRows& rows) { N_AVX3::PartedByTilesHere(g, rows); }
void part_floats(int parts, const float* from, int64_t count, uint16_t* to, int64_t distance) {
  N_AVX3::PartFloatsHere(parts, from, count, to, distance);
}
#else
// Nobody asks: has_tiles() is false.
void dense_by_tiles(const DenseArguments&) {}
void parted_by_tiles(const DenseArguments&, const PartedRows&) {}
void part_floats(int, const float*, int64_t, uint16_t*, int64_t) {}
#endif

}  // namespace lathe::kernels
#endif
