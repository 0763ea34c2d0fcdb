// Padding, tiling and resizing; the best elements of rows.
#include <algorithm>

#include "base/memory.hpp"
#include "kernels/copy.hpp"
#include "kernels/resample.hpp"
#include "kernels/rows.hpp"
#include "lower/lowering.hpp"
#include "ops/movement.hpp"
#include "ops/resize.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

class IndexedKernel : public StepKernel {
 public:
  kernels::IndexedCopy plan;
  Place input, output;

  void run(const StepContext& c) const override {
    const int64_t pieces = std::min<int64_t>(plan.rows, c.workers.size() > 1 ? c.workers.size() * 4 : 1);
    c.workers.each(pieces, [&](int64_t piece, int) {
      kernels::run_indexed(plan, pointer<const char>(c, input), pointer<char>(c, output), plan.rows * piece / pieces,
                           plan.rows * (piece + 1) / pieces);
    });
  }
};

class ResampleKernel : public StepKernel {
 public:
  kernels::Resample kernel = nullptr;
  kernels::ResampleArguments arguments;
  std::vector<int32_t> ay, ax;
  std::vector<float> wy, wx;
  Place input, output;
  BufferId room = kNoBuffer;
  size_t room_bytes = 0;  // a slot
  int64_t rows = 0, slots = 1;

  void run(const StepContext& c) const override {
    c.workers.each(slots, [&](int64_t slot, int) {
      kernels::ResampleArguments a = arguments;
      a.in = pointer<const float>(c, input);
      a.out = pointer<float>(c, output);
      a.ay = ay.data(), a.ax = ax.data(), a.wy = wy.data(), a.wx = wx.data();
      std::byte* own = c.buffers[room] + static_cast<size_t>(slot) * room_bytes;
      a.kept = reinterpret_cast<int64_t*>(own);
      a.rows = reinterpret_cast<float*>(own + round_up(static_cast<size_t>(a.ring) * sizeof(int64_t), kAlignment));
      a.begin = rows * slot / slots;
      a.end = rows * (slot + 1) / slots;
      kernel(a);
    });
  }
};

