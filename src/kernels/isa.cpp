#include "kernels/isa.hpp"

#include <hwy/detect_targets.h>

#if HWY_ARCH_X86
#include <cpuid.h>
#endif

#include "kernels/tiles.hpp"

namespace lathe::kernels {
namespace {

#if HWY_ARCH_X86
// What processor and operating system have, of the sets that are compiled. (Highway's own answer is in its shared library alone, which
// programs that are linked statically do without.)
int64_t supported() {
  unsigned a = 0, b = 0, c = 0, d = 0;
  if (!__get_cpuid(1, &a, &b, &c, &d)) return 0;
  const auto all = [](unsigned have, unsigned want) { return (have & want) == want; };
  constexpr unsigned kSse4 = 1u << 0 | 1u << 1 | 1u << 9 | 1u << 19 | 1u << 20 | 1u << 25;  // SSE3, CLMUL, SSSE3, SSE4.1, SSE4.2, AES
  constexpr unsigned kAvx = 1u << 12 | 1u << 27 | 1u << 28 | 1u << 29;                      // FMA, OSXSAVE, AVX, F16C
  constexpr unsigned kAvx2 = 1u << 3 | 1u << 5 | 1u << 8;                                   // BMI1, AVX2, BMI2
  constexpr unsigned kAvx3 = 1u << 16 | 1u << 17 | 1u << 28 | 1u << 30 | 1u << 31;          // AVX-512 F, DQ, CD, BW, VL
  constexpr unsigned kYmm = 0x6, kZmm = 0xe6;                                               // registers that the system saves
  int64_t have = 0;
  if (!all(c, kSse4)) return have;
  have |= HWY_SSE4;
  unsigned features = 0;
  if (!all(c, kAvx) || !__get_cpuid_count(7, 0, &a, &features, &b, &d) || !all(features, kAvx2)) return have & HWY_TARGETS;
  unsigned saved = 0, high = 0;
  asm volatile("xgetbv" : "=a"(saved), "=d"(high) : "c"(0));
  if (!all(saved, kYmm)) return have & HWY_TARGETS;
  have |= HWY_AVX2;
  if (all(features, kAvx3) && all(saved, kZmm)) have |= HWY_AVX3;
  return have & HWY_TARGETS;
}
#endif

}  // namespace

std::string_view name(Isa isa) {
  switch (isa) {
    case Isa::amx: return "amx";
    case Isa::avx512: return "avx512";
    case Isa::avx2: return "avx2";
    case Isa::sse4: return "sse4";
    case Isa::neon: return "neon";
    case Isa::simd128: return "simd128";
    default: return "scalar";
  }
}

std::optional<Isa> parse_isa(std::string_view text) {
  for (Isa isa : {Isa::scalar, Isa::sse4, Isa::avx2, Isa::avx512, Isa::amx, Isa::neon, Isa::simd128}) {
    if (text == name(isa)) return isa;
  }
  return std::nullopt;
}

LATHE_GIVES_WAY bool is_linked(Isa) { return true; }

const std::vector<Isa>& available() {
  static const std::vector<Isa> list = [] {
    std::vector<Isa> out{Isa::scalar};
#if HWY_ARCH_X86
    const int64_t have = supported();
    if (have & HWY_SSE4) out.push_back(Isa::sse4);
    if (have & HWY_AVX2) out.push_back(Isa::avx2);
    if (have & HWY_AVX3) {
      out.push_back(Isa::avx512);
      if (has_tiles()) out.push_back(Isa::amx);
    }
#elif HWY_ARCH_ARM_A64
    // Every one has it. (Highway asks for encryption too, which small boards lack and no kernel uses.)
    out.push_back(Isa::neon);
#elif defined(__wasm_simd128__)
    out.push_back(Isa::simd128);  // a module with it is not even loaded where there is none
#endif
    std::erase_if(out, [](Isa isa) { return isa != Isa::scalar && !is_linked(isa); });
    return out;
  }();
  return list;
}

}  // namespace lathe::kernels
