#include "lower/steps/product_kernel.hpp"

#include <algorithm>

#include "lower/steps/tiles.hpp"

namespace lathe::lower {

void ProductKernel::run(const StepContext& c) const {
  if (whole_panels) return run_narrow(c);
  const kernels::NarrowPanels quantised = narrow ? narrow->panels(c) : kernels::NarrowPanels();
  const int64_t packed_floats = panels * k * width;
  if (pack_while_running && slots == 0) {
    float* to = pointer<float>(c, packed);
    const float* from = pointer<const float>(c, b);
    c.workers.each(b_matrices * panels, [&](int64_t task, int) {
      const int64_t i = task / panels, p = task % panels;
      kernels::pack_panels(from + i * k * n, b_k_stride, b_n_stride, k, n, width, to + i * packed_floats, p, p + 1);
      if (alpha != 1) {
        float* panel = to + i * packed_floats + p * k * width;
        for (int64_t e = 0; e < k * width; ++e) panel[e] *= alpha;
      }
    });
  }
  const float* left = before ? nullptr : pointer<const float>(c, a);
  if (before && before->block == 0) before->make_all(c, m);
  if (transpose_a) {
    float* turned = pointer<float>(c, a_turned);
    for (int64_t i = 0; i < m; ++i) {
      for (int64_t j = 0; j < k; ++j) turned[i * k + j] = left[j * m + i];
    }
    left = turned;
  }
  const int64_t batches = static_cast<int64_t>(a_offsets.size());
  const auto piece = [&](int64_t i, int64_t r, int64_t p, int64_t room, const void* panel_data) {
    const int64_t task = (i * split.row_tasks + r) * split.panel_tasks + p;
    kernels::TapeOperand operands[kernels::kMaxSlots];
    kernels::DenseArguments d;
    // Rows of all batches count on: the epilogue finds its operands by row.
    d.a = left + (a_offsets[i] - i) * m * a_pitch;
    d.lda = a_pitch;
    d.segments = 1;
    d.run = k;
    d.row_begin = i * m + m * r / split.row_tasks;
    d.row_end = i * m + m * (r + 1) / split.row_tasks;
    d.all_rows = m;
    d.from_memory = from_memory;
    d.panel_begin = panels * p / split.panel_tasks;
    d.panel_end = panels * (p + 1) / split.panel_tasks;
    d.columns = n;
    d.b = panel_data;
    d.b_type = b_type;
    d.c = pointer<float>(c, output);
    d.ldc = out_pitch;
    d.k_block = k_block;
    d.panel_block = panel_block;
    d.tile_rows = tile_rows;
    d.fetch_ahead = fetch_ahead;
    if (packed_row_floats > 0) d.packed_rows = pointer<float>(c, packed_rows) + task * packed_row_floats;
    d.widened = widened_parts.room(c, task);
    d.quantised = &quantised, d.widen = widen;
    if (tile_room) d.tile_room = pointer<char>(c, *tile_room) + room * kernels::kTileRoom, d.rows_like_b = rows_like_b;
    epilogue.fill(c, 0, d.epilogue, operands);
    if (before) before->multiply(c, r, d, dense);
    else dense(d);
  };
  const auto share = [&](int64_t tasks, auto&& task) {
    if (tile_room) each_in_rooms(c, tile_rooms, tasks, task);
    else c.workers.each(tasks, task);
  };
  if (slots > 0) {
    share(slots, [&](int64_t slot, int64_t room) {
      float* to = pointer<float>(c, packed) + slot * packed_floats;
      for (int64_t i = batches * slot / slots; i < batches * (slot + 1) / slots; ++i) {
        kernels::pack_panels(pointer<const float>(c, b) + b_offsets[i] * k * n, b_k_stride, b_n_stride, k, n, width, to, 0, panels);
        piece(i, 0, 0, room, to);
      }
    });
    return;
  }
  share(batches * split.count(), [&](int64_t task, int64_t room) {
    const int64_t i = task / split.count();
    piece(i, task % split.count() / split.panel_tasks, task % split.panel_tasks, room,
          narrow ? static_cast<const void*>(quantised.data) : pointer<const float>(c, packed) + b_offsets[i] * packed_floats);
  });
}

namespace {

// What an epilogue is for the rows from this one on. `operands`: room for those of its tape.
kernels::DenseEpilogue from_row(kernels::DenseEpilogue e, int64_t row, kernels::TapeOperand* operands) {
  if (e.residual) e.residual += row * e.residual_stride;
  for (int i = 0; e.tape && i + 1 < e.tape->inputs; ++i) {
    operands[i] = e.operands[i];
    operands[i].data = static_cast<const char*>(e.operands[i].data) + row * e.row_strides[i] * kernels::bytes_of(e.operands[i].type);
  }
  if (e.tape) e.operands = operands;
  return e;
}

}  // namespace

void ProductKernel::run_narrow(const StepContext& c) const {
  const kernels::NarrowPanels weights = narrow->panels(c);
  auto some = [&](int64_t task, int64_t room) {
    const int64_t begin = panels * task / split.panel_tasks, end = panels * (task + 1) / split.panel_tasks;
    kernels::TapeOperand operands[kernels::kMaxSlots];
    if (m <= narrow_rows) {
      kernels::DenseEpilogue whole;
      epilogue.fill(c, 0, whole, operands);
      // A panel at a time: it stays near while all rows pass.
      const int64_t passes = (m + pass_rows - 1) / pass_rows;
      for (int64_t p = begin; p<end; p += passes> 1 ? 1 : end - begin) {
        for (int64_t pass = 0; pass < passes; ++pass) {
          const int64_t row = m * pass / passes, rows = m * (pass + 1) / passes - row;
          kernels::TapeOperand shifted[kernels::kMaxSlots];
          multiply_narrow({weights, pointer<const float>(c, this->a) + row * a_pitch, a_pitch, rows, p, passes > 1 ? p + 1 : end,
                           pointer<float>(c, output) + row * out_pitch, out_pitch, from_row(whole, row, shifted), fetch_ahead});
        }
      }
      return;
    }
    float* wide = pointer<float>(c, widened) + task * panel_block * k * width;
    for (int64_t first = begin; first < end; first += panel_block) {
      const int64_t count = std::min(panel_block, end - first), column = first * width;
      for (int64_t p = 0; p < count; ++p) widen(weights, first + p, 0, k, wide + p * k * width);
      kernels::DenseArguments d;
      d.a = pointer<const float>(c, this->a);
      d.lda = a_pitch;
      d.segments = 1;
      d.run = k;
      d.row_end = d.all_rows = m;
      d.panel_end = count;
      d.columns = std::min(count * width, n - column);
      d.b = wide;
      d.c = pointer<float>(c, output) + column;
      d.ldc = out_pitch;
      d.k_block = k_block;
      d.panel_block = count;
      d.tile_rows = tile_rows;
      d.fetch_ahead = fetch_ahead;
      if (tile_room) d.tile_room = pointer<char>(c, *tile_room) + room * kernels::kTileRoom;
      epilogue.fill(c, column, d.epilogue, operands);
      dense(d);
    }
  };
  if (tile_room) each_in_rooms(c, tile_rooms, split.panel_tasks, some);
  else c.workers.each(split.panel_tasks, some);
}

}  // namespace lathe::lower
