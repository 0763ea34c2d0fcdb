#include "kernels/reduce_wide.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <type_traits>

namespace lathe::kernels {
namespace {

constexpr int64_t kTogether = 64;  // columns that are reduced in one pass over the rows

template <typename Sum, typename T, typename Step, typename Finish>
void each(const WideReductionArguments& g, Sum start, Step step, Finish finish) {
  const T* x = static_cast<const T*>(g.x);
  T* out = static_cast<T*>(g.out);
  for (int64_t from = g.begin; from < g.end; from += kTogether) {
    const int64_t count = std::min(kTogether, g.end - from);
    Sum sums[kTogether];
    std::fill_n(sums, count, start);
    for (int64_t i = 0; i < g.length; ++i) {
      const T* row = x + i * g.inner + from;
      for (int64_t j = 0; j < count; ++j) sums[j] = step(sums[j], row[j]);
    }
    for (int64_t j = 0; j < count; ++j) out[from + j] = finish(sums[j]);
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

template <typename T>
void in_double(const WideReductionArguments& g) {
  const auto add = [](double s, T e) { return s + static_cast<double>(e); };
  const auto with = [&](double start, auto step, auto finish) {
    each<double, T>(g, start, step, [&](double s) { return stored<T>(finish(s)); });
  };
  const auto same = [](double s) { return s; };
  const double n = static_cast<double>(g.length);
  switch (g.op) {
    case WideReduction::sum: return with(0, add, same);
    case WideReduction::mean: return with(0, add, [n](double s) { return s / n; });
    case WideReduction::max:
      return with(
          -HUGE_VAL,
          [](double s, T e) {
            const double v = static_cast<double>(e);
            return s != s || s > v ? s : v;
          },
          same);
    case WideReduction::min:
      return with(
          HUGE_VAL,
          [](double s, T e) {
            const double v = static_cast<double>(e);
            return s != s || s < v ? s : v;
          },
          same);
    case WideReduction::product:
      return with(
          1, [](double s, T e) { return s * static_cast<double>(e); }, same);
    case WideReduction::l1:
      return with(
          0, [](double s, T e) { return s + std::fabs(static_cast<double>(e)); }, same);
    case WideReduction::sum_square:
      return with(
          0, [](double s, T e) { return s + static_cast<double>(e) * static_cast<double>(e); }, same);
    case WideReduction::l2:
      return with(
          0, [](double s, T e) { return s + static_cast<double>(e) * static_cast<double>(e); }, [](double s) { return std::sqrt(s); });
    case WideReduction::log_sum: return with(0, add, [](double s) { return std::log(s); });
  }
}

template <typename T>
void in_whole(const WideReductionArguments& g) {
  using U = uint64_t;
  const auto wrapped = [](U s) { return static_cast<T>(s); };
  const auto u = [](T e) { return static_cast<U>(static_cast<int64_t>(e)); };
  switch (g.op) {
    case WideReduction::sum:
      return each<U, T>(
          g, 0, [&](U s, T e) { return s + u(e); }, wrapped);
    case WideReduction::product:
      return each<U, T>(
          g, 1, [&](U s, T e) { return s * u(e); }, wrapped);
    case WideReduction::l1:
      return each<U, T>(
          g, 0, [&](U s, T e) { return s + (e < 0 ? 0 - u(e) : u(e)); }, wrapped);
    case WideReduction::sum_square:
      return each<U, T>(
          g, 0, [&](U s, T e) { return s + u(e) * u(e); }, wrapped);
    case WideReduction::max:
      return each<T, T>(
          g, std::numeric_limits<T>::min(), [](T s, T e) { return std::max(s, e); }, [](T s) { return s; });
    case WideReduction::min:
      return each<T, T>(
          g, std::numeric_limits<T>::max(), [](T s, T e) { return std::min(s, e); }, [](T s) { return s; });
    default: return in_double<T>(g);
  }
}

}  // namespace

void reduce_wide(WideNumber type, const WideReductionArguments& g) {
  switch (type) {
    case WideNumber::f32: return in_double<float>(g);
    case WideNumber::f64: return in_double<double>(g);
    case WideNumber::i32: return in_whole<int32_t>(g);
    case WideNumber::i64: return in_whole<int64_t>(g);
  }
}

}  // namespace lathe::kernels
