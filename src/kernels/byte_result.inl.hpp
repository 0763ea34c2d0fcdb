// From 32-bit sums of 8-bit operands to results, compiled once per instruction set (no include guard of the usual kind: Highway's).
#if defined(LATHE_KERNELS_BYTE_RESULT_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_BYTE_RESULT_INL
#undef LATHE_KERNELS_BYTE_RESULT_INL
#else
#define LATHE_KERNELS_BYTE_RESULT_INL
#endif

#include <algorithm>
#include <cmath>
#include <cstring>

#include "kernels/byte_result.hpp"
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

// Sums to bytes. In double, as plain evaluation does it: ties go the same way.
inline void requantise_exactly(const ByteResult& g, const int32_t* line, uint8_t* out, int64_t column, int64_t columns) {
  const double low = g.out_signed ? -128 : 0, high = g.out_signed ? 127 : 255;
  for (int64_t j = 0; j < columns; ++j) {
    const double v = line[j] * g.factors[column + j] + (g.shifts ? g.shifts[column + j] : 0);
    out[j] = static_cast<uint8_t>(static_cast<int32_t>(std::clamp(__builtin_nearbyint(v) + g.out_zero, low, high)));
  }
}

// What sums need to become bytes by floats, for some columns; up to whole vectors past them.
template <int64_t kMost>
struct ByteFactors {
  alignas(64) float factor[kMost];
  alignas(64) float shift[kMost];  // with the zero point
  alignas(64) float limit[kMost];  // nearer to a whole number than this, the sum becomes what it becomes in double
  float least_limit = 0.5f;        // of all; 0 where something is not finite
  bool bounded = true;             // whatever the sum, the product fits 32 bits

  // `place(j)`: where the j-th column from `column` on stands.
  template <class Place>
  void set(const ByteResult& g, int64_t column, int64_t columns, Place place) {
    const int64_t whole = std::min(kMost, (columns + kStep - 1) / kStep * kStep);
    std::fill_n(factor, whole, 0.0f), std::fill_n(shift, whole, 0.0f), std::fill_n(limit, whole, 0.5f);
    least_limit = 0.5f, bounded = true;
    for (int64_t j = 0; j < columns; ++j) {
      const int64_t at = place(j);
      const double s = (g.shifts ? g.shifts[column + j] : 0) + g.out_zero;
      factor[at] = static_cast<float>(g.factors[column + j]);
      shift[at] = static_cast<float>(s);
      // The product carries two roundings, the shift one, their sum one, each of at most 2^-24 of what it rounds; results of more than
      // 256 are clamped whatever was lost, so the product is at most 256 and the shift.
      limit[at] = static_cast<float>(0.5 - 0x1p-24 * (800 + 4 * std::fabs(s)));
      bounded = bounded && std::fabs(factor[at]) < 0.99f && std::fabs(s) < 1e6;
      const bool finite = std::isfinite(factor[at]) && std::isfinite(shift[at]);
      least_limit = finite ? std::min(least_limit, limit[at]) : 0.0f;
    }
  }
  void set(const ByteResult& g, int64_t column, int64_t columns) {
    set(g, column, columns, [](int64_t j) { return j; });
  }

 private:
  static constexpr int64_t kStep = 64;
};

using VSums = hn::Vec<hn::RebindToSigned<F32>>;
// What tells whether floats can be trusted: how far the results so far were from whole numbers.
#if HWY_TARGET == HWY_AVX3
struct Far {
  __m512 most;
};
HWY_INLINE Far none_far() { return {_mm512_setzero_ps()}; }
template <int64_t kMost>
HWY_INLINE bool trusted(const Far& far, const ByteFactors<kMost>& factors) {
  return _mm512_cmp_ps_mask(far.most, _mm512_set1_ps(factors.least_limit), _CMP_LT_OQ) == 0xFFFF;
}
#else
struct Far {
  hn::Mask<F32> near;
};
HWY_INLINE Far none_far() { return {hn::FirstN(F32(), hn::Lanes(F32()))}; }
template <int64_t kMost>
HWY_INLINE bool trusted(const Far& far, const ByteFactors<kMost>&) {
  return hn::AllTrue(F32(), far.near);
}
#endif

