#include "kernels/depthwise8.hpp"

#include <algorithm>
#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/depthwise8.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/byte_result.inl.hpp"
#include "kernels/probe.hpp"
#include "kernels/taps.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

inline constexpr int kPixels = 6;      // at a time: their sums need not wait for one another, and share the weights
inline constexpr int64_t kLine = 256;  // channels finished at a time
using Factors = ByteFactors<kLine>;

template <bool kSigned>
HWY_INLINE VF load_bytes(const uint8_t* p) {
  const F32 d;
  const hn::RebindToSigned<F32> di;
  if constexpr (kSigned)
    return hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(hn::Rebind<int8_t, F32>(), reinterpret_cast<const int8_t*>(p))));
  else return hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(hn::Rebind<uint8_t, F32>(), p)));
}

// A vector of channels, from c on, of P pixels; their taps are P pointers apart.
template <bool kSigned, int P>
HWY_INLINE void sum_taps(const Depthwise8Arguments& g, const uint8_t* const* taps, int64_t c, int32_t* lines) {
  const F32 d;
  const hn::RebindToSigned<F32> di;
  const PackedFilters8& w = g.filters;
  const VF start = hn::Mul(hn::Set(d, -static_cast<float>(g.a_zero)), hn::ConvertTo(d, hn::LoadU(di, w.sums + c)));
  VF acc[P];
  LATHE_UNROLL(8)
  for (int r = 0; r < P; ++r) acc[r] = start;
  for (int64_t t = 0; t < w.taps; ++t) {
    const VF factor = hn::LoadU(d, w.floats + t * w.channels + c);
    LATHE_UNROLL(8)
    for (int r = 0; r < P; ++r) acc[r] = hn::MulAdd(load_bytes<kSigned>(taps[t * P + r] + c), factor, acc[r]);
  }
  LATHE_UNROLL(8)
  for (int r = 0; r < P; ++r) hn::StoreU(hn::ConvertTo(di, acc[r]), di, lines + r * kLine);
}

// Channels [from, until), at most kLine, of P pixels from `row` on.
template <bool kSigned, int P>
HWY_INLINE void pixels(const Depthwise8Arguments& g, const Factors& factors, int64_t from, int64_t until, int64_t row) {
  const hn::RebindToSigned<F32> di;
  const int64_t lanes = hn::Lanes(F32());
  const PackedFilters8& w = g.filters;
  const uint8_t* taps[kMostTapsDepthwise8 * P];
  alignas(64) int32_t lines[kLine * P];
  point_rows(*g.window, row, P, 0, w.taps, int64_t{0}, taps);
  int64_t c = from;
  for (; c + lanes <= until; c += lanes) sum_taps<kSigned, P>(g, taps, c, lines + c - from);
  for (; c < until; ++c) {
    for (int r = 0; r < P; ++r) {
      int32_t sum = 0;
      for (int64_t t = 0; t < w.taps; ++t) {
        const uint8_t* p = taps[t * P + r] + c;
        sum += ((kSigned ? static_cast<int8_t>(*p) : static_cast<int32_t>(*p)) - g.a_zero) *
               static_cast<int32_t>(w.floats[t * w.channels + c]);
      }
      lines[r * kLine + c - from] = sum;
    }
  }
  for (int r = 0; g.bias && !g.reals && r < P; ++r) {
    for (int64_t j = from; j < until; ++j)
      lines[r * kLine + j - from] =
          static_cast<int32_t>(static_cast<uint32_t>(lines[r * kLine + j - from]) + static_cast<uint32_t>(g.bias[j]));
  }
  int64_t done = from;
  for (; g.out && done + lanes <= until; done += lanes) {
    const ByteColumns columns(factors, done - from);
    const int32_t* line = lines + done - from;
    uint8_t* out = g.out + row * g.ldc + done;
    for (int r = 0; r < P; ++r) {
      Far far = none_far();
      columns.write(g, hn::LoadU(di, line + r * kLine), out + r * g.ldc, far);
      if (HWY_UNLIKELY(!trusted(far, factors))) requantise_exactly(g, line + r * kLine, out + r * g.ldc, done, lanes);
    }
  }
  for (int r = 0; r < P && done < until; ++r) finish_line(g, lines + r * kLine + done - from, row + r, done, until - done);
}

