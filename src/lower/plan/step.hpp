// A step: one call of kernels in a Plan, and what it may rely on and use while it runs.
#pragma once

#include <algorithm>
#include <cstdint>
#include <cstring>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <type_traits>
#include <utility>
#include <vector>

#include "lower/plan/location.hpp"
#include "lathe/recipes.hpp"
#include "lower/plan/recipe.hpp"

namespace lathe::lower {

// The threads that a step may use. parallel() returns when all tasks are done, and throws on the caller's thread what a task threw.
// Not to be called from inside a task.
class Workers {
 public:
  virtual ~Workers() = default;
  virtual int size() const = 0;
  // Calls f(context, task, worker) for every task in [0, tasks), worker in [0, size()).
  virtual void parallel(int64_t tasks, void (*f)(void* context, int64_t task, int worker), void* context) = 0;

  template <typename F>
  void each(int64_t tasks, F&& f) {
    parallel(
        tasks, [](void* c, int64_t task, int worker) { (*static_cast<std::remove_reference_t<F>*>(c))(task, worker); }, &f);
  }
};

class CompiledBodies;  // the runtime's

// A node with subgraphs, as its step runs it.
struct ControlSite {
  const Node* node = nullptr;
  std::vector<bool> constant;  // by capture
  // The subgraphs as programs of their own, made when they first run; shared by lanes.
  mutable std::once_flag once;
  mutable std::shared_ptr<CompiledBodies> compiled;
};

// Runs subgraphs as programs of their own; the lane's.
class Bodies {
 public:
  virtual ~Bodies() = default;
  // False: not so, evaluate it node by node. Like BodyHost::run.
  virtual bool run(const ControlSite& site, const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs,
                   std::span<const std::pair<ValueId, Tensor>> outer, std::vector<Tensor>& out) = 0;
};

// States that grow, of one lane: each [batch, heads, room, width], of which the first `positions` rows of each head are there already. A
// step that holds one puts what is new behind them; the lane counts them once the run is done.
struct HeldStates {
  int64_t positions = 0, room = 0;
  std::vector<std::byte*> slots;
  std::vector<int64_t> each;  // floats a position, by slot: batch * heads * width
};

// States of one size that a run copies to change little of them: of each, what it differs by from the memory that its next value goes to,
// which held it the run before. A step that knows copies that alone.
struct StateChanges {
  struct Run {
    int64_t at, bytes;
  };
  struct State {
    void* to = nullptr;  // where the next value goes
    bool known = false, written = false;
    std::vector<Run> runs, before;
  };
  std::vector<std::pair<const void*, State*>> by_memory;  // of this run

