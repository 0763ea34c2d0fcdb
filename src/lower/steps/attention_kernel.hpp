// Attention as a step runs it: blocks of keys pass over blocks of rows, and the softmax is carried along.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "kernels/attention.hpp"
#include "kernels/copy.hpp"
#include "kernels/dense.hpp"
#include "kernels/tape.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

// Fewer rows of queries take the keys as they are.
inline constexpr int64_t kFewRows = 8;
inline constexpr int64_t kScores = kernels::kNearStride;  // floats from a row of scores to the next

class AttentionKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  kernels::Soften soften = nullptr;
  kernels::Dots dots = nullptr;
  kernels::Mix mix = nullptr;
  // A state: keys and values of before, then those of now, put into one place each, which is what is attended to.
  struct Joined {
    kernels::CopyPlan plan;
    Location from, to;
  };
  std::vector<Joined> joined;
  // States of the lane instead: numbers of those of keys and values; -1: none.
  int64_t held_keys = -1, held_values = -1, kv_heads = 1, fresh = 0;
  ValueId long_mask = kAbsent;  // beside them: held as a Tensor
  std::string mask_name;
  // Rows of states that the model keeps in 16 bits are rounded as they are put there.
  std::optional<kernels::Tape> rounding;
  // Scores are capped: before a mask is added, or, as the op itself has it, after it and what lies ahead are hidden.
  std::optional<kernels::Tape> capping;
  bool hides_first = false;
  bool nan_weights_zero = false;  // weights that are no numbers count nothing
  kernels::RunTape run_tape = nullptr;
  int64_t past = 0;
  int64_t batch = 0, heads = 0, group = 1, length = 0, keys = 0, width = 0, value_width = 0, panel = 0, block_rows = 0;
  // Elements from one batch entry, head and row to the next.
  int64_t q_batch = 0, q_head = 0, q_row = 0, k_batch = 0, k_head = 0, k_row = 0, v_batch = 0, v_head = 0, v_row = 0, y_batch = 0,
          y_head = 0, y_row = 0;
  float scale = 1, blind = 0;
  bool causal = false, has_mask = false, mask_is_bool = false;
  int64_t mask_batch = 0, mask_head = 0, mask_row = 0;
  Location q, k, v, y, mask, scratch;
  int64_t pieces = 1;  // of the rows of a head, when there are few heads
  int64_t slots = 1;
  int64_t key_block = 256;  // keys passed over together: their scores and both packed operands stay in L2

  int64_t key_panels(int64_t n) const { return (n + panel - 1) / panel; }
  // Floats of scratch a slot takes: packed keys, packed values, scores, maxima and sums.
  int64_t slot_floats() const {
    return key_panels(key_block) * panel * width + key_panels(value_width) * panel * key_block + block_rows * kScores + 2 * piece_rows() +
           64;
  }
  int64_t piece_rows() const { return (length + pieces - 1) / pieces; }
  bool few() const { return length < kFewRows; }

  // What of it a run decides.
  struct Now {
    int64_t past = 0, keys = 0;
    const float *k = nullptr, *v = nullptr;
    int64_t k_batch = 0, k_head = 0, k_row = 0, v_batch = 0, v_head = 0, v_row = 0;
    const void* mask = nullptr;
    int64_t mask_batch = 0, mask_head = 0, mask_row = 0;
  };

  void run(const StepContext& c) const override;

 private:
  void by_tape(const kernels::Tape& tape, float* row, int64_t count) const;
  // A mask, and what lies ahead, on a row of scores.
  static void hide(const kernels::SoftenArguments& s, int64_t row, float* scores);
  // Puts what is new behind what is held, and reads both there.
  void hold(const StepContext& c, Now& now) const;
  void piece(const StepContext& c, const Now& now, int64_t slot, int64_t task) const;
};

}  // namespace lathe::lower
