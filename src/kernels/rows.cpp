#include "kernels/rows.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <limits>
#include <type_traits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/rows.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/rows.inl.hpp"

#ifndef LATHE_ROWS_SHARED
#define LATHE_ROWS_SHARED
namespace lathe::kernels {
// Sums of floats can leave their range where the result does not (a mean, a length, a normalised row). Such a row is done again here, in
// double: rows that are not finite at all come here too, and give what they should. `at`: floats from one element to the next.
template <typename F>
double wide_sum(const float* x, int64_t n, int64_t at, F f) {
  double sum = 0;
  for (int64_t i = 0; i < n; ++i) sum += f(static_cast<double>(x[i * at]));
  return sum;
}
inline double wide_mean(const float* x, int64_t n) {
  return wide_sum(x, n, 1, [](double v) { return v; }) / static_cast<double>(n);
}
// 1 / sqrt(mean square distance from `mean` + epsilon).
inline double wide_inverse(const float* x, int64_t n, double mean, double epsilon) {
  return 1 / std::sqrt(wide_sum(x, n, 1, [&](double v) { return (v - mean) * (v - mean); }) / static_cast<double>(n) + epsilon);
}
// A length below this may be of squares that floats do not hold.
constexpr float kSmallRoot = 1e-15f;
inline bool finite(float v) { return std::fabs(v) <= std::numeric_limits<float>::max(); }
}  // namespace lathe::kernels
#endif

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

void softmax(const float* x, float* y, int64_t n, bool log, const float* next) {
  const F32 d;
  const float maximum = log ? extreme<true>(x, n) : extreme<true, false>(x, n);  // below, the next row is asked for beside the exponentials
  if (log) {
    const VF shift = hn::Set(d, maximum + std::log(static_cast<float>(sum_of_exponentials(x, n, maximum))));
    return map(y, x, n, [&](VF v, int64_t) { return hn::Sub(v, shift); });
  }
  if (!finite(maximum)) {  // NaN or infinity at the maximum: nothing but NaN comes of it
    for (int64_t i = 0; i < n; ++i) y[i] = std::numeric_limits<float>::quiet_NaN();
    return;
  }
  // Exponentials stay in L1 until their sum is known; only the result goes to memory.
  constexpr int64_t kMost = 4096;
  HWY_ALIGN float near_by[kMost];
  float* e = n <= kMost ? near_by : y;
  const VF inverse = hn::Set(d, 1.0f / static_cast<float>(exponentials(x, e, n, maximum, next)));
  map(y, e, n, [&](VF v, int64_t) { return hn::Mul(v, inverse); });
}

void layer_norm(const RowArguments& g, const float* x, float* y) {
  const int64_t n = g.length;
  const float mean = sum_of(x, n, kAdd) / static_cast<float>(n), variance = squared_distances(x, n, mean) / static_cast<float>(n);
  if (!finite(variance)) {
    const double centre = wide_mean(x, n), factor = wide_inverse(x, n, centre, static_cast<double>(g.epsilon));
    for (int64_t i = 0; i < n; ++i) {
      const double v = (static_cast<double>(x[i]) - centre) * factor * static_cast<double>(g.scale[i]);
      y[i] = static_cast<float>(g.bias ? v + static_cast<double>(g.bias[i]) : v);
    }
    return;
  }
  normalise(x, y, n, mean, 1.0f / std::sqrt(variance + g.epsilon), g.scale, g.bias);
}

void rms_norm(const RowArguments& g, const float* x, float* y) {
  const int64_t n = g.length;
  const float variance = sum_of(x, n, kSquare) / static_cast<float>(n);
  if (!finite(variance)) {
    const double factor = wide_inverse(x, n, 0, static_cast<double>(g.epsilon));
    for (int64_t i = 0; i < n; ++i) y[i] = static_cast<float>(static_cast<double>(x[i]) * factor * static_cast<double>(g.scale[i]));
    return;
  }
  scale_by_root(x, y, n, 1.0f / std::sqrt(variance + g.epsilon), g.scale);
}

// Row r: some channels of a picture, each `pixels` long.
void group_norm(const RowArguments& g, const float* x, float* y, int64_t r) {
  const int64_t n = g.length, per_row = n / g.pixels, first = r * per_row % g.channels;
  const float mean = sum_of(x, n, kAdd) / static_cast<float>(n), variance = squared_distances(x, n, mean) / static_cast<float>(n);
  if (!finite(variance)) {
    const double centre = wide_mean(x, n), factor = wide_inverse(x, n, centre, static_cast<double>(g.epsilon));
    for (int64_t i = 0; i < n; ++i) {
      const int64_t c = first + i / g.pixels;
      const double v = (static_cast<double>(x[i]) - centre) * factor * static_cast<double>(g.scale[c]);
      y[i] = static_cast<float>(g.bias ? v + static_cast<double>(g.bias[c]) : v);
    }
    return;
  }
  const float inverse = 1.0f / std::sqrt(variance + g.epsilon);
  for (int64_t c = 0; c < per_row; ++c)
    normalise_channel(x + c * g.pixels, y + c * g.pixels, g.pixels, mean, g.scale[first + c] * inverse, g.bias ? g.bias[first + c] : 0.0f);
}