bool add_indexed(Lowering& l, const Group& group, const Node& n, const Shape& in, std::vector<std::vector<int64_t>> tables, uint64_t fill,
                 const char* recipe) {
  const int bytes = bit_width(l.dtype(n.inputs[0])) / 8;
  auto k = std::make_unique<IndexedKernel>();
  k->plan = kernels::plan_indexed(bytes, in, std::move(tables), fill);
  if (element_count(l.shape(n.outputs[0])) == 0) k->plan.rows = 0;
  Step step;
  step.kind = "copy";
  step.nodes = l.names(group);
  step.recipe = recipe;
  step.bytes = static_cast<double>(bytes) * static_cast<double>(element_count(in) + element_count(l.shape(n.outputs[0])));
  k->input = l.place(n.inputs[0], Layout::natural);
  k->output = l.define(n.outputs[0], Layout::natural);
  step.reads = {k->input.buffer};
  step.writes = {k->output.buffer};
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

std::vector<Tensor> constants_of(Lowering& l, const Node& n) {
  std::vector<Tensor> held;
  for (size_t i = 0; i < n.inputs.size(); ++i)
    held.push_back(i > 0 && n.inputs[i] != kAbsent && l.is_constant(n.inputs[i]) ? l.constant(n.inputs[i]) : Tensor());
  return held;
}

bool lower_resize(Lowering& l, const Group& group, const Node& n, const Shape& in, int version) {
  const auto held = constants_of(l, n);
  const auto plan = ops::resize_plan(n, version, in, held);
  if (!plan || plan->out != l.shape(n.outputs[0]) || element_count(plan->out) == 0) return false;
  const size_t rank = in.size();
  if (plan->nearest) {
    std::vector<std::vector<int64_t>> tables;
    for (size_t a = 0; a < rank; ++a) {
      tables.push_back(plan->axes[a].at);
      for (int64_t i = 0; plan->axes[a].same && i < in[a]; ++i) tables.back().push_back(i);
    }
    return add_indexed(l, group, n, in, std::move(tables), 0, "nearest neighbours");
  }
  // Planes: only the last two axes change.
  if (l.dtype(n.inputs[0]) != DType::f32 || rank < 2 || in[rank - 1] > INT32_MAX || in[rank - 2] > INT32_MAX) return false;
  for (size_t a = 0; a + 2 < rank; ++a) {
    if (!plan->axes[a].same) return false;
  }
  if (plan->axes[rank - 2].taps > kernels::kMostTaps) return false;
  auto k = std::make_unique<ResampleKernel>();
  auto& g = k->arguments;
  g.in_height = in[rank - 2], g.in_width = in[rank - 1], g.out_height = plan->out[rank - 2], g.out_width = plan->out[rank - 1];
  const auto fill = [](const ops::ResizeAxis& axis, int64_t size, bool by_tap, std::vector<int32_t>& at, std::vector<float>& weights) {
    const int64_t taps = axis.same ? 1 : axis.taps;
    at.resize(size * taps);
    weights.resize(size * taps);
    for (int64_t o = 0; o < size; ++o) {
      for (int64_t t = 0; t < taps; ++t) {
        const int64_t to = by_tap ? t * size + o : o * taps + t;
        at[to] = static_cast<int32_t>(axis.same ? o : axis.at[o * taps + t]);
        weights[to] = axis.same ? 1.0f : static_cast<float>(axis.weights[o * taps + t]);
      }
    }
    return taps;
  };
  g.taps_y = fill(plan->axes[rank - 2], g.out_height, false, k->ay, k->wy);
  g.taps_x = fill(plan->axes[rank - 1], g.out_width, true, k->ax, k->wx);
  g.ring = g.taps_y + 1;
  g.ax = k->ax.data();
  g.wx = k->wx.data();
  kernels::find_pattern(g);
  k->kernel = kernels::resample(l.options().isa);
  k->rows = element_count(plan->out) / g.out_width;
  k->room_bytes = round_up(static_cast<size_t>(g.ring) * sizeof(int64_t), kAlignment) +
                  round_up(static_cast<size_t>(g.ring * g.out_width) * sizeof(float), kAlignment);
  // Scratch belongs to a share of the rows, not to a thread: a lane may have more threads than the program was compiled for.
  k->slots = std::min<int64_t>(std::max<int64_t>(1, k->rows / 8), l.options().threads > 1 ? l.options().threads * 4 : 1);
  k->room = l.scratch(k->room_bytes * static_cast<size_t>(k->slots));
  Step step;
  step.kind = "resample";
  step.nodes = l.names(group);
  step.recipe = fmt::format("{} x {} taps, rows kept", g.taps_y, g.taps_x);
  step.flops = 2.0 * static_cast<double>(element_count(plan->out)) * static_cast<double>(g.taps_y + g.taps_x);
  step.bytes = 4.0 * static_cast<double>(element_count(in) + element_count(plan->out));
  k->input = l.place(n.inputs[0], Layout::natural);
  k->output = l.define(n.outputs[0], Layout::natural);
  step.reads = {k->input.buffer};
  step.writes = {k->output.buffer};
  step.scratch = {k->room};
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

}  // namespace

bool lower_indexed(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  if (!n.domain.empty() || (n.op != "Pad" && n.op != "Tile" && n.op != "Resize" && n.op != "Upsample")) return false;
  if (!l.is_static(n.inputs[0]) || !l.is_static(n.outputs[0])) return false;
  const DType dtype = l.dtype(n.inputs[0]);
  const int bits = bit_width(dtype);
  const Shape in = l.shape(n.inputs[0]);
  if ((bits != 8 && bits != 16 && bits != 32 && bits != 64) || in.empty()) return false;
  const int version = static_cast<int>(g.version_of(n));
  if (n.op == "Resize" || n.op == "Upsample") return lower_resize(l, group, n, in, version);
  const auto held = constants_of(l, n);
  std::vector<const Tensor*> constants;
  for (const Tensor& t : held) constants.push_back(t.empty() ? nullptr : &t);
  auto tables = ops::axis_tables(n, version, dtype, in, constants);
  if (!tables) return false;
  uint64_t fill = 0;
  if (!tables->fill.empty()) std::copy_n(static_cast<const char*>(tables->fill.data()), bits / 8, reinterpret_cast<char*>(&fill));
  return add_indexed(l, group, n, in, std::move(tables->tables), fill, n.op == "Pad" ? "rows with their padding" : "rows, repeated");
}

namespace {

class SelectKernel : public StepKernel {
 public:
  kernels::ArgRows arg = nullptr;
  kernels::TopRows top = nullptr;
  kernels::ArgArguments arg_arguments;
  kernels::TopArguments top_arguments;
  Place input, values, indices;
  bool has_values = false, has_indices = false;
  BufferId room = kNoBuffer;  // for what nobody reads
  int64_t rows = 0, each = 1;

  void run(const StepContext& c) const override {
    c.workers.each((rows + each - 1) / each, [&](int64_t task, int) {
      const int64_t begin = task * each, end = std::min(rows, begin + each);
      if (arg) {
        kernels::ArgArguments a = arg_arguments;
        a.in = pointer<const float>(c, input);
        a.out = pointer<int64_t>(c, indices);
        a.begin = begin, a.end = end;
        return arg(a);
      }
      kernels::TopArguments a = top_arguments;
      a.in = pointer<const float>(c, input);
      a.values = has_values ? pointer<float>(c, values) : reinterpret_cast<float*>(c.buffers[room]);
      a.indices = has_indices ? pointer<int64_t>(c, indices) : reinterpret_cast<int64_t*>(c.buffers[room]);
      a.begin = begin, a.end = end;
      top(a);
    });
  }
};

}  // namespace

// ArgMax, ArgMin and TopK along the last axis.
bool lower_select(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  const bool is_top = n.op == "TopK";
  if (!n.domain.empty() || (!is_top && n.op != "ArgMax" && n.op != "ArgMin")) return false;
  if (!l.is_static(n.inputs[0]) || l.dtype(n.inputs[0]) != DType::f32) return false;
  for (ValueId v : n.outputs) {
    if (v != kAbsent && !l.is_static(v)) return false;
  }
  const Shape in = l.shape(n.inputs[0]);
  const int64_t rank = static_cast<int64_t>(in.size()), axis = n.integer("axis", is_top ? -1 : 0);
  if (rank == 0 || (axis != -1 && axis != rank - 1) || in.back() == 0) return false;
  auto k = std::make_unique<SelectKernel>();
  const int64_t length = in.back();
  k->rows = element_count(in) / length;
  k->each = std::max<int64_t>(1, std::min<int64_t>(k->rows / (l.options().threads * 4) + 1, 16384 / length + 1));
  Step step;
  step.kind = "selection";
  step.nodes = l.names(group);
  if (is_top) {
    ValueId made = n.outputs[0] != kAbsent ? n.outputs[0] : n.outputs[1];
    const int64_t most = l.shape(made).back();
    if (most < 1 || most > kernels::kMostTop || most * 8 > length) return false;
    k->top = kernels::top_rows(l.options().isa);
    k->top_arguments.length = length;
    k->top_arguments.k = most;
    k->top_arguments.smallest = n.integer("largest", 1) == 0;
    step.recipe = fmt::format("best {} of {} rows of {}", most, k->rows, length);
  } else {
    k->arg = kernels::arg_rows(l.options().isa);
    k->arg_arguments.length = length;
    k->arg_arguments.smallest = n.op == "ArgMin";
    k->arg_arguments.last = n.integer("select_last_index", 0) != 0;
    step.recipe = fmt::format("{} rows of {}", k->rows, length);
  }
  step.bytes = 4.0 * static_cast<double>(element_count(in));
  k->input = l.place(n.inputs[0], Layout::natural);
  step.reads = {k->input.buffer};
  const auto out = [&](size_t i, Place& place) {
    if (i >= n.outputs.size() || n.outputs[i] == kAbsent) return false;
    place = l.define(n.outputs[i], Layout::natural);
    step.writes.push_back(place.buffer);
    return true;
  };
  if (is_top) k->has_values = out(0, k->values);
  k->has_indices = out(is_top ? 1 : 0, k->indices);
  if (is_top && (!k->has_values || !k->has_indices)) {
    k->room = l.scratch(static_cast<size_t>(k->rows * k->top_arguments.k) * 8);
    step.scratch = {k->room};
  }
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
