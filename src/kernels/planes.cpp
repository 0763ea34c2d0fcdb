#include "kernels/planes.hpp"

#include <algorithm>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/planes.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/cache_control.h>
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// What follows the sums of P neighbouring output pixels from `row` on: division, bias, residual, clamp, store.
template <int P, bool kAverage, bool kPart>
HWY_INLINE void settle(const PlaneArguments& g, const VF* acc, const float* divisors, int64_t row, int64_t ch, int64_t n) {
  const F32 d;
  const auto load = [&](const float* p) HWY_ATTR { return kPart ? load_part(p, n) : hn::LoadU(d, p); };
  const DenseEpilogue& e = g.epilogue;
  const float* residual = e.residual ? e.residual + row * e.residual_stride + ch : nullptr;
  const int64_t residual_stride = e.residual_stride, out_stride = g.out_stride;
  float* out = g.out + row * out_stride + ch;
  const bool clamp = e.clamp;
  const VF bias = e.bias ? load(e.bias + ch) : hn::Zero(d), low = hn::Set(d, e.low), high = hn::Set(d, e.high);
  const bool biased = e.bias != nullptr;
  LATHE_UNROLL(8)
  for (int p = 0; p < P; ++p) {
    VF x = acc[p];
    if constexpr (kAverage) x = hn::Mul(x, hn::Set(d, divisors[p]));
    if (biased) x = hn::Add(x, bias);
    if (residual) x = hn::Add(x, load(residual + p * residual_stride));
    if (clamp) x = clamped(x, low, high);
    if (kPart) store_part(x, out, n);
    else hn::StoreU(x, d, out);
    out += out_stride;
  }
}

// A group of neighbouring output lines of a depthwise layer with a K x K window: the input lines they read (null: padding), at the first
// pixel's first tap, and the distances between taps and between pixels.
struct Lines {
  const float* at[12] = {};
  int64_t tap = 0, row = 0, out_w = 0;
};

// kLines output lines of P neighbouring pixels, S taps apart: each input vector is loaded once and used for every pixel it belongs to.
// Of one pixel alone, only the columns [first, last) of the window are read.
template <int K, int S, int P, int kLines, bool kPart>
HWY_INLINE void grid(const PlaneArguments& g, const Lines& from, int64_t at, int64_t pixel, int first, int last, int64_t ch, int64_t n) {
  const F32 d;
  const auto load = [&](const float* p) HWY_ATTR { return kPart ? load_part(p, n) : hn::LoadU(d, p); };
  constexpr int kColumns = (P - 1) * S + K;
  VF acc[kLines][P];
  LATHE_UNROLL(4)
  for (int l = 0; l < kLines; ++l) {
    LATHE_UNROLL(4)
    for (int p = 0; p < P; ++p) acc[l][p] = hn::Zero(d);
  }
  LATHE_UNROLL(8)
  for (int r = 0; r < K + (kLines - 1) * S; ++r) {
    if (from.at[r] == nullptr) continue;
    const float* src = from.at[r] + at + ch;
    VF x[kColumns];
    LATHE_UNROLL(16)
    for (int i = 0; i < kColumns; ++i) {
      if (P > 1 || (i >= first && i < last)) x[i] = load(src);
      src += from.tap;
    }
    LATHE_UNROLL(4)
    for (int l = 0; l < kLines; ++l) {
      if (r - l * S < 0 || r - l * S >= K) continue;
      const float* w = g.weights + (r - l * S) * K * g.channels + ch;
      LATHE_UNROLL(8)
      for (int k = 0; k < K; ++k) {
        if (P == 1 && (k < first || k >= last)) continue;
        const VF weight = load(w + k * g.channels);
        LATHE_UNROLL(4)
        for (int p = 0; p < P; ++p) acc[l][p] = hn::MulAdd(x[p * S + k], weight, acc[l][p]);
      }
    }
  }
  LATHE_UNROLL(4)
  for (int l = 0; l < kLines; ++l) settle<P, false, kPart>(g, acc[l], nullptr, from.row + l * from.out_w + pixel, ch, n);
}

