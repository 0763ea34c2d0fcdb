#include "kernels/winograd.hpp"

#include <algorithm>
#include <cstring>
#include <vector>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/winograd.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/halves.inl.hpp"
#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Along a side, for 4x4 outputs: the points +-a and +-b, their squares, and what the transforms make of them; all of them exact.
struct By4 {
  static constexpr int kOutputs = 4, kSide = 6;
  static constexpr float kA = 0.75f, kB = 1.5f, kAA = kA * kA, kBB = kB * kB;

  // Bt d: six numbers `step` vectors apart.
  static HWY_INLINE void in(const VF* from, int step, VF* out) {
    const F32 d;
    const VF a = hn::Set(d, kA), b = hn::Set(d, kB), aa = hn::Set(d, kAA), bb = hn::Set(d, kBB);
    const VF d0 = from[0], d1 = from[step], d2 = from[2 * step], d3 = from[3 * step], d4 = from[4 * step], d5 = from[5 * step];
    const VF p = hn::NegMulAdd(bb, d2, d4), q = hn::NegMulAdd(bb, d1, d3);
    const VF r = hn::NegMulAdd(aa, d2, d4), u = hn::NegMulAdd(aa, d1, d3);
    const VF both = hn::Set(d, kAA * kBB), sum = hn::Set(d, kAA + kBB);
    out[0] = hn::MulAdd(both, d0, hn::NegMulAdd(sum, d2, d4));
    out[1] = hn::MulAdd(a, q, p);
    out[2] = hn::NegMulAdd(a, q, p);
    out[3] = hn::MulAdd(b, u, r);
    out[4] = hn::NegMulAdd(b, u, r);
    out[5] = hn::MulAdd(both, d1, hn::NegMulAdd(sum, d3, d5));
  }

  // At m: four of six.
  static HWY_INLINE void out(const VF* m, int step, VF* out, int out_step) {
    const F32 d;
    const VF s = hn::Add(m[step], m[2 * step]), t = hn::Sub(m[step], m[2 * step]);
    const VF u = hn::Add(m[3 * step], m[4 * step]), v = hn::Sub(m[3 * step], m[4 * step]);
    out[0] = hn::Add(hn::Add(m[0], s), u);
    out[out_step] = hn::MulAdd(hn::Set(d, kA), t, hn::Mul(hn::Set(d, kB), v));
    out[2 * out_step] = hn::MulAdd(hn::Set(d, kAA), s, hn::Mul(hn::Set(d, kBB), u));
    out[3 * out_step] = hn::MulAdd(hn::Set(d, kA * kAA), t, hn::MulAdd(hn::Set(d, kB * kBB), v, m[5 * step]));
  }

  // G g: six of three numbers `step` vectors apart.
  static HWY_INLINE void weights(const VF* w, int step, VF* out) {
    constexpr float kAtA = 1 / (2 * kAA * (kAA - kBB)), kAtB = 1 / (2 * kBB * (kBB - kAA));
    const F32 d;
    const VF g0 = w[0], g1 = w[step], g2 = w[2 * step];
    const VF s = hn::MulAdd(hn::Set(d, kAtA * kAA), g2, hn::Mul(hn::Set(d, kAtA), g0)), t = hn::Mul(hn::Set(d, kAtA * kA), g1);
    const VF u = hn::MulAdd(hn::Set(d, kAtB * kBB), g2, hn::Mul(hn::Set(d, kAtB), g0)), v = hn::Mul(hn::Set(d, kAtB * kB), g1);
    out[0] = hn::Mul(hn::Set(d, 1 / (kAA * kBB)), g0);
    out[1] = hn::Add(s, t);
    out[2] = hn::Sub(s, t);
    out[3] = hn::Add(u, v);
    out[4] = hn::Sub(u, v);
    out[5] = g2;
  }
};

// For 2x2 outputs: the points +-1, so that there is nothing to multiply by but halves of weights.
struct By2 {
  static constexpr int kOutputs = 2, kSide = 4;

