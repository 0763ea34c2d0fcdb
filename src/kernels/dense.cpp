#include "kernels/dense.hpp"

#include <algorithm>
#include <array>
#include <cstring>
#include <type_traits>
#include <utility>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/dense.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/cache_control.h>
#include <hwy/highway.h>

#include "kernels/copy.hpp"
#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Register tile: rows x (vectors of columns). Accumulators, the B vectors and one broadcast must fit the registers.
inline constexpr int kVectors = kPanelVectors;
inline constexpr int kRows = HWY_TARGET == HWY_AVX3 ? 14 : HWY_TARGET == HWY_SCALAR ? 4 : 6;
inline constexpr int64_t kWidth = kPanelWidth;

// A packed B up to this size is taken to stay in L2 from one call to the next.
inline constexpr int64_t kNearBytes = 1 << 20;

// Rows up to this long that lie this close are read where they are: copying them side by side costs more than it saves.
inline constexpr int64_t kShort = 64;

// As few rows as this pass over B once, from memory, panel by panel from its first byte to its last; their lines fit the ways of a set of
// L1 however far apart they are.
inline constexpr int64_t kFewRows = 8;

// Taps whose row pointers are set up together.
inline constexpr int64_t kMaxTaps = 64;

// A tile's rows of A are copied side by side, so far apart: an odd number of lines, so that they do not fall into the same few sets of
// L1, and a constant, so that one base register does for all of them.
inline constexpr int64_t kMostDepth = kNearStride - 16;

struct Finish {
  const float* factor;    // kWidth of them, or null
  const float* bias;      // kWidth of them, or null
  const float* residual;  // row 0, first column; or null
  int64_t residual_stride;
  bool clamp;
  float low, high;
};

Finish finish_at(const DenseEpilogue& e, int64_t row, int64_t column) {
  return {e.factor ? e.factor + column : nullptr,
          e.bias ? e.bias + column : nullptr,
          e.residual ? e.residual + row * e.residual_stride + column : nullptr,
          e.residual_stride,
          e.clamp,
          e.low,
          e.high};
}

// A vector of a packed B, widened.
HWY_INLINE VF load_panel(const float* b) { return hn::LoadU(F32(), b); }
template <typename B>
HWY_INLINE VF load_panel(const B* b) {
  const F32 d;
  return hn::PromoteTo(d, hn::LoadU(hn::Rebind<B, F32>(), b));
}

// acc + *a * b.
HWY_INLINE VF add_product(VF acc, const float* a, VF b) {
#if HWY_TARGET == HWY_AVX3
  // The broadcast inside the multiply-add: one instruction less to decode. Compilers join two such loads of the same float into one.
  __m512 sum = acc.raw;
  asm("vfmadd231ps %2%{1to16%}, %1, %0" : "+v"(sum) : "v"(b.raw), "m"(*a));
  return VF{sum};
#else
  return hn::MulAdd(hn::Set(F32(), *a), b, acc);
#endif
}

// What a tile fetches into L2 beside its own work: from there on, so many bytes further at each k. Nothing: of its own panel, a little
// ahead.
struct Ahead {
  const char* from = nullptr;
  int64_t step = 0;
  int64_t bytes = kFetchAhead;  // how far ahead of where it is a tile fetches its own panel
  bool far = false;             // B as a whole does not stay in L2: low tiles, which pass over it once, fetch it themselves
};

// What follows the sums of a tile: those of other parts of K, bias, residual, clamp, store. One pass over the registers for each, so that
// each is asked about once a tile.
template <int R, int V, bool kPart, typename Sum>
HWY_INLINE void settle(float* HWY_RESTRICT c, int64_t ldc, bool accumulate, const Finish* finish, int64_t part, Sum sum) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  VF x[R][V];
  const auto each = [&](auto&& change) HWY_ATTR {
#pragma GCC unroll 16
    for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
      for (int v = 0; v < V; ++v) x[r][v] = change(r, v);
    }
  };
  const auto load = [&](const float* p, int v)
                        HWY_ATTR { return !kPart || v + 1 < V ? hn::LoadU(d, p + v * lanes) : load_part(p + v * lanes, part); };
  each(sum);
  if (accumulate) each([&](int r, int v) HWY_ATTR { return hn::Add(x[r][v], load(c + r * ldc, v)); });
  if (finish) {
    const auto by_column = [&](const float* of, auto&& join) HWY_ATTR {
      if (of == nullptr) return;
      VF y[V];
#pragma GCC unroll 4
      for (int v = 0; v < V; ++v) y[v] = load(of, v);
      each([&](int r, int v) HWY_ATTR { return join(x[r][v], y[v]); });
    };
    by_column(finish->factor, [](VF a, VF b) HWY_ATTR { return hn::Mul(a, b); });
    by_column(finish->bias, [](VF a, VF b) HWY_ATTR { return hn::Add(a, b); });
    if (finish->residual)
      each([&](int r, int v) HWY_ATTR { return hn::Add(x[r][v], load(finish->residual + r * finish->residual_stride, v)); });
    if (finish->clamp) {
      const VF low = hn::Set(d, finish->low), high = hn::Set(d, finish->high);
      each([&](int r, int v) HWY_ATTR { return clamped(x[r][v], low, high); });
    }
  }
