// Resize by weights along any axes, one after another: volumes, channels-last pictures, doubles.
#include <fmt/format.h>

#include <algorithm>
#include <type_traits>

#include "kernels/resample.hpp"
#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/indexed.hpp"
#include "ops/resize.hpp"

namespace lathe::lower {
namespace {

template <typename T>
class AxesKernel : public StepKernel {
 public:
  struct Axis {
    int64_t outer = 1, in = 1, out = 1, inner = 1, taps = 1;
    std::vector<int64_t> at;
    std::vector<T> weights;
    // The last axis of floats: tables as the kernel of rows has them, results by tap.
    std::vector<int32_t> places;
    std::vector<float> by_tap;
    kernels::ResampleArguments rows;
  };
  kernels::ResampleRows resample = nullptr;
  std::vector<Axis> axes;
  Location input, output, scratch[2];  // what lies between two axes, in turn

  void run(const StepContext& c) const override {
    const T* from = pointer<const T>(c, input);
    for (size_t i = 0; i < axes.size(); ++i) {
      T* to = pointer<T>(c, i + 1 == axes.size() ? output : scratch[i % 2]);
      const Axis& a = axes[i];
      const int64_t rows = a.outer * a.out,
                    tasks = std::clamp<int64_t>(rows * a.inner / 16384, 1, c.workers.size() > 1 ? c.workers.size() * 4 : 1);
      c.workers.each(tasks, [&](int64_t task, int) {
        const int64_t begin = a.outer * task / tasks, end = a.outer * (task + 1) / tasks;
        if constexpr (std::is_same_v<T, float>) {
          if (!a.places.empty()) {
            kernels::ResampleArguments g = a.rows;
            g.in = from, g.out = to;
            g.begin = begin, g.end = end;
            return resample(g);
          }
        }
        if (a.inner == 1) return lines(a, from, begin, end, to);
        for (int64_t r = rows * task / tasks; r < rows * (task + 1) / tasks; ++r)
          one(a, from + r / a.out * a.in * a.inner, r % a.out, to + r * a.inner);
      });
      from = to;
    }
  }

