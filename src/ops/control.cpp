// Control flow: If, Loop, Scan. Bodies run by plain evaluation, with the values around them that they read.
#include <algorithm>
#include <limits>

#include "ops/internal_ops.hpp"
#include "ops/movement.hpp"
#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// What holds for both: dims that differ are open.
Type common(const InferContext& c, const Type& a, const Type& b, const std::string& what) {
  if (a.kind != b.kind) {
    if (a.kind == Type::Kind::optional) return a;
    if (b.kind == Type::Kind::optional) return b;
    c.fail(Category::type, fmt::format("{} is {} one way and {} the other", what, to_string(a), to_string(b)));
  }
  if (a.kind != Type::Kind::tensor) return a;
  if (a.dtype != DType::undefined && b.dtype != DType::undefined && a.dtype != b.dtype)
    c.fail(Category::type, fmt::format("{} is {} one way and {} the other", what, to_string(a.dtype), to_string(b.dtype)));
  Type out = a;
  if (a.dtype == DType::undefined) out.dtype = b.dtype;
  if (!a.dims || !b.dims || a.dims->size() != b.dims->size()) {
    out.dims.reset();
    return out;
  }
  for (size_t i = 0; i < a.dims->size(); ++i) {
    if (!((*a.dims)[i] == (*b.dims)[i])) (*out.dims)[i] = Dim();
  }
  return out;
}

Type stacked(const Type& item, Dim count) {
  Type t = item;
  if (t.dims) t.dims->insert(t.dims->begin(), std::move(count));
  return t;
}

// Exporters leave branches behind that could not be run on the shapes at hand: what is never taken is no fault. The condition decides where
// it is known; else a branch that cannot be reports its error when it is taken.
void infer_if(InferContext& c) {
  std::optional<Error> wrong[2];
  std::vector<Type> types[2];
  const Tensor* condition = c.constant(0);
  const bool known = condition && condition->size() == 1 && condition->dtype() == DType::boolean && condition->data() != nullptr;
  const bool taken = known && condition->as<bool>()[0];
  for (const bool then : {true, false}) {
    if (known && then != taken) continue;
    try {
      types[then] = c.infer_body(then ? "then_branch" : "else_branch", {});
    } catch (const Error& e) {
      if (known || e.category() == Category::resource || e.category() == Category::internal) throw;
      wrong[then] = e;
    }
  }
  if (wrong[0] && wrong[1]) throw *wrong[1];
  if (known || wrong[0] || wrong[1]) {
    const auto& made = types[known ? taken : !wrong[1]];
    c.require(static_cast<int>(made.size()) >= c.output_count(), Category::value,
              fmt::format("the branch gives {} values, the node {}", made.size(), c.output_count()));
    for (int i = 0; i < c.output_count(); ++i) {
      Type t = made[i];
      if (!known && t.kind == Type::Kind::tensor) t.dims.reset();  // the other one may give another shape
      c.set_type(i, std::move(t));
    }
    return;
  }
  const auto &yes = types[1], &no = types[0];
  c.require(yes.size() == no.size(), Category::value, fmt::format("the branches give {} and {} values", yes.size(), no.size()));
  c.require(static_cast<int>(yes.size()) >= c.output_count(), Category::value,
            fmt::format("the branches give {} values, the node {}", yes.size(), c.output_count()));
  for (int i = 0; i < c.output_count(); ++i) c.set_type(i, common(c, yes[i], no[i], fmt::format("output {}", i)));
}

void infer_part(InferContext& c) {
  const auto made = c.infer_body("body", {});
  c.require(static_cast<int>(made.size()) == c.output_count(), Category::value,
            fmt::format("the body gives {} values, the node {}", made.size(), c.output_count()));
  for (int i = 0; i < c.output_count(); ++i) c.set_type(i, made[static_cast<size_t>(i)]);
}

std::vector<Tensor> run_part(const EvalContext& c) { return Body(c, "body").run({}); }

std::vector<Tensor> run_if(const EvalContext& c) { return Body(c, one_integer(c, 0) ? "then_branch" : "else_branch").run({}); }

void infer_choice(InferContext& c) { c.set_type(0, common(c, c.type(1), c.type(2), "what is chosen")); }

std::vector<Tensor> run_choice(const EvalContext& c) { return {c.in(one_integer(c, 0) ? 1 : 2)}; }

