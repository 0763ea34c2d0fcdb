// CumSum along any axis: rows of running sums; those of f32 in double, as plain evaluation has it.
#include <fmt/format.h>

#include <algorithm>

#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

class RunningSumKernel : public StepKernel {
 public:
  Location input, output;
  int64_t rows = 0, length = 0, inner = 1;  // a row: `length` elements, `inner` apart
  int64_t each = 1;                         // rows a task
  bool exclusive = false, reverse = false;
  DType type = DType::f32;

  void run(const StepContext& c) const override {
    switch (type) {
      case DType::f64: return sums<double, double>(c);
      case DType::i32: return sums<int32_t, uint32_t>(c);
      case DType::i64: return sums<int64_t, uint64_t>(c);
      default: return sums<float, double>(c);
    }
  }

 private:
  // Whole numbers wrap.
  template <typename T, typename Sum>
  void sums(const StepContext& c) const {
    const T* x = pointer<const T>(c, input);
    T* y = pointer<T>(c, output);
    c.workers.each((rows + each - 1) / each, [&](int64_t task, int) {
      // Rows that lie side by side are summed together: what is read of memory is one run then.
      constexpr int64_t kTogether = 64;
      const int64_t end = std::min(rows, (task + 1) * each);
      for (int64_t r = task * each; r < end;) {
        const int64_t count = std::min({kTogether, inner - r % inner, end - r}), first = r / inner * length * inner + r % inner;
        if (count == 1) {
          Sum sum = 0;
          for (int64_t i = 0; i < length; ++i) {
            const int64_t at = first + (reverse ? length - 1 - i : i) * inner;
            const Sum after = sum + static_cast<Sum>(x[at]);
            y[at] = static_cast<T>(exclusive ? sum : after);
            sum = after;
          }
          ++r;
          continue;
        }
        Sum sums[kTogether] = {};
        for (int64_t i = 0; i < length; ++i) {
          const int64_t at = first + (reverse ? length - 1 - i : i) * inner;
          for (int64_t j = 0; j < count; ++j) {
            const Sum after = sums[j] + static_cast<Sum>(x[at + j]);
            y[at + j] = static_cast<T>(exclusive ? sums[j] : after);
            sums[j] = after;
          }
        }
        r += count;
      }
    });
  }
};

struct RunningSumMatch : Match {
  using Match::Match;
  int64_t rows = 0, length = 0, inner = 1;
};

constexpr Numbers kSums[]{{DType::f32, DType::f64, DType::f32}, same(DType::f64), same(DType::i32), same(DType::i64)};

class RunningSumFamily : public StepFamily {
 public:
  std::string_view name() const override { return "running_sum"; }
  std::span<const Numbers> numbers() const override { return kSums; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (n.op != "CumSum" || !n.domain.empty() || !view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0]) ||
        !view.is_constant(n.inputs[1]))
      return nullptr;
    const Shape s = view.shape(n.inputs[0]);
    if (s.empty() || element_count(s) == 0) return nullptr;
    const int64_t axis = ops::wrap_axis(integers(view.constant(n.inputs[1]))[0], static_cast<int64_t>(s.size()));
    auto m = std::make_unique<RunningSumMatch>(view, group, StepKind::reduction);
    m->length = s[axis];
    m->inner = product(s, axis + 1, s.size());
    m->rows = element_count(s) / m->length;
    m->work = {static_cast<double>(element_count(s)), bit_width(view.dtype(n.inputs[0])) / 4.0 * static_cast<double>(element_count(s))};
    return m;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const RunningSumMatch&>(match);
    // Of rows that lie side by side, enough to fill a line of memory.
    const int64_t each = std::min<int64_t>(m.rows / (p.machine.threads * 4) + 1, 16384 / m.length + std::min<int64_t>(64, m.inner));
    space.knob("rows_a_task", std::max<int64_t>(1, each), 1, m.rows);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem&, const Recipe& recipe) const override {
    const auto& m = static_cast<const RunningSumMatch&>(match);
    auto k = std::make_unique<RunningSumKernel>();
    k->rows = m.rows, k->length = m.length, k->inner = m.inner;
    k->each = recipe.at("rows_a_task");
    k->type = b.dtype(m.node().inputs[0]);
    k->exclusive = m.node().integer("exclusive", 0) != 0, k->reverse = m.node().integer("reverse", 0) != 0;
    k->input = b.contiguous(m.node().inputs[0], Layout::natural);
    k->output = b.define(m.result(), Layout::natural);
    Step step = begin_step(b, m);
    step.text = fmt::format("{} rows of {}, running sums of {}", m.rows, m.length, to_string(k->type));
    step.reads = {k->input.buffer};
    step.writes = {k->output.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& running_sums() {
  static const RunningSumFamily family;
  return family;
}

}  // namespace lathe::lower