  static HWY_INLINE void in(const VF* from, int step, VF* out) {
    const VF d0 = from[0], d1 = from[step], d2 = from[2 * step], d3 = from[3 * step];
    out[0] = hn::Sub(d2, d0);
    out[1] = hn::Add(d2, d1);
    out[2] = hn::Sub(d2, d1);
    out[3] = hn::Sub(d3, d1);
  }
  static HWY_INLINE void out(const VF* m, int step, VF* out, int out_step) {
    out[0] = hn::Add(m[0], hn::Add(m[step], m[2 * step]));
    out[out_step] = hn::Add(hn::Sub(m[step], m[2 * step]), m[3 * step]);
  }
  static HWY_INLINE void weights(const VF* w, int step, VF* out) {
    const VF half = hn::Set(F32(), 0.5f), s = hn::Mul(half, hn::Add(w[0], w[2 * step])), t = hn::Mul(half, w[step]);
    out[0] = hn::Neg(w[0]);
    out[1] = hn::Add(s, t);
    out[2] = hn::Sub(s, t);
    out[3] = w[2 * step];
  }
};

template <PanelType kType>
HWY_INLINE VF load_weight(const void* panels, int64_t at) {
  if constexpr (kType == PanelType::f16) return load_f16(static_cast<const uint16_t*>(panels) + at);
  else if constexpr (kType == PanelType::bf16) return load_bf16(static_cast<const uint16_t*>(panels) + at);
  else return hn::LoadU(F32(), static_cast<const float*>(panels) + at);
}

template <class Method, PanelType kType>
void transform_panels(const WinogradWeights& g) {
  const F32 d;
  constexpr int kSide = Method::kSide;
  const int64_t lanes = hn::Lanes(d), apart = (g.end - g.begin) * g.channels * g.width;
  for (int64_t panel = g.begin; panel < g.end; ++panel) {
    for (int64_t c = 0; c < g.channels; ++c) {
      for (int64_t x = 0; x < g.width; x += lanes) {
        VF w[9], half[kSide * 3];
        LATHE_UNROLL(9)
        for (int tap = 0; tap < 9; ++tap) w[tap] = load_weight<kType>(g.panels, ((panel * 9 + tap) * g.channels + c) * g.width + x);
        // Down the columns, then along the rows.
        LATHE_UNROLL(3)
        for (int j = 0; j < 3; ++j) {
          VF out[kSide];
          Method::weights(w + j, 3, out);
          LATHE_UNROLL(6)
          for (int i = 0; i < kSide; ++i) half[i * 3 + j] = out[i];
        }
        float* to = g.to + ((panel - g.begin) * g.channels + c) * g.width + x;
        LATHE_UNROLL(6)
        for (int i = 0; i < kSide; ++i) {
          VF out[kSide];
          Method::weights(half + i * 3, 1, out);
          LATHE_UNROLL(6)
          for (int j = 0; j < kSide; ++j) hn::StoreU(out[j], d, to + (i * kSide + j) * apart);
        }
      }
    }
  }
}

template <class Method>
void transform_weights(const WinogradWeights& g) {
  switch (g.type) {
    case PanelType::f16: return transform_panels<Method, PanelType::f16>(g);
    case PanelType::bf16: return transform_panels<Method, PanelType::bf16>(g);
    default: return transform_panels<Method, PanelType::f32>(g);
  }
}

// A tile's inputs: where its first pixel stands, and which of its rows and columns lie inside the picture.
struct Place {
  const float* corner = nullptr;
  int64_t row = 0, column = 0;  // floats to the next
  int y0 = 0, y1 = 0, x0 = 0, x1 = 0;
};

// Tile after tile, without a division for each.
struct TileWalk {
  int64_t tiles_y, tiles_x, image, y, x;
  TileWalk(const WinogradShape& s, int64_t tile)
      : tiles_y(s.tiles_y()), tiles_x(s.tiles_x()), image(tile / (tiles_y * tiles_x)), y(tile / tiles_x % tiles_y), x(tile % tiles_x) {}
  void next() {
    if (++x < tiles_x) return;
    x = 0;
    if (++y < tiles_y) return;
    y = 0, ++image;
  }
};

template <class Method>
Place place_of(const WinogradShape& s, const float* in, const TileWalk& tile) {
  const int64_t y = tile.y * Method::kOutputs - s.top, x = tile.x * Method::kOutputs - s.left;
  constexpr int64_t kSide = Method::kSide;
  Place p;
  p.column = s.in_pixel;
  p.row = s.in_row;
  p.corner = in + tile.image * s.in_image + y * p.row + x * p.column;
  p.y0 = static_cast<int>(std::clamp<int64_t>(-y, 0, kSide)), p.y1 = static_cast<int>(std::clamp<int64_t>(s.in_h - y, 0, kSide));
  p.x0 = static_cast<int>(std::clamp<int64_t>(-x, 0, kSide)), p.x1 = static_cast<int>(std::clamp<int64_t>(s.in_w - x, 0, kSide));
  return p;
}

