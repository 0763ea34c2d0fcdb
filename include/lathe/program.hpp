// Compiled models: Program (immutable, shared by threads) and Lane (runs one inference at a time).
#pragma once

#include <atomic>
#include <chrono>
#include <functional>
#include <initializer_list>
#include <map>
#include <memory>
#include <span>
#include <stop_token>
#include <string>
#include <string_view>
#include <vector>

#include "lathe/graph.hpp"
#include "lathe/op.hpp"
#include "lathe/recipes.hpp"

namespace lathe {

// An output whose value a lane gives to an input of its next run: what a recurrent layer carries on, keys and values of attention.
struct StatePair {
  std::string output, input;
  bool operator==(const StatePair&) const = default;
};

struct CompileOptions {
  int threads = 0;                        // 0: one a core this process may use
  std::map<std::string, Shape> shapes{};  // concrete shapes of inputs, by name
  std::map<std::string, int64_t> dims{};  // sizes of symbolic dims, by name
  std::vector<std::string> outputs{};     // keep only these; empty: all
  std::vector<std::string> given{};       // of the inputs with a value of their own (Graph::defaults), those that every run gives anew
  bool fuse = true;                       // false: one step a node, nothing folded into another
  bool plain = false;                     // every node by plain evaluation (the oracle)
  // 3x3 convolutions by Winograd's method where it pays: fewer products; about twice the rounding error, relative to the largest number
  // within six pixels; transformed weights take four times the memory of the originals, which stay.
  bool winograd = true;
  // Nodes on f16 and bf16 compute in f32. Between them values stay so, which is faster and more accurate; true: each node rounds its result
  // to the type the model declares, as plain evaluation does.
  bool round_each = false;
  // Where the cost model that ships with the library is sure that other knobs than the estimate's are faster, these; results keep their
  // bits. It was taught by recipes measured on one kind of machine (docs/tuning.md) and is asked for as many threads as it has seen.
  bool learned = true;
  // Followed where a step is one of their problems (lathe/tune.hpp finds them); null: untuned. With any, be there none in it,
  // EditionInfo tells what there was to choose from.
  std::shared_ptr<const Recipes> recipes{};
  std::string isa{};       // "scalar", "sse4", "avx2", "avx512", "amx", on ARM "neon"; empty: the best this machine has
  size_t arena_limit = 0;  // bytes an edition's arena, and its results beside it, may take each; 0: the machine's memory
  // What lanes keep from run to run; neither inputs nor outputs of the Program then. lathe/state.hpp finds them.
  std::vector<StatePair> states{};
  // Inputs whose values stay for many runs, such as a picture that a text is written about: what can be made of them alone is made by a
  // program of its own, Program::once(), whose outputs are inputs of the same names of this one.
  std::vector<std::string> once{};
  int64_t positions = 0;  // that growing states hold at most; 0: as many as memory holds, with room for more made by doubling
  int editions = 8;       // editions kept; the least recently used goes first
  EvalLimits limits{};    // of what is evaluated plainly: loops, subgraphs, sizes only known at run time
};

struct Port {  // an input or output
  std::string name;
  DType dtype = DType::undefined;
  std::optional<Dims> dims;
  std::shared_ptr<const Type> composite;  // a sequence, optional or map: its type
};

struct PassReport {
  std::string pass;
  std::vector<std::string> changes;
};

struct StepInfo {
  std::string kind;
  std::string op;                  // of the node at its head; the kind where there is none
  std::vector<std::string> nodes;  // the fused nodes
  std::string recipe;
  double flops = 0;            // arithmetic (a multiply-add counts two)
  double bytes = 0;            // least memory traffic
  std::string why, why_not;    // why these nodes are one step, and why no more of them
  std::string output, layout;  // what it makes: "f32 [1, 64, 56, 56]"; "natural" or "channels-last"
  std::string chosen{};        // its recipe as data: "convolution.direct/1 k_block=576 panel_block=8"; "" for copies
  // With CompileOptions::recipes:
  std::string problem{};  // what it computes, on what: the key of its recipe; also of a copy made for it
  // "estimate"; "learned": the estimate's family, knobs by what measured recipes taught; "tuned", "pinned", "archive".
  std::string chosen_by{};
  double gain = 1;                     // of what was tuned, when it was found: time by the untuned recipe / by this one
  std::string refused{};               // why a tuned or pinned recipe for this problem was not followed
  std::string estimated{};             // the family that the estimate takes
  std::vector<FamilyInfo> families{};  // that could do it
  // What its multiply-adds are of: "f32"; "int8", sums in 32 bits; "bf16", sums in f32, as many products for one of the model's numbers.
  std::string arithmetic{"f32"};
  int products = 1;
  bool conditional = false;  // of one branch of an If: runs that take the other leave it out
};

// A state that lanes keep. One that grows has one more entry along an axis for each position that a run adds.
struct StateInfo {
  StatePair pair;
  DType dtype = DType::undefined;
  std::optional<Dims> dims;  // of the input
  int axis = -1;             // it grows along; -1: its size stays
  // Attention reads it where it lies and what is new is put behind it; otherwise a run copies it, and compiles an edition for its length.
  bool in_place = false;
};

// A node as it was lowered.
struct NodeInfo {
  std::string label, op;
  int step = -1;                             // index into EditionInfo::steps; -1: no work, a view of what it reads
  std::vector<std::string> merged;           // nodes of the model that passes folded into it
  std::vector<std::string> inputs, outputs;  // names of values; constants left out
  std::string output;                        // "f32 [1, 64, 56, 56]"
};

// A part of the arena, between the first step that writes it and the last that reads it.
struct ArenaPart {
  std::string value;  // that lies there (one of several that share it); "" for scratch memory of a step
  size_t offset = 0, bytes = 0;
  int first = 0, last = 0;  // indices of steps
};

// One edition, described.
struct EditionInfo {
  std::vector<Shape> inputs;
  std::vector<StepInfo> steps;
  std::vector<NodeInfo> nodes;
  std::vector<std::string> input_names, output_names;
  std::vector<PassReport> passes;  // that ran again for these shapes; those that ran once for the model: Program::passes()
  double flops = 0;                // of the steps that tell theirs and that every run takes
  int plain = 0;                   // steps by plain evaluation (StepInfo::kind "plain"), which is slow; `why` tells the reason
  // Steps that do arithmetic which is not in `flops`: control flow, branches, plain evaluation of numbers, kernels of the user's.
  int not_counted = 0;
  size_t arena_bytes = 0, arena_bound = 0;  // peak of the plan; what no plan can go below
  size_t weight_bytes = 0;
  std::vector<ArenaPart> arena;  // the plan of memory
};

class ProgramImpl;

// A compiled model.
// Threads: all members may be called from several threads at once; editions that are not there yet are compiled under a lock.
// Ownership: copies share one compiled form, which lives as long as the last of them, of their lanes and of results' names.
// Lifetime: what members return by reference is valid as long as a copy of the Program is.
// Failure: a call that throws leaves the Program as it was.
class Program {
 public:
  Program() = default;
  explicit Program(std::shared_ptr<ProgramImpl> impl) : impl_(std::move(impl)) {}

