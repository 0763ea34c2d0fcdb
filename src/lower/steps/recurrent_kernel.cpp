#include "lower/steps/recurrent_kernel.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

namespace lathe::lower {

using kernels::GateOp;

std::array<int64_t, 3> RecurrentKernel::panel_floats() const {
  const int64_t all = gate_count * hidden;
  return {kernels::packed_size(in, all, width), kernels::packed_size(hidden, late ? 2 * hidden : all, width),
          late ? kernels::packed_size(hidden, hidden, width) : 0};
}

void RecurrentKernel::take_biases(Direction& to, const float* bias) const {
  const int64_t all = gate_count * hidden;
  const bool after = op == GateOp::gru_after;
  to.input_bias.assign(static_cast<size_t>(all), 0);
  if (bias == nullptr) return;
  const float* state_bias = bias + all;
  for (int64_t i = 0; i < all; ++i) to.input_bias[i] = bias[i] + (after && i >= 2 * hidden ? 0.0f : state_bias[i]);
  if (!after) return;
  to.state_bias.assign(static_cast<size_t>(all), 0);
  std::copy_n(state_bias + 2 * hidden, hidden, to.state_bias.begin() + 2 * hidden);
}

std::vector<Direction> RecurrentKernel::packed_now(const StepContext& c) const {
  std::vector<Direction> now = directions;
  const int64_t all = gate_count * hidden;
  const auto sizes = panel_floats();
  int64_t at = 0;
  for (size_t d = 0; d < now.size(); ++d) {
    const auto pack = [&](const float* from, int64_t depth, int64_t rows, int64_t size) {
      const Location to{made->panels, static_cast<size_t>(at) * sizeof(float)};
      const int64_t panels = (rows + width - 1) / width;
      c.workers.each(panels,
                     [&](int64_t p, int) { kernels::pack_panels(from, 1, depth, depth, rows, width, pointer<float>(c, to), p, p + 1); });
      at += size;
      return to;
    };
    const auto nth = static_cast<int64_t>(d);
    now[d].input = pack(pointer<const float>(c, made->input) + nth * all * in, in, all, sizes[0]);
    const float* state = pointer<const float>(c, made->state) + nth * all * hidden;
    now[d].state = pack(state, hidden, late ? 2 * hidden : all, sizes[1]);
    if (late) now[d].late = pack(state + 2 * hidden * hidden, hidden, hidden, sizes[2]);
    take_biases(now[d], made->has_bias ? pointer<const float>(c, made->bias) + nth * 2 * all : nullptr);
    if (made->has_peephole) {
      const float* p = pointer<const float>(c, made->peephole) + nth * 3 * hidden;
      now[d].peephole.assign(p, p + 3 * hidden);
    }
  }
  return now;
}

void RecurrentKernel::run(const StepContext& c) const {
  if (made) run_with(c, packed_now(c));
  else run_with(c, directions);
}

namespace {

// One direction's way through the steps.
class Walk {
 public:
  Walk(const RecurrentKernel& kernel, const StepContext& context, const Direction& weights, int64_t nth, float* scratch)
      : k_(kernel), c_(context), w_(weights), nth_(nth), all_(k_.gate_count * k_.hidden), cells_(k_.batch * k_.hidden), gx_(scratch) {
    gh_ = gx_ + k_.steps * k_.batch * all_, rh_ = gh_ + k_.batch * all_, candidate_ = rh_ + cells_, h_ = candidate_ + cells_;
    next_ = h_ + cells_, state_ = next_ + cells_;
    until_ = k_.lengths ? pointer<const int32_t>(c_, *k_.lengths) : nullptr;
    gates_.hidden = k_.hidden;
    gates_.clip = k_.clip;
    gates_.coupled = k_.coupled;
    std::ranges::copy(w_.functions, gates_.functions);
    gates_.peephole = w_.peephole.empty() ? nullptr : w_.peephole.data();
  }

  // What the inputs of all steps give the gates.
  void multiply_inputs() const {
    const int64_t rows = k_.steps * k_.batch;
    const auto whole = product(pointer<const float>(c_, k_.x), rows, k_.in, w_.input, all_, w_.input_bias.data(), gx_);
    c_.workers.each(k_.row_tasks, [&](int64_t task, int) {
      kernels::DenseArguments some = whole;
      some.row_begin = rows * task / k_.row_tasks, some.row_end = rows * (task + 1) / k_.row_tasks;
      k_.dense(some);
    });
  }

  void run(int64_t directions) {
    start(k_.has_h0, k_.h0, h_);
    if (k_.op == GateOp::lstm) start(k_.has_c0, k_.c0, state_);
    const auto by_state = [&] {
      return product(h_, k_.batch, k_.hidden, w_.state, k_.late ? 2 * k_.hidden : all_,
                     w_.state_bias.empty() ? nullptr : w_.state_bias.data(), gh_);
    };
    for (int64_t s = 0; s < k_.steps; ++s) {
      now_ = w_.backwards ? k_.steps - 1 - s : s;
      y_ = k_.has_y ? pointer<float>(c_, k_.y) + (now_ * directions + nth_) * cells_ : nullptr;
      if (k_.late) {
        advance(by_state(), GateOp::reset, rh_);
        advance(product(rh_, k_.batch, k_.hidden, w_.late, k_.hidden, nullptr, candidate_), k_.op, next_);
      } else {
        advance(by_state(), k_.op, next_);
      }
      std::swap(h_, next_);
    }
    const auto bytes = static_cast<size_t>(cells_) * sizeof(float);
    if (k_.has_last_h) std::memcpy(pointer<float>(c_, k_.last_h) + nth_ * cells_, h_, bytes);
    if (k_.has_last_c) std::memcpy(pointer<float>(c_, k_.last_c) + nth_ * cells_, state_, bytes);
  }

