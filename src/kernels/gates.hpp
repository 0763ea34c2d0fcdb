// What recurrent layers do between their products: gates, element by element. fp32.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// rnn: h = tanh(x + r). gru: gates z, r, h; `reset` works out r * h for the candidate's own product, `gru` finishes with it, `gru_after`
// is the form whose candidate was multiplied before the reset. lstm: gates i, o, f, c.
enum class GateOp { rnn, reset, gru, gru_after, lstm };

// What a sum is put through. Named as the standard names them.
enum class GateCurve : uint8_t {
  sigmoid,
  tanh,
  relu,
  affine,
  leaky_relu,
  thresholded_relu,
  scaled_tanh,
  hard_sigmoid,
  elu,
  softsign,
  softplus
};
struct GateFunction {
  GateCurve curve = GateCurve::sigmoid;
  float alpha = 0, beta = 0;
};

// Preconditions: no alignment; all arrays of exactly the lengths given, none read or written outside the units to do; out may be `before`
// (each element is read before it is written), and overlaps nothing else.
struct GateArguments {
  GateOp op = GateOp::rnn;
  int64_t hidden = 0;
  int64_t begin = 0, end = 0;        // of the hidden units, those to do
  const float* x = nullptr;          // input's share of the gates, biases in it: [gates * hidden]
  const float* r = nullptr;          // the state's share: [gates * hidden]
  const float* candidate = nullptr;  // gru: the state's share of the candidate: [hidden]
  const float* before = nullptr;     // h of the step before
  const float* peephole = nullptr;   // lstm, may be null: i, o, f
  float* cell = nullptr;             // lstm: c, rewritten
  float* out = nullptr;              // h, or r * h for `reset`
  GateFunction functions[3];         // in the standard's order: rnn f; gru f, g; lstm f, g, h
  bool coupled = false;              // lstm: what is kept is what is not taken in
  float clip = 0;                    // what goes into gates and candidates is kept within [-clip, clip]; 0: as it is
};

using Gates = void (*)(const GateArguments&);
Gates gates(Isa isa);

}  // namespace lathe::kernels