  const std::vector<Port>& inputs() const;
  const std::vector<Port>& outputs() const;
  const std::map<std::string, std::string>& metadata() const;
  const std::vector<PassReport>& passes() const;
  const CompileOptions& options() const;  // with threads and isa filled in
  const std::vector<StateInfo>& states() const;
  // What CompileOptions::once asked for; empty (false) where nothing was asked, or nothing can be made of them alone.
  Program once() const;
  explicit operator bool() const { return impl_ != nullptr; }
  // Why growing states are not kept in place; "" when they are, or there is none.
  const std::string& why_copied() const;
  // Whether the last axis of input `input` is as long as what growing states hold and what a run adds to it, together: a mask.
  bool spans_states(size_t input) const;
  // How many positions a run on inputs of these shapes (in the order of inputs()) adds to states that grow in place.
  int64_t positions_added(const std::vector<Shape>& input_shapes) const;
  // The edition for these input shapes (in the order of inputs()), compiled now if it is not there yet. With none
  // given: the shapes bound at compile time. Throws Error (shape) when a dim is left open.
  EditionInfo describe(const std::vector<Shape>& input_shapes = {}) const;
  // Input shapes from what is bound, in the order of inputs(); throws Error (shape) naming the open dims.
  std::vector<Shape> bound_shapes() const;
  int editions_compiled() const;  // so far, in all

