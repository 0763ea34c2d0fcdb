// Softmax, normalisations and reductions: work along rows, with the elementwise nodes before and after it done while a row is near.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "kernels/rows.hpp"
#include "lower/fuse/row_tape.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/forms.hpp"
#include "lower/steps/reduction_axes.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

using kernels::RowOp;

class RowKernel : public StepKernel {
 public:
  kernels::Rows rows = nullptr;
  kernels::RowArguments arguments;
  Location input, output, scale, bias;
  bool has_scale = false, has_bias = false;
  int64_t count = 0, each = 1;
  int64_t strips = 1;  // of columns, when there are few rows to share out
  std::optional<RowTape> before, after;
  // Where the rows that `before` makes go: to `input`, which others read too; else to the output, when it has rows as long; else to scratch
  // for one row a task.
  bool kept = false, in_output = false;
  Location scratch;
  int64_t near_rows = 1;  // rows done together while they stay in L1

  void run(const StepContext& c) const override {
    c.workers.each((count + each - 1) / each * strips, [&](int64_t piece, int) {
      const int64_t task = piece / strips, strip = piece % strips;
      kernels::RowArguments a = arguments;
      a.out = pointer<float>(c, output);
      if (has_scale) a.scale = pointer<const float>(c, scale);
      if (has_bias) a.bias = pointer<const float>(c, bias);
      a.column_begin = a.width * strip / strips / 16 * 16;
      a.column_end = strip + 1 == strips ? a.width : a.width * (strip + 1) / strips / 16 * 16;
      const int64_t first = task * each, last = std::min(count, first + each);
      if (!before && !after) {
        a.in = pointer<const float>(c, input);
        a.begin = first;
        a.end = last;
        rows(a);
        return;
      }
      for (int64_t r = first; r < last; r += near_rows) {
        a.begin = r;
        a.end = std::min(last, r + near_rows);
        if (before) {
          // The kernel counts rows from 0 of what it is given; scratch holds only those of now.
          float* made = kept        ? pointer<float>(c, input)
                        : in_output ? a.out
                                    : pointer<float>(c, scratch) + (task * near_rows - r) * a.length;
          before->run_rows(c, r, a.end, a.length, made + r * a.length, kernels::TapeType::f32, false);
          a.in = made;
        } else {
          a.in = pointer<const float>(c, input);
        }
        rows(a);
        if (after) after->run_rows(c, r, a.end, a.length, a.out + r * a.length, kernels::TapeType::f32, true);
      }
    });
  }
};

struct RowForm {
  RowOp op = RowOp::softmax;
  int64_t count = 0, length = 0, width = 1;
  Layout in = Layout::natural, out = Layout::natural;
};

struct RowsMatch : Match {
  using Match::Match;
  std::optional<RowForm> natural, last;  // for an input that is so
  bool affine = false;                   // scale, and perhaps a shift: inputs 1 and 2
  kernels::RowArguments arguments;
  const RowForm& form(Layout layout) const { return layout == Layout::channels_last && last ? *last : natural ? *natural : *last; }
  const RowForm& form(const Problem& p) const {
    const Problem::Operation& head = p.operations[static_cast<size_t>(std::max(0, p.anchor))];
    return form(p.operands[static_cast<size_t>(head.inputs[0])].layout);
  }
};

bool is_softmax(const Node& n) { return n.op == "Softmax" || n.op == "LogSoftmax"; }
bool normalises_rows(const Node& n) { return n.op == "LayerNormalization" || n.op == "RMSNormalization"; }

// Of a reduction: the kernel's op along rows, and along columns.
struct Reduction {
  RowOp rows, columns;
};
const Reduction* reduction_of(const Node& n) {
  static const std::map<std::string, Reduction> kOps{{"ReduceSum", {RowOp::sum, RowOp::sum_columns}},
                                                     {"ReduceMean", {RowOp::mean, RowOp::mean_columns}},
                                                     {"ReduceMax", {RowOp::max, RowOp::max_columns}},
                                                     {"ReduceMin", {RowOp::min, RowOp::min_columns}},
                                                     {"ReduceSumSquare", {RowOp::sum_squares, RowOp::sum_squares_columns}},
                                                     {"ReduceL1", {RowOp::l1, RowOp::l1_columns}},
                                                     {"ReduceL2", {RowOp::l2, RowOp::l2_columns}}};
  const auto it = kOps.find(n.op);
  return it == kOps.end() ? nullptr : &it->second;
}

