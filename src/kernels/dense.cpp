#include "kernels/dense.hpp"

#include <algorithm>
#include <array>
#include <cstring>
#include <utility>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/dense.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/cache_control.h>
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Register tile: rows x (vectors of columns). Accumulators, the B vectors and one broadcast must fit the registers.
#if HWY_TARGET == HWY_AVX3
inline constexpr int kRows = 12, kVectors = 2;
#elif HWY_TARGET == HWY_SCALAR
inline constexpr int kRows = 4, kVectors = 4;
#else
inline constexpr int kRows = 6, kVectors = 2;
#endif
inline constexpr int64_t kWidth = kVectors * (HWY_TARGET == HWY_SCALAR ? 1
                                              : HWY_MAX_BYTES == 0     ? 1
                                                                       : static_cast<int64_t>(hn::MaxLanes(F32())));

// Rows of B fetched ahead of their use.
inline constexpr int64_t kAhead = 16;

// Taps whose row pointers are set up together.
inline constexpr int64_t kMaxTaps = 64;

struct Finish {
  const float* bias;      // kWidth of them, or null
  const float* residual;  // row 0, first column; or null
  int64_t residual_stride;
  bool clamp;
  float low, high;
};

Finish finish_at(const DenseEpilogue& e, int64_t row, int64_t column) {
  return {e.bias ? e.bias + column : nullptr,
          e.residual ? e.residual + row * e.residual_stride + column : nullptr,
          e.residual_stride,
          e.clamp,
          e.low,
          e.high};
}

// One tile: R rows x one panel. rows[tap * R + r] is where row r's run of the tap starts.
template <int R>
HWY_NOINLINE void micro(const float* const* HWY_RESTRICT rows, int64_t taps, int64_t run, const float* HWY_RESTRICT b,
                        float* HWY_RESTRICT c, int64_t ldc, bool accumulate, const Finish* finish) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  VF acc[R][kVectors];
#pragma GCC unroll 16
  for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
    for (int v = 0; v < kVectors; ++v) acc[r][v] = hn::Zero(d);
  }
  for (int64_t t = 0; t < taps; ++t) {
    const float* row[R];
#pragma GCC unroll 16
    for (int r = 0; r < R; ++r) row[r] = rows[t * R + r];
#pragma GCC unroll 2
    for (int64_t k = 0; k < run; ++k) {
      VF bv[kVectors];
#pragma GCC unroll 4
      for (int v = 0; v < kVectors; ++v) {
        bv[v] = hn::LoadU(d, b + v * lanes);
        // B streams from L2 once a tile; the hardware's own prefetch starts too late at each panel.
        hwy::Prefetch(b + v * lanes + kAhead * kWidth);
      }
#pragma GCC unroll 16
      for (int r = 0; r < R; ++r) {
        const VF av = hn::Set(d, row[r][k]);
#pragma GCC unroll 4
        for (int v = 0; v < kVectors; ++v) acc[r][v] = hn::MulAdd(av, bv[v], acc[r][v]);
      }
      b += kWidth;
    }
  }
#pragma GCC unroll 16
  for (int r = 0; r < R; ++r) {
#pragma GCC unroll 4
    for (int v = 0; v < kVectors; ++v) {
      float* at = c + r * ldc + v * lanes;
      VF x = acc[r][v];
      if (accumulate) x = hn::Add(x, hn::LoadU(d, at));
      if (finish) {
        if (finish->bias) x = hn::Add(x, hn::LoadU(d, finish->bias + v * lanes));
        if (finish->residual) x = hn::Add(x, hn::LoadU(d, finish->residual + r * finish->residual_stride + v * lanes));
        if (finish->clamp) {
          // Comparisons rather than min and max: NaN must come through on every instruction set.
          const VF low = hn::Set(d, finish->low), high = hn::Set(d, finish->high);
          x = hn::IfThenElse(hn::Lt(x, low), low, x);
          x = hn::IfThenElse(hn::Gt(x, high), high, x);
        }
      }
      hn::StoreU(x, d, at);
    }
  }
}

using Micro = void (*)(const float* const*, int64_t, int64_t, const float*, float*, int64_t, bool, const Finish*);
template <int... R>
constexpr std::array<Micro, sizeof...(R) + 1> micro_table(std::integer_sequence<int, R...>) {
  return {nullptr, micro<R + 1>...};
}
inline constexpr auto kMicro = micro_table(std::make_integer_sequence<int, kRows>());

