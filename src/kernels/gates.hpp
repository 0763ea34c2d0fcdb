// What recurrent layers do between their products: gates, element by element. fp32.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// rnn: h = tanh(x + r). gru: gates z, r, h; `reset` works out r * h for the candidate's own product, `gru` finishes with it, `gru_after`
// is the form whose candidate was multiplied before the reset. lstm: gates i, o, f, c.
enum class GateOp { rnn, reset, gru, gru_after, lstm };

struct GateArguments {
  GateOp op = GateOp::rnn;
  int64_t hidden = 0;
  const float* x = nullptr;          // input's share of the gates, biases in it: [gates * hidden]
  const float* r = nullptr;          // the state's share: [gates * hidden]
  const float* candidate = nullptr;  // gru: the state's share of the candidate: [hidden]
  const float* before = nullptr;     // h of the step before
  const float* peephole = nullptr;   // lstm, may be null: i, o, f
  float* cell = nullptr;             // lstm: c, rewritten
  float* out = nullptr;              // h, or r * h for `reset`
};

using Gates = void (*)(const GateArguments&);
Gates gates(Isa isa);

}  // namespace lathe::kernels
