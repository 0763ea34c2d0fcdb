#include "kernels/isa.hpp"

#include <hwy/targets.h>

#include "kernels/tiles.hpp"

namespace lathe::kernels {

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

const std::vector<Isa>& available() {
  static const std::vector<Isa> list = [] {
    std::vector<Isa> out{Isa::scalar};
#if HWY_ARCH_X86
    const auto have = hwy::SupportedTargets() & HWY_TARGETS;  // of those that are compiled
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
    return out;
  }();
  return list;
}

}  // namespace lathe::kernels
