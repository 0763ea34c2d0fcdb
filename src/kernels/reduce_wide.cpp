// Plain loops, which the compiler turns into vectors of each instruction set.
#include "kernels/reduce_wide.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>
#include <type_traits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/reduce_wide.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {
namespace {

constexpr int64_t kTogether = 64;   // products that are taken side by side
constexpr int64_t kColumns = 1024;  // whose sums stay in L1 while rows run past: long runs, which memory reads ahead
constexpr int64_t kAtOnce = 4;      // rows that are taken up together, and rows of their own whose sums wait for one another

// `finish` stores what a number of sums come to.
template <typename Sum, typename T, typename Step, typename Finish>
void each_column(const WideReductionArguments& g, Sum start, Step step, Finish finish) {
  const T* x = static_cast<const T*>(g.x);
  T* out = static_cast<T*>(g.out);
  Sum sums[kColumns];
  for (int64_t from = g.begin; from < g.end; from += kColumns) {
    const int64_t count = std::min(kColumns, g.end - from);
    std::fill_n(sums, count, start);
    int64_t i = 0;
    for (; i + kAtOnce <= g.length; i += kAtOnce) {
      const T *a = x + i * g.inner + from, *b = a + g.inner, *c = b + g.inner, *d = c + g.inner;
      for (int64_t j = 0; j < count; ++j) sums[j] = step(step(step(step(sums[j], a[j]), b[j]), c[j]), d[j]);
    }
    for (; i < g.length; ++i) {
      const T* row = x + i * g.inner + from;
      for (int64_t j = 0; j < count; ++j) sums[j] = step(sums[j], row[j]);
    }
    finish(sums, count, out + from);
  }
}

// Rows of their own: a few side by side, each sum in its own order.
template <typename Sum, typename T, typename Step, typename Finish>
void each_row(const WideReductionArguments& g, Sum start, Step step, Finish finish) {
  const T* x = static_cast<const T*>(g.x) + g.begin * g.length;
  T* out = static_cast<T*>(g.out) + g.begin;
  int64_t left = g.end - g.begin;
  for (; left >= kAtOnce; left -= kAtOnce, x += kAtOnce * g.length) {
    Sum sums[kAtOnce];
    std::fill_n(sums, kAtOnce, start);
    for (int64_t i = 0; i < g.length; ++i) {
      for (int64_t j = 0; j < kAtOnce; ++j) sums[j] = step(sums[j], x[j * g.length + i]);
    }
    finish(sums, kAtOnce, out);
    out += kAtOnce;
  }
  for (; left > 0; --left, x += g.length) {
    Sum sum = start;
    for (int64_t i = 0; i < g.length; ++i) sum = step(sum, x[i]);
    finish(&sum, 1, out++);
  }
}

template <typename Sum, typename T, typename Step, typename Finish>
void each(const WideReductionArguments& g, Sum start, Step step, Finish finish) {
  g.inner == 1 ? each_row<Sum, T>(g, start, step, finish) : each_column<Sum, T>(g, start, step, finish);
}

constexpr int64_t kSums = 16;  // side by side, where any order gives the same

template <typename Sum, typename T, typename Step, typename Merge>
Sum row_in_any_order(const T* x, int64_t length, Sum start, Step step, Merge merge) {
  Sum sums[kSums];
  std::fill_n(sums, kSums, start);
  int64_t i = 0;
  for (; i + kSums <= length; i += kSums) {
    for (int64_t j = 0; j < kSums; ++j) sums[j] = step(sums[j], x[i + j]);
  }
  for (int64_t j = 0; i < length; ++i, ++j) sums[j] = step(sums[j], x[i]);
  Sum all = sums[0];
  for (int64_t j = 1; j < kSums; ++j) all = merge(all, sums[j]);
  return all;
}

// Whole numbers, whose sums are the same in any order.
template <typename Sum, typename T, typename Step, typename Merge>
void each_in_any_order(const WideReductionArguments& g, Sum start, Step step, Merge merge) {
  if (g.inner != 1) {
    return each_column<Sum, T>(g, start, step, [](const Sum* sums, int64_t count, T* out) {
      for (int64_t j = 0; j < count; ++j) out[j] = static_cast<T>(sums[j]);
    });
  }
  for (int64_t r = g.begin; r < g.end; ++r) {
    static_cast<T*>(g.out)[r] =
        static_cast<T>(row_in_any_order<Sum>(static_cast<const T*>(g.x) + r * g.length, g.length, start, step, merge));
  }
}

// Doubles to what is stored: whole numbers are cut off and saturate at 64 bits, then wrap.
template <typename T>
T stored(double v) {
  if constexpr (std::is_floating_point_v<T>) {
    return static_cast<T>(v);
  } else {
    if (!(v > -0x1p63)) return v != v ? T{0} : static_cast<T>(std::numeric_limits<int64_t>::min());
    return static_cast<T>(v >= 0x1p63 ? std::numeric_limits<int64_t>::max() : static_cast<int64_t>(v));
  }
}

// A product with its exponent apart, so that it neither leaves the range of a double on the way nor is slowed down by numbers below it.
struct Scaled {
  double part[kTogether];  // 1 to 2 in size after settle(), but for 0, infinity and NaN
  int64_t exponent[kTogether];