// Whether a scale or shift has one number for each element of a row, in their order (dims of 1 in front do not matter).
bool lies_along(Shape s, const Shape& row) {
  while (s.size() > row.size() && s.front() == 1) s.erase(s.begin());
  return s == row;
}

bool one_result(const Node& n) {
  return std::ranges::all_of(std::span(n.outputs).subspan(1), [](ValueId v) { return v == kAbsent; });
}

class RowsFamily : public StepFamily {
 public:
  std::string_view name() const override { return "rows"; }
  std::span<const Numbers> numbers() const override { return kF32; }
  std::span<const StepFamily* const> forms() const override {
    static const std::array kForms{&wide_reductions()};
    return kForms;
  }

  // Along the last axis.
  Anchor anchor(const GraphView& view, const Node& n) const override {
    const bool rows = is_softmax(n) || normalises_rows(n);
    if (!n.domain.empty() || (!rows && !reduction_of(n)) || n.inputs.empty() || n.outputs.empty() || !one_result(n)) return Anchor::none;
    if (!view.is_f32(n.inputs[0]) || !view.is_f32(n.outputs[0])) return Anchor::none;
    const Shape s = view.shape(n.inputs[0]);
    if (s.empty() || element_count(s) == 0) return Anchor::none;
    const auto rank = static_cast<int64_t>(s.size());
    if (rows) {
      if (is_softmax(n) && view.version(n) < 13) return Anchor::none;
      for (size_t i = 1; i < n.inputs.size(); ++i) {
        if (n.inputs[i] != kAbsent && (!view.is_f32(n.inputs[i]) || !lies_along(view.shape(n.inputs[i]), {s.back()}))) return Anchor::none;
      }
      return ops::wrap_axis(n.integer("axis", -1), rank) == rank - 1 ? Anchor::rows : Anchor::none;
    }
    const auto axes = axes_of(view, n);
    return axes && axes->size() == 1 && ops::wrap_axis(axes->front(), rank) == rank - 1 ? Anchor::rows : Anchor::none;
  }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (group.role == Anchor::tiles || (group.role == Anchor::none && group.nodes.size() != 1)) return nullptr;
    const Node& n = view.node(group.head());
    if (!n.domain.empty() || n.inputs.empty() || n.outputs.empty() || !view.is_f32(n.inputs[0]) || !view.is_f32(n.outputs[0]))
      return nullptr;
    auto m = std::make_unique<RowsMatch>(view, group, StepKind::softmax);
    if (is_softmax(n)) softmax(*m);
    else if (n.op == "GlobalAveragePool" || n.op == "GlobalMaxPool") global_pool(*m);
    else if (normalises_rows(n)) normalisation(*m);
    else if (n.op == "InstanceNormalization" || (n.op == "GroupNormalization" && view.version(n) >= 21)) group_normalisation(*m);
    else if (reduction_of(n)) reduction(*m);
    if (!m->natural && !m->last) return nullptr;
    const RowForm& form = m->form(Layout::natural);
    const double elements = static_cast<double>(form.count) * static_cast<double>(form.length * form.width);
    m->work.flops = elements * (m->kind == StepKind::reduction ? 1 : 5);
    const double read = group.ahead().empty() || group.role == Anchor::none ? elements : 0;
    m->work.bytes = 4 * (read + static_cast<double>(element_count(view.shape(n.outputs[0]))));
    return m;
  }

  LayoutDemand layouts(const Match& match) const override {
    const auto& m = static_cast<const RowsMatch&>(match);
    if (m.group->role == Anchor::rows) return {};
    if (!m.natural) return {Order::channels_last, Order::channels_last, Order::channels_last};
    const Node& n = m.node();
    // The result of a spatial one is the same bytes in both.
    const bool either = m.last || n.op == "ReduceMean" || n.op == "ReduceSum" || n.op == "ReduceMax";
    return either ? LayoutDemand{Order::natural, Order::any, Order::any} : LayoutDemand{};
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const RowsMatch&>(match);
    const RowForm& f = m.form(p);
    const int64_t threads = p.machine.threads;
    const int64_t each =
        std::max<int64_t>(1, std::min<int64_t>(f.count / (threads * 4) + 1, 16384 / std::max<int64_t>(1, f.length * f.width) + 1));
    space.knob("rows_a_task", each, 1, std::max<int64_t>(1, f.count));
    const bool strips = f.width > 1 && threads > 1 && f.count < 4 * threads;
    space.knob("strips", strips ? std::clamp<int64_t>(f.width / 512, 1, 4 * threads) : 1, 1, std::max<int64_t>(1, f.width / 16));
    if (m.group->nodes.size() > 1) space.knob("near_rows", std::max<int64_t>(1, 4096 / std::max<int64_t>(1, f.length)), 1, 4096);
  }

  std::string fault(const Match& m, const Problem&, const Recipe& r) const override {
    return m.group->nodes.size() > 1 && r.at("strips") > 1 ? "rows with other nodes around them are not cut into strips" : "";
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const RowsMatch&>(match);
    const Node& n = m.node();
    const Group& group = *m.group;
    const RowForm& form = m.form(p);
    auto kernel = std::make_unique<RowKernel>();
    RowKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    if (m.affine) {
      k.scale = b.contiguous(n.inputs[1], Layout::natural);
      k.has_scale = true;
      step.reads.push_back(k.scale.buffer);
      if (given(n.inputs, 2)) {
        k.bias = b.contiguous(n.inputs[2], Layout::natural);
        k.has_bias = true;
        step.reads.push_back(k.bias.buffer);
      }
    }
    k.rows = kernels::rows(p.machine.isa);
    k.arguments = m.arguments;
    k.arguments.op = form.op;
    k.arguments.length = form.length;
    k.arguments.width = form.width;
    k.count = form.count;
    k.each = recipe.at("rows_a_task");
    k.strips = recipe.at("strips");
    const Shape whole = b.shape(n.inputs[0]);
    const std::span<const int> all(group.nodes);
    const auto at = static_cast<size_t>(std::ranges::find(group.nodes, group.head()) - group.nodes.begin());
    if (at > 0) k.before = bind_row_tape(b, p.machine.isa, all.first(at), kAbsent, whole, Layout::natural, step);
    if (at + 1 < all.size()) k.after = bind_row_tape(b, p.machine.isa, all.subspan(at + 1), n.outputs[0], whole, Layout::natural, step);
    if (k.before || k.after) {
      k.near_rows = recipe.at("near_rows");
      k.in_output = b.shape(n.outputs[0]) == whole;
    }
    bind_input(b, m, form, k, step);
    k.output = b.define(m.result(), form.out);
    step.writes.push_back(k.output.buffer);
    step.text = fmt::format("{} rows of {}{}", form.count, form.length, form.width > 1 ? fmt::format(" x {}", form.width) : "");
    if (k.before) step.text += fmt::format(", tape of {} before{}", k.before->tape.steps.size(), k.kept ? ", kept for others" : "");
    if (k.after) step.text += fmt::format(", tape of {} after", k.after->tape.steps.size());
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  // What the kernel reads: the input, or rows that are made as it comes to them.
  static void bind_input(PlanBuilder& b, const RowsMatch& m, const RowForm& form, RowKernel& k, Step& step) {
    const ValueId in = m.node().inputs[0];
    if (!k.before) {
      k.input = b.contiguous(in, form.in);
      step.reads.push_back(k.input.buffer);
    } else if (m.group->kept) {
      k.kept = true;
      k.input = b.define(in, Layout::natural);
      step.writes.push_back(k.input.buffer);
      step.bytes += 4.0 * static_cast<double>(element_count(b.shape(in)));
    } else if (!k.in_output) {
      const int64_t tasks = (form.count + k.each - 1) / k.each;
      k.scratch = {b.scratch(static_cast<size_t>(tasks * k.near_rows * form.length) * sizeof(float))};
      step.scratch.push_back(k.scratch.buffer);
    }
  }

  static void softmax(RowsMatch& m) {
    const Node& n = m.node();
    const Shape s = m.view->shape(n.inputs[0]);
    const bool flattens = m.view->version(n) < 13;
    int64_t axis = n.integer("axis", flattens ? 1 : -1);
    if (axis < 0) axis += static_cast<int64_t>(s.size());
    const RowOp op = n.op == "LogSoftmax" ? RowOp::log_softmax : RowOp::softmax;
    if (flattens) {
      m.natural = RowForm{op, product(s, 0, axis), product(s, axis, s.size())};
    } else if (!s.empty() && axis + 1 == static_cast<int64_t>(s.size())) {
      m.natural = RowForm{op, product(s, 0, axis), s[axis]};
    } else if (axis == 1 && s.size() > 2) {  // over channels, which run fastest when the value is channels-last
      m.last = RowForm{op, element_count(s) / std::max<int64_t>(1, s[1]), s[1], 1, Layout::channels_last, Layout::channels_last};
    }
  }

  static void global_pool(RowsMatch& m) {
    m.kind = StepKind::reduction;
    const Shape s = m.view->shape(m.node().inputs[0]);
    const int64_t pixels = product(s, 2, s.size());
    if (pixels == 0) return;
    const bool average = m.node().op == "GlobalAveragePool";
    m.natural = RowForm{average ? RowOp::mean : RowOp::max, s[0] * s[1], pixels};
    if (average) m.last = RowForm{RowOp::mean_columns, s[0], pixels, s[1], Layout::channels_last};
  }

  static void normalisation(RowsMatch& m) {
    m.kind = StepKind::normalisation;
    const Node& n = m.node();
    const GraphView& view = *m.view;
    const Shape s = view.shape(n.inputs[0]);
    const int64_t axis = ops::wrap_axis(n.integer("axis", -1), static_cast<int64_t>(s.size())), length = product(s, axis, s.size());
    if (!one_result(n) || length == 0) return;
    for (size_t i = 1; i < n.inputs.size(); ++i) {
      if (n.inputs[i] != kAbsent && (!view.is_f32(n.inputs[i]) || !lies_along(view.shape(n.inputs[i]), Shape(s.begin() + axis, s.end()))))
        return;
    }
    m.affine = true;
    m.arguments.epsilon = n.real("epsilon", 1e-5f);
    m.natural = RowForm{n.op[0] == 'L' ? RowOp::layer_norm : RowOp::rms_norm, product(s, 0, axis), length};
  }

  static void group_normalisation(RowsMatch& m) {
    m.kind = StepKind::normalisation;
    const Node& n = m.node();
    const Shape s = m.view->shape(n.inputs[0]);
    if (s.size() < 3 || element_count(s) == 0 || !m.view->is_f32(n.inputs[1]) || !m.view->is_f32(n.inputs[2])) return;
    const int64_t groups = n.op[0] == 'I' ? s[1] : n.integer("num_groups", 1);
    if (groups < 1 || s[1] % groups != 0) return;
    m.affine = true;
    m.arguments.pixels = product(s, 2, s.size());
    m.arguments.channels = s[1];
    m.arguments.epsilon = n.real("epsilon", 1e-5f);
    m.natural = RowForm{RowOp::group_norm, s[0] * groups, element_count(s) / (s[0] * groups)};
  }

  static void reduction(RowsMatch& m) {
    m.kind = StepKind::reduction;
    const Node& n = m.node();
    const Reduction& op = *reduction_of(n);
    const Shape s = m.view->shape(n.inputs[0]);
    auto axes = axes_of(*m.view, n);
    if (!axes) return;
    if (axes->empty()) {
      if (n.integer("noop_with_empty_axes", 0)) return;
      for (size_t i = 0; i < s.size(); ++i) axes->push_back(static_cast<int64_t>(i));
    }
    *axes = ops::wrap_axes(*axes, static_cast<int64_t>(s.size()));
    std::ranges::sort(*axes);
    if (axes->empty()) return;
    for (size_t i = 1; i < axes->size(); ++i) {
      if ((*axes)[i] != (*axes)[i - 1] + 1) return;
    }
    const size_t first = axes->front(), end = axes->back() + 1;
    const int64_t length = product(s, first, end);
    if (length == 0) return;
    // With nodes around it, along the last axis in the standard's order, whatever the input's layout.
    if (m.group->role == Anchor::none && first == 2 && end == s.size())
      m.last = RowForm{op.columns, s[0], length, s[1], Layout::channels_last};
    if (end == s.size()) m.natural = RowForm{op.rows, product(s, 0, first), length};
    else m.natural = RowForm{op.columns, product(s, 0, first), length, product(s, end, s.size())};
  }
};

}  // namespace

const StepFamily& rows() {
  static const RowsFamily family;
  return family;
}

}  // namespace lathe::lower