 private:
  void start(bool has, const Location& from, float* to) const {
    if (has) std::memcpy(to, pointer<const float>(c_, from) + nth_ * cells_, static_cast<size_t>(cells_) * sizeof(float));
    else std::memset(to, 0, static_cast<size_t>(cells_) * sizeof(float));
  }

  // Of as many columns as `out` has side by side, or (the gates that do not wait for the candidate) fewer.
  kernels::DenseArguments product(const float* a, int64_t rows, int64_t depth, const Location& packed, int64_t columns, const float* bias,
                                  float* out) const {
    kernels::DenseArguments d;
    d.a = a;
    d.lda = d.run = depth;
    d.row_end = d.all_rows = rows;
    d.panel_end = (columns + k_.width - 1) / k_.width;
    d.columns = columns;
    d.k_block = k_.k_block;
    d.panel_block = std::max<int64_t>(1, k_.block_bytes / (std::min<int64_t>(depth, d.k_block) * k_.width * 4));
    d.b = pointer<const float>(c_, packed);
    d.c = out;
    d.ldc = out == candidate_ ? k_.hidden : all_;
    d.epilogue.bias = bias;
    return d;
  }

  // A product with some gates' weights, and what follows it.
  void advance(const kernels::DenseArguments& whole, GateOp what, float* out) const {
    const int64_t tasks = k_.unit_tasks;
    if (tasks == 1) {
      k_.dense(whole);
      return do_gates(what, out, 0, k_.hidden);
    }
    const int64_t panels = k_.whole_panels() ? k_.hidden / k_.width : whole.panel_end;  // of a gate, or of all
    c_.workers.each(tasks, [&](int64_t task, int) {
      kernels::DenseArguments some = whole;
      const int64_t begin = panels * task / tasks, end = panels * (task + 1) / tasks;
      for (int64_t gate = 0; gate < whole.panel_end; gate += panels) {
        some.panel_begin = gate + begin, some.panel_end = gate + end;
        const int64_t next = gate + panels < whole.panel_end ? some.panel_begin + panels : begin;  // of the step that follows, the first
        some.next_b = static_cast<const float*>(whole.b) + next * whole.run * k_.width;
        k_.dense(some);
      }
      if (k_.whole_panels()) do_gates(what, out, begin * k_.width, end * k_.width);
    });
    if (k_.whole_panels()) return;
    c_.workers.each(tasks, [&](int64_t task, int) { do_gates(what, out, k_.hidden * task / tasks, k_.hidden * (task + 1) / tasks); });
  }

  // For units [begin, end) of every sequence.
  void do_gates(GateOp what, float* out, int64_t begin, int64_t end) const {
    kernels::GateArguments g = gates_;
    g.op = what;
    g.begin = begin, g.end = end;
    const auto bytes = static_cast<size_t>(end - begin) * sizeof(float);
    for (int64_t b = 0; b < k_.batch; ++b) {
      const int64_t row = b * k_.hidden, first = row + begin;
      const bool stays = until_ && now_ >= until_[b];  // not begun yet, or over
      if (stays) {
        std::memcpy(out + first, h_ + first, bytes);
      } else {
        g.x = gx_ + (now_ * k_.batch + b) * all_;
        g.r = gh_ + b * all_;
        g.candidate = candidate_ + row;
        g.before = h_ + row;
        g.cell = state_ + row;
        g.out = out + row;
        k_.gates(g);
      }
      if (what == GateOp::reset || y_ == nullptr) continue;
      if (stays) std::memset(y_ + first, 0, bytes);
      else std::memcpy(y_ + first, out + first, bytes);
    }
  }

  const RecurrentKernel& k_;
  const StepContext& c_;
  const Direction& w_;
  int64_t nth_, all_, cells_, now_ = 0;
  float *gx_, *gh_ = nullptr, *rh_ = nullptr, *candidate_ = nullptr, *h_ = nullptr, *next_ = nullptr, *state_ = nullptr, *y_ = nullptr;
  const int32_t* until_ = nullptr;
  kernels::GateArguments gates_;
};

}  // namespace

void RecurrentKernel::run_with(const StepContext& c, std::span<const Direction> directions) const {
  const int32_t* until = lengths ? pointer<const int32_t>(c, *lengths) : nullptr;
  for (int64_t b = 0; until && b < batch; ++b) {
    if (until[b] < 0 || until[b] > steps)
      throw Error({{Category::value, where, fmt::format("sequence length {} is outside 0..{}", until[b], steps)}});
  }
  const auto count = static_cast<int64_t>(directions.size());
  auto* room = reinterpret_cast<float*>(c.buffers[scratch]);
  if (direction_tasks == 1) {
    for (int64_t d = 0; d < count; ++d) {
      Walk walk(*this, c, directions[static_cast<size_t>(d)], d, room);
      walk.multiply_inputs();
      walk.run(count);
    }
    return;
  }
  std::array walks{Walk(*this, c, directions[0], 0, room), Walk(*this, c, directions[1], 1, room + direction_floats())};
  for (const Walk& walk : walks) walk.multiply_inputs();
  c.workers.each(count, [&](int64_t d, int) { walks[static_cast<size_t>(d)].run(count); });
}

}  // namespace lathe::lower