template <bool kSigned>
void by_floats(const Depthwise8Arguments& g) {
  Factors factors;
  for (int64_t from = 0; from < g.filters.channels; from += kLine) {
    const int64_t until = std::min(g.filters.channels, from + kLine);
    if (g.out) factors.set(g, from, until - from);
    int64_t row = g.row_begin;
    for (; row + kPixels <= g.row_end; row += kPixels) pixels<kSigned, kPixels>(g, factors, from, until, row);
    for (; row < g.row_end; ++row) pixels<kSigned, 1>(g, factors, from, until, row);
  }
}

#if HWY_TARGET == HWY_AVX3
// Where byte interleaving puts channel j of a chunk: lane l of vector v of the sums holds channel 16 * (l / 4) + 4 * v + l % 4.
constexpr int64_t interleaved_place(int64_t j) { return j % 16 / 4 * 16 + j / 16 * 4 + j % 4; }

// Sums of a chunk, interleaved.
struct Sums {
  __m512i v0, v1, v2, v3;
};

HWY_INLINE __m512i add_products(__m512i sums, __m512i taps, const int8_t* w) {
  asm("vpdpbusd %2, %1, %0" : "+v"(sums) : "v"(taps), "m"(*reinterpret_cast<const __m512i*>(w)));
  return sums;
}

// Four taps of a chunk, interleaved, by each part of their filters.
template <int kParts>
HWY_INLINE Sums add_four(Sums s, __m512i a, __m512i b, __m512i c, __m512i d, const int8_t* w) {
  for (int part = 0; part < kParts; ++part, w += 256) {
    s.v0 = add_products(s.v0, a, w);
    s.v1 = add_products(s.v1, b, w + 64);
    s.v2 = add_products(s.v2, c, w + 128);
    s.v3 = add_products(s.v3, d, w + 192);
  }
  return s;
}

// A pixel's sums of a chunk of channels; of the last one `there` says which are there.
template <bool kWhole, bool kSigned, int kParts>
HWY_INLINE Sums chunk_sums(const uint8_t* const* taps, int64_t count, int64_t c, __mmask64 there, const int8_t* w, Sums s) {
  const auto load = [&](int64_t t) HWY_ATTR {
    const void* p = taps[t] + c;
    const __m512i x = kWhole ? _mm512_loadu_si512(p) : _mm512_maskz_loadu_epi8(there, p);
    return kSigned ? _mm512_xor_si512(x, _mm512_set1_epi8(-128)) : x;
  };
  int64_t t = 0;
  for (; t + 2 <= count; t += 4, w += 256 * kParts) {
    // Taps that are not there are weighted by zero.
    const __m512i a = load(t), b = load(t + 1), e = load(std::min(t + 2, count - 1)), f = load(std::min(t + 3, count - 1));
    const __m512i low = _mm512_unpacklo_epi8(a, b), high = _mm512_unpackhi_epi8(a, b);
    const __m512i low2 = _mm512_unpacklo_epi8(e, f), high2 = _mm512_unpackhi_epi8(e, f);
    s = add_four<kParts>(s, _mm512_unpacklo_epi16(low, low2), _mm512_unpackhi_epi16(low, low2), _mm512_unpacklo_epi16(high, high2),
                         _mm512_unpackhi_epi16(high, high2), w);
  }
  if (t >= count) return s;
  // One tap is left: each of its bytes alone in 32 bits. (-1 stays negative: nothing is carried into the other bytes.)
  const __m512i last = load(t), step = _mm512_set1_epi32(4);
  const __m512i order = _mm512_broadcast_i32x4(_mm_setr_epi8(0, -1, -1, -1, 1, -1, -1, -1, 2, -1, -1, -1, 3, -1, -1, -1));
  const __m512i second = _mm512_add_epi32(order, step), third = _mm512_add_epi32(second, step);
  return add_four<kParts>(s, _mm512_shuffle_epi8(last, order), _mm512_shuffle_epi8(last, second), _mm512_shuffle_epi8(last, third),
                          _mm512_shuffle_epi8(last, _mm512_add_epi32(third, step)), w);
}