// Carried values keep their dims only when a trip leaves them as they are.
std::vector<Type> infer_carried(const InferContext& c, std::string_view body, std::vector<Type> inputs, size_t carried_from,
                                size_t results_from, size_t carried) {
  std::vector<Type> out;
  bool steady = true;
  try {
    out = c.infer_body(body, inputs);
    if (out.size() < results_from + carried) return out;
    for (size_t i = 0; i < carried; ++i)
      steady = steady && common(c, inputs[carried_from + i], out[results_from + i], "a carried value") == inputs[carried_from + i];
  } catch (const Error& e) {
    if (e.category() != Category::shape) throw;  // sizes of the first trip may not fit a later one
    steady = false;
  }
  if (steady) return out;
  for (size_t i = 0; i < carried; ++i) {
    Type& t = inputs[carried_from + i];
    if (t.kind != Type::Kind::tensor) continue;
    if (i + results_from < out.size()) t = common(c, t, out[results_from + i], fmt::format("carried value {}", i));
    else t.dims.reset();
  }
  out = c.infer_body(body, inputs);
  for (size_t i = 0; i < carried && results_from + i < out.size(); ++i) {
    const Type settled = common(c, inputs[carried_from + i], out[results_from + i], fmt::format("carried value {}", i));
    if (settled == inputs[carried_from + i]) continue;
    for (size_t k = 0; k < carried; ++k) inputs[carried_from + k].dims.reset();
    return c.infer_body(body, inputs);
  }
  return out;
}

void infer_loop(InferContext& c) {
  const int carried = std::max(0, c.input_count() - 2);
  std::vector<Type> inputs{tensor_type(DType::i64, Dims{}), tensor_type(DType::boolean, Dims{})};
  for (int i = 0; i < carried; ++i) inputs.push_back(c.type(i + 2));
  const auto out = infer_carried(c, "body", inputs, 2, 1, carried);
  c.require(static_cast<int>(out.size()) >= 1 + carried, Category::value,
            fmt::format("the body gives {} values, expected a condition and {} carried values", out.size(), carried));
  c.require(c.output_count() <= static_cast<int>(out.size()) - 1, Category::value,
            fmt::format("has {} outputs, the body makes {}", c.output_count(), out.size() - 1));
  for (int i = 0; i < c.output_count(); ++i) {
    // No trip at all hands the initial value on.
    if (i < carried) c.set_type(i, common(c, c.type(i + 2), out[i + 1], fmt::format("carried value {}", i)));
    else c.set_type(i, stacked(out[i + 1], Dim()));
  }
}

// The result of stacking what no trip made.
Tensor nothing_stacked(const Graph& body, ValueId v, int64_t axis) {
  const Value& value = body.values[v];
  Shape shape = known_shape(value.dims).value_or(Shape());
  const int64_t rank = static_cast<int64_t>(shape.size()) + 1;
  shape.insert(shape.begin() + (axis < 0 ? axis + rank : axis), 0);
  return Tensor(value.dtype == DType::undefined ? DType::f32 : value.dtype, shape);
}

std::vector<Tensor> run_loop(const EvalContext& c) {
  const int64_t most = c.has(0) ? one_integer(c, 0) : std::numeric_limits<int64_t>::max();
  bool going = !c.has(1) || one_integer(c, 1) != 0;
  Body body(c, "body");
  const Graph& graph = **c.node.find<std::shared_ptr<Graph>>("body");
  const size_t carried = c.inputs.size() > 2 ? c.inputs.size() - 2 : 0;
  if (body.output_count() < 1 + carried)
    fail(Category::value, "the body gives {} values, expected a condition and {} carried values", body.output_count(), carried);
  const size_t collected = body.output_count() - 1 - carried;
  std::vector<Tensor> state(c.inputs.begin() + std::min<size_t>(2, c.inputs.size()), c.inputs.end());
  std::vector<std::vector<Tensor>> rows(collected);
  std::vector<int64_t> held(collected, 0);  // what a loop gathers is one result in the end
  for (int64_t trip = 0; trip < most && going; ++trip) {
    count_trip();
    std::vector<Tensor> in{Tensor::from<int64_t>({}, {trip}), Tensor::from<bool>({}, {going})};
    in.insert(in.end(), state.begin(), state.end());
    auto out = body.run(in);
    if (out[0].composite() || out[0].dtype() != DType::boolean || out[0].size() != 1)
      fail(Category::type, "the body's first output must be one bool, it is {} of {}", to_string(out[0].dtype()),
           to_string(out[0].shape()));
    going = widen<int64_t>(out[0])[0] != 0;
    for (size_t i = 0; i < carried; ++i) state[i] = std::move(out[i + 1]);
    for (size_t i = 0; i < collected; ++i) {
      held[i] += out[1 + carried + i].size();
      check_plain_size(held[i]);
      rows[i].push_back(std::move(out[1 + carried + i]));
    }
  }
  for (size_t i = 0; i < collected; ++i)
    state.push_back(rows[i].empty() ? nothing_stacked(graph, graph.outputs[1 + carried + i], 0) : stack(rows[i], 0));
  return state;
}

