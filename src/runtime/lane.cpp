// A lane: runs a Program's steps over its own arena with its own crew.
#include <algorithm>
#include <atomic>
#include <cstring>
#include <functional>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "base/memory.hpp"
#include "ops/internal_ops.hpp"
#include "runtime/bodies.hpp"
#include "runtime/crew.hpp"
#include "runtime/kept_states.hpp"
#include "runtime/made.hpp"
#include "runtime/program_impl.hpp"

namespace lathe {

// How long a step takes beside others, roughly: plain evaluation is some hundred times slower.
static double weight(const lower::Step& step) { return (step.flops + step.bytes + 1000) * (step.kind == lower::StepKind::plain ? 100 : 1); }

const Tensor& Outputs::operator[](std::string_view name) const {
  for (size_t i = 0; i < slot_->tensors.size(); ++i) {
    if ((*slot_->names)[i] == name) return slot_->tensors[i];
  }
  fail(Category::value, "no output is named '{}'; the outputs are {}{}", name, fmt::join(*slot_->names, ", "),
       did_you_mean(name, *slot_->names));
}

class LaneImpl : public lower::Bodies {
 public:
  // `around`: the crew of the lane that a subgraph's lane belongs to; null: a crew of its own.
  LaneImpl(Program p, int threads, Crew* around = nullptr)
      : program(std::move(p)),
        impl(*program.impl()),
        own_crew(around == nullptr ? std::make_unique<Crew>(threads > 0 ? threads : impl.options.threads) : nullptr),
        crew(around == nullptr ? *own_crew : *around),
        states_kept(impl) {
    bound.resize(impl.outputs.size());
    ordered.resize(impl.public_inputs.size());
    given.resize(impl.public_inputs.size());
  }

  // What a lane needs to run one edition.
  struct State {
    std::shared_ptr<const lower::Plan> plan;
    std::vector<Shape> keys;                        // where editions know numbers of inputs
    std::shared_ptr<const ProgramImpl::Held> held;  // of an edition that holds states in place
    std::vector<std::byte*> buffers;
    std::vector<Tensor> tensors;
    std::vector<double> seconds, begins;
    // Lanes of subgraphs; null: that one is evaluated node by node.
    struct Inside {
      std::unique_ptr<LaneImpl> lane;
      size_t step = 0;
      std::shared_ptr<const lower::Plan> within;  // of a part: the last one that keeps the limit of elements
    };
    std::map<std::pair<const lower::ControlSite*, const Graph*>, Inside> bodies;
    // Of a subgraph's lane: runs and seconds by step within the last run around it that was timed.
    int64_t inner_runs = 0;
    std::vector<double> inner_seconds;
    std::shared_ptr<const EditionInfo> told;
  };

  // A run that is timed begins: what subgraphs took is counted anew.
  void count_anew() {
    for (State& s : states) {
      s.inner_runs = 0;
      s.inner_seconds.assign(s.seconds.size(), 0);
      for (auto& [site, inside] : s.bodies) {
        if (inside.lane) inside.lane->count_anew();
      }
    }
  }

  std::vector<InnerSteps> inner_of(State& around) {
    std::vector<InnerSteps> out;
    for (auto& [key, inside] : around.bodies) {
      if (!inside.lane) continue;
      std::string body = "part";
      for (const auto& [name, attribute] : key.first->node->attributes) {
        const auto* graph = std::get_if<std::shared_ptr<Graph>>(&attribute.data);
        if (graph && graph->get() == key.second && !ops::is_part(*key.first->node)) body = name;
      }
      for (State& s : inside.lane->states) {
        if (s.inner_runs == 0) continue;
        if (!s.told) s.told = std::make_shared<const EditionInfo>(describe(*s.plan));
        out.push_back({inside.step, body, s.inner_runs, s.told, s.inner_seconds, inside.lane->inner_of(s)});
      }
    }
    return out;
  }