#pragma GCC unroll 16
  for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
    for (int v = 0; v < V; ++v) {
      float* at = c + r * ldc + v * lanes;
      if (!kPart || v + 1 < V) hn::StoreU(x[r][v], d, at);
      else store_part(x[r][v], at, part);
    }
  }
}

// One tile: R rows x V vectors of one panel; kPart: only `part` lanes of the last vector are columns. Rows of A stand kNearStride apart.
template <int R, int V, bool kPart, typename B>
HWY_NOINLINE void micro(const float* HWY_RESTRICT a, int64_t depth, const void* HWY_RESTRICT panel, float* HWY_RESTRICT c, int64_t ldc,
                        bool accumulate, const Finish* finish, int64_t part, const Ahead& ahead) {
  const auto* HWY_RESTRICT b = static_cast<const B*>(panel);
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  // Few accumulators would wait for one another: sums of alternate k run side by side. Only where a tile this low means that the whole
  // product has so few rows, so that no split among threads changes an element's order of summation.
  constexpr int U = HWY_TARGET == HWY_SCALAR || R > 2 ? 1 : R == 1 ? 4 : 2;
  // Of every four rows one leaves its broadcast inside the multiply-adds: with more of them load ports are short (92 % of the peak with
  // two of four, 98 % with one), with none decoding is, when the core's other thread is busy.
  constexpr bool kFused = HWY_TARGET == HWY_AVX3 && V > 1;
  VF acc[U][R][V];
#pragma GCC unroll 4
  for (int u = 0; u < U; ++u) {
#pragma GCC unroll 16
    for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
      for (int v = 0; v < V; ++v) acc[u][r][v] = hn::Zero(d);
    }
  }
  const bool far = ahead.far;
  const char* fetched = ahead.from ? ahead.from : reinterpret_cast<const char*>(b) + ahead.bytes;
  const int64_t fetch_step = ahead.from ? ahead.step : kWidth * static_cast<int64_t>(sizeof(B));
  const bool two_lines = fetch_step > 64;
  const int64_t own = ahead.bytes / static_cast<int64_t>(sizeof(B));
  const auto step = [&](int u, int ahead) HWY_ATTR {
    VF bv[V];
#pragma GCC unroll 4
    for (int v = 0; v < V; ++v) bv[v] = load_panel(b + ahead * kWidth + v * lanes);
    // The hardware's own prefetch starts too late at each panel. Low tiles that find B in L2 are bound by loads: theirs is left out.
    if (R > 4) {
      __builtin_prefetch(fetched, 0, 2);
      if (two_lines) __builtin_prefetch(fetched + 64, 0, 2);
      fetched += fetch_step;
    } else if (far) {
      hwy::Prefetch(b + own + ahead * kWidth);
      if (kWidth * sizeof(B) > 64) hwy::Prefetch(b + own + ahead * kWidth + 16);
    }
#pragma GCC unroll 16
    for (int r = 0; r < R; ++r) {
      const float* at = a + r * kNearStride + ahead;
      if (kFused && r % 4 == 0) {
#pragma GCC unroll 4
        for (int v = 0; v < V; ++v) acc[u][r][v] = add_product(acc[u][r][v], at, bv[v]);
      } else {
        const VF av = hn::Set(d, *at);
#pragma GCC unroll 4
        for (int v = 0; v < V; ++v) acc[u][r][v] = hn::MulAdd(av, bv[v], acc[u][r][v]);
      }
    }
  };
  // What is left over of K comes first, where that changes no order of sums, and loops count down: else GCC wants for registers.
  constexpr int kUnroll = U > 2 ? U : 2;
  for (int64_t odd = U == 1 ? depth % kUnroll : 0; odd > 0; --odd) {
    step(0, 0);
    ++a;
    b += kWidth;
  }
  for (int64_t k = depth / kUnroll; k > 0; --k) {
#pragma GCC unroll 4
    for (int i = 0; i < kUnroll; ++i) step(i % U, i);
    a += kUnroll;
    b += kUnroll * kWidth;
  }
  for (int64_t odd = U == 1 ? 0 : depth % kUnroll; odd > 0; --odd) {
    step(0, 0);
    ++a;
    b += kWidth;
  }
  settle<R, V, kPart>(c, ldc, accumulate, finish, part, [&](int r, int v) HWY_ATTR {
    VF x = acc[0][r][v];
#pragma GCC unroll 4
    for (int u = 1; u < U; ++u) x = hn::Add(x, acc[u][r][v]);
    return x;
  });
}

// A tile whose rows are read where they stand, `stride` floats apart, for `segments` runs of K at even distances.
// `fetch`: so many floats ahead B, which comes from memory, is asked for; 0: not.
template <int R, int V, bool kPart>
HWY_NOINLINE void micro_there(const float* HWY_RESTRICT a, int64_t stride, int64_t segments, int64_t segment_stride, int64_t run,
                              const float* HWY_RESTRICT b, float* HWY_RESTRICT c, int64_t ldc, const Finish* finish, int64_t part,
                              int64_t fetch) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  VF acc[R][V];