// One vector of channels of one tile; says whether something in it is not finite.
template <class Method, bool kInside, bool kPart>
HWY_INLINE bool transform(const Place& p, int64_t ch, int64_t n, const int64_t* at, float* rows) {
  const F32 d;
  constexpr int kSide = Method::kSide;
  VF half[kSide * kSide];
  LATHE_UNROLL(6)
  for (int x = 0; x < kSide; ++x) {
    VF in[kSide];
    LATHE_UNROLL(6)
    for (int y = 0; y < kSide; ++y) {
      const bool inside = kInside || (y >= p.y0 && y < p.y1 && x >= p.x0 && x < p.x1);
      const float* from = p.corner + y * p.row + x * p.column + ch;
      in[y] = !inside ? hn::Zero(d) : kPart ? load_part(from, n) : hn::LoadU(d, from);
    }
    VF out[kSide];
    Method::in(in, 1, out);
    LATHE_UNROLL(6)
    for (int y = 0; y < kSide; ++y) half[y * kSide + x] = out[y];
  }
  // NaN where anything is not finite. These nine points take in every input between them.
  VF odd = hn::Zero(d);
  LATHE_UNROLL(6)
  for (int y = 0; y < kSide; ++y) {
    VF out[kSide];
    Method::in(half + y * kSide, 1, out);
    if (y == 0 || y == 1 || y == kSide - 1) {
      odd = hn::MulAdd(out[0], hn::Zero(d), odd);
      odd = hn::MulAdd(out[1], hn::Zero(d), odd);
      odd = hn::MulAdd(out[kSide - 1], hn::Zero(d), odd);
    }
    LATHE_UNROLL(6)
    for (int x = 0; x < kSide; ++x) {
      float* to = rows + at[y * kSide + x] + ch;
      if (kPart) store_part(out[x], to, n);
      else hn::StoreU(out[x], d, to);
    }
  }
  return !hn::AllTrue(d, hn::Eq(odd, odd));
}

template <class Method>
void take_in(const WinogradInput& g) {
  const WinogradShape& s = *g.shape;
  constexpr int kSide = Method::kSide;
  const int64_t lanes = hn::Lanes(F32());
  const WinogradRows layout(g.count, s.channels);
  int64_t at[kSide * kSide];
  for (int64_t p = 0; p < kSide * kSide; ++p) at[p] = layout.at(p, s.channels);
  TileWalk tile(s, g.first + g.begin);
  for (int64_t t = g.begin; t < g.end; ++t, tile.next()) {
    const Place p = place_of<Method>(s, g.in, tile);
    const bool inside = p.y0 == 0 && p.y1 == kSide && p.x0 == 0 && p.x1 == kSide;
    float* rows = g.rows + t * kNearStride;
    bool odd = false;
    int64_t ch = 0;
    for (; ch + lanes <= s.channels; ch += lanes)
      odd |= inside ? transform<Method, true, false>(p, ch, lanes, at, rows) : transform<Method, false, false>(p, ch, lanes, at, rows);
    if (ch < s.channels) odd |= transform<Method, false, true>(p, ch, s.channels - ch, at, rows);
    g.odd[t] = odd;
  }
}