  State* find(const void* from, const void* to) const {
    const auto it = std::ranges::find(by_memory, from, &std::pair<const void*, State*>::first);
    return it != by_memory.end() && it->second->to == to ? it->second : nullptr;
  }
};

// What a step sees while running: memory of one lane, which no other lane touches. Tasks may read what the step reads, and write what it
// writes and its scratch, each its own part. `tensors` and `bodies` belong to the thread that runs the lane: tasks leave them alone.
struct StepContext {
  std::byte* const* buffers;  // by BufferId
  Tensor* tensors;            // by ValueId, for values without a buffer
  Workers& workers;
  Bodies* bodies;  // null inside steps that run beside others
  const HeldStates* held = nullptr;
  StateChanges* changes = nullptr;  // null inside steps that run beside others
};

void copy_shared(const StepContext& c, const void* from, void* to, int64_t bytes);
// Makes `to` what `from` is, all `bytes` of it or only what they differ by. The step then writes what `list` puts into a vector of runs, if
// it is asked. `output`: what it makes is an output of the graph, which stays as it leaves it.
template <typename F>
void copy_to_change(const StepContext& c, bool output, const void* from, void* to, int64_t bytes, F&& list) {
  StateChanges::State* s = output && c.changes != nullptr ? c.changes->find(from, to) : nullptr;
  if (s == nullptr) return copy_shared(c, from, to, bytes);
  const bool known = std::exchange(s->known, false);
  s->written = true;
  s->before.swap(s->runs);
  s->runs.clear();
  list(s->runs);
  if (!known) return copy_shared(c, from, to, bytes);
  for (const StateChanges::Run& r : s->before)
    std::memcpy(static_cast<char*>(to) + r.at, static_cast<const char*>(from) + r.at, static_cast<size_t>(r.bytes));
}

template <typename T>
T* pointer(const StepContext& c, const Location& location) {
  return reinterpret_cast<T*>(c.buffers[location.buffer] + location.offset);
}

// Immutable once the plan is made: any number of lanes run it at the same time.
class StepKernel {
 public:
  virtual ~StepKernel() = default;
  virtual void run(const StepContext& context) const = 0;
};

enum class StepKind : uint8_t {
  convolution,
  transposed_convolution,
  product,
  byte_convolution,
  byte_product,
  tape,
  softmax,
  normalisation,
  reduction,
  max_pool,
  average_pool,
  copy,
  layout,
  resample,
  selection,
  attention,
  rotary,
  recurrent,
  custom,
  control,
  plain,
  side_by_side,
};
std::string_view name_of(StepKind kind);

// What there was to choose from, for who searches. One for all steps of a group.
struct Choosing {
  std::string problem;               // as text (problem_text)
  std::vector<FamilyInfo> families;  // that could do it, in the layouts that were chosen
  std::string estimated;             // of these, the one that the estimate takes
  std::string by;                    // "estimate", "learned", "tuned", "pinned", "archive"
  double gain = 1;                   // of what was tuned
  std::string refused;               // why a tuned or pinned recipe for it was not followed
};

// What a step chooses between: the buffer of the condition, a byte of which is not 0 where the first is taken.
struct BranchChoice {
  Location condition;
  BufferId yes = kNoBuffer, no = kNoBuffer;
};

// A step runs only where the condition, made by a step before it, is this.
struct Guard {
  Location condition;
  bool wanted = true;
  bool operator==(const Guard& o) const {
    return condition.buffer == o.condition.buffer && condition.offset == o.condition.offset && wanted == o.wanted;
  }
};

struct Step {
  StepKind kind = StepKind::plain;
  std::vector<std::string> nodes;            // names of the fused nodes, in order
  std::optional<Recipe> recipe;              // how it is done; none for copies that a step asks for, and what stands side by side
  bool learned = false;                      // its knobs by what measured recipes taught, beyond the estimate
  std::shared_ptr<const Choosing> choosing;  // where recipes were asked for
  std::string text;                          // the same for people: algorithm, tiles, split
  double flops = 0, bytes = 0;               // arithmetic and least memory traffic
  std::string_view arithmetic = "f32";       // StepInfo's
  int products = 1;
  std::vector<int> members;  // the nodes of `graph` it stands for; none for copies and layout changes
  int head = -1;             // of these, the one that gives the step its name
  std::string why, why_not;  // why these nodes are together, and why no more of them
  std::vector<BufferId> reads, writes, scratch;
  BufferId in_place = kNoBuffer;     // a read buffer that the first written one may share
  Layout made_in = Layout::natural;  // layout changes: to which
  bool beside_others = false;        // may run on one thread beside other steps
  bool can_fail = false;             // while running: then it stays on the caller's thread
  bool counted = true;               // `flops` tells its arithmetic
  bool reads_tensors = false;        // reads or makes values that are Tensors of the lane: its order does not show in buffers
  bool keeps = false;                // leaves something behind that is in no buffer: states, Tensors of the lane
  std::optional<BranchChoice> choice;
  std::vector<Guard> guards;  // all must hold, looked at in this order: each is made where those before it hold
  std::unique_ptr<StepKernel> kernel;

  bool is_wanted(const StepContext& c) const {
    return std::ranges::all_of(guards, [&](const Guard& g) { return (*pointer<const uint8_t>(c, g.condition) != 0) == g.wanted; });
  }
};

}  // namespace lathe::lower
