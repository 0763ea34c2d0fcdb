// Best elements of rows: where they stand, and what they are.
#include "kernels/select.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <functional>
#include <limits>
#include <type_traits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/select.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {
namespace {

template <typename T>
inline constexpr bool kReal = std::is_floating_point_v<T>;
template <typename T>
bool is_nan(T x) {
  return x != x;
}

// Best value of a row by the plain path's rule (a NaN is best only as the first element), then the first or last place it stands at.
void arg_floats(const ArgArguments& g) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), n = g.length, whole = n - n % lanes;
  for (int64_t r = g.begin; r < g.end; ++r) {
    const float* x = static_cast<const float*>(g.in) + r * n;
    if (std::isnan(x[0])) {
      g.out[r] = 0;
      continue;
    }
    const float worst = g.smallest ? std::numeric_limits<float>::infinity() : -std::numeric_limits<float>::infinity();
    VF b0 = hn::Set(d, x[0]), b1 = b0;
    const auto better = [&](VF v, VF b) { return hn::IfThenElse(g.smallest ? hn::Lt(v, b) : hn::Gt(v, b), v, b); };
    int64_t i = 0;
    for (; i + 2 * lanes <= n; i += 2 * lanes) {
      b0 = better(hn::LoadU(d, x + i), b0);
      b1 = better(hn::LoadU(d, x + i + lanes), b1);
    }
    for (; i < whole; i += lanes) b0 = better(hn::LoadU(d, x + i), b0);
    HWY_ALIGN float part[HWY_MAX_BYTES / 4 + 1];
    hn::Store(better(b1, b0), d, part);
    float best = worst;
    for (int64_t k = 0; k < lanes; ++k) best = g.smallest ? (part[k] < best ? part[k] : best) : (part[k] > best ? part[k] : best);
    for (; i < n; ++i) best = g.smallest ? (x[i] < best ? x[i] : best) : (x[i] > best ? x[i] : best);
    const VF target = hn::Set(d, best);
    int64_t found = -1;
    if (!g.last) {
      for (i = 0; i < whole && found < 0; i += lanes) {
        const intptr_t at = hn::FindFirstTrue(d, hn::Eq(hn::LoadU(d, x + i), target));
        if (at >= 0) found = i + at;
      }
      for (i = whole; i < n && found < 0; ++i) {
        if (x[i] == best) found = i;
      }
    } else {
      for (i = n - 1; i >= 0 && found < 0; --i) {
        if (x[i] == best) found = i;
      }
    }
    g.out[r] = found < 0 ? 0 : found;
  }
}

// The same of any numbers, by plain loops that become vectors: the best of each block, then its place in the first (or last) best block.
template <typename T>
int64_t place_of_best(const T* x, int64_t n, bool smallest, bool last) {
  constexpr int64_t kBlock = 1024, kBeside = 64 / sizeof(T);
  if (is_nan(x[0])) return 0;  // nothing is above or below it
  T best = x[0];
  int64_t block = 0;
  const auto better = [smallest](T a, T b) { return smallest ? a < b : a > b; };
  const auto best_of = [&](auto first, const T* from, int64_t count) {
    T beside[kBeside];
    std::fill_n(beside, kBeside, x[0]);
    int64_t i = 0;
    for (; i + kBeside <= count; i += kBeside) {
      for (int64_t j = 0; j < kBeside; ++j) beside[j] = first(from[i + j], beside[j]) ? from[i + j] : beside[j];
    }
    for (int64_t j = 0; i < count; ++i, ++j) beside[j] = first(from[i], beside[j]) ? from[i] : beside[j];
    T all = beside[0];
    for (int64_t j = 1; j < kBeside; ++j) all = first(beside[j], all) ? beside[j] : all;
    return all;
  };
  for (int64_t from = 0; from < n; from += kBlock) {
    const int64_t count = std::min(kBlock, n - from);
    const T here = smallest ? best_of(std::less<>(), x + from, count) : best_of(std::greater<>(), x + from, count);
    if (better(here, best)) best = here, block = from;
    else if (last && here == best) block = from;  // holds it, or is no better than the row's first: looked through below
  }
  if (!last) {
    for (int64_t i = block;; ++i) {
      if (x[i] == best) return i;
    }
  }
  for (int64_t i = std::min(n, block + kBlock) - 1; i > 0; --i) {
    if (x[i] == best) return i;
  }
  return 0;
}