template <int K, int S, int P, int kLines>
void grids(const PlaneArguments& g, const Lines& from, int64_t at, int64_t pixel, int first, int last, int64_t ch, int64_t end) {
  const int64_t lanes = hn::Lanes(F32());
  for (; ch + lanes <= end; ch += lanes) grid<K, S, P, kLines, false>(g, from, at, pixel, first, last, ch, lanes);
  if (ch < end) grid<K, S, P, kLines, true>(g, from, at, pixel, first, last, ch, end - ch);
}

// Whole output lines: `x` is the table of their columns.
template <int K, int S, int kLines>
void lines(const PlaneArguments& g, const Lines& from, const int64_t* x) {
  // Blocks of channels: the columns that neighbouring pixels share are still in the first cache when the next ones need them.
  const int64_t block = 8 * static_cast<int64_t>(hn::Lanes(F32()));
  for (int64_t ch = 0; ch < g.channels; ch += block) {
    const int64_t end = std::min(g.channels, ch + block);
    for (int64_t pixel = 0; pixel < from.out_w;) {
      const int64_t* at = x + pixel * K;
      int first = 0, last = K;
      while (first < K && at[first] < 0) ++first;
      while (last > first && at[last - 1] < 0) --last;
      // Four pixels at once when the first tap of the first and the last tap of the last are inside.
      if (first == 0 && pixel + 4 <= from.out_w && at[3 * K + K - 1] >= 0) {
        grids<K, S, 4, kLines>(g, from, at[0], pixel, 0, K, ch, end);
        pixel += 4;
        continue;
      }
      grids<K, S, 1, kLines>(g, from, first < K ? at[first] - first * from.tap : 0, pixel, first, last, ch, end);
      ++pixel;
    }
  }
}

// One vector of channels (the first `n` lanes of it) of P neighbouring output pixels, `step` floats apart in the input, whose taps all
// lie inside. Each weight is loaded once for all of them, and their sums do not wait for one another.
// kTaps: how many taps, when that is known while compiling; 0: `count`.
template <int P, PlaneOp op, bool kPart, int kTaps>
HWY_INLINE void pixels(const PlaneArguments& g, const float* const* sources, const int32_t* taps, int count, int64_t step,
                       const float* divisors, int64_t row, int64_t ch, int64_t n) {
  const F32 d;
  const auto load = [&](const float* p) HWY_ATTR { return kPart ? load_part(p, n) : hn::LoadU(d, p); };
  const VF shrink = hn::Set(d, g.shrink);
  VF acc[P];
  LATHE_UNROLL(8)
  for (int p = 0; p < P; ++p) acc[p] = hn::Set(d, op == PlaneOp::max ? -std::numeric_limits<float>::infinity() : 0.0f);
  LATHE_UNROLL(9)
  for (int t = 0; t < (kTaps > 0 ? kTaps : count); ++t) {
    const float* src = sources[t] + ch;
    asm("" : "+r"(src));  // one running pointer: compilers work all addresses out ahead and have no registers for them
    VF w = hn::Zero(d);
    if constexpr (op == PlaneOp::depthwise) w = load(g.weights + taps[t] * g.channels + ch);
    LATHE_UNROLL(8)
    for (int p = 0; p < P; ++p) {
      const VF x = load(src);
      src += step;
      if constexpr (op == PlaneOp::depthwise) acc[p] = hn::MulAdd(x, w, acc[p]);
      else if constexpr (op == PlaneOp::max) acc[p] = max_nan(d, x, acc[p]);
      else acc[p] = hn::MulAdd(x, shrink, acc[p]);
    }
  }
  settle<P, op == PlaneOp::average, kPart>(g, acc, divisors, row, ch, n);
}