// The sums of channels in their order.
HWY_INLINE Sums in_order(const Sums& s) {
  const __m512i a = _mm512_shuffle_i32x4(s.v0, s.v1, 0x88), b = _mm512_shuffle_i32x4(s.v0, s.v1, 0xDD);
  const __m512i c = _mm512_shuffle_i32x4(s.v2, s.v3, 0x88), d = _mm512_shuffle_i32x4(s.v2, s.v3, 0xDD);
  return {_mm512_shuffle_i32x4(a, c, 0x88), _mm512_shuffle_i32x4(b, d, 0x88), _mm512_shuffle_i32x4(a, c, 0xDD),
          _mm512_shuffle_i32x4(b, d, 0xDD)};
}
HWY_INLINE void in_order(const Sums& s, int32_t* line) {
  const Sums r = in_order(s);
  _mm512_store_si512(line, r.v0);
  _mm512_store_si512(line + 16, r.v1);
  _mm512_store_si512(line + 32, r.v2);
  _mm512_store_si512(line + 48, r.v3);
}

// What becomes of a pixel's sums of one chunk: channels [c, c + count), whose factors begin at `at`.
template <bool kWhole, int64_t kMost>
HWY_INLINE void finish_chunk(const Depthwise8Arguments& g, const ByteFactors<kMost>& factors, const Sums& s, int64_t row, int64_t c,
                             int64_t at, int64_t count) {
  alignas(64) int32_t line[kChunk8];
  if (!g.out) {
    in_order(s, line);
    finish_line(g, line, row, c, count);
    return;
  }
  Far far = none_far();
  const auto whole = [&](__m512i sums, int64_t v) HWY_ATTR { return ByteColumns(factors, at + v * 16).rounded(VSums{sums}, far); };
  const VSums a = whole(s.v0, 0), b = whole(s.v1, 1), e = whole(s.v2, 2), f = whole(s.v3, 3);
  const __m512i bytes = saturated(g.out_signed, a, b, e, f);
  uint8_t* out = g.out + row * g.ldc + c;
  if (kWhole) _mm512_storeu_si512(out, bytes);
  else _mm512_mask_storeu_epi8(out, ~uint64_t{0} >> (kChunk8 - count), bytes);
  if (HWY_LIKELY(trusted(far, factors))) return;
  in_order(s, line);
  requantise_exactly(g, line, out, c, count);
}

// Channels [c, c + count) of a pixel, those of one chunk, which is `at` from where `start` and `factors` begin.
template <bool kWhole, bool kSigned, int kParts>
HWY_INLINE void chunk8(const Depthwise8Arguments& g, const Factors& factors, const int32_t* start, const uint8_t* const* taps, int64_t row,
                       int64_t c, int64_t at, int64_t count) {
  const PackedFilters8& w = g.filters;
  const __mmask64 there = kWhole ? ~uint64_t{0} : ~uint64_t{0} >> (kChunk8 - count);
  const int8_t* filters = w.bytes + c / kChunk8 * ((w.taps + 3) / 4) * 256 * kParts;
  Sums s{_mm512_load_si512(start + at), _mm512_load_si512(start + at + 16), _mm512_load_si512(start + at + 32),
         _mm512_load_si512(start + at + 48)};
  s = chunk_sums<kWhole, kSigned, kParts>(taps, w.taps, c, there, filters, s);
  finish_chunk<kWhole>(g, factors, s, row, c, at, count);
}

// Filters of 3x3 windows by lines of the window, four bytes a channel in the order of interleaved bytes: a line's three taps and nothing,
// for the first of two neighbouring pixels, and nothing and the three, for the second.
struct LineFilters {
  alignas(64) int8_t bytes[2][3][256];