#pragma GCC unroll 16
  for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
    for (int v = 0; v < V; ++v) acc[r][v] = hn::Zero(d);
  }
  for (int64_t s = 0; s < segments; ++s, a += segment_stride) {
    // One base for three rows, whose distances an address can hold.
    constexpr int kBases = (R + 2) / 3;
    const float* at[kBases];
#pragma GCC unroll 8
    for (int i = 0; i < kBases; ++i) at[i] = a + 3 * i * stride;
    for (int64_t k = 0; k < run; ++k, b += kWidth) {
      VF bv[V];
#pragma GCC unroll 4
      for (int v = 0; v < V; ++v) bv[v] = hn::LoadU(d, b + v * lanes);
      if (fetch > 0) {
        hwy::Prefetch(b + fetch);
        if (kWidth > 16) hwy::Prefetch(b + fetch + 16);
      }
#pragma GCC unroll 16
      for (int r = 0; r < R; ++r) {
        const VF av = hn::Set(d, at[r / 3][r % 3 * stride]);
#pragma GCC unroll 4
        for (int v = 0; v < V; ++v) acc[r][v] = hn::MulAdd(av, bv[v], acc[r][v]);
      }
#pragma GCC unroll 8
      for (int i = 0; i < kBases; ++i) ++at[i];
    }
  }
  settle<R, V, kPart>(c, ldc, false, finish, part, [&](int r, int v) HWY_ATTR { return acc[r][v]; });
}

using Micro = void (*)(const float*, int64_t, const void*, float*, int64_t, bool, const Finish*, int64_t, const Ahead&);
template <int V, bool kPart, typename B, int... R>
constexpr std::array<Micro, sizeof...(R) + 1> micro_row(std::integer_sequence<int, R...>) {
  return {nullptr, micro<R + 1, V, kPart, B>...};
}
template <bool kPart, typename B, int... V>
constexpr std::array<std::array<Micro, kRows + 1>, sizeof...(V) + 1> micro_table(std::integer_sequence<int, V...>) {
  return {std::array<Micro, kRows + 1>{}, micro_row<V + 1, kPart, B>(std::make_integer_sequence<int, kRows>())...};
}
// By vectors of columns, then rows.
template <bool kPart, typename B>
inline constexpr auto kTable = micro_table<kPart, B>(std::make_integer_sequence<int, kVectors>());

using MicroThere = void (*)(const float*, int64_t, int64_t, int64_t, int64_t, const float*, float*, int64_t, const Finish*, int64_t,
                            int64_t);
template <int V, bool kPart, int... R>
constexpr std::array<MicroThere, sizeof...(R) + 1> there_row(std::integer_sequence<int, R...>) {
  return {nullptr, micro_there<R + 1, V, kPart>...};
}
template <bool kPart, int... V>
constexpr std::array<std::array<MicroThere, kRows + 1>, sizeof...(V) + 1> there_table(std::integer_sequence<int, V...>) {
  return {std::array<MicroThere, kRows + 1>{}, there_row<V + 1, kPart>(std::make_integer_sequence<int, kRows>())...};
}
template <bool kPart>
inline constexpr auto kThere = there_table<kPart>(std::make_integer_sequence<int, kVectors>());

// The kernel for so many rows and columns of a panel, and how many lanes of its last vector they fill.
struct Choice {
  Micro kernel;
  int64_t part;
};
template <typename B>
Choice choose_of(int64_t rows, int64_t columns) {
  const int64_t lanes = hn::Lanes(F32()), vectors = (columns + lanes - 1) / lanes, part = columns - (vectors - 1) * lanes;
  // Of the tables only those that make a difference: a vector of one lane has no part, and where parts are masks they do for whole vectors
  // too, which matters for floats alone.
  if constexpr (HWY_TARGET == HWY_SCALAR) return {kTable<false, B>[vectors][rows], part};
  else if constexpr (kMasks && !std::is_same_v<B, float>) return {kTable<true, B>[vectors][rows], part};
  else return {(part == lanes ? kTable<false, B> : kTable<true, B>)[vectors][rows], part};
}
Choice choose(PanelType type, int64_t rows, int64_t columns) {
  switch (type) {
    case PanelType::f16: return choose_of<hwy::float16_t>(rows, columns);
    case PanelType::bf16: return choose_of<hwy::bfloat16_t>(rows, columns);
    default: return choose_of<float>(rows, columns);
  }
}

// Copies a tile's rows, `taps` runs each, side by side.
void gather_rows(const float* const* pointers, int rows, int64_t taps, int64_t run, float* to) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  for (int r = 0; r < rows; ++r) {
    float* out = to + r * kNearStride;
    for (int64_t t = 0; t < taps; ++t, out += run) {
      const float* in = pointers[t * rows + r];
      int64_t i = 0;
      for (; i + lanes <= run; i += lanes) hn::StoreU(hn::LoadU(d, in + i), d, out + i);
      if (i < run) {
        if constexpr (kMasks) store_part(load_part(in + i, run - i), out + i, run - i);
        else std::memcpy(out + i, in + i, static_cast<size_t>(run - i) * sizeof(float));
      }
    }
  }
}

