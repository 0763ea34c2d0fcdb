// Reductions of doubles and whole numbers, and products of floats: a form of the family of rows.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "kernels/reduce_wide.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/forms.hpp"
#include "lower/steps/reduction_axes.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

using kernels::WideNumber;
using kernels::WideReduction;

class WideReductionKernel : public StepKernel {
 public:
  kernels::ReduceWide kernel = nullptr;
  WideReduction op = WideReduction::sum;
  WideNumber type = WideNumber::f64;
  Location input, output;
  int64_t outer = 1, length = 1, inner = 1, tasks = 1;

  void run(const StepContext& c) const override {
    const int64_t results = outer * inner;
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::WideReductionArguments a;
      a.op = op;
      a.x = pointer<const char>(c, input);
      a.out = pointer<char>(c, output);
      a.length = length, a.inner = inner;
      a.begin = results * task / tasks, a.end = results * (task + 1) / tasks;
      kernel(type, a);
    });
  }
};

struct WideReductionMatch : Match {
  using Match::Match;
  WideReduction op = WideReduction::sum;
  WideNumber type = WideNumber::f64;
  int64_t outer = 1, length = 1, inner = 1;
};

constexpr Numbers kNumbers[]{same(DType::f64), same(DType::i32), same(DType::i64), {DType::f32, DType::f64, DType::f32}};

class WideReductionForm : public StepFamily {
 public:
  std::string_view name() const override { return "rows"; }
  std::span<const Numbers> numbers() const override { return kNumbers; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    static const std::map<std::string_view, WideReduction> kOps{
        {"ReduceSum", WideReduction::sum},       {"ReduceMean", WideReduction::mean},
        {"ReduceMax", WideReduction::max},       {"ReduceMin", WideReduction::min},
        {"ReduceProd", WideReduction::product},  {"ReduceL1", WideReduction::l1},
        {"ReduceL2", WideReduction::l2},         {"ReduceSumSquare", WideReduction::sum_square},
        {"ReduceLogSum", WideReduction::log_sum}};
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const auto op = kOps.find(n.op);
    if (!n.domain.empty() || op == kOps.end() || !view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0])) return nullptr;
    const DType d = view.dtype(n.inputs[0]);
    if (d == DType::f32 && op->second != WideReduction::product) return nullptr;  // the family's own
    const Shape s = view.shape(n.inputs[0]);
    if (element_count(s) == 0) return nullptr;
    std::vector<bool> reduced(s.size(), false);
    const auto axes = axes_of(view, n);
    if (!axes) return nullptr;
    if (axes->empty() && n.integer("noop_with_empty_axes", 0) != 0) return nullptr;
    if (axes->empty()) reduced.assign(s.size(), true);
    for (int64_t a : ops::wrap_axes(*axes, static_cast<int64_t>(s.size()))) reduced[static_cast<size_t>(a)] = true;
    // The axes lie next to one another; those of one entry may be anywhere.
    auto m = std::make_unique<WideReductionMatch>(view, group, StepKind::reduction);
    m->op = op->second;
    m->type = d == DType::f32 ? WideNumber::f32 : d == DType::f64 ? WideNumber::f64 : d == DType::i32 ? WideNumber::i32 : WideNumber::i64;
    int part = 0;  // before, among, behind them
    for (size_t i = 0; i < s.size(); ++i) {
      if (s[i] == 1) continue;
      if (reduced[i] && part == 0) part = 1;
      if (!reduced[i] && part == 1) part = 2;
      if (reduced[i] && part == 2) return nullptr;
      (part == 0 ? m->outer : part == 1 ? m->length : m->inner) *= s[i];
    }
    const auto elements = static_cast<double>(element_count(s));
    const double bytes = d == DType::f32 || d == DType::i32 ? 4 : 8;
    m->work = {elements, bytes * (elements + static_cast<double>(m->outer * m->inner))};
    return m;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const WideReductionMatch&>(match);
    const int64_t results = m.outer * m.inner, most = std::max<int64_t>(1, results / 64);
    space.knob("tasks",
               p.machine.threads > 1
                   ? std::clamp<int64_t>(m.outer * m.length * m.inner / 16384, 1, std::min<int64_t>(most, p.machine.threads * 4))
                   : 1,
               1, results);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const WideReductionMatch&>(match);
    auto k = std::make_unique<WideReductionKernel>();
    k->kernel = kernels::reduce_wide(p.machine.isa);
    k->op = m.op, k->type = m.type;
    k->outer = m.outer, k->length = m.length, k->inner = m.inner;
    k->tasks = recipe.at("tasks");
    k->input = b.contiguous(m.node().inputs[0], Layout::natural);
    k->output = b.define(m.result(), Layout::natural);
    Step step = begin_step(b, m);
    step.text = fmt::format("{} x {} x {} {}, over the middle one, {} tasks", m.outer, m.length, m.inner,
                            to_string(b.dtype(m.node().inputs[0])), k->tasks);
    step.reads = {k->input.buffer};
    step.writes = {k->output.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& wide_reductions() {
  static const WideReductionForm form;
  return form;
}

}  // namespace lathe::lower
