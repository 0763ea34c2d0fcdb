// Slices that begin or end where a run says: a window that moves over its data.
#include "lower/plan/copies.hpp"
#include "lower/steps/tensor_step.hpp"
#include "ops/movement.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

class SliceKernel : public TensorKernel {
 protected:
  std::vector<Tensor> make(const StepContext& c, std::span<const Tensor> inputs, std::span<const Tensor>,
                           std::span<Tensor> before) const override {
    const Tensor& data = inputs[0];
    check(inputs);
    ops::StridedRead read;
    try {
      std::vector<const Tensor*> operands;
      for (const Tensor& t : inputs) operands.push_back(t.empty() ? nullptr : &t);
      read = *ops::strided_read(*node, static_cast<int>(graph->version_of(*node)), data.shape(), operands);
    } catch (const Error& e) {
      throw Error({{e.category(), label(*graph, *node), e.what()}});
    }
    std::vector<Tensor> result;
    Tensor& out = result.emplace_back(memory(data.dtype(), read.shape, before[0]));
    if (out.size() == 0) return result;
    const int bytes = copy_bytes(data.dtype());
    const kernels::CopyPlan plan = kernels::plan_copy(bytes, read.shape, read.strides, ops::strides_of(read.shape));
    copy_by_all(c, plan, static_cast<const char*>(data.data()) + read.offset * bytes, out.data());
    return result;
  }
};

class SliceAtRun : public StepFamily {
 public:
  std::string_view name() const override { return "slice_at_run"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || n.op != "Slice" || view.version(n) < 10 || copy_bytes(view.dtype(n.inputs[0])) == 0) return nullptr;
    return std::make_unique<Match>(view, group, StepKind::copy);
  }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    add_tensor_step(b, m, std::make_unique<SliceKernel>(), "strided, from where the run says");
  }
};

}  // namespace

const StepFamily& slices_at_run() {
  static const SliceAtRun family;
  return family;
}

}  // namespace lathe::lower
