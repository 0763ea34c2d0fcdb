// Depthwise convolution of 8-bit pictures, channels-last: each channel with a filter of its own.
#pragma once

#include <cstdint>

#include "kernels/dense8.hpp"

namespace lathe::kernels {

// Where sums are taken in f32, they are exact as long as each stays below 2^24.
inline constexpr int64_t kMostTapsDepthwise8 = 128;
inline constexpr int64_t kChunk8 = 64;  // channels whose bytes are interleaved together

// Filters packed, where somebody else keeps them: as floats [taps][channels]; or, where there is an instruction that multiplies four bytes
// and adds them up, as signed bytes, four taps of each channel side by side, for 64 channels at a time; filters that do not fit such bytes
// as the sum of two.
struct PackedFilters8 {
  int parts = 0;  // of bytes; 0: floats
  int64_t taps = 0, channels = 0;
  const float* floats = nullptr;
  const int8_t* bytes = nullptr;  // [channels / 64, rounded up][taps / 4, rounded up][parts][256], in the order of interleaved bytes
  const int32_t* sums = nullptr;  // of each channel's taps
};
// `fit`: all of them are known to lie in -128 .. 127.
int parts_of_filters8(Isa isa, bool fit);
// Filters are [channels][taps], less their zero points, each of at most 255 in size.
int64_t packed_filters8_numbers(int parts, int64_t taps, int64_t channels);  // 32-bit numbers they take
void pack_filters8(int parts, const int16_t* filters, int64_t taps, int64_t channels, int32_t* to);
PackedFilters8 packed_filters8(int parts, int64_t taps, int64_t channels, const int32_t* at);  // aligned to 64 bytes
int16_t unpacked_filter8(const PackedFilters8& filters, int64_t tap, int64_t channel);

// sums[m, c] = sum over taps t of (x[m, t, c] - a_zero) * w[t, c]; then as ByteResult has it.
// Preconditions: 1 <= taps <= kMostTapsDepthwise8; what stands in the padding is a_zero; results overlap no operand. Reads
// `channels` bytes at each tap and nothing past them. No allocation, no exception.
struct Depthwise8Arguments : ByteResult {
  const WindowRowsOf<uint8_t>* window = nullptr;
  bool a_signed = false;
  int32_t a_zero = 0;
  PackedFilters8 filters;
  // A window of 3x3 neighbours that moves by one pixel, over pictures, and rows that begin and end with lines of results.
  bool whole_lines = false;
  int64_t row_begin = 0, row_end = 0;
};
using Depthwise8 = void (*)(const Depthwise8Arguments&);
Depthwise8 depthwise8(Isa isa);

}  // namespace lathe::kernels