// Of columns side by side. `Place`: what a place along the axis fits in.
template <typename T, typename Place>
void places_of_columns(const ArgArguments& g, const T* x, int64_t* out) {
  constexpr int64_t kColumns = 256;
  T best[kColumns];
  Place at[kColumns];
  const auto pass = [&](auto beats, int64_t from, int64_t count) {
    for (int64_t k = 1; k < g.length; ++k) {
      const T* line = x + k * g.inner + from;
      for (int64_t i = 0; i < count; ++i) {
        const T v = line[i], b = best[i];
        const Place here = static_cast<Place>(k), was = at[i];
        const bool now = beats(v, b);
        best[i] = now ? v : b;
        at[i] = now ? here : was;
      }
    }
  };
  for (int64_t from = 0; from < g.inner; from += kColumns) {
    const int64_t count = std::min(kColumns, g.inner - from);
    std::copy_n(x + from, count, best);
    std::fill_n(at, count, Place{0});
    if (g.smallest) g.last ? pass(std::less_equal<>(), from, count) : pass(std::less<>(), from, count);
    else g.last ? pass(std::greater_equal<>(), from, count) : pass(std::greater<>(), from, count);
    for (int64_t i = 0; i < count; ++i) out[from + i] = at[i];
  }
}

template <typename T>
void arg(const ArgArguments& g) {
  const T* x = static_cast<const T*>(g.in);
  for (int64_t r = g.begin; r < g.end; ++r) {
    const T* row = x + r * g.length * g.inner;
    if (g.inner == 1) g.out[r] = place_of_best(row, g.length, g.smallest, g.last);
    else if (g.length <= std::numeric_limits<int32_t>::max()) places_of_columns<T, int32_t>(g, row, g.out + r * g.inner);
    else places_of_columns<T, int64_t>(g, row, g.out + r * g.inner);
  }
}

template <class V>
auto at_most(V a, V b) {
  const hn::DFromV<V> d;
  if constexpr (kReal<hn::TFromD<decltype(d)>>) return hn::Le(a, b);
  else return hn::Not(hn::Gt(a, b));
}
template <class V>
auto across_lanes(V v, bool smallest) {
  const hn::DFromV<V> d;
  using T = hn::TFromD<decltype(d)>;
  HWY_ALIGN T part[HWY_MAX_BYTES / sizeof(T) + 1];
  hn::Store(v, d, part);
  T best = part[0];
  for (size_t k = 1; k < hn::Lanes(d); ++k) best = smallest ? std::min(best, part[k]) : std::max(best, part[k]);
  return best;
}

// The best k of a row so far, in order.
template <typename T>
struct Kept {
  const T* x;
  T* values;
  int64_t* indices;
  int64_t k;
  bool smallest;
  int64_t have = 0;

  bool above(T a, T b) const {  // a comes before b, whatever their indices
    if constexpr (!kReal<T>) return smallest ? a < b : a > b;
    if (smallest) return !is_nan(a) && (is_nan(b) || a < b);
    return !is_nan(b) && (is_nan(a) || a > b);
  }
  HWY_INLINE void offer(int64_t i) {
    const T v = x[i];
    if (have == k && !above(v, values[k - 1])) return;
    int64_t at = have < k ? have++ : k - 1;
    for (; at > 0 && above(v, values[at - 1]); --at) {
      values[at] = values[at - 1];
      indices[at] = indices[at - 1];
    }
    values[at] = v;
    indices[at] = i;
  }
};
template <typename T>
Kept<T> kept_of(const TopArguments& g, int64_t row) {
  return {static_cast<const T*>(g.in) + row * g.length, static_cast<T*>(g.values) + row * g.k, g.indices + row * g.k, g.k, g.smallest};
}

template <typename T, class M, class D>
HWY_INLINE void offer_where(M mask, Kept<T>& kept, int64_t first, D d) {
  uint8_t bits[8] = {};
  hn::StoreMaskBits(d, mask, bits);
  uint64_t set = 0;
  std::memcpy(&set, bits, sizeof set);
  for (; set != 0; set &= set - 1) kept.offer(first + __builtin_ctzll(set));
}

