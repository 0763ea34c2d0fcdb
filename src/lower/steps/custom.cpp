// Ops that bring a fast kernel of their own (OpDef::fast).
#include <fmt/format.h>

#include <algorithm>

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {
namespace {

constexpr size_t kMostOperands = 32;

// The lane's threads as a user's kernel sees them.
class Context : public KernelContext {
 public:
  Context(std::span<const TensorView> in, std::span<const TensorView> out, Workers& workers) : workers_(workers) {
    inputs = in;
    outputs = out;
  }
  int threads() const override { return workers_.size(); }
  void parallel(int64_t tasks, void (*f)(void*, int64_t), void* context) override {
    workers_.each(tasks, [&](int64_t task, int) { f(context, task); });
  }

 private:
  Workers& workers_;
};

class CustomKernel : public StepKernel {
 public:
  FastKernel kernel;
  std::string where;
  struct Operand {
    TensorView view;
    Location location;
    bool here = false;
  };
  std::vector<Operand> operands;  // inputs, then outputs
  std::vector<Shape> shapes;      // what the views point at
  size_t inputs = 0;

  void run(const StepContext& c) const override {
    TensorView views[kMostOperands];
    for (size_t i = 0; i < operands.size(); ++i) {
      views[i] = operands[i].view;
      if (operands[i].here) views[i].data = pointer<void>(c, operands[i].location);
    }
    const std::span<const TensorView> all(views, operands.size());
    Context context(all.first(inputs), all.subspan(inputs), c.workers);
    try {
      kernel(context);
    } catch (const Error& e) {
      std::vector<Fault> faults = e.faults();
      for (Fault& f : faults) {
        if (f.where.empty()) f.where = where;
      }
      throw Error(std::move(faults));
    } catch (const std::exception& e) {
      throw Error({{Category::internal, where, fmt::format("its fast kernel failed: {}", e.what())}});
    }
  }
};

struct CustomMatch : Match {
  using Match::Match;
  FastKernel kernel;
};

// Views of a node's inputs, then outputs; constants with their numbers. `shapes` holds what the views point at, `held` the constants.
std::vector<CustomKernel::Operand> operands_of(const GraphView& view, const Node& n, std::vector<Shape>& shapes,
                                               std::vector<Tensor>* held) {
  std::vector<CustomKernel::Operand> out;
  shapes.reserve(n.inputs.size() + n.outputs.size());
  const auto add = [&](ValueId v, bool input) {
    CustomKernel::Operand o;
    if (v != kAbsent) {
      shapes.push_back(view.shape(v));
      o.here = true;
      o.view = {view.dtype(v), &shapes.back(), nullptr};
      if (held && input && view.is_constant(v)) held->push_back(view.constant(v)), o.view.data = held->back().data();
    }
    out.push_back(std::move(o));
  };
  for (ValueId v : n.inputs) add(v, true);
  for (ValueId v : n.outputs) add(v, false);
  return out;
}

class CustomFamily : public StepFamily {
 public:
  std::string_view name() const override { return "custom"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine& machine) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const OpDef* def = view.definition(n);
    if (!def || !def->fast || !n.captures.empty() || n.inputs.size() + n.outputs.size() > kMostOperands) return nullptr;
    const auto fixed = [&](ValueId v) { return v == kAbsent || view.is_static(v); };
    if (!std::ranges::all_of(n.inputs, fixed) || !std::ranges::all_of(n.outputs, fixed)) return nullptr;
    std::vector<Shape> shapes;
    std::vector<Tensor> held;  // constants while the kernel is being made
    std::vector<TensorView> views;
    for (const auto& o : operands_of(view, n, shapes, &held)) views.push_back(o.view);
    const std::span<const TensorView> all(views);
    auto m = std::make_unique<CustomMatch>(view, group, StepKind::custom);
    m->kernel = def->fast({n, view.version(n), kernels::name(machine.isa), all.first(n.inputs.size()), all.subspan(n.inputs.size())});
    if (!m->kernel) return nullptr;
    for (const auto* list : {&n.inputs, &n.outputs}) {
      for (ValueId v : *list) {
        if (v != kAbsent) m->work.bytes += static_cast<double>(Tensor::borrow(view.dtype(v), view.shape(v), nullptr).byte_size());
      }
    }
    return m;
  }

  // It goes before whatever else there is.
  double estimate(const Match&, const Problem&, const Recipe&) const override { return 0; }

  void lower(PlanBuilder& b, const Match& match, const Problem&, const Recipe&) const override {
    const auto& m = static_cast<const CustomMatch&>(match);
    const Node& n = m.node();
    auto k = std::make_unique<CustomKernel>();
    k->inputs = n.inputs.size();
    k->where = label(b.graph(), n);
    k->kernel = m.kernel;
    k->operands = operands_of(b.view(), n, k->shapes, nullptr);
    Step step = begin_step(b, m);
    step.text = "the op's own fast kernel";
    step.counted = false;
    for (size_t i = 0; i < k->operands.size(); ++i) {
      const bool in = i < n.inputs.size();
      const ValueId v = in ? n.inputs[i] : n.outputs[i - n.inputs.size()];
      if (v == kAbsent) continue;
      k->operands[i].location = in ? b.contiguous(v, Layout::natural) : b.define(v, Layout::natural);
      (in ? step.reads : step.writes).push_back(k->operands[i].location.buffer);
    }
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& custom() {
  static const CustomFamily family;
  return family;
}

}  // namespace lathe::lower
