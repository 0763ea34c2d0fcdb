// Loops that run at the machine's limits, for the probe: nothing but multiply-adds, nothing but reads.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// Runs `rounds` rounds of independent fp32 multiply-adds in registers; returns floating-point operations done
// (a multiply-add counts two). `sink` keeps the result alive.
double burn_fma(Isa isa, int64_t rounds, float* sink);
// 8-bit dot products with 32-bit sums (AVX-512 VNNI). Returns operations (two a product), 0 when there is no such instruction.
bool has_int8_dot();
// Whether any byte of 128 can be fetched for each of 64 at once.
bool permutes_bytes();
// By tiles where the instruction set has them.
double burn_int8_dot(Isa isa, int64_t rounds, int32_t* sink);
// The same of bf16 with sums in f32, by tiles; 0 when there are none.
double burn_bf16_tiles(Isa isa, int64_t rounds);
// Reads `bytes` (a multiple of 1024) with the widest loads, `times` over. Returns bytes read.
double read_all(Isa isa, const void* data, int64_t bytes, int64_t times, float* sink);

}  // namespace lathe::kernels