// A whole vector that cannot improve on the worst of them is passed over with one comparison.
template <typename T>
void top(const TopArguments& g) {
  const hn::ScalableTag<T> d;
  using V = hn::Vec<decltype(d)>;
  const int64_t lanes = hn::Lanes(d), n = g.length, k = g.k;
  for (int64_t r = g.begin; r < g.end; ++r) {
    Kept<T> kept = kept_of<T>(g, r);
    const T* x = kept.x;
    const T* values = kept.values;
    // A bound before anything is sorted: k blocks hold an element as good as the k-th best of the blocks' best ones. NaN has no place
    // in this; rows with one go without.
    constexpr int64_t kMostBlocks = 1024;
    // Blocks of two vectors or more; of one, where the row is short.
    const int64_t least = lanes > 1 && n / (4 * lanes) < 2 * k ? lanes : 4 * lanes, second = least == lanes ? 0 : lanes;
    const int64_t block = (n / kMostBlocks + least) / least * least, blocks = n / block;
    T best[kMostBlocks + 1];
    bool clean = blocks >= k && blocks <= kMostBlocks;
    for (int64_t b = 0; b < blocks && clean; ++b) {
      const T* p = x + b * block;
      V m0 = hn::LoadU(d, p), m1 = hn::LoadU(d, p + second), odd = hn::Zero(d);
      for (int64_t i = 0; i < block; i += lanes + second) {
        const V v = hn::LoadU(d, p + i), w = hn::LoadU(d, p + i + second);
        if constexpr (kReal<T>) odd = hn::Add(odd, hn::Add(hn::Sub(v, v), hn::Sub(w, w)));  // NaN as soon as one is NaN or infinite
        m0 = g.smallest ? hn::Min(m0, v) : hn::Max(m0, v);
        m1 = g.smallest ? hn::Min(m1, w) : hn::Max(m1, w);
      }
      best[b] = across_lanes(g.smallest ? hn::Min(m0, m1) : hn::Max(m0, m1), g.smallest);
      if constexpr (kReal<T>) clean = hn::AllTrue(d, hn::Eq(odd, hn::Zero(d)));
    }
    int64_t i = 0;
    if (clean) {
      g.smallest ? std::nth_element(best, best + k - 1, best + blocks)
                 : std::nth_element(best, best + k - 1, best + blocks, std::greater<>());
      // Until k are there: of those as good as the bound.
      const V bound = hn::Set(d, best[k - 1]);
      for (; i + lanes <= n && kept.have < k; i += lanes) {
        const V v = hn::LoadU(d, x + i);
        offer_where(g.smallest ? at_most(v, bound) : at_most(bound, v), kept, i, d);
      }
    } else {
      for (; i < k; ++i) kept.offer(i);
    }
    // Then of those that are better than the worst of them.
    for (; i + 4 * lanes <= n && kept.have == k; i += 4 * lanes) {
      const V bound = hn::Set(d, values[k - 1]);
      const V a = hn::LoadU(d, x + i), b = hn::LoadU(d, x + i + lanes), c = hn::LoadU(d, x + i + 2 * lanes),
              e = hn::LoadU(d, x + i + 3 * lanes);
      // "Not beyond the bound" is false for NaN on either side: those go the slow way.
      const auto out = [&](V v) { return g.smallest ? at_most(bound, v) : at_most(v, bound); };
      if (hn::AllTrue(d, hn::And(hn::And(out(a), out(b)), hn::And(out(c), out(e))))) continue;
      offer_where(hn::Not(out(a)), kept, i, d);
      offer_where(hn::Not(out(b)), kept, i + lanes, d);
      offer_where(hn::Not(out(c)), kept, i + 2 * lanes, d);
      offer_where(hn::Not(out(e)), kept, i + 3 * lanes, d);
    }
    for (; i < n; ++i) kept.offer(i);
  }
}

// The same one by one, of numbers that there are no vectors of.
template <typename T>
[[maybe_unused]] void top_one_by_one(const TopArguments& g) {
  for (int64_t r = g.begin; r < g.end; ++r) {
    Kept<T> kept = kept_of<T>(g, r);
    for (int64_t i = 0; i < g.length; ++i) kept.offer(i);
  }
}

