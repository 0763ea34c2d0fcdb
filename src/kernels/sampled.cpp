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

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Sampled sampled(Isa isa) { return LATHE_SELECT(isa, SampledHere); }
}  // namespace lathe::kernels
#endif
