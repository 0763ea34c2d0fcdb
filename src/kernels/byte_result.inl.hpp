// From 32-bit sums of 8-bit operands to results, compiled once per instruction set (no include guard of the usual kind: Highway's).
#if defined(LATHE_KERNELS_BYTE_RESULT_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_BYTE_RESULT_INL
#undef LATHE_KERNELS_BYTE_RESULT_INL
#else
#define LATHE_KERNELS_BYTE_RESULT_INL
#endif

#include <algorithm>
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

// Columns [column, column + lanes): what they need, in registers.
struct ByteColumns {
  VF factor, shift, low, high, zero;
  bool shifted;

  ByteColumns(const ByteResult& g, int64_t column)
      : factor(narrow(g.factors + column)),
        shift(g.shifts ? narrow(g.shifts + column) : hn::Zero(F32())),
        low(hn::Set(F32(), g.out_signed ? -128.0f : 0.0f)),
        high(hn::Set(F32(), g.out_signed ? 127.0f : 255.0f)),
        zero(hn::Set(F32(), static_cast<float>(g.out_zero))),
        shifted(g.shifts != nullptr) {}

  static HWY_INLINE VF narrow(const double* p) {
    const F32 d;
#if HWY_TARGET == HWY_SCALAR
    return hn::Set(d, static_cast<float>(*p));
#else
    const hn::Half<F32> dh;
    const hn::Rebind<double, hn::Half<F32>> dd;
    return hn::Combine(d, hn::DemoteTo(dh, hn::LoadU(dd, p + hn::Lanes(dh))), hn::DemoteTo(dh, hn::LoadU(dd, p)));
#endif
  }

  using Far = hn::Mask<F32>;
  static HWY_INLINE Far all() { return hn::FirstN(F32(), hn::Lanes(F32())); }
  static HWY_INLINE bool all_true(Far far) { return hn::AllTrue(F32(), far); }

  // By floats. Says which are far enough from the middle between two numbers: of the others double might round some the other way.
  HWY_INLINE Far write(hn::Vec<hn::RebindToSigned<F32>> sums, uint8_t* out) const {
    const F32 d;
    const hn::RebindToUnsigned<F32> du;
    VF v = hn::Mul(hn::ConvertTo(d, sums), factor), size = hn::Abs(v);
    if (shifted) {
      v = hn::Add(v, shift);
      size = hn::Add(size, hn::Abs(shift));
    }
    // Adding a number whose last place is one rounds to the nearest, ties to even. (What is too large for that is clamped.)
    const VF place = hn::Set(d, 0x1.8p23f);
    const VF rounded = hn::Sub(hn::Add(v, place), place);
    // Four roundings, each of at most 2^-24 of what it rounds.
    const VF apart = hn::MulAdd(size, hn::Set(d, 0x1p-21f), hn::Abs(hn::Sub(v, rounded)));
    // The whole number then stands in the low bits, negative ones as their complement.
    const auto y = hn::BitCast(du, hn::Add(hn::Min(hn::Max(hn::Add(rounded, zero), low), high), place));
    const hn::Rebind<uint8_t, F32> d8;
    hn::StoreU(hn::TruncateTo(d8, y), d8, out);
    return hn::Lt(apart, hn::Set(d, 0.5f));
  }
};

inline void requantise(const ByteResult& g, const int32_t* line, uint8_t* out, int64_t column, int64_t columns) {
  const hn::RebindToSigned<F32> di;
  const int64_t lanes = hn::Lanes(F32());
  int64_t j = 0;
  for (; j + lanes <= columns; j += lanes) {
    if (!ByteColumns::all_true(ByteColumns(g, column + j).write(hn::LoadU(di, line + j), out + j)))
      requantise_exactly(g, line + j, out + j, column + j, lanes);
  }
  requantise_exactly(g, line + j, out + j, column + j, columns - j);
}

// A row of finished sums, from `column` on, to the result. Tapes come later, over more columns at once.
inline void finish_line(const ByteResult& g, const int32_t* line, int64_t row, int64_t column, int64_t columns) {
  const int64_t at = row * g.ldc + column;
  if (g.sums) {
    std::memcpy(g.sums + at, line, static_cast<size_t>(columns) * sizeof(int32_t));
    return;
  }
  if (g.reals) return real_row(g, line, g.reals + at, row, column, columns);
  requantise(g, line, g.out + at, column, columns);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
