// DynamicQuantizeLinear: the range of a tensor, then its numbers as bytes by it.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "kernels/range.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

constexpr Numbers kToBytes[]{{DType::f32, DType::f32, DType::u8}};

class DynamicQuantiseKernel : public StepKernel {
 public:
  kernels::FindRange find_range = nullptr;
  kernels::ToBytes to_bytes = nullptr;
  Location input, bytes, scale, zero, ranges;
  int64_t count = 0, tasks = 1;

  void run(const StepContext& c) const override {
    const float* x = pointer<const float>(c, input);
    auto* found = pointer<kernels::Range>(c, ranges);
    c.workers.each(tasks, [&](int64_t task, int) {
      const int64_t from = count * task / tasks, to = count * (task + 1) / tasks;
      kernels::Range range;
      find_range(x + from, to - from, range);
      found[task] = range;
    });
    kernels::Range all;
    for (int64_t t = 0; t < tasks; ++t) all.low = std::min(all.low, found[t].low), all.high = std::max(all.high, found[t].high);
    // The same order of operations as plain evaluation's.
    const float s = static_cast<float>(static_cast<double>(all.high) - static_cast<double>(all.low)) / 255.0f;
    const double z = s == 0 ? 0 : std::nearbyint(static_cast<double>(-all.low / s));
    const int z_byte = z > 0 ? static_cast<int>(std::min(z, 255.0)) : 0;
    *pointer<float>(c, scale) = s;
    *pointer<uint8_t>(c, zero) = static_cast<uint8_t>(z_byte);
    c.workers.each(tasks, [&](int64_t task, int) {
      const int64_t from = count * task / tasks, to = count * (task + 1) / tasks;
      to_bytes(x + from, to - from, s, z_byte, pointer<uint8_t>(c, bytes) + from);
    });
  }
};

class DynamicQuantiseFamily : public StepFamily {
 public:
  std::string_view name() const override { return "dynamic_quantise"; }
  std::span<const Numbers> numbers() const override { return kToBytes; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (n.op != "DynamicQuantizeLinear" || !n.domain.empty() || n.outputs.empty() || n.outputs[0] == kAbsent) return nullptr;
    if (!view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0])) return nullptr;
    const auto count = static_cast<double>(element_count(view.shape(n.inputs[0])));
    if (count == 0) return nullptr;
    auto m = std::make_unique<Match>(view, group, StepKind::tape);
    m->work = {5 * count, 9 * count};  // a comparison to each side; division, rounding, sum. Read twice, written once
    return m;
  }

  LayoutDemand layouts(const Match&) const override { return {Order::shared, Order::shared, Order::shared}; }

  void candidates(const Match& m, const Problem& p, RecipeSpace& space) const override {
    const int64_t count = element_count(m.view->shape(m.node().inputs[0]));
    constexpr int64_t kTask = 16384;  // elements
    space.knob("tasks", p.machine.threads > 1 ? std::clamp<int64_t>(count / kTask, 1, p.machine.threads * 4) : 1, 1, 1024);
  }

  void lower(PlanBuilder& b, const Match& m, const Problem& p, const Recipe& recipe) const override {
    const Node& n = m.node();
    auto k = std::make_unique<DynamicQuantiseKernel>();
    k->find_range = kernels::find_range(p.machine.isa);
    k->to_bytes = kernels::to_bytes(p.machine.isa);
    k->count = element_count(b.shape(n.inputs[0]));
    k->tasks = recipe.at("tasks");
    Step step = begin_step(b, m);
    const Layout layout = b.preferred(n.outputs[0]);
    k->input = b.contiguous(n.inputs[0], layout);
    k->ranges = {b.scratch(static_cast<size_t>(k->tasks) * sizeof(kernels::Range))};
    step.reads = {k->input.buffer};
    step.scratch = {k->ranges.buffer};
    const auto out = [&](size_t i, size_t size) {
      if (given(n.outputs, i)) {
        const Location at = b.define(n.outputs[i], i == 0 ? layout : Layout::natural);
        step.writes.push_back(at.buffer);
        return at;
      }
      const Location nowhere{b.scratch(size)};
      step.scratch.push_back(nowhere.buffer);
      return nowhere;
    };
    k->bytes = out(0, 0), k->scale = out(1, sizeof(float)), k->zero = out(2, 1);
    step.text = fmt::format("{} numbers to bytes by their range, {} tasks", k->count, k->tasks);
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& dynamic_quantisation() {
  static const DynamicQuantiseFamily family;
  return family;
}

}  // namespace lathe::lower