// Tiles of equal height rather than full ones and a rest.
int64_t tiles_over(const DenseArguments& g, int64_t rows) {
  const int64_t height = g.tile_rows > 0 ? std::min<int64_t>(g.tile_rows, kRows) : kRows;
  return (rows + height - 1) / height;
}

void apply_tape(const DenseArguments& g, RunTape run, int64_t row, int rows, int64_t column, int64_t columns) {
  tape_over_rows(g.epilogue, run, g.c + row * g.ldc + column, g.ldc, row, rows, column, columns);
}

// Short rows that are read where they stand: tiles of equal height along all of them, or along each output line of a window.
void there(const DenseArguments& g, RunTape run_tape_here, bool far) {
  const int64_t fetch = far ? g.fetch_ahead / static_cast<int64_t>(sizeof(float)) : 0;
  const WindowRows* w = g.window;
  const int64_t lanes = hn::Lanes(F32()), k = g.segments * g.run, length = w ? w->out_w : g.row_end, plane = w ? w->out_h * length : 0,
                stride = w ? g.pixel_stride : g.lda;
  for (int64_t line = g.row_begin; line < g.row_end;) {
    const int64_t begin = w ? line % length : line, count = std::min(length - begin, g.row_end - line), tiles = tiles_over(g, count);
    const float* from =
        w ? w->base + line / plane * w->image_stride + w->y[line % plane / length * w->kh] + w->x[begin] : g.a + line * g.lda;
    for (int64_t t = 0; t < tiles; ++t) {
      const int64_t first = count * t / tiles, row = line + first;
      const int height = static_cast<int>(count * (t + 1) / tiles - first);
      for (int64_t p = g.panel_begin; p < g.panel_end; ++p) {
        const int64_t column = p * kWidth, columns = std::min(kWidth, g.columns - column), vectors = (columns + lanes - 1) / lanes,
                      part = columns - (vectors - 1) * lanes;
        const Finish f = finish_at(g.epilogue, row, column);
        (part == lanes || HWY_TARGET == HWY_SCALAR ? kThere<false> : kThere<HWY_TARGET != HWY_SCALAR>)[vectors][height](
            from + first * stride, stride, g.segments, g.segment_stride, g.run, static_cast<const float*>(g.b) + p * k * kWidth,
            g.c + row * g.ldc + column, g.ldc, &f, part, fetch);
      }
      if (g.epilogue.tape) {
        const int64_t column = g.panel_begin * kWidth;
        apply_tape(g, run_tape_here, row, height, column, std::min(g.panel_end * kWidth, g.columns) - column);
      }
    }
    line += count;
  }
}

// As many columns are done with vectors along K, where a panel would be mostly empty; of so many numbers of B in all.
inline constexpr int64_t kFewColumns = HWY_TARGET == HWY_SCALAR ? 0 : HWY_TARGET == HWY_AVX3 ? 4 : 2;
inline constexpr int64_t kFewNumbers = 8192;

// R rows by C columns of a part of K: sums[r * C + c] += rows[r][0, run) * columns[c][0, run).
template <int R, int C>
HWY_INLINE void dots(const float* const* rows, const float* HWY_RESTRICT columns, int64_t depth, int64_t run, VF (&acc)[R][C]) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  const auto step = [&](int64_t k, auto load) HWY_ATTR {
    VF b[C];
    LATHE_UNROLL(4)
    for (int c = 0; c < C; ++c) b[c] = load(columns + c * depth + k);
    LATHE_UNROLL(4)
    for (int r = 0; r < R; ++r) {
      const VF a = load(rows[r] + k);
      LATHE_UNROLL(4)
      for (int c = 0; c < C; ++c) acc[r][c] = hn::MulAdd(a, b[c], acc[r][c]);
    }
  };
  int64_t k = 0;
  for (; k + lanes <= run; k += lanes) step(k, [&](const float* p) HWY_ATTR { return hn::LoadU(d, p); });
  if (k < run) step(k, [&](const float* p) HWY_ATTR { return load_part(p, run - k); });
}

template <int R, int C>
void few_columns_rows(const DenseArguments& g, const float* columns, int64_t row) {
  const F32 d;
  const int64_t depth = g.segments * g.run;
  const float* pointers[kMaxTaps * R];
  VF acc[R][C];
  LATHE_UNROLL(4)
  for (int r = 0; r < R; ++r) {
    LATHE_UNROLL(4)
    for (int c = 0; c < C; ++c) acc[r][c] = hn::Zero(d);
  }
  for (int64_t tap = 0; tap < g.segments; tap += kMaxTaps) {
    const int64_t taps = std::min(kMaxTaps, g.segments - tap);
    if (g.window) {
      point_rows(*g.window, row, R, tap, taps, int64_t{0}, pointers);
    } else {
      for (int r = 0; r < R; ++r) pointers[r] = g.a + (row + r) * g.lda;
    }
    for (int64_t t = 0; t < taps; ++t) dots<R, C>(pointers + t * R, columns + (tap + t) * g.run, depth, g.run, acc);
  }
  const DenseEpilogue& e = g.epilogue;
  for (int r = 0; r < R; ++r) {
    for (int c = 0; c < C; ++c) {
      float x = hn::GetLane(hn::SumOfLanes(d, acc[r][c]));
      if (e.factor) x *= e.factor[c];
      if (e.bias) x += e.bias[c];
      if (e.residual) x += e.residual[(row + r) * e.residual_stride + c];
      if (e.clamp) {  // NaN stays
        if (x < e.low) x = e.low;
        if (x > e.high) x = e.high;
      }
      g.c[(row + r) * g.ldc + c] = x;
    }
  }
}

