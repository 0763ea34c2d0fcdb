#include "kernels/sampled.hpp"

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

void SampledHere(const SampledArguments& g) {
  if (g.all_inside) planes_of<true>(g);
  else planes_of<false>(g);
}

template <class D>
HWY_INLINE void channels_of(D d, const float* const* from, const float* weights, int64_t taps, float* out, int64_t c) {
  auto sum = hn::Zero(d);
  for (int64_t t = 0; t < taps; ++t) sum = hn::MulAdd(hn::Set(d, weights[t]), hn::LoadU(d, from[t] + c), sum);
  hn::StoreU(sum, d, out + c);
}

void SampledPixelsHere(const SampledPixelsArguments& g) {
  const F32 d;
  const hn::CappedTag<float, 1> one;
  const int64_t lanes = hn::Lanes(d);
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
    for (; c < g.channels; ++c) channels_of(one, from, weights, taps, out, c);
  }
}

// Where along an axis: the first of two elements, and the share of the second. A plain loop, which becomes vectors.
HWY_INLINE void along(const float* grid, int64_t places, int64_t size, bool pixels, bool corners, bool border, int32_t* first,
                      double* share) {
  const double n = static_cast<double>(size), span = corners ? n - 1 : n, less = corners ? 0 : 1;
  // Beyond these nothing is read, or only the border.
  const double low = border ? 0 : -2, high = border ? n - 1 : n + 1;
  for (int64_t p = 0; p < places; ++p) {
    const double raw = static_cast<double>(grid[2 * p]);
    double at = pixels ? raw : corners ? (raw + 1) / 2 * span : ((raw + 1) * span - less) / 2;
    // Plain evaluation has a position at the first element, or outside, where there is none.
    at = at > low ? at : low;
    at = at < high ? at : (border && !(at <= 1e15) ? 0 : high);
    const auto cut = static_cast<int32_t>(at);
    const int32_t i = cut - (at < static_cast<double>(cut) ? 1 : 0);
    first[p] = i;
    share[p] = at - static_cast<double>(i);
  }
}

bool LinearGridHere(const LinearGridArguments& g) {
  constexpr int64_t kStrip = 128;
  int32_t y[kStrip], x[kStrip];
  double sy[kStrip], sx[kStrip];
  int32_t outside = 0;
  const auto height = static_cast<int32_t>(g.height), width = static_cast<int32_t>(g.width);
  for (int64_t from = 0; from < g.places; from += kStrip) {
    const int64_t n = g.places - from < kStrip ? g.places - from : kStrip;
    along(g.grid + 2 * from, n, g.width, g.pixels, g.corners, g.border, x, sx);
    along(g.grid + 2 * from + 1, n, g.height, g.pixels, g.corners, g.border, y, sy);
    for (int dy = 0; dy < 2; ++dy) {
      for (int dx = 0; dx < 2; ++dx) {
        int32_t* at = g.at + (2 * dy + dx) * g.row + from;
        float* weights = g.weights + (2 * dy + dx) * g.row + from;
        for (int64_t p = 0; p < n; ++p) {
          const double w = (dy ? sy[p] : 1 - sy[p]) * (dx ? sx[p] : 1 - sx[p]);
          // A border's position is its own; what is next to it weighs nothing.
          const int32_t r = y[p] + dy, c = x[p] + dx;
          const bool in = (r >= 0) & (r < height) & (c >= 0) & (c < width) & (w != 0);
          const int32_t place = in ? r * width + c : -1;
          outside |= place;
          at[p] = place;
          weights[p] = static_cast<float>(w);
        }
      }
    }
  }
  return outside >= 0;
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
LinearGrid linear_grid(Isa isa) { return LATHE_SELECT(isa, LinearGridHere); }
Sampled sampled(Isa isa) { return LATHE_SELECT(isa, SampledHere); }
SampledPixels sampled_pixels(Isa isa) { return LATHE_SELECT(isa, SampledPixelsHere); }
}  // namespace lathe::kernels
#endif
