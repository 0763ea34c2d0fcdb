#include "kernels/resample.hpp"

#include <array>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/resample.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/quantise.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// The regular stretch of a row, whole vectors of it; gives where it ended.
template <int kTaps>
int64_t across_up(const ResampleArguments& g, const float* in, float* out) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = g.pattern_begin;
  for (; i + lanes <= g.pattern_end; i += lanes) {
    VF made[2];
    for (int p = 0; p < 2; ++p) {
      const float* a = in + i + g.pattern_at[p];
      made[p] = hn::Mul(hn::Set(d, g.regular[p][0]), hn::LoadU(d, a));
      for (int t = 1; t < kTaps; ++t) made[p] = hn::MulAdd(hn::Set(d, g.regular[p][t]), hn::LoadU(d, a + t), made[p]);
    }
    hn::StoreInterleaved2(made[0], made[1], d, out + 2 * i);
  }
  return 2 * i;
}
template <int kTaps>
int64_t across_down(const ResampleArguments& g, const float* in, float* out) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = g.pattern_begin;
  for (; i + lanes <= g.pattern_end; i += lanes) {
    VF sum = hn::Zero(d);
    for (int t = 0; t < kTaps; t += 2) {
      VF even, odd;
      hn::LoadInterleaved2(d, in + 2 * i + g.pattern_at[0] + t, even, odd);
      sum = hn::MulAdd(hn::Set(d, g.regular[0][t]), even, sum);
      sum = hn::MulAdd(hn::Set(d, g.regular[0][t + 1]), odd, sum);
    }
    hn::StoreU(sum, d, out + i);
  }
  return i;
}

// One source row along x.
void across(const ResampleArguments& g, const float* in, float* out) {
  const int64_t n = g.out_width;
  // Outputs [regular, regular_end) follow the pattern; the rest goes through the table.
  int64_t regular = 0, regular_end = 0;
  if (g.pattern == ResampleArguments::Pattern::up) {
    static constexpr auto kTable = [] {
      using Up = int64_t (*)(const ResampleArguments&, const float*, float*);
      return std::array<Up, ResampleArguments::kMostRegular>{across_up<1>, across_up<2>, across_up<3>, across_up<4>,
                                                             across_up<5>, across_up<6>, across_up<7>, across_up<8>};
    }();
    regular = 2 * g.pattern_begin;
    regular_end = kTable[static_cast<size_t>(g.taps_x - 1)](g, in, out);
  } else if (g.pattern == ResampleArguments::Pattern::down) {
    regular = g.pattern_begin;
    regular_end = g.taps_x == 2   ? across_down<2>(g, in, out)
                  : g.taps_x == 4 ? across_down<4>(g, in, out)
                  : g.taps_x == 6 ? across_down<6>(g, in, out)
                                  : across_down<8>(g, in, out);
  }
  // Element by element: gathering instructions are slower than loads on many machines.
  const auto table = [&](int64_t from, int64_t to) {
    for (int64_t x = from; x < to; ++x) {
      const hn::CappedTag<float, 1> one;
      auto sum = hn::Mul(hn::Set(one, g.wx[x]), hn::Set(one, in[g.ax[x]]));
      for (int64_t t = 1; t < g.taps_x; ++t) sum = hn::MulAdd(hn::Set(one, g.wx[t * n + x]), hn::Set(one, in[g.ax[t * n + x]]), sum);
      out[x] = hn::GetLane(sum);
    }
  };
  table(0, regular);
  table(regular_end, n);
}

// The same where several channels stand at each place.
template <class D>
HWY_INLINE int64_t mixed(D d, const ResampleArguments& g, const float* in, int64_t x, int64_t c, float* out) {
  const int64_t lanes = hn::Lanes(d), n = g.out_width;
  for (; c + lanes <= g.channels; c += lanes) {
    auto sum = hn::Mul(hn::Set(d, g.wx[x]), hn::LoadU(d, in + g.ax[x] * g.channels + c));
    for (int64_t t = 1; t < g.taps_x; ++t)
      sum = hn::MulAdd(hn::Set(d, g.wx[t * n + x]), hn::LoadU(d, in + g.ax[t * n + x] * g.channels + c), sum);
    hn::StoreU(sum, d, out + c);
  }
  return c;
}
void across_channels(const ResampleArguments& g, const float* in, float* out) {
  for (int64_t x = 0; x < g.out_width; ++x, out += g.channels) {
    const int64_t c = mixed(F32(), g, in, x, 0, out);
    mixed(hn::CappedTag<float, 1>(), g, in, x, c, out);
  }
}

template <typename T>
void widen_line(const T* in, int64_t n, float* out) {
  const F32 d;
  const hn::Rebind<T, F32> narrow;
  const int64_t lanes = hn::Lanes(d);
  int64_t i = 0;
  for (; i + lanes <= n; i += lanes)
    hn::StoreU(hn::ConvertTo(d, hn::PromoteTo(hn::RebindToSigned<F32>(), hn::LoadU(narrow, in + i))), d, out + i);
  for (; i < n; ++i) out[i] = static_cast<float>(in[i]);
}

// A vector of sums as whole numbers that fit a byte.
HWY_INLINE VF to_byte(const ResampleArguments& g, VF v) {
  const F32 d;
  if (g.rounds) v = hn::Add(hn::Round(hn::Mul(hn::Sub(v, hn::Set(d, g.zero)), hn::Set(d, g.factor))), hn::Set(d, g.out_zero));
  else v = hn::Trunc(hn::Add(v, hn::CopySign(hn::Set(d, 0x1p-10f), v)));
  return hn::Min(hn::Max(v, hn::Set(d, g.is_signed ? -128.0f : 0.0f)), hn::Set(d, g.is_signed ? 127.0f : 255.0f));
}

