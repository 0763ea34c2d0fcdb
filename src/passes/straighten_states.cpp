// States that grow, brought to the order of axes that attention reads: whatever order a model hands them out in, and several in one.
#include <algorithm>
#include <numeric>
#include <set>

#include "base/fail.hpp"
#include "base/gives_way.hpp"
#include "passes/rewriter.hpp"
#include "tensor/numbers.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {
namespace {

// What an axis of a value is, if it is no axis of the state: of size one, or the one along which parts are stacked.
constexpr int kUnit = -1, kStack = -2;

// A value on the way from a state to what it grows by.
struct View {
  int part = -1;          // number along the stacked axis; -1: all of the state
  std::vector<int> axes;  // the state's, or kUnit
  std::vector<DType> casts;
};

// What has grown, on its way to the state's output.
struct Behind {
  std::vector<int> ends;
  std::vector<int> axes;  // the state's, kUnit or kStack
  std::vector<DType> casts;
};

// A Concat that puts something new behind a part.
struct End {
  int concat = -1;
  View view;
};

class Straightener {
 public:
  explicit Straightener(Graph& g) : g_(g), made_(g.producers()), readers_(g.consumers()), instead_(g.nodes.size()) {}

  // The states inside, or nothing: it is left as it is. `order`: of each, which axis of the state each of its axes is.
  std::optional<std::vector<GrowingState>> straighten(const GrowingState& state, StateOrder& order) {
    ends_.clear(), gone_.clear(), asked_.clear();
    stack_ = -1;
    moves_ = 0;
    const Value in = g_.values[static_cast<size_t>(state.input)];
    const auto shape = known_shape(in.dims);
    if (!shape || state.axis < 0) return std::nullopt;
    if (!forward(state.input, whole(shape->size()), *in.dims)) return std::nullopt;
    if (std::ranges::any_of(asked_, [&](const Asked& a) { return !known_shape(dims(g_.nodes[a.node].inputs[0])); })) return std::nullopt;
    std::ranges::sort(ends_, {}, [](const End& e) { return e.view.part; });
    const int parts = stack_ < 0 ? 1 : static_cast<int>((*shape)[static_cast<size_t>(stack_)]);
    if (static_cast<int>(ends_.size()) != parts) return std::nullopt;
    for (int i = 0; i < parts; ++i) {
      const End& e = ends_[static_cast<size_t>(i)];
      const auto axis = g_.nodes[e.concat].integer("axis", 0);
      const auto at = static_cast<size_t>(axis < 0 ? axis + static_cast<int64_t>(e.view.axes.size()) : axis);
      if (e.view.part != (stack_ < 0 ? -1 : i) || e.view.axes.size() != 4 || std::ranges::find(e.view.axes, kUnit) != e.view.axes.end() ||
          at >= 4 || e.view.axes[at] != state.axis || e.view.casts != ends_[0].view.casts)
        return std::nullopt;
      const auto& fresh = dims(g_.nodes[e.concat].inputs[1]);
      if (!fresh || fresh->size() != 4) return std::nullopt;
    }
    const auto behind = back(state.output);
    if (!behind || static_cast<int>(behind->ends.size()) != parts || behind->casts.size() != ends_[0].view.casts.size())
      return std::nullopt;
    for (size_t a = 0; a < shape->size(); ++a) {
      const int wanted = static_cast<int>(a) == stack_ ? kStack : static_cast<int>(a);
      if (a >= behind->axes.size() || behind->axes[a] != wanted) return std::nullopt;
    }
    for (int i = 0; i < parts; ++i) {
      if (behind->ends[static_cast<size_t>(i)] != i) return std::nullopt;
    }
    order = {stack_, {}};
    for (const End& e : ends_) order.parts.push_back(in_order(e.view.axes, state.axis));
    const std::vector<int> usual{0, 1, 2, 3};
    if (stack_ < 0 && order.parts[0] == usual && ends_[0].view.axes == usual) return std::nullopt;  // it is straight
    std::vector<GrowingState> inside;
    for (size_t i = 0; i < ends_.size(); ++i) inside.push_back(rewrite(state, ends_[i], order.parts[i], behind->casts, i));
    replace(g_.inputs, state.input, inside, &GrowingState::input);
    replace(g_.outputs, state.output, inside, &GrowingState::output);
    for (const Asked& a : asked_) {
      answer(g_.nodes[a.node]);
      dead_.insert(a.node);
    }
    dead_.insert(gone_.begin(), gone_.end());
    return inside;
  }