template <int C>
void few_columns(const DenseArguments& g, RunTape run_tape_here) {
  const int64_t depth = g.segments * g.run;
  alignas(64) float columns[kFewNumbers];
  const float* b = static_cast<const float*>(g.b);
  for (int64_t k = 0; k < depth; ++k) {
    for (int c = 0; c < C; ++c) columns[c * depth + k] = b[k * kWidth + c];
  }
  int64_t row = g.row_begin;
  for (; row + 4 <= g.row_end; row += 4) few_columns_rows<4, C>(g, columns, row);
  for (; row < g.row_end; ++row) few_columns_rows<1, C>(g, columns, row);
  if (g.epilogue.tape) apply_tape(g, run_tape_here, g.row_begin, static_cast<int>(g.row_end - g.row_begin), 0, C);
}

// Whether a product is one of few columns: by its form alone, not by the rows of this call, so that no split changes an element's sum.
bool has_few_columns(const DenseArguments& g) {
  const int64_t lanes = hn::Lanes(F32());
  return g.columns <= kFewColumns && g.b_type == PanelType::f32 && g.run >= lanes && g.segments * g.run * g.columns <= kFewNumbers;
}

// How K is done in parts: several whole taps, or a part of one long run.
struct Depth {
  int64_t parts = 1, part = 0;  // of a run
  int64_t taps_each = 1;
};
Depth depth_of(const DenseArguments& g, int64_t k_block) {
  Depth d;
  d.parts = g.run > k_block ? (g.run + k_block - 1) / k_block : 1;
  d.part = d.parts > 1 ? (g.run + d.parts - 1) / d.parts : g.run;
  const int64_t most_taps = d.parts > 1 ? 1 : std::clamp<int64_t>(k_block / std::max<int64_t>(1, g.run), 1, kMaxTaps);
  const int64_t tap_blocks = (g.segments + most_taps - 1) / most_taps;
  d.taps_each = (g.segments + tap_blocks - 1) / std::max<int64_t>(1, tap_blocks);
  return d;
}

// Where a tile's rows stand for these taps, from `offset` of each run on.
void point_tile(const DenseArguments& g, int64_t row, int height, int64_t tap, int64_t taps, int64_t offset, const float** pointers) {
  if (g.window) return point_rows(*g.window, row, height, tap, taps, offset, pointers);
  for (int r = 0; r < height; ++r) pointers[r] = g.a + (row + r) * g.lda + offset;
}

// What a tile fetches while it works. Of the first block of panels, the first tile passes over panels that come from memory: it fetches the
// next one (`panel`; null: this is the last) while it works on one, and later tiles each fetch a share of the block that follows (`block`,
// where this panel's place in it begins; null: there is none). When its turn comes it is in L2 (`warm`), and all tiles share in fetching
// the one behind it: memory is never idle. `line`: bytes of a panel's row, `depth` of them.
Ahead fetched(bool warm, int64_t tile, int64_t tiles, const char* panel, const char* block, int64_t depth, int64_t line) {
  const int64_t sharing = warm ? tiles : tiles - 1, share = warm ? tile : tile - 1;
  Ahead ahead;
  if (share < 0) ahead.from = panel ? panel : block, ahead.step = line;
  else if (block) ahead.step = line / sharing, ahead.from = block + share * depth * ahead.step;
  return ahead;
}

// Tiles that pass over panels of 16 bits before it pays to make floats of these first: widening takes as long as a sixth of a tile does.
inline constexpr int64_t kWidenedTiles = 3;

template <typename B>
void widen_lines(const void* panel, int64_t lines, float* HWY_RESTRICT out) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  const auto* HWY_RESTRICT b = static_cast<const B*>(panel);
  for (int64_t i = 0; i < lines * kWidth; i += kWidth) {
    LATHE_UNROLL(4)
    for (int64_t v = 0; v < kVectors; ++v) hn::Store(load_panel(b + i + v * lanes), d, out + i + v * lanes);
  }
}

// Bytes of a row of a panel where it stands.
int64_t line_bytes(const DenseArguments& g) {
  const int64_t bits = g.b_type == PanelType::f32 ? 32 : g.b_type == PanelType::quantised ? narrow_bits(g.quantised->type) : 16;
  return kWidth * bits / 8;
}

