// Instruction sets: which ones this machine has, and which one a Program uses.
#pragma once

#include <optional>
#include <string_view>
#include <vector>

#include "base/gives_way.hpp"

namespace lathe::kernels {

// In rising order on each kind of processor. `scalar` is always there. `amx` is AVX-512 and tiles (kernels/tiles.hpp) beside it.
// `simd128`: WebAssembly's vectors.
enum class Isa { scalar, sse4, avx2, avx512, amx, neon, simd128 };

std::string_view name(Isa isa);
std::optional<Isa> parse_isa(std::string_view text);
// What the processor (and the operating system) can run, best last, of what the program has kernels for.
const std::vector<Isa>& available();
// Whether the program has kernels for it. A program for one archive has those of the archive's set alone.
bool is_linked(Isa isa);
inline Isa best() { return available().back(); }
// Whether there are vectors of 512 bits.
inline bool is_avx512(Isa isa) { return isa == Isa::avx512 || isa == Isa::amx; }

// Is told, by its name in kernels/entries.hpp, of each kernel that this thread selects; null: nobody asks.
inline constinit thread_local std::vector<std::string_view>* selected = nullptr;
inline void note_selected(std::string_view name) {
  if (selected != nullptr) selected->push_back(name);
}

}  // namespace lathe::kernels

// Picks one symbol out of the namespaces that Highway compiles a kernel file into, one per instruction set. Such symbols are defined with
// LATHE_GIVES_WAY, and listed in kernels/entries.hpp: a program for one instruction set leaves out those of the others.
#define LATHE_SELECT(isa, symbol) (note_selected(#symbol), LATHE_SELECT_OF(isa, symbol))
#if defined(__aarch64__)
#define LATHE_SELECT_OF(isa, symbol) ((isa) == Isa::neon ? N_NEON::symbol : N_SCALAR::symbol)
#elif defined(__wasm_simd128__)
#define LATHE_SELECT_OF(isa, symbol) ((isa) == Isa::simd128 ? N_WASM::symbol : N_SCALAR::symbol)
#elif defined(__wasm__)
#define LATHE_SELECT_OF(isa, symbol) (static_cast<void>(isa), N_SCALAR::symbol)
#elif defined(LATHE_ALONE)  // the one set that LATHE_ISA asks for
#define LATHE_SELECT_OF(isa, symbol) ((isa) == Isa::scalar ? N_SCALAR::symbol : LATHE_ALONE::symbol)
#else
#define LATHE_SELECT_OF(isa, symbol) \
  (is_avx512(isa) ? N_AVX3::symbol : (isa) == Isa::avx2 ? N_AVX2::symbol : (isa) == Isa::sse4 ? N_SSE4::symbol : N_SCALAR::symbol)
#endif
