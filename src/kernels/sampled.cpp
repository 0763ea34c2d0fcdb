#include "kernels/sampled.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/sampled.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

template <bool kAllInside, class D>
HWY_INLINE void places_of(D d, const SampledArguments& g, const float* in, float* out, int64_t p) {
  const hn::RebindToSigned<D> di;
  auto sum = g.more ? hn::LoadU(d, out + p) : hn::Zero(d);
  for (int64_t t = 0; t < g.taps; ++t) {
    const auto at = hn::LoadU(di, g.at + t * g.row + p);
    const auto w = hn::LoadU(d, g.weights + t * g.row + p);
    if constexpr (kAllInside) {
      sum = hn::MulAdd(w, hn::GatherIndex(d, in, at), sum);
    } else {
      const auto outside = hn::RebindMask(d, hn::Lt(at, hn::Zero(di)));
      const auto value = hn::GatherIndex(d, in, hn::Max(at, hn::Zero(di)));
      sum = hn::MulAdd(w, hn::IfThenZeroElse(outside, value), sum);
    }
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

// Where along an axis: the first of two elements, and the share of the second. A plain loop, which becomes vectors.
HWY_INLINE void along(const float* grid, int64_t places, int64_t size, bool corners, bool border, int32_t* first, double* share) {
  const double n = static_cast<double>(size), span = corners ? n - 1 : n, less = corners ? 0 : 1;
  // Beyond these nothing is read, or only the border.
  const double low = border ? 0 : -2, high = border ? n - 1 : n + 1;
  for (int64_t p = 0; p < places; ++p) {
    const double raw = static_cast<double>(grid[2 * p]);
    double at = corners ? (raw + 1) / 2 * span : ((raw + 1) * span - less) / 2;
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
    along(g.grid + 2 * from, n, g.width, g.corners, g.border, x, sx);
    along(g.grid + 2 * from + 1, n, g.height, g.corners, g.border, y, sy);
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
}  // namespace lathe::kernels
#endif
