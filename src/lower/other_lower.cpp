// Row reductions, data movement, layout conversions, and the plain fallback.
#include <algorithm>
#include <cstring>

#include "base/fail.hpp"
#include "kernels/copy.hpp"
#include "kernels/rows.hpp"
#include "lathe/op.hpp"
#include "lower/lowering.hpp"
#include "ops/movement.hpp"
#include "ops/support.hpp"

namespace lathe::lower {

using kernels::RowOp;

namespace {

int64_t product(const Shape& s, size_t from, size_t to) {
  int64_t n = 1;
  for (size_t i = from; i < to; ++i) n *= s[i];
  return n;
}

// ---- rows ----

class RowKernel : public StepKernel {
 public:
  kernels::Rows rows = nullptr;
  kernels::RowArguments arguments;
  Place input, output, scale, bias;
  bool has_scale = false, has_bias = false;
  int64_t count = 0, each = 1;
  int64_t strips = 1;  // of columns, when there are few rows to share out
  std::optional<RowTape> before, after;
  // Where the rows that `before` makes go: to `input`, which others read too; else to the output, when it has rows as long; else to room
  // for one row a task.
  bool kept = false, in_output = false;
  Place room;
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
          // The kernel counts rows from 0 of what it is given; room holds only those of now.
          float* made = kept ? pointer<float>(c, input) : in_output ? a.out : pointer<float>(c, room) + (task * near_rows - r) * a.length;
          for (int64_t row = r; row < a.end; ++row) before->run(c, row, a.length, made + row * a.length, false);
          a.in = made;
        } else {
          a.in = pointer<const float>(c, input);
        }
        rows(a);
        for (int64_t row = r; after && row < a.end; ++row) after->run(c, row, a.length, a.out + row * a.length, true);
      }
    });
  }
};

struct RowForm {
  RowOp op;
  int64_t count, length, width = 1;
  Layout in = Layout::natural, out = Layout::natural;
};

std::optional<RowForm> softmax_form(Lowering& l, const Node& n) {
  const Shape s = l.shape(n.inputs[0]);
  const bool log = n.op == "LogSoftmax", flattens = l.graph().version_of(n) < 13;
  int64_t axis = n.integer("axis", flattens ? 1 : -1);
  if (axis < 0) axis += static_cast<int64_t>(s.size());
  const RowOp op = log ? RowOp::log_softmax : RowOp::softmax;
  if (flattens) return RowForm{op, product(s, 0, axis), product(s, axis, s.size())};
  if (s.empty()) return std::nullopt;
  if (axis + 1 == static_cast<int64_t>(s.size())) return RowForm{op, product(s, 0, axis), s[axis]};
  // Over channels, which run fastest when the value is channels-last.
  if (axis == 1 && s.size() > 2)
    return RowForm{op, element_count(s) / std::max<int64_t>(1, s[1]), s[1], 1, Layout::channels_last, Layout::channels_last};
  return std::nullopt;
}

// `rows`: along the last axis in the standard's order, whatever the input's layout.
std::optional<RowForm> reduce_form(Lowering& l, const Node& n, bool rows) {
  static const std::map<std::string, std::pair<RowOp, std::optional<RowOp>>> kOps{{"ReduceSum", {RowOp::sum, RowOp::sum_columns}},
                                                                                  {"ReduceMean", {RowOp::mean, RowOp::mean_columns}},
                                                                                  {"ReduceMax", {RowOp::max, RowOp::max_columns}},
                                                                                  {"ReduceMin", {RowOp::min, RowOp::min_columns}},
                                                                                  {"ReduceSumSquare", {RowOp::sum_squares, std::nullopt}},
                                                                                  {"ReduceL1", {RowOp::l1, std::nullopt}},
                                                                                  {"ReduceL2", {RowOp::l2, std::nullopt}}};
  const auto it = kOps.find(n.op);
  if (it == kOps.end()) return std::nullopt;
  const Shape s = l.shape(n.inputs[0]);
  std::vector<int64_t> axes = n.integers("axes");
  if (n.inputs.size() > 1 && n.inputs[1] != kAbsent) {
    if (!l.is_constant(n.inputs[1])) return std::nullopt;
    axes = integers(l.constant(n.inputs[1]));
  }
  if (axes.empty()) {
    if (n.integer("noop_with_empty_axes", 0)) return std::nullopt;
    for (size_t i = 0; i < s.size(); ++i) axes.push_back(static_cast<int64_t>(i));
  }
  axes = ops::wrap_axes(axes, static_cast<int64_t>(s.size()));
  std::sort(axes.begin(), axes.end());
  if (axes.empty()) return std::nullopt;
  for (size_t i = 1; i < axes.size(); ++i) {
    if (axes[i] != axes[i - 1] + 1) return std::nullopt;
  }
  const size_t first = axes.front(), last = axes.back() + 1;
  const int64_t length = product(s, first, last);
  if (length == 0) return std::nullopt;
  if (!rows && l.where_with_gaps(n.inputs[0]).layout == Layout::channels_last && first == 2 && last == s.size() && it->second.second) {
    return RowForm{*it->second.second, s[0], length, s[1], Layout::channels_last, Layout::natural};
  }
  if (last == s.size()) return RowForm{it->second.first, product(s, 0, first), length};
  if (it->second.second) return RowForm{*it->second.second, product(s, 0, first), length, product(s, last, s.size())};
  return std::nullopt;
}

}  // namespace