  ProgramImpl* impl() const { return impl_.get(); }

 private:
  std::shared_ptr<ProgramImpl> impl_;
};

// Runs the passes, and compiles the first edition when all input shapes are known. Give the graph away with std::move
// to hold its weights once: originals are dropped as they are packed. Throws Error.
Program compile(Graph graph, const CompileOptions& options = {});

struct NamedInput {
  std::string_view name;
  const Tensor& tensor;
};

// Results of a run.
// Threads: reading is free, from any thread.
// Ownership: shares the results' memory with the lane that made them; a Tensor copied from it shares it too.
// Lifetime: valid and unchanged as long as this object lives, and each result as long as a Tensor copied from it does, also while it is fed
// to a lane again, and when the lane is gone. Let go of them before the next run and the lane writes into the same memory again, without
// allocating; keep them and it takes new memory.
class Outputs {
 public:
  // Throws Error (value) naming the outputs there are.
  const Tensor& operator[](std::string_view name) const;
  const Tensor& operator[](size_t i) const { return slot_->tensors.at(i); }
  size_t size() const { return slot_->tensors.size(); }
  const std::string& name(size_t i) const { return (*slot_->names)[i]; }

  struct Slot {
    std::vector<Tensor> tensors;
    std::shared_ptr<const std::vector<std::string>> names;
  };
  explicit Outputs(std::shared_ptr<Slot> slot) : slot_(std::move(slot)) {}

 private:
  std::shared_ptr<Slot> slot_;
};

// A value of the model that a step of a run has just made, for whoever looks at a program at work. Valid during the call that gets it.
class MadeValue {
 public:
  virtual ~MadeValue() = default;
  virtual size_t step() const = 0;  // index into EditionInfo::steps
  virtual const std::string& name() const = 0;
  virtual DType dtype() const = 0;
  // A copy, in the standard's order.
  virtual Tensor read() const = 0;
  // Steps that follow read this instead. Throws Error: type, shape.
  virtual void write(const Tensor& tensor) = 0;
};

struct RunOptions {
  std::stop_token stop{};             // cancels between steps, and between the nodes of subgraphs: Error (cancelled)
  std::chrono::nanoseconds limit{0};  // time a run may take; 0: none. Checked between steps
  // Called before each step, on the thread that runs the lane: steps done, and the share of the run that they are by estimate (0 to 1).
  std::function<void(size_t step, size_t steps, double share)> progress{};
  // Called after each step, on the thread that runs the lane, for each value that outlives the step; values inside a fused step have no
  // memory of their own and are not among them, nor are those of subgraphs. What it throws ends the run.
  std::function<void(MadeValue&)> made{};
};

// What a lane has kept: copies of its states, by the names of their inputs.
struct SavedState {
  int64_t positions = 0;
  std::vector<std::pair<std::string, Tensor>> tensors;
};

struct StepTime {
  std::string kind;
  std::vector<std::string> nodes;
  double seconds = 0;
  double begin = 0;  // seconds from the start of the run
};

// Time that a worker of the crew spent on the tasks of one parallel part.
struct Spell {
  int worker = 0;                 // 1.. : the caller, worker 0, is there all the time
  double begin = 0, seconds = 0;  // from the start of the run
  int64_t tasks = 0;
};

// Steps of a subgraph of a control step, or of the part of a model whose sizes a run decides: each is a program of its own.
struct InnerSteps {
  size_t step = 0;   // that it belongs to, index into the steps around it
  std::string body;  // "then_branch", "else_branch", "body"; "part"
  int64_t runs = 0;  // with these shapes, in one run of the model
  std::shared_ptr<const EditionInfo> edition;
  std::vector<double> seconds;  // of each step, all those runs together
  std::vector<InnerSteps> inner;
};

class LaneImpl;

// A mutable execution context on a Program: its arena and its crew of threads.
// Threads: one inference at a time, and all members from one thread at a time; use several lanes for several at once. A run uses the
// lane's crew, and the caller's thread is one of it.
// Ownership: holds the Program, an arena for the largest shapes run so far, and its threads. Inputs stay the caller's and are only read.
// Lifetime: results outlive it. It may be moved, not while it runs.
// Failure: a run that throws (also for what a step threw on another thread of the crew) leaves the lane ready for the next one; results of
// earlier runs keep their values.
class Lane {
 public:
  // `threads` 0: as the Program was compiled.
  explicit Lane(Program program, int threads = 0);
  ~Lane();
  Lane(Lane&&) noexcept;
  Lane& operator=(Lane&&) noexcept;