// Row pointers of `rows` output pixels from `first` on, for taps [tap, tap + taps), at channel `offset`.
void point_rows(const DenseArguments& g, int64_t first, int rows, int64_t tap, int64_t taps, int64_t offset, const float** out) {
  if (!g.window) {
    for (int r = 0; r < rows; ++r) out[r] = g.a + (first + r) * g.lda + offset;
    return;
  }
  const WindowRows& w = *g.window;
  const int64_t plane = w.out_h * w.out_w, volume = plane * w.out_d;
  for (int r = 0; r < rows; ++r) {
    const int64_t m = first + r, image = m / volume, in_image = m % volume;
    const int64_t* z = w.z + in_image / plane * w.kd;
    const int64_t* y = w.y + in_image % plane / w.out_w * w.kh;
    const int64_t* x = w.x + in_image % w.out_w * w.kw;
    const float* base = w.base + image * w.image_stride + offset;
    int64_t kz = tap / (w.kh * w.kw), ky = tap / w.kw % w.kh, kx = tap % w.kw;
    for (int64_t t = 0; t < taps; ++t) {
      // Each offset is -1 or >= 0: the sign bit of the or tells whether any lies in the padding.
      const bool inside = (z[kz] | y[ky] | x[kx]) >= 0;
      out[t * rows + r] = inside ? base + z[kz] + y[ky] + x[kx] : w.zeros;
      if (++kx == w.kw) {
        kx = 0;
        if (++ky == w.kh) ky = 0, ++kz;
      }
    }
  }
}

void apply_tape(const DenseArguments& g, RunTape run, int64_t row, int rows, int64_t column, int64_t columns) {
  const DenseEpilogue& e = g.epilogue;
  TapeOperand operands[kMaxSlots];
  for (int r = 0; r < rows; ++r) {
    float* c = g.c + (row + r) * g.ldc + column;
    operands[0] = {c, 1, false};
    for (int i = 1; i < e.tape->inputs; ++i) {
      const TapeOperand& o = e.operands[i - 1];
      const int64_t at = (row + r) * e.row_strides[i - 1] + column * o.stride;
      operands[i] = {static_cast<const char*>(o.data) + at * (o.is_bool ? 1 : 4), o.stride, o.is_bool};
    }
    run(*e.tape, operands, c, false, columns);
  }
}

// A ragged last panel goes through a whole tile beside C, so that nothing is read or written past its columns.
void ragged(Micro kernel, int rows, const float* const* pointers, int64_t taps, int64_t run, const float* b, float* c, int64_t ldc,
            bool accumulate, const Finish* finish, int64_t columns) {
  alignas(64) float tile[kRows * kWidth], bias[kWidth] = {}, residual[kRows * kWidth];
  for (int r = 0; r < rows; ++r) {
    if (accumulate) std::memcpy(tile + r * kWidth, c + r * ldc, columns * 4);
    else if (columns < kWidth) tile[r * kWidth] = 0;
  }
  Finish local{};
  if (finish) {
    local = *finish;
    if (finish->bias) {
      std::memcpy(bias, finish->bias, columns * 4);
      local.bias = bias;
    }
    if (finish->residual) {
      for (int r = 0; r < rows; ++r) {
        std::memset(residual + r * kWidth, 0, kWidth * 4);
        std::memcpy(residual + r * kWidth, finish->residual + r * finish->residual_stride, columns * 4);
      }
      local.residual = residual;
      local.residual_stride = kWidth;
    }
  }
  if (accumulate) {
    for (int r = 0; r < rows; ++r) std::memset(tile + r * kWidth + columns, 0, (kWidth - columns) * 4);
  }
  kernel(pointers, taps, run, b, tile, kWidth, accumulate, finish ? &local : nullptr);
  for (int r = 0; r < rows; ++r) std::memcpy(c + r * ldc, tile + r * kWidth, columns * 4);
}

