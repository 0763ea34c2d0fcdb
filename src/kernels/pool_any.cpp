// Plain loops, which the compiler turns into vectors of each instruction set.
#include "kernels/pool_any.hpp"

#include <algorithm>
#include <bit>
#include <limits>
#include <type_traits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/pool_any.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {
namespace {

// Results whose tap lies inside the picture.
struct Range {
  int64_t first, last, offset;  // offset: of the tap from result * stride
};
Range range_of(const PoolAxis& a, int64_t tap) {
  const int64_t offset = tap * a.dilation - a.begin;
  const int64_t first = offset < 0 ? (-offset + a.stride - 1) / a.stride : 0;
  const int64_t last = a.in - 1 - offset < 0 ? 0 : std::min(a.out, (a.in - 1 - offset) / a.stride + 1);
  return {first, last, offset};
}

template <typename T>
constexpr T lowest() {
  if constexpr (std::numeric_limits<T>::has_infinity) return -std::numeric_limits<T>::infinity();
  else return std::numeric_limits<T>::lowest();
}

// By bits: what is left over behind whole vectors goes one by one, and a branch would be guessed wrong as often as not.
template <typename T>
T chosen(bool first, T yes, T no) {
  using Bits = std::conditional_t<sizeof(T) == 8, uint64_t, std::conditional_t<sizeof(T) == 4, uint32_t, uint8_t>>;
  const auto mask = static_cast<Bits>(Bits{0} - static_cast<Bits>(first));
  return std::bit_cast<T>(static_cast<Bits>((std::bit_cast<Bits>(yes) & mask) | (std::bit_cast<Bits>(no) & static_cast<Bits>(~mask))));
}

template <typename T>
void take(const T* __restrict in, int64_t stride, int64_t n, T* __restrict out) {
  const auto larger = [](T s, T best) {
    if constexpr (std::is_integral_v<T>) return std::max(s, best);
    else return chosen((s > best) | (s != s), s, best);
  };
  if (stride == 1) {
    for (int64_t i = 0; i < n; ++i) out[i] = larger(in[i], out[i]);
  } else {
    for (int64_t i = 0; i < n; ++i) out[i] = larger(in[i * stride], out[i]);
  }
}

// Places count from the plane's first element, in numbers as wide as the elements mostly are. `Stride`: a type of its own where it is a
// constant: such loops become vectors.
template <typename T, typename Place, typename Stride>
void take_with_place(const T* __restrict in, Stride stride, int64_t n, Place at, T* __restrict out, Place* __restrict where) {
  for (int64_t i = 0; i < n; ++i) {
    const T s = in[i * stride], best = out[i];
    const Place here = static_cast<Place>(at + static_cast<Place>(i * stride)), w = where[i];
    const bool now = (w < 0) | (s > best) | ((s != s) & (best == best));
    out[i] = chosen(now, s, best);
    where[i] = chosen(now, here, w);
  }
}

// What each tap of one line of results takes: `take` gets the tap's first element, its place in the plane, the first result and how many.
template <typename Take>
void each_tap(const PoolAnyArguments& g, int64_t oz, int64_t oy, Take take) {
  for (int64_t kz = 0; kz < g.z.kernel; ++kz) {
    const int64_t z = oz * g.z.stride + kz * g.z.dilation - g.z.begin;
    if (z < 0 || z >= g.z.in) continue;
    for (int64_t ky = 0; ky < g.y.kernel; ++ky) {
      const int64_t y = oy * g.y.stride + ky * g.y.dilation - g.y.begin;
      if (y < 0 || y >= g.y.in) continue;
      for (int64_t kx = 0; kx < g.x.kernel; ++kx) {
        const Range r = range_of(g.x, kx);
        if (r.last > r.first) take((z * g.y.in + y) * g.x.in + r.first * g.x.stride + r.offset, r.first, r.last - r.first);
      }
    }
  }
}

// The same with where each maximum stood: strips of results, whose places are short numbers until the strip is done.
template <typename T, typename Place>
void line_with_places(const PoolAnyArguments& g, const T* in, int64_t oz, int64_t oy, int64_t plane_begin, T* out, int64_t* where) {
  constexpr int64_t kStrip = 256;
  Place places[kStrip];
  for (int64_t from = 0; from < g.x.out; from += kStrip) {
    const int64_t count = std::min(kStrip, g.x.out - from);
    std::fill_n(out + from, count, lowest<T>());
    std::fill_n(places, count, Place{-1});
    each_tap(g, oz, oy, [&](int64_t at, int64_t first, int64_t n) {
      const int64_t begin = std::max(first, from), end = std::min(first + n, from + count);
      if (begin >= end) return;
      at += (begin - first) * g.x.stride;
      const auto take = [&](auto stride) {
        take_with_place(in + at, stride, end - begin, static_cast<Place>(at), out + begin, places + begin - from);
      };
      if (g.x.stride == 1) take(std::integral_constant<int64_t, 1>());
      else if (g.x.stride == 2) take(std::integral_constant<int64_t, 2>());
      else take(g.x.stride);
    });
    int64_t* to = where + from;
    for (int64_t i = 0; i < count; ++i) to[i] = plane_begin + places[i];
    for (int64_t i = 0; g.columns_first && i < count; ++i) {
      if (places[i] < 0) continue;
      const int64_t at = places[i], x = at % g.x.in, y = at / g.x.in % g.y.in, z = at / (g.x.in * g.y.in);
      to[i] = plane_begin + (x * g.y.in + y) * g.z.in + z;
    }
  }
}

// Greatest bytes of one line of results: the window's lines joined first, then its columns, in strips of whole vectors with the padding
// written out, as most of a tap's time would go to the ends of its run. False: the window is too long for a strip.
template <typename T>
bool line_joined(const PoolAnyArguments& g, const T* in, int64_t oz, int64_t oy, T* out) {
  constexpr int64_t kStrip = 256, kVector = 32, kMost = 2048;
  const int64_t reach = (g.x.kernel - 1) * g.x.dilation;
  if ((kStrip - 1) * g.x.stride + reach + 1 > kMost) return false;
  T joined[kMost], best[kStrip];
  for (int64_t from = 0; from < g.x.out; from += kStrip) {
    const int64_t count = std::min(kStrip, g.x.out - from), whole = (count + kVector - 1) / kVector * kVector;
    const int64_t begin = from * g.x.stride - g.x.begin, length = (whole - 1) * g.x.stride + reach + 1;
    const int64_t first = std::clamp<int64_t>(-begin, 0, length), last = std::clamp<int64_t>(g.x.in - begin, first, length);
    std::fill_n(joined, length, lowest<T>());
    for (int64_t kz = 0; kz < g.z.kernel; ++kz) {
      const int64_t z = oz * g.z.stride + kz * g.z.dilation - g.z.begin;
      for (int64_t ky = 0; ky < g.y.kernel && z >= 0 && z < g.z.in; ++ky) {
        const int64_t y = oy * g.y.stride + ky * g.y.dilation - g.y.begin;
        if (y >= 0 && y < g.y.in) take(in + (z * g.y.in + y) * g.x.in + begin + first, 1, last - first, joined + first);
      }
    }
    std::fill_n(best, whole, lowest<T>());
    for (int64_t kx = 0; kx < g.x.kernel; ++kx) {
      take(joined + kx * g.x.dilation, g.x.stride, whole, best);
    }
    std::copy_n(best, count, out + from);
  }
  return true;
}

template <typename T>
void run_lines(const PoolAnyArguments& g) {
  const int64_t lines = g.z.out * g.y.out, in_plane = g.z.in * g.y.in * g.x.in;
  for (int64_t line = g.begin; line < g.end; ++line) {
    const int64_t plane = line / lines, oz = line % lines / g.y.out, oy = line % g.y.out;
    const T* in = static_cast<const T*>(g.in) + plane * in_plane;
    T* out = static_cast<T*>(g.out) + line * g.x.out;
    if (g.where) {
      int64_t* where = g.where + line * g.x.out;
      if (in_plane <= std::numeric_limits<int32_t>::max()) line_with_places<T, int32_t>(g, in, oz, oy, plane * in_plane, out, where);
      else line_with_places<T, int64_t>(g, in, oz, oy, plane * in_plane, out, where);
      continue;
    }
    if constexpr (sizeof(T) == 1) {
      if (line_joined(g, in, oz, oy, out)) continue;
    }
    std::fill_n(out, g.x.out, g.average ? T{} : lowest<T>());
    each_tap(g, oz, oy, [&](int64_t at, int64_t first, int64_t n) {
      if (!g.average) take(in + at, g.x.stride, n, out + first);
      else if constexpr (std::is_same_v<T, double>) {
        for (int64_t i = 0; i < n; ++i) out[first + i] += in[at + i * g.x.stride];
      }
    });
    if (g.average) {
      const int64_t* divisors = g.divisors + line % lines * g.x.out;
      for (int64_t i = 0; i < g.x.out; ++i) out[i] = static_cast<T>(out[i] / static_cast<T>(divisors[i]));
    }
  }
}

}  // namespace

LATHE_GIVES_WAY void PoolAnyHere(const PoolAnyArguments& g) {
  switch (g.type) {
    case PoolNumber::f32: return run_lines<float>(g);
    case PoolNumber::f64: return run_lines<double>(g);
    case PoolNumber::u8: return run_lines<uint8_t>(g);
    case PoolNumber::i8: return run_lines<int8_t>(g);
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
PoolAny pool_any(Isa isa) { return LATHE_SELECT(isa, PoolAnyHere); }
}  // namespace lathe::kernels
#endif
