// TopK of as many elements as the kernel for few does not keep, along any axis.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "lower/steps/select.hpp"

namespace lathe::lower {
namespace {

class WideSelectKernel : public StepKernel {
 public:
  Location input, values, indices;
  bool has_values = false, has_indices = false, smallest = false;
  int64_t outer = 1, length = 0, inner = 1, most = 1;
  int64_t tasks = 1;
  Location order;  // scratch of indices, `length` for each task; behind them, half as many elements
  kernels::Contenders contenders = nullptr;
  kernels::SelectNumber number = kernels::SelectNumber::f32;
  DType type = DType::f32;

  void run(const StepContext& c) const override {
    switch (type) {
      case DType::f32: return select<float>(c);
      case DType::f64: return select<double>(c);
      case DType::i32: return select<int32_t>(c);
      case DType::i64: return select<int64_t>(c);
      case DType::u8: return select<uint8_t>(c);
      default: return select<int8_t>(c);
    }
  }

 private:
  template <typename T>
  void select(const StepContext& c) const {
    const T* x = pointer<const T>(c, input);
    const int64_t rows = outer * inner;
    c.workers.each(tasks, [&](int64_t task, int) {
      for (int64_t r = rows * task / tasks; r < rows * (task + 1) / tasks; ++r)
        best(c, x, r, pointer<int64_t>(c, order) + task * (length + length / 2 + 1));
    });
  }

  // Best first, equal ones by index; NaN counts as larger than everything.
  template <typename T>
  void best(const StepContext& c, const T* x, int64_t row, int64_t* from) const {
    const T* p = x + row / inner * length * inner + row % inner;
    const auto above = [](T a, T b) {
      if constexpr (std::is_floating_point_v<T>) return !std::isnan(b) && (std::isnan(a) || a > b);
      else return a > b;
    };
    const auto before = [&](int64_t a, int64_t b) {
      const T v = p[a * inner], w = p[b * inner];
      if (smallest ? above(w, v) : above(v, w)) return true;
      if (smallest ? above(v, w) : above(w, v)) return false;
      return a < b;
    };
    int64_t among = contenders ? contenders({number, p, length, most, smallest, from, from + length}) : -1;
    if (among < 0) {
      std::iota(from, from + length, int64_t{0});
      among = length;
    }
    if (most < among) std::nth_element(from, from + most - 1, from + among, before);
    std::sort(from, from + most, before);
    const int64_t to = row / inner * most * inner + row % inner;
    for (int64_t j = 0; j < most; ++j) {
      if (has_values) pointer<T>(c, values)[to + j * inner] = p[from[j] * inner];
      if (has_indices) pointer<int64_t>(c, indices)[to + j * inner] = from[j];
    }
  }
};

class WideSelectFamily : public StepFamily {
 public:
  std::string_view name() const override { return "select.wide"; }
  std::span<const Numbers> numbers() const override { return kSelects; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_selection(view, group);
    return m && !m->has_kernel() ? std::move(m) : nullptr;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const SelectMatch&>(match);
    const int64_t rows = m.outer * m.inner;
    const int64_t some = p.machine.threads > 1 ? std::min<int64_t>(rows, p.machine.threads * 4) : 1;
    space.knob("tasks", rows * m.length < 16384 ? 1 : some, 1, rows);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const SelectMatch&>(match);
    const Node& n = m.node();
    auto k = std::make_unique<WideSelectKernel>();
    k->outer = m.outer, k->length = m.length, k->inner = m.inner, k->most = m.most;
    k->tasks = recipe.at("tasks");
    k->type = b.dtype(n.inputs[0]);
    k->smallest = n.integer("largest", 1) == 0;
    Step step = begin_step(b, m);
    step.text = fmt::format("best {} of {} rows of {} of {}", m.most, m.outer * m.inner, m.length, to_string(k->type));
    k->input = b.contiguous(n.inputs[0], Layout::natural);
    step.reads = {k->input.buffer};
    const auto out = [&](size_t i, Location& location) {
      if (!given(n.outputs, i)) return false;
      location = b.define(n.outputs[i], Layout::natural);
      step.writes.push_back(location.buffer);
      return true;
    };
    k->has_values = out(0, k->values);
    k->has_indices = out(1, k->indices);
    k->order = {b.scratch(static_cast<size_t>(k->tasks * (m.length + m.length / 2 + 1)) * sizeof(int64_t))};
    if (m.inner == 1 && bit_width(k->type) >= 32) {
      k->contenders = kernels::contenders(p.machine.isa);
      k->number = select_number(k->type);
    }
    step.scratch = {k->order.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& wide_selections() {
  static const WideSelectFamily family;
  return family;
}

}  // namespace lathe::lower
