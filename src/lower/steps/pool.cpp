// Pools: line by line in the standard's order, or channels-last.
#include <fmt/format.h>

#include <algorithm>

#include "kernels/planes.hpp"
#include "kernels/pool.hpp"
#include "lower/steps/pool.hpp"

namespace lathe::lower {
namespace {

class PoolKernel : public StepKernel {
 public:
  kernels::Plane plane = nullptr;
  kernels::PlaneOp op = kernels::PlaneOp::max;
  Location input, output;
  std::vector<float> divisors;
  WindowTables window;
  float shrink = 1;
  int64_t channels = 0, out_pitch = 0, rows = 0, tasks = 1;

  void run(const StepContext& c) const override {
    const auto w = window.rows(pointer<const float>(c, input));
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

// In the standard's order: lines of planes.
class LinesKernel : public StepKernel {
 public:
  kernels::Pool pool = nullptr;
  kernels::PoolArguments arguments;
  std::vector<float> divisors;
  Location input, output, scratch;
  int64_t lines = 0, tasks = 1;

  void run(const StepContext& c) const override {
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::PoolArguments a = arguments;
      a.in = pointer<const float>(c, input);
      a.out = pointer<float>(c, output);
      a.divisors = divisors.data();
      a.scratch = pointer<float>(c, scratch) + task * kernels::pool_scratch(a.x);
      a.begin = lines * task / tasks;
      a.end = lines * (task + 1) / tasks;
      pool(a);
    });
  }
};

// Of any number, and with the places of maxima.
class AnyKernel : public StepKernel {
 public:
  kernels::PoolAny pool = nullptr;
  kernels::PoolAnyArguments arguments;
  std::vector<int64_t> divisors;
  Location input, output, where;
  bool places = false;
  int64_t lines = 0, tasks = 1;

  void run(const StepContext& c) const override {
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::PoolAnyArguments a = arguments;
      a.in = pointer<const void>(c, input);
      a.out = pointer<void>(c, output);
      if (places) a.where = pointer<int64_t>(c, where);
      a.divisors = divisors.data();
      a.begin = lines * task / tasks;
      a.end = lines * (task + 1) / tasks;
      pool(a);
    });
  }
};

}  // namespace

std::optional<kernels::PoolNumber> number_of(DType d) {
  switch (d) {
    case DType::f32: return kernels::PoolNumber::f32;
    case DType::f64: return kernels::PoolNumber::f64;
    case DType::u8: return kernels::PoolNumber::u8;
    case DType::i8: return kernels::PoolNumber::i8;
    default: return std::nullopt;
  }
}

int64_t most_pool_tasks(const Machine& machine) { return machine.threads > 1 ? machine.threads * 4 : 1; }

namespace {

bool takes_any(const GraphView& view, const Node& n) {
  if (!view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0]) || !number_of(view.dtype(n.inputs[0]))) return false;
  const bool places = given(n.outputs, 1);
  if (places && !view.is_static(n.outputs[1])) return false;
  if (n.op == "AveragePool") return view.dtype(n.inputs[0]) == DType::f64;
  return view.dtype(n.inputs[0]) != DType::f32 || places;
}

}  // namespace

std::unique_ptr<PoolMatch> match_pool(const GraphView& view, const Group& group, bool any) {
  if (!group.single()) return nullptr;
  const Node& n = view.node(group.nodes[0]);
  if ((n.op != "MaxPool" && n.op != "AveragePool") || !n.domain.empty() || n.outputs.empty()) return nullptr;
  if (!any && (!all_f32(view.graph(), n) || given(n.outputs, 1))) return nullptr;
  if (any && !takes_any(view, n)) return nullptr;
  auto m = std::make_unique<PoolMatch>(view, group, n.op == "MaxPool" ? StepKind::max_pool : StepKind::average_pool);
  m->xs = view.shape(n.inputs[0]), m->ys = view.shape(n.outputs[0]);
  if (m->xs.size() > 5) return nullptr;
  m->window = ops::read_window(n, spatial(m->xs));
  const int64_t outputs = element_count(m->ys);
  m->work = {static_cast<double>(outputs) * static_cast<double>(m->window.taps()),
             4.0 * static_cast<double>(element_count(m->xs) + outputs)};
  return m;
}