  // Who asks for the size of what is made of this input by moving its axes, asks the input; if nothing else reads it.
  void ask_itself(ValueId input) {
    ends_.clear(), gone_.clear(), asked_.clear();
    stack_ = -1;
    moves_ = 0;
    const auto in = dims(input);
    if (!in || !forward(input, whole(in->size()), *in) || !ends_.empty() || gone_.empty()) return;
    const auto rank = static_cast<int64_t>(in->size());
    for (const Asked& a : asked_) {
      const Node& n = g_.nodes[a.node];
      if (n.inputs[0] == input) continue;
      std::vector<int64_t> which;
      for (const int axis : a.view.axes) which.push_back(axis < 0 ? rank : axis);  // behind those of the input stands a one
      if (is_op(n, "Shape")) {
        const auto [from, to] = extent(n, static_cast<int64_t>(which.size()));
        which = {which.begin() + from, which.begin() + to};
      }
      const ValueId sizes = integers_value("sizes", {rank}), padded = integers_value("sizes", {rank + 1});
      write(a.node, "Shape", {input}, sizes);
      write(a.node, "Concat", {sizes, constant({1})}, padded).attributes["axis"].data = int64_t{0};
      const bool size = is_op(n, "Size");
      const ValueId those = size ? integers_value("sizes", {std::ssize(which)}) : n.outputs[0];
      write(a.node, "Gather", {padded, constant(which)}, those);
      if (size) write(a.node, "ReduceProd", {those}, n.outputs[0]).attributes["keepdims"].data = int64_t{0};
      dead_.insert(a.node);
    }
    dead_.insert(gone_.begin(), gone_.end());
  }

  void finish() {
    std::vector<Node> nodes;
    for (int n = 0; n < static_cast<int>(g_.nodes.size()); ++n) {
      std::ranges::move(instead_[static_cast<size_t>(n)], std::back_inserter(nodes));
      if (!dead_.contains(n)) nodes.push_back(std::move(g_.nodes[n]));
    }
    g_.nodes = std::move(nodes);
    remove_dead(g_);
  }

 private:
  struct Asked {  // a node that asks for a size
    int node = -1;
    View view;
  };
  static View whole(size_t rank) {
    View v;
    v.axes.resize(rank);
    std::iota(v.axes.begin(), v.axes.end(), 0);
    return v;
  }
  const std::optional<Dims>& dims(ValueId v) const { return g_.values[static_cast<size_t>(v)].dims; }
  std::optional<std::vector<int64_t>> integers(ValueId v) const {
    if (v == kAbsent || !g_.values[static_cast<size_t>(v)].constant) return std::nullopt;
    const Tensor& t = *g_.values[static_cast<size_t>(v)].constant;
    if (t.composite() || t.data() == nullptr || (t.dtype() != DType::i64 && t.dtype() != DType::i32)) return std::nullopt;
    return widen<int64_t>(t);
  }
  // Axes of a Squeeze or Unsqueeze, of so many in all; nothing: it does not say.
  std::optional<std::vector<int64_t>> axes_of(const Node& n, size_t rank) const {
    auto axes = n.inputs.size() > 1 && n.inputs[1] != kAbsent ? integers(n.inputs[1]) : std::optional(n.integers("axes"));
    if (!axes || axes->empty()) return std::nullopt;
    for (int64_t& a : *axes) a = a < 0 ? a + static_cast<int64_t>(rank) : a;
    std::ranges::sort(*axes);
    return axes->front() >= 0 && axes->back() < static_cast<int64_t>(rank) ? axes : std::nullopt;
  }
  static std::vector<int64_t> permutation(const Node& n, size_t rank) {
    std::vector<int64_t> perm = n.integers("perm");
    if (perm.empty()) {
      perm.resize(rank);
      std::iota(perm.rbegin(), perm.rend(), 0);
    }
    return perm;
  }

