// Which nodes and groups are work along rows, of what form, and where their operands are.
#include "lower/steps/rows.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <span>

#include "lower/steps/reduction_axes.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

using kernels::RowOp;

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

void softmax(RowsMatch& m) {
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

void global_pool(RowsMatch& m) {
  m.kind = StepKind::reduction;
  const Shape s = m.view->shape(m.node().inputs[0]);
  const int64_t pixels = product(s, 2, s.size());
  if (pixels == 0) return;
  const bool average = m.node().op == "GlobalAveragePool";
  m.natural = RowForm{average ? RowOp::mean : RowOp::max, s[0] * s[1], pixels};
  if (average) m.last = RowForm{RowOp::mean_columns, s[0], pixels, s[1], Layout::channels_last};
}

void normalisation(RowsMatch& m) {
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

void group_normalisation(RowsMatch& m) {
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

void reduction(RowsMatch& m) {
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

}  // namespace

Anchor rows_anchor(const GraphView& view, const Node& n) {
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

std::unique_ptr<RowsMatch> match_rows(const GraphView& view, const Group& group) {
  if (group.role == Anchor::tiles || (group.role == Anchor::none && group.nodes.size() != 1)) return nullptr;
  const Node& n = view.node(group.head());
  if (!n.domain.empty() || n.inputs.empty() || n.outputs.empty() || !view.is_f32(n.inputs[0]) || !view.is_f32(n.outputs[0])) return nullptr;
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

LayoutDemand rows_layouts(const RowsMatch& m) {
  if (m.group->role == Anchor::rows) return {};
  if (!m.natural) return {Order::channels_last, Order::channels_last, Order::channels_last};
  const Node& n = m.node();
  // The result of a spatial one is the same bytes in both.
  const bool either = m.last || n.op == "ReduceMean" || n.op == "ReduceSum" || n.op == "ReduceMax";
  return either ? LayoutDemand{Order::natural, Order::any, Order::any} : LayoutDemand{};
}

void bind_rows(PlanBuilder& b, const RowsMatch& m, const RowForm& form, kernels::Isa isa, int64_t scratch_floats, BoundRows& k,
               Step& step) {
  const Node& n = m.node();
  k.rows = kernels::rows(isa);
  k.arguments = m.arguments;
  k.arguments.op = form.op, k.arguments.length = form.length, k.arguments.width = form.width;
  k.count = form.count;
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
  const Shape whole = b.shape(n.inputs[0]);
  const std::span<const int> all(m.group->nodes);
  const auto at = static_cast<size_t>(std::ranges::find(m.group->nodes, m.group->head()) - m.group->nodes.begin());
  if (at > 0) k.before = bind_row_tape(b, isa, all.first(at), kAbsent, whole, Layout::natural, step);
  if (at + 1 < all.size()) k.after = bind_row_tape(b, isa, all.subspan(at + 1), n.outputs[0], whole, Layout::natural, step);
  k.in_output = b.shape(n.outputs[0]) == whole;
  if (!k.before) {
    k.input = b.contiguous(n.inputs[0], form.in);
    step.reads.push_back(k.input.buffer);
  } else if (m.group->kept) {
    k.kept = true;
    k.input = b.define(n.inputs[0], Layout::natural);
    step.writes.push_back(k.input.buffer);
    step.bytes += 4.0 * static_cast<double>(element_count(whole));
  } else if (!k.in_output) {
    k.scratch = {b.scratch(static_cast<size_t>(scratch_floats) * sizeof(float))};
    step.scratch.push_back(k.scratch.buffer);
  }
  k.output = b.define(m.result(), form.out);
  step.writes.push_back(k.output.buffer);
  step.text = fmt::format("{} rows of {}{}", form.count, form.length, form.width > 1 ? fmt::format(" x {}", form.width) : "");
}

std::string tapes_text(const BoundRows& k) {
  std::string text;
  if (k.before) text += fmt::format(", tape of {} before{}", k.before->tape.steps.size(), k.kept ? ", kept for others" : "");
  if (k.after) text += fmt::format(", tape of {} after", k.after->tape.steps.size());
  return text;
}

}  // namespace lathe::lower