// A vector of columns, in registers.
struct ByteColumns {
  VF factor, shift;
#if HWY_TARGET == HWY_AVX3
  bool bounded;
#else
  VF limit;
#endif

  template <int64_t kMost>
  ByteColumns(const ByteFactors<kMost>& f, int64_t at)
      : factor(hn::LoadU(F32(), f.factor + at)),
        shift(hn::LoadU(F32(), f.shift + at)),
#if HWY_TARGET == HWY_AVX3
        bounded(f.bounded) {
  }
#else
        limit(hn::LoadU(F32(), f.limit + at)) {
  }
#endif

#if HWY_TARGET == HWY_AVX3
  // Whole numbers that fit 32 bits, to be saturated.
  HWY_INLINE VSums rounded(VSums sums, Far& far) const {
    const F32 d;
    VF v = hn::MulAdd(hn::ConvertTo(d, sums), factor, shift);
    if (HWY_UNLIKELY(!bounded)) v = VF{_mm512_min_ps(_mm512_set1_ps(30000.0f), v.raw)};
    // What rounding to the nearest leaves, and the larger of two magnitudes, are an instruction each.
    far.most = _mm512_range_ps(far.most, _mm512_reduce_ps(v.raw, 0), 0b1011);
    return VSums{_mm512_cvtps_epi32(v.raw)};
  }
  HWY_INLINE void write(const ByteResult& g, VSums sums, uint8_t* out, Far& far) const {
    const VSums r = rounded(sums, far);
    const auto bytes =
        g.out_signed ? _mm512_cvtsepi32_epi8(r.raw) : _mm512_cvtusepi32_epi8(hn::Max(r, hn::Zero(hn::RebindToSigned<F32>())).raw);
    _mm_storeu_si128(reinterpret_cast<__m128i*>(out), bytes);
  }
#else
  HWY_INLINE void write(const ByteResult& g, VSums sums, uint8_t* out, Far& far) const {
    const F32 d;
    const hn::RebindToUnsigned<F32> du;
    const hn::Rebind<uint8_t, F32> d8;
    const VF v = hn::MulAdd(hn::ConvertTo(d, sums), factor, shift);
    // Adding a number whose last place is one rounds to the nearest, ties to even. (What is too large for that is clamped.)
    const VF place = hn::Set(d, 0x1.8p23f);
    const VF whole = hn::Sub(hn::Add(v, place), place);
    far.near = hn::And(far.near, hn::Lt(hn::Abs(hn::Sub(v, whole)), limit));
    const VF low = hn::Set(d, g.out_signed ? -128.0f : 0.0f), high = hn::Set(d, g.out_signed ? 127.0f : 255.0f);
    // The whole number then stands in the low bits, negative ones as their complement.
    hn::StoreU(hn::TruncateTo(d8, hn::BitCast(du, hn::Add(hn::Min(hn::Max(whole, low), high), place))), d8, out);
  }
#endif
};

#if HWY_TARGET == HWY_AVX3
// Whole numbers saturated to 64 bytes: each 128 bits of the result from those of a, b, c and d in turn.
HWY_INLINE __m512i saturated(bool is_signed, VSums a, VSums b, VSums c, VSums d) {
  const __m512i ab = _mm512_packs_epi32(a.raw, b.raw), cd = _mm512_packs_epi32(c.raw, d.raw);
  return is_signed ? _mm512_packs_epi16(ab, cd) : _mm512_packus_epi16(ab, cd);
}
#endif

// A row of finished sums, from `column` on, to the result. Tapes come later, over more columns at once.
inline void finish_line(const ByteResult& g, const int32_t* line, int64_t row, int64_t column, int64_t columns) {
  const int64_t at = row * g.ldc + column;
  if (g.sums) {
    std::memcpy(g.sums + at, line, static_cast<size_t>(columns) * sizeof(int32_t));
    return;
  }
  if (g.reals) return real_row(g, line, g.reals + at, row, column, columns);
  requantise_exactly(g, line, g.out + at, column, columns);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
