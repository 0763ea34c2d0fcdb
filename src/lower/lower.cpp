// The driver of lowering: which nodes go together, in which order, and how values change layout between steps.
#include <algorithm>
#include <cstring>
#include <map>

#include "base/fail.hpp"
#include "base/memory.hpp"
#include "lower/lowering.hpp"
#include "ops/operands.hpp"
#include "ops/support.hpp"

namespace lathe::lower {

std::string PackKey::text() const {
  constexpr const char* kNames[]{"convolution", "planes",       "winograd",         "product",  "16-bit product",
                                 "transposed",  "byte product", "byte convolution", "recurrent"};
  static_assert(std::size(kNames) == kPackForms);
  return fmt::format("{} of value {} ({})", kNames[static_cast<int>(form)], value, fmt::join(geometry, " "));
}

const Weights::Entry& Weights::get(const PackKey& key, size_t bytes, const std::function<Entry()>& make) {
  const auto it = entries_.find(key);
  if (it != entries_.end()) {
    if (it->second.bytes != bytes)
      fail(Category::format, "packed weights '{}' are {} bytes, this step needs {}", key.text(), it->second.bytes, bytes);
    return it->second;
  }
  return entries_[key] = make();
}

std::vector<int> physical_order(int rank, Layout layout) {
  std::vector<int> order;
  for (int i = 0; i < rank; ++i) order.push_back(i);
  if (layout == Layout::channels_last && rank > 2) {
    order.erase(order.begin() + 1);
    order.push_back(1);
  }
  return order;
}

std::vector<int64_t> logical_strides(const Shape& shape, Layout layout) {
  const auto order = physical_order(static_cast<int>(shape.size()), layout);
  std::vector<int64_t> strides(shape.size());
  int64_t run = 1;
  for (int i = static_cast<int>(order.size()) - 1; i >= 0; --i) {
    strides[order[i]] = run;
    run *= shape[order[i]];
  }
  return strides;
}

bool same_in_both(const Shape& s) { return s.size() < 3 || s[1] == 1 || element_count(std::span<const int64_t>(s).subspan(2)) == 1; }

std::vector<int64_t> strides_at(const Place& place, const Shape& shape) {
  return place.strides.empty() ? logical_strides(shape, place.layout) : place.strides;
}

bool in_one_piece(const Shape& shape, std::span<const int64_t> strides, Layout layout) {
  const auto own = logical_strides(shape, layout);
  for (size_t i = 0; i < shape.size(); ++i) {
    if (shape[i] != 1 && own[i] != strides[i]) return false;
  }
  return element_count(shape) > 0;
}

bool runs_together(const Shape& shape, std::span<const int64_t> strides, Layout layout) {
  const auto order = physical_order(static_cast<int>(shape.size()), layout);
  const auto last = std::find_if(order.rbegin(), order.rend(), [&](int i) { return shape[i] != 1; });
  return (last == order.rend() || strides[*last] == 1) && std::ranges::all_of(strides, [](int64_t s) { return s >= 0; });
}

int64_t run_of(const Place& place, const Shape& shape) {
  if (place.strides.empty()) return element_count(shape);
  const auto order = physical_order(static_cast<int>(shape.size()), place.layout);
  int64_t run = 1;
  for (auto i = order.rbegin(); i != order.rend(); ++i) {
    if (shape[*i] == 1) continue;
    if (place.strides[*i] != run) break;
    run *= shape[*i];
  }
  return run;
}

std::optional<int64_t> row_pitch(const Place& place, const Shape& shape) {
  if (shape.empty()) return std::nullopt;
  const auto order = physical_order(static_cast<int>(shape.size()), place.layout);
  const auto strides = strides_at(place, shape);
  if (shape[order.back()] != 1 && strides[order.back()] != 1) return std::nullopt;
  int64_t pitch = 0, span = 0;
  for (int i = static_cast<int>(order.size()) - 2; i >= 0; --i) {
    const int64_t size = shape[order[i]], stride = strides[order[i]];
    if (size == 1) continue;
    if (pitch == 0) pitch = stride;
    else if (stride != span) return std::nullopt;
    span = stride * size;
  }
  return pitch > 0 ? pitch : std::max<int64_t>(1, shape[order.back()]);
}

std::vector<int64_t> operand_strides(const Shape& shape, Layout layout, const Shape& out) {
  return operand_strides(shape, Place{kNoBuffer, 0, layout}, out);
}

std::vector<int64_t> operand_strides(const Shape& shape, const Place& place, const Shape& out) {
  const auto own = strides_at(place, shape);
  std::vector<int64_t> strides(out.size(), 0);
  for (size_t i = 0; i < shape.size(); ++i) {
    if (shape[i] != 1) strides[out.size() - shape.size() + i] = own[i];
  }
  return strides;
}

// ---- Lowering ----

Lowering::Lowering(std::shared_ptr<const Graph> graph, const LowerOptions& options, Weights& weights,
                   const std::vector<bool>& base_constants, std::shared_ptr<Weights> own)
    : graph_(std::move(graph)),
      options_(options),
      weights_(weights),
      base_constants_(base_constants),
      own_(own ? std::move(own) : std::make_shared<Weights>()) {
  const size_t n = graph_->values.size();
  places_.resize(n);
  known_.assign(n, false);
  plan_.dynamic.assign(n, true);
  constexpr int64_t kStays = int64_t{4} << 20;  // bytes of weights that L2 may hold from one run to the next
  int64_t weight_bits = 0;
  for (size_t v = 0; v < n; ++v) {
    const Value& value = graph_->values[v];
    const auto shape = known_shape(value.dims);
    if (value.constant && shape && value.dtype != DType::string && value.dtype != DType::undefined)
      weight_bits += element_count(*shape) * bit_width(value.dtype);
    plan_.dynamic[v] = !shape || value.dtype == DType::undefined || value.dtype == DType::string || value.composite;
    // Borrowed from the caller's model: a string constant is a Tensor too.
  }
  for (size_t i = 0; i < graph_->inputs.size(); ++i) {
    const ValueId v = graph_->inputs[i];
    if (plan_.dynamic[v]) continue;
    Buffer b;
    b.kind = Buffer::Kind::input;
    b.index = static_cast<int>(i);
    b.bytes = Tensor::borrow(dtype(v), shape(v), nullptr).byte_size();
    plan_.buffers.push_back(b);
    alias(v, {static_cast<BufferId>(plan_.buffers.size()) - 1, 0, Layout::natural});
  }
  much_weight_ = weight_bits / 8 > kStays;
}

std::string Lowering::node_label(const Node& n) { return n.name.empty() ? n.op : n.name + " (" + n.op + ")"; }

std::vector<std::string> Lowering::names(const Group& group) const {
  std::vector<std::string> out;
  for (int n : group.nodes) {
    out.push_back(node_name(n));
    for (const std::string& merged : graph_->nodes[n].merged) out.push_back(merged);
  }
  return out;
}

Tensor Lowering::constant(ValueId v) {
  const Tensor& t = *graph_->values[v].constant;
  if (t.data() != nullptr || t.size() == 0) return t;
  const auto it = weights_.restore.find(v);
  if (it == weights_.restore.end())
    fail(Category::internal, "constant '{}' was released and cannot be restored; an archive that carries its graph has it",
         graph_->values[v].name);
  const auto [restored, fresh] = plan_.restored.try_emplace(v);
  if (fresh) restored->second = it->second();
  return restored->second;
}

BufferId Lowering::constant_buffer(const Weights::Entry& entry) {
  Buffer b;
  b.kind = Buffer::Kind::constant;
  b.bytes = entry.bytes;
  b.hold = entry.hold;
  b.data = entry.data;
  plan_.buffers.push_back(std::move(b));
  plan_.weight_bytes += entry.bytes;
  return static_cast<BufferId>(plan_.buffers.size()) - 1;
}

BufferId Lowering::constant_buffer(const Tensor& tensor) {
  auto held = std::make_shared<Tensor>(tensor);
  const void* data = held->data();
  return constant_buffer(Weights::Entry{std::move(held), data, tensor.byte_size()});
}

BufferId Lowering::derived(const PackKey& key, size_t bytes, const std::function<Weights::Entry()>& make, std::span<const ValueId> also) {
  const auto base = [&](ValueId v) { return static_cast<size_t>(v) < base_constants_.size() && base_constants_[v]; };
  const bool shared = base(key.value) && std::ranges::all_of(also, base);
  return constant_buffer((shared ? weights_ : *own_).get(key, bytes, make));
}

void Lowering::release_after_packing(ValueId v, std::function<Tensor()> restore) {
  if (static_cast<size_t>(v) < base_constants_.size() && base_constants_[v]) {
    weights_.restore.try_emplace(v, std::move(restore));
    if (weights_.on_packed) weights_.on_packed(v);
  }
}

Place Lowering::where(ValueId v) {
  const Place at = where_with_gaps(v);
  return at.strides.empty() ? at : place(v, at.layout);
}

Place Lowering::where_with_gaps(ValueId v) {
  if (known_[v]) return places_[v];
  if (!graph_->values[v].constant) fail(Category::internal, "value '{}' is read before it is made", graph_->values[v].name);
  const Tensor t = constant(v);
  if (static_cast<size_t>(v) < base_constants_.size() && base_constants_[v]) weights_.keep_raw(v);
  alias(v, {constant_buffer(t), 0, Layout::natural});
  return places_[v];
}

Place Lowering::define(ValueId v, Layout layout) {
  Buffer b;
  b.bytes = Tensor::borrow(dtype(v), shape(v), nullptr).byte_size();
  plan_.buffers.push_back(b);
  alias(v, {static_cast<BufferId>(plan_.buffers.size()) - 1, 0, layout});
  return places_[v];
}

// Values that a Concat puts together, with the place each has in it: those that one step makes and nothing else needs by itself.
void Lowering::find_parts() {
  if (!options_.fuse || options_.plain) return;
  const auto made = graph_->producers();
  for (const Node& n : graph_->nodes) {
    if (n.op != "Concat" || !n.domain.empty() || n.outputs.empty() || plan_.dynamic[n.outputs[0]] || dtype(n.outputs[0]) != DType::f32)
      continue;
    if (!std::ranges::all_of(n.inputs, [&](ValueId v) { return v != kAbsent && is_static(v); })) continue;
    const auto rank = static_cast<int64_t>(shape(n.outputs[0]).size());
    const int64_t axis = ops::wrap_axis(n.integer("axis", 0), rank);
    int64_t at = 0;
    for (ValueId v : n.inputs) {
      const bool output = std::ranges::find(graph_->outputs, v) != graph_->outputs.end();
      if (made[v] >= 0 && !output && element_count(shape(v)) > 0) parts_.try_emplace(v, Part{n.outputs[0], axis, at});
      at += shape(v)[axis];
    }
  }
}

Place Lowering::define_with_gaps(ValueId v, Layout layout, int64_t least) {
  const auto it = parts_.find(v);
  if (it == parts_.end()) return define(v, layout);
  const Part& part = it->second;
  if (!known_[part.whole] && wanted(part.whole) != layout) return define(v, layout);
  const Place whole = known_[part.whole] ? places_[part.whole] : define_with_gaps(part.whole, layout);
  const Shape s = shape(v);
  Place at{whole.buffer, whole.offset, layout, strides_at(whole, shape(part.whole))};
  at.offset += static_cast<size_t>(part.at * at.strides[part.axis]) * sizeof(float);
  if (whole.layout != layout || !runs_together(s, at.strides, layout) || run_of(at, s) < std::min(least, element_count(s)))
    return define(v, layout);
  if (in_one_piece(s, at.strides, layout)) at.strides.clear();
  alias(v, at);
  return at;
}

bool Lowering::is_part(ValueId v, ValueId whole) const {
  const auto it = parts_.find(v);
  return it != parts_.end() && (whole == kAbsent || whole == it->second.whole) && known_[v] && known_[it->second.whole] &&
         places_[v].buffer == places_[it->second.whole].buffer;
}

Place Lowering::define_rows(ValueId v, Layout layout, int64_t& pitch) {
  const Place at = define_with_gaps(v, layout);
  if (const auto found = row_pitch(at, shape(v))) {
    pitch = *found;
    return at;
  }
  const Place own = define(v, layout);
  pitch = row_pitch(own, shape(v)).value();
  return own;
}

Place Lowering::place_with_gaps(ValueId v, Layout layout) {
  const Place at = where_with_gaps(v);
  return at.layout == layout ? at : place(v, layout);
}

Place Lowering::place_rows(ValueId v, Layout layout, int64_t& pitch) {
  Place at = place_with_gaps(v, layout);
  auto found = row_pitch(at, shape(v));
  if (!found) {
    at = place(v, layout);
    found = row_pitch(at, shape(v));
  }
  pitch = found.value();
  return at;
}

BufferId Lowering::scratch(size_t bytes) {
  Buffer b;
  b.bytes = bytes;
  plan_.buffers.push_back(b);
  return static_cast<BufferId>(plan_.buffers.size()) - 1;
}

Place Lowering::place(ValueId v, Layout layout) {
  const Place at = where_with_gaps(v);
  const Shape s = shape(v);
  if (at.strides.empty()) {
    if (at.layout == layout) return at;
    if (same_in_both(s)) return {at.buffer, at.offset, layout};
  }
  const auto it = converted_.find({v, layout});
  if (it != converted_.end()) return it->second;
  Buffer b;
  b.bytes = Tensor::borrow(dtype(v), s, nullptr).byte_size();
  plan_.buffers.push_back(b);
  const Place to{static_cast<BufferId>(plan_.buffers.size()) - 1, 0, layout};
  lower_conversion(*this, v, at, to);
  return converted_[{v, layout}] = to;
}

// ---- grouping ----

namespace {

bool read_as_output(const Graph& g, ValueId v) { return std::find(g.outputs.begin(), g.outputs.end(), v) != g.outputs.end(); }

// Index of the logical axis whose entries are the columns of an anchor's result: channels, or the last axis of a product.
int columns_axis(const Graph& g, const Node& n) {
  if (n.op == "MatMul" || n.op == "Gemm") return static_cast<int>(known_shape(g.values[n.outputs[0]].dims)->size()) - 1;
  return 1;
}

// Whether all of a node's results are empty. Such nodes stay alone and are left to plain evaluation, which still checks their operands:
// kernels need not divide by sizes that may be 0.
bool makes_nothing(const Graph& g, const Node& n) {
  bool any = false;
  for (ValueId v : n.outputs) {
    if (v == kAbsent) continue;
    const auto shape = known_shape(g.values[v].dims);
    if (!shape || element_count(*shape) != 0) return false;
    any = true;
  }
  return any;
}

// Elementwise nodes after an anchor whose results stay inside, up to the longest prefix with a single way out.
Group grow_tail(const Graph& g, int anchor, const std::vector<std::vector<int>>& readers, const std::vector<bool>& taken) {
  Group best{anchor, {anchor}};
  const ValueId head = g.nodes[anchor].outputs[0];
  const Shape shape = *known_shape(g.values[head].dims);
  if (shape.empty()) return best;
  std::vector<int> nodes{anchor};
  std::vector<ValueId> made{head};
  const auto inside = [&](int n) { return std::find(nodes.begin(), nodes.end(), n) != nodes.end(); };
  // Only readers of what the group makes can join it: a worklist in node order.
  std::vector<int> waiting = readers[head];
  constexpr size_t kMostTried = 24;
  while (!waiting.empty() && nodes.size() < kMostTried) {
    const auto it = std::min_element(waiting.begin(), waiting.end());
    const int n = *it;
    std::erase(waiting, n);
    if (taken[n] || inside(n) || !tapeable(g, g.nodes[n])) continue;
    const ValueId out = g.nodes[n].outputs[0];
    if (g.values[out].dtype != DType::f32 || known_shape(g.values[out].dims) != shape) continue;
    bool fits = true;
    for (ValueId v : g.nodes[n].inputs) {
      if (v == kAbsent || std::find(made.begin(), made.end(), v) != made.end()) continue;
      // Operands from outside: readable as rows x columns in the layout the anchor writes.
      const Shape s = *known_shape(g.values[v].dims);
      const Layout layout = columns_axis(g, g.nodes[anchor]) == 1 && shape.size() > 2 ? Layout::channels_last : Layout::natural;
      if (s.size() > shape.size() || (!matrix_strides(s, {kNoBuffer, 0, s == shape ? layout : Layout::natural}, shape, layout) &&
                                      !matrix_strides(s, {kNoBuffer, 0, layout}, shape, layout)))
        fits = false;
      if (s.size() < shape.size() && !matrix_strides(s, {kNoBuffer, 0, Layout::natural}, shape, layout)) fits = false;
    }
    if (!fits) continue;
    nodes.push_back(n);
    std::sort(nodes.begin(), nodes.end());
    made.push_back(out);
    for (int r : readers[out]) waiting.push_back(r);
    // One way out, and it is the last node's result?
    int ways = 0;
    for (int m : nodes) {
      const ValueId v = g.nodes[m].outputs[0];
      const bool leaves = read_as_output(g, v) || std::any_of(readers[v].begin(), readers[v].end(), [&](int r) { return !inside(r); });
      ways += leaves || (m == nodes.back() && readers[v].empty());
      if (leaves && m != nodes.back()) ways = 99;
    }
    if (ways == 1) {
      Group candidate{anchor, nodes};
      if (split_epilogue(g, candidate, columns_axis(g, g.nodes[anchor]))) best = std::move(candidate);
    }
  }
  return best;
}

// Elementwise nodes that end in `sink`: producers whose results nobody else reads.
Group grow_tape(const Graph& g, int sink, const std::vector<int>& made, const std::vector<std::vector<int>>& readers,
                const std::vector<bool>& taken) {
  Group group{-1, {sink}};
  const Shape shape = *known_shape(g.values[g.nodes[sink].outputs[0]].dims);
  bool grew = true;
  std::vector<int> refused;
  while (grew) {
    grew = false;
    for (size_t i = 0; i < group.nodes.size() && !grew; ++i) {
      for (ValueId v : g.nodes[group.nodes[i]].inputs) {
        if (v == kAbsent || made[v] < 0) continue;
        const int p = made[v];
        const auto inside = [&](int n) { return std::find(group.nodes.begin(), group.nodes.end(), n) != group.nodes.end(); };
        if (taken[p] || inside(p) || std::find(refused.begin(), refused.end(), p) != refused.end()) continue;
        if (!tapeable(g, g.nodes[p]) || read_as_output(g, v) || known_shape(g.values[v].dims) != shape) continue;
        if (!std::all_of(readers[v].begin(), readers[v].end(), inside)) continue;
        std::vector<int> nodes = group.nodes;
        nodes.push_back(p);
        std::sort(nodes.begin(), nodes.end());
        if (!build_tape(g, nodes)) {
          refused.push_back(p);
          continue;
        }
        group.nodes = std::move(nodes);
        grew = true;
        break;
      }
    }
  }
  return group;
}

// Elementwise nodes around a reduction over rows. What comes after keeps its shape and is read nowhere else; of what comes before, the last
// value may be: then it is written too, unless a reader stands before the group's end, where the group runs.
Group grow_rows(const Graph& g, int anchor, const std::vector<int>& made, const std::vector<std::vector<int>>& readers,
                const std::vector<bool>& taken) {
  Group group{anchor, {anchor}};
  const ValueId in = g.nodes[anchor].inputs[0], out = g.nodes[anchor].outputs[0];
  const Shape shape = *known_shape(g.values[in].dims);
  // After: one node at a time, while the result so far has one reader.
  std::vector<int> tail;
  ValueId at = out;
  while (known_shape(g.values[out].dims) == shape && !readers[at].empty() && !read_as_output(g, at)) {
    const int n = readers[at][0];
    if (std::ranges::any_of(readers[at], [&](int r) { return r != n; }) || taken[n] || !tapeable(g, g.nodes[n])) break;
    const ValueId next = g.nodes[n].outputs[0];
    if (g.values[next].dtype != DType::f32 || known_shape(g.values[next].dims) != shape) break;
    tail.push_back(n);
    if (!build_tape(g, tail, out)) {
      tail.pop_back();
      break;
    }
    at = next;
  }
  // Before: what ends in the anchor's input.
  std::vector<int> head;
  const int p = made[in], last = tail.empty() ? anchor : tail.back();
  if (p >= 0 && !taken[p] && tapeable(g, g.nodes[p]) && std::ranges::find(tail, p) == tail.end()) {
    const bool elsewhere = read_as_output(g, in) || std::ranges::any_of(readers[in], [&](int r) { return r != anchor; });
    if (!elsewhere || std::ranges::all_of(readers[in], [&](int r) { return r == anchor || r > last; })) {
      head = grow_tape(g, p, made, readers, taken).nodes;
      group.kept = elsewhere;
    }
  }
  group.nodes.insert(group.nodes.begin(), head.begin(), head.end());
  group.nodes.insert(group.nodes.end(), tail.begin(), tail.end());
  return group;
}

std::vector<Group> partition(const Graph& g, const LowerOptions& options) {
  const auto readers = g.consumers();
  const auto made = g.producers();
  std::vector<bool> taken(g.nodes.size(), false);
  std::vector<Group> groups;
  const auto take = [&](Group group) {
    for (int n : group.nodes) taken[n] = true;
    groups.push_back(std::move(group));
  };
  for (int n = 0; n < static_cast<int>(g.nodes.size()) && !options.plain; ++n) {
    if (makes_nothing(g, g.nodes[n])) {
      take({-1, {n}});
      continue;
    }
    // Casts of weights that products widen themselves are no steps of their own.
    if (g.nodes[n].op != "Cast" || ops::narrow_weights(g, g.nodes[n].outputs[0]) == kAbsent) continue;
    taken[n] = std::ranges::none_of(readers[g.nodes[n].outputs[0]], [&](int r) { return makes_nothing(g, g.nodes[r]); });
  }
  for (int n = 0; n < static_cast<int>(g.nodes.size()) && !options.plain; ++n) {
    if (taken[n] || !can_anchor(g, g.nodes[n])) continue;
    take(options.fuse ? grow_tail(g, n, readers, taken) : Group{n, {n}});
  }
  for (int n = 0; n < static_cast<int>(g.nodes.size()) && !options.plain && options.fuse; ++n) {
    if (taken[n] || !heads_rows(g, g.nodes[n])) continue;
    Group group = grow_rows(g, n, made, readers, taken);
    if (group.nodes.size() > 1) take(std::move(group));
  }
  // What comes before a product and could not go with what made its operands: on the rows it reads, where that saves more than it costs.
  for (Group& group : groups) {
    if (group.anchor < 0 || !options.fuse || !can_anchor(g, g.nodes[group.anchor])) continue;
    const Node& anchor = g.nodes[group.anchor];
    const ValueId in = anchor.inputs[0];
    const int p = made[in];
    if (p < 0 || taken[p] || !tapeable(g, g.nodes[p]) || read_as_output(g, in)) continue;
    if (std::ranges::any_of(readers[in], [&](int r) { return r != group.anchor; }) || readers[in].size() != 1) continue;
    const auto rows = rows_read(g, anchor);
    if (!rows || !prologue_pays(rows->first, rows->second)) continue;
    std::vector<int> ahead = grow_tape(g, p, made, readers, taken).nodes;
    for (int n : ahead) taken[n] = true;
    group.nodes.insert(group.nodes.begin(), ahead.begin(), ahead.end());
  }
  for (int n = static_cast<int>(g.nodes.size()) - 1; n >= 0; --n) {
    if (taken[n]) continue;
    const bool tape = !options.plain && tapeable(g, g.nodes[n]);
    take(tape && options.fuse ? grow_tape(g, n, made, readers, taken) : Group{-1, {n}});
  }
  // A group runs where its last node stood: everything it reads has been made by then.
  std::sort(groups.begin(), groups.end(), [](const Group& a, const Group& b) { return a.nodes.back() < b.nodes.back(); });
  return groups;
}

// Copies a value to where it must end up, when it cannot be made there.
class OutputCopy : public StepKernel {
 public:
  Place from, to;
  size_t bytes = 0;
  void run(const StepContext& c) const override { std::memcpy(pointer<char>(c, to), pointer<const char>(c, from), bytes); }
};

}  // namespace

// Why the nodes of a group are one step, for people.
std::string Lowering::why(const Group& group) const {
  const auto& last = graph_->nodes[group.nodes.back()];
  std::string text;
  if (group.anchor >= 0 && heads_rows(*graph_, graph_->nodes[group.anchor])) {
    const auto around = static_cast<int64_t>(group.nodes.size()) - 1;
    const std::string& op = graph_->nodes[group.anchor].op;
    text = fmt::format("{} the same rows: done while a row is in the first cache",
                       around > 1 ? fmt::format("{} elementwise nodes around the {} work on", around, op)
                                  : fmt::format("an elementwise node next to the {} works on", op));
    if (group.kept) text += "; what stands before it is written too, for its other readers";
  } else if (group.anchor >= 0 && group.nodes.size() > 1) {
    const std::string& op = graph_->nodes[group.anchor].op;
    const size_t ahead = group.ahead().size(), after = group.nodes.size() - 1 - ahead;
    if (ahead > 0)
      text = fmt::format("{} what the {} reads: done on its rows as it comes to them",
                         ahead > 1 ? fmt::format("{} nodes make", ahead) : "a node makes", op);
    if (after > 0)
      text +=
          fmt::format("{}{} its shape: done on each tile before it leaves registers or the first cache", ahead > 0 ? "; " : "",
                      after > 1 ? fmt::format("{} nodes after the {} keep", after, op) : fmt::format("the node after the {} keeps", op));
  } else if (group.nodes.size() > 1) {
    text = fmt::format("{} elementwise nodes of one shape whose results in between nobody else reads: one pass over memory",
                       group.nodes.size());
  }
  size_t merged = 0;
  for (int n : group.nodes) merged += graph_->nodes[n].merged.size();
  if (merged > 0)
    text += fmt::format("{}{} node{} of the model folded in by passes", text.empty() ? "" : "; ", merged, merged > 1 ? "s" : "");
  if (text.empty()) text = last.outputs.empty() ? "alone" : "a step of its own";
  return text;
}

// Why a group ends where it ends.
std::string Lowering::why_not(const Group& group, const std::vector<std::vector<int>>& readers, const std::vector<int>& owner) const {
  const Graph& g = *graph_;
  const Node& last = g.nodes[group.nodes.back()];
  if (!options_.fuse) return "fusion is off";
  const ValueId out = last.outputs.empty() ? kAbsent : last.outputs[0];
  if (out == kAbsent) return "";
  if (std::find(g.outputs.begin(), g.outputs.end(), out) != g.outputs.end()) return "its result is an output of the model";
  std::vector<int> next = readers[out];
  next.erase(std::unique(next.begin(), next.end()), next.end());
  if (next.empty()) return "nobody reads its result";
  if (next.size() > 1) return fmt::format("its result is read by {} nodes: {} and others", next.size(), node_name(next[0]));
  const Node& reader = g.nodes[next[0]];
  const std::string name = node_name(next[0]);
  if (can_anchor(g, reader)) {
    if (group.anchor >= 0 || !tapeable(g, last) || reader.inputs[0] != out)
      return fmt::format("{} multiplies: a step of its own begins there", name);
    const auto rows = rows_read(g, reader);
    if (!rows) return fmt::format("{} reads each number several times, in windows or as its second operand: made once, before", name);
    return fmt::format("{} reads {} rows of {}: a call for each costs more than the memory it saves", name, rows->first, rows->second);
  }
  if (!tapeable(g, reader)) return fmt::format("{} is not elementwise over known f32 shapes", name);
  if (group.anchor < 0 && !tapeable(g, last)) return fmt::format("{} is done by a kernel of its own that takes nothing after it", last.op);
  const auto made = known_shape(g.values[out].dims), wanted = known_shape(g.values[reader.outputs[0]].dims);
  if (made != wanted) return fmt::format("{} makes another shape, {}", name, wanted ? to_string(*wanted) : "not known yet");
  if (owner[next[0]] >= 0) return fmt::format("{} already belongs to the step that makes its other operand", name);
  return fmt::format("with {} the epilogue would not fit its registers", name);
}

namespace {

// Whether values of a run decide what a node does: sizes, axes, how many. Then they may be wrong, whatever sizes the model declares of the
// result, and plain evaluation looks at them.
bool told_late(const Lowering& l, const Group& group) {
  if (group.nodes.size() != 1) return false;
  const Node& n = l.graph().nodes[group.nodes[0]];
  const OpDef* def = find_op(n.domain, n.op, l.graph().version_of(n));
  if (def == nullptr || !def->statement) return false;
  const auto& operands = def->statement->operands;
  for (size_t i = 0; i < operands.size() && i < n.inputs.size(); ++i) {
    if (operands[i].decides && n.inputs[i] != kAbsent && !l.is_constant(n.inputs[i])) return true;
  }
  return false;
}

}  // namespace

Plan Lowering::finish() {
  const Graph& g = *graph_;
  const std::vector<Group> groups = partition(g, options_);
  find_parts();
  choose_layouts(groups);
  const auto readers = g.consumers();
  std::vector<int> owner(g.nodes.size(), -1);
  for (size_t i = 0; i < groups.size(); ++i) {
    for (int n : groups[i].nodes) owner[n] = groups[i].nodes.size() > 1 ? static_cast<int>(i) : -1;
  }
  for (const Group& group : groups) {
    const int head = group.anchor >= 0 ? group.anchor : group.nodes[0];
    const size_t first = plan_.steps.size();
    try {
      const bool fast =
          !options_.plain && !makes_nothing(g, g.nodes[head]) && !told_late(*this, group) &&
          (lower_custom(*this, group) || lower_winograd(*this, group) || lower_convolution(*this, group) || lower_product(*this, group) ||
           lower_pool(*this, group) || lower_tape(*this, group) || lower_rows(*this, group) || lower_movement(*this, group) ||
           lower_indexed(*this, group) || lower_select(*this, group) || lower_recurrent(*this, group) || lower_quantised(*this, group) ||
           lower_attention(*this, group) || lower_rotary(*this, group) || lower_transposed(*this, group));
      if (!fast) {
        if (group.nodes.size() != 1) fail(Category::internal, "a group of {} nodes fits no step", group.nodes.size());
        lower_plain(*this, group.nodes[0]);
      }
      for (size_t s = first; s < plan_.steps.size(); ++s) {
        Step& step = plan_.steps[s];
        if (step.kind == "layout") {
          step.why = fmt::format("{} reads it {}", node_name(head),
                                 step.recipe == kByItself ? "without gaps, and it is part of something larger" : "that way");
          continue;
        }
        step.members = group.nodes;
        step.head = head;
        step.why = why(group);
        if (!fast && !options_.plain)
          step.why = step.kind == "control"            ? "what runs is decided by values"
                     : makes_nothing(g, g.nodes[head]) ? "its result is empty"
                                                       : "no kernel for these types, attributes or unknown sizes";
        step.why_not = why_not(group, readers, owner);
      }
    } catch (const Error& e) {
      std::vector<Fault> faults = e.faults();
      for (Fault& f : faults) {
        if (f.where.empty()) f.where = label(g, g.nodes[head]);
      }
      throw Error(std::move(faults));
    }
  }
  // Outputs: the arena buffer a value was made in becomes the output's own, unless it has another role.
  plan_.output_values = g.outputs;
  for (size_t i = 0; i < g.outputs.size(); ++i) {
    const ValueId v = g.outputs[i];
    plan_.output_dtypes.push_back(dtype(v));
    plan_.output_shapes.push_back(plan_.dynamic[v] ? std::nullopt : std::optional<Shape>(shape(v)));
    if (plan_.dynamic[v]) continue;
    const size_t first = plan_.steps.size();
    const Place at = place(v, Layout::natural);
    for (size_t s = first; s < plan_.steps.size(); ++s) plan_.steps[s].why = "the caller gets it in the standard's order";
    Buffer& b = plan_.buffers[at.buffer];
    const size_t bytes = Tensor::borrow(dtype(v), shape(v), nullptr).byte_size();
    if (b.kind == Buffer::Kind::arena && at.offset == 0 && b.bytes == bytes) {
      b.kind = Buffer::Kind::output;
      b.index = static_cast<int>(i);
      alias(v, at);
      continue;
    }
    Buffer out;
    out.kind = Buffer::Kind::output;
    out.index = static_cast<int>(i);
    out.bytes = bytes;
    plan_.buffers.push_back(out);
    auto kernel = std::make_unique<OutputCopy>();
    kernel->from = at;
    kernel->to = {static_cast<BufferId>(plan_.buffers.size()) - 1};
    kernel->bytes = bytes;
    Step step;
    step.kind = "copy";
    step.nodes = {"output " + g.values[v].name};
    step.recipe = "to the caller's buffer";
    step.why = "its memory has another role, so the caller gets a copy";
    step.bytes = 2.0 * static_cast<double>(bytes);
    step.reads = {at.buffer};
    step.writes = {kernel->to.buffer};
    step.kernel = std::move(kernel);
    add(std::move(step));
  }
  for (ValueId v : g.inputs) plan_.input_shapes.push_back(plan_.dynamic[v] ? Shape() : shape(v));
  plan_.places = places_;
  plan_.graph = graph_;
  plan_.own = own_;
  if (options_.fuse) join_branches(plan_, options_.threads);
  plan_memory(plan_);
  return std::move(plan_);
}

Plan lower(std::shared_ptr<const Graph> graph, const LowerOptions& options, Weights& weights, const std::vector<bool>& base_constants,
           std::shared_ptr<Weights> own) {
  return Lowering(std::move(graph), options, weights, base_constants, std::move(own)).finish();
}

}  // namespace lathe::lower
