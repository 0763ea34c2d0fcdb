// The tape: a short register program for a connected set of elementwise ops, run over strips that stay in L1.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

#include "kernels/isa.hpp"

namespace lathe::kernels {

enum class TapeOp : uint8_t {
  copy,
  neg,
  abs,
  sqrt,
  reciprocal,
  exp,
  log,
  tanh,
  sigmoid,
  erf,
  floor,
  ceil,
  round,
  sign,
  relu,
  leaky_relu,
  elu,
  celu,
  selu,
  softplus,
  softsign,
  hard_sigmoid,
  hard_swish,
  clip,
  mish,
  gelu,
  gelu_tanh,
  threshold,
  dequantise,   // (x - p) * q
  quantise_u8,  // divide by q, round, add the zero point p, clamp; NaN gives the zero point
  quantise_i8,
  round_f16,   // to the nearest f16, and back
  round_bf16,  // to the nearest bf16, and back
  sin,
  cos,
  tan,
  atan,
  asin,
  acos,
  sinh,
  cosh,
  asinh,
  acosh,
  atanh,
  shrink,   // below -p, plus q; above p, less q; else 0
  bit_not,  // whole numbers alone, and the three below
  is_nan,
  is_inf,  // p: below zero counts; q: above
  logical_not,
  add,
  sub,
  mul,
  div,
  min,
  max,
  pow,
  mod,  // p 0: the sign of the divisor, else that of the dividend. Whole numbers: the divisor is not 0
  prelu,
  less,
  less_equal,
  greater,
  greater_equal,
  equal,
  logical_and,
  logical_or,
  logical_xor,
  bit_and,
  bit_or,
  bit_xor,
  shift_left,  // as numbers without a sign; by more bits than there are: 0
  shift_right,
  where,
};

// What a strip is read from and written to; in between all is what the tape computes in. A boolean is read as 0 or 1. Written numbers are
// rounded to the nearest (f16, bf16); integers drop the fraction, saturate at 64 bits, then wrap, and NaN is 0.
// (u64 is written from whole numbers alone.)
enum class TapeType : uint8_t { f32, boolean, u8, i8, i16, u16, u32, u64, f16, bf16, i32, i64, f64 };

int arity(TapeOp op);

// Slots: the first `inputs` are operands, the rest scratch strips. Bools are 0 and 1.
struct TapeStep {
  TapeOp op;
  uint8_t out, a, b, c;
  float p = 0, q = 0;  // the op's attributes (alpha and gamma, low and high, ...)
};

struct TapeParts;
struct Tape {
  int inputs = 0, slots = 0;
  std::vector<TapeStep> steps;
  uint8_t result = 0;                        // slot of the last step's output
  TapeType compute = TapeType::f32;          // what slots hold: f32, f64, i32 or i64
  std::shared_ptr<const TapeParts> parts{};  // or null
};

// A tape in two, where all that comes after a step that quantises depends on its bytes and on operands that may be single values: then
// those 256 bytes are all there is to compute. Operand 0 of `after` is what `before` makes; the others are operands of the tape.
struct TapeParts {
  Tape before, after;
  TapeType between = TapeType::u8;
  std::vector<uint8_t> operands;
};

inline constexpr int64_t kStrip = 256;  // elements a slot has room for when all slots are in use
inline constexpr int kMaxSlots = 24;

inline int64_t bytes_of(TapeType type) {
  switch (type) {
    case TapeType::boolean:
    case TapeType::u8:
    case TapeType::i8: return 1;
    case TapeType::i16:
    case TapeType::u16:
    case TapeType::f16:
    case TapeType::bf16: return 2;
    case TapeType::f32:
    case TapeType::u32:
    case TapeType::i32: return 4;
    case TapeType::u64:
    case TapeType::i64:
    case TapeType::f64: return 8;
  }
  return 1;
}

// One operand of a strip. Stride is in elements: 1, 0 (one value for all) or any other.
// Preconditions: pointers aligned to the element; an operand is read at count elements, `stride` apart, and nowhere else.
struct TapeOperand {
  const void* data;
  int64_t stride;
  TapeType type;
};

// Runs the tape over `count` elements and writes them contiguously to `out`; `out` may be the same memory as an operand of stride 1 whose
// elements are as wide. No allocation.
using RunTape = void (*)(const Tape& tape, const TapeOperand* operands, void* out, TapeType out_type, int64_t count);
RunTape run_tape(Isa isa);  // in f32
// Whole numbers wrap when they overflow; doubles go by the C library's functions, as plain evaluation has it.
RunTape run_tape_in(TapeType compute, Isa isa);

}  // namespace lathe::kernels