// The sums of an odd tile for `n` filters from `filter` on, [pixel][lane]: NaN and infinity stay where they belong.
void sum_directly(const WinogradOutput& g, const Place& p, int64_t filter, int64_t n, int64_t lanes, float* sums) {
  const WinogradShape& s = *g.shape;
  const int64_t taps = 9;
  for (int64_t f = 0; f < n; ++f) {
    // Where the weight of channel 0 and tap 0 stands; the next tap's, the next channel's.
    const int64_t own = filter + f, panel = g.weights ? 0 : own / g.width * taps * s.channels * g.width + own % g.width;
    const int64_t by_tap = g.weights ? 1 : s.channels * g.width, by_channel = g.weights ? taps : g.width;
    const int64_t begin = g.weights ? own * s.channels * taps : panel;
    const auto weight = [&](int64_t c, int tap) -> double {
      const int64_t at = begin + c * by_channel + tap * by_tap;
      if (g.weights) return g.weights[at];
      if (g.panel_type == PanelType::f32) return static_cast<const float*>(g.panels)[at];
      // One of 16 bits, in a vector of them: what lies behind the last panel may be read.
      HWY_ALIGN float one[HWY_TARGET == HWY_SCALAR ? 1 : HWY_MAX_BYTES / 4];
      hn::StoreU(g.panel_type == PanelType::f16 ? load_weight<PanelType::f16>(g.panels, at) : load_weight<PanelType::bf16>(g.panels, at),
                 F32(), one);
      return one[0];
    };
    const int outputs = static_cast<int>(s.outputs);
    for (int pixel = 0; pixel < outputs * outputs; ++pixel) {
      double sum = 0;
      for (int tap = 0; tap < 9; ++tap) {
        const int y = pixel / outputs + tap / 3, x = pixel % outputs + tap % 3;
        if (y < p.y0 || y >= p.y1 || x < p.x0 || x >= p.x1) continue;
        const float* in = p.corner + y * p.row + x * p.column;
        for (int64_t c = 0; c < s.channels; ++c) sum += static_cast<double>(in[c]) * weight(c, tap);
      }
      sums[pixel * lanes + f] = static_cast<float>(sum);
    }
  }
}

template <class Method, bool kPart>
HWY_INLINE void finish(const WinogradOutput& g, const Place& p, int64_t t, int64_t row, int64_t high, int64_t wide, int64_t filter,
                       int64_t n) {
  const F32 d;
  const WinogradShape& s = *g.shape;
  const DenseEpilogue& e = g.epilogue;
  const auto load = [&](const float* from) HWY_ATTR { return kPart ? load_part(from, n) : hn::LoadU(d, from); };
  constexpr int kOutputs = Method::kOutputs, kSide = Method::kSide;
  VF y[kOutputs * kOutputs];
  if (g.odd[t]) {
    HWY_ALIGN float sums[kOutputs * kOutputs * (HWY_TARGET == HWY_SCALAR ? 1 : HWY_MAX_BYTES / 4)] = {};
    const int64_t lanes = hn::Lanes(d);
    sum_directly(g, p, filter, n, lanes, sums);
    for (int i = 0; i < kOutputs * kOutputs; ++i) y[i] = hn::LoadU(d, sums + i * lanes);
  } else {
    const int64_t apart = winograd_results(g.count, s.filters);
    const float* from = g.results + t * s.filters + filter;
    VF half[kOutputs * kSide];
    LATHE_UNROLL(6)
    for (int x = 0; x < kSide; ++x) {
      VF m[kSide];
      LATHE_UNROLL(6)
      for (int i = 0; i < kSide; ++i) m[i] = load(from + (i * kSide + x) * apart);
      Method::out(m, 1, half + x, kSide);
    }
    LATHE_UNROLL(4)
    for (int i = 0; i < kOutputs; ++i) Method::out(half + i * kSide, 1, y + i * kOutputs, 1);
  }
  const VF factor = e.factor ? load(e.factor + filter) : hn::Zero(d);
  const VF bias = e.bias ? load(e.bias + filter) : hn::Zero(d), low = hn::Set(d, e.low), top = hn::Set(d, e.high);
  for (int64_t i = 0; i < high; ++i) {
    for (int64_t j = 0; j < wide; ++j) {
      const int64_t pixel = row + i * s.out_w + j;
      VF v = e.factor ? hn::MulAdd(y[i * kOutputs + j], factor, bias) : hn::Add(y[i * kOutputs + j], bias);
      if (e.residual) v = hn::Add(v, load(e.residual + pixel * e.residual_stride + filter));
      if (e.clamp) v = clamped(v, low, top);
      float* to = g.out + pixel * s.out_pixel + filter;
      if (kPart) store_part(v, to, n);
      else hn::StoreU(v, d, to);
    }
  }
}