  // What a node that only moves axes makes of them; false: it is another node, or does more.
  bool moved(const Node& n, std::vector<int>& axes, std::vector<DType>& casts) const {
    if (is_op(n, "Identity")) return true;
    if (is_op(n, "Cast")) {
      const DType to = g_.values[static_cast<size_t>(n.outputs[0])].dtype;
      casts.push_back(to);
      return to == DType::f32 || to == DType::f16 || to == DType::bf16;
    }
    if (is_op(n, "Transpose")) {
      const auto perm = permutation(n, axes.size());
      if (perm.size() != axes.size()) return false;
      const std::vector<int> before = axes;
      for (size_t a = 0; a < perm.size(); ++a) axes[a] = before[static_cast<size_t>(perm[a])];
      return true;
    }
    if (is_op(n, "Unsqueeze")) {
      const auto& out = dims(n.outputs[0]);
      const auto added = out ? axes_of(n, out->size()) : std::nullopt;
      if (!added) return false;
      for (const int64_t a : *added) axes.insert(axes.begin() + std::min<ptrdiff_t>(a, std::ssize(axes)), kUnit);
      return axes.size() == out->size();
    }
    if (is_op(n, "Squeeze")) {
      const auto gone = axes_of(n, axes.size());
      if (!gone || std::ranges::any_of(*gone, [&](int64_t a) { return axes[static_cast<size_t>(a)] != kUnit; })) return false;
      for (size_t i = gone->size(); i-- > 0;) axes.erase(axes.begin() + (*gone)[i]);
      return true;
    }
    return false;
  }

  // One of the stacked parts: of the whole, entry `index` along an axis.
  std::optional<View> taken(const View& of, size_t axis, int64_t index, const Dims& all, bool keeps_axis) {
    if (of.part >= 0 || axis >= of.axes.size() || of.axes[axis] < 0 || !all[static_cast<size_t>(of.axes[axis])].known())
      return std::nullopt;
    const int outer = of.axes[axis];
    const int64_t size = all[static_cast<size_t>(outer)].value;
    constexpr int64_t kMost = 4;  // keys and values, perhaps for two attentions
    if (index < 0) index += size;
    if (size < 2 || size > kMost || index < 0 || index >= size || (stack_ >= 0 && stack_ != outer)) return std::nullopt;
    stack_ = outer;
    View part = of;
    part.part = static_cast<int>(index);
    if (keeps_axis) part.axes[axis] = kUnit;
    else part.axes.erase(part.axes.begin() + static_cast<ptrdiff_t>(axis));
    return part;
  }
  std::optional<View> taken_by(const Node& n, size_t output, const View& view, const Dims& all) {
    const auto wrapped = [&](int64_t axis) { return static_cast<size_t>(axis < 0 ? axis + static_cast<int64_t>(view.axes.size()) : axis); };
    if (is_op(n, "Gather")) {
      const auto index = integers(n.inputs[1]);
      if (!index || index->size() != 1) return std::nullopt;
      const size_t rank = g_.values[static_cast<size_t>(n.inputs[1])].constant->shape().size();
      if (rank > 1) return std::nullopt;
      return taken(view, wrapped(n.integer("axis", 0)), (*index)[0], all, rank == 1);
    }
    const auto& out = dims(n.outputs[output]);
    if (is_op(n, "Split")) {
      const size_t axis = wrapped(n.integer("axis", 0));
      if (!out || axis >= out->size() || (*out)[axis] != Dim(1)) return std::nullopt;
      return taken(view, axis, static_cast<int64_t>(output), all, true);
    }
    if (is_op(n, "Slice") && n.inputs.size() >= 4) {
      const auto starts = integers(n.inputs[1]), axes = integers(n.inputs[3]);
      if (!starts || !axes || starts->size() != 1 || axes->size() != 1) return std::nullopt;
      const size_t axis = wrapped((*axes)[0]);
      if (!out || axis >= out->size() || (*out)[axis] != Dim(1)) return std::nullopt;
      return taken(view, axis, (*starts)[0], all, true);
    }
    return std::nullopt;
  }

  // From a state to the Concats that it grows by; false: something else reads it.
  bool forward(ValueId v, const View& view, const Dims& all) {
    if (++moves_ > kMostMoves || std::ranges::find(g_.outputs, v) != g_.outputs.end()) return false;
    for (const int n : readers_[static_cast<size_t>(v)]) {
      const Node& node = g_.nodes[n];
      if (node.inputs.empty() || node.inputs[0] != v || std::ranges::count(node.inputs, v) != 1 || !node.captures.empty()) return false;
      if (is_op(node, "Shape") || is_op(node, "Size")) {
        asked_.push_back({n, view});
        continue;
      }
      if (is_op(node, "Concat")) {
        if (node.inputs.size() != 2) return false;
        ends_.push_back({n, view});
        continue;
      }
      gone_.insert(n);
      View next = view;
      if (moved(node, next.axes, next.casts)) {
        if (!forward(node.outputs[0], next, all)) return false;
        continue;
      }
      for (size_t o = 0; o < node.outputs.size(); ++o) {
        if (node.outputs[o] == kAbsent) continue;
        const auto part = taken_by(node, o, view, all);
        if (!part || !forward(node.outputs[o], *part, all)) return false;
      }
    }
    return true;
  }

