// Largest elements of windows of bytes, channels-last.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "kernels/pool8.hpp"
#include "lower/steps/pool.hpp"

namespace lathe::lower {

namespace {

// Largest bytes, channels-last.
class BytesKernel : public StepKernel {
 public:
  kernels::Pool8 pool = nullptr;
  Location input, output, padding;
  WindowTables window;
  bool is_signed = false;
  int64_t channels = 0, taps = 1, out_pitch = 0, rows = 0, tasks = 1;

  void run(const StepContext& c) const override {
    std::memset(pointer<uint8_t>(c, padding), is_signed ? 0x80 : 0, static_cast<size_t>(channels));
    const auto w = window.rows(pointer<const uint8_t>(c, input), pointer<const uint8_t>(c, padding));
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::Pool8Arguments a;
      a.window = &w;
      a.is_signed = is_signed;
      a.taps = taps, a.channels = channels;
      a.row_begin = rows * task / tasks;
      a.row_end = rows * (task + 1) / tasks;
      a.out = pointer<uint8_t>(c, output);
      a.out_stride = out_pitch;
      pool(a);
    });
  }
};

constexpr Numbers kBytes[]{same(DType::u8), same(DType::i8)};

class BytesFamily : public StepFamily {
 public:
  std::string_view name() const override { return "pool.bytes"; }
  std::span<const Numbers> numbers() const override { return kBytes; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_pool(view, group, true);
    if (!m || given(m->node().outputs, 1) || element_count(m->xs) == 0 || element_count(m->ys) == 0) return nullptr;
    const DType d = view.dtype(m->node().inputs[0]);
    return (d == DType::u8 || d == DType::i8) && m->window.taps() <= kernels::kMostTapsPool8 ? std::move(m) : nullptr;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::channels_last, Order::channels_last, Order::channels_last}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const int64_t rows = rows_of(static_cast<const PoolMatch&>(match));
    space.knob("tasks", std::clamp<int64_t>(rows / 64, 1, most_pool_tasks(p.machine)), 1, rows);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const PoolMatch&>(match);
    auto kernel = std::make_unique<BytesKernel>();
    BytesKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.input = b.strided(m.node().inputs[0], Layout::channels_last);
    k.window = window_tables(m.window, spatial(m.xs), strides_at(k.input, m.xs));
    k.is_signed = b.dtype(m.node().inputs[0]) == DType::i8;
    k.channels = m.xs[1], k.taps = m.window.taps(), k.rows = rows_of(m);
    k.pool = kernels::pool8(p.machine.isa);
    k.output = b.define_rows(m.result(), Layout::channels_last, k.out_pitch);
    k.padding = {b.scratch(static_cast<size_t>(k.channels))};
    k.tasks = recipe.at("tasks");
    step.reads = {k.input.buffer};
    step.writes = {k.output.buffer};
    step.scratch = {k.padding.buffer};
    step.text = fmt::format("channels-last vectors of {}, {} taps", to_string(b.dtype(m.node().inputs[0])), k.taps);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static int64_t rows_of(const PoolMatch& m) { return m.xs[0] * element_count(m.window.out); }
};

}  // namespace

const StepFamily& pool_bytes() {
  static const BytesFamily family;
  return family;
}

}  // namespace lathe::lower