void DenseHere(const DenseArguments& g) {
  const DenseEpilogue& e = g.epilogue;
  const RunTape run_tape_here = e.tape ? run_tape(kHere) : nullptr;
  const int64_t k = g.segments * g.run;
  // K blocks: several whole taps, or a part of one long run.
  const int64_t parts = g.run > g.k_block ? (g.run + g.k_block - 1) / g.k_block : 1;
  const int64_t part = parts > 1 ? (g.run + parts - 1) / parts : g.run;
  const int64_t taps_each = parts > 1 ? 1 : std::clamp<int64_t>(g.k_block / std::max<int64_t>(1, g.run), 1, kMaxTaps);
  // Tiles of equal height rather than full ones and a rest.
  const int64_t rows = g.row_end - g.row_begin, tiles = (rows + kRows - 1) / kRows;
  const float* pointers[kMaxTaps * kRows];

  if (k == 0) {  // an empty sum: the epilogue of zero
    for (int64_t r = g.row_begin; r < g.row_end; ++r) {
      const float* none[kRows] = {};
      for (int64_t p = g.panel_begin; p < g.panel_end; ++p) {
        const int64_t column = p * kWidth, columns = std::min(kWidth, g.columns - column);
        const Finish f = finish_at(e, r, column);
        ragged(kMicro[1], 1, none, 0, 0, nullptr, g.c + r * g.ldc + column, g.ldc, false, &f, columns);
        if (e.tape) apply_tape(g, run_tape_here, r, 1, column, columns);
      }
    }
    return;
  }

  for (int64_t panel = g.panel_begin; panel < g.panel_end; panel += g.panel_block) {
    const int64_t panels = std::min(g.panel_block, g.panel_end - panel);
    for (int64_t tap = 0; tap < g.segments; tap += taps_each) {
      const int64_t taps = std::min(taps_each, g.segments - tap);
      for (int64_t piece = 0; piece < parts; ++piece) {
        const int64_t offset = piece * part, run = std::min(part, g.run - offset);
        if (run <= 0) continue;
        const bool first = tap == 0 && piece == 0;
        const bool last = tap + taps == g.segments && offset + run == g.run;
        const int64_t k_at = tap * g.run + offset;
        for (int64_t t = 0; t < tiles; ++t) {
          const int64_t row = g.row_begin + rows * t / tiles;
          const int height = static_cast<int>(g.row_begin + rows * (t + 1) / tiles - row);
          point_rows(g, row, height, tap, taps, offset, pointers);
          const Micro kernel = kMicro[height];
          for (int64_t p = panel; p < panel + panels; ++p) {
            const int64_t column = p * kWidth, columns = std::min(kWidth, g.columns - column);
            const float* b = g.b + (p * k + k_at) * kWidth;
            float* c = g.c + row * g.ldc + column;
            const Finish f = finish_at(e, row, column);
            if (columns == kWidth) kernel(pointers, taps, run, b, c, g.ldc, !first, last ? &f : nullptr);
            else ragged(kernel, height, pointers, taps, run, b, c, g.ldc, !first, last ? &f : nullptr, columns);
          }
          if (last && e.tape)
            apply_tape(g, run_tape_here, row, height, panel * kWidth, std::min(panels * kWidth, g.columns - panel * kWidth));
        }
      }
    }
  }
}

int64_t WidthHere() { return kWidth; }
int RowsHere() { return kRows; }

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

Dense dense(Isa isa) { return LATHE_SELECT(isa, DenseHere); }
int64_t panel_width(Isa isa) { return LATHE_SELECT(isa, WidthHere)(); }
int max_rows(Isa isa) { return LATHE_SELECT(isa, RowsHere)(); }

int64_t packed_size(int64_t k, int64_t n, int64_t width) { return (n + width - 1) / width * width * k; }

void pack_panels(const float* b, int64_t k_stride, int64_t n_stride, int64_t k, int64_t n, int64_t width, float* out, int64_t begin,
                 int64_t end) {
  for (int64_t p = begin; p < end; ++p) {
    const int64_t column = p * width, columns = std::min(width, n - column);
    float* panel = out + p * k * width;
    if (n_stride == 1) {
      for (int64_t i = 0; i < k; ++i) {
        std::memcpy(panel + i * width, b + i * k_stride + column, columns * 4);
        std::fill(panel + i * width + columns, panel + (i + 1) * width, 0.0f);
      }
      continue;
    }
    // B stands on its side (rows of K): blocks small enough that both sides stay in L1.
    constexpr int64_t kBlock = 16;
    for (int64_t i0 = 0; i0 < k; i0 += kBlock) {
      const int64_t i1 = std::min(k, i0 + kBlock);
      for (int64_t j = 0; j < columns; ++j) {
        const float* src = b + (column + j) * n_stride;
        for (int64_t i = i0; i < i1; ++i) panel[i * width + j] = src[i * k_stride];
      }
      for (int64_t i = i0; i < i1; ++i) std::fill(panel + i * width + columns, panel + (i + 1) * width, 0.0f);
    }
  }
}

void unpack_panels(const float* packed, int64_t k, int64_t n, int64_t width, float* b, int64_t k_stride, int64_t n_stride) {
  for (int64_t j = 0; j < n; ++j) {
    const float* panel = packed + j / width * k * width + j % width;
    for (int64_t i = 0; i < k; ++i) b[i * k_stride + j * n_stride] = panel[i * width];
  }
}

}  // namespace lathe::kernels
#endif
