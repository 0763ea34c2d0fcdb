// States that grow, kept where attention reads them: a Concat of what was and what is new disappears, the input and output with it.
#include <algorithm>
#include <cstring>
#include <set>

#include "base/fail.hpp"
#include "base/gives_way.hpp"
#include "ops/internal_attributes.hpp"
#include "passes/passes.hpp"
#include "passes/rewriter.hpp"

namespace lathe::passes {
namespace {

std::string named(const Graph& g, ValueId v) { return "'" + g.values[static_cast<size_t>(v)].name + "'"; }

// What is new of a state: what a Concat puts behind its input; absent: something else makes the output.
struct Appended {
  int concat = -1, attention = -1;  // one of them makes it
  ValueId fresh = kAbsent;
};

class Holder {
 public:
  Holder(Graph& g, const std::vector<GrowingState>& states) : g_(g), states_(states), made_(g.producers()), readers_(g.consumers()) {}

  std::string run() {
    std::vector<Appended> appended;
    for (const GrowingState& s : states_) {
      const Value& in = g_.values[static_cast<size_t>(s.input)];
      if (!in.dims || in.dims->size() != 4 || s.axis != 2)
        return fmt::format("{} is {}, not [batch, heads, positions, width]", named(g_, s.input), in.dims ? to_string(*in.dims) : "?");
      if (!is_held(in.dtype)) return fmt::format("{} is {}, not floats of 16 or 32 bits", named(g_, s.input), to_string(in.dtype));
      Inside i{s.input, s.output, {}};
      through_casts(i);
      inside_.push_back(i);
      if (g_.values[static_cast<size_t>(i.input)].dtype != DType::f32) return fmt::format("{} is not computed in f32", named(g_, s.input));
      Appended a;
      const int n = made_[static_cast<size_t>(i.output)];
      if (n >= 0 && is_op(g_.nodes[n], "Concat") && g_.nodes[n].inputs.size() == 2 && g_.nodes[n].inputs[0] == i.input &&
          axis_of(g_.nodes[n]) == s.axis) {
        a.concat = n;
        a.fresh = g_.nodes[n].inputs[1];
      } else if (n >= 0 && is_op(g_.nodes[n], "Attention")) {
        a.attention = n;
      } else {
        return fmt::format("{} is not {} with something new behind it", named(g_, s.output), named(g_, s.input));
      }
      if (readers_[static_cast<size_t>(i.input)].size() != 1)
        return fmt::format("{} is read by more than what it grows by", named(g_, s.input));
      appended.push_back(a);
    }
    std::set<int> dead;
    std::vector<bool> done(states_.size());
    for (size_t i = 0; i < states_.size(); ++i) {
      if (done[i]) continue;
      const int n = appended[i].attention >= 0 ? appended[i].attention : reader(i);
      if (n < 0) return fmt::format("{} is read by more than one attention, or by something else", named(g_, states_[i].output));
      const Node& node = g_.nodes[n];
      if (node.attributes.contains(ops::kHeld)) return fmt::format("{} belongs to two attentions", named(g_, states_[i].output));
      if (const char* why = unusual(node)) return fmt::format("{}: {}", label(g_, node), why);
      const std::string wrong = appended[i].attention >= 0 ? inside(n, done) : behind(n, appended, done, dead);
      if (!wrong.empty()) return wrong;
    }
    for (const Inside& i : inside_) dead.insert(i.casts.begin(), i.casts.end());
    std::vector<Node> kept;
    for (int n = 0; n < static_cast<int>(g_.nodes.size()); ++n) {
      if (!dead.contains(n)) kept.push_back(std::move(g_.nodes[n]));
    }
    g_.nodes = std::move(kept);
    for (const GrowingState& s : states_) {
      std::erase(g_.inputs, s.input);
      std::erase(g_.outputs, s.output);
    }
    return "";
  }

 private:
  static int64_t axis_of(const Node& n) {
    const int64_t axis = n.integer("axis", 0);
    return axis < 0 ? axis + 4 : axis;
  }
  static bool is_held(DType d) { return d == DType::f32 || d == DType::f16 || d == DType::bf16; }

