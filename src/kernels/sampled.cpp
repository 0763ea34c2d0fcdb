#include "kernels/sampled.hpp"

#include <cmath>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/sampled.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// Element by element: instructions that gather are microcode on many processors, ten times slower than so many loads.
template <class D>
HWY_INLINE hn::Vec<D> elements_at(D d, const float* in, const int32_t* at) {
  constexpr size_t kMost = HWY_TARGET == HWY_SCALAR ? 1 : HWY_MAX_BYTES / sizeof(float);
  HWY_ALIGN float some[kMost];
  for (size_t k = 0; k < hn::Lanes(d); ++k) some[k] = in[at[k] < 0 ? 0 : at[k]];
  return hn::Load(d, some);
}

template <bool kAllInside, class D>
HWY_INLINE void places_of(D d, const SampledArguments& g, const float* in, float* out, int64_t p) {
  const hn::RebindToSigned<D> di;
  auto sum = g.more ? hn::LoadU(d, out + p) : hn::Zero(d);
  for (int64_t t = 0; t < g.taps; ++t) {
    const int32_t* at = g.at + t * g.row + p;
    const auto w = hn::LoadU(d, g.weights + t * g.row + p);
    auto value = elements_at(d, in, at);
    if constexpr (!kAllInside) value = hn::IfThenZeroElse(hn::RebindMask(d, hn::Lt(hn::LoadU(di, at), hn::Zero(di))), value);
    sum = hn::MulAdd(w, value, sum);
  }
  hn::StoreU(sum, d, out + p);
}

template <bool kAllInside>
void planes_of(const SampledArguments& g) {
  const F32 d;
  const hn::CappedTag<float, 1> one;
  const int64_t lanes = hn::Lanes(d);
  for (int64_t plane = 0; plane < g.planes; ++plane) {
    const float* in = g.in + plane * g.in_plane;
    float* out = g.out + plane * g.out_plane;
    int64_t p = 0;
    for (; p + lanes <= g.places; p += lanes) places_of<kAllInside>(d, g, in, out, p);
    for (; p < g.places; ++p) places_of<kAllInside>(one, g, in, out, p);
  }
}

LATHE_GIVES_WAY void SampledHere(const SampledArguments& g) {
  if (g.all_inside) planes_of<true>(g);
  else planes_of<false>(g);
}

template <class D>
HWY_INLINE void channels_of(D d, const float* const* from, const float* weights, int64_t taps, float* out, int64_t c) {
  auto sum = hn::Zero(d);
  for (int64_t t = 0; t < taps; ++t) sum = hn::MulAdd(hn::Set(d, weights[t]), hn::LoadU(d, from[t] + c), sum);
  hn::StoreU(sum, d, out + c);
}

LATHE_GIVES_WAY void SampledPixelsHere(const SampledPixelsArguments& g) {
  const F32 d;
  const hn::CappedTag<float, 8> eight;
  const hn::CappedTag<float, 4> four;
  const hn::CappedTag<float, 1> one;
  const int64_t lanes = hn::Lanes(d), some = hn::Lanes(eight), few = hn::Lanes(four);
  constexpr int64_t kMost = 16;  // taps whose places are found together
  for (int64_t p = 0; p < g.places; ++p) {
    const float* from[kMost];
    float weights[kMost];
    int64_t taps = 0;
    for (int64_t t = 0; t < g.taps; ++t) {
      const int32_t at = g.at[t * g.row + p];
      if (at < 0) continue;
      from[taps] = g.in + at * g.channels;
      weights[taps++] = g.weights[t * g.row + p];
    }
    float* out = g.out + p * g.channels;
    int64_t c = 0;
    for (; c + lanes <= g.channels; c += lanes) channels_of(d, from, weights, taps, out, c);
    for (; c + some <= g.channels; c += some) channels_of(eight, from, weights, taps, out, c);
    for (; c + few <= g.channels; c += few) channels_of(four, from, weights, taps, out, c);
    for (; c < g.channels; ++c) channels_of(one, from, weights, taps, out, c);
  }
}

inline constexpr int64_t kStrip = 128;  // places whose taps are found together

// Along an axis: elements and how much each weighs. Plain loops, which become vectors.
struct Along {
  int32_t index[4][kStrip];
  double share[4][kStrip];
};

// Where the places are, in elements. Beyond what is near the axis nothing is read, or only the border.
void positions_of(const GridArguments& g, const float* grid, int64_t places, int64_t size, double* at) {
  const bool corners = g.corners, pixels = g.pixels, cubic = g.taps == GridTaps::cubic, border = g.border;
  const double n = static_cast<double>(size), span = corners ? n - 1 : n, less = corners ? 0 : 1;
  const double low = cubic ? -4 : border ? 0 : -2, high = cubic ? n + 3 : border ? n - 1 : n + 1, lost = border ? 0 : low;
  const int64_t step = g.axes;
  for (int64_t p = 0; p < places; ++p) {
    const double raw = static_cast<double>(grid[step * p]);
    double x = pixels ? raw : corners ? (raw + 1) / 2 * span : ((raw + 1) * span - less) / 2;
    // Plain evaluation has a position at the first element, or outside, where there is none.
    const bool found = (x >= -1e15) & (x <= 1e15);
    x = x > low ? x : low;
    x = x < high ? x : high;
    at[p] = found ? x : lost;
  }
}