// Some panels at a part of K: where they stand, or as floats in the room for them.
class PanelsAt {
 public:
  PanelsAt(const DenseArguments& g, int64_t tiles)
      : g_(g),
        k_(g.segments * g.run),
        line_(line_bytes(g)),
        floats_(g.b_type == PanelType::quantised || (g.b_type != PanelType::f32 && tiles >= kWidenedTiles) ? g.widened : nullptr) {}
  bool widened() const { return floats_ != nullptr; }
  PanelType type() const { return floats_ ? PanelType::f32 : g_.b_type; }
  int64_t line() const { return line_; }
  const char* given(int64_t panel, int64_t k_at) const { return static_cast<const char*>(g_.b) + (panel * k_ + k_at) * line_; }
  // From here on panels [panel, panel + panels) at rows [k_at, k_at + depth).
  void pass(int64_t panel, int64_t panels, int64_t k_at, int64_t depth) {
    first_ = panel, k_at_ = k_at, depth_ = depth;
    for (int64_t p = 0; floats_ && p < panels; ++p) {
      float* to = floats_ + p * depth * kWidth;
      switch (g_.b_type) {
        case PanelType::f16: widen_lines<hwy::float16_t>(given(panel + p, k_at), depth, to); break;
        case PanelType::bf16: widen_lines<hwy::bfloat16_t>(given(panel + p, k_at), depth, to); break;
        default: g_.widen(*g_.quantised, panel + p, k_at, k_at + depth, to);
      }
    }
  }
  const void* at(int64_t panel) const {
    return floats_ ? static_cast<const void*>(floats_ + (panel - first_) * depth_ * kWidth) : given(panel, k_at_);
  }

 private:
  const DenseArguments& g_;
  int64_t k_, line_;
  float* floats_;
  int64_t first_ = 0, k_at_ = 0, depth_ = 0;
};

// Tiles of rows are packed for a part of K, then all panels pass over them: each row is copied once, not once for each block of panels.
// The order of each element's sum is that of the other way.
void packed(const DenseArguments& g, const Depth& depth, RunTape run_tape_here) {
  const int64_t rows = g.row_end - g.row_begin, k = g.segments * g.run;
  const int64_t tiles = tiles_over(g, rows), blocks = (tiles + kPackedTiles - 1) / kPackedTiles;
  PanelsAt b(g, tiles / blocks);
  const float* pointers[kMaxTaps * kRows];
  const auto row_of = [&](int64_t t) { return g.row_begin + rows * t / tiles; };
  bool warm = false;  // as in DenseHere
  for (int64_t block = 0; block < blocks; ++block) {
    const int64_t t0 = tiles * block / blocks, t1 = tiles * (block + 1) / blocks;
    for (int64_t tap = 0; tap < g.segments; tap += depth.taps_each) {
      const int64_t taps = std::min(depth.taps_each, g.segments - tap);
      for (int64_t piece = 0; piece < depth.parts; ++piece) {
        const int64_t offset = piece * depth.part, run = std::min(depth.part, g.run - offset);
        if (run <= 0) continue;
        const bool first = tap == 0 && piece == 0, last = tap + taps == g.segments && offset + run == g.run;
        const int64_t k_at = tap * g.run + offset, k_end = k_at + taps * run;
        for (int64_t t = t0; t < t1; ++t) {
          const int height = static_cast<int>(row_of(t + 1) - row_of(t));
          point_tile(g, row_of(t), height, tap, taps, offset, pointers);
          gather_rows(pointers, height, taps, run, g.packed_rows + (t - t0) * kRows * kNearStride);
        }
        for (int64_t panel = g.panel_begin; panel < g.panel_end; panel += kPassingPanels) {
          const int64_t panels = std::min(kPassingPanels, g.panel_end - panel);
          // What passes next: the panels behind these, or the first ones at the next part of K.
          const char* next = panel + panels < g.panel_end ? b.given(panel + panels, k_at)
                             : k_end < k                  ? b.given(g.panel_begin, k_end)
                                                          : b.given(g.panel_begin, 0);
          b.pass(panel, panels, k_at, taps * run);
          for (int64_t t = t0; t < t1; ++t) {
            const int64_t row = row_of(t);
            const int height = static_cast<int>(row_of(t + 1) - row);
            for (int64_t p = panel; p < panel + panels; ++p) {
              const int64_t column = p * kWidth, columns = std::min(kWidth, g.columns - column);
              const Finish f = finish_at(g.epilogue, row, column);
              const Choice choice = choose(b.type(), height, columns);
              const char* behind = p + 1 < panel + panels ? b.given(p + 1, k_at) : nullptr;
              const Ahead ahead =
                  fetched(warm || b.widened(), t - t0, t1 - t0, behind, next + (p - panel) * k * b.line(), taps * run, b.line());
              choice.kernel(g.packed_rows + (t - t0) * kRows * kNearStride, taps * run, b.at(p), g.c + row * g.ldc + column, g.ldc, !first,
                            last ? &f : nullptr, choice.part, ahead);
            }
            if (last && g.epilogue.tape)
              apply_tape(g, run_tape_here, row, height, panel * kWidth, std::min(panels * kWidth, g.columns - panel * kWidth));
          }
          warm = t1 - t0 > 1;
        }
      }
    }
  }
}

