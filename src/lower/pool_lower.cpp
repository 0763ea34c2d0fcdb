// Pools: line by line in the standard's order, or channels-last.
#include <algorithm>
#include <bit>
#include <cmath>

#include "kernels/planes.hpp"
#include "kernels/pool.hpp"
#include "lower/lowering.hpp"
#include "ops/support.hpp"
#include "ops/window.hpp"

namespace lathe::lower {

using kernels::WindowRows;

namespace {

class PoolKernel : public StepKernel {
 public:
  kernels::Plane plane = nullptr;
  kernels::PlaneOp op = kernels::PlaneOp::max;
  Place input, output;
  std::vector<int64_t> z, y, x;
  std::vector<float> divisors;
  WindowRows window;
  float shrink = 1;
  int64_t channels = 0, out_pitch = 0, rows = 0, tasks = 1;

  void run(const StepContext& c) const override {
    WindowRows w = window;
    w.z = z.data();
    w.y = y.data();
    w.x = x.data();
    w.base = pointer<const float>(c, input);
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::PlaneArguments a;
      a.op = op;
      a.window = &w;
      a.channels = channels;
      a.divisors = divisors.data();
      a.shrink = shrink;
      a.row_begin = rows * task / tasks;
      a.row_end = rows * (task + 1) / tasks;
      a.out = pointer<float>(c, output);
      a.out_stride = out_pitch;
      plane(a);
    });
  }
};

}  // namespace

namespace {

// In the standard's order: lines of planes.
class LinesKernel : public StepKernel {
 public:
  kernels::Pool pool = nullptr;
  kernels::PoolArguments arguments;
  std::vector<float> divisors;
  Place input, output, room;
  int64_t lines = 0, tasks = 1;

  void run(const StepContext& c) const override {
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::PoolArguments a = arguments;
      a.in = pointer<const float>(c, input);
      a.out = pointer<float>(c, output);
      a.divisors = divisors.data();
      a.room = pointer<float>(c, room) + task * kernels::pool_room(a.x);
      a.begin = lines * task / tasks;
      a.end = lines * (task + 1) / tasks;
      pool(a);
    });
  }
};

}  // namespace

bool fast_pool(const Graph& g, const Node& n) {
  return (n.op == "MaxPool" || n.op == "AveragePool") && all_f32(g, n) && (n.outputs.size() < 2 || n.outputs[1] == kAbsent) &&
         known_shape(g.values[n.inputs[0]].dims)->size() <= 5;
}

bool pools_lines(const Graph& g, const Node& n) {
  if (!fast_pool(g, n)) return false;
  const Shape xs = *known_shape(g.values[n.inputs[0]].dims), ys = *known_shape(g.values[n.outputs[0]].dims);
  constexpr int64_t kShortest = 8;  // outputs of a line: in shorter ones vectors are mostly empty
  return (xs.size() == 3 || xs.size() == 4) && element_count(ys) > 0 && ys.back() >= kShortest;
}

bool lower_pool(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& node = g.nodes[group.nodes[0]];
  if (!fast_pool(g, node)) return false;
  const bool max = node.op == "MaxPool";
  const Shape xs = l.shape(node.inputs[0]);
  const std::span<const int64_t> in = std::span<const int64_t>(xs).subspan(2);
  const ops::Window window = ops::read_window(node, in);
  std::vector<float> divisors;
  // The first power of two that is no less than the taps.
  const float shrink = max ? 1.0f : std::ldexp(1.0f, -static_cast<int>(std::bit_width(static_cast<uint64_t>(window.taps() - 1))));
  if (!max) {
    for (int64_t n : ops::average_pool_counts(window, in, node.integer("count_include_pad", 0) != 0))
      divisors.push_back(1.0f / (static_cast<float>(n) * shrink));
  }
  Step step;
  step.kind = max ? "max pool" : "average pool";
  step.nodes = l.names(group);
  const int64_t outputs = element_count(l.shape(node.outputs[0]));
  step.flops = static_cast<double>(outputs) * static_cast<double>(window.taps());
  step.bytes = 4.0 * static_cast<double>(element_count(xs) + outputs);
  const int64_t most_tasks = l.options().threads > 1 ? l.options().threads * 4 : 1;
  if (pools_lines(g, node) && l.wanted(node.outputs[0]) == Layout::natural) {
    auto kernel = std::make_unique<LinesKernel>();
    LinesKernel& k = *kernel;
    const auto axis = [&](int a) {
      return kernels::PoolAxis{in[a], window.out[a], window.kernel[a], window.strides[a], window.dilations[a], window.pads_begin[a]};
    };
    k.arguments.average = !max;
    k.arguments.shrink = shrink;
    k.arguments.x = axis(window.axes() - 1);
    if (window.axes() == 2) k.arguments.y = axis(0);
    k.divisors = std::move(divisors);
    k.pool = kernels::pool(l.options().isa);
    k.lines = outputs / window.out.back();
    k.tasks = std::clamp<int64_t>(k.lines / 4, 1, most_tasks);
    k.input = l.place(node.inputs[0], Layout::natural);
    k.output = l.define(node.outputs[0], Layout::natural);
    k.room = {l.scratch(static_cast<size_t>(k.tasks * kernels::pool_room(k.arguments.x)) * sizeof(float))};
    step.reads = {k.input.buffer};
    step.writes = {k.output.buffer};
    step.scratch = {k.room.buffer};
    step.recipe = fmt::format("lines of {}, {} taps", window.out.back(), window.taps());
    step.kernel = std::move(kernel);
    l.add(std::move(step));
    return true;
  }
  if (window.taps() > kernels::kMaxPlaneTaps) return false;
  auto kernel = std::make_unique<PoolKernel>();
  PoolKernel& k = *kernel;
  std::vector<int64_t> tables[3];
  k.input = l.place_with_gaps(node.inputs[0], Layout::channels_last);
  set_window(window, in, strides_at(k.input, xs), tables, k.window);
  k.z = std::move(tables[0]);
  k.y = std::move(tables[1]);
  k.x = std::move(tables[2]);
  k.op = max ? kernels::PlaneOp::max : kernels::PlaneOp::average;
  k.channels = xs[1];
  k.divisors = std::move(divisors);
  k.shrink = shrink;
  k.plane = kernels::plane(l.options().isa);
  k.output = l.define_rows(node.outputs[0], Layout::channels_last, k.out_pitch);
  k.rows = xs[0] * element_count(window.out);
  k.tasks = std::clamp<int64_t>(k.rows, 1, most_tasks);
  step.reads = {k.input.buffer};
  step.writes = {k.output.buffer};
  step.recipe = fmt::format("channels-last vectors, {} taps", window.taps());
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