// ---- Scan ----

struct ScanForm {
  size_t states, scanned, collected;
  std::vector<int64_t> in_axes, in_directions, out_axes, out_directions;
};

ScanForm scan_form(const Node& n, size_t inputs, size_t body_outputs) {
  ScanForm f;
  const int64_t scanned = n.integer("num_scan_inputs", 0);
  if (scanned < 1 || scanned > static_cast<int64_t>(inputs))
    fail(Category::value, "num_scan_inputs is {}, the node has {} inputs", scanned, inputs);
  f.scanned = static_cast<size_t>(scanned);
  f.states = inputs - f.scanned;
  if (body_outputs < f.states) fail(Category::value, "the body gives {} values, there are {} states", body_outputs, f.states);
  f.collected = body_outputs - f.states;
  const auto list = [&](const char* name, size_t count) {
    auto v = n.integers(name);
    if (v.empty()) v.assign(count, 0);
    if (v.size() != count) fail(Category::value, "{} has {} entries, expected {}", name, v.size(), count);
    return v;
  };
  f.in_axes = list("scan_input_axes", f.scanned);
  f.in_directions = list("scan_input_directions", f.scanned);
  f.out_axes = list("scan_output_axes", f.collected);
  f.out_directions = list("scan_output_directions", f.collected);
  return f;
}

void infer_scan(InferContext& c) {
  const auto* body = c.node().find<std::shared_ptr<Graph>>("body");
  c.require(body != nullptr, Category::value, "attribute 'body' must hold a graph");
  const ScanForm f = scan_form(c.node(), c.input_count(), (*body)->outputs.size());
  std::vector<Type> inputs;
  Dim count;
  for (size_t i = 0; i < f.states; ++i) inputs.push_back(c.type(static_cast<int>(i)));
  for (size_t i = 0; i < f.scanned; ++i) {
    Type t = c.type(static_cast<int>(f.states + i));
    if (t.dims) {
      const int64_t axis = wrap_axis(f.in_axes[i], static_cast<int64_t>(t.dims->size()));
      if ((*t.dims)[axis].known() || count.symbol.empty()) count = (*t.dims)[axis];
      t.dims->erase(t.dims->begin() + axis);
    }
    inputs.push_back(std::move(t));
  }
  const auto out = infer_carried(c, "body", inputs, 0, 0, f.states);
  for (int i = 0; i < c.output_count() && i < static_cast<int>(out.size()); ++i) {
    if (i < static_cast<int>(f.states)) {
      c.set_type(i, common(c, c.type(i), out[i], fmt::format("state {}", i)));
      continue;
    }
    Type t = out[i];
    if (t.dims) {
      const int64_t axis = wrap_axis(f.out_axes[i - f.states], static_cast<int64_t>(t.dims->size()) + 1);
      t.dims->insert(t.dims->begin() + axis, count);
    }
    c.set_type(i, std::move(t));
  }
}

// States, then scanned inputs; gives final states, then stacked results. `count`: trips to take of those there are.
std::vector<Tensor> scan(const EvalContext& c, Body& body, const ScanForm& f, std::span<const Tensor> inputs,
                         std::optional<int64_t> count = {}) {
  const Graph& graph = **c.node.find<std::shared_ptr<Graph>>("body");
  int64_t length = -1;
  for (size_t i = 0; i < f.scanned; ++i) {
    const Tensor& t = inputs[f.states + i];
    const int64_t n = t.shape().at(wrap_axis(f.in_axes[i], t.rank()));
    if (length >= 0 && n != length) fail(Category::shape, "scanned inputs have {} and {} entries", length, n);
    length = n;
  }
  const int64_t trips = count.value_or(length);
  std::vector<Tensor> state(inputs.begin(), inputs.begin() + static_cast<int64_t>(f.states));
  std::vector<std::vector<Tensor>> rows(f.collected);
  std::vector<int64_t> held(f.collected, 0);
  for (int64_t trip = 0; trip < trips; ++trip) {
    count_trip();
    std::vector<Tensor> in = state;
    for (size_t i = 0; i < f.scanned; ++i) {
      const Tensor& t = inputs[f.states + i];
      in.push_back(pick(t, wrap_axis(f.in_axes[i], t.rank()), f.in_directions[i] ? length - 1 - trip : trip));
    }
    auto out = body.run(in);
    for (size_t i = 0; i < f.states; ++i) state[i] = std::move(out[i]);
    for (size_t i = 0; i < f.collected; ++i) {
      held[i] += out[f.states + i].size();
      check_plain_size(held[i]);
      rows[i].push_back(std::move(out[f.states + i]));
    }
  }
  for (size_t i = 0; i < f.collected; ++i) {
    if (f.out_directions[i]) std::reverse(rows[i].begin(), rows[i].end());
    state.push_back(rows[i].empty() ? nothing_stacked(graph, graph.outputs[f.states + i], f.out_axes[i]) : stack(rows[i], f.out_axes[i]));
  }
  return state;
}

