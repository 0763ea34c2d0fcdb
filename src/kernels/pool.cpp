#include "kernels/pool.hpp"

#include <algorithm>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/pool.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/cache_control.h>
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

#ifndef LATHE_POOL_SHARED
#define LATHE_POOL_SHARED
namespace lathe::kernels {
// A line as the windows want it: padded on both sides, and with a stride taken apart into columns that are the same modulo the stride.
inline int64_t padded_width(const PoolAxis& x) {
  return std::max(x.begin + x.in, (x.out - 1) * x.stride + (x.kernel - 1) * x.dilation + 1) + x.stride;
}
// Vectors may be read past the end of a part.
inline constexpr int64_t kPoolSlack = 64;
inline constexpr int64_t kMostPoolLines = 16;  // of a window joined in one go
inline int64_t part_width(const PoolAxis& x) { return padded_width(x) / x.stride + 1 + kPoolSlack; }
}  // namespace lathe::kernels
#endif

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

template <bool kAverage>
HWY_INLINE VF join(VF a, VF b) {
  if constexpr (kAverage) return hn::Add(a, b);
  else return max_nan(F32(), b, a);
}
// The same with a line that is fresh from memory.
template <bool kAverage>
HWY_INLINE VF join_fresh(VF a, VF b, VF shrink) {
  if constexpr (kAverage) return hn::MulAdd(b, shrink, a);
  else return max_nan(F32(), b, a);
}

// The window's lines joined column by column: what is left is one line. Asks for the `fresh` lines that the next window adds.
// `joined`: the first line has been joined before, into `to`.
template <bool kAverage>
void join_lines(const float* const* lines, int64_t count, int64_t width, int64_t fresh, float shrink, bool joined, float* to) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  constexpr int64_t kAhead = 512;  // floats
  const VF by = hn::Set(d, shrink);
  int64_t i = 0;
  for (; i + lanes <= width; i += lanes) {
    for (int64_t k = 0; k < fresh; ++k) hwy::Prefetch(lines[count - 1] + kAhead + k * width + i);
    VF v = hn::LoadU(d, lines[0] + i);
    if (kAverage && !joined) v = hn::Mul(v, by);
    for (int64_t k = 1; k < count; ++k) v = join_fresh<kAverage>(v, hn::LoadU(d, lines[k] + i), by);
    hn::StoreU(v, d, to + i);
  }
  if (i == width) return;
  VF v = load_part(lines[0] + i, width - i);
  if (kAverage && !joined) v = hn::Mul(v, by);
  for (int64_t k = 1; k < count; ++k) v = join_fresh<kAverage>(v, load_part(lines[k] + i, width - i), by);
  store_part(v, to + i, width - i);
}

template <bool kAverage>
void lines(const PoolArguments& g) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  const PoolAxis &y = g.y, &x = g.x;
  constexpr float kNothing = kAverage ? 0.0f : -std::numeric_limits<float>::infinity();
  const int64_t width = padded_width(x), part = part_width(x);
  float *line = g.scratch, *parts = x.stride == 1 ? line : line + width + kPoolSlack;
  std::fill_n(line, x.begin, kNothing);
  std::fill(line + x.begin + x.in, line + width + kPoolSlack, kNothing);
  const float* inside[kMostPoolLines];
  for (int64_t row = g.begin; row < g.end; ++row) {
    const int64_t plane = row / y.out, oy = row % y.out;
    const float* in = g.in + plane * y.in * x.in;
    int64_t count = 0;
    for (int64_t k = 0; k < y.kernel; ++k) {
      const int64_t at = oy * y.stride + k * y.dilation - y.begin;
      if (at < 0 || at >= y.in) continue;
      inside[count++] = in + at * x.in;
      if (count < kMostPoolLines) continue;
      // Taller windows than there is room for: what is joined so far counts as one line.
      join_lines<kAverage>(inside, count, x.in, 0, g.shrink, inside[0] == line + x.begin, line + x.begin);
      inside[0] = line + x.begin;
      count = 1;
    }
    if (count == 0) std::fill_n(line + x.begin, x.in, kNothing);
    else if (count > 1 || inside[0] != line + x.begin)
      join_lines<kAverage>(inside, count, x.in, std::min<int64_t>(y.stride, 4), g.shrink, inside[0] == line + x.begin, line + x.begin);
    if (x.stride == 2) {
      for (int64_t i = 0; i < width; i += 2 * lanes) {
        VF even, odd;
        hn::LoadInterleaved2(d, line + i, even, odd);
        hn::StoreU(even, d, parts + i / 2);
        hn::StoreU(odd, d, parts + part + i / 2);
      }
    } else if (x.stride > 1) {
      for (int64_t i = 0; i < width; ++i) parts[i % x.stride * part + i / x.stride] = line[i];
    }
    float* out = g.out + row * x.out;
    const float* divisors = kAverage ? g.divisors + oy * x.out : nullptr;
    for (int64_t i = 0; i < x.out; i += lanes) {
      VF v = hn::Set(d, kNothing);
      int64_t column = 0;
      for (int64_t k = 0; k < x.kernel; ++k, column += x.dilation)
        v = join<kAverage>(v, hn::LoadU(d, parts + (x.stride == 1 ? column : column % x.stride * part + column / x.stride) + i));
      const int64_t left = x.out - i;
      if (left >= lanes) {
        if constexpr (kAverage) v = hn::Mul(v, hn::LoadU(d, divisors + i));
        hn::StoreU(v, d, out + i);
      } else {
        if constexpr (kAverage) v = hn::Mul(v, load_part(divisors + i, left));
        store_part(v, out + i, left);
      }
    }
  }
}

LATHE_GIVES_WAY void PoolHere(const PoolArguments& g) { g.average ? lines<true>(g) : lines<false>(g); }

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

int64_t pool_scratch(const PoolAxis& x) { return padded_width(x) + kPoolSlack + (x.stride == 1 ? 0 : x.stride * part_width(x)); }

Pool pool(Isa isa) { return LATHE_SELECT(isa, PoolHere); }

}  // namespace lathe::kernels
#endif