  Scaled() {
    std::fill_n(part, kTogether, 1.0);
    std::fill_n(exponent, kTogether, 0);
  }
  void take(const float* __restrict x, int64_t count) {
    for (int64_t j = 0; j < count; ++j) part[j] *= static_cast<double>(x[j]);
  }
  void settle(int64_t count) {
    for (int64_t j = 0; j < count; ++j) {
      const auto bits = std::bit_cast<uint64_t>(part[j]);
      const auto e = static_cast<int64_t>(bits >> 52 & 0x7FF);
      const bool usual = (e != 0) & (e != 0x7FF);
      exponent[j] += usual ? e - 1023 : 0;
      part[j] = std::bit_cast<double>(usual ? (bits & ~(uint64_t{0x7FF} << 52)) | uint64_t{1023} << 52 : bits);
    }
  }
  double whole(int64_t j) const { return std::ldexp(part[j], static_cast<int>(std::clamp<int64_t>(exponent[j], -2000, 2000))); }
};
constexpr int64_t kFactors = 4;  // of floats, that a double has room for

void products(const WideReductionArguments& g) {
  const auto* x = static_cast<const float*>(g.x);
  auto* out = static_cast<float*>(g.out);
  const auto rows = [](Scaled& s, const float* from, int64_t length, int64_t step, int64_t count) {
    for (int64_t i = 0; i < length; ++i) {
      s.take(from + i * step, count);
      if (i % kFactors == kFactors - 1) s.settle(count);
    }
    s.settle(count);
  };
  if (g.inner > 1) {
    for (int64_t from = g.begin; from < g.end; from += kTogether) {
      const int64_t count = std::min(kTogether, g.end - from);
      Scaled s;
      rows(s, x + from, g.length, g.inner, count);
      for (int64_t j = 0; j < count; ++j) out[from + j] = static_cast<float>(s.whole(j));
    }
    return;
  }
  // A row: so many products of it side by side, which are then taken together.
  const int64_t whole = g.length / kTogether;
  for (int64_t r = g.begin; r < g.end; ++r) {
    const float* row = x + r * g.length;
    Scaled s;
    rows(s, row, whole, kTogether, kTogether);
    s.take(row + whole * kTogether, g.length - whole * kTogether);
    s.settle(kTogether);
    for (int64_t width = kTogether / 2; width > 0; width /= 2) {
      for (int64_t j = 0; j < width; ++j) s.part[j] *= s.part[j + width], s.exponent[j] += s.exponent[j + width];
      s.settle(width);
    }
    out[r] = static_cast<float>(s.whole(0));
  }
}

// What sums become: one loop over the sums for each op, so that ops which add up the same share the loops over the numbers.
// (Inlined, so that the compiler knows that nothing else holds the sums' address: doubles that are read might be them.)
template <typename T>
HWY_INLINE void finish(const WideReductionArguments& g, double* sums, int64_t count, T* out) {
  const auto each_sum = [&](auto become) {
    for (int64_t j = 0; j < count; ++j) sums[j] = become(sums[j]);
  };
  switch (g.op) {
    case WideReduction::mean: each_sum([n = static_cast<double>(g.length)](double s) { return s / n; }); break;
    case WideReduction::l2: each_sum([](double s) { return std::sqrt(s); }); break;
    case WideReduction::log_sum: each_sum([](double s) { return std::log(s); }); break;
    default: break;
  }
  for (int64_t j = 0; j < count; ++j) out[j] = stored<T>(sums[j]);
}

template <typename T, typename Step>
void in_order(const WideReductionArguments& g, double start, Step step) {
  each<double, T>(g, start, step, [&](double* sums, int64_t count, T* out) HWY_ATTR { finish(g, sums, count, out); });
}

// Sums of numbers, or of their squares.
template <typename T>
void sums_in_double(const WideReductionArguments& g) {
  if (g.op == WideReduction::sum_square || g.op == WideReduction::l2)
    return in_order<T>(g, 0, [](double s, T e) { return s + static_cast<double>(e) * static_cast<double>(e); });
  in_order<T>(g, 0, [](double s, T e) { return s + static_cast<double>(e); });
}

template <typename T>
void in_double(const WideReductionArguments& g) {
  switch (g.op) {
    case WideReduction::max: return in_order<T>(g, -HUGE_VAL, [](double s, T e) { return s != s || s > double{e} ? s : double{e}; });
    case WideReduction::min: return in_order<T>(g, HUGE_VAL, [](double s, T e) { return s != s || s < double{e} ? s : double{e}; });
    case WideReduction::product:
      if constexpr (std::is_same_v<T, float>) return products(g);
      return in_order<T>(g, 1, [](double s, T e) { return s * e; });
    case WideReduction::l1: return in_order<T>(g, 0, [](double s, T e) { return s + std::fabs(double{e}); });
    default: return sums_in_double<T>(g);
  }
}

// Means, roots and logarithms of whole numbers are of sums in double. Where the sum of magnitudes is below 2^53 no sum on the way was
// rounded, and any order gives the same; else a row is summed again in its own.
template <typename T>
void through_double(const WideReductionArguments& g) {
  if (g.inner != 1) return sums_in_double<T>(g);
  const bool squares = g.op == WideReduction::l2;
  const auto merge = [](double a, double b) { return a + b; };
  for (int64_t r = g.begin; r < g.end; ++r) {
    const T* x = static_cast<const T*>(g.x) + r * g.length;
    const auto summed = [&](auto term) {
      return row_in_any_order<double>(
          x, g.length, 0.0, [&](double s, T e) { return s + term(static_cast<double>(e)); }, merge);
    };
    const double size = squares ? summed([](double e) { return e * e; }) : summed([](double e) { return std::fabs(e); });
    if (!(size < 0x1p53)) {
      WideReductionArguments one = g;
      one.begin = r, one.end = r + 1;
      sums_in_double<T>(one);
      continue;
    }
    const double sum = squares ? size : summed([](double e) { return e; });
    static_cast<T*>(g.out)[r] = stored<T>(squares                       ? std::sqrt(sum)
                                          : g.op == WideReduction::mean ? sum / static_cast<double>(g.length)
                                                                        : std::log(sum));
  }
}

template <typename T>
void in_whole(const WideReductionArguments& g) {
  using U = uint64_t;
  const auto u = [](T e) { return static_cast<U>(static_cast<int64_t>(e)); };
  const auto add = [](U a, U b) { return a + b; };
  const auto larger = [](T s, T e) { return std::max(s, e); };
  const auto smaller = [](T s, T e) { return std::min(s, e); };
  switch (g.op) {
    case WideReduction::sum:
      return each_in_any_order<U, T>(
          g, 0, [&](U s, T e) { return s + u(e); }, add);
    case WideReduction::product:
      return each_in_any_order<U, T>(
          g, 1, [&](U s, T e) { return s * u(e); }, [](U a, U b) { return a * b; });
    case WideReduction::l1:
      return each_in_any_order<U, T>(
          g, 0, [&](U s, T e) { return s + (e < 0 ? 0 - u(e) : u(e)); }, add);
    case WideReduction::sum_square:
      return each_in_any_order<U, T>(
          g, 0, [&](U s, T e) { return s + u(e) * u(e); }, add);
    case WideReduction::max: return each_in_any_order<T, T>(g, std::numeric_limits<T>::min(), larger, larger);
    case WideReduction::min: return each_in_any_order<T, T>(g, std::numeric_limits<T>::max(), smaller, smaller);
    default: return through_double<T>(g);
  }
}

// Columns of one part of the outer dims after another; rows all at once.
template <typename T>
void in_parts(const WideReductionArguments& g, void (*part)(const WideReductionArguments&)) {
  if (g.inner == 1) return part(g);
  for (int64_t at = g.begin; at < g.end;) {
    const int64_t o = at / g.inner, until = std::min(g.end, (o + 1) * g.inner);
    WideReductionArguments a = g;
    a.x = static_cast<const T*>(g.x) + o * g.length * g.inner;
    a.out = static_cast<T*>(g.out) + o * g.inner;
    a.begin = at - o * g.inner, a.end = until - o * g.inner;
    part(a);
    at = until;
  }
}

}  // namespace

LATHE_GIVES_WAY void ReduceWideHere(WideNumber type, const WideReductionArguments& g) {
  switch (type) {
    case WideNumber::f32: return in_parts<float>(g, in_double<float>);
    case WideNumber::f64: return in_parts<double>(g, in_double<double>);
    case WideNumber::i32: return in_parts<int32_t>(g, in_whole<int32_t>);
    case WideNumber::i64: return in_parts<int64_t>(g, in_whole<int64_t>);
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
ReduceWide reduce_wide(Isa isa) { return LATHE_SELECT(isa, ReduceWideHere); }
}  // namespace lathe::kernels
#endif