LATHE_GIVES_WAY void DenseHere(const DenseArguments& g) {
  const DenseEpilogue& e = g.epilogue;
  const RunTape run_tape_here = e.tape ? run_tape(kHere) : nullptr;
  const int64_t k = g.segments * g.run;
  const int64_t rows = g.row_end - g.row_begin;
  const bool short_rows = g.run <= kShort && g.lda <= kShort;
  const bool far = g.from_memory || packed_size(k, g.columns, kWidth) / kWidth * line_bytes(g) > kNearBytes,
             few_rows = g.all_rows > 0 && g.all_rows <= kFewRows && far;
  // Few enough panels: floats all at once, and then a product of floats.
  if (g.widened && (g.b_type == PanelType::quantised || rows > (kWidenedTiles - 1) * kRows) && k > 0 &&
      k <= std::min(g.k_block, kMostDepth) && g.panel_end - g.panel_begin <= std::max(g.panel_block, kPassingPanels)) {
    PanelsAt floats(g, kWidenedTiles);
    floats.pass(g.panel_begin, g.panel_end - g.panel_begin, 0, k);
    DenseArguments wide = g;
    wide.b_type = PanelType::f32, wide.quantised = nullptr, wide.widened = nullptr, wide.next_b = nullptr;
    // Panels count from the first of the whole product on.
    wide.b = reinterpret_cast<const float*>(reinterpret_cast<uintptr_t>(g.widened) -
                                            static_cast<uintptr_t>(g.panel_begin * k * kWidth) * sizeof(float));
    return DenseHere(wide);
  }
  const bool in_place = !g.window && g.b_type == PanelType::f32 && rows > 1 && (short_rows || few_rows);
  if (has_few_columns(g)) {
    if (g.panel_begin == g.panel_end) return;
    switch (g.columns) {
      case 1: return few_columns<1>(g, run_tape_here);
      case 2: return few_columns<2>(g, run_tape_here);
      case 3: return few_columns<3>(g, run_tape_here);
      default: return few_columns<4>(g, run_tape_here);
    }
  }
  if ((g.pixel_stride > 0 || in_place) && k > 0) return there(g, run_tape_here, far && !g.window);
  // K blocks of equal size: several whole taps, or a part of one long run. A single row is read where it stands, and B from its first
  // byte to its last: memory is a quarter faster at that than at jumping from panel to panel.
  const bool single = g.row_end - g.row_begin == 1 && !g.window && g.segments == 1;
  const int64_t k_block = single ? std::max<int64_t>(1, g.run) : std::min(g.k_block, kMostDepth);
  const Depth depth = depth_of(g, k_block);
  const auto [parts, part, taps_each] = depth;
  const int64_t tiles = tiles_over(g, rows);
  const float* pointers[kMaxTaps * kRows];
  alignas(64) float near_by[kRows * kNearStride];

  if (k == 0) {  // an empty sum: the epilogue of zero
    for (int64_t r = g.row_begin; r < g.row_end; ++r) {
      for (int64_t p = g.panel_begin; p < g.panel_end; ++p) {
        const int64_t column = p * kWidth, columns = std::min(kWidth, g.columns - column);
        const Finish f = finish_at(e, r, column);
        const Choice choice = choose(g.b_type, 1, columns);
        choice.kernel(nullptr, 0, nullptr, g.c + r * g.ldc + column, g.ldc, false, &f, choice.part, Ahead());
        if (e.tape) apply_tape(g, run_tape_here, r, 1, column, columns);
      }
    }
    return;
  }

  // Tiles of one row are read where they stand.
  const int64_t panel_block = far ? std::min(g.panel_block, kFarPanels) : g.panel_block;
  if (g.packed_rows != nullptr && g.panel_end - g.panel_begin > panel_block && rows > tiles) return packed(g, depth, run_tape_here);

  PanelsAt at(g, tiles);
  bool warm = at.widened();  // what passes now was fetched while what passed before was worked on
  for (int64_t panel = g.panel_begin; panel < g.panel_end; panel += panel_block) {
    const int64_t panels = std::min(panel_block, g.panel_end - panel);
    for (int64_t tap = 0; tap < g.segments; tap += taps_each) {
      const int64_t taps = std::min(taps_each, g.segments - tap);
      for (int64_t piece = 0; piece < parts; ++piece) {
        const int64_t offset = piece * part, run = std::min(part, g.run - offset);
        if (run <= 0) continue;
        const bool first = tap == 0 && piece == 0;
        const bool last = tap + taps == g.segments && offset + run == g.run;
        const int64_t k_at = tap * g.run + offset;
        // What comes after this part of K in these panels, or the next panels.
        const int64_t part_end = k_at + taps * run, line = at.line();
        const char* next = nullptr;
        if (part_end < k) next = at.given(panel, part_end);
        else if (panel + panels < g.panel_end) next = at.given(panel + panels, 0);
        else next = static_cast<const char*>(g.next_b);
        at.pass(panel, panels, k_at, taps * run);
        for (int64_t t = 0; t < tiles; ++t) {
          const int64_t row = g.row_begin + rows * t / tiles;
          const int height = static_cast<int>(g.row_begin + rows * (t + 1) / tiles - row);
          point_tile(g, row, height, tap, taps, offset, pointers);
          // A single run of a single row is read where it is, and so are rows that stand as the kernel wants them.
          const bool gather = (height > 1 && (g.window || g.lda != kNearStride)) || taps > 1;
          if (gather) gather_rows(pointers, height, taps, run, near_by);
          const float* a = gather ? near_by : pointers[0];
          for (int64_t p = panel; p < panel + panels; ++p) {
            const int64_t column = p * kWidth, columns = std::min(kWidth, g.columns - column);
            float* c = g.c + row * g.ldc + column;
            const Finish f = finish_at(e, row, column);
            const Choice choice = choose(at.type(), height, columns);
            const char *behind = p + 1 < panel + panels ? at.given(p + 1, k_at) : nullptr,
                       *block = next ? next + (p - panel) * k * line : nullptr;
            Ahead ahead = fetched(warm, t, tiles, behind, block, taps * run, line);
            ahead.far = far, ahead.bytes = g.fetch_ahead;
            choice.kernel(a, taps * run, at.at(p), c, g.ldc, !first, last ? &f : nullptr, choice.part, ahead);
          }
          if (last && e.tape)
            apply_tape(g, run_tape_here, row, height, panel * kWidth, std::min(panels * kWidth, g.columns - panel * kWidth));
        }
        warm = tiles > 1;
      }
    }
  }
}