  // Where a state is read and made in f32: behind and before casts, which go with it.
  struct Inside {
    ValueId input, output;
    std::set<int> casts;
  };
  void through_casts(Inside& i) const {
    const auto casts = [&](int n) { return n >= 0 && (is_op(g_.nodes[n], "Cast") || is_op(g_.nodes[n], "Identity")); };
    while (true) {
      const auto& readers = readers_[static_cast<size_t>(i.input)];
      if (readers.size() != 1 || !casts(readers[0]) || !is_held(g_.values[static_cast<size_t>(g_.nodes[readers[0]].outputs[0])].dtype))
        break;
      i.casts.insert(readers[0]);
      i.input = g_.nodes[readers[0]].outputs[0];
    }
    while (casts(made_[static_cast<size_t>(i.output)])) {
      const int n = made_[static_cast<size_t>(i.output)];
      i.casts.insert(n);
      i.output = g_.nodes[n].inputs[0];
    }
  }
  // Who reads what a state is then, but for casts to its output.
  std::vector<int> readers_of(size_t state) const {
    std::vector<int> all = readers_[static_cast<size_t>(inside_[state].output)];
    std::erase_if(all, [&](int n) { return inside_[state].casts.contains(n); });
    return all;
  }
  size_t state_with_output(ValueId v) const {
    return static_cast<size_t>(std::ranges::find(inside_, v, &Inside::output) - inside_.begin());
  }
  size_t state_with_input(ValueId v) const { return static_cast<size_t>(std::ranges::find(inside_, v, &Inside::input) - inside_.begin()); }
  bool one_type(size_t a, size_t b) const {
    return g_.values[static_cast<size_t>(states_[a].input)].dtype == g_.values[static_cast<size_t>(states_[b].input)].dtype;
  }
  // Why no step reads states for an attention of this form, or null.
  const char* unusual(const Node& n) const {
    if (n.integer("softmax_precision", 1) != 1) return "its scores are summed in another type";
    for (size_t i = 0; i < 3; ++i) {
      if (n.inputs[i] == kAbsent || g_.values[static_cast<size_t>(n.inputs[i])].dtype != DType::f32) return "it is not computed in f32";
    }
    if (n.inputs.size() < 4 || n.inputs[3] == kAbsent) return nullptr;
    const Value& mask = g_.values[static_cast<size_t>(n.inputs[3])];
    const bool fits =
        (mask.dtype == DType::f32 || mask.dtype == DType::boolean) && mask.dims && !mask.dims->empty() && mask.dims->size() <= 4;
    return fits ? nullptr : "its mask is neither of f32 nor of bool";
  }
  // Numbers of the states, and how their rows are rounded: as their type says, which is one for both.
  std::vector<int64_t> held(size_t keys, size_t values) const {
    const DType d = g_.values[static_cast<size_t>(states_[keys].input)].dtype;
    return {static_cast<int64_t>(keys), static_cast<int64_t>(values), d == DType::f16 ? 1 : d == DType::bf16 ? 2 : 0};
  }
  // The only node that reads the output, an attention; -1: there is no such.
  int reader(size_t state) const {
    const auto all = readers_of(state);
    return all.size() == 1 && is_op(g_.nodes[all[0]], "Attention") ? all[0] : -1;
  }

  // Attention on keys and values that Concats have grown.
  std::string behind(int n, const std::vector<Appended>& appended, std::vector<bool>& done, std::set<int>& dead) {
    Node& node = g_.nodes[n];
    const size_t keys = state_with_output(node.inputs[1]), values = state_with_output(node.inputs[2]);
    if (keys < states_.size() && values < states_.size() && !one_type(keys, values))
      return fmt::format("{}: its states differ in type", label(g_, node));
    if (keys >= states_.size() || values >= states_.size() || keys == values || appended[keys].concat < 0 || appended[values].concat < 0)
      return fmt::format("{}: its keys and its values are not one state each", label(g_, node));
    if (node.inputs.size() > 4 || node.outputs.size() > 1 || node.integer("is_causal", 0) != 0)
      return fmt::format("{}: it has another state of its own, or hides what lies ahead by its place", label(g_, node));
    node.inputs[1] = appended[keys].fresh;
    node.inputs[2] = appended[values].fresh;
    node.attributes[ops::kHeld].data = held(keys, values);
    dead.insert({appended[keys].concat, appended[values].concat});
    done[keys] = done[values] = true;
    return "";
  }