namespace {

class LinesFamily : public StepFamily {
 public:
  std::string_view name() const override { return "pool.lines"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_pool(view, group);
    constexpr int64_t kShortest = 8;  // outputs of a line: in shorter ones vectors are mostly empty
    return m && (m->xs.size() == 3 || m->xs.size() == 4) && element_count(m->ys) > 0 && m->ys.back() >= kShortest ? std::move(m) : nullptr;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const int64_t lines = lines_of(static_cast<const PoolMatch&>(match));
    space.knob("tasks", std::clamp<int64_t>(lines / 4, 1, most_pool_tasks(p.machine)), 1, lines);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const PoolMatch&>(match);
    auto kernel = std::make_unique<LinesKernel>();
    LinesKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    const ops::Window& w = m.window;
    const auto axis = [&](int a) {
      return kernels::PoolAxis{spatial(m.xs)[a], w.out[a], w.kernel[a], w.strides[a], w.dilations[a], w.pads_begin[a]};
    };
    k.arguments.average = m.average();
    k.arguments.shrink = m.shrink();
    k.arguments.x = axis(w.axes() - 1);
    if (w.axes() == 2) k.arguments.y = axis(0);
    k.divisors = m.divisors();
    k.pool = kernels::pool(p.machine.isa);
    k.lines = lines_of(m);
    k.tasks = recipe.at("tasks");
    k.input = b.contiguous(m.node().inputs[0], Layout::natural);
    k.output = b.define(m.result(), Layout::natural);
    k.scratch = {b.scratch(static_cast<size_t>(k.tasks * kernels::pool_scratch(k.arguments.x)) * sizeof(float))};
    step.reads = {k.input.buffer};
    step.writes = {k.output.buffer};
    step.scratch = {k.scratch.buffer};
    step.text = fmt::format("lines of {}, {} taps", w.out.back(), w.taps());
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static int64_t lines_of(const PoolMatch& m) { return element_count(m.ys) / m.window.out.back(); }
};

class PlanesFamily : public StepFamily {
 public:
  std::string_view name() const override { return "pool.planes"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_pool(view, group);
    return m && m->window.taps() <= kernels::kMaxPlaneTaps ? std::move(m) : nullptr;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::channels_last, Order::channels_last, Order::channels_last}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const int64_t rows = rows_of(static_cast<const PoolMatch&>(match));
    space.knob("tasks", std::clamp<int64_t>(rows, 1, most_pool_tasks(p.machine)), 1, rows);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const PoolMatch&>(match);
    auto kernel = std::make_unique<PoolKernel>();
    PoolKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.input = b.strided(m.node().inputs[0], Layout::channels_last);
    k.window = window_tables(m.window, spatial(m.xs), strides_at(k.input, m.xs));
    k.op = m.average() ? kernels::PlaneOp::average : kernels::PlaneOp::max;
    k.channels = m.xs[1];
    k.divisors = m.divisors();
    k.shrink = m.shrink();
    k.plane = kernels::plane(p.machine.isa);
    k.output = b.define_rows(m.result(), Layout::channels_last, k.out_pitch);
    k.rows = rows_of(m);
    k.tasks = recipe.at("tasks");
    step.reads = {k.input.buffer};
    step.writes = {k.output.buffer};
    step.text = fmt::format("channels-last vectors, {} taps", m.window.taps());
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static int64_t rows_of(const PoolMatch& m) { return m.xs[0] * element_count(m.window.out); }
};

constexpr Numbers kAnyNumbers[]{same(DType::f32), same(DType::f64), same(DType::u8), same(DType::i8)};

class AnyFamily : public StepFamily {
 public:
  std::string_view name() const override { return "pool.any"; }
  std::span<const Numbers> numbers() const override { return kAnyNumbers; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_pool(view, group, true);
    return m && element_count(m->ys) > 0 && element_count(m->xs) > 0 ? std::move(m) : nullptr;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const int64_t lines = lines_of(static_cast<const PoolMatch&>(match));
    space.knob("tasks", std::clamp<int64_t>(lines / 4, 1, most_pool_tasks(p.machine)), 1, lines);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const PoolMatch&>(match);
    const Node& n = m.node();
    auto kernel = std::make_unique<AnyKernel>();
    AnyKernel& k = *kernel;
    k.pool = kernels::pool_any(p.machine.isa);
    Step step = begin_step(b, m);
    const ops::Window& w = m.window;
    kernels::PoolAxis* const axes[]{&k.arguments.z, &k.arguments.y, &k.arguments.x};
    for (int a = 0; a < w.axes(); ++a)
      *axes[3 - w.axes() + a] = {
          spatial(m.xs)[static_cast<size_t>(a)], w.out[a], w.kernel[a], w.strides[a], w.dilations[a], w.pads_begin[a]};
    k.arguments.type = *number_of(b.dtype(n.inputs[0]));
    k.arguments.average = m.average();
    k.arguments.columns_first = n.integer("storage_order", 0) != 0;
    if (m.average()) k.divisors = ops::average_pool_counts(w, spatial(m.xs), n.integer("count_include_pad", 0) != 0);
    k.lines = lines_of(m);
    k.tasks = recipe.at("tasks");
    k.input = b.contiguous(n.inputs[0], Layout::natural);
    k.output = b.define(n.outputs[0], Layout::natural);
    step.reads = {k.input.buffer};
    step.writes = {k.output.buffer};
    k.places = given(n.outputs, 1);
    if (k.places) {
      k.where = b.define(n.outputs[1], Layout::natural);
      step.writes.push_back(k.where.buffer);
    }
    step.text =
        fmt::format("lines of {} {}, {} taps{}", w.out.back(), to_string(b.dtype(n.inputs[0])), w.taps(), k.places ? ", with places" : "");
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static int64_t lines_of(const PoolMatch& m) { return element_count(m.ys) / m.window.out.back(); }
};

}  // namespace

const StepFamily& pool_any() {
  static const AnyFamily family;
  return family;
}

const StepFamily& pool_lines() {
  static const LinesFamily family;
  return family;
}

const StepFamily& pool_planes() {
  static const PlanesFamily family;
  return family;
}

}  // namespace lathe::lower