  // Inputs are read where they are. Throws Error: value (names; an input whose own value was compiled in), type and shape (expected and
  // got), cancelled.
  Outputs run(std::initializer_list<NamedInput> inputs, const RunOptions& options = {});
  Outputs run(std::span<const NamedInput> inputs, const RunOptions& options = {});
  // In the order of Program::inputs().
  Outputs run(std::span<const Tensor> inputs, const RunOptions& options = {});
  // Results of this output go to caller-owned memory of the right dtype and shape from the next run on; an empty tensor undoes it. Memory
  // that an input of a run lies in is written when the run is done, by a copy. Throws Error (value): no such output, memory that another
  // output is bound to.
  void bind_output(std::string_view name, Tensor memory);
  // What it keeps of CompileOptions::states. A run that throws leaves states as they were.
  int64_t positions() const;  // that growing states hold; with none of these: runs since reset()
  void reset();               // as in a new lane: growing states hold nothing, others zeros
  // Forgets the last n positions. Throws Error (value): there are fewer; a state that does not grow cannot go back.
  void rewind(int64_t n);
  // Forgets all but the last n positions. The same errors, but for n being more than there are, which changes nothing.
  void keep_last(int64_t n);
  // Sequences side by side: the i-th is what the from[i]-th was; there may be fewer or more of them than before. Throws Error (value):
  // there is no such, nothing is held, a state has no axis for them (one whose size no other input's decides, and that is not its first).
  void arrange(std::span<const int64_t> from);
  // One more sequence, behind the others: what a lane of one sequence has saved. All end together: a growing state that holds fewer
  // positions than the other gets zeros in front, which a mask must hide. Throws Error as restore_state does.
  void join(const SavedState& saved);
  SavedState save_state() const;
  // Also what another lane of the Program has saved: a fork. Throws Error: value (names, more positions than fit), type, shape.
  void restore_state(const SavedState& saved);
  // Seconds each step of the last run took; only filled after time_steps(true).
  void time_steps(bool on);
  std::vector<StepTime> step_times() const;
  // What subgraphs did in the last run, where they ran as programs of their own; only after time_steps(true).
  std::vector<InnerSteps> inner_steps() const;
  // What the other workers of the crew did in the last run, in order of worker and time; only after time_steps(true).
  std::vector<Spell> spells() const;
  const Program& program() const;

 private:
  std::unique_ptr<LaneImpl> impl_;
};

// Cores this process may use (affinity and cgroup limits counted).
int usable_cores();

}  // namespace lathe
