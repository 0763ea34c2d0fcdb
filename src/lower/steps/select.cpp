// ArgMax and ArgMin along any axis, and TopK of few along the last one.
#include <fmt/format.h>

#include <algorithm>

#include "lower/steps/select.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

class SelectKernel : public StepKernel {
 public:
  kernels::ArgRows arg = nullptr;
  kernels::TopRows top = nullptr;
  kernels::ArgArguments arg_arguments;
  kernels::TopArguments top_arguments;
  Location input, values, indices;
  bool has_values = false, has_indices = false;
  BufferId scratch = kNoBuffer;  // for what nobody reads
  int64_t rows = 0, each = 1;

  void run(const StepContext& c) const override {
    c.workers.each((rows + each - 1) / each, [&](int64_t task, int) {
      const int64_t begin = task * each, end = std::min(rows, begin + each);
      if (arg) {
        kernels::ArgArguments a = arg_arguments;
        a.in = pointer<const void>(c, input);
        a.out = pointer<int64_t>(c, indices);
        a.begin = begin, a.end = end;
        return arg(a);
      }
      kernels::TopArguments a = top_arguments;
      a.in = pointer<const void>(c, input);
      a.values = has_values ? pointer<void>(c, values) : c.buffers[scratch];
      a.indices = has_indices ? pointer<int64_t>(c, indices) : reinterpret_cast<int64_t*>(c.buffers[scratch]);
      a.begin = begin, a.end = end;
      top(a);
    });
  }
};

class SelectFamily : public StepFamily {
 public:
  std::string_view name() const override { return "select"; }
  std::span<const Numbers> numbers() const override { return kSelects; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_selection(view, group);
    return m && m->has_kernel() ? std::move(m) : nullptr;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const SelectMatch&>(match);
    const int64_t each = std::max<int64_t>(1, std::min<int64_t>(m.outer / (p.machine.threads * 4) + 1, 16384 / (m.length * m.inner) + 1));
    space.knob("rows_a_task", each, 1, std::max<int64_t>(1, m.outer));
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const SelectMatch&>(match);
    const Node& n = m.node();
    auto k = std::make_unique<SelectKernel>();
    k->rows = m.outer;
    k->each = recipe.at("rows_a_task");
    Step step = begin_step(b, m);
    const std::string of_type = b.dtype(n.inputs[0]) == DType::f32 ? "" : fmt::format(" {}", to_string(b.dtype(n.inputs[0])));
    if (m.top) {
      k->top = kernels::top_rows(p.machine.isa);
      k->top_arguments.type = select_number(b.dtype(n.inputs[0]));
      k->top_arguments.length = m.length;
      k->top_arguments.k = m.most;
      k->top_arguments.smallest = n.integer("largest", 1) == 0;
      step.text = fmt::format("best {} of {} rows of {}{}", m.most, m.outer, m.length, of_type);
    } else {
      k->arg = kernels::arg_rows(p.machine.isa);
      k->arg_arguments.type = select_number(b.dtype(n.inputs[0]));
      k->arg_arguments.length = m.length;
      k->arg_arguments.inner = m.inner;
      k->arg_arguments.smallest = n.op == "ArgMin";
      k->arg_arguments.last = n.integer("select_last_index", 0) != 0;
      step.text = m.inner == 1 ? fmt::format("{} rows of {}{}", m.outer, m.length, of_type)
                               : fmt::format("{} x {} x {}{}, along the middle one", m.outer, m.length, m.inner, of_type);
    }
    k->input = b.contiguous(n.inputs[0], Layout::natural);
    step.reads = {k->input.buffer};
    const auto out = [&](size_t i, Location& location) {
      if (!given(n.outputs, i)) return false;
      location = b.define(n.outputs[i], Layout::natural);
      step.writes.push_back(location.buffer);
      return true;
    };
    if (m.top) k->has_values = out(0, k->values);
    k->has_indices = out(m.top ? 1 : 0, k->indices);
    if (m.top && (!k->has_values || !k->has_indices)) {
      k->scratch = b.scratch(static_cast<size_t>(k->rows * k->top_arguments.k) * 8);
      step.scratch = {k->scratch};
    }
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

kernels::SelectNumber select_number(DType dtype) {
  using kernels::SelectNumber;
  switch (dtype) {
    case DType::f64: return SelectNumber::f64;
    case DType::i32: return SelectNumber::i32;
    case DType::i64: return SelectNumber::i64;
    case DType::u8: return SelectNumber::u8;
    case DType::i8: return SelectNumber::i8;
    default: return SelectNumber::f32;
  }
}

bool SelectMatch::has_kernel() const {
  if (!top) return true;
  return inner == 1 && most <= kernels::kMostTop && most * 8 <= length && bit_width(view->dtype(node().inputs[0])) >= 32;
}

std::unique_ptr<SelectMatch> match_selection(const GraphView& view, const Group& group) {
  if (!group.single()) return nullptr;
  const Node& n = view.node(group.nodes[0]);
  const bool top = n.op == "TopK";
  if (!n.domain.empty() || (!top && n.op != "ArgMax" && n.op != "ArgMin") || !view.is_static(n.inputs[0])) return nullptr;
  if (!std::ranges::all_of(n.outputs, [&](ValueId v) { return v == kAbsent || view.is_static(v); })) return nullptr;
  const Shape in = view.shape(n.inputs[0]);
  if (in.empty() || element_count(in) == 0) return nullptr;
  const auto axis = static_cast<size_t>(ops::wrap_axis(n.integer("axis", top ? -1 : 0), static_cast<int64_t>(in.size())));
  auto m = std::make_unique<SelectMatch>(view, group, StepKind::selection);
  m->top = top;
  m->length = in[axis], m->outer = product(in, 0, axis), m->inner = product(in, axis + 1, in.size());
  if (top) m->most = view.shape(n.outputs[0] != kAbsent ? n.outputs[0] : n.outputs[1])[axis];
  if (m->most < 1) return nullptr;
  m->work.bytes = bit_width(view.dtype(n.inputs[0])) / 8.0 * static_cast<double>(element_count(in));
  return m;
}

const StepFamily& selections() {
  static const SelectFamily family;
  return family;
}

}  // namespace lathe::lower
