#include "kernels/row_parts.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/row_parts.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/rows.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

LATHE_GIVES_WAY void MeasurePartHere(const RowPart& p, PartStatistics& s) {
  const int64_t n = p.length;
  switch (p.op) {
    case RowOp::softmax:
    case RowOp::log_softmax: {
      const float largest = extreme<true>(p.in, n);
      s = {static_cast<double>(largest), 0};
      const bool finite = std::fabs(largest) <= std::numeric_limits<float>::max();
      if (p.op == RowOp::log_softmax) s.sum = finite ? sum_of_exponentials(p.in, n, largest) : 0;
      else if (finite) s.sum = exponentials(p.in, p.out, n, largest, nullptr);
      else std::fill_n(p.out, n, 0.0f);
      break;
    }
    case RowOp::rms_norm: s = {0, static_cast<double>(sum_of(p.in, n, kSquare))}; break;
    default: {
      const float mean = sum_of(p.in, n, kAdd) / static_cast<float>(n);
      s = {static_cast<double>(mean), static_cast<double>(squared_distances(p.in, n, mean))};
    }
  }
}

LATHE_GIVES_WAY void FinishPartHere(const RowPart& p) {
  const F32 d;
  const int64_t n = p.length;
  switch (p.op) {
    case RowOp::softmax: return map(p.out, p.out, n, [&](VF v, int64_t) { return hn::Mul(v, hn::Set(d, p.factor)); });
    case RowOp::log_softmax: return map(p.out, p.in, n, [&](VF v, int64_t) { return hn::Sub(v, hn::Set(d, p.shift)); });
    case RowOp::layer_norm: return normalise(p.in, p.out, n, p.shift, p.factor, p.scale, p.bias);
    case RowOp::rms_norm: return scale_by_root(p.in, p.out, n, p.factor, p.scale);
    default: {
      for (int64_t i = 0; i < n;) {
        const int64_t of_row = p.first + i, c = p.channel + of_row / p.pixels;
        const int64_t some = std::min(n - i, p.pixels - of_row % p.pixels);
        normalise_channel(p.in + i, p.out + i, some, p.shift, p.scale[c] * p.factor, p.bias ? p.bias[c] : 0.0f);
        i += some;
      }
    }
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
MeasurePart measure_part(Isa isa) { return LATHE_SELECT(isa, MeasurePartHere); }
FinishPart finish_part(Isa isa) { return LATHE_SELECT(isa, FinishPartHere); }
}  // namespace lathe::kernels
#endif
