// States of a Program: which there are, whether attention can read those that grow where a lane holds them, and editions that do.
#include <algorithm>
#include <numeric>
#include <set>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/op.hpp"
#include "ops/internal_attributes.hpp"
#include "passes/pipeline.hpp"
#include "runtime/program_impl.hpp"

namespace lathe {
namespace {

// Two lengths at which a model is looked at, which are no size of anything else.
constexpr int64_t kLengths[]{37, 53};

}  // namespace

void ProgramImpl::find_states() {
  name_ports();
  if (options.states.empty()) return;
  const auto value_named = [&](const std::vector<ValueId>& among, const std::string& name, const char* what) {
    std::vector<std::string> names;
    for (ValueId v : among) {
      if (graph_.values[v].name == name) return v;
      names.push_back(graph_.values[v].name);
    }
    fail(Category::value, "a state pairs {} '{}', which is not there; the {}s are {}{}", what, name, what, fmt::join(names, ", "),
         did_you_mean(name, names));
  };
  std::set<ValueId> state_inputs, state_outputs;
  std::vector<passes::GrowingState> pairs;
  for (const StatePair& p : options.states) {
    const ValueId in = value_named(graph_.inputs, p.input, "input"), out = value_named(graph_.outputs, p.output, "output");
    if (!state_inputs.insert(in).second || !state_outputs.insert(out).second)
      fail(Category::value, "output '{}' and input '{}' are a state, but one of them belongs to another already", p.output, p.input);
    const Value &from = graph_.values[out], &to = graph_.values[in];
    const auto text = [](const Value& v) { return fmt::format("{} {}", to_string(v.dtype), v.dims ? to_string(*v.dims) : "?"); };
    const auto wrong = [&](std::string_view why) {
      fail(Category::shape, "output '{}' ({}) cannot be fed back to input '{}' ({}): {}", from.name, text(from), to.name, text(to), why);
    };
    if (from.composite || to.composite) wrong("only tensors are kept");
    if (from.dtype != to.dtype)
      fail(Category::type, "output '{}' ({}) cannot be fed back to input '{}' ({}): they differ in type", from.name, text(from), to.name,
           text(to));
    if (!to.dims) wrong("the input's rank is not known");
    StateInfo info{p, to.dtype, to.dims, -1, false};
    if (from.dims && from.dims->size() != to.dims->size()) wrong("they differ in rank");
    for (size_t d = 0; from.dims && d < to.dims->size(); ++d) {
      const Dim &a = (*from.dims)[d], &b = (*to.dims)[d];
      if (a == b && (b.known() || !b.symbol.empty())) continue;
      if (a.known() && b.known())
        wrong(fmt::format("axis {} is {} in one and {} in the other; export the model with that size left open", d, a.value, b.value));
      if (b.known()) continue;  // what the output's size is, a run shows
      if (info.axis >= 0) wrong("more than one size may change");
      info.axis = static_cast<int>(d);
    }
    states.push_back(info);
    pairs.push_back({in, out, info.axis});
  }
  // What a run gives back first, then states.
  std::vector<ValueId> ordered;
  for (ValueId v : graph_.outputs) {
    if (!state_outputs.contains(v)) ordered.push_back(v);
  }
  const size_t given_back = ordered.size();
  for (const auto& p : pairs) ordered.push_back(p.output);
  graph_.outputs = std::move(ordered);
  for (const auto& p : pairs) {
    if (p.axis >= 0) growing_.push_back(p);
  }
  if (!growing_.empty()) {
    name_ports();
    // Inputs as long as everything there is: of an open size along their last axis that no other input has, and no result.
    std::map<std::string, int> uses;
    const auto count = [&](const std::optional<Dims>& dims) {
      std::set<std::string> once;
      for (const Dim& d : dims.value_or(Dims())) once.insert(d.symbol);
      for (const std::string& s : once) ++uses[s];
    };
    for (ValueId v : graph_.inputs) count(graph_.values[v].dims);
    for (size_t i = 0; i < given_back; ++i) count(graph_.values[graph_.outputs[i]].dims);
    long_.assign(inputs.size(), false);
    bindings_.assign(inputs.size(), Binding::sizes);
    for (size_t i = 0; i < inputs.size(); ++i) {
      const auto& dims = inputs[i].dims;
      if (i == 0 || !dims || dims->empty() || dims->back().known() || dims->back().symbol.empty()) continue;
      long_[i] = uses[dims->back().symbol] == 1;
      if (long_[i]) bindings_[i] = Binding::open;
    }
    if (try_in_place(1) && try_in_place(2)) {
      for (StateInfo& s : states) s.in_place = s.axis >= 0;
    } else {
      growing_.clear();
      orders_.clear();
      long_.clear();
      bindings_.clear();
    }
  }
  settle_states();
}

// Who stands where, now that it is known which states are held in place.
void ProgramImpl::settle_states() {
  name_ports();
  if (states.empty()) return;
  bindings_.assign(inputs.size(), Binding::sizes);
  for (size_t i = 0; i < inputs.size(); ++i) {
    if (is_long(i)) bindings_[i] = Binding::open;
  }
  size_t slot = 0, place = 0;
  std::set<size_t> inside;
  kept.clear();
  for (const StateInfo& s : states) {
    Kept k{s, 0, 0};
    if (s.in_place) {
      k.input = slot;
      k.order = orders_[place++];
      slot += k.order.parts.size();
    } else {
      k.input = static_cast<size_t>(std::ranges::find(inputs, s.pair.input, &Port::name) - inputs.begin());
      k.output = static_cast<size_t>(std::ranges::find(outputs, s.pair.output, &Port::name) - outputs.begin());
      inside.insert(k.input);
    }
    kept.push_back(std::move(k));
  }
  public_inputs.clear(), public_input.clear();
  for (size_t i = 0; i < inputs.size(); ++i) {
    if (inside.contains(i)) continue;
    public_inputs.push_back(inputs[i]);
    public_input.push_back(i);
  }
  const auto given_back = static_cast<ptrdiff_t>(outputs.size() - inside.size());
  public_outputs.assign(outputs.begin(), outputs.begin() + given_back);
  output_names = std::make_shared<std::vector<std::string>>(output_names->begin(), output_names->begin() + given_back);
}

// Whether growing states can be held where attention reads them; open sizes of inputs are taken to be `open_size`.
bool ProgramImpl::try_in_place(int64_t open_size) {
  if (options.plain || !options.fuse) {
    why_copied = options.plain ? "plain evaluation does each node by itself" : "nothing is fused";
    return false;
  }
  std::vector<Shape> shapes;
  for (size_t i = 0; i < inputs.size(); ++i) {
    if (!inputs[i].dims) {
      why_copied = fmt::format("the rank of input '{}' is not known", inputs[i].name);
      return false;
    }
    Shape s;
    // Height and width of a picture are larger: what halves them several times must find something.
    constexpr int64_t kPixels = 64;
    for (const Dim& d : *inputs[i].dims)
      s.push_back(d.known() ? d.value : s.size() >= 2 && inputs[i].dims->size() >= 4 ? kPixels * open_size : open_size);
    shapes.push_back(is_long(i) ? Shape() : std::move(s));
  }
  try {
    std::vector<PassReport> reports;
    Held held;
    prepare_held(shapes, reports, held);
    return true;
  } catch (const Error& e) {
    why_copied = e.what();
    return false;
  }
}

const ProgramImpl::Kept& ProgramImpl::growing(size_t n) const {
  const auto in_place = [](const Kept& k) { return k.info.in_place; };
  auto it = std::ranges::find_if(kept, in_place);
  for (; n > 0; --n) it = std::find_if(it + 1, kept.end(), in_place);
  return *it;
}

int64_t ProgramImpl::new_positions(const std::vector<Shape>& shapes) const {
  // A state that is "held" before and "held + new" behind says so itself.
  for (const auto& s : growing_) {
    const auto &before = graph_.values[static_cast<size_t>(s.input)].dims, &behind = graph_.values[static_cast<size_t>(s.output)].dims;
    if (!before || !behind) continue;
    const std::string sum = (*before)[static_cast<size_t>(s.axis)].symbol + " + ", &all = (*behind)[static_cast<size_t>(s.axis)].symbol;
    if (sum.size() == 3 || !all.starts_with(sum)) continue;
    for (size_t i = 0; i < shapes.size(); ++i) {
      for (size_t d = 0; !is_long(i) && inputs[i].dims && d < inputs[i].dims->size() && d < shapes[i].size(); ++d) {
        if ((*inputs[i].dims)[d].symbol == all.substr(sum.size())) return shapes[i][d];
      }
    }
  }
  // Else they are the second axis of the first input that may have them: tokens, or embeddings of them.
  const auto second_axis = [&](size_t rank) -> std::optional<int64_t> {
    for (size_t i = 0; i < shapes.size(); ++i) {
      if (!is_long(i) && shapes[i].size() == rank) return shapes[i][1];
    }
    return {};
  };
  for (const size_t rank : {2, 3, 4}) {
    if (const auto size = second_axis(rank)) return *size;
  }
  return 1;
}

ProgramImpl::Length ProgramImpl::prepare_length(const std::vector<Shape>& shapes, int64_t length, std::vector<PassReport>& reports) {
  const int64_t fresh = new_positions(shapes);
  std::map<ValueId, Dims> more;
  for (const auto& s : growing_) {
    Dims dims = *graph_.values[s.input].dims;
    dims[static_cast<size_t>(s.axis)] = length;
    for (Dim& d : dims) {
      const auto named = [&](const Port& p) {
        return p.dims && std::ranges::any_of(*p.dims, [&](const Dim& other) { return other.symbol == d.symbol; });
      };
      if (!d.known() && (d.symbol.empty() || std::ranges::none_of(inputs, named))) d = 1;
    }
    more[s.input] = std::move(dims);
  }
  size_t i = 0;
  for (ValueId v : graph_.inputs) {
    if (more.contains(v)) continue;
    if (is_long(i)) {
      Dims dims = *graph_.values[v].dims;
      dims.back() = length + fresh;
      more[v] = std::move(dims);
    }
    ++i;
  }
  auto g = shaped(shapes, more);
  infer(*g);
  Length out{g, {}, {}};
  out.inside = passes::straighten_states(*g, growing_, out.orders);
  for (passes::Report& r : passes::run(*g, {passes::When::edition, options.fuse, options.round_each}))
    reports.push_back({std::move(r.pass), std::move(r.changes)});
  return out;
}

std::shared_ptr<const Graph> ProgramImpl::prepare_held(const std::vector<Shape>& shapes, std::vector<PassReport>& reports, Held& held) {
  const LimitScope limits(options.limits);
  std::vector<PassReport> again;
  const auto [g, inside, orders] = prepare_length(shapes, kLengths[0], reports);
  const auto [longer, same_inside, same_orders] = prepare_length(shapes, kLengths[1], again);
  if (orders != same_orders || (!orders_.empty() && orders != orders_))
    fail(Category::unsupported, "states are in another order when more is held, or for other sizes");
  orders_ = orders;
  for (const auto& s : inside) {
    const auto known = known_shape(g->values[s.input].dims);
    if (!known)
      fail(Category::shape, "state '{}' is {}: its sizes must be known", g->values[s.input].name, to_string(*g->values[s.input].dims));
    held.shapes.push_back(*known);
    held.shapes.back()[static_cast<size_t>(s.axis)] = 0;
  }
  std::vector<ValueId> cut;
  std::vector<Node> made;
  std::string wrong = passes::hold_states(*g, inside);
  if (wrong.empty()) wrong = passes::hold_states(*longer, same_inside);
  if (wrong.empty()) wrong = passes::cut_at_length(*g, *longer, graph_.values.size(), cut, made);
  if (!wrong.empty()) fail(Category::unsupported, "{}", wrong);
  passes::remove_dead(*g);
  for (const Node& n : g->nodes) {
    if (!n.attributes.contains(ops::kHeld)) continue;
    const Shape k = *known_shape(g->values[n.inputs[1]].dims);
    const int64_t fresh = k[k.size() - 2];
    if (held.fresh != 0 && held.fresh != fresh) fail(Category::unsupported, "states grow by different numbers of positions");
    held.fresh = fresh;
  }
  if (cut.empty()) return g;
  // What hangs on the length, by itself.
  auto prelude = std::make_shared<Graph>(graph_);
  for (size_t v = prelude->values.size(); v < g->values.size(); ++v) {
    Value& value = prelude->values.emplace_back(g->values[v]);
    if (!value.constant && value.dims) value.dims = Dims(value.dims->size());
  }
  prelude->nodes.insert(prelude->nodes.end(), made.begin(), made.end());
  prelude->outputs = cut;
  passes::remove_dead(*prelude);
  passes::ask_states_themselves(*prelude, growing_);
  const auto readers = prelude->consumers();
  std::vector<ValueId> needed;
  size_t port = 0;
  for (ValueId v : graph_.inputs) {
    const auto state = std::ranges::find(growing_, v, &passes::GrowingState::input);
    const size_t index = state != growing_.end() ? inputs.size() + static_cast<size_t>(state - growing_.begin()) : port++;
    if (readers[static_cast<size_t>(v)].empty() && std::ranges::find(cut, v) == cut.end()) continue;
    for (int n : readers[static_cast<size_t>(v)]) {
      if (state != growing_.end() && prelude->nodes[n].op != "Shape" && prelude->nodes[n].op != "Size")
        fail(Category::unsupported, "what is held in '{}' is read by {}, too", graph_.values[v].name, prelude->nodes[n].op);
    }
    needed.push_back(v);
    held.prelude_inputs.push_back(index);
  }
  prelude->inputs = std::move(needed);
  held.prelude = std::move(prelude);
  return g;
}

Shape ProgramImpl::state_shape(const StateInfo& state, std::span<const Shape> shapes, int64_t length) const {
  Shape out;
  for (size_t d = 0; d < state.dims->size(); ++d) {
    const Dim& dim = (*state.dims)[d];
    int64_t size = dim.known() ? dim.value : 1;
    for (size_t i = 0; !dim.known() && !dim.symbol.empty() && i < shapes.size(); ++i) {
      const auto& dims = inputs[i].dims;
      for (size_t k = 0; dims && k < dims->size() && k < shapes[i].size(); ++k) {
        if ((*dims)[k].symbol == dim.symbol) size = shapes[i][k];
      }
    }
    out.push_back(static_cast<int>(d) == state.axis ? length : size);
  }
  return out;
}

}  // namespace lathe