  // The state for these inputs' shapes; allocates only when the shapes are new to this lane.
  State& state_for(std::span<const Tensor> inputs) {
    std::vector<Shape> keys;
    if (impl.knows_numbers()) {
      for (size_t i = 0; i < inputs.size(); ++i) keys.push_back(impl.key_of(i, inputs[i]));
    }
    const auto same = [&](const State& s) {
      for (size_t i = 0; i < inputs.size(); ++i) {
        if (s.plan->dynamic[s.plan->graph->inputs[i]]) continue;
        if (keys.empty() ? s.plan->input_shapes[i] != inputs[i].shape() : s.keys[i] != keys[i]) return false;
      }
      return true;
    };
    const auto it = std::find_if(states.begin(), states.end(), same);
    if (it != states.end()) {
      std::rotate(states.begin(), it, it + 1);
      return states.front();
    }
    State s;
    s.keys = keys;
    for (size_t i = keys.size(); i < inputs.size(); ++i) keys.push_back(inputs[i].shape());
    s.plan = impl.edition(std::move(keys), nullptr, &s.held);
    s.buffers.resize(s.plan->buffers.size());
    s.tensors.resize(s.plan->graph->values.size());
    s.seconds.resize(s.plan->steps.size());
    s.begins.resize(s.plan->steps.size());
    if (s.plan->arena_bytes > arena_bytes) {
      arena = allocate_aligned(s.plan->arena_bytes);
      arena_bytes = s.plan->arena_bytes;
      for (State& other : states) place_arena(other);
    }
    place_arena(s);
    for (size_t v = 0; v < s.tensors.size(); ++v) {
      const auto& constant = s.plan->graph->values[v].constant;
      if (s.plan->dynamic[v] && constant) s.tensors[v] = *constant;
    }
    states.insert(states.begin(), std::move(s));
    if (static_cast<int>(states.size()) > impl.options.editions) states.pop_back();
    return states.front();
  }

  void place_arena(State& s) {
    for (size_t b = 0; b < s.buffers.size(); ++b) {
      const lower::Buffer& buffer = s.plan->buffers[b];
      if (buffer.kind == lower::Buffer::Kind::arena) s.buffers[b] = arena.get() + buffer.offset;
      if (buffer.kind == lower::Buffer::Kind::constant) s.buffers[b] = const_cast<std::byte*>(static_cast<const std::byte*>(buffer.data));
    }
  }

  static bool overlap(const Tensor& a, const Tensor& b) {
    if (a.composite() || b.composite() || a.empty() || b.empty()) return false;
    const auto *x = static_cast<const std::byte*>(a.data()), *y = static_cast<const std::byte*>(b.data());
    return x != nullptr && y != nullptr && std::less<>()(x, y + b.byte_size()) && std::less<>()(y, x + a.byte_size());
  }

  // Whether output i's memory may be written: nobody holds it but this lane, and no input of this run lies in it. `ordered` is not counted:
  // what stands there from an earlier run is not read again.
  bool writable(size_t i, std::span<const Tensor> inputs) const {
    const Tensor& t = owned[i];
    int64_t ours = 2;  // this one and the slot's
    for (const Tensor& o : ordered) ours += !o.empty() && o.holders() > 0 && o.data() == t.data();
    if (t.holders() > ours || std::ranges::any_of(inputs, [&](const Tensor& in) { return overlap(in, t); })) return false;
    // Whoever let go of it last has read it before: the count is read without an order of its own.
    std::atomic_thread_fence(std::memory_order_acquire);
    return true;
  }

  // Output memory that nobody else holds or reads is written again; the rest is replaced by new memory.
  void prepare_outputs(const lower::Plan& plan, std::span<const Tensor> inputs) {
    retired.clear();
    detours.clear();
    if (!slot || slot.use_count() > 1) {
      slot = std::make_shared<Outputs::Slot>();
      slot->tensors.resize(impl.outputs.size());
      slot->names = impl.output_names;
      owned.assign(impl.outputs.size(), Tensor());
    }
    slot->tensors.resize(impl.outputs.size());  // states stood behind what was given back
    for (size_t i = 0; i < impl.outputs.size(); ++i) {
      if (!plan.output_shapes[i]) {  // made while running, perhaps in the memory that is let go of here
        slot->tensors[i] = Tensor();
        continue;
      }
      const Shape& shape = *plan.output_shapes[i];
      if (!bound[i].empty()) {
        if (bound[i].dtype() != plan.output_dtypes[i] || bound[i].shape() != shape) {
          fail(Category::shape, "output '{}' is bound to {} of {}, this run gives {} of {}", impl.outputs[i].name,
               to_string(bound[i].dtype()), to_string(bound[i].shape()), to_string(plan.output_dtypes[i]), to_string(shape));
        }
        slot->tensors[i] = bound[i];
        if (std::ranges::any_of(inputs, [&](const Tensor& in) { return overlap(in, bound[i]); })) {
          slot->tensors[i] = memory_for(i, plan);
          detours.push_back(i);
        }
      } else if (slot->tensors[i].dtype() != plan.output_dtypes[i] || slot->tensors[i].shape() != shape ||
                 owned[i].data() != slot->tensors[i].data() || owned[i].empty() || !writable(i, inputs)) {
        if (!owned[i].empty()) retired.push_back(owned[i]);  // an input may be read from it though nobody holds it
        owned[i] = slot->tensors[i] = memory_for(i, plan);
      }
    }
  }