namespace {

// Whether a scale or shift has one number for each element of a row, in their order (dims of 1 in front do not matter).
bool lies_along(Shape s, const Shape& row) {
  while (s.size() > row.size() && s.front() == 1) s.erase(s.begin());
  return s == row;
}

}  // namespace

bool heads_rows(const Graph& g, const Node& n) {
  const bool rows = n.op == "Softmax" || n.op == "LogSoftmax" || n.op == "LayerNormalization" || n.op == "RMSNormalization";
  const bool reduces = n.op == "ReduceSum" || n.op == "ReduceMean" || n.op == "ReduceMax" || n.op == "ReduceMin" ||
                       n.op == "ReduceSumSquare" || n.op == "ReduceL1" || n.op == "ReduceL2";
  if (!n.domain.empty() || (!rows && !reduces) || n.inputs.empty() || n.outputs.empty()) return false;
  for (size_t i = 1; i < n.outputs.size(); ++i) {
    if (n.outputs[i] != kAbsent) return false;
  }
  const auto f32 = [&](ValueId v) { return v != kAbsent && g.values[v].dtype == DType::f32 && known_shape(g.values[v].dims); };
  if (!f32(n.inputs[0]) || !f32(n.outputs[0])) return false;
  const Shape s = *known_shape(g.values[n.inputs[0]].dims);
  if (s.empty() || element_count(s) == 0) return false;
  const auto rank = static_cast<int64_t>(s.size());
  if (rows) {
    if (n.op.ends_with("oftmax") && g.version_of(n) < 13) return false;
    for (size_t i = 1; i < n.inputs.size(); ++i) {
      if (n.inputs[i] != kAbsent && (!f32(n.inputs[i]) || !lies_along(*known_shape(g.values[n.inputs[i]].dims), {s.back()}))) return false;
    }
    return ops::wrap_axis(n.integer("axis", -1), rank) == rank - 1;
  }
  std::vector<int64_t> axes = n.integers("axes");
  if (n.inputs.size() > 1 && n.inputs[1] != kAbsent) {
    const auto& c = g.values[n.inputs[1]].constant;
    if (!c || c->data() == nullptr) return false;
    axes = integers(*c);
  }
  return axes.size() == 1 && ops::wrap_axis(axes[0], rank) == rank - 1;
}