  explicit LineFilters(const int8_t* packed) {
    for (int v = 0; v < 4; ++v) {
      // Taps as they are packed, the first in the lowest byte: 0 1 2 3, 4 5 6 7, 8.
      const auto group = [&](int i) HWY_ATTR { return _mm512_load_si512(packed + i * 256 + v * 64); };
      const __m512i a = group(0), b = group(1), c = group(2), three = _mm512_set1_epi32(0x00FFFFFF);
      const __m512i lines[3] = {_mm512_and_si512(a, three),
                                _mm512_and_si512(_mm512_or_si512(_mm512_srli_epi32(a, 24), _mm512_slli_epi32(b, 8)), three),
                                _mm512_and_si512(_mm512_or_si512(_mm512_srli_epi32(b, 16), _mm512_slli_epi32(c, 16)), three)};
      for (int k = 0; k < 3; ++k) {
        _mm512_store_si512(bytes[0][k] + v * 64, lines[k]);
        _mm512_store_si512(bytes[1][k] + v * 64, _mm512_slli_epi32(lines[k], 8));
      }
    }
  }
};

// R lines by C neighbouring pixels: each line of the picture is interleaved once, four pixels of it together, and serves all of them.
template <bool kWhole, bool kSigned, int R, int C>
HWY_INLINE void tile3x3(const Depthwise8Arguments& g, const ByteFactors<kChunk8>& factors, const int32_t* start, const LineFilters& filters,
                        int64_t image, int64_t oy, int64_t ox, int64_t c, int64_t count) {
  const WindowRowsOf<uint8_t>& w = *g.window;
  const __mmask64 there = kWhole ? ~uint64_t{0} : ~uint64_t{0} >> (kChunk8 - count);
  Sums s[R][C];
  LATHE_UNROLL(2)
  for (int r = 0; r < R; ++r) {
    LATHE_UNROLL(2)
    for (int p = 0; p < C; ++p)
      s[r][p] = {_mm512_load_si512(start), _mm512_load_si512(start + 16), _mm512_load_si512(start + 32), _mm512_load_si512(start + 48)};
  }
  int64_t x[4];
  for (int j = 0; j < 4; ++j) {
    const int pixel = std::min(j, C - 1);
    x[j] = j < C + 2 ? w.x[(ox + pixel) * 3 + j - pixel] : -1;  // the last of three columns' four is weighted by zero
  }
  const uint8_t* picture = w.base + image * w.image_stride + w.z[0] + c;
  LATHE_UNROLL(4)
  for (int i = 0; i < R + 2; ++i) {
    const int line = std::min(i, R - 1);
    const int64_t y = w.y[(oy + line) * 3 + i - line];
    const auto load = [&](int j) HWY_ATTR {
      const void* from = (y | x[j]) >= 0 ? picture + y + x[j] : w.zeros + c;
      const __m512i v = kWhole ? _mm512_loadu_si512(from) : _mm512_maskz_loadu_epi8(there, from);
      return kSigned ? _mm512_xor_si512(v, _mm512_set1_epi8(-128)) : v;
    };
    const __m512i a = load(0), b = load(1), e = load(2), f = load(3);
    const __m512i low = _mm512_unpacklo_epi8(a, b), high = _mm512_unpackhi_epi8(a, b);
    const __m512i low2 = _mm512_unpacklo_epi8(e, f), high2 = _mm512_unpackhi_epi8(e, f);
    const __m512i v0 = _mm512_unpacklo_epi16(low, low2), v1 = _mm512_unpackhi_epi16(low, low2), v2 = _mm512_unpacklo_epi16(high, high2),
                  v3 = _mm512_unpackhi_epi16(high, high2);
    LATHE_UNROLL(2)
    for (int r = 0; r < R; ++r) {
      const int k = i - r;  // the window's line
      if (k < 0 || k > 2) continue;
      LATHE_UNROLL(2)
      for (int p = 0; p < C; ++p) s[r][p] = add_four<1>(s[r][p], v0, v1, v2, v3, filters.bytes[p][k]);
    }
  }
  LATHE_UNROLL(2)
  for (int r = 0; r < R; ++r) {
    LATHE_UNROLL(2)
    for (int p = 0; p < C; ++p) {
      const int64_t row = (image * w.out_h + oy + r) * w.out_w + ox + p;
      finish_chunk<kWhole>(g, factors, s[r][p], row, c, 0, count);
    }
  }
}