std::vector<Tensor> run_scan(const EvalContext& c) {
  Body body(c, "body");
  return scan(c, body, scan_form(c.node, c.inputs.size(), body.output_count()), c.inputs);
}

// Version 8: an optional input of sequence lengths first, a batch axis in front of everything, time on axis 1.
std::vector<Tensor> run_scan8(const EvalContext& c) {
  Body body(c, "body");
  ScanForm f = scan_form(c.node, c.inputs.size() - 1, body.output_count());
  const auto directions = c.node.integers("directions");
  if (!directions.empty()) f.in_directions = directions;
  if (f.in_directions.size() != f.scanned)
    fail(Category::value, "directions has {} entries, expected {}", f.in_directions.size(), f.scanned);
  const int64_t batches = c.in(1).shape().at(0), longest = c.in(1 + f.states).shape().at(1);
  const auto lengths = c.has(0) ? integers(c.in(0)) : std::vector<int64_t>(batches, longest);
  std::vector<std::vector<Tensor>> results(f.states + f.collected);
  for (int64_t b = 0; b < batches; ++b) {
    std::vector<Tensor> in;
    for (size_t i = 1; i < c.inputs.size(); ++i) {
      if (c.in(i).rank() < 1 || c.in(i).shape()[0] != batches)
        fail(Category::shape, "input {} has shape {}, expected a batch of {}", i, to_string(c.in(i).shape()), batches);
      in.push_back(pick(c.in(i), 0, b));
    }
    if (lengths.at(b) < 0 || lengths[b] > longest) fail(Category::value, "sequence length {} is outside 0..{}", lengths[b], longest);
    auto out = scan(c, body, f, in, lengths[b]);
    for (size_t i = 0; i < out.size(); ++i) {
      if (i >= f.states && out[i].shape()[0] < longest) {  // shorter sequences are filled up with zeros
        Shape rest = out[i].shape();
        rest[0] = longest - rest[0];
        const std::vector<int64_t> none(element_count(rest), -1);
        const Tensor parts[] = {out[i], take(out[i], rest, none)};
        out[i] = join(parts, 0);
      }
      results[i].push_back(std::move(out[i]));
    }
  }
  std::vector<Tensor> out;
  for (auto& r : results) out.push_back(stack(r, 0));
  return out;
}

}  // namespace

void add_control(std::vector<OpDef>& out) {
  const auto add = [&](OpDef d) {
    d.composites = true;
    d.min_outputs = 0;
    out.push_back(std::move(d));
  };
  add(def("If", 1, 1, 1, Trait::opaque, infer_if, run_if, -1));
  add(def("Loop", 1, 0, -1, Trait::opaque, infer_loop, run_loop, -1));
  OpDef scan8 = def(
      "Scan", 8, 2, -1, Trait::opaque,
      [](InferContext& c) {
        for (int i = 0; i < c.output_count(); ++i) c.set(i, DType::undefined, std::nullopt);
      },
      run_scan8, -1);
  scan8.min_inputs = 0;  // the lengths may be left out, though they come first
  add(std::move(scan8));
  add(def("Scan", 9, 1, -1, Trait::opaque, infer_scan, run_scan, -1));
  OpDef part = def(kPart, 1, 0, 0, Trait::opaque, infer_part, run_part, -1);
  part.domain = kInternalDomain;
  add(std::move(part));
  OpDef choice = def(kChoice, 1, 3, 3, Trait::opaque, infer_choice, run_choice);
  choice.domain = kInternalDomain;
  out.push_back(std::move(choice));
  OpDef divisors = def(kDivisors, 1, 1, 1, Trait::opaque, same_as_first, [](const EvalContext& c) -> std::vector<Tensor> {
    if (std::ranges::count(integers(c.in(0)), 0) > 0) fail(Category::value, "integer division by zero");
    return {c.in(0)};
  });
  divisors.domain = kInternalDomain;
  out.push_back(std::move(divisors));
}

}  // namespace lathe::ops