  // Attention that takes what was, and gives what is then.
  std::string inside(int n, std::vector<bool>& done) {
    Node& node = g_.nodes[n];
    const auto at = [](const std::vector<ValueId>& list, size_t i) { return i < list.size() ? list[i] : kAbsent; };
    const size_t keys = state_with_input(at(node.inputs, 4)), values = state_with_input(at(node.inputs, 5));
    if (keys >= states_.size() || values >= states_.size() || keys == values || at(node.outputs, 1) != inside_[keys].output ||
        at(node.outputs, 2) != inside_[values].output)
      return fmt::format("{}: what it takes and gives of keys and values are not the two states", label(g_, node));
    if (!one_type(keys, values)) return fmt::format("{}: its states differ in type", label(g_, node));
    if (at(node.inputs, 6) != kAbsent || at(node.outputs, 3) != kAbsent)
      return fmt::format("{}: it has a number of keys that count, or gives its scores", label(g_, node));
    for (const size_t state : {keys, values}) {
      if (!readers_of(state).empty()) return fmt::format("{} is read by something else, too", named(g_, states_[state].output));
    }
    node.inputs.resize(at(node.inputs, 3) != kAbsent ? 4 : 3);
    node.outputs.resize(1);
    node.attributes[ops::kHeld].data = held(keys, values);
    done[keys] = done[values] = true;
    return "";
  }