  Tensor memory_for(size_t i, const lower::Plan& plan) const {
    try {
      return Tensor(plan.output_dtypes[i], *plan.output_shapes[i]);
    } catch (const Error& e) {
      fail(e.category(), "output '{}' is {} of {}: {}", impl.outputs[i].name, to_string(plan.output_dtypes[i]),
           to_string(*plan.output_shapes[i]), e.what());
    }
  }

  // Elements of the largest value that is made.
  static int64_t largest(const Graph& g) {
    int64_t most = 0;
    for (const Node& n : g.nodes) {
      for (ValueId v : n.outputs) {
        const auto shape = v == kAbsent ? std::nullopt : known_shape(g.values[static_cast<size_t>(v)].dims);
        if (shape) most = std::max(most, element_count(*shape));
      }
    }
    return most;
  }

  // A subgraph of a step that is running.
  bool run(const lower::ControlSite& site, const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs,
           std::span<const std::pair<ValueId, Tensor>> outer, std::vector<Tensor>& out) override {
    auto& bodies = lower::CompiledBodies::of(site);
    const bool part = ops::is_part(*site.node);
    if (part && !bodies.pays(site, *body, outer)) return false;
    State::Inside& inside = running->bodies.try_emplace({&site, body.get()}).first->second;
    auto& lane = inside.lane;
    std::vector<Tensor> arguments;
    for (size_t attempt = 0;; ++attempt) {
      const auto compiled = bodies.get(site, body, inputs, outer, impl.options);
      if (!compiled) return false;
      if (!lane || lane->program.impl() != compiled->program.impl()) lane = std::make_unique<LaneImpl>(compiled->program, 0, &crew);
      arguments = compiled->arguments(inputs, outer);
      std::vector<size_t> changing;
      try {
        const std::shared_ptr<const lower::Plan> plan = lane->state_for(arguments).plan;
        if (part && inside.within != plan) {
          // Sizes that a run brings have a limit, compiled or not; plain evaluation tells of it.
          if (largest(*plan->graph) > impl.options.limits.elements) return false;
          inside.within = plan;
        }
        changing = compiled->changing(*site.node, *plan);
      } catch (const Error&) {  // no program for these shapes: plain evaluation tells what is wrong, if anything is
        if (!part) bodies.give_up(*body);
        return false;
      }
      if (changing.empty()) break;
      if (attempt > inputs.size()) {
        bodies.give_up(*body);
        return false;
      }
      bodies.open(site, body, inputs, outer, impl.options, changing);
    }
    lane->timing = timing;
    inside.step = at_step;
    lane->run(arguments, {}, true);
    // Its memory stays with the lane, which writes it again when nobody holds it any more.
    for (Tensor& t : lane->slot->tensors) out.push_back(t);
    return true;
  }

