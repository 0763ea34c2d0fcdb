#include "base/clock.hpp"
#include "lathe/program.hpp"

#include <algorithm>
#include <cstring>
#include <numeric>
#include <set>

#include "base/fail.hpp"
#include "base/log.hpp"
#include "base/memory.hpp"
#include "graph/dims.hpp"
#include "kernels/isa.hpp"
#include "lathe/op.hpp"
#include "ops/internal_attributes.hpp"
#include "passes/pipeline.hpp"
#include "runtime/options.hpp"
#include "runtime/program_impl.hpp"

namespace lathe {
namespace {

// Of an attention: its last axis does not follow what is held.
bool mask_of_one_size(const Graph& g, const Node& attention) {
  if (attention.inputs.size() < 4 || attention.inputs[3] == kAbsent) return false;
  const auto& dims = g.values[static_cast<size_t>(attention.inputs[3])].dims;
  return dims && !dims->empty() && dims->back().known();
}

// Puts sizes on symbolic dims and whole shapes on inputs; says which names were not found.
void bind(Graph& g, const CompileOptions& o) {
  std::set<std::string> symbols, names;
  for (ValueId v : g.inputs) {
    names.insert(g.values[v].name);
    if (!g.values[v].dims) continue;
    for (const Dim& d : *g.values[v].dims) {
      if (!d.symbol.empty()) symbols.insert(d.symbol);
    }
  }
  for (const auto& [name, size] : o.dims) {
    if (!symbols.contains(name)) {
      fail(Category::value, "no input has a dim named '{}'; {}", name,
           symbols.empty() ? "all dims are fixed" : fmt::format("the open dims are {}", fmt::join(symbols, ", ")));
    }
    if (size < 0) fail(Category::value, "dim '{}' cannot be {}", name, size);
  }
  std::map<std::string, int64_t> sizes = o.dims;
  for (const auto& [name, shape] : o.shapes) {
    if (!names.contains(name)) fail(Category::value, "no input is named '{}'; the inputs are {}", name, fmt::join(names, ", "));
    for (ValueId v : g.inputs) {
      Value& value = g.values[v];
      if (value.name != name) continue;
      if (!fits(shape, value.dims) || std::ranges::any_of(shape, [](int64_t size) { return size < 0; }))
        fail(Category::shape, "input '{}' is {}, which {} does not fit", name, value.dims ? to_string(*value.dims) : "?", to_string(shape));
      for (size_t i = 0; value.dims && i < shape.size(); ++i) {
        const Dim& d = (*value.dims)[i];
        if (d.symbol.empty()) continue;
        const auto [it, fresh] = sizes.try_emplace(d.symbol, shape[i]);
        if (!fresh && it->second != shape[i])
          fail(Category::shape, "dim '{}' is given two sizes: {} and {}", d.symbol, it->second, shape[i]);
      }
      value.dims = Dims(shape.begin(), shape.end());
    }
  }
  // A name is one size everywhere: also where the exporter declared it further down.
  for (Value& value : g.values) {
    if (!value.dims) continue;
    for (Dim& d : *value.dims) {
      d = bound(d, sizes);
    }
  }
}

// Attributes that only passes may give: from outside they mean nothing.
void forget_internal(Graph& g) {
  for (Node& n : g.nodes) {
    std::erase_if(n.attributes, [](const auto& a) { return a.first.starts_with(ops::kInternalPrefix); });
    for (auto& [name, a] : n.attributes) {
      if (const auto* body = std::get_if<std::shared_ptr<Graph>>(&a.data); body && *body) forget_internal(**body);
    }
  }
}

void note(std::vector<PassReport>& to, passes::Report r) {
  for (const std::string& change : r.changes) log_line(LogLevel::debug, "pass {}: {}", r.pass, change);
  to.push_back({std::move(r.pass), std::move(r.changes)});
}

constexpr int64_t kNumbersFollow = -1;  // in a key, behind the sizes

// The input is a constant to all that reads it.
void know_numbers(Graph& g, ValueId input, const Shape& key) {
  const auto end = std::ranges::find(key, kNumbersFollow);
  Tensor t(g.values[input].dtype, Shape(key.begin(), end));
  const size_t width = t.size() > 0 ? t.byte_size() / static_cast<size_t>(t.size()) : 0;
  auto* bytes = static_cast<std::byte*>(t.data());
  for (int64_t i = 0; i < t.size(); ++i) std::memcpy(bytes + static_cast<size_t>(i) * width, &end[i + 1], width);
  Value known = g.values[input];
  known.name += ".known";
  known.dims = Dims(t.shape().begin(), t.shape().end());
  known.constant = std::move(t);
  const ValueId v = g.add_value(std::move(known));
  for (Node& n : g.nodes) {
    std::ranges::replace(n.inputs, input, v);
    for (Capture& c : n.captures) {
      if (c.value == input) c.value = v;
    }
  }
}

// Which steps there are, and those that are slow.
void log_plan(const lower::Plan& plan, double seconds) {
  if (!logs(LogLevel::warning)) return;
  std::vector<std::string> shapes;
  for (const Shape& s : plan.input_shapes) shapes.push_back(to_string(s));
  log_line(LogLevel::info, "compiled for {} in {:.3f} s: {} steps, arena {} bytes", fmt::join(shapes, ", "), seconds, plan.steps.size(),
           plan.arena_bytes);
  for (size_t i = 0; i < plan.steps.size(); ++i) {
    const lower::Step& s = plan.steps[i];
    log_line(LogLevel::debug, "step {}: {}: {}: {}", i + 1, name_of(s.kind), fmt::join(s.nodes, ", "), s.text);
    if (s.kind == lower::StepKind::plain)
      log_line(LogLevel::warning, "step {} goes by plain evaluation, which is slow: {}: {}", i + 1, fmt::join(s.nodes, ", "), s.why);
    if (s.choosing && !s.choosing->refused.empty())
      log_line(LogLevel::warning, "step {}: a tuned or pinned recipe was not followed: {}", i + 1, s.choosing->refused);
  }
}

}  // namespace

ProgramImpl::ProgramImpl(Graph graph, CompileOptions opts, std::vector<Binding> bindings)
    : options(settled(std::move(opts))), graph_(std::move(graph)), bindings_(std::move(bindings)) {
  const LimitScope limits(options.limits);
  block_bytes_ = lower::l2_block_bytes();
  open_defaults(graph_, options.given);
  forget_internal(graph_);
  for (const Default& d : graph_.defaults) defaults.push_back(graph_.values[d.value].name);
  check(graph_);
  inline_functions(graph_);
  if (!options.outputs.empty()) note(passes, passes::cut_to_outputs(graph_, options.outputs));
  bind(graph_, options);
  infer(graph_);
  if (!options.once.empty()) part_off_once();
  if (options.plain) {
    note(passes, passes::remove_dead(graph_));
  } else {
    for (passes::Report& r : passes::run(graph_, {passes::When::program, options.fuse, options.round_each})) note(passes, std::move(r));
  }
  for (const Value& v : graph_.values) base_constants_.push_back(v.constant.has_value());
  find_states();
  const bool all_known = std::all_of(inputs.begin(), inputs.end(), [](const Port& p) { return p.composite || known_shape(p.dims); });
  if (all_known && !knows_numbers() && kept.empty()) edition(bound_shapes());
}

void ProgramImpl::part_off_once() {
  passes::OnceAndEach parts = passes::part_once(graph_, options.once);
  if (parts.once.nodes.empty()) return;
  CompileOptions o = options;  // of sizes what is bound stands in the graph
  o.once.clear(), o.outputs.clear(), o.given.clear(), o.dims.clear(), o.shapes.clear(), o.states.clear();
  o.positions = 0;
  graph_ = std::move(parts.each);
  once = std::make_shared<ProgramImpl>(std::move(parts.once), std::move(o));
}

void ProgramImpl::name_ports() {
  inputs.clear(), outputs.clear();
  const auto port = [&](ValueId v) {
    const Value& value = graph_.values[v];
    return Port{value.name, value.dtype, value.dims, value.composite};
  };
  const auto in_place = [&](auto member, ValueId v) { return std::ranges::find(growing_, v, member) != growing_.end(); };
  std::vector<std::string> names;
  for (ValueId v : graph_.inputs) {
    if (!in_place(&passes::GrowingState::input, v)) inputs.push_back(port(v));
  }
  for (ValueId v : graph_.outputs) {
    if (in_place(&passes::GrowingState::output, v)) continue;
    outputs.push_back(port(v));
    names.push_back(graph_.values[v].name);
  }
  output_names = std::make_shared<std::vector<std::string>>(std::move(names));
  metadata = graph_.metadata;
  public_inputs = inputs, public_outputs = outputs;
  public_input.resize(inputs.size());
  std::iota(public_input.begin(), public_input.end(), size_t{0});
}

ProgramImpl::ProgramImpl(Parts parts)
    : options(std::move(parts.options)),
      passes(std::move(parts.passes)),
      graph_(std::move(parts.graph)),
      base_constants_(std::move(parts.base_constants)),
      weights_(std::move(parts.weights)),
      block_bytes_(parts.block_bytes),
      archived_(std::move(parts.editions)) {
  states = std::move(parts.states);
  long_ = std::move(parts.long_inputs);
  why_copied = std::move(parts.why_copied);
  orders_ = std::move(parts.orders);
  for (const StateInfo& s : states) {
    if (!s.in_place) continue;
    const auto named = [&](const std::vector<ValueId>& among, const std::string& name) {
      return *std::ranges::find(among, name, [&](ValueId v) { return graph_.values[v].name; });
    };
    growing_.push_back({named(graph_.inputs, s.pair.input), named(graph_.outputs, s.pair.output), s.axis});
  }
  settle_states();
  const bool all_known = std::all_of(inputs.begin(), inputs.end(), [](const Port& p) { return p.composite || known_shape(p.dims); });
  if (all_known && kept.empty()) edition(bound_shapes());
}

ProgramImpl::Parts ProgramImpl::parts(bool originals) {
  const std::lock_guard lock(mutex_);
  Parts p;
  p.options = options;
  p.block_bytes = block_bytes_;
  p.passes = passes;
  p.base_constants = base_constants_;
  for (const auto& [key, entry] : weights_.entries()) p.weights.put(key, entry);
  p.editions = archived_;
  p.states = states;
  p.orders = orders_;
  p.long_inputs = long_;
  p.why_copied = why_copied;
  for (const auto& [shapes, plan, reports, form] : editions_) {
    std::shared_ptr<const Graph> graph = plan->graph;
    if (!plan->restored.empty()) {
      auto whole = std::make_shared<Graph>(*graph);
      for (const auto& [v, tensor] : plan->restored) whole->values[v].constant = tensor;
      graph = std::move(whole);
    }
    p.editions.push_back({shapes, std::move(graph), plan->own, plan->recipes, true, reports, form});
  }
  p.graph = graph_;
  const bool open = !states.empty() ||
                    std::any_of(inputs.begin(), inputs.end(), [](const Port& port) { return !port.composite && !known_shape(port.dims); });
  if (originals) {
    for (size_t v = 0; v < p.graph.values.size(); ++v) {
      Value& value = p.graph.values[v];
      const bool gone = value.constant && !value.constant->composite() && value.constant->data() == nullptr && value.constant->size() > 0;
      if (!gone) continue;
      const auto it = weights_.restore.find(static_cast<ValueId>(v));
      if (it == weights_.restore.end())
        fail(Category::unsupported, "the original of '{}' is not there any more: this program was loaded from an archive without its graph",
             value.name);
      value.constant = it->second();
    }
  } else if (!open) {  // nothing is left to compile
    p.graph.nodes.clear();
    for (Value& value : p.graph.values) value.constant.reset();
  }
  return p;
}

std::vector<Shape> ProgramImpl::bound_shapes() const {
  std::vector<Shape> shapes;
  for (const Port& p : inputs) {
    const auto i = static_cast<size_t>(&p - inputs.data());
    if (std::ranges::any_of(kept, [&](const Kept& k) { return !k.info.in_place && k.input == i; })) {
      shapes.emplace_back();
      continue;
    }
    const auto s = p.composite || stays_open(i) ? std::optional<Shape>(Shape()) : known_shape(p.dims);
    if (!s) {
      std::string open;
      for (const Dim& d : p.dims.value_or(Dims())) {
        if (!d.known()) open += (open.empty() ? "" : ", ") + to_string(d);
      }
      fail(Category::shape, "input '{}' is {}: {} must be given a size", p.name, p.dims ? to_string(*p.dims) : "of unknown rank",
           open.empty() ? "its shape" : "dim " + open);
    }
    shapes.push_back(*s);
  }
  return shapes;
}

std::vector<Shape> ProgramImpl::with_states(const std::vector<Shape>& given) const {
  if (kept.empty()) return given;
  std::vector<Shape> shapes(inputs.size());
  for (size_t i = 0; i < given.size() && i < public_input.size(); ++i) shapes[public_input[i]] = given[i];
  for (const Kept& k : kept) {
    if (!k.info.in_place) shapes[k.input] = state_shape(k.info, shapes, 0);
  }
  return shapes;
}

void ProgramImpl::check_input(size_t i, const Tensor& t) const {
  const Port& p = inputs[i];
  if (t.empty()) fail(Category::value, "input '{}' is not given", p.name);
  if (p.composite || t.composite()) {
    constexpr Kind kKinds[]{Kind::tensor, Kind::sequence, Kind::optional, Kind::map, Kind::tensor};
    const Kind wanted = p.composite ? kKinds[static_cast<size_t>(p.composite->kind)] : Kind::tensor;
    if (t.kind() != wanted)
      fail(Category::type, "input '{}' is a {}, expected {}", p.name, to_string(t.kind()),
           p.composite ? to_string(*p.composite) : "a tensor");
    return;
  }
  if (p.dtype != DType::undefined && t.dtype() != p.dtype)
    fail(Category::type, "input '{}' is {}, expected {}", p.name, to_string(t.dtype()), to_string(p.dtype));
  if (!p.dims) return;
  if (!fits(t.shape(), p.dims))
    fail(Category::shape, "input '{}' has shape {}, expected {}", p.name, to_string(t.shape()), to_string(*p.dims));
}

Shape ProgramImpl::key_of(size_t input, const Tensor& t) const {
  Shape key = t.shape();
  if (binding(input) == Binding::numbers) append_numbers(key, t);
  return key;
}

void append_numbers(Shape& key, const Tensor& t) {
  key.push_back(kNumbersFollow);
  const auto* bytes = static_cast<const std::byte*>(t.data());
  const size_t width = t.size() > 0 ? t.byte_size() / static_cast<size_t>(t.size()) : 0;
  for (int64_t i = 0; i < t.size(); ++i) {
    int64_t bits = 0;
    std::memcpy(&bits, bytes + static_cast<size_t>(i) * width, width);
    key.push_back(bits);
  }
}

std::shared_ptr<const lower::Plan> ProgramImpl::edition(std::vector<Shape> keys, std::vector<PassReport>* reports,
                                                        std::shared_ptr<const Held>* held) {
  for (size_t i = 0; i < keys.size(); ++i) {
    if (stays_open(i)) keys[i].clear();
  }
  const std::lock_guard lock(mutex_);
  auto plan = find_or_build(keys);
  if (reports) *reports = editions_.front().passes;
  if (held) *held = editions_.front().held;
  return plan;
}

std::shared_ptr<const lower::Plan> ProgramImpl::find_or_build(const std::vector<Shape>& shapes) {
  for (auto it = editions_.begin(); it != editions_.end(); ++it) {
    if (it->shapes == shapes) {
      editions_.splice(editions_.begin(), editions_, it);
      return editions_.front().plan;
    }
  }
  const auto held = std::find_if(archived_.begin(), archived_.end(), [&](const Edition& e) { return e.shapes == shapes; });
  std::shared_ptr<const lower::Plan> plan;
  std::shared_ptr<const Held> states_held;
  std::vector<PassReport> reports;
  if (held != archived_.end()) {
    const lower::Remembered remembered{held->recipes, held->same_threads, held->own};
    plan = build(held->graph, &remembered);
    states_held = held->held;
    reports = std::move(held->passes);
    archived_.erase(held);
  } else {
    if (graph_.nodes.empty() && !archived_.empty())
      fail(Category::shape, "this program was loaded from an archive without its graph and holds no edition for these shapes");
    if (grows_in_place()) {
      const auto form = std::make_shared<Held>();
      plan = build(prepare_held(shapes, reports, *form), nullptr);
      states_held = form;
    } else {
      plan = build(prepare(shapes, reports), nullptr);
    }
  }
  for (const lower::Step& step : plan->steps) {
    for (int n : step.members) {
      if (step.kind == lower::StepKind::plain && plan->graph->nodes[n].attributes.contains(ops::kHeld))
        fail(Category::unsupported, "{}: attention of this form cannot read what the lane holds{}",
             label(*plan->graph, plan->graph->nodes[n]),
             mask_of_one_size(*plan->graph, plan->graph->nodes[n])
                 ? ": its mask is of one size, and what is held grows; leave the size of the input that it is made of open"
                 : "");
    }
  }
  editions_.push_front({shapes, plan, std::move(reports), std::move(states_held)});
  if (static_cast<int>(editions_.size()) > options.editions) editions_.pop_back();  // lanes that run it keep it
  return plan;
}

std::shared_ptr<Graph> ProgramImpl::shaped(const std::vector<Shape>& shapes, const std::map<ValueId, Dims>& more) const {
  auto g = std::make_shared<Graph>(graph_);
  std::map<std::string, int64_t> symbols;
  size_t i = 0;
  for (ValueId v : g->inputs) {
    const auto given = more.find(v);
    if (given == more.end() && binding(i) == Binding::numbers) know_numbers(*g, v, shapes[i]);
    Value& value = g->values[v];
    if (given == more.end() && (value.composite || stays_open(i))) {
      ++i;
      continue;
    }
    const Dims dims = given != more.end() ? given->second : Dims(shapes[i].begin(), std::ranges::find(shapes[i], kNumbersFollow));
    if (std::ranges::none_of(growing_, [&](const passes::GrowingState& s) { return s.input == v; })) ++i;
    for (size_t d = 0; value.dims && d < dims.size(); ++d) {
      const std::string& symbol = (*value.dims)[d].symbol;
      if (symbol.empty() || !dims[d].known()) continue;
      const auto [it, fresh] = symbols.try_emplace(symbol, dims[d].value);
      if (!fresh && it->second != dims[d].value)
        fail(Category::shape, "dim '{}' is {} in one input and {} in another ('{}')", symbol, it->second, dims[d].value, value.name);
    }
    value.dims = dims;
  }
  for (Value& value : g->values) {
    if (!value.dims) continue;
    for (Dim& d : *value.dims) {
      d = bound(d, symbols);
    }
  }
  return g;
}

std::shared_ptr<const Graph> ProgramImpl::prepare(const std::vector<Shape>& shapes, std::vector<PassReport>& reports) {
  const LimitScope limits(options.limits);
  auto g = shaped(shapes, {});
  infer(*g);
  if (options.plain) return g;
  for (passes::Report& r : passes::run(*g, {passes::When::edition, options.fuse, options.round_each})) note(reports, std::move(r));
  return g;
}

std::shared_ptr<const lower::Plan> ProgramImpl::build(std::shared_ptr<const Graph> prepared, const lower::Remembered* remembered) {
  const LimitScope limits(options.limits);
  const auto start = std::chrono::steady_clock::now();
  auto g = std::make_shared<Graph>(*prepared);  // constants go from it as they are packed
  prepared.reset();
  lower::LowerOptions lo;
  const kernels::Isa isa = *kernels::parse_isa(options.isa);
  lo.machine = {isa, options.threads, block_bytes_, lower::remembered_rates(isa)};
  lo.fuse = options.fuse;
  lo.plain = options.plain;
  lo.winograd = options.winograd;
  lo.learned = options.learned;
  lo.recipes = options.recipes.get();
  const auto forget = [](Value& value) {
    if (value.constant && value.constant->data() != nullptr)
      value.constant = Tensor::borrow(value.constant->dtype(), value.constant->shape(), nullptr);
  };
  weights_.on_packed = [&](ValueId v) {
    if (std::find(weights_.raw().begin(), weights_.raw().end(), v) != weights_.raw().end()) return;
    if (static_cast<size_t>(v) < graph_.values.size()) forget(graph_.values[v]);
    forget(g->values[v]);
  };
  auto plan = std::make_shared<lower::Plan>(lower::lower(g, lo, weights_, base_constants_, remembered));
  weights_.on_packed = nullptr;
  const size_t most = options.arena_limit > 0 ? options.arena_limit : physical_memory();
  if (plan->arena_bytes > most) {
    fail(Category::resource, "this model needs an arena of {} bytes for these shapes, the limit is {}", plan->arena_bytes, most);
  }
  // Results stand beside the arena; a model may declare any size of them.
  double results = 0;
  for (ValueId v : g->outputs) {
    const Value& value = g->values[v];
    const auto shape = value.composite ? std::nullopt : known_shape(value.dims);
    if (!shape) continue;
    double bytes = bit_width(value.dtype) / 8.0;
    for (int64_t d : *shape) bytes *= static_cast<double>(d);
    results += bytes;
    if (results > static_cast<double>(most))
      fail(Category::resource, "with output '{}' the results take {:.0f} bytes beside the arena, the limit is {}", value.name, results,
           most);
  }
  ++compiled;
  log_plan(*plan, since(start));
  // Constants of these shapes alone that were packed are held once too.
  for (const auto& [key, entry] : plan->own->entries()) forget(g->values[static_cast<size_t>(key.value)]);
  return_free_memory();
  return plan;
}

const std::vector<Port>& Program::inputs() const { return impl_->public_inputs; }
const std::vector<Port>& Program::outputs() const { return impl_->public_outputs; }
const std::vector<StateInfo>& Program::states() const { return impl_->states; }
Program Program::once() const { return Program(impl_->once); }
const std::string& Program::why_copied() const { return impl_->why_copied; }
bool Program::spans_states(size_t input) const { return input < impl_->public_input.size() && impl_->is_long(impl_->public_input[input]); }
int64_t Program::positions_added(const std::vector<Shape>& input_shapes) const {
  return impl_->grows_in_place() ? impl_->new_positions(impl_->with_states(input_shapes)) : 0;
}
const std::map<std::string, std::string>& Program::metadata() const { return impl_->metadata; }
const std::vector<PassReport>& Program::passes() const { return impl_->passes; }
const CompileOptions& Program::options() const { return impl_->options; }
std::vector<Shape> Program::bound_shapes() const {
  std::vector<Shape> shapes = impl_->bound_shapes(), out;
  for (size_t i : impl_->public_input) out.push_back(std::move(shapes[i]));
  return out;
}
int Program::editions_compiled() const { return impl_->compiled; }

EditionInfo Program::describe(const std::vector<Shape>& input_shapes) const {
  std::vector<PassReport> passes;
  const auto plan = impl_->edition(impl_->with_states(input_shapes.empty() ? bound_shapes() : input_shapes), &passes);
  EditionInfo info = lathe::describe(*plan);
  info.passes = std::move(passes);
  return info;
}

EditionInfo describe(const lower::Plan& plan) {
  EditionInfo info;
  info.inputs = plan.input_shapes;
  const Graph& g = *plan.graph;
  const auto text_of = [&](ValueId v) {
    const Value& value = g.values[v];
    return fmt::format("{} {}", to_string(value.dtype), value.dims ? to_string(*value.dims) : "?");
  };
  std::vector<int> step_of(g.nodes.size(), -1);
  for (const auto& s : plan.steps) {
    const std::string kind(name_of(s.kind));
    StepInfo step{kind, kind, s.nodes, s.text, s.flops, s.bytes, s.why, s.why_not, {}, {}};
    step.arithmetic = s.arithmetic, step.products = s.products;
    step.conditional = !s.guards.empty();
    if (s.recipe) step.chosen = lower::describe(*s.recipe);
    if (s.learned) step.chosen_by = "learned";
    if (s.choosing) {
      const lower::Choosing& c = *s.choosing;
      step.problem = c.problem, step.chosen_by = c.by, step.gain = c.gain;
      step.refused = c.refused, step.estimated = c.estimated, step.families = c.families;
    }
    for (int n : s.members) step_of[n] = static_cast<int>(info.steps.size());
    if (!s.members.empty()) {
      step.op = g.nodes[s.head].op;
      const auto& outputs = g.nodes[s.members.back()].outputs;
      const auto out = std::find_if(outputs.begin(), outputs.end(), [](ValueId v) { return v != kAbsent; });
      if (out != outputs.end()) {
        step.output = text_of(*out);
        step.layout = plan.locations[*out].layout == lower::Layout::channels_last ? "channels-last" : "natural";
      }
    } else if (s.kind == lower::StepKind::layout) {
      step.layout = s.made_in == lower::Layout::channels_last ? "channels-last" : "natural";
    }
    info.steps.push_back(std::move(step));
    const bool every_run = s.guards.empty();
    if (every_run) info.flops += s.flops;
    if (!s.counted || (!every_run && s.flops > 0)) ++info.not_counted;
    if (s.kind == lower::StepKind::plain) ++info.plain;
  }
  for (size_t n = 0; n < g.nodes.size(); ++n) {
    const Node& node = g.nodes[n];
    NodeInfo made{node.name.empty() ? node.op : node.name, node.op, step_of[n], node.merged, {}, {}, {}};
    for (ValueId v : node.inputs) {
      if (v != kAbsent && !g.values[v].constant) made.inputs.push_back(g.values[v].name);
    }
    for (ValueId v : node.outputs) {
      if (v == kAbsent) continue;
      if (made.output.empty()) made.output = text_of(v);
      made.outputs.push_back(g.values[v].name);
    }
    info.nodes.push_back(std::move(made));
  }
  for (ValueId v : g.inputs) info.input_names.push_back(g.values[v].name);
  for (ValueId v : g.outputs) info.output_names.push_back(g.values[v].name);
  info.arena_bytes = plan.arena_bytes;
  info.arena_bound = plan.arena_bound;
  info.weight_bytes = plan.weight_bytes;
  std::map<lower::BufferId, std::string> lying;
  for (size_t v = 0; v < plan.locations.size(); ++v) {
    if (plan.locations[v].buffer != lower::kNoBuffer) lying.try_emplace(plan.locations[v].buffer, g.values[v].name);
  }
  for (size_t b = 0; b < plan.buffers.size(); ++b) {
    const lower::Buffer& buffer = plan.buffers[b];
    if (buffer.kind != lower::Buffer::Kind::arena || buffer.first < 0 || buffer.bytes == 0) continue;
    const auto it = lying.find(static_cast<lower::BufferId>(b));
    info.arena.push_back({it == lying.end() ? "" : it->second, buffer.offset, buffer.bytes, buffer.first, buffer.last});
  }
  return info;
}

Program compile(Graph graph, const CompileOptions& options) { return Program(std::make_shared<ProgramImpl>(std::move(graph), options)); }

}  // namespace lathe