  Graph& g_;
  const std::vector<GrowingState>& states_;
  std::vector<Inside> inside_;  // by state
  const std::vector<int> made_;
  const std::vector<std::vector<int>> readers_;
};

template <typename T, typename... Of>
inline constexpr bool kOneOf = (std::is_same_v<T, Of> || ...);

// Of tensors, graphs and types it says no.
bool same_attribute(const Attribute& a, const Attribute& b) {
  if (a.data.index() != b.data.index() || a.reference != b.reference) return false;
  return std::visit(
      [&]<typename T>(const T& x) {
        if constexpr (kOneOf<T, std::monostate, int64_t, float, std::string, std::vector<int64_t>, std::vector<float>,
                             std::vector<std::string>>)
          return x == std::get<T>(b.data);
        else return false;
      },
      a.data);
}

bool same_constant(const Tensor& a, const Tensor& b) {
  if (a.composite() || b.composite() || a.dtype() != b.dtype() || a.shape() != b.shape()) return false;
  if (a.data() == b.data()) return true;
  if (a.data() == nullptr || b.data() == nullptr || a.dtype() == DType::string) return false;
  return std::memcmp(a.data(), b.data(), a.byte_size()) == 0;
}

}  // namespace

LATHE_GIVES_WAY std::string hold_states(Graph& graph, const std::vector<GrowingState>& states) { return Holder(graph, states).run(); }

LATHE_GIVES_WAY std::string cut_at_length(Graph& g, const Graph& other, size_t base_values, std::vector<ValueId>& cut,
                                          std::vector<Node>& made) {
  const std::string another = "the model is another one when it holds more";
  if (g.nodes.size() != other.nodes.size() || g.values.size() != other.values.size() || g.inputs != other.inputs ||
      g.outputs != other.outputs)
    return another;
  const auto differs = [&](ValueId v) {
    const Value &a = g.values[static_cast<size_t>(v)], &b = other.values[static_cast<size_t>(v)];
    if (a.dims != b.dims || a.constant.has_value() != b.constant.has_value()) return true;
    return a.constant && !same_constant(*a.constant, *b.constant);
  };
  const auto held_mask = [](const Node& n, size_t i) { return i == 3 && n.attributes.contains(ops::kHeld); };
  // Nodes whose sizes or attributes hang on the length.
  std::set<int> inside;
  std::set<ValueId> made_inside;
  for (int n = 0; n < static_cast<int>(g.nodes.size()); ++n) {
    const Node &a = g.nodes[n], &b = other.nodes[n];
    if (a.op != b.op || a.domain != b.domain || a.inputs != b.inputs || a.outputs != b.outputs ||
        a.attributes.size() != b.attributes.size() || a.captures.size() != b.captures.size())
      return another;
    bool hangs = false;
    for (const auto& [name, value] : a.attributes) {
      const auto it = b.attributes.find(name);
      if (it == b.attributes.end()) return another;
      const bool body = std::holds_alternative<std::shared_ptr<Graph>>(value.data);
      hangs = hangs || (!body && !same_attribute(value, it->second));
    }
    for (size_t i = 0; i < a.inputs.size(); ++i) {
      if (a.inputs[i] == kAbsent || held_mask(a, i)) continue;
      const Value &x = g.values[static_cast<size_t>(a.inputs[i])], &y = other.values[static_cast<size_t>(a.inputs[i])];
      hangs = hangs || x.dims != y.dims;
    }
    for (ValueId v : a.outputs) hangs = hangs || (v != kAbsent && differs(v));
    if (!hangs) continue;
    if (!a.captures.empty()) return fmt::format("{} runs a subgraph that hangs on the length", label(g, a));
    inside.insert(n);
    for (ValueId v : a.outputs) made_inside.insert(v);
  }
  const auto outer = [&](ValueId v) { return made_inside.contains(v) || differs(v); };
  // What passes have made of values of the model is made in the same way where those are.
  const std::vector<int> makers = g.producers();
  std::set<int> taken;
  const auto made_from_model = [&](auto&& self, ValueId v) -> bool {
    const auto at = static_cast<size_t>(v);
    if (v == kAbsent || at < base_values) return true;
    if (g.values[at].constant) return !differs(v);
    const int n = makers[at];
    if (n < 0 || !inside.contains(n) || g.nodes[n].outputs.size() != 1 || !g.nodes[n].captures.empty()) return false;
    if (taken.contains(n)) return true;
    for (const auto& [name, value] : g.nodes[n].attributes) {
      if (!same_attribute(value, other.nodes[n].attributes.at(name))) return false;
    }
    for (const ValueId in : g.nodes[n].inputs) {
      if (!self(self, in)) return false;
    }
    taken.insert(n);
    made.push_back(g.nodes[n]);
    return true;
  };
  for (ValueId v : g.outputs) {
    if (outer(v)) return fmt::format("output {} is as long as what is held, or is made of its length", named(g, v));
  }
  for (int n = 0; n < static_cast<int>(g.nodes.size()); ++n) {
    if (inside.contains(n)) continue;
    for (ValueId v : g.nodes[n].inputs) {
      if (v == kAbsent || !outer(v) || std::ranges::find(cut, v) != cut.end()) continue;
      if (!made_from_model(made_from_model, v))
        return fmt::format("what {} reads of the length is no value of the model", label(g, g.nodes[n]));
      cut.push_back(v);
    }
    for (const Capture& c : g.nodes[n].captures) {
      if (outer(c.value)) return fmt::format("{} looks at the length from a subgraph", label(g, g.nodes[n]));
    }
  }
  std::vector<Node> kept;
  for (int n = 0; n < static_cast<int>(g.nodes.size()); ++n) {
    if (!inside.contains(n)) kept.push_back(std::move(g.nodes[n]));
  }
  g.nodes = std::move(kept);
  for (ValueId v = 0; v < static_cast<ValueId>(g.values.size()); ++v) {
    Value& value = g.values[static_cast<size_t>(v)];
    const Value& b = other.values[static_cast<size_t>(v)];
    if (!value.dims || !b.dims || value.dims->size() != b.dims->size()) continue;
    for (size_t d = 0; d < value.dims->size(); ++d) {
      if ((*value.dims)[d] != (*b.dims)[d]) (*value.dims)[d] = Dim();
    }
  }
  for (ValueId v : cut) {
    g.values[static_cast<size_t>(v)].constant.reset();
    if (std::ranges::find(g.inputs, v) == g.inputs.end()) g.inputs.push_back(v);
  }
  return "";
}

}  // namespace lathe::passes
