// From 32-bit sums of 8-bit operands to results, compiled once per instruction set (no include guard of the usual kind: Highway's).
#if defined(LATHE_KERNELS_BYTE_RESULT_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_BYTE_RESULT_INL
#undef LATHE_KERNELS_BYTE_RESULT_INL
#else
#define LATHE_KERNELS_BYTE_RESULT_INL
#endif

#include <algorithm>
#include <cstring>

#include "kernels/dense8.hpp"
#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// A row of finished sums as floats: scale, bias, residual, clamp, each rounded by itself as the nodes they stand for do.
inline void real_row(const ByteResult& g, const int32_t* line, float* out, int64_t row, int64_t column, int64_t columns) {
  const DenseEpilogue& e = g.epilogue;
  const float* scale = g.scales ? g.scales + column * g.scale_stride : nullptr;
  const float* bias = e.bias ? e.bias + column : nullptr;
  const float* residual = e.residual ? e.residual + row * e.residual_stride + column : nullptr;
  const auto finish = [&](auto d, int64_t j, const int32_t* sums, float* to) HWY_ATTR {
    auto v = hn::ConvertTo(d, hn::LoadU(hn::RebindToSigned<decltype(d)>(), sums));
    if (scale) v = hn::Mul(v, g.scale_stride ? hn::LoadU(d, scale + j) : hn::Set(d, *scale));
    if (bias) v = hn::Add(v, hn::LoadU(d, bias + j));
    if (residual) v = hn::Add(v, hn::LoadU(d, residual + j));
    if (e.clamp) {
      v = hn::IfThenElse(hn::Lt(v, hn::Set(d, e.low)), hn::Set(d, e.low), v);
      v = hn::IfThenElse(hn::Gt(v, hn::Set(d, e.high)), hn::Set(d, e.high), v);
    }
    hn::StoreU(v, d, to);
  };
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t j = 0;
  for (; j + lanes <= columns; j += lanes) finish(d, j, line + j, out + j);
  const hn::CappedTag<float, 1> one;
  for (; j < columns; ++j) finish(one, j, line + j, out + j);
}

// A row of finished sums, from `column` on, to the result. `line` is written over. Tapes come later, over more columns at once.
inline void finish_line(const ByteResult& g, int32_t* line, int64_t row, int64_t column, int64_t columns) {
  const int64_t at = row * g.ldc + column;
  if (g.sums) {
    std::memcpy(g.sums + at, line, static_cast<size_t>(columns) * sizeof(int32_t));
    return;
  }
  if (g.reals) return real_row(g, line, g.reals + at, row, column, columns);
  // In double, as plain evaluation does it: ties go the same way.
  const hn::ScalableTag<double> dd;
  const hn::Rebind<int32_t, hn::ScalableTag<double>> half;
  const int64_t lanes = hn::Lanes(dd), whole = columns - columns % lanes;
  const double low = g.out_signed ? -128 : 0, high = g.out_signed ? 127 : 255;
  for (int64_t j = 0; j < whole; j += lanes) {
    auto v = hn::Mul(hn::PromoteTo(dd, hn::LoadU(half, line + j)), hn::LoadU(dd, g.factors + column + j));
    if (g.shifts) v = hn::Add(v, hn::LoadU(dd, g.shifts + column + j));
    v = hn::Add(hn::Round(v), hn::Set(dd, static_cast<double>(g.out_zero)));
    v = hn::Min(hn::Max(v, hn::Set(dd, low)), hn::Set(dd, high));
    hn::StoreU(hn::DemoteTo(half, v), half, line + j);
  }
  for (int64_t j = whole; j < columns; ++j)
    line[j] = static_cast<int32_t>(
        std::clamp(__builtin_nearbyint(line[j] * g.factors[column + j] + (g.shifts ? g.shifts[column + j] : 0)) + g.out_zero, low, high));
  for (int64_t j = 0; j < columns; ++j) g.out[at + j] = static_cast<uint8_t>(line[j]);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