  std::optional<Behind> back(ValueId v) {
    const int n = v == kAbsent ? -1 : made_[static_cast<size_t>(v)];
    if (n < 0 || ++moves_ > kMostMoves || g_.nodes[n].outputs[0] != v) return std::nullopt;
    const Node& node = g_.nodes[n];
    for (size_t i = 0; i < ends_.size(); ++i) {
      if (ends_[i].concat == n) return Behind{{static_cast<int>(i)}, ends_[i].view.axes, {}};
    }
    if (is_op(node, "Concat")) {
      Behind all;
      for (size_t i = 0; i < node.inputs.size(); ++i) {
        const auto one = back(node.inputs[i]);
        if (!one || (i > 0 && (one->axes != all.axes || one->casts != all.casts))) return std::nullopt;
        all.axes = one->axes;
        all.casts = one->casts;
        all.ends.insert(all.ends.end(), one->ends.begin(), one->ends.end());
      }
      const int64_t axis = node.integer("axis", 0);
      const auto at = static_cast<size_t>(axis < 0 ? axis + static_cast<int64_t>(all.axes.size()) : axis);
      if (at >= all.axes.size() || all.axes[at] != kUnit) return std::nullopt;
      all.axes[at] = kStack;
      return all;
    }
    if (node.inputs.empty()) return std::nullopt;
    auto one = back(node.inputs[0]);
    if (!one || !moved(node, one->axes, one->casts)) return std::nullopt;
    return one;
  }

  // The axes that a Shape tells of: [from, to).
  static std::pair<int64_t, int64_t> extent(const Node& shape, int64_t rank) {
    const auto within = [&](int64_t a) { return std::clamp<int64_t>(a < 0 ? a + rank : a, 0, rank); };
    const int64_t from = within(shape.integer("start", 0));
    return {from, std::max(from, within(shape.integer("end", rank)))};
  }
  // A Shape or Size of what is known.
  void answer(const Node& n) {
    const Shape shape = *known_shape(dims(n.inputs[0]));
    Value& out = g_.values[static_cast<size_t>(n.outputs[0])];
    if (n.op == "Size") {
      out.constant = Tensor::from<int64_t>({}, {element_count(shape)});
      return;
    }
    const auto rank = static_cast<int64_t>(shape.size());
    const auto [from, to] = extent(n, rank);
    out.constant = Tensor::from<int64_t>({to - from}, std::span(shape).subspan(static_cast<size_t>(from), static_cast<size_t>(to - from)));
  }

  // [batch, heads, positions, width]: positions third, the others as they follow each other at the Concat.
  static std::vector<int> in_order(const std::vector<int>& axes, int grows) {
    std::vector<int> order;
    for (const int a : axes) {
      if (a != grows) order.push_back(a);
    }
    order.insert(order.begin() + 2, grows);
    return order;
  }

  ValueId integers_value(const char* name, Dims of) {
    Value v;
    v.name = unused_name(g_, name);
    v.dtype = DType::i64;
    v.dims = std::move(of);
    return g_.add_value(std::move(v));
  }
  ValueId constant(const std::vector<int64_t>& list) {
    const ValueId v = integers_value("axes", {std::ssize(list)});
    g_.values[static_cast<size_t>(v)].constant = Tensor::from<int64_t>({std::ssize(list)}, std::span(list));
    return v;
  }
  ValueId value_like(ValueId like, std::string name, DType dtype, Dims dims) {
    Value v;
    v.name = unused_name(g_, name.empty() ? g_.values[static_cast<size_t>(like)].name : name);
    v.dtype = dtype;
    v.dims = std::move(dims);
    return g_.add_value(std::move(v));
  }
  Node& write(int before, std::string op, std::vector<ValueId> inputs, ValueId output) {
    Node node;
    node.op = std::move(op);
    node.name = g_.nodes[before].name + "/" + node.op;
    node.inputs = std::move(inputs);
    node.outputs = {output};
    node.merged = {label(g_, g_.nodes[before])};
    return instead_[static_cast<size_t>(before)].emplace_back(std::move(node));
  }
  // `v` with axis `perm[k]` of it as axis k.
  ValueId transposed(int before, ValueId v, const std::vector<int64_t>& perm, ValueId to) {
    if (to == kAbsent) {
      Dims turned;
      for (const int64_t a : perm) turned.push_back((*dims(v))[static_cast<size_t>(a)]);
      to = value_like(v, "", g_.values[static_cast<size_t>(v)].dtype, std::move(turned));
    }
    write(before, "Transpose", {v}, to).attributes["perm"].data = perm;
    return to;
  }
  ValueId cast(int before, ValueId v, DType to, const std::string& name) {
    const ValueId out = value_like(v, name, to, *dims(v));
    write(before, "Cast", {v}, out).attributes["to"].data = static_cast<int64_t>(number_of_dtype(to));
    return out;
  }

