#include "lower/steps/attention_kernel.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/fail.hpp"

namespace lathe::lower {

void AttentionKernel::run(const StepContext& c) const {
  Now now{past, keys, nullptr, nullptr, k_batch, k_head, k_row, v_batch, v_head, v_row, nullptr, mask_batch, mask_head, mask_row};
  if (held_keys >= 0) {
    hold(c, now);
  } else {
    now.k = pointer<const float>(c, k), now.v = pointer<const float>(c, v);
    if (has_mask) now.mask = pointer<const void>(c, mask);
  }
  for (const Joined& j : joined) {
    c.workers.each(j.plan.tasks, [&](int64_t task, int) {
      kernels::run_copy(j.plan, pointer<const char>(c, j.from), pointer<char>(c, j.to), task, task + 1);
    });
  }
  const int64_t tasks = batch * heads * pieces;
  c.workers.each(slots, [&](int64_t slot, int) {
    for (int64_t t = tasks * slot / slots; t < tasks * (slot + 1) / slots; ++t) piece(c, now, slot, t);
  });
}

void AttentionKernel::by_tape(const kernels::Tape& tape, float* row, int64_t count) const {
  const kernels::TapeOperand operand{row, 1, kernels::TapeType::f32};
  run_tape(tape, &operand, row, kernels::TapeType::f32, count);
}

void AttentionKernel::hide(const kernels::SoftenArguments& s, int64_t row, float* scores) {
  for (int64_t j = 0; j < s.columns; ++j) {
    if (s.mask != nullptr) scores[j] += s.mask[row * s.mask_stride + j];
    if ((s.keep != nullptr && s.keep[row * s.mask_stride + j] == 0) || j >= s.visible + row)
      scores[j] = -std::numeric_limits<float>::infinity();
  }
}

void AttentionKernel::hold(const StepContext& c, Now& now) const {
  const HeldStates& held = *c.held;
  const auto is_there = [&](int64_t slot, int64_t each) {
    return slot < static_cast<int64_t>(held.slots.size()) && held.each[static_cast<size_t>(slot)] == batch * kv_heads * each;
  };
  if (!is_there(held_keys, width) || !is_there(held_values, value_width) || held.positions + fresh > held.room)
    fail(Category::internal, "what the lane holds is not what this attention was compiled for");
  now.past = held.positions, now.keys = held.positions + fresh;
  float *keys_at = reinterpret_cast<float*>(held.slots[static_cast<size_t>(held_keys)]),
        *values_at = reinterpret_cast<float*>(held.slots[static_cast<size_t>(held_values)]);
  const float *new_keys = pointer<const float>(c, k), *new_values = pointer<const float>(c, v);
  const int64_t lines = batch * kv_heads;
  // A few rows are put there by one thread: waking others takes longer.
  constexpr int64_t kWorthSharing = 1 << 16;
  c.workers.each(lines * fresh * (width + value_width) < kWorthSharing ? 1 : c.workers.size(), [&](int64_t task, int) {
    const int64_t tasks = lines * fresh * (width + value_width) < kWorthSharing ? 1 : c.workers.size();
    for (int64_t line = lines * task / tasks; line < lines * (task + 1) / tasks; ++line) {
      const int64_t b = line / kv_heads, h = line % kv_heads;
      for (int64_t r = 0; r < fresh; ++r) {
        const int64_t to = line * held.room + held.positions + r;
        std::copy_n(new_keys + b * k_batch + h * k_head + r * k_row, width, keys_at + to * width);
        std::copy_n(new_values + b * v_batch + h * v_head + r * v_row, value_width, values_at + to * value_width);
        if (!rounding) continue;
        by_tape(*rounding, keys_at + to * width, width);
        by_tape(*rounding, values_at + to * value_width, value_width);
      }
    }
  });
  now.k = keys_at, now.v = values_at;
  now.k_row = width, now.k_head = held.room * width, now.k_batch = kv_heads * now.k_head;
  now.v_row = value_width, now.v_head = held.room * value_width, now.v_batch = kv_heads * now.v_head;
  if (long_mask == kAbsent) return;
  const Tensor& m = c.tensors[long_mask];
  const Shape whole{batch, heads, length, now.keys};
  const auto rank = static_cast<int64_t>(m.rank());
  bool fits = rank >= 1 && rank <= 4 && m.shape().back() == now.keys && m.dtype() == (mask_is_bool ? DType::boolean : DType::f32);
  int64_t strides[3] = {}, stride = now.keys;
  for (int64_t a = 2; fits && a >= 4 - rank; --a) {
    const int64_t size = m.shape()[static_cast<size_t>(a - 4 + rank)];
    fits = size == 1 || size == whole[static_cast<size_t>(a)];
    strides[a] = size == 1 ? 0 : stride;
    stride *= size;
  }
  if (rank == 1) fits = fits && m.shape()[0] == now.keys;
  if (!fits)
    fail(Category::shape, "the mask '{}' is {}, which {} held positions and {} new ones do not fit", mask_name, to_string(m.shape()),
         held.positions, fresh);
  now.mask = m.data();
  now.mask_batch = strides[0], now.mask_head = strides[1], now.mask_row = strides[2];
}

void AttentionKernel::piece(const StepContext& c, const Now& now, int64_t slot, int64_t task) const {
  const int64_t b = task / pieces / heads, h = task / pieces % heads, p = task % pieces;
  const int64_t first = length * p / pieces, rows = length * (p + 1) / pieces - first;
  float* packed_keys = pointer<float>(c, scratch) + slot * slot_floats();
  float* packed_values = packed_keys + key_panels(key_block) * panel * width;
  float* scores = packed_values + key_panels(value_width) * panel * key_block;
  float *maxima = scores + block_rows * kScores, *sums = maxima + piece_rows();
  const float* qs = pointer<const float>(c, q) + b * q_batch + h * q_head + first * q_row;
  const float* ks = now.k + b * now.k_batch + h / group * now.k_head;
  const float* vs = now.v + b * now.v_batch + h / group * now.v_head;
  float* out = pointer<float>(c, y) + b * y_batch + h * y_head + first * y_row;
  // Keys that any row sees. Those that are hidden before scores are capped count.
  const int64_t last = causal && !hides_first ? std::min(now.keys, now.past + first + rows) : now.keys;
  for (int64_t at = 0; at < last || at == 0; at += key_block) {
    const int64_t n = std::min(key_block, now.keys - at), panels = key_panels(n);
    if (!few()) {
      kernels::pack_panels(ks + at * now.k_row, 1, now.k_row, width, n, panel, packed_keys, 0, panels);
      for (int64_t i = 0; i < panels * panel * width; ++i) packed_keys[i] *= scale;
      kernels::pack_panels(vs + at * now.v_row, now.v_row, 1, n, value_width, panel, packed_values, 0, key_panels(value_width));
    }
    // Blocks of equal height: a last one of a row or two would be summed in another order than among many, and where it falls hangs on
    // the number of threads.
    const int64_t blocks = (rows + block_rows - 1) / block_rows;
    for (int64_t block = 0; block < blocks; ++block) {
      const int64_t r = rows * block / blocks, count = rows * (block + 1) / blocks - r;
      kernels::SoftenArguments s;
      if (causal) {
        s.visible = now.past + first + r + 1 - at;
        // All of this block lies ahead of all of these rows.
        if (s.visible + count - 1 <= 0 && at > 0 && !hides_first) continue;
      }
      kernels::DenseArguments d;
      d.a = qs + r * q_row;
      d.lda = q_row;
      d.run = width;
      d.row_end = count;
      d.panel_end = panels;
      d.columns = n;
      d.b = packed_keys;
      d.c = scores;
      d.ldc = kScores;
      if (few()) dots({qs + r * q_row, q_row, count, ks + at * now.k_row, now.k_row, n, width, scale, scores, kScores});
      else dense(d);
      s.scores = scores;
      s.stride = kScores;
      s.rows = count;
      s.columns = n;
      s.maximum = maxima + r;
      s.sum = sums + r;
      s.out = out + r * y_row;
      s.out_stride = y_row;
      s.width = value_width;
      s.first = at == 0;
      if (has_mask) {
        const int64_t offset = b * now.mask_batch + h * now.mask_head + (first + r) * now.mask_row + at;
        if (mask_is_bool) s.keep = static_cast<const uint8_t*>(now.mask) + offset;
        else s.mask = static_cast<const float*>(now.mask) + offset;
        s.mask_stride = now.mask_row;
      }
      if (capping) {
        for (int64_t row = 0; row < count; ++row) {
          float* of_row = scores + row * kScores;
          if (hides_first) hide(s, row, of_row);
          by_tape(*capping, of_row, n);
        }
        if (hides_first) s.mask = nullptr, s.keep = nullptr, s.visible = kernels::SoftenArguments().visible;
      }
      soften(s);
      if (few()) {
        mix({scores, kScores, count, vs + at * now.v_row, now.v_row, n, value_width, out + r * y_row, y_row});
        continue;
      }
      d = {};
      d.a = scores;
      d.lda = kScores;
      d.run = n;
      d.row_end = count;
      d.panel_end = key_panels(value_width);
      d.columns = value_width;
      d.b = packed_values;
      d.c = out + r * y_row;
      d.ldc = y_row;
      d.k_block = kScores;  // in one go: what the keys before gave is added at the end, where it must not have been overwritten
      d.epilogue.residual = d.c;
      d.epilogue.residual_stride = y_row;
      dense(d);
    }
  }
  kernels::settle({out, y_row, value_width, rows, sums, blind});
  if (!nan_weights_zero) return;
  for (int64_t r = 0; r < rows; ++r) {
    if (!std::isnan(sums[r])) continue;
    std::fill_n(out + r * y_row, value_width, 0.0f);
    for (int64_t j = 0; j < now.keys; ++j) {
      for (int64_t i = 0; i < value_width; ++i) out[r * y_row + i] += 0 * vs[j * now.v_row + i];  // of values that are no numbers, NaN
    }
  }
}

}  // namespace lathe::lower