LATHE_GIVES_WAY void ResampleHere(const ResampleArguments& g) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), n = g.out_width * g.channels, whole = n - n % lanes, in_row = g.in_width * g.channels;
  for (int64_t i = 0; i < g.ring; ++i) g.kept[i] = -1;
  for (int64_t r = g.begin; r < g.end; ++r) {
    const int64_t plane = r / g.out_height, y = r % g.out_height;
    const auto source = [&](int64_t line) {
      const int64_t at = (plane * g.in_height + line) * in_row;
      if (g.in_bytes == nullptr) return g.in + at;
      if (g.is_signed) widen_line(reinterpret_cast<const int8_t*>(g.in_bytes) + at, in_row, g.line);
      else widen_line(g.in_bytes + at, in_row, g.line);
      return static_cast<const float*>(g.line);
    };
    const int32_t* ay = g.ay + y * g.taps_y;
    const float* wy = g.wy + y * g.taps_y;
    // Neighbouring output rows share source rows: those stay resampled along x. Rows of one output row are at most taps_y apart, so
    // they never share a place.
    for (int64_t t = 0; t < g.taps_y; ++t) {
      const int64_t key = plane * g.in_height + ay[t], slot = ay[t] % g.ring;
      if (g.kept[slot] == key) continue;
      g.kept[slot] = key;
      if (g.channels == 1) across(g, source(ay[t]), g.rows + slot * n);
      else across_channels(g, source(ay[t]), g.rows + slot * n);
    }
    const float* row[kMostTaps];
    for (int64_t t = 0; t < g.taps_y; ++t) row[t] = g.rows + ay[t] % g.ring * n;
    const auto at = [&](auto dx, int64_t x) HWY_ATTR {
      auto sum = hn::Zero(dx);
      for (int64_t t = 0; t < g.taps_y; ++t) sum = hn::MulAdd(hn::Set(dx, wy[t]), hn::LoadU(dx, row[t] + x), sum);
      return sum;
    };
    const hn::CappedTag<float, 1> one;
    if (g.in_bytes == nullptr) {
      float* out = g.out + r * n;
      for (int64_t x = 0; x < whole; x += lanes) hn::StoreU(at(d, x), d, out + x);
      for (int64_t x = whole; x < n; ++x) out[x] = hn::GetLane(at(one, x));
      continue;
    }
    uint8_t* out = g.out_bytes + r * n;
    for (int64_t x = 0; x < whole; x += lanes) store_bytes(to_byte(g, at(d, x)), out + x);
    for (int64_t x = whole; x < n; ++x)
      out[x] = static_cast<uint8_t>(static_cast<int32_t>(hn::GetLane(to_byte(g, hn::Set(d, hn::GetLane(at(one, x)))))));
  }
}

LATHE_GIVES_WAY void ResampleRowsHere(const ResampleArguments& g) {
  for (int64_t r = g.begin; r < g.end; ++r) across(g, g.in + r * g.in_width, g.out + r * g.out_width);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
ResampleRows resample_rows(Isa isa) { return LATHE_SELECT(isa, ResampleRowsHere); }
Resample resample(Isa isa) { return LATHE_SELECT(isa, ResampleHere); }

void find_pattern(ResampleArguments& g) {
  const int64_t n = g.out_width;
  if (g.taps_x > ResampleArguments::kMostRegular || n < 8) return;
  const auto at = [&](int64_t tap, int64_t x) { return int64_t{g.ax[tap * n + x]}; };
  const auto like = [&](int64_t x, int64_t middle, int64_t moved) {  // the same weights, sources further on by `moved`
    for (int64_t t = 0; t < g.taps_x; ++t) {
      if (at(t, x) != at(0, middle) + moved + t || g.wx[t * n + x] != g.wx[t * n + middle]) return false;
    }
    return true;
  };
  const auto keep = [&](int p, int64_t x, int64_t moved) {
    g.pattern_at[p] = at(0, x) - moved;
    for (int64_t t = 0; t < g.taps_x; ++t) g.regular[p][t] = g.wx[t * n + x];
  };
  const int64_t m = n / 4 * 2;  // an even output in the middle
  if (like(m + 2, m, 1) && like(m + 3, m + 1, 1) && like(m + 1, m + 1, 0) && like(m, m, 0)) {
    g.pattern = ResampleArguments::Pattern::up;
    const auto holds = [&](int64_t i) {
      return 2 * i >= 0 && 2 * i + 1 < n && like(2 * i, m, i - m / 2) && like(2 * i + 1, m + 1, i - m / 2);
    };
    int64_t from = m / 2, to = m / 2;
    while (holds(from - 1)) --from;
    while (holds(to)) ++to;
    g.pattern_begin = from, g.pattern_end = to;
    for (int p = 0; p < 2; ++p) keep(p, m + p, m / 2);
  } else if (g.taps_x % 2 == 0 && like(m + 1, m, 2) && like(m, m, 0)) {
    g.pattern = ResampleArguments::Pattern::down;
    int64_t from = m, to = m;
    while (from > 0 && like(from - 1, m, 2 * (from - 1 - m))) --from;
    while (to < n && like(to, m, 2 * (to - m))) ++to;
    g.pattern_begin = from, g.pattern_end = to;
    keep(0, m, 2 * m);
  }
}
}  // namespace lathe::kernels
#endif