// What a sum over columns is made of: of one number in vectors, in double, and of the sum in double.
struct Summed {
  double (*term)(double v);
  double (*result)(double sum, int64_t length);
};
constexpr auto kSame = [](double v) { return v; };
constexpr auto kSquared = [](double v) { return v * v; };
constexpr auto kWhole = [](double sum, int64_t) { return sum; };

// Joins `length` rows of `width` floats into one row, columns [column_begin, column_end): strips of columns whose results stay in L1
// while the rows pass, so that each row is read in one go. `summed` is there where the join is a sum.
template <typename Join>
void columns(const RowArguments& g, const float* x, float* y, Join join, Summed summed = {}) {
  const F32 d;
  const float factor = g.op == RowOp::mean_columns ? 1.0f / static_cast<float>(g.length) : 1.0f;
  const int64_t lanes = hn::Lanes(d);
  constexpr int64_t kStrip = 2048;
  constexpr auto is = []<typename Other>(const Other&) { return std::is_same_v<Join, Other>; };
  constexpr bool kTerms = is(kSquare) || is(kAbsolute), kSums = is(kAdd) || kTerms;  // terms: not the numbers themselves
  HWY_ALIGN float acc[kStrip];
  HWY_ALIGN double totals[kSums ? kStrip : 1];
  for (int64_t c0 = g.column_begin; c0 < g.column_end; c0 += kStrip) {
    const int64_t n = g.column_end - c0 < kStrip ? g.column_end - c0 : kStrip, whole = n - n % lanes;
    for (int64_t from = 0, to; from < g.length; from = to) {
      to = kSums && g.length - from > kInTurn ? from + kInTurn : g.length;
      int64_t r = from;
      if (kTerms) std::fill_n(acc, n, 0.0f);
      else std::memcpy(acc, x + r++ * g.width + c0, static_cast<size_t>(n) * sizeof(float));
      // Two rows a pass: half the traffic to the strip; joined one after the other, as one row a pass would.
      for (; r + 2 <= to; r += 2) {
        const float *a = x + r * g.width + c0, *b = a + g.width;
        for (int64_t i = 0; i < whole; i += lanes)
          hn::Store(join(join(hn::Load(d, acc + i), hn::LoadU(d, a + i)), hn::LoadU(d, b + i)), d, acc + i);
        const hn::CappedTag<float, 1> one;
        for (int64_t i = whole; i < n; ++i) acc[i] = hn::GetLane(join(join(hn::Set(one, acc[i]), hn::Set(one, a[i])), hn::Set(one, b[i])));
      }
      for (; r < to; ++r) {
        const float* a = x + r * g.width + c0;
        for (int64_t i = 0; i < whole; i += lanes) hn::Store(join(hn::Load(d, acc + i), hn::LoadU(d, a + i)), d, acc + i);
        const hn::CappedTag<float, 1> one;
        for (int64_t i = whole; i < n; ++i) acc[i] = hn::GetLane(join(hn::Set(one, acc[i]), hn::Set(one, a[i])));
      }
      if (!kSums || g.length <= kInTurn) continue;
      for (int64_t i = 0; i < n; ++i) totals[i] = (from == 0 ? 0.0 : totals[i]) + static_cast<double>(acc[i]);
      if (to < g.length) continue;
      for (int64_t i = 0; i < n; ++i) acc[i] = static_cast<float>(totals[i]);
    }
    if (g.op == RowOp::l2_columns) map(y + c0, acc, n, [&](VF v, int64_t) { return hn::Sqrt(v); });
    else map(y + c0, acc, n, [&](VF v, int64_t) { return hn::Mul(v, hn::Set(d, factor)); });
    if constexpr (kSums) {
      for (int64_t i = 0; i < n; ++i) {
        if (!finite(y[c0 + i]) || (g.op == RowOp::l2_columns && y[c0 + i] < kSmallRoot))
          y[c0 + i] = static_cast<float>(summed.result(wide_sum(x + c0 + i, g.length, g.width, summed.term), g.length));
      }
    }
  }
}

// Short rows stand side by side, one a lane: along a row there would be more ado at its end than work. Which rows share a vector does not
// show in the result.
inline constexpr int64_t kShortRow = 64;

