#include "kernels/probe.hpp"

#include <hwy/base.h>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/probe.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"
#include "kernels/tiles.hpp"

#if HWY_ARCH_X86
#include <immintrin.h>
#elif HWY_ARCH_ARM_A64
#include <sys/auxv.h>
#endif

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

LATHE_GIVES_WAY double BurnHere(int64_t rounds, float* sink) {
  const F32 d;
  constexpr int kChains = 12;  // latency times throughput of every core so far, with room
  VF acc[kChains];
#pragma GCC unroll 12
  for (int i = 0; i < kChains; ++i) acc[i] = hn::Set(d, static_cast<float>(i) + *sink);
  const VF m = hn::Set(d, 0.999f), a = hn::Set(d, 0.001f);
  for (int64_t r = 0; r < rounds; ++r) {
#pragma GCC unroll 12
    for (int i = 0; i < kChains; ++i) acc[i] = hn::MulAdd(acc[i], m, a);
  }
  VF sum = acc[0];
#pragma GCC unroll 12
  for (int i = 1; i < kChains; ++i) sum = hn::Add(sum, acc[i]);
  *sink = hn::GetLane(sum);
  return 2.0 * kChains * static_cast<double>(hn::Lanes(d)) * static_cast<double>(rounds);
}

LATHE_GIVES_WAY double ReadHere(const void* data, int64_t bytes, int64_t times, float* sink) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), n = bytes / 4;
  const auto* p = static_cast<const float*>(data);
  VF a[8];
#pragma GCC unroll 8
  for (int k = 0; k < 8; ++k) a[k] = hn::Zero(d);
  for (int64_t t = 0; t < times; ++t) {
    for (int64_t i = 0; i + 8 * lanes <= n; i += 8 * lanes) {
#pragma GCC unroll 8
      for (int k = 0; k < 8; ++k) a[k] = hn::Max(a[k], hn::LoadU(d, p + i + k * lanes));
    }
  }
  VF sum = a[0];
#pragma GCC unroll 8
  for (int k = 1; k < 8; ++k) sum = hn::Max(sum, a[k]);
  *sink = hn::GetLane(sum);
  return static_cast<double>(bytes) * static_cast<double>(times);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {

double burn_fma(Isa isa, int64_t rounds, float* sink) { return LATHE_SELECT(isa, BurnHere)(rounds, sink); }
double read_all(Isa isa, const void* data, int64_t bytes, int64_t times, float* sink) {
  return LATHE_SELECT(isa, ReadHere)(data, bytes, times, sink);
}

#if !HWY_ARCH_X86
double burn_bf16_tiles(Isa, int64_t) { return 0; }
#endif
#if HWY_ARCH_X86
bool has_int8_dot() { return is_avx512(best()) && __builtin_cpu_supports("avx512vnni"); }
bool permutes_bytes() { return is_avx512(best()) && __builtin_cpu_supports("avx512vbmi"); }

// Highway has no 8-bit dot product yet, hence the intrinsic.
__attribute__((target("avx512f,avx512vnni"))) static double burn_vnni(int64_t rounds, int32_t* sink) {
  constexpr int kChains = 12;
  __m512i acc[kChains];
#pragma GCC unroll 12
  for (int i = 0; i < kChains; ++i) acc[i] = _mm512_set1_epi32(i + *sink);
  const __m512i a = _mm512_set1_epi8(3), b = _mm512_set1_epi8(5);
  for (int64_t r = 0; r < rounds; ++r) {
#pragma GCC unroll 12
    for (int i = 0; i < kChains; ++i) acc[i] = _mm512_dpbusd_epi32(acc[i], a, b);
  }
  __m512i sum = acc[0];
#pragma GCC unroll 12
  for (int i = 1; i < kChains; ++i) sum = _mm512_add_epi32(sum, acc[i]);
  *sink = _mm512_cvtsi512_si32(sum);
  return 2.0 * kChains * 64 * static_cast<double>(rounds);
}

// Products of tiles of zeros: as fast as any.
template <typename F>
static double burn_tiles(int64_t rounds, double each, F products) {
  tiles::Shape shape;
  shape.take(tiles::kRows, tiles::kRows, tiles::kGroups);
  for (int64_t r = 0; r < rounds; ++r) products();
  return 2.0 * 4 * each * static_cast<double>(rounds);
}

double burn_int8_dot(Isa isa, int64_t rounds, int32_t* sink) {
  if (!is_avx512(isa) || !has_int8_dot()) return 0;
  if (isa != Isa::amx) return burn_vnni(rounds, sink);
  return burn_tiles(rounds, 16384, [] {
    tiles::add_bytes<false, 0, 4, 6>(), tiles::add_bytes<false, 1, 4, 7>();
    tiles::add_bytes<false, 2, 5, 6>(), tiles::add_bytes<false, 3, 5, 7>();
  });
}
double burn_bf16_tiles(Isa isa, int64_t rounds) {
  if (isa != Isa::amx) return 0;
  return burn_tiles(rounds, 8192, [] {
    tiles::add_halves<0, 4, 6>(), tiles::add_halves<1, 4, 7>();
    tiles::add_halves<2, 5, 6>(), tiles::add_halves<3, 5, 7>();
  });
}
#elif HWY_ARCH_ARM_A64
bool has_int8_dot() {
  constexpr unsigned long kDotProduct = 1ul << 20;  // HWCAP_ASIMDDP
  static const bool there = (getauxval(AT_HWCAP) & kDotProduct) != 0;
  return there;
}
bool permutes_bytes() { return false; }
double burn_int8_dot(Isa isa, int64_t rounds, int32_t* sink) {
  if (isa != Isa::neon || !has_int8_dot()) return 0;
  constexpr int kChains = 12;
  int32x4_t acc[kChains];
  for (int i = 0; i < kChains; ++i) acc[i] = vdupq_n_s32(i + *sink);
  const int8x16_t a = vdupq_n_s8(3), b = vdupq_n_s8(5);
  for (int64_t r = 0; r < rounds; ++r) {
#pragma GCC unroll 12
    for (int i = 0; i < kChains; ++i) asm(".arch armv8.2-a+dotprod\n\tsdot %0.4s, %1.16b, %2.16b" : "+w"(acc[i]) : "w"(a), "w"(b));
  }
  int32x4_t sum = acc[0];
  for (int i = 1; i < kChains; ++i) sum = vaddq_s32(sum, acc[i]);
  *sink = vaddvq_s32(sum);
  return 2.0 * kChains * 16 * static_cast<double>(rounds);
}
#else
bool has_int8_dot() { return false; }
bool permutes_bytes() { return false; }
double burn_int8_dot(Isa, int64_t, int32_t*) { return 0; }
#endif

}  // namespace lathe::kernels
#endif
