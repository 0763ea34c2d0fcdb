#include "kernels/pool_any.hpp"

#include <algorithm>
#include <limits>
#include <type_traits>

namespace lathe::kernels {
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

template <typename T>
void take(const T* in, int64_t stride, int64_t n, T* out) {
  const auto larger = [](T s, T best) { return s > best || s != s ? s : best; };
  if (stride == 1) {
    for (int64_t i = 0; i < n; ++i) out[i] = larger(in[i], out[i]);
  } else {
    for (int64_t i = 0; i < n; ++i) out[i] = larger(in[i * stride], out[i]);
  }
}

template <typename T>
void take_with_place(const T* in, int64_t stride, int64_t n, int64_t at, T* out, int64_t* where) {
  for (int64_t i = 0; i < n; ++i) {
    const T s = in[i * stride], best = out[i];
    if (where[i] < 0 || s > best || (s != s && best == best)) out[i] = s, where[i] = at + i * stride;
  }
}

template <typename T>
void run_lines(const PoolAnyArguments& g) {
  const int64_t lines = g.z.out * g.y.out, in_plane = g.z.in * g.y.in * g.x.in;
  for (int64_t line = g.begin; line < g.end; ++line) {
    const int64_t plane = line / lines, oz = line % lines / g.y.out, oy = line % g.y.out;
    const T* in = static_cast<const T*>(g.in) + plane * in_plane;
    T* out = static_cast<T*>(g.out) + line * g.x.out;
    int64_t* where = g.where ? g.where + line * g.x.out : nullptr;
    std::fill_n(out, g.x.out, g.average ? T{} : lowest<T>());
    if (where) std::fill_n(where, g.x.out, -1);
    for (int64_t kz = 0; kz < g.z.kernel; ++kz) {
      const int64_t z = oz * g.z.stride + kz * g.z.dilation - g.z.begin;
      if (z < 0 || z >= g.z.in) continue;
      for (int64_t ky = 0; ky < g.y.kernel; ++ky) {
        const int64_t y = oy * g.y.stride + ky * g.y.dilation - g.y.begin;
        if (y < 0 || y >= g.y.in) continue;
        const int64_t row = (z * g.y.in + y) * g.x.in;
        for (int64_t kx = 0; kx < g.x.kernel; ++kx) {
          const Range r = range_of(g.x, kx);
          const int64_t n = r.last - r.first, at = row + r.first * g.x.stride + r.offset;
          if (n <= 0) continue;
          if (where) take_with_place(in + at, g.x.stride, n, at, out + r.first, where + r.first);
          else if (!g.average) take(in + at, g.x.stride, n, out + r.first);
          else if constexpr (std::is_same_v<T, double>) {
            for (int64_t i = 0; i < n; ++i) out[r.first + i] += in[at + i * g.x.stride];
          }
        }
      }
    }
    if (g.average) {
      const int64_t* divisors = g.divisors + line % lines * g.x.out;
      for (int64_t i = 0; i < g.x.out; ++i) out[i] = static_cast<T>(out[i] / static_cast<T>(divisors[i]));
    }
    for (int64_t i = 0; where && i < g.x.out; ++i) {
      int64_t at = where[i];
      if (g.columns_first && at >= 0) {
        const int64_t x = at % g.x.in, y = at / g.x.in % g.y.in, z = at / (g.x.in * g.y.in);
        at = (x * g.y.in + y) * g.z.in + z;
      }
      where[i] = plane * in_plane + at;
    }
  }
}

}  // namespace

void pool_any(const PoolAnyArguments& g) {
  switch (g.type) {
    case PoolNumber::f32: return run_lines<float>(g);
    case PoolNumber::f64: return run_lines<double>(g);
    case PoolNumber::u8: return run_lines<uint8_t>(g);
    case PoolNumber::i8: return run_lines<int8_t>(g);
  }
}

}  // namespace lathe::kernels