int64_t WidthHere() { return kWidth; }
int64_t PackedRowsHere() { return kPackedTiles * kRows * kNearStride; }
int RowsHere() { return kRows; }

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

Dense dense(Isa isa) { return LATHE_SELECT(isa, DenseHere); }
int64_t panel_width(Isa isa) { return LATHE_SELECT(isa, WidthHere)(); }
int max_rows(Isa isa) { return LATHE_SELECT(isa, RowsHere)(); }
int64_t packed_rows(Isa isa) { return LATHE_SELECT(isa, PackedRowsHere)(); }

int64_t packed_size(int64_t k, int64_t n, int64_t width) { return (n + width - 1) / width * width * k; }

namespace {

template <typename T>
void pack(const T* b, int64_t k_stride, int64_t n_stride, int64_t k, int64_t n, int64_t width, T* out, int64_t begin, int64_t end) {
  for (int64_t p = begin; p < end; ++p) {
    const int64_t column = p * width, columns = std::min(width, n - column);
    T* panel = out + p * k * width;
    if (n_stride == 1) {
      if (columns == width && width % 16 == 0) {  // sizes known while compiling: no calls
        for (int64_t i = 0; i < k; ++i) {
          for (int64_t j = 0; j < width; j += 16) std::memcpy(panel + i * width + j, b + i * k_stride + column + j, 16 * sizeof(T));
        }
        continue;
      }
      for (int64_t i = 0; i < k; ++i) {
        std::memcpy(panel + i * width, b + i * k_stride + column, columns * sizeof(T));
        std::fill(panel + i * width + columns, panel + (i + 1) * width, T{});
      }
      continue;
    }
    // B stands on its side (rows of K): blocks small enough that both sides stay in L1.
    constexpr int64_t kBlock = 16;
    int64_t from = 0;
    if constexpr (std::is_same_v<T, float>) {
      if (k_stride == 1 && columns == width && width % kBlock == 0) {
        static const TurnSquare turn = turn_square();
        for (; from + kBlock <= k; from += kBlock) {
          for (int64_t j = 0; j < width; j += kBlock) turn(b + (column + j) * n_stride + from, n_stride, panel + from * width + j, width);
        }
      }
    }
    for (int64_t i0 = from; i0 < k; i0 += kBlock) {
      const int64_t i1 = std::min(k, i0 + kBlock);
      for (int64_t j = 0; j < columns; ++j) {
        const T* src = b + (column + j) * n_stride;
        for (int64_t i = i0; i < i1; ++i) panel[i * width + j] = src[i * k_stride];
      }
      for (int64_t i = i0; i < i1; ++i) std::fill(panel + i * width + columns, panel + (i + 1) * width, T{});
    }
  }
}

}  // namespace

void pack_panels(const float* b, int64_t k_stride, int64_t n_stride, int64_t k, int64_t n, int64_t width, float* out, int64_t begin,
                 int64_t end) {
  pack(b, k_stride, n_stride, k, n, width, out, begin, end);
}
void pack_panels(const uint16_t* b, int64_t k_stride, int64_t n_stride, int64_t k, int64_t n, int64_t width, uint16_t* out, int64_t begin,
                 int64_t end) {
  pack(b, k_stride, n_stride, k, n, width, out, begin, end);
}

namespace {

template <typename T>
void unpack(const T* packed, int64_t k, int64_t n, int64_t width, T* b, int64_t k_stride, int64_t n_stride) {
  for (int64_t j = 0; j < n; ++j) {
    const T* panel = packed + j / width * k * width + j % width;
    for (int64_t i = 0; i < k; ++i) b[i * k_stride + j * n_stride] = panel[i * width];
  }
}

}  // namespace

void unpack_panels(const float* packed, int64_t k, int64_t n, int64_t width, float* b, int64_t k_stride, int64_t n_stride) {
  unpack(packed, k, n, width, b, k_stride, n_stride);
}
void unpack_panels(const uint16_t* packed, int64_t k, int64_t n, int64_t width, uint16_t* b, int64_t k_stride, int64_t n_stride) {
  unpack(packed, k, n, width, b, k_stride, n_stride);
}

}  // namespace lathe::kernels
#endif