// The same for convolutions of small groups: one vector of filters, whose groups' channels stand in the same lanes of the input. Each
// channel of a group in turn is spread over its group's lanes, by the permutation `spread` has for it, or by a broadcast when a vector is
// one group or less. (With filters as columns of a product, three of four lanes would multiply nothing.)
template <int P, bool kPart>
HWY_INLINE void small_groups(const PlaneArguments& g, const float* const* sources, const int32_t* taps, int count, int64_t step,
                             int64_t row, int64_t ch, int64_t n, const int32_t* spread) {
  const F32 d;
  const auto load = [&](const float* p) HWY_ATTR { return kPart ? load_part(p, n) : hn::LoadU(d, p); };
  const int64_t lanes = hn::Lanes(d);
  VF acc[P];
  LATHE_UNROLL(8)
  for (int p = 0; p < P; ++p) acc[p] = hn::Zero(d);
  if (g.group >= lanes) {
    for (int t = 0; t < count; ++t) {
      const float* src = sources[t] + ch / g.group * g.group;
      const float* w = g.weights + taps[t] * g.group * g.channels + ch;
      for (int64_t i = 0; i < g.group; ++i, w += g.channels) {
        const VF weight = load(w);
        LATHE_UNROLL(8)
        for (int p = 0; p < P; ++p) acc[p] = hn::MulAdd(hn::Set(d, src[i + p * step]), weight, acc[p]);
      }
    }
  } else {
    for (int64_t i = 0; i < g.group; ++i) {
      const auto from = hn::SetTableIndices(d, spread + i * lanes);
      for (int t = 0; t < count; ++t) {
        const float* src = sources[t] + ch;
        const VF weight = load(g.weights + (taps[t] * g.group + i) * g.channels + ch);
        LATHE_UNROLL(8)
        for (int p = 0; p < P; ++p) {
          acc[p] = hn::MulAdd(hn::TableLookupLanes(load(src), from), weight, acc[p]);
          src += step;
        }
      }
    }
  }
  settle<P, false, kPart>(g, acc, nullptr, row, ch, n);
}

template <int P, PlaneOp op>
void block(const PlaneArguments& g, const float* const* sources, const int32_t* taps, int count, int64_t step, const float* divisors,
           int64_t row, const int32_t* spread) {
  const int64_t lanes = hn::Lanes(F32());
  int64_t ch = 0;
  if constexpr (op == PlaneOp::grouped) {
    for (; ch + lanes <= g.channels; ch += lanes) small_groups<P, false>(g, sources, taps, count, step, row, ch, lanes, spread);
    if (ch < g.channels) small_groups<P, true>(g, sources, taps, count, step, row, ch, g.channels - ch, spread);
    return;
  }
  if (count == 9) {  // 3 x 3 inside the picture
    for (; ch + lanes <= g.channels; ch += lanes) pixels<P, op, false, 9>(g, sources, taps, count, step, divisors, row, ch, lanes);
  } else {
    for (; ch + lanes <= g.channels; ch += lanes) pixels<P, op, false, 0>(g, sources, taps, count, step, divisors, row, ch, lanes);
  }
  if (ch < g.channels) pixels<P, op, true, 0>(g, sources, taps, count, step, divisors, row, ch, g.channels - ch);
}

// Depthwise windows that have a kernel of their own: side of the window, its stride in taps, and how many output lines it makes at once.
struct Grid {
  int64_t side = 0, stride = 0, tap = 0;
  int most_lines = 1;
};

// No side when the window is none of them.
Grid grid_of(const WindowRows& w) {
  Grid grid;
  if (w.kd != 1 || w.kh != w.kw || (w.kw != 3 && w.kw != 5)) return grid;
  // Distances between taps and between windows, across and down: all of them the same by construction of the tables.
  const auto distances = [](const int64_t* table, int64_t count, int64_t taps) {
    std::pair<int64_t, int64_t> found{0, 0};
    for (int64_t i = 0; i < count; ++i) {
      const int64_t* at = table + i * taps;
      if (at[0] >= 0 && at[1] >= 0) found.first = at[1] - at[0];
      if (i + 1 < count && at[0] >= 0 && at[taps] >= 0) found.second = at[taps] - at[0];
    }
    return found;
  };
  const auto [tap, step] = distances(w.x, w.out_w, w.kw);
  const auto [line, down] = distances(w.y, w.out_h, w.kh);
  if (tap == 0 || (step != tap && step != 2 * tap)) return grid;
  grid.side = w.kw;
  grid.stride = step / tap;
  grid.tap = tap;
  constexpr int kMost = HWY_TARGET == HWY_AVX3 ? 4 : 2;  // as many sums as there are registers for
  if (line > 0 && down == grid.stride * line) grid.most_lines = grid.stride == 1 ? kMost : kMost / 2;
  return grid;
}

template <int K, int S>
void lines_of(int count, const PlaneArguments& g, const Lines& from, const int64_t* x) {
  if constexpr (S == 1) {
    if (count == 4) return lines<K, S, 4>(g, from, x);
  }
  if (count == 2) return lines<K, S, 2>(g, from, x);
  return lines<K, S, 1>(g, from, x);
}