  // What a caller gives: states come from the lane, and stay there.
  Outputs run_keeping(std::span<const Tensor> inputs, const RunOptions& options) {
    if (!states_kept.any()) return run(inputs, options);
    if (inputs.size() != impl.public_inputs.size())
      fail(Category::value, "the model takes {} inputs beside its states, got {}", impl.public_inputs.size(), inputs.size());
    all.assign(impl.inputs.size(), Tensor());
    for (size_t i = 0; i < inputs.size(); ++i) {
      impl.check_input(impl.public_input[i], inputs[i]);
      all[impl.public_input[i]] = inputs[i];
    }
    states_kept.fill(all);
    State& s = state_for(all);
    int64_t fresh = 1;
    if (s.held) {
      fresh = s.held->fresh;
      states_kept.make_room(*s.held);
      if (s.held->prelude) {
        check_long(*s.held);
        states_kept.prelude_inputs(*s.held, all, asked);
        more = evaluate_plain(*s.held->prelude, asked, impl.options.limits);
      }
    }
    for (size_t k = 0; k < impl.kept.size(); ++k) {
      const auto& kept = impl.kept[k];
      if (!kept.info.in_place)
        bound[kept.output] = states_kept.memory(k, s.plan->output_dtypes[kept.output], s.plan->output_shapes[kept.output]);
    }
    states_kept.begin();
    run(all, options);
    for (size_t k = 0; k < impl.kept.size(); ++k) {
      if (!impl.kept[k].info.in_place) states_kept.made(k, slot->tensors[impl.kept[k].output]);
    }
    states_kept.done(fresh);
    all.clear();  // what was fed is the caller's again
    slot->tensors.resize(impl.public_outputs.size());
    return Outputs(slot);
  }

  // Inputs that are as long as everything there is.
  void check_long(const ProgramImpl::Held& held) const {
    for (size_t i = 0; i < all.size(); ++i) {
      const int64_t wanted = states_kept.positions() + held.fresh;
      if (impl.is_long(i) && all[i].shape().back() != wanted)
        fail(Category::shape, "input '{}' has shape {}: its last axis should be {}, {} positions held and {} new", impl.inputs[i].name,
             to_string(all[i].shape()), wanted, states_kept.positions(), held.fresh);
    }
  }

  // `inside`: within a run that keeps limits already.
  Outputs run(std::span<const Tensor> inputs, const RunOptions& options, bool inside = false) {
    if (inputs.size() != impl.inputs.size()) fail(Category::value, "the model takes {} inputs, got {}", impl.inputs.size(), inputs.size());
    for (size_t i = 0; i < inputs.size(); ++i) impl.check_input(i, inputs[i]);
    State& s = state_for(inputs);
    running = &s;
    const lower::Plan& plan = *s.plan;
    prepare_outputs(plan, inputs);
    for (size_t b = 0; b < s.buffers.size(); ++b) {
      const lower::Buffer& buffer = plan.buffers[b];
      if (buffer.kind == lower::Buffer::Kind::input) {
        const auto i = static_cast<size_t>(buffer.index);
        s.buffers[b] = static_cast<std::byte*>(const_cast<void*>(i < inputs.size() ? inputs[i].data() : more[i - inputs.size()].data()));
      }
      if (buffer.kind == lower::Buffer::Kind::output) s.buffers[b] = static_cast<std::byte*>(slot->tensors[buffer.index].data());
    }
    for (size_t i = 0; i < plan.graph->inputs.size(); ++i) {
      const ValueId v = plan.graph->inputs[i];
      if (plan.dynamic[v]) s.tensors[v] = i < inputs.size() ? inputs[i] : more[i - inputs.size()];
    }
    const lower::StepContext context{s.buffers.data(), s.tensors.data(), crew, this, &states_kept.held(), states_kept.changes()};
    using Clock = std::chrono::steady_clock;
    const bool limited = options.limit.count() > 0, stoppable = options.stop.stop_possible();
    if (timing && !inside) {
      crew.watch(true);
      count_anew();
    }
    const auto start = limited || timing ? Clock::now() : Clock::time_point();
    started = start;
    auto before = start;
    struct Watch {
      const RunOptions& options;
      Clock::time_point start;
    } watch{options, start};
    EvalLimits limits = impl.options.limits;
    if (limited || stoppable) {  // also inside loops and subgraphs
      limits.pulse_context = &watch;
      limits.pulse = [](void* context) {
        const auto& w = *static_cast<Watch*>(context);
        if (w.options.stop.stop_requested()) fail(Category::cancelled, "the run was cancelled");
        if (w.options.limit.count() > 0 && Clock::now() - w.start > w.options.limit)
          fail(Category::cancelled, "the run passed its limit of {:.3f} s", std::chrono::duration<double>(w.options.limit).count());
      };
    }
    std::optional<LimitScope> scope;
    if (!inside) scope.emplace(limits);
    std::optional<MadeValues> made;
    if (options.made) made.emplace(plan);
    double whole = 0, done = 0;
    if (options.progress) {
      for (const lower::Step& step : plan.steps) whole += weight(step);
    }
    for (size_t i = 0; i < plan.steps.size(); ++i) {
      if (options.progress) {
        options.progress(i, plan.steps.size(), whole > 0 ? done / whole : 0);
        done += weight(plan.steps[i]);
      }
      if (stoppable && options.stop.stop_requested())
        fail(Category::cancelled, "the run was cancelled before step {} of {}", i + 1, plan.steps.size());
      if (limited && Clock::now() - start > options.limit)
        fail(Category::cancelled, "the run passed its limit of {:.3f} s before step {} of {}",
             std::chrono::duration<double>(options.limit).count(), i + 1, plan.steps.size());
      at_step = i;
      const bool wanted = plan.steps[i].is_wanted(context);
      if (wanted) plan.steps[i].kernel->run(context);
      if (made && wanted) made->show(i, context, s.buffers.size(), options.made);
      if (timing) {
        const auto now = Clock::now();
        s.seconds[i] = wanted ? std::chrono::duration<double>(now - before).count() : 0;  // of a step that is left out exactly
        s.begins[i] = std::chrono::duration<double>(before - start).count();
        before = now;
      }
    }
    if (timing && inside) {
      ++s.inner_runs;
      s.inner_seconds.resize(s.seconds.size());
      for (size_t i = 0; i < s.seconds.size(); ++i) s.inner_seconds[i] += s.seconds[i];
    }
    for (size_t i = 0; i < impl.outputs.size(); ++i) {
      if (plan.output_shapes[i]) continue;
      Tensor result = s.tensors[plan.output_values[i]];
      // What came in, what the program keeps and what goes out elsewhere too must not go out as this output's own memory.
      const auto same = [&](const Tensor& t) { return !t.composite() && t.data() == result.data(); };
      bool shared = result.composite() || !result.owned() || std::ranges::any_of(inputs, same);
      if (!shared && result.holders() > 2) {
        shared = std::any_of(slot->tensors.begin(), slot->tensors.begin() + static_cast<int64_t>(i), same) ||
                 std::ranges::any_of(plan.graph->values, [&](const Value& v) { return v.constant && same(*v.constant); });
      }
      slot->tensors[i] = shared ? result.clone() : std::move(result);
    }
    for (size_t i : detours) {
      if (bound[i].byte_size() > 0) std::memcpy(bound[i].data(), slot->tensors[i].data(), bound[i].byte_size());
      slot->tensors[i] = bound[i];
    }
    retired.clear();
    return Outputs(slot);
  }