template <bool kWhole, bool kSigned, int R>
void tiles_of_lines(const Depthwise8Arguments& g, const ByteFactors<kChunk8>& factors, const int32_t* start, const LineFilters& filters,
                    int64_t image, int64_t oy, int64_t c, int64_t count) {
  int64_t ox = 0;
  for (; ox + 2 <= g.window->out_w; ox += 2) tile3x3<kWhole, kSigned, R, 2>(g, factors, start, filters, image, oy, ox, c, count);
  if (ox < g.window->out_w) tile3x3<kWhole, kSigned, R, 1>(g, factors, start, filters, image, oy, ox, c, count);
}

// A chunk of channels of all lines, then the next.
template <bool kSigned>
void by_tiles3x3(const Depthwise8Arguments& g) {
  const PackedFilters8& w = g.filters;
  const auto a_zero = static_cast<uint32_t>(g.a_zero + (kSigned ? 128 : 0));
  const int64_t height = g.window->out_h, from = g.row_begin / g.window->out_w, until = g.row_end / g.window->out_w;
  alignas(64) int32_t start[kChunk8];
  ByteFactors<kChunk8> factors;
  for (int64_t c = 0; c < w.channels; c += kChunk8) {
    const int64_t count = std::min(kChunk8, w.channels - c);
    std::fill_n(start, kChunk8, 0);
    for (int64_t j = 0; j < count; ++j) {
      const auto bias = static_cast<uint32_t>(g.bias && !g.reals ? g.bias[c + j] : 0);
      start[interleaved_place(j)] = static_cast<int32_t>(bias - a_zero * static_cast<uint32_t>(w.sums[c + j]));
    }
    if (g.out) factors.set(g, c, count, [](int64_t j) { return interleaved_place(j); });
    const LineFilters filters(w.bytes + c / kChunk8 * 3 * 256);
    for (int64_t line = from; line < until;) {
      const int64_t image = line / height, oy = line % height;
      const bool two = line + 1 < until && oy + 1 < height;
      const auto run = count == kChunk8 ? (two ? tiles_of_lines<true, kSigned, 2> : tiles_of_lines<true, kSigned, 1>)
                                        : (two ? tiles_of_lines<false, kSigned, 2> : tiles_of_lines<false, kSigned, 1>);
      run(g, factors, start, filters, image, oy, c, count);
      line += two ? 2 : 1;
    }
  }
}

template <bool kSigned, int kParts>
void by_four_bytes(const Depthwise8Arguments& g) {
  const PackedFilters8& w = g.filters;
  const auto a_zero = static_cast<uint32_t>(g.a_zero + (kSigned ? 128 : 0));
  const uint8_t* taps[kMostTapsDepthwise8];
  alignas(64) int32_t start[kLine];
  Factors factors;
  const auto place = [](int64_t j) { return j / kChunk8 * kChunk8 + interleaved_place(j % kChunk8); };
  for (int64_t from = 0; from < w.channels; from += kLine) {
    const int64_t until = std::min(w.channels, from + kLine);
    std::fill_n(start, kLine, 0);
    for (int64_t c = from; c < until; ++c) {
      const auto bias = static_cast<uint32_t>(g.bias && !g.reals ? g.bias[c] : 0);
      start[place(c - from)] = static_cast<int32_t>(bias - a_zero * static_cast<uint32_t>(w.sums[c]));
    }
    if (g.out) factors.set(g, from, until - from, place);
    Taps<kMostTapsDepthwise8> pixels(*g.window, w.taps, g.row_begin);
    for (int64_t row = g.row_begin; row < g.row_end; ++row) {
      pixels.next(taps);
      int64_t c = from;
      for (; c + kChunk8 <= until; c += kChunk8) chunk8<true, kSigned, kParts>(g, factors, start, taps, row, c, c - from, kChunk8);
      if (c < until) chunk8<false, kSigned, kParts>(g, factors, start, taps, row, c, c - from, until - c);
    }
  }
}
#endif