// Floats from one tap's line to the next one's, and how many such lines (up to four) a window's next one down adds. Zeros: not known.
std::pair<int64_t, int64_t> lines_added(const WindowRows& w) {
  int64_t line = 0;
  for (int64_t i = 0; i + 1 < w.out_h * w.kh && line <= 0; ++i) {
    if ((i + 1) % w.kh != 0 && w.y[i] >= 0) line = w.y[i + 1] - w.y[i];
  }
  for (int64_t o = 0; line > 0 && o + 1 < w.out_h; ++o) {
    if (w.y[o * w.kh] >= 0 && w.y[(o + 1) * w.kh] >= 0) return {line, std::min<int64_t>((w.y[(o + 1) * w.kh] - w.y[o * w.kh]) / line, 4)};
  }
  return {0, 0};
}

template <PlaneOp op>
void run(const PlaneArguments& g) {
  const WindowRows& w = *g.window;
  const int64_t plane = w.out_h * w.out_w, volume = plane * w.out_d;
  const float* sources[kMaxPlaneTaps];
  int32_t taps[kMaxPlaneTaps];
  const RunTape run_tape_here = g.epilogue.tape ? run_tape(kHere) : nullptr;
  HWY_ALIGN int32_t spread[kMostGroup * (HWY_MAX_BYTES / 4 + 1)];
  const int64_t lanes = hn::Lanes(F32());
  for (int64_t i = 0; op == PlaneOp::grouped && g.group < lanes && i < g.group; ++i) {
    for (int64_t k = 0; k < lanes; ++k) spread[i * lanes + k] = static_cast<int32_t>(k / g.group * g.group + i);
  }
  // Columns whose taps all lie inside: a run of neighbours, equally far apart.
  int64_t first_inside = 0, last_inside = 0;
  for (int64_t x = 0; x < w.out_w; ++x) {
    bool inside = true;
    for (int64_t k = 0; k < w.kw; ++k) inside = inside && w.x[x * w.kw + k] >= 0;
    if (!inside) continue;
    if (last_inside == 0) first_inside = x;
    last_inside = x + 1;
  }
  const int64_t step = last_inside - first_inside > 1 ? w.x[(first_inside + 1) * w.kw] - w.x[first_inside * w.kw] : 0;
  // Pools wait for memory: the lines that the next windows add are asked for while these are joined.
  constexpr bool kPools = op == PlaneOp::max || op == PlaneOp::average;
  const auto added = kPools ? lines_added(w) : std::pair<int64_t, int64_t>{0, 0};
  const int64_t line = added.first, fresh = added.second;
  const auto ask = [&](const float* from, int64_t floats) {
    constexpr int64_t kAhead = 512;  // floats
    for (int64_t l = 0; l < fresh; ++l) {
      for (int64_t i = 0; i < floats; i += 16) hwy::Prefetch(from + kAhead + l * line + i);
    }
  };
  // Pixels from `row` on that one call of the kernel makes: at most `most`, in one line. Gives how many.
  const auto stretch = [&](int64_t row, int64_t image, int64_t oz, int64_t oy, int64_t ox, int64_t most) {
    const float* base = w.base + image * w.image_stride;
    const int64_t *z = w.z + oz * w.kd, *y = w.y + oy * w.kh, *x = w.x + ox * w.kw;
    int count = 0;
    int32_t tap = 0;
    for (int64_t kz = 0; kz < w.kd; ++kz) {
      for (int64_t ky = 0; ky < w.kh; ++ky) {
        if ((z[kz] | y[ky]) < 0) {
          tap += static_cast<int32_t>(w.kw);
          continue;
        }
        for (int64_t kx = 0; kx < w.kw; ++kx, ++tap) {
          if (x[kx] < 0) continue;
          sources[count] = base + z[kz] + y[ky] + x[kx];
          taps[count++] = tap;
        }
      }
    }
    const float* divisors = op == PlaneOp::average ? g.divisors + row % volume : nullptr;
    const int64_t left = ox >= first_inside && ox < last_inside ? std::min(last_inside - ox, most) : 1;
    if (kPools && count > 0) ask(sources[count - 1], std::min<int64_t>(left, 8) * step);
    if (left >= 8) return block<8, op>(g, sources, taps, count, step, divisors, row, spread), 8;
    if (left >= 4) return block<4, op>(g, sources, taps, count, step, divisors, row, spread), 4;
    if (left >= 2) return block<2, op>(g, sources, taps, count, step, divisors, row, spread), 2;
    return block<1, op>(g, sources, taps, count, step, divisors, row, spread), 1;
  };
  const auto finish = [&](int64_t row, int64_t count) {
    const DenseEpilogue& e = g.epilogue;
    if (!e.tape) return;
    tape_over_rows(e, run_tape_here, g.out + row * g.out_stride, g.out_stride, row, count, 0, g.channels);
  };
  const Grid grid = op == PlaneOp::depthwise ? grid_of(w) : Grid();
  int64_t ox = g.row_begin % w.out_w, oy = g.row_begin % plane / w.out_w, oz = g.row_begin % volume / plane, image = g.row_begin / volume;
  const auto advance = [&](int64_t pixels) {  // at most to the end of a line
    ox += pixels;
    if (ox < w.out_w) return;
    ox = 0;
    if (++oy < w.out_h) return;
    oy = 0;
    if (++oz == w.out_d) oz = 0, ++image;
  };
  for (int64_t row = g.row_begin; row < g.row_end;) {
    const bool whole = ox == 0 && row + w.out_w <= g.row_end;
    if (grid.side == 0 || !whole || w.z[oz] < 0) {
      const int64_t done = stretch(row, image, oz, oy, ox, g.row_end - row);
      finish(row, done);
      row += done;
      advance(done);
      continue;
    }
    int count = grid.most_lines;
    while (count > 1 && (oy + count > w.out_h || row + count * w.out_w > g.row_end)) count /= 2;
    Lines from;
    from.tap = grid.tap;
    from.row = row;
    from.out_w = w.out_w;
    for (int64_t l = 0; l < count; ++l) {
      for (int64_t r = 0; r < grid.side; ++r) {
        const int64_t at = w.y[(oy + l) * grid.side + r];
        if (at >= 0) from.at[l * grid.stride + r] = w.base + image * w.image_stride + w.z[oz] + at;
      }
    }
    const auto make =
        grid.side == 3 ? (grid.stride == 1 ? lines_of<3, 1> : lines_of<3, 2>) : (grid.stride == 1 ? lines_of<5, 1> : lines_of<5, 2>);
    make(count, g, from, w.x);
    finish(row, count * w.out_w);
    row += count * w.out_w;
    for (int l = 0; l < count; ++l) advance(w.out_w);
  }
}