  Program program;
  ProgramImpl& impl;
  std::unique_ptr<Crew> own_crew;
  Crew& crew;
  std::vector<State> states;  // most recently used first
  State* running = nullptr;
  size_t at_step = 0;  // that is running
  std::shared_ptr<std::byte> arena;
  size_t arena_bytes = 0;
  std::shared_ptr<Outputs::Slot> slot;
  std::vector<Tensor> owned;    // output memory this lane allocated
  std::vector<Tensor> bound;    // output memory the caller gave
  std::vector<Tensor> retired;  // output memory that was replaced, while a run may still read it
  std::vector<size_t> detours;  // bound outputs whose memory an input of this run lies in
  std::vector<Tensor> ordered;  // inputs of a named run, in the model's order
  KeptStates states_kept;
  std::vector<Tensor> all;          // inputs of a run with states among them
  std::vector<Tensor> asked, more;  // what hangs on the length of states: its inputs and results
  std::vector<bool> given;
  bool timing = false;
  std::chrono::steady_clock::time_point started;  // of the last run that was timed
};

Lane::Lane(Program program, int threads) {
  if (threads < 0 || threads > 1024) fail(Category::value, "threads is {}, expected 1 to 1024 (0: as compiled)", threads);
  impl_ = std::make_unique<LaneImpl>(std::move(program), threads);
}
Lane::~Lane() = default;
Lane::Lane(Lane&&) noexcept = default;
Lane& Lane::operator=(Lane&&) noexcept = default;

Outputs Lane::run(std::initializer_list<NamedInput> inputs, const RunOptions& options) {
  return run(std::span<const NamedInput>(inputs.begin(), inputs.size()), options);
}

Outputs Lane::run(std::span<const NamedInput> inputs, const RunOptions& options) {
  const auto& ports = impl_->impl.public_inputs;
  auto& given = impl_->given;
  std::fill(given.begin(), given.end(), false);
  for (const NamedInput& in : inputs) {
    const auto it = std::find_if(ports.begin(), ports.end(), [&](const Port& p) { return p.name == in.name; });
    if (it == ports.end()) {
      std::vector<std::string> names;
      for (const Port& p : ports) names.push_back(p.name);
      for (const StateInfo& state : impl_->impl.states) {
        if (state.pair.input == in.name)
          fail(Category::value, "input '{}' is a state, which the lane keeps; restore_state() gives it another value", in.name);
      }
      if (std::ranges::find(impl_->impl.defaults, in.name) != impl_->impl.defaults.end())
        fail(Category::value,
             "input '{0}' has a value of its own in the model, which was compiled in; name it in CompileOptions::given to give another",
             in.name);
      fail(Category::value, "no input is named '{}'; the inputs are {}{}", in.name, fmt::join(names, ", "), did_you_mean(in.name, names));
    }
    impl_->ordered[it - ports.begin()] = in.tensor;  // its shape goes into memory that is there already
    given[it - ports.begin()] = true;
  }
  for (size_t i = 0; i < given.size(); ++i) {
    if (!given[i]) fail(Category::value, "input '{}' is not given", ports[i].name);
  }
  return impl_->run_keeping(impl_->ordered, options);
}

Outputs Lane::run(std::span<const Tensor> inputs, const RunOptions& options) { return impl_->run_keeping(inputs, options); }

int64_t Lane::positions() const { return impl_->states_kept.positions(); }
void Lane::reset() { impl_->states_kept.reset(); }
void Lane::rewind(int64_t n) { impl_->states_kept.rewind(n); }
void Lane::keep_last(int64_t n) { impl_->states_kept.keep_last(n); }
void Lane::arrange(std::span<const int64_t> from) { impl_->states_kept.arrange(from); }
void Lane::join(const SavedState& saved) { impl_->states_kept.join(saved); }
SavedState Lane::save_state() const { return impl_->states_kept.save(); }
void Lane::restore_state(const SavedState& saved) { impl_->states_kept.restore(saved); }

void Lane::bind_output(std::string_view name, Tensor memory) {
  for (size_t i = 0; i < impl_->impl.public_outputs.size(); ++i) {
    if (impl_->impl.outputs[i].name == name) {
      for (size_t k = 0; k < impl_->bound.size(); ++k) {
        if (k != i && LaneImpl::overlap(impl_->bound[k], memory))
          fail(Category::value, "output '{}' cannot be bound to memory that output '{}' is bound to", name, impl_->impl.outputs[k].name);
      }
      impl_->bound[i] = std::move(memory);
      return;
    }
  }
  fail(Category::value, "no output is named '{}'; the outputs are {}{}", name, fmt::join(*impl_->impl.output_names, ", "),
       did_you_mean(name, *impl_->impl.output_names));
}

void Lane::time_steps(bool on) {
  impl_->timing = on;
  impl_->crew.watch(on);
}

std::vector<StepTime> Lane::step_times() const {
  std::vector<StepTime> out;
  if (impl_->states.empty() || !impl_->timing) return out;
  const auto& s = impl_->states.front();
  for (size_t i = 0; i < s.seconds.size(); ++i)
    out.push_back({std::string(name_of(s.plan->steps[i].kind)), s.plan->steps[i].nodes, s.seconds[i], s.begins[i]});
  return out;
}

std::vector<InnerSteps> Lane::inner_steps() const {
  if (impl_->states.empty() || !impl_->timing) return {};
  return impl_->inner_of(impl_->states.front());
}

std::vector<Spell> Lane::spells() const {
  std::vector<Spell> out;
  if (!impl_->timing) return out;
  const auto seconds = [](auto d) { return std::chrono::duration<double>(d).count(); };
  for (size_t w = 0; w < impl_->crew.spells().size(); ++w) {
    for (const Crew::Spell& s : impl_->crew.spells()[w])
      out.push_back({static_cast<int>(w) + 1, seconds(s.begin - impl_->started), seconds(s.end - s.begin), s.tasks});
  }
  return out;
}

const Program& Lane::program() const { return impl_->program; }

}  // namespace lathe
