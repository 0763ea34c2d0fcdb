// What recurrent steps run: one product for the inputs of all steps, then step by step a product with the state and the gates.
#pragma once

#include <array>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "kernels/dense.hpp"
#include "kernels/gates.hpp"
#include "lower/plan/step.hpp"

namespace lathe::lower {

// Weights of one direction, packed. `state` are the gates that use h as it is; `late` GRU's candidate, which uses r * h.
struct Direction {
  Location input, state, late;
  std::vector<float> input_bias, state_bias, peephole;
  std::array<kernels::GateFunction, 3> functions;
  bool backwards = false;
};

class RecurrentKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  kernels::Gates gates = nullptr;
  int64_t steps = 0, batch = 0, in = 0, hidden = 0, gate_count = 0, width = 0;
  kernels::GateOp op = kernels::GateOp::rnn;
  bool late = false;  // GRU: the candidate's product waits for the reset gate
  float clip = 0;
  bool coupled = false;
  std::optional<Location> lengths;  // of each sequence, when they are not all of all steps
  std::string where;
  std::vector<Direction> directions;
  // Weights that a run makes, packed anew each time: where they come from (biases and peepholes where there are any), and room for panels.
  struct Made {
    Location input, state, bias, peephole;
    bool has_bias = false, has_peephole = false;
    BufferId panels = kNoBuffer;
  };
  std::optional<Made> made;
  Location x, h0, c0, y, last_h, last_c;
  bool has_h0 = false, has_c0 = false, has_y = false, has_last_h = false, has_last_c = false;
  BufferId scratch = kNoBuffer;
  int64_t k_block = 0, block_bytes = 0;  // of packed weights, how many are passed over together
  int64_t row_tasks = 1;                 // of the product with all inputs
  int64_t direction_tasks = 1;           // as many as directions: side by side, without other tasks while they step; or 1
  int64_t unit_tasks = 1;                // of a step

  // Whether a gate's units are panels of their own: then a task takes some of them through all gates. Otherwise panels are shared out, and
  // the units when all of them are there.
  bool whole_panels() const { return hidden % width == 0; }
  // Floats of scratch, of a direction: gates of all inputs, gates of the state, r * h, the candidate, h, the next h, c.
  int64_t direction_floats() const { return steps * batch * gate_count * hidden + batch * gate_count * hidden + 5 * batch * hidden; }
  int64_t scratch_floats() const { return direction_tasks * direction_floats(); }
  // Floats of a direction's panels: of the input, of the state, of the candidate that waits.
  std::array<int64_t, 3> panel_floats() const;
  // Biases of a direction, out of all that the model has for it (or none): the state's joins the input's, but for a candidate that is
  // scaled by the reset gate.
  void take_biases(Direction& to, const float* bias) const;
  void run(const StepContext& c) const override;

 private:
  std::vector<Direction> packed_now(const StepContext& c) const;
  void run_with(const StepContext& c, std::span<const Direction> directions) const;
};

}  // namespace lathe::lower