LATHE_GIVES_WAY void PlaneHere(const PlaneArguments& g) {
  switch (g.op) {
    case PlaneOp::depthwise: return run<PlaneOp::depthwise>(g);
    case PlaneOp::grouped: return run<PlaneOp::grouped>(g);
    case PlaneOp::max: return run<PlaneOp::max>(g);
    case PlaneOp::average: return run<PlaneOp::average>(g);
  }
}

LATHE_GIVES_WAY void InterleaveHere(const float* in, int64_t stride, int64_t channels, int64_t pixels, float* out) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), whole = channels >= 2 && channels <= 4 ? pixels - pixels % lanes : 0;
  for (int64_t i = 0; i < whole; i += lanes) {
    const float* p = in + i;
    float* to = out + i * channels;
    if (channels == 2) hn::StoreInterleaved2(hn::LoadU(d, p), hn::LoadU(d, p + stride), d, to);
    else if (channels == 3) hn::StoreInterleaved3(hn::LoadU(d, p), hn::LoadU(d, p + stride), hn::LoadU(d, p + 2 * stride), d, to);
    else
      hn::StoreInterleaved4(hn::LoadU(d, p), hn::LoadU(d, p + stride), hn::LoadU(d, p + 2 * stride), hn::LoadU(d, p + 3 * stride), d, to);
  }
  for (int64_t i = whole; i < pixels; ++i) {
    for (int64_t c = 0; c < channels; ++c) out[i * channels + c] = in[c * stride + i];
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Plane plane(Isa isa) { return LATHE_SELECT(isa, PlaneHere); }
Interleave interleave(Isa isa) { return LATHE_SELECT(isa, InterleaveHere); }
}  // namespace lathe::kernels
#endif