template <class Method>
void give_out(const WinogradOutput& g) {
  const WinogradShape& s = *g.shape;
  const int64_t lanes = hn::Lanes(F32());
  const RunTape run = g.epilogue.tape ? run_tape(kHere) : nullptr;
  TileWalk tile(s, g.first + g.begin);
  for (int64_t t = g.begin; t < g.end; ++t, tile.next()) {
    const int64_t y = tile.y * Method::kOutputs, x = tile.x * Method::kOutputs;
    const int64_t high = std::min<int64_t>(Method::kOutputs, s.out_h - y), wide = std::min<int64_t>(Method::kOutputs, s.out_w - x);
    const int64_t row = (tile.image * s.out_h + y) * s.out_w + x;
    const Place p = place_of<Method>(s, g.in, tile);
    int64_t f = 0;
    for (; f + lanes <= s.filters; f += lanes) finish<Method, false>(g, p, t, row, high, wide, f, lanes);
    if (f < s.filters) finish<Method, true>(g, p, t, row, high, wide, f, s.filters - f);
    for (int64_t i = 0; run && i < high; ++i) {
      const int64_t pixel = row + i * s.out_w;
      tape_over_rows(g.epilogue, run, g.out + pixel * s.out_pixel, s.out_pixel, pixel, wide, 0, s.filters);
    }
  }
}

#define LATHE_WINOGRAD(kOutputs)                                                                                 \
  LATHE_GIVES_WAY void Weights##kOutputs##Here(const WinogradWeights& g) { transform_weights<By##kOutputs>(g); } \
  LATHE_GIVES_WAY void Input##kOutputs##Here(const WinogradInput& g) { take_in<By##kOutputs>(g); }               \
  LATHE_GIVES_WAY void Output##kOutputs##Here(const WinogradOutput& g) { give_out<By##kOutputs>(g); }
LATHE_WINOGRAD(2)
LATHE_WINOGRAD(4)
#undef LATHE_WINOGRAD

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

// `g`: the matrix G.
template <int kSide>
static void weights_ahead(const double (&g)[kSide][3], const float* weights, int64_t filters, int64_t channels, int64_t width,
                          float* packed) {
  const int64_t apart = packed_size(channels, filters, width), panels = (filters + width - 1) / width;
  // A panel's columns past the last filter are zeros.
  if (filters % width != 0) {
    for (int64_t p = 0; p < kSide * kSide; ++p) std::fill_n(packed + p * apart + (panels - 1) * channels * width, channels * width, 0.0f);
  }
  for (int64_t f = 0; f < filters; ++f) {
    for (int64_t c = 0; c < channels; ++c) {
      const float* w = weights + (f * channels + c) * 9;
      double half[kSide][3];
      for (int i = 0; i < kSide; ++i) {
        for (int j = 0; j < 3; ++j) half[i][j] = g[i][0] * w[j] + g[i][1] * w[3 + j] + g[i][2] * w[6 + j];
      }
      float* to = packed + f / width * channels * width + c * width + f % width;
      for (int i = 0; i < kSide; ++i) {
        for (int j = 0; j < kSide; ++j)
          to[(i * kSide + j) * apart] = static_cast<float>(half[i][0] * g[j][0] + half[i][1] * g[j][1] + half[i][2] * g[j][2]);
      }
    }
  }
}

static void weights_ahead2(const float* weights, int64_t filters, int64_t channels, int64_t width, float* packed) {
  weights_ahead<4>({{-1, 0, 0}, {0.5, 0.5, 0.5}, {0.5, -0.5, 0.5}, {0, 0, 1}}, weights, filters, channels, width, packed);
}
static void weights_ahead4(const float* weights, int64_t filters, int64_t channels, int64_t width, float* packed) {
  constexpr double a = 0.75, b = 1.5, aa = a * a, bb = b * b, at_a = 1 / (2 * aa * (aa - bb)), at_b = 1 / (2 * bb * (bb - aa));
  weights_ahead<6>({{1 / (aa * bb), 0, 0},
                    {at_a, at_a * a, at_a * aa},
                    {at_a, -at_a * a, at_a * aa},
                    {at_b, at_b * b, at_b * bb},
                    {at_b, -at_b * b, at_b * bb},
                    {0, 0, 1}},
                   weights, filters, channels, width, packed);
}

WinogradKernels winograd2(Isa isa) {
  return {LATHE_SELECT(isa, Input2Here), LATHE_SELECT(isa, Output2Here), LATHE_SELECT(isa, Weights2Here), weights_ahead2};
}
WinogradKernels winograd4(Isa isa) {
  return {LATHE_SELECT(isa, Input4Here), LATHE_SELECT(isa, Output4Here), LATHE_SELECT(isa, Weights4Here), weights_ahead4};
}

}  // namespace lathe::kernels
#endif