class SideBySide {
 public:
  SideBySide(const float* x, int64_t length, int64_t count) : length_(length), count_(count) {
    if (count < lanes()) std::memset(all_, 0, static_cast<size_t>(length * lanes()) * sizeof(float));
    for (int64_t k = 0; k < count; ++k) {
      for (int64_t j = 0; j < length; ++j) all_[j * lanes() + k] = x[k * length + j];
    }
  }
  static int64_t lanes() { return static_cast<int64_t>(hn::Lanes(F32())); }
  VF at(int64_t j) const { return hn::Load(F32(), all_ + j * lanes()); }
  void put(int64_t j, VF v) { hn::Store(v, F32(), all_ + j * lanes()); }
  void back(float* y) const {
    for (int64_t k = 0; k < count_; ++k) {
      for (int64_t j = 0; j < length_; ++j) y[k * length_ + j] = all_[j * lanes() + k];
    }
  }
  template <typename Step>
  VF joined(VF v, int64_t from, Step step) const {
    for (int64_t j = from; j < length_; ++j) v = step(v, at(j));
    return v;
  }

 private:
  static constexpr int64_t kMostLanes = HWY_TARGET == HWY_SCALAR ? 1 : HWY_MAX_BYTES / 4;
  HWY_ALIGN float all_[kShortRow * kMostLanes];
  int64_t length_, count_;
};

VF reduced(const RowArguments& g, const SideBySide& rows) {
  const VF zero = hn::Zero(F32());
  switch (g.op) {
    case RowOp::max: return rows.joined(rows.at(0), 1, kMax);
    case RowOp::min: return rows.joined(rows.at(0), 1, kMin);
    case RowOp::mean: return hn::Div(rows.joined(zero, 0, kAdd), hn::Set(F32(), static_cast<float>(g.length)));
    case RowOp::sum_squares: return rows.joined(zero, 0, kSquare);
    case RowOp::l2: return hn::Sqrt(rows.joined(zero, 0, kSquare));
    case RowOp::l1: return rows.joined(zero, 0, kAbsolute);
    default: return rows.joined(zero, 0, kAdd);
  }
}

void softmax_side_by_side(const float* x, float* y, int64_t n, int64_t count, bool log) {
  const F32 d;
  SideBySide rows(x, n, count);
  const VF most = rows.joined(rows.at(0), 1, kMax);
  // NaN or infinity at the maximum: nothing but NaN comes of it.
  const auto good = hn::Le(hn::Abs(most), hn::Set(d, std::numeric_limits<float>::max()));
  const auto below = [&](int64_t j) { return hn::IfThenElseZero(good, hn::Sub(rows.at(j), most)); };
  SideBySide powers = rows;
  VF sum = hn::Zero(d);
  int64_t j = 0;
  for (; j + kTogether <= n; j += kTogether) {
    Several<kTogether> v;
    LATHE_UNROLL(4)
    for (int k = 0; k < kTogether; ++k) v.v[k] = below(j + k);
    v = exp_down(v);
    LATHE_UNROLL(4)
    for (int k = 0; k < kTogether; ++k) powers.put(j + k, v.v[k]), sum = hn::Add(sum, v.v[k]);
  }
  for (; j < n; ++j) {
    const VF v = exp_down(below(j));
    powers.put(j, v);
    sum = hn::Add(sum, v);
  }
  const VF nothing = hn::Set(d, std::numeric_limits<float>::quiet_NaN());
  if (log) {
    HWY_ALIGN float logs[HWY_MAX_BYTES / 4 + 1];
    hn::Store(sum, d, logs);
    for (int64_t k = 0; k < SideBySide::lanes(); ++k) logs[k] = std::log(logs[k]);
    const VF shift = hn::IfThenElse(good, hn::Add(most, hn::Load(d, logs)), nothing);
    for (j = 0; j < n; ++j) rows.put(j, hn::Sub(rows.at(j), shift));
    return rows.back(y);
  }
  const VF inverse = hn::IfThenElse(good, hn::Div(hn::Set(d, 1.0f), sum), nothing);
  for (j = 0; j < n; ++j) powers.put(j, hn::Mul(powers.at(j), inverse));
  powers.back(y);
}

bool one_number_a_row(RowOp op) { return op >= RowOp::sum && op <= RowOp::l2; }

