#include "lower/steps/recurrent_kernel.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

namespace lathe::lower {

using kernels::GateOp;

void RecurrentKernel::multiply(const StepContext& c, const float* a, int64_t rows, int64_t depth, const Location& packed, int64_t columns,
                               const float* bias, float* out, int64_t ldc) const {
  const int64_t panels = (columns + width - 1) / width;
  // A step of a small layer is over before another thread has woken.
  const bool shared = c.workers.size() > 1 && static_cast<double>(rows * depth * columns) > least_shared;
  const int64_t row_pieces = shared && rows >= 64 ? std::min<int64_t>(rows / 16, c.workers.size() * 4) : 1;
  const int64_t panel_pieces = shared && row_pieces == 1 ? std::min<int64_t>(panels, c.workers.size()) : 1;
  const auto piece = [&](int64_t p) {
    kernels::DenseArguments d;
    d.a = a;
    d.lda = depth;
    d.run = depth;
    d.row_begin = rows * (p / panel_pieces) / row_pieces;
    d.row_end = rows * (p / panel_pieces + 1) / row_pieces;
    d.all_rows = rows;
    d.panel_begin = panels * (p % panel_pieces) / panel_pieces;
    d.panel_end = panels * (p % panel_pieces + 1) / panel_pieces;
    d.columns = columns;
    d.k_block = k_block;
    d.panel_block = std::max<int64_t>(1, block_bytes / (std::min<int64_t>(depth, d.k_block) * width * 4));
    d.b = pointer<const float>(c, packed);
    d.c = out;
    d.ldc = ldc;
    d.epilogue.bias = bias;
    dense(d);
  };
  if (row_pieces * panel_pieces == 1) return piece(0);
  c.workers.each(row_pieces * panel_pieces, [&](int64_t p, int) { piece(p); });
}

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

void RecurrentKernel::run_with(const StepContext& c, std::span<const Direction> directions) const {
  const int32_t* until = lengths ? pointer<const int32_t>(c, *lengths) : nullptr;
  for (int64_t b = 0; until && b < batch; ++b) {
    if (until[b] < 0 || until[b] > steps)
      throw Error({{Category::value, where, fmt::format("sequence length {} is outside 0..{}", until[b], steps)}});
  }
  const int64_t all = gate_count * hidden, cells = batch * hidden, count = static_cast<int64_t>(directions.size());
  auto* gx = reinterpret_cast<float*>(c.buffers[scratch]);
  float *gh = gx + steps * batch * all, *rh = gh + batch * all, *candidate = rh + cells, *h = candidate + cells, *next = h + cells,
        *state = next + cells;
  for (int64_t d = 0; d < count; ++d) {
    const Direction& w = directions[d];
    multiply(c, pointer<const float>(c, x), steps * batch, in, w.input, all, w.input_bias.data(), gx, all);
    const auto start = [&](bool has, const Location& place, float* to) {
      if (has) std::memcpy(to, pointer<const float>(c, place) + d * cells, static_cast<size_t>(cells) * sizeof(float));
      else std::memset(to, 0, static_cast<size_t>(cells) * sizeof(float));
    };
    start(has_h0, h0, h);
    if (op == GateOp::lstm) start(has_c0, c0, state);
    for (int64_t s = 0; s < steps; ++s) {
      const int64_t t = w.backwards ? steps - 1 - s : s;
      multiply(c, h, batch, hidden, w.state, late ? 2 * hidden : all, w.state_bias.empty() ? nullptr : w.state_bias.data(), gh, all);
      kernels::GateArguments g;
      g.hidden = hidden;
      g.clip = clip;
      g.coupled = coupled;
      std::ranges::copy(w.functions, g.functions);
      g.peephole = w.peephole.empty() ? nullptr : w.peephole.data();
      const auto each_row = [&](GateOp what, float* out) {
        g.op = what;
        for (int64_t b = 0; b < batch; ++b) {
          if (until && t >= until[b]) {  // not begun yet, or over: the state stays
            std::memcpy(out + b * hidden, h + b * hidden, static_cast<size_t>(hidden) * sizeof(float));
            continue;
          }
          g.x = gx + (t * batch + b) * all;
          g.r = gh + b * all;
          g.candidate = candidate + b * hidden;
          g.before = h + b * hidden;
          g.cell = state + b * hidden;
          g.out = out + b * hidden;
          gates(g);
        }
      };
      if (late) {
        each_row(GateOp::reset, rh);
        multiply(c, rh, batch, hidden, w.late, hidden, nullptr, candidate, hidden);
      }
      each_row(op, next);
      std::swap(h, next);
      if (!has_y) continue;
      float* to = pointer<float>(c, y) + (t * count + d) * cells;
      std::memcpy(to, h, static_cast<size_t>(cells) * sizeof(float));
      for (int64_t b = 0; until && b < batch; ++b) {
        if (t >= until[b]) std::memset(to + b * hidden, 0, static_cast<size_t>(hidden) * sizeof(float));
      }
    }
    if (has_last_h) std::memcpy(pointer<float>(c, last_h) + d * cells, h, static_cast<size_t>(cells) * sizeof(float));
    if (has_last_c) std::memcpy(pointer<float>(c, last_c) + d * cells, state, static_cast<size_t>(cells) * sizeof(float));
  }
}

}  // namespace lathe::lower