bool lower_rows(Lowering& l, const Group& group) {
  const Graph& g = l.graph();
  if (group.anchor >= 0 ? !heads_rows(g, g.nodes[group.anchor]) : group.nodes.size() != 1) return false;
  const int head = group.anchor >= 0 ? group.anchor : group.nodes[0];
  const Node& n = g.nodes[head];
  const auto place_in_group = std::find(group.nodes.begin(), group.nodes.end(), head);
  const std::span<const int> ahead(group.nodes.begin(), place_in_group), behind(place_in_group + 1, group.nodes.end());
  const ValueId result = g.nodes[group.nodes.back()].outputs[0];
  if (!n.domain.empty() || n.inputs.empty() || n.outputs.empty()) return false;
  const auto f32 = [&](ValueId v) { return v != kAbsent && l.is_static(v) && l.dtype(v) == DType::f32; };
  if (!f32(n.inputs[0]) || !f32(n.outputs[0])) return false;
  auto kernel = std::make_unique<RowKernel>();
  Step step;
  std::optional<RowForm> form;
  if (n.op == "Softmax" || n.op == "LogSoftmax") {
    form = softmax_form(l, n);
  } else if (n.op == "GlobalAveragePool" || n.op == "GlobalMaxPool") {
    const Shape s = l.shape(n.inputs[0]);
    const int64_t pixels = product(s, 2, s.size());
    if (pixels == 0) return false;
    const bool average = n.op == "GlobalAveragePool", last = l.where_with_gaps(n.inputs[0]).layout == Layout::channels_last;
    if (average && last) form = RowForm{RowOp::mean_columns, s[0], pixels, s[1], Layout::channels_last};
    else form = RowForm{average ? RowOp::mean : RowOp::max, s[0] * s[1], pixels};
  } else if (n.op == "LayerNormalization" || n.op == "RMSNormalization") {
    for (size_t i = 1; i < n.outputs.size(); ++i) {
      if (n.outputs[i] != kAbsent) return false;
    }
    const Shape s = l.shape(n.inputs[0]);
    const int64_t axis = ops::wrap_axis(n.integer("axis", -1), static_cast<int64_t>(s.size()));
    const int64_t length = product(s, axis, s.size());
    for (size_t i = 1; i < n.inputs.size(); ++i) {
      if (n.inputs[i] != kAbsent && (!f32(n.inputs[i]) || !lies_along(l.shape(n.inputs[i]), Shape(s.begin() + axis, s.end()))))
        return false;
    }
    if (length == 0) return false;
    form = RowForm{n.op[0] == 'L' ? RowOp::layer_norm : RowOp::rms_norm, product(s, 0, axis), length};
    kernel->arguments.epsilon = n.real("epsilon", 1e-5f);
    kernel->scale = l.place(n.inputs[1], Layout::natural);
    kernel->has_scale = true;
    step.reads.push_back(kernel->scale.buffer);
    if (n.inputs.size() > 2 && n.inputs[2] != kAbsent) {
      kernel->bias = l.place(n.inputs[2], Layout::natural);
      kernel->has_bias = true;
      step.reads.push_back(kernel->bias.buffer);
    }
  } else if (n.op == "InstanceNormalization" || (n.op == "GroupNormalization" && l.graph().version_of(n) >= 21)) {
    const Shape s = l.shape(n.inputs[0]);
    if (s.size() < 3 || element_count(s) == 0 || !f32(n.inputs[1]) || !f32(n.inputs[2])) return false;
    const int64_t groups = n.op[0] == 'I' ? s[1] : n.integer("num_groups", 1);
    if (groups < 1 || s[1] % groups != 0) return false;
    form = RowForm{RowOp::group_norm, s[0] * groups, element_count(s) / (s[0] * groups)};
    kernel->arguments.pixels = product(s, 2, s.size());
    kernel->arguments.channels = s[1];
    kernel->arguments.epsilon = n.real("epsilon", 1e-5f);
    kernel->scale = l.place(n.inputs[1], Layout::natural);
    kernel->bias = l.place(n.inputs[2], Layout::natural);
    kernel->has_scale = kernel->has_bias = true;
    step.reads = {kernel->scale.buffer, kernel->bias.buffer};
  } else if (n.op.starts_with("Reduce")) {
    form = reduce_form(l, n, group.anchor >= 0);
  }
  if (!form) return false;
  step.kind = n.op.starts_with("Reduce") || n.op.starts_with("Global") ? "reduction"
              : n.op.ends_with("Normalization")                        ? "normalisation"
                                                                       : "softmax";
  step.nodes = l.names(group);
  kernel->rows = kernels::rows(l.options().isa);
  kernel->arguments.op = form->op;
  kernel->arguments.length = form->length;
  kernel->arguments.width = form->width;
  kernel->count = form->count;
  kernel->each = std::max<int64_t>(
      1, std::min<int64_t>(form->count / (l.options().threads * 4) + 1, 16384 / std::max<int64_t>(1, form->length * form->width) + 1));
  if (form->width > 1 && l.options().threads > 1 && form->count < 4 * l.options().threads)
    kernel->strips = std::clamp<int64_t>(form->width / 512, 1, 4 * l.options().threads);
  const Shape whole = l.shape(n.inputs[0]);
  if (!ahead.empty()) kernel->before = bind_row_tape(l, ahead, kAbsent, whole, Layout::natural, step);
  if (!behind.empty()) kernel->after = bind_row_tape(l, behind, n.outputs[0], whole, Layout::natural, step);
  if (kernel->before || kernel->after) {
    kernel->near_rows = std::max<int64_t>(1, 4096 / std::max<int64_t>(1, form->length));
    kernel->in_output = l.shape(n.outputs[0]) == whole;
  }
  if (kernel->before && group.kept) {
    kernel->kept = true;
    kernel->input = l.define(n.inputs[0], Layout::natural);
    step.writes.push_back(kernel->input.buffer);
    step.bytes += 4.0 * static_cast<double>(element_count(whole));
  } else if (!kernel->before) {
    kernel->input = l.place(n.inputs[0], form->in);
    step.reads.push_back(kernel->input.buffer);
  } else if (!kernel->in_output) {
    const int64_t tasks = (form->count + kernel->each - 1) / kernel->each;
    kernel->room = {l.scratch(static_cast<size_t>(tasks * kernel->near_rows * form->length) * sizeof(float))};
    step.scratch.push_back(kernel->room.buffer);
  }
  kernel->output = l.define(result, form->out);
  step.writes.push_back(kernel->output.buffer);
  const double elements = static_cast<double>(form->count) * static_cast<double>(form->length * form->width);
  step.flops += elements * (step.kind == "reduction" ? 1 : 5);
  step.bytes += 4 * ((kernel->before ? 0 : elements) + static_cast<double>(element_count(l.shape(n.outputs[0]))));
  step.recipe = fmt::format("{} rows of {}{}", form->count, form->length, form->width > 1 ? fmt::format(" x {}", form->width) : "");
  if (kernel->before)
    step.recipe += fmt::format(", tape of {} before{}", kernel->before->tape.steps.size(), kernel->kept ? ", kept for others" : "");
  if (kernel->after) step.recipe += fmt::format(", tape of {} after", kernel->after->tape.steps.size());
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

// ---- copies ----

namespace {

class CopyKernel : public StepKernel {
 public:
  struct Part {
    kernels::CopyPlan plan;
    Place from, to;  // offsets point at the first element read and written
  };
  std::vector<Part> parts;

  void run(const StepContext& c) const override {
    for (const Part& p : parts) {
      const char* from = pointer<const char>(c, p.from);
      char* to = pointer<char>(c, p.to);
      const int64_t pieces = std::min<int64_t>(p.plan.tasks, c.workers.size() > 1 ? c.workers.size() * 4 : 1);
      c.workers.each(pieces, [&](int64_t task, int) {
        kernels::run_copy(p.plan, from, to, p.plan.tasks * task / pieces, p.plan.tasks * (task + 1) / pieces);
      });
    }
  }
};

int copy_bytes(DType d) {
  const int bits = bit_width(d);
  return bits == 8 || bits == 16 || bits == 32 || bits == 64 ? bits / 8 : 0;
}

CopyKernel::Part part(int bytes, const Shape& shape, std::vector<int64_t> in, std::vector<int64_t> out, Place from, int64_t from_element,
                      Place to, int64_t to_element) {
  from.offset += from_element * bytes;
  to.offset += to_element * bytes;
  CopyKernel::Part p{kernels::plan_copy(bytes, shape, std::move(in), std::move(out)), from, to};
  if (element_count(shape) == 0) p.plan.tasks = 0;
  return p;
}

Step copy_step(std::vector<std::string> nodes, const std::string& recipe, double elements, int bytes) {
  Step step;
  step.kind = "copy";
  step.nodes = std::move(nodes);
  step.recipe = recipe;
  step.bytes = 2 * elements * bytes;
  return step;
}

class GatherKernel : public StepKernel {
 public:
  Place data, indices, output;
  bool wide = true;  // i64 indices, else i32
  int64_t outer = 0, axis_size = 0, inner_bytes = 0, count = 0;
  std::string where;

  int64_t index(const StepContext& c, int64_t i) const {
    const int64_t v = wide ? pointer<const int64_t>(c, indices)[i] : pointer<const int32_t>(c, indices)[i];
    return v < 0 ? v + axis_size : v;
  }

  void run(const StepContext& c) const override {
    for (int64_t i = 0; i < count; ++i) {
      const int64_t at = index(c, i);
      if (at < 0 || at >= axis_size)
        throw Error(
            {{Category::value, where, fmt::format("index {} is outside an axis of {} elements", at < 0 ? at - axis_size : at, axis_size)}});
    }
    const char* from = pointer<const char>(c, data);
    char* to = pointer<char>(c, output);
    constexpr int64_t kEach = 64;
    const int64_t total = outer * count;
    c.workers.each((total + kEach - 1) / kEach, [&](int64_t task, int) {
      for (int64_t r = task * kEach; r < std::min(total, (task + 1) * kEach); ++r) {
        std::memcpy(to + r * inner_bytes, from + (r / count * axis_size + index(c, r % count)) * inner_bytes, inner_bytes);
      }
    });
  }
};

bool lower_gather(Lowering& l, const Group& group, const Node& n) {
  const DType id = l.dtype(n.inputs[1]);
  if (!l.is_static(n.inputs[0]) || !l.is_static(n.inputs[1]) || copy_bytes(l.dtype(n.inputs[0])) == 0 ||
      (id != DType::i64 && id != DType::i32))
    return false;
  const Shape s = l.shape(n.inputs[0]);
  const int64_t axis = ops::wrap_axis(n.integer("axis", 0), static_cast<int64_t>(s.size()));
  // One known entry of the outermost axis is a part in one piece.
  if (l.is_constant(n.inputs[1]) && element_count(l.shape(n.inputs[1])) == 1 && product(s, 0, axis) == 1) {
    const int64_t given = integers(l.constant(n.inputs[1]))[0], at = given < 0 ? given + s[axis] : given;
    const int64_t bytes = product(s, axis + 1, s.size()) * copy_bytes(l.dtype(n.inputs[0]));
    if (at >= 0 && at < s[axis]) {
      const Place from = l.place(n.inputs[0], Layout::natural);
      l.alias(n.outputs[0], {from.buffer, from.offset + static_cast<size_t>(at * bytes), Layout::natural});
      return true;
    }
  }
  auto k = std::make_unique<GatherKernel>();
  k->data = l.place(n.inputs[0], Layout::natural);
  k->indices = l.place(n.inputs[1], Layout::natural);
  k->wide = id == DType::i64;
  k->outer = product(s, 0, axis);
  k->axis_size = s[axis];
  k->inner_bytes = product(s, axis + 1, s.size()) * copy_bytes(l.dtype(n.inputs[0]));
  k->count = element_count(l.shape(n.inputs[1]));
  k->where = label(l.graph(), n);
  k->output = l.define(n.outputs[0], Layout::natural);
  Step step = copy_step(l.names(group), fmt::format("{} runs of {} bytes", k->outer * k->count, k->inner_bytes),
                        static_cast<double>(k->outer * k->count), static_cast<int>(k->inner_bytes));
  step.can_fail = true;  // indices are looked at
  step.reads = {k->data.buffer, k->indices.buffer};
  step.writes = {k->output.buffer};
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

// The strides of the same elements in the same order seen as another shape, when there are such.
std::optional<std::vector<int64_t>> seen_as(const Shape& from, std::span<const int64_t> strides, const Shape& to) {
  // Axes of more than one entry, from the last on; each side is taken apart into runs of the same number of elements.
  std::vector<int64_t> out(to.size(), 1);
  auto i = static_cast<int64_t>(from.size()) - 1, o = static_cast<int64_t>(to.size()) - 1;
  while (true) {
    while (i >= 0 && from[i] == 1) --i;
    while (o >= 0 && to[o] == 1) --o;
    if (i < 0 || o < 0) break;
    int64_t in_run = from[i], out_run = to[o], first = o;
    const int64_t step = strides[i];
    int64_t last = i;
    while (in_run != out_run) {
      if (in_run < out_run) {
        while (last > 0 && from[last - 1] == 1) --last;
        if (last == 0) return std::nullopt;
        // The axis before must go on where this one ends.
        int64_t below = last;
        while (from[below] == 1) ++below;
        if (strides[last - 1] != strides[below] * from[below]) return std::nullopt;
        in_run *= from[--last];
      } else {
        if (first == 0) return std::nullopt;
        out_run *= to[--first];
      }
    }
    int64_t stride = step;
    for (int64_t k = o; k >= first; --k) {
      out[k] = stride;
      stride *= to[k];
    }
    i = last - 1;
    o = first - 1;
  }
  return i < 0 && o < 0 ? std::optional(out) : std::nullopt;
}

bool lower_join(Lowering& l, const Group& group, const Node& n) {
  const bool concat = n.op == "Concat";
  const std::vector<ValueId> parts = concat ? n.inputs : n.outputs;
  const ValueId whole = concat ? n.outputs[0] : n.inputs[0];
  const int bytes = copy_bytes(l.dtype(whole));
  const auto fixed = [&](ValueId v) { return v != kAbsent && l.is_static(v); };
  if (bytes == 0 || !fixed(whole) || !std::all_of(parts.begin(), parts.end(), fixed)) return false;
  const Shape s = l.shape(whole);
  const int64_t axis = ops::wrap_axis(n.integer("axis", 0), static_cast<int64_t>(s.size()));
  const auto part_at = [&](const Place& all, int64_t at, Layout layout) {
    const auto strides = strides_at(all, s);
    return Place{all.buffer, all.offset + static_cast<size_t>(at * strides[axis] * bytes), layout, strides};
  };
  if (!concat) {  // parts are read where they are, unless what runs fastest is cut to pieces
    const Layout layout = l.wanted(parts[0]);
    const Place from = l.place_with_gaps(whole, layout);
    auto k = std::make_unique<CopyKernel>();
    Step step = copy_step(l.names(group), "out of one buffer", 0, bytes);
    int64_t at = 0;
    for (ValueId v : parts) {
      const Shape p = l.shape(v);
      Place here = part_at(from, at, layout);
      at += p[axis];
      if (element_count(p) > 0 && runs_together(p, here.strides, layout)) {
        if (in_one_piece(p, here.strides, layout)) here.strides.clear();
        l.alias(v, here);
        continue;
      }
      const Place to = l.define_with_gaps(v, layout);
      k->parts.push_back(part(bytes, p, here.strides, strides_at(to, p), here, 0, to, 0));
      step.bytes += 2.0 * static_cast<double>(element_count(p)) * bytes;
      step.writes.push_back(to.buffer);
    }
    if (k->parts.empty()) return true;
    step.reads = {from.buffer};
    step.kernel = std::move(k);
    l.add(std::move(step));
    return true;
  }
  // Some parts may stand there already.
  const bool begun = std::ranges::any_of(parts, [&](ValueId v) { return l.is_part(v, whole); });
  const Layout layout = begun ? l.where_with_gaps(whole).layout : l.wanted(whole);
  std::vector<Place> places;
  for (ValueId v : parts) places.push_back(l.place_with_gaps(v, layout));
  const Place to = begun ? l.where_with_gaps(whole) : l.define_with_gaps(whole, layout);
  auto k = std::make_unique<CopyKernel>();
  Step step = copy_step(l.names(group), "into one buffer", 0, bytes);
  int64_t at = 0;
  for (size_t i = 0; i < parts.size(); ++i) {
    const Shape p = l.shape(parts[i]);
    const Place here = part_at(to, at, layout);
    at += p[axis];
    if (element_count(p) == 0 || (places[i].buffer == here.buffer && places[i].offset == here.offset)) continue;
    k->parts.push_back(part(bytes, p, strides_at(places[i], p), here.strides, places[i], 0, here, 0));
    step.bytes += 2.0 * static_cast<double>(element_count(p)) * bytes;
    step.reads.push_back(places[i].buffer);
  }
  if (k->parts.size() < parts.size() && !k->parts.empty())
    step.recipe = fmt::format("{} of {} parts into place", k->parts.size(), parts.size());
  if (begun && k->parts.empty()) return true;
  step.writes = {to.buffer};
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

// Blocks of pixels into channels, or the other way: one copy, from the layout the value has into the same.
bool lower_blocks(Lowering& l, const Group& group, const Node& n, int bytes) {
  const Shape s = l.shape(n.inputs[0]), o = l.shape(n.outputs[0]);
  const int64_t b = n.integer("blocksize", 1);
  if (s.size() != 4 || element_count(s) == 0) return false;
  const Layout layout = l.wanted(n.outputs[0]);
  const Place from = l.place_with_gaps(n.inputs[0], layout), to = l.define_with_gaps(n.outputs[0], layout);
  const auto in = strides_at(from, s), out = strides_at(to, o);
  // Dims: image, channel of the deeper side's blocks, row, row in the block, column, column in the block.
  const bool deep = n.op == "DepthToSpace", first = deep && n.text("mode", "DCR") == "CRD";
  const Shape &wide = deep ? o : s, &few = deep ? s : o;  // the side with more pixels, and the one with more channels
  const auto &wide_strides = deep ? out : in, &few_strides = deep ? in : out;
  const int64_t depth = wide[1], channel = few_strides[1];
  const Shape shape{s[0], depth, few[2], b, few[3], b};
  const std::vector<int64_t> pixels{wide_strides[0], wide_strides[1],     wide_strides[2] * b,
                                    wide_strides[2], wide_strides[3] * b, wide_strides[3]};
  const std::vector<int64_t> channels{few_strides[0], first ? channel * b * b : channel,
                                      few_strides[2], first ? channel * b : channel * depth * b,
                                      few_strides[3], first ? channel : channel * depth};
  auto k = std::make_unique<CopyKernel>();
  k->parts.push_back(part(bytes, shape, deep ? channels : pixels, deep ? pixels : channels, from, 0, to, 0));
  Step step = copy_step(l.names(group), fmt::format("blocks of {} x {}", b, b), static_cast<double>(element_count(s)), bytes);
  step.reads = {from.buffer};
  step.writes = {to.buffer};
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

}  // namespace

void lower_conversion(Lowering& l, ValueId v, Place from, Place to) {
  const Shape s = l.shape(v);
  const int bytes = copy_bytes(l.dtype(v));
  if (bytes == 0) fail(Category::internal, "layout change of {}", to_string(l.dtype(v)));
  auto k = std::make_unique<CopyKernel>();
  k->parts.push_back(part(bytes, s, strides_at(from, s), strides_at(to, s), from, 0, to, 0));
  const bool last = to.layout == Layout::channels_last;
  Step step = copy_step({(from.layout == to.layout ? "copy of " : "layout of ") + l.graph().values[v].name},
                        from.layout == to.layout ? kByItself
                        : last                   ? "to channels-last"
                                                 : "to natural order",
                        static_cast<double>(element_count(s)), bytes);
  step.kind = "layout";
  step.reads = {from.buffer};
  step.writes = {to.buffer};
  step.kernel = std::move(k);
  l.add(std::move(step));
}

bool lower_movement(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  if (!n.domain.empty() || n.inputs.empty() || n.inputs[0] == kAbsent) return false;
  const OpDef* def = find_op(n.domain, n.op, g.version_of(n));
  if (n.op == "Gather") return l.is_static(n.outputs[0]) && lower_gather(l, group, n);
  if (n.op == "Concat" || n.op == "Split") return lower_join(l, group, n);
  if (!l.is_static(n.inputs[0]) || !l.is_static(n.outputs[0])) return false;
  if (def->trait == Trait::view) {
    for (size_t i = 1; i < n.outputs.size(); ++i) {
      if (n.outputs[i] != kAbsent) return false;
    }
    if (n.op == "Dropout" && n.inputs.size() > 2 && n.inputs[2] != kAbsent) return false;  // may be training
    const Shape from = l.shape(n.inputs[0]), to = l.shape(n.outputs[0]);
    if (element_count(from) != element_count(to)) return false;  // sizes only known at run time do not fit: plain evaluation tells
    const Place at = l.where_with_gaps(n.inputs[0]);
    if (!at.strides.empty() && at.layout == Layout::natural) {
      if (const auto strides = seen_as(from, at.strides, to)) {
        l.alias(n.outputs[0], {at.buffer, at.offset, Layout::natural, *strides});
        return true;
      }
    }
    l.alias(n.outputs[0], l.place(n.inputs[0], Layout::natural));
    return true;
  }
  const int bytes = copy_bytes(l.dtype(n.inputs[0]));
  if (n.op == "DepthToSpace" || n.op == "SpaceToDepth") return bytes > 0 && lower_blocks(l, group, n, bytes);
  if (bytes == 0 || (n.op != "Transpose" && n.op != "Slice" && n.op != "Expand")) return false;
  std::vector<Tensor> held;
  std::vector<const Tensor*> constants;
  held.reserve(n.inputs.size());
  for (size_t i = 0; i < n.inputs.size(); ++i) {
    held.push_back(i > 0 && n.inputs[i] != kAbsent && l.is_constant(n.inputs[i]) ? l.constant(n.inputs[i]) : Tensor());
    constants.push_back(held.back().empty() ? nullptr : &held.back());
  }
  const Shape in = l.shape(n.inputs[0]);
  auto read = ops::strided_read(n, static_cast<int>(g.version_of(n)), in, constants);
  if (!read) return false;
  // Read straight from where and how it stands; often nothing is left to move.
  Place from = l.where_with_gaps(n.inputs[0]);
  Layout layout = Layout::natural;
  const auto natural = logical_strides(in, Layout::natural);
  if (n.op == "Transpose") {
    const auto stands = strides_at(from, in);
    auto perm = n.integers("perm");
    if (perm.empty()) {
      for (int64_t i = static_cast<int64_t>(in.size()) - 1; i >= 0; --i) perm.push_back(i);
    }
    for (size_t i = 0; i < perm.size(); ++i) read->strides[i] = stands[perm[i] < 0 ? perm[i] + static_cast<int64_t>(perm.size()) : perm[i]];
  } else if (n.op == "Slice" && element_count(read->shape) > 0) {
    layout = l.wanted(n.outputs[0]);
    from = l.place_with_gaps(n.inputs[0], layout);
    const auto stands = strides_at(from, in);
    int64_t offset = 0;
    for (size_t i = 0; i < in.size(); ++i) {
      offset += read->offset / natural[i] % in[i] * stands[i];
      read->strides[i] = read->strides[i] / natural[i] * stands[i];
    }
    read->offset = offset;
  } else {
    from = l.place(n.inputs[0], Layout::natural);
  }
  // Nothing moves: all of it, or a part that is read where it is. Not a small part of much: that would be kept for it.
  const Place seen{from.buffer, from.offset + static_cast<size_t>(read->offset * bytes), layout, read->strides};
  if (in_one_piece(read->shape, read->strides, layout)) {
    l.alias(n.outputs[0], {seen.buffer, seen.offset, layout});
    return true;
  }
  // A transposition only for those who read it so; it would be copied under another name else.
  const auto reads_so = [&](int r) {
    const Node& reader = g.nodes[r];
    return reader.op == "Attention" || reader.op == "Concat" || reader.op == "Slice" || reader.op == "Split" || reader.op == "Transpose" ||
           (tapeable(g, reader) && run_of(seen, read->shape) >= kShortRun);
  };
  const bool wanted = n.op == "Slice" || (n.op == "Transpose" && std::ranges::find(g.outputs, n.outputs[0]) == g.outputs.end() &&
                                          std::ranges::all_of(g.consumers()[n.outputs[0]], reads_so));
  if (wanted && runs_together(read->shape, read->strides, layout) && element_count(read->shape) * 4 >= element_count(in)) {
    l.alias(n.outputs[0], seen);
    return true;
  }
  // Channels-last pictures that a model turns to the standard's order: they already are as window ops want them.
  if (n.op == "Transpose" && from.layout == Layout::natural && from.strides.empty() && in.size() > 2 &&
      read->strides == logical_strides(read->shape, Layout::channels_last)) {
    if (l.wanted(n.outputs[0]) == Layout::channels_last) {
      l.alias(n.outputs[0], {from.buffer, from.offset, Layout::channels_last});
      return true;
    }
  }
  const Place to = l.define_with_gaps(n.outputs[0], layout);
  auto k = std::make_unique<CopyKernel>();
  k->parts.push_back(part(bytes, read->shape, read->strides, strides_at(to, read->shape), from, read->offset, to, 0));
  Step step = copy_step(l.names(group), "strided", static_cast<double>(element_count(read->shape)), bytes);
  step.reads = {from.buffer};
  step.writes = {to.buffer};
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

// ---- plain ----

namespace {

class PlainKernel : public StepKernel {
 public:
  std::shared_ptr<const Graph> graph;
  const Node* node = nullptr;
  struct Source {
    ValueId value = kAbsent;
    std::optional<Tensor> constant;
    Place place;
    bool dynamic = false;
  };
  std::vector<Source> sources, captures;
  struct Target {
    ValueId value = kAbsent;
    Place place;
    bool dynamic = false;
  };
  std::vector<Target> targets;
  std::unique_ptr<ControlSite> site;  // of a node with subgraphs

  // Hands subgraphs to the lane.
  class Host : public BodyHost {
   public:
    Host(const ControlSite* site, Bodies* bodies) : site_(site), bodies_(bodies) {}
    bool run(const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer,
             std::vector<Tensor>& out) override {
      return bodies_->run(*site_, body, inputs, outer, out);
    }

   private:
    const ControlSite* site_;
    Bodies* bodies_;
  };

  void run(const StepContext& c) const override {
    const std::vector<Tensor> inputs = fetch(c, sources), captured = fetch(c, captures);
    Host host(site.get(), c.bodies);
    auto results = evaluate_node(*graph, *node, inputs, captured, site && c.bodies ? &host : nullptr);
    for (size_t i = 0; i < targets.size(); ++i) {
      const Target& t = targets[i];
      if (t.value == kAbsent) continue;
      if (i >= results.size())
        throw Error(
            {{Category::internal, label(*graph, *node), fmt::format("gave {} outputs, expected {}", results.size(), targets.size())}});
      Tensor& r = results[i];
      if (t.dynamic) {
        // A view of an input would not outlive the input's place in the arena.
        c.tensors[t.value] = r.owned() ? std::move(r) : r.clone();
        continue;
      }
      const Value& v = graph->values[t.value];
      // What the values decide agrees with inference (evaluate_node looks); what the model itself declares may be wrong.
      if (r.shape() != *known_shape(v.dims) || r.dtype() != v.dtype) {
        throw Error({{Category::shape, label(*graph, *node),
                      fmt::format("gives {} of {} for '{}', the model declares {} of {}", to_string(r.dtype()), to_string(r.shape()),
                                  v.name, to_string(v.dtype), to_string(*v.dims))}});
      }
      if (r.byte_size() > 0) std::memcpy(pointer<void>(c, t.place), r.data(), r.byte_size());
    }
  }

  std::vector<Tensor> fetch(const StepContext& c, const std::vector<Source>& from) const {
    std::vector<Tensor> out;
    for (const Source& s : from) {
      if (s.value == kAbsent) out.emplace_back();
      else if (s.constant) out.push_back(*s.constant);
      else if (s.dynamic) out.push_back(c.tensors[s.value]);
      else
        out.push_back(Tensor::borrow(graph->values[s.value].dtype, *known_shape(graph->values[s.value].dims), pointer<void>(c, s.place)));
    }
    return out;
  }
};

}  // namespace

void lower_plain(Lowering& l, int index) {
  const Graph& g = l.graph();
  const Node& n = g.nodes[index];
  auto k = std::make_unique<PlainKernel>();
  Step step;
  step.kind = "plain";
  step.nodes = {Lowering::node_label(n)};
  step.recipe = "plain evaluation";
  k->node = &n;
  const auto source = [&](ValueId v) {
    PlainKernel::Source s;
    s.value = v;
    if (v == kAbsent) return s;
    if (l.is_constant(v)) {
      s.constant = l.constant(v);
      l.weights().keep_raw(v);
    } else if (l.is_static(v)) {
      s.place = l.place(v, Layout::natural);
      step.reads.push_back(s.place.buffer);
    } else {
      s.dynamic = true;
    }
    return s;
  };
  for (ValueId v : n.inputs) k->sources.push_back(source(v));
  for (const Capture& c : n.captures) k->captures.push_back(source(c.value));
  if (n.has_subgraphs() && !l.options().plain) {
    step.kind = "control";
    step.recipe = "subgraphs as programs of their own, made when they first run";
    k->site = std::make_unique<ControlSite>();
    k->site->node = &n;
    for (const Capture& c : n.captures) k->site->constant.push_back(c.value != kAbsent && l.is_constant(c.value));
  }
  for (ValueId v : n.outputs) {
    PlainKernel::Target t;
    t.value = v;
    if (v != kAbsent) {
      t.dynamic = !l.is_static(v);
      if (!t.dynamic) {
        t.place = l.define(v, Layout::natural);
        step.writes.push_back(t.place.buffer);
        step.bytes += static_cast<double>(Tensor::borrow(l.dtype(v), l.shape(v), nullptr).byte_size());
      }
    }
    k->targets.push_back(t);
  }
  k->graph = l.shared_graph();
  step.kernel = std::move(k);
  l.add(std::move(step));
}

}  // namespace lathe::lower
