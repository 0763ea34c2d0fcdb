// Whole numbers that something is divided by: copied, and a zero among them is an error.
#include <algorithm>
#include <atomic>

#include "base/fail.hpp"
#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/internal_ops.hpp"

namespace lathe::lower {
namespace {

class DivisorsKernel : public StepKernel {
 public:
  Location from, to;
  int bytes = 4;
  int64_t count = 0;
  std::string node;

  void run(const StepContext& c) const override {
    std::atomic<bool> zero = false;
    constexpr int64_t kChunk = 16384;
    const int64_t chunks = (count + kChunk - 1) / kChunk;
    c.workers.each(chunks, [&](int64_t chunk, int) {
      const int64_t begin = chunk * kChunk, n = std::min(kChunk, count - begin);
      const auto part = [&]<typename T>(const T* in, T* out) {
        T some = 0;
        for (int64_t i = 0; i < n; ++i) {
          some = static_cast<T>(some | (in[i] == 0));
          out[i] = in[i];
        }
        if (some != 0) zero.store(true, std::memory_order_relaxed);
      };
      if (bytes == 4) part(pointer<const int32_t>(c, from) + begin, pointer<int32_t>(c, to) + begin);
      else part(pointer<const int64_t>(c, from) + begin, pointer<int64_t>(c, to) + begin);
    });
    if (zero) throw Error({{Category::value, node, "integer division by zero"}});
  }
};

class DivisorsFamily : public StepFamily {
 public:
  std::string_view name() const override { return "divisors"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (n.op != ops::kDivisors || n.domain != ops::kInternalDomain || !view.is_static(n.inputs[0])) return nullptr;
    if (view.dtype(n.inputs[0]) != DType::i32 && view.dtype(n.inputs[0]) != DType::i64) return nullptr;
    return std::make_unique<Match>(view, group, StepKind::copy);
  }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    const Node& n = m.node();
    auto k = std::make_unique<DivisorsKernel>();
    k->from = b.contiguous(n.inputs[0], Layout::natural);
    k->to = b.define(n.outputs[0], Layout::natural);
    k->bytes = copy_bytes(m.view->dtype(n.inputs[0]));
    k->count = element_count(m.view->shape(n.inputs[0]));
    k->node = label(m.view->graph(), n);
    Step step = begin_step(b, m);
    step.can_fail = true;
    step.text = "copied, and looked at for zeros";
    step.reads = {k->from.buffer};
    step.writes = {k->to.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& divisors() {
  static const DivisorsFamily family;
  return family;
}

}  // namespace lathe::lower