 private:
  // The last axis: each result by itself.
  static void lines(const Axis& a, const T* from, int64_t begin, int64_t end, T* to) {
    for (int64_t r = begin; r < end; ++r) {
      const T* x = from + r * a.in;
      for (int64_t o = 0; o < a.out; ++o) {
        T sum = 0;
        for (int64_t t = 0; t < a.taps; ++t)
          sum += a.weights[static_cast<size_t>(o * a.taps + t)] * x[a.at[static_cast<size_t>(o * a.taps + t)]];
        to[r * a.out + o] = sum;
      }
    }
  }
  static void one(const Axis& a, const T* from, int64_t o, T* to) {
    for (int64_t t = 0; t < a.taps; ++t) {
      const T w = a.weights[static_cast<size_t>(o * a.taps + t)];
      const T* x = from + a.at[static_cast<size_t>(o * a.taps + t)] * a.inner;
      if (t == 0) {
        for (int64_t i = 0; i < a.inner; ++i) to[i] = w * x[i];
      } else {
        for (int64_t i = 0; i < a.inner; ++i) to[i] += w * x[i];
      }
    }
  }
};

struct AxesMatch : Match {
  using Match::Match;
  Shape in;
  ops::ResizePlan plan;
};

class ResizeAxesFamily : public StepFamily {
 public:
  std::string_view name() const override { return "resize.axes"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || (n.op != "Resize" && n.op != "Upsample")) return nullptr;
    if (!view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0])) return nullptr;
    const DType d = view.dtype(n.inputs[0]);
    if (d != DType::f32 && d != DType::f64) return nullptr;
    auto m = std::make_unique<AxesMatch>(view, group, StepKind::resample);
    m->in = view.shape(n.inputs[0]);
    const auto held = constants_of(view, n);
    auto plan = ops::resize_plan(n, view.version(n), m->in, held);
    if (!plan || plan->nearest || plan->out != view.shape(n.outputs[0]) || element_count(plan->out) == 0 || element_count(m->in) == 0)
      return nullptr;
    m->plan = std::move(*plan);
    const size_t rank = m->in.size();
    // Pictures of floats with the channels first have a kernel of their own.
    const bool elsewhere = d == DType::f64 || std::ranges::any_of(m->plan.axes.begin(),
                                                                  m->plan.axes.end() - std::min<ptrdiff_t>(2, static_cast<ptrdiff_t>(rank)),
                                                                  [](const ops::ResizeAxis& a) { return !a.same; });
    if (!elsewhere || std::ranges::all_of(m->plan.axes, &ops::ResizeAxis::same)) return nullptr;
    const double bytes = d == DType::f32 ? 4 : 8;
    m->work.bytes = bytes * static_cast<double>(element_count(m->in) + element_count(m->plan.out));
    for (const ops::ResizeAxis& a : m->plan.axes)
      m->work.flops += a.same ? 0 : 2.0 * static_cast<double>(a.taps * element_count(m->plan.out));
    return m;
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe&) const override {
    const auto& m = static_cast<const AxesMatch&>(match);
    if (b.dtype(m.node().inputs[0]) == DType::f32) add<float>(b, m, p.machine.isa);
    else add<double>(b, m, p.machine.isa);
  }

 private:
  static void in_rows(AxesKernel<float>::Axis& x) {
    for (int64_t t = 0; t < x.taps; ++t) {
      for (int64_t o = 0; o < x.out; ++o) {
        x.places.push_back(static_cast<int32_t>(x.at[static_cast<size_t>(o * x.taps + t)]));
        x.by_tap.push_back(x.weights[static_cast<size_t>(o * x.taps + t)]);
      }
    }
    x.rows.in_width = x.in, x.rows.out_width = x.out, x.rows.taps_x = x.taps;
    x.rows.ax = x.places.data(), x.rows.wx = x.by_tap.data();
    kernels::find_pattern(x.rows);
  }
  template <typename T>
  static void add(PlanBuilder& b, const AxesMatch& m, kernels::Isa isa) {
    auto k = std::make_unique<AxesKernel<T>>();
    k->resample = kernels::resample_rows(isa);
    Shape now = m.in;
    int64_t most = 0;
    std::string text;
    for (size_t a = 0; a < now.size(); ++a) {
      const ops::ResizeAxis& axis = m.plan.axes[a];
      if (axis.same) continue;
      typename AxesKernel<T>::Axis x;
      x.outer = product(now, 0, a), x.in = now[a], x.inner = product(now, a + 1, now.size());
      x.out = now[a] = m.plan.out[a];
      x.taps = axis.taps;
      x.at = axis.at;
      for (double w : axis.weights) x.weights.push_back(static_cast<T>(w));
      most = std::max(most, element_count(now));
      text += fmt::format("{}axis {} by {} taps", text.empty() ? "" : ", ", a, x.taps);
      k->axes.push_back(std::move(x));
      if constexpr (std::is_same_v<T, float>) {
        if (k->axes.back().inner == 1 && k->axes.back().in <= INT32_MAX) in_rows(k->axes.back());
      }
    }
    Step step = begin_step(b, m);
    for (size_t i = 0; i < std::min<size_t>(2, k->axes.size() - 1); ++i) {
      k->scratch[i] = {b.scratch(static_cast<size_t>(most) * sizeof(T))};
      step.scratch.push_back(k->scratch[i].buffer);
    }
    step.text = text;
    k->input = b.contiguous(m.node().inputs[0], Layout::natural);
    k->output = b.define(m.result(), Layout::natural);
    step.reads = {k->input.buffer};
    step.writes = {k->output.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& resize_axes() {
  static const ResizeAxesFamily family;
  return family;
}

}  // namespace lathe::lower
