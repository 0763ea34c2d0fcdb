// Resize: to the nearest by index tables, else planes or pictures channels-last by weights.
#include <fmt/format.h>

#include <algorithm>

#include "base/memory.hpp"
#include "kernels/resample.hpp"
#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/indexed.hpp"
#include "ops/resize.hpp"

namespace lathe::lower {
namespace {

class ResampleKernel : public StepKernel {
 public:
  kernels::Resample kernel = nullptr;
  kernels::ResampleArguments arguments;
  std::vector<int32_t> ay, ax;
  std::vector<float> wy, wx;
  Location input, output;
  bool bytes = false;
  BufferId scratch = kNoBuffer;
  size_t slot_bytes = 0;  // a slot
  int64_t rows = 0, slots = 1;

  void run(const StepContext& c) const override {
    c.workers.each(slots, [&](int64_t slot, int) {
      kernels::ResampleArguments a = arguments;
      if (bytes) a.in_bytes = pointer<const uint8_t>(c, input), a.out_bytes = pointer<uint8_t>(c, output);
      else a.in = pointer<const float>(c, input), a.out = pointer<float>(c, output);
      a.ay = ay.data(), a.ax = ax.data(), a.wy = wy.data(), a.wx = wx.data();
      std::byte* own = c.buffers[scratch] + static_cast<size_t>(slot) * slot_bytes;
      a.kept = reinterpret_cast<int64_t*>(own);
      a.rows = reinterpret_cast<float*>(own + round_up(static_cast<size_t>(a.ring) * sizeof(int64_t), kAlignment));
      a.line = a.rows + round_up(static_cast<size_t>(a.ring * a.out_width * a.channels), kAlignment / sizeof(float));
      a.begin = rows * slot / slots;
      a.end = rows * (slot + 1) / slots;
      kernel(a);
    });
  }
};

struct ResizeMatch : Match {
  using Match::Match;
  Shape in;
  ops::ResizePlan plan;
};

// Of an axis: for each output and tap the input read, and its weight; outputs by tap, or taps by output.
int64_t fill_axis(const ops::ResizeAxis& axis, int64_t size, bool by_tap, std::vector<int32_t>& at, std::vector<float>& weights) {
  const int64_t taps = axis.same ? 1 : axis.taps;
  at.resize(size * taps);
  weights.resize(size * taps);
  for (int64_t o = 0; o < size; ++o) {
    for (int64_t t = 0; t < taps; ++t) {
      const int64_t to = by_tap ? t * size + o : o * taps + t;
      at[to] = static_cast<int32_t>(axis.same ? o : axis.at[o * taps + t]);
      weights[to] = axis.same ? 1.0f : static_cast<float>(axis.weights[o * taps + t]);
    }
  }
  return taps;
}

class ResizeFamily : public StepFamily {
 public:
  explicit ResizeFamily(Layout layout) : layout_(layout) {}
  std::string_view name() const override { return last() ? "resize.channels_last" : "resize"; }
  LayoutDemand layouts(const Match&) const override {
    return last() ? LayoutDemand{Order::channels_last, Order::channels_last, Order::channels_last} : LayoutDemand{};
  }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || (n.op != "Resize" && n.op != "Upsample")) return nullptr;
    if (!view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0])) return nullptr;
    auto m = std::make_unique<ResizeMatch>(view, group, StepKind::copy);
    m->in = view.shape(n.inputs[0]);
    const int bytes = copy_bytes(view.dtype(n.inputs[0]));
    if (bytes == 0 || m->in.empty()) return nullptr;
    // Pictures whose channels are many enough to be worth a vector or a copy.
    if (last() && (m->in.size() != 4 || m->in[1] < kFewestChannels)) return nullptr;
    const auto held = constants_of(view, n);
    auto plan = ops::resize_plan(n, view.version(n), m->in, held);
    if (!plan || plan->out != view.shape(n.outputs[0]) || element_count(plan->out) == 0) return nullptr;
    m->plan = std::move(*plan);
    if (last() && !(m->plan.axes[0].same && m->plan.axes[1].same)) return nullptr;
    const double elements = static_cast<double>(element_count(m->in) + element_count(m->plan.out));
    m->work.bytes = static_cast<double>(bytes) * elements;
    if (m->plan.nearest) return m;
    // Planes: only the last two axes change.
    m->kind = StepKind::resample;
    const size_t rank = m->in.size();
    if (const DType d = view.dtype(n.inputs[0]); d != DType::f32 && d != DType::u8 && d != DType::i8) return nullptr;
    if (rank < 2 || m->in[rank - 1] > INT32_MAX || m->in[rank - 2] > INT32_MAX) return nullptr;
    for (size_t a = 0; a + 2 < rank; ++a) {
      if (!m->plan.axes[a].same) return nullptr;
    }
    const auto taps = [&](size_t a) { return m->plan.axes[a].same ? 1 : m->plan.axes[a].taps; };
    if (m->plan.axes[rank - 2].taps > kernels::kMostTaps) return nullptr;
    m->work.flops = 2.0 * static_cast<double>(element_count(m->plan.out)) * static_cast<double>(taps(rank - 2) + taps(rank - 1));
    return m;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const ResizeMatch&>(match);
    if (m.plan.nearest) return;
    const int64_t rows = rows_of(m);
    space.knob("slots", std::min<int64_t>(std::max<int64_t>(1, rows / 8), p.machine.threads > 1 ? p.machine.threads * 4 : 1), 1, rows);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ResizeMatch&>(match);
    const size_t rank = m.in.size();
    if (m.plan.nearest) {
      std::vector<std::vector<int64_t>> tables;
      for (size_t a = 0; a < rank; ++a) {
        tables.push_back(m.plan.axes[a].at);
        for (int64_t i = 0; m.plan.axes[a].same && i < m.in[a]; ++i) tables.back().push_back(i);
      }
      return add_indexed(b, m, std::move(tables), 0, last() ? "nearest neighbours, channels-last" : "nearest neighbours", layout_);
    }
    auto k = std::make_unique<ResampleKernel>();
    auto& g = k->arguments;
    g.in_height = m.in[rank - 2], g.in_width = m.in[rank - 1], g.out_height = m.plan.out[rank - 2], g.out_width = m.plan.out[rank - 1];
    g.taps_y = fill_axis(m.plan.axes[rank - 2], g.out_height, false, k->ay, k->wy);
    g.taps_x = fill_axis(m.plan.axes[rank - 1], g.out_width, true, k->ax, k->wx);
    if (last()) g.channels = m.in[1];
    g.ring = g.taps_y + 1;
    k->bytes = b.dtype(m.result()) != DType::f32;
    if (k->bytes) {
      const ops::ByteSums sums = ops::byte_sums(m.node());
      g.is_signed = b.dtype(m.result()) == DType::i8, g.rounds = sums.rounds;
      g.zero = static_cast<float>(sums.zero), g.factor = static_cast<float>(sums.factor), g.out_zero = static_cast<float>(sums.out_zero);
    }
    g.ax = k->ax.data();
    g.wx = k->wx.data();
    if (!last()) kernels::find_pattern(g);
    k->kernel = kernels::resample(p.machine.isa);
    k->rows = rows_of(m);
    k->slot_bytes = round_up(static_cast<size_t>(g.ring) * sizeof(int64_t), kAlignment) +
                    round_up(static_cast<size_t>(g.ring * g.out_width * g.channels) * sizeof(float), kAlignment) +
                    (k->bytes ? round_up(static_cast<size_t>(g.in_width * g.channels) * sizeof(float), kAlignment) : 0);
    // Scratch belongs to a share of the rows, not to a thread: a lane may have more threads than the program was compiled for.
    k->slots = recipe.at("slots");
    k->scratch = b.scratch(k->slot_bytes * static_cast<size_t>(k->slots));
    Step step = begin_step(b, m);
    step.text = fmt::format("{} x {} taps, rows kept{}", g.taps_y, g.taps_x, last() ? ", channels-last" : "");
    k->input = b.contiguous(m.node().inputs[0], layout_);
    k->output = b.define(m.result(), layout_);
    step.reads = {k->input.buffer};
    step.writes = {k->output.buffer};
    step.scratch = {k->scratch};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

 private:
  static constexpr int64_t kFewestChannels = 8;
  bool last() const { return layout_ == Layout::channels_last; }
  // Rows of planes, or of pictures.
  int64_t rows_of(const ResizeMatch& m) const {
    const int64_t rows = element_count(m.plan.out) / m.plan.out.back();
    return last() ? rows / m.plan.out[1] : rows;
  }

  const Layout layout_;
};

}  // namespace

const StepFamily& resizes() {
  static const ResizeFamily family(Layout::natural);
  return family;
}

const StepFamily& resizes_channels_last() {
  static const ResizeFamily family(Layout::channels_last);
  return family;
}

}  // namespace lathe::lower