// A result that sums of floats may have lost is summed again in double.
void mend(const RowArguments& g, int64_t r) {
  if (finite(g.out[r]) && (g.op != RowOp::l2 || g.out[r] >= kSmallRoot)) return;
  const float* x = g.in + r * g.length;
  switch (g.op) {
    case RowOp::sum: g.out[r] = static_cast<float>(wide_sum(x, g.length, 1, kSame)); break;
    case RowOp::mean: g.out[r] = static_cast<float>(wide_mean(x, g.length)); break;
    case RowOp::sum_squares: g.out[r] = static_cast<float>(wide_sum(x, g.length, 1, kSquared)); break;
    case RowOp::l2: g.out[r] = static_cast<float>(std::sqrt(wide_sum(x, g.length, 1, kSquared))); break;
    case RowOp::l1: g.out[r] = static_cast<float>(wide_sum(x, g.length, 1, [](double v) { return std::fabs(v); })); break;
    default: break;
  }
}

// False: they are not short.
bool short_rows(const RowArguments& g) {
  const bool soft = g.op == RowOp::softmax || g.op == RowOp::log_softmax;
  if (g.length > kShortRow || (!soft && !one_number_a_row(g.op))) return false;
  const int64_t lanes = SideBySide::lanes();
  for (int64_t r = g.begin; r < g.end; r += lanes) {
    const int64_t count = g.end - r < lanes ? g.end - r : lanes;
    const float* x = g.in + r * g.length;
    if (soft) {
      softmax_side_by_side(x, g.out + r * g.length, g.length, count, g.op == RowOp::log_softmax);
      continue;
    }
    const VF made = reduced(g, SideBySide(x, g.length, count));
    if (count == lanes) {
      hn::StoreU(made, F32(), g.out + r);
    } else {
      HWY_ALIGN float some[HWY_MAX_BYTES / 4 + 1];
      hn::Store(made, F32(), some);
      std::copy_n(some, count, g.out + r);
    }
    const auto held = hn::Le(hn::Abs(made), hn::Set(F32(), std::numeric_limits<float>::max()));
    const auto small = hn::Lt(made, hn::Set(F32(), g.op == RowOp::l2 ? kSmallRoot : -std::numeric_limits<float>::infinity()));
    if (hn::AllTrue(F32(), hn::AndNot(small, held))) continue;
    for (int64_t k = 0; k < count; ++k) mend(g, r + k);
  }
  return true;
}

LATHE_GIVES_WAY void RowsHere(const RowArguments& g) {
  if (short_rows(g)) return;
  for (int64_t r = g.begin; r < g.end; ++r) {
    const float* x = g.in + r * g.length * g.width;
    switch (g.op) {
      case RowOp::softmax: softmax(x, g.out + r * g.length, g.length, false, r + 1 < g.end ? x + g.length : nullptr); break;
      case RowOp::log_softmax: softmax(x, g.out + r * g.length, g.length, true, nullptr); break;
      case RowOp::layer_norm: layer_norm(g, x, g.out + r * g.length); break;
      case RowOp::rms_norm: rms_norm(g, x, g.out + r * g.length); break;
      case RowOp::group_norm: group_norm(g, x, g.out + r * g.length, r); break;
      case RowOp::sum_columns: columns(g, x, g.out + r * g.width, kAdd, {kSame, kWhole}); break;
      case RowOp::mean_columns:
        columns(g, x, g.out + r * g.width, kAdd, {kSame, [](double sum, int64_t length) { return sum / static_cast<double>(length); }});
        break;
      case RowOp::sum_squares_columns: columns(g, x, g.out + r * g.width, kSquare, {kSquared, kWhole}); break;
      case RowOp::l2_columns:
        columns(g, x, g.out + r * g.width, kSquare, {kSquared, [](double sum, int64_t) { return std::sqrt(sum); }});
        break;
      case RowOp::l1_columns: columns(g, x, g.out + r * g.width, kAbsolute, {[](double v) { return std::fabs(v); }, kWhole}); break;
      case RowOp::max_columns: columns(g, x, g.out + r * g.width, kMax); break;
      case RowOp::min_columns: columns(g, x, g.out + r * g.width, kMin); break;
      case RowOp::sum: g.out[r] = sum_of(x, g.length, kAdd); break;
      case RowOp::mean: g.out[r] = sum_of(x, g.length, kAdd) / static_cast<float>(g.length); break;
      case RowOp::max: g.out[r] = extreme<true>(x, g.length); break;
      case RowOp::min: g.out[r] = extreme<false>(x, g.length); break;
      case RowOp::sum_squares: g.out[r] = sum_of(x, g.length, kSquare); break;
      case RowOp::l2: g.out[r] = std::sqrt(sum_of(x, g.length, kSquare)); break;
      case RowOp::l1: g.out[r] = sum_of(x, g.length, kAbsolute); break;
    }
    if (one_number_a_row(g.op)) mend(g, r);  // those of columns have looked at what is theirs
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Rows rows(Isa isa) { return LATHE_SELECT(isa, RowsHere); }
}  // namespace lathe::kernels
#endif