  // The Concat between axes in order, with transpositions around it.
  GrowingState rewrite(const GrowingState& state, const End& end, const std::vector<int>& order, const std::vector<DType>& casts_behind,
                       size_t number) {
    const int n = end.concat;
    const Value in = g_.values[static_cast<size_t>(state.input)];
    const std::string output_name = g_.values[static_cast<size_t>(state.output)].name;
    const ValueId fresh = g_.nodes[n].inputs[1], grown = g_.nodes[n].outputs[0];
    Dims held;
    std::vector<int64_t> into, out_of(4);
    for (size_t k = 0; k < 4; ++k) {
      held.push_back((*in.dims)[static_cast<size_t>(order[k])]);
      into.push_back(std::ranges::find(end.view.axes, order[k]) - end.view.axes.begin());
      out_of[static_cast<size_t>(into[k])] = static_cast<int64_t>(k);
    }
    GrowingState inside;
    inside.axis = 2;
    // The only part of a state has its name; messages tell it.
    const auto name_of = [&](ValueId whole, const std::string& name) {
      if (stack_ >= 0) return fmt::format("{}/{}", name, number);
      g_.values[static_cast<size_t>(whole)].name = unused_name(g_, name + "/before");
      return name;
    };
    inside.input = value_like(state.input, name_of(state.input, in.name), in.dtype, held);
    ValueId before = inside.input;
    for (const DType d : end.view.casts) before = cast(n, before, d, "");
    const bool straight = std::is_sorted(into.begin(), into.end());
    const ValueId rows = straight ? fresh : transposed(n, fresh, into, kAbsent);
    Dims longer = *dims(rows);
    if (held[2].known() && longer[2].known()) longer[2] = Dim(held[2].value + longer[2].value);
    else longer[2] = Dim();
    const ValueId all = value_like(grown, "", g_.values[static_cast<size_t>(grown)].dtype, longer);
    write(n, "Concat", {before, rows}, all).attributes["axis"].data = int64_t{2};
    if (straight) write(n, "Identity", {all}, grown);
    else transposed(n, all, out_of, grown);
    inside.output = all;
    for (const DType d : casts_behind) inside.output = cast(n, inside.output, d, "");
    g_.values[static_cast<size_t>(inside.output)].name = unused_name(g_, name_of(state.output, output_name));
    dead_.insert(n);
    return inside;
  }

  static void replace(std::vector<ValueId>& list, ValueId what, const std::vector<GrowingState>& by, ValueId GrowingState::*member) {
    const auto at = std::ranges::find(list, what);
    std::vector<ValueId> those;
    for (const GrowingState& s : by) those.push_back(s.*member);
    list.insert(list.erase(at), those.begin(), those.end());
  }

  Graph& g_;
  const std::vector<int> made_;
  const std::vector<std::vector<int>> readers_;
  std::vector<std::vector<Node>> instead_;  // before each node
  std::set<int> dead_;
  // Of the state that is looked at.
  std::vector<End> ends_;
  std::set<int> gone_;  // nodes that move it
  std::vector<Asked> asked_;
  int stack_ = -1;
  int moves_ = 0;
  static constexpr int kMostMoves = 64;
};

}  // namespace

LATHE_GIVES_WAY std::vector<GrowingState> straighten_states(Graph& graph, const std::vector<GrowingState>& states,
                                                            std::vector<StateOrder>& orders) {
  Straightener s(graph);
  std::vector<GrowingState> inside;
  orders.clear();
  for (const GrowingState& state : states) {
    StateOrder& order = orders.emplace_back();
    if (const auto parts = s.straighten(state, order)) {
      inside.insert(inside.end(), parts->begin(), parts->end());
    } else {
      order = {};
      inside.push_back(state);
    }
  }
  s.finish();
  return inside;
}

LATHE_GIVES_WAY void ask_states_themselves(Graph& graph, const std::vector<GrowingState>& states) {
  Straightener s(graph);
  for (const GrowingState& state : states) s.ask_itself(state.input);
  s.finish();
}

}  // namespace lathe::passes
