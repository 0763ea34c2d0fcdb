#include "lower/plan/builder.hpp"

#include <algorithm>
#include <cstring>

#include "base/fail.hpp"
#include "lower/plan/copies.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

size_t bytes_of_value(const GraphView& view, ValueId v) { return Tensor::borrow(view.dtype(v), view.shape(v), nullptr).byte_size(); }

Plan plan_of(std::shared_ptr<const Graph> graph, std::shared_ptr<Weights> own) {
  Plan plan;
  plan.graph = std::move(graph);
  plan.own = own ? std::move(own) : std::make_shared<Weights>();
  return plan;
}

// Copies a value to where it must end up, when it cannot be made there.
class OutputCopy : public StepKernel {
 public:
  Location from, to;
  size_t bytes = 0;
  void run(const StepContext& c) const override { std::memcpy(pointer<char>(c, to), pointer<const char>(c, from), bytes); }
};

}  // namespace

PlanBuilder::PlanBuilder(std::shared_ptr<const Graph> graph, Weights& weights, const std::vector<bool>& base_constants,
                         std::shared_ptr<Weights> own)
    : weights_(weights),
      base_constants_(base_constants),
      plan_(plan_of(std::move(graph), std::move(own))),
      view_(*plan_.graph, [this](ValueId v) {
        const auto it = weights_.restore.find(v);
        if (it == weights_.restore.end())
          fail(Category::internal, "constant '{}' was released and cannot be restored; an archive that carries its graph has it",
               plan_.graph->values[v].name);
        const auto [restored, fresh] = plan_.restored.try_emplace(v);
        if (fresh) restored->second = it->second();
        return restored->second;
      }) {
  const Graph& g = *plan_.graph;
  plan_.locations.resize(g.values.size());
  plan_.dynamic = view_.dynamic();
  known_.assign(g.values.size(), false);
  preferred_.assign(g.values.size(), Layout::natural);
  for (size_t i = 0; i < g.inputs.size(); ++i) {
    const ValueId v = g.inputs[i];
    if (plan_.dynamic[v]) continue;
    const BufferId id = value_buffer(v);
    plan_.buffers[id].kind = Buffer::Kind::input;
    plan_.buffers[id].index = static_cast<int>(i);
    alias(v, {id});
  }
}

BufferId PlanBuilder::buffer(size_t bytes) {
  Buffer b;
  b.bytes = bytes;
  plan_.buffers.push_back(std::move(b));
  return static_cast<BufferId>(plan_.buffers.size()) - 1;
}

BufferId PlanBuilder::value_buffer(ValueId v) { return buffer(bytes_of_value(view_, v)); }
BufferId PlanBuilder::scratch(size_t bytes) { return buffer(bytes); }

BufferId PlanBuilder::constant_buffer(const Weights::Entry& entry) {
  const BufferId id = buffer(entry.bytes);
  Buffer& b = plan_.buffers[id];
  b.kind = Buffer::Kind::constant;
  b.hold = entry.hold;
  b.data = entry.data;
  plan_.weight_bytes += entry.bytes;
  return id;
}

BufferId PlanBuilder::constant_buffer(const Tensor& tensor) {
  auto held = std::make_shared<Tensor>(tensor);
  const void* data = held->data();
  return constant_buffer(Weights::Entry{std::move(held), data, tensor.byte_size()});
}

BufferId PlanBuilder::packed(const PackKey& key, size_t bytes, const std::function<Weights::Entry()>& make, std::span<const ValueId> also) {
  const bool shared = is_base(key.value) && std::ranges::all_of(also, [&](ValueId v) { return is_base(v); });
  return constant_buffer((shared ? weights_ : *plan_.own).get(key, bytes, make));
}

void PlanBuilder::release_after_packing(ValueId v, std::function<Tensor()> restore) {
  if (!is_base(v)) return;
  weights_.restore.try_emplace(v, std::move(restore));
  if (weights_.on_packed) weights_.on_packed(v);
}

void PlanBuilder::alias(ValueId v, Location location) {
  plan_.locations[v] = std::move(location);
  known_[v] = true;
}

Location PlanBuilder::locate(ValueId v) {
  if (known_[v]) return plan_.locations[v];
  if (!is_constant(v)) fail(Category::internal, "value '{}' is read before it is made", graph().values[v].name);
  const Tensor t = constant(v);
  if (is_base(v)) weights_.keep_raw(v);
  alias(v, {constant_buffer(t)});
  return plan_.locations[v];
}

Location PlanBuilder::locate_contiguous(ValueId v) {
  const Location at = locate(v);
  return at.contiguous() ? at : contiguous(v, at.layout);
}

Location PlanBuilder::contiguous(ValueId v, Layout layout) {
  const Location at = locate(v);
  const Shape s = shape(v);
  if (at.contiguous()) {
    if (at.layout == layout) return at;
    if (same_in_both(s)) return {at.buffer, at.offset, layout};
  }
  const auto it = converted_.find({v, layout});
  if (it != converted_.end()) return it->second;
  const Location to{value_buffer(v), 0, layout};
  add(conversion_step(graph().values[v].name, s, dtype(v), at, to));
  return converted_[{v, layout}] = to;
}

Location PlanBuilder::strided(ValueId v, Layout layout) {
  const Location at = locate(v);
  return at.layout == layout ? at : contiguous(v, layout);
}