LATHE_GIVES_WAY void Depthwise8Here(const Depthwise8Arguments& g) {
#if HWY_TARGET == HWY_AVX3
  if (g.filters.parts == 1 && g.whole_lines) g.a_signed ? by_tiles3x3<true>(g) : by_tiles3x3<false>(g);
  else if (g.filters.parts == 1) g.a_signed ? by_four_bytes<true, 1>(g) : by_four_bytes<false, 1>(g);
  else if (g.filters.parts == 2) g.a_signed ? by_four_bytes<true, 2>(g) : by_four_bytes<false, 2>(g);
  else if (g.a_signed) by_floats<true>(g);
#else
  if (g.a_signed) by_floats<true>(g);
#endif
  else by_floats<false>(g);
  if (!g.epilogue.tape || !g.reals) return;
  tape_over_rows(g.epilogue, run_tape(kHere), g.reals + g.row_begin * g.ldc, g.ldc, g.row_begin, g.row_end - g.row_begin, 0,
                 g.filters.channels);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

Depthwise8 depthwise8(Isa isa) { return LATHE_SELECT(isa, Depthwise8Here); }

namespace {
// The byte of a chunk's group of taps that stands for this tap of this channel of the chunk.
int64_t filter_place(int64_t tap, int64_t channel) { return channel % 16 / 4 * 64 + (channel / 16 * 4 + channel % 4) * 4 + tap % 4; }
int64_t filter_group(int parts, int64_t taps, int64_t tap, int64_t channel) {
  return (channel / kChunk8 * ((taps + 3) / 4) + tap / 4) * 256 * parts;
}
int64_t filter_numbers(int parts, int64_t taps, int64_t channels) {
  return parts == 0 ? taps * channels : (channels + kChunk8 - 1) / kChunk8 * ((taps + 3) / 4) * 64 * parts;
}
}  // namespace

int parts_of_filters8(Isa isa, bool fit) { return !is_avx512(isa) || !has_int8_dot() ? 0 : fit ? 1 : 2; }

int64_t packed_filters8_numbers(int parts, int64_t taps, int64_t channels) { return filter_numbers(parts, taps, channels) + channels; }

PackedFilters8 packed_filters8(int parts, int64_t taps, int64_t channels, const int32_t* at) {
  PackedFilters8 p{parts, taps, channels, nullptr, nullptr, at + filter_numbers(parts, taps, channels)};
  if (parts == 0) p.floats = reinterpret_cast<const float*>(at);
  else p.bytes = reinterpret_cast<const int8_t*>(at);
  return p;
}

void pack_filters8(int parts, const int16_t* filters, int64_t taps, int64_t channels, int32_t* to) {
  std::fill_n(to, packed_filters8_numbers(parts, taps, channels), 0);
  int32_t* sums = to + filter_numbers(parts, taps, channels);
  for (int64_t c = 0; c < channels; ++c) {
    for (int64_t t = 0; t < taps; ++t) {
      int w = filters[c * taps + t];
      sums[c] += w;
      if (parts == 0) reinterpret_cast<float*>(to)[t * channels + c] = static_cast<float>(w);
      int8_t* group = reinterpret_cast<int8_t*>(to) + filter_group(parts, taps, t, c) + filter_place(t, c % kChunk8);
      for (int part = 0; part < parts; ++part) {
        const int piece = std::clamp(w, -128, 127);
        group[part * 256] = static_cast<int8_t>(piece);
        w -= piece;
      }
    }
  }
}

int16_t unpacked_filter8(const PackedFilters8& p, int64_t tap, int64_t channel) {
  if (p.parts == 0) return static_cast<int16_t>(p.floats[tap * p.channels + channel]);
  const int8_t* group = p.bytes + filter_group(p.parts, p.taps, tap, channel) + filter_place(tap, channel % kChunk8);
  int sum = 0;
  for (int part = 0; part < p.parts; ++part) sum += group[part * 256];
  return static_cast<int16_t>(sum);
}

}  // namespace lathe::kernels
#endif