// The bound is the k-th best of blocks' best elements: k blocks hold an element as good.
template <typename T>
int64_t contend(const ContendersArguments& g) {
  const hn::ScalableTag<T> d;
  const int64_t lanes = hn::Lanes(d), n = g.length, k = g.k;
  const T* x = static_cast<const T*>(g.in);
  T* bests = static_cast<T*>(g.bests);
  // Two vectors at a time; one where there would be too few blocks.
  const int64_t step = lanes == 1 || n / (2 * lanes) >= k + k / 4 ? 2 * lanes : lanes, second = step - lanes,
                block = std::max<int64_t>(1, n / (4 * k) / step) * step, blocks = n / block;
  if (blocks < k + k / 4) return -1;
  auto odd = hn::Zero(d);
  for (int64_t b = 0; b < blocks; ++b) {
    const T* p = x + b * block;
    auto m0 = hn::LoadU(d, p), m1 = hn::LoadU(d, p + second);
    for (int64_t i = 0; i < block; i += step) {
      const auto v = hn::LoadU(d, p + i), w = hn::LoadU(d, p + i + second);
      if constexpr (kReal<T>) odd = hn::Or(odd, hn::Or(hn::VecFromMask(d, hn::IsNaN(v)), hn::VecFromMask(d, hn::IsNaN(w))));
      m0 = g.smallest ? hn::Min(m0, v) : hn::Max(m0, v);
      m1 = g.smallest ? hn::Min(m1, w) : hn::Max(m1, w);
    }
    bests[b] = across_lanes(g.smallest ? hn::Min(m0, m1) : hn::Max(m0, m1), g.smallest);
  }
  if constexpr (kReal<T>) {
    const hn::RebindToUnsigned<decltype(d)> du;
    if (!hn::AllTrue(du, hn::Eq(hn::BitCast(du, odd), hn::Zero(du)))) return -1;
    if (std::any_of(x + blocks * block, x + n, [](T v) { return is_nan(v); })) return -1;
  }
  g.smallest ? std::nth_element(bests, bests + k - 1, bests + blocks)
             : std::nth_element(bests, bests + k - 1, bests + blocks, std::greater<>());
  const T least = bests[k - 1];
  const auto bound = hn::Set(d, least);
  int64_t count = 0, i = 0;
  for (; i + lanes <= n; i += lanes) {
    const auto v = hn::LoadU(d, x + i);
    const auto good = g.smallest ? at_most(v, bound) : at_most(bound, v);
    if (hn::AllFalse(d, good)) continue;
    uint8_t bits[8] = {};
    hn::StoreMaskBits(d, good, bits);
    uint64_t set = 0;
    std::memcpy(&set, bits, sizeof set);
    for (; set != 0; set &= set - 1) g.places[count++] = i + __builtin_ctzll(set);
  }
  for (; i < n; ++i) {
    if (g.smallest ? x[i] <= least : x[i] >= least) g.places[count++] = i;
  }
  return count;
}

}  // namespace

LATHE_GIVES_WAY int64_t ContendersHere(const ContendersArguments& g) {
  switch (g.type) {
#if HWY_HAVE_FLOAT64
    case SelectNumber::f64: return contend<double>(g);
#else
    case SelectNumber::f64: return -1;
#endif
    case SelectNumber::i32: return contend<int32_t>(g);
    case SelectNumber::i64: return contend<int64_t>(g);
    default: return contend<float>(g);
  }
}

LATHE_GIVES_WAY void ArgHere(const ArgArguments& g) {
  switch (g.type) {
    case SelectNumber::f32: return g.inner == 1 ? arg_floats(g) : arg<float>(g);
    case SelectNumber::f64: return arg<double>(g);
    case SelectNumber::i32: return arg<int32_t>(g);
    case SelectNumber::i64: return arg<int64_t>(g);
    case SelectNumber::u8: return arg<uint8_t>(g);
    case SelectNumber::i8: return arg<int8_t>(g);
  }
}

LATHE_GIVES_WAY void TopHere(const TopArguments& g) {
  switch (g.type) {
#if HWY_HAVE_FLOAT64
    case SelectNumber::f64: return top<double>(g);
#else
    case SelectNumber::f64: return top_one_by_one<double>(g);
#endif
    case SelectNumber::i32: return top<int32_t>(g);
    case SelectNumber::i64: return top<int64_t>(g);
    default: return top<float>(g);
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
ArgRows arg_rows(Isa isa) { return LATHE_SELECT(isa, ArgHere); }
Contenders contenders(Isa isa) { return LATHE_SELECT(isa, ContendersHere); }
TopRows top_rows(Isa isa) { return LATHE_SELECT(isa, TopHere); }
}  // namespace lathe::kernels
#endif