HWY_INLINE double cubic_share(double d) {
  constexpr double a = -0.75;
  d = d < 0 ? -d : d;
  const double near = ((a + 2) * d - (a + 3)) * d * d + 1, far = ((a * d - 5 * a) * d + 8 * a) * d - 4 * a;
  return d <= 1 ? near : d < 2 ? far : 0;
}

void taps_along(const GridArguments& g, const float* grid, int64_t places, int64_t size, Along& out) {
  double at[kStrip];
  positions_of(g, grid, places, size, at);
  if (g.taps == GridTaps::nearest) {
    for (int64_t p = 0; p < places; ++p) {
      out.index[0][p] = static_cast<int32_t>(std::nearbyint(at[p]));
      out.share[0][p] = 1;
    }
    return;
  }
  const bool cubic = g.taps == GridTaps::cubic;
  const auto last = static_cast<int32_t>(size) - 1;
  int32_t first[kStrip];
  for (int64_t p = 0; p < places; ++p) {
    const auto cut = static_cast<int32_t>(at[p]);
    first[p] = cut - (at[p] < static_cast<double>(cut) ? 1 : 0);
  }
  if (!cubic) {
    for (int64_t p = 0; p < places; ++p) {
      const double share = at[p] - static_cast<double>(first[p]);
      out.index[0][p] = first[p], out.index[1][p] = first[p] + 1;
      out.share[0][p] = 1 - share, out.share[1][p] = share;
    }
    return;
  }
  for (int t = 0; t < 4; ++t) {
    for (int64_t p = 0; p < places; ++p) {
      int32_t i = first[p] - 1 + t;
      out.share[t][p] = cubic_share(at[p] - static_cast<double>(i));
      if (g.border) i = i < 0 ? 0 : i > last ? last : i;
      out.index[t][p] = i;
    }
  }
}

LATHE_GIVES_WAY bool FindTapsHere(const GridArguments& g) {
  Along axes[3];
  const int each = static_cast<int>(g.taps);
  int taps[3], size[3];
  // Axes that are not there have one element.
  for (int a = 0; a < 3; ++a) {
    const int own = a - (3 - g.axes);
    taps[a] = own < 0 ? 1 : each, size[a] = own < 0 ? 1 : static_cast<int>(g.size[own]);
    for (int64_t p = 0; own < 0 && p < kStrip; ++p) axes[a].index[0][p] = 0, axes[a].share[0][p] = 1;
  }
  const auto planes = static_cast<uint32_t>(size[0]), rows = static_cast<uint32_t>(size[1]), columns = static_cast<uint32_t>(size[2]);
  int32_t outside = 0;
  for (int64_t from = 0; from < g.places; from += kStrip) {
    const int64_t n = g.places - from < kStrip ? g.places - from : kStrip;
    for (int own = 0; own < g.axes; ++own)
      taps_along(g, g.grid + g.axes * from + (g.axes - 1 - own), n, g.size[own], axes[3 - g.axes + own]);
    for (int k = 0; k < taps[0] * taps[1] * taps[2]; ++k) {
      const int t[]{k / (taps[1] * taps[2]), k / taps[2] % taps[1], k % taps[2]};
      const int32_t *z = axes[0].index[t[0]], *y = axes[1].index[t[1]], *x = axes[2].index[t[2]];
      const double *sz = axes[0].share[t[0]], *sy = axes[1].share[t[1]], *sx = axes[2].share[t[2]];
      int32_t* at = g.at + k * g.row + from;
      float* weights = g.weights + k * g.row + from;
      // Apart, so that each loop has numbers of one width. What weighs nothing is not read: a border's position is its own.
      int32_t weighs[kStrip];
      for (int64_t p = 0; p < n; ++p) {
        const double w = sx[p] * sy[p] * sz[p];
        weights[p] = static_cast<float>(w);
        weighs[p] = w != 0 ? 1 : 0;
      }
      for (int64_t p = 0; p < n; ++p) {
        const auto a = static_cast<uint32_t>(z[p]), b = static_cast<uint32_t>(y[p]),
                   c = static_cast<uint32_t>(x[p]);  // wrap where they are outside
        const uint32_t in = static_cast<uint32_t>(a < planes) & static_cast<uint32_t>(b < rows) & static_cast<uint32_t>(c < columns) &
                            static_cast<uint32_t>(weighs[p]);
        at[p] = static_cast<int32_t>(((a * rows + b) * columns + c) | (in - 1));
        outside |= at[p];
      }
    }
  }
  return outside >= 0;
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
FindTaps find_taps(Isa isa) { return LATHE_SELECT(isa, FindTapsHere); }
Sampled sampled(Isa isa) { return LATHE_SELECT(isa, SampledHere); }
SampledPixels sampled_pixels(Isa isa) { return LATHE_SELECT(isa, SampledPixelsHere); }
}  // namespace lathe::kernels
#endif
