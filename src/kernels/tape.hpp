// The tape: a short register program for a connected set of elementwise ops, run over strips that stay in L1.
#pragma once

#include <cstddef>
#include <cstdint>
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
  logical_not,
  add,
  sub,
  mul,
  div,
  min,
  max,
  pow,
  prelu,
  less,
  less_equal,
  greater,
  greater_equal,
  equal,
  logical_and,
  logical_or,
  logical_xor,
  where,
};

int arity(TapeOp op);

// Slots: the first `inputs` are operands, the rest scratch strips. Bools are 0 and 1.
struct TapeStep {
  TapeOp op;
  uint8_t out, a, b, c;
  float p = 0, q = 0;  // the op's attributes (alpha and gamma, low and high, ...)
};

struct Tape {
  int inputs = 0, slots = 0;
  std::vector<TapeStep> steps;
  uint8_t result = 0;  // slot of the last step's output
};

inline constexpr int64_t kStrip = 256;  // elements a slot has room for when all slots are in use
inline constexpr int kMaxSlots = 24;

// One operand of a strip. Stride is in elements: 1, 0 (one value for all) or any other.
struct TapeOperand {
  const void* data;
  int64_t stride;
  bool is_bool;  // u8 elements, else f32
};

// Runs the tape over `count` elements and writes f32 (or u8 when `bool_out`) contiguously to `out`, which may be the
// same memory as an operand of stride 1. No allocation.
using RunTape = void (*)(const Tape& tape, const TapeOperand* operands, void* out, bool bool_out, int64_t count);
RunTape run_tape(Isa isa);

}  // namespace lathe::kernels
