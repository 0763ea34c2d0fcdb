// Ops that bring a fast kernel of their own (OpDef::fast).
#include <algorithm>

#include "base/fail.hpp"
#include "lower/lowering.hpp"

namespace lathe::lower {
namespace {

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
    Place place;
    bool here = false;
  };
  std::vector<Operand> operands;  // inputs, then outputs
  std::vector<Shape> shapes;      // what the views point at
  size_t inputs = 0;

  void run(const StepContext& c) const override {
    constexpr size_t kMost = 32;
    TensorView views[kMost];
    for (size_t i = 0; i < operands.size(); ++i) {
      views[i] = operands[i].view;
      if (operands[i].here) views[i].data = pointer<void>(c, operands[i].place);
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

}  // namespace

bool lower_custom(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  const OpDef* def = find_op(n.domain, n.op, g.version_of(n));
  if (def == nullptr || !def->fast || !n.captures.empty() || n.inputs.size() + n.outputs.size() > 32) return false;
  const auto fixed = [&](ValueId v) { return v == kAbsent || l.is_static(v); };
  if (!std::ranges::all_of(n.inputs, fixed) || !std::ranges::all_of(n.outputs, fixed)) return false;
  auto k = std::make_unique<CustomKernel>();
  k->inputs = n.inputs.size();
  k->where = label(g, n);
  k->shapes.reserve(n.inputs.size() + n.outputs.size());
  std::vector<Tensor> held;  // constants while the kernel is being made
  const auto view = [&](ValueId v, bool constant) {
    CustomKernel::Operand o;
    if (v != kAbsent) {
      k->shapes.push_back(l.shape(v));
      o.here = true;
      o.view = {l.dtype(v), &k->shapes.back(), nullptr};
      if (constant) held.push_back(l.constant(v)), o.view.data = held.back().data();
    }
    k->operands.push_back(o);
  };
  for (ValueId v : n.inputs) view(v, v != kAbsent && l.is_constant(v));
  for (ValueId v : n.outputs) view(v, false);
  std::vector<TensorView> views;
  for (const auto& o : k->operands) views.push_back(o.view);
  const std::span<const TensorView> all(views);
  k->kernel = def->fast(
      {n, static_cast<int>(g.version_of(n)), kernels::name(l.options().isa), all.first(n.inputs.size()), all.subspan(n.inputs.size())});
  if (!k->kernel) return false;
  Step step;
  step.kind = "custom";
  step.nodes = l.names(group);
  step.recipe = "the op's own fast kernel";
  for (size_t i = 0; i < n.inputs.size() + n.outputs.size(); ++i) {
    const bool in = i < n.inputs.size();
    const ValueId v = in ? n.inputs[i] : n.outputs[i - n.inputs.size()];
    if (v == kAbsent) continue;
    k->operands[i].place = in ? l.place(v, Layout::natural) : l.define(v, Layout::natural);
    (in ? step.reads : step.writes).push_back(k->operands[i].place.buffer);
    step.bytes += static_cast<double>(Tensor::borrow(l.dtype(v), l.shape(v), nullptr).byte_size());
  }
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