Location PlanBuilder::rows(ValueId v, Layout layout, int64_t& pitch) {
  Location at = strided(v, layout);
  auto found = row_pitch(at, shape(v));
  if (!found) {
    at = contiguous(v, layout);
    found = row_pitch(at, shape(v));
  }
  pitch = found.value();
  return at;
}

Location PlanBuilder::define(ValueId v, Layout layout) {
  alias(v, {value_buffer(v), 0, layout});
  return plan_.locations[v];
}

// Those that one step makes and nothing else needs contiguous.
void PlanBuilder::find_parts() {
  const Graph& g = graph();
  for (const Node& n : g.nodes) {
    if (n.op != "Concat" || !n.domain.empty() || n.outputs.empty()) continue;
    if (const DType d = dtype(n.outputs[0]); d != DType::f32 && d != DType::u8 && d != DType::i8) continue;
    if (!std::ranges::all_of(n.inputs, [&](ValueId v) { return is_static(v); })) continue;
    const int64_t axis = ops::wrap_axis(n.integer("axis", 0), static_cast<int64_t>(shape(n.outputs[0]).size()));
    int64_t at = 0;
    for (ValueId v : n.inputs) {
      if (view_.producers()[v] >= 0 && !view_.is_output(v) && element_count(shape(v)) > 0)
        parts_.try_emplace(v, Part{n.outputs[0], axis, at});
      at += shape(v)[axis];
    }
  }
}

Location PlanBuilder::define_strided(ValueId v, Layout layout, int64_t least) {
  const auto it = parts_.find(v);
  if (it == parts_.end()) return define(v, layout);
  const Part& part = it->second;
  if (!known_[part.whole] && preferred(part.whole) != layout) return define(v, layout);
  const Location whole = known_[part.whole] ? plan_.locations[part.whole] : define_strided(part.whole, layout);
  const Shape s = shape(v);
  Location at{whole.buffer, whole.offset, layout, strides_at(whole, shape(part.whole))};
  at.offset += static_cast<size_t>(part.at * at.strides[part.axis]) * static_cast<size_t>(copy_bytes(dtype(v)));
  if (whole.layout != layout || !inner_is_contiguous(s, at.strides, layout) || contiguous_run(at, s) < std::min(least, element_count(s)))
    return define(v, layout);
  if (is_contiguous(s, at.strides, layout)) at.strides.clear();
  alias(v, at);
  return at;
}

Location PlanBuilder::define_rows(ValueId v, Layout layout, int64_t& pitch) {
  const Location at = define_strided(v, layout);
  if (const auto found = row_pitch(at, shape(v))) {
    pitch = *found;
    return at;
  }
  const Location own = define(v, layout);
  pitch = row_pitch(own, shape(v)).value();
  return own;
}

bool PlanBuilder::is_part(ValueId v, ValueId whole) const {
  const auto it = parts_.find(v);
  return it != parts_.end() && (whole == kAbsent || whole == it->second.whole) && known_[v] && known_[it->second.whole] &&
         plan_.locations[v].buffer == plan_.locations[it->second.whole].buffer;
}

std::vector<std::string> PlanBuilder::names(const Group& group) const {
  std::vector<std::string> out;
  for (int n : group.nodes) {
    out.push_back(node_label(view_.node(n)));
    for (const std::string& merged : view_.node(n).merged) out.push_back(merged);
  }
  return out;
}

void PlanBuilder::copy_output(ValueId v, int index, const Location& from) {
  auto kernel = std::make_unique<OutputCopy>();
  kernel->from = from;
  kernel->to = {value_buffer(v)};
  Buffer& out = plan_.buffers[kernel->to.buffer];
  out.kind = Buffer::Kind::output;
  out.index = index;
  kernel->bytes = out.bytes;
  Step step;
  step.kind = StepKind::copy;
  step.nodes = {"output " + graph().values[v].name};
  step.text = "to the caller's buffer";
  step.why = "its memory has another role, so the caller gets a copy";
  step.bytes = 2.0 * static_cast<double>(out.bytes);
  step.reads = {from.buffer};
  step.writes = {kernel->to.buffer};
  step.beside_others = true;
  step.kernel = std::move(kernel);
  add(std::move(step));
}

Plan PlanBuilder::finish() {
  const Graph& g = graph();
  plan_.output_values = g.outputs;
  for (size_t i = 0; i < g.outputs.size(); ++i) {
    const ValueId v = g.outputs[i];
    plan_.output_dtypes.push_back(dtype(v));
    plan_.output_shapes.push_back(plan_.dynamic[v] ? std::nullopt : std::optional<Shape>(shape(v)));
    if (plan_.dynamic[v]) continue;
    const size_t first = plan_.steps.size();
    const Location at = contiguous(v, Layout::natural);
    for (size_t s = first; s < plan_.steps.size(); ++s) plan_.steps[s].why = "the caller gets it in the standard's order";
    // The arena buffer a value was made in becomes the output's own, unless it has another role.
    Buffer& b = plan_.buffers[at.buffer];
    if (b.kind == Buffer::Kind::arena && at.offset == 0 && b.bytes == bytes_of_value(view_, v)) {
      b.kind = Buffer::Kind::output;
      b.index = static_cast<int>(i);
      alias(v, at);
    } else {
      copy_output(v, static_cast<int>(i), at);
    }
  }
  for (ValueId v : g.inputs) plan_.input_shapes.push_back(plan_.dynamic[v] ? Shape() : shape(v));
  return std::move(plan_);
}

}  // namespace lathe::lower
