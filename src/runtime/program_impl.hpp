// A Program's insides.
#pragma once

#include <algorithm>
#include <list>
#include <mutex>

#include "lathe/program.hpp"
#include "lower/lower.hpp"
#include "passes/passes.hpp"

namespace lathe {

// What a plan holds, for people; without what passes reported.
EditionInfo describe(const lower::Plan& plan);
// Puts the numbers of a tensor behind its shape, for keys of what is made for both.
void append_numbers(Shape& key, const Tensor& tensor);

class ProgramImpl {
 public:
  // What becomes of inputs in editions, beside their sizes being known, by index.
  enum class Binding : uint8_t {
    sizes,
    open,    // their sizes stay open; steps that read them find them out while running
    numbers  // their numbers are known too
  };
  ProgramImpl(Graph graph, CompileOptions options, std::vector<Binding> bindings = {});

  // An edition that holds states in place, beside its plan: how many positions a run adds, and what of the model hangs on the length, as a
  // graph of its own, evaluated before each run; its results are inputs of the plan behind those above.
  struct Held {
    int64_t fresh = 0;
    std::vector<Shape> shapes;  // of the states' inputs, for no positions
    std::shared_ptr<const Graph> prelude;
    std::vector<size_t> prelude_inputs;  // indices into inputs; from inputs.size() on: states, of which it only asks the shape
  };

  // What an archive holds of a Program.
  struct Edition {
    std::vector<Shape> shapes;
    std::shared_ptr<const Graph> graph;   // shaped, its passes done
    std::shared_ptr<lower::Weights> own;  // packed forms of its own constants
    std::vector<lower::Recipe> recipes;   // of its groups, in order
    bool same_threads = true;             // as many as they were chosen for
    std::vector<PassReport> passes;       // what ran for these shapes
    std::shared_ptr<const Held> held{};   // of one that holds states in place
  };
  struct Parts {
    CompileOptions options;
    Graph graph;  // with nodes where editions are still to be compiled
    std::vector<bool> base_constants;
    lower::Weights weights;
    int64_t block_bytes = 0;
    std::vector<PassReport> passes;
    std::vector<Edition> editions;
    std::vector<StateInfo> states{};
    std::vector<passes::StateOrder> orders{};  // of those that grow in place
    std::vector<bool> long_inputs{};
    std::string why_copied{};
  };
  explicit ProgramImpl(Parts parts);
  // For writing one: packed weights are shared. `originals`: constants that were packed come back.
  Parts parts(bool originals);

  bool knows_numbers() const { return std::ranges::find(bindings_, Binding::numbers) != bindings_.end(); }
  // What an edition knows of an input: its shape; where numbers are known too, these behind it.
  Shape key_of(size_t input, const Tensor& tensor) const;
  // The edition for these keys; compiled under the lock when it is not there.
  // `reports`: gets what the passes that ran for these shapes changed.
  // `held`: gets how it holds states in place, if it does.
  std::shared_ptr<const lower::Plan> edition(std::vector<Shape> keys, std::vector<PassReport>* reports = nullptr,
                                             std::shared_ptr<const Held>* held = nullptr);
  // Shapes bound at compile time, in the order of inputs; throws Error (shape) naming the open dims.
  std::vector<Shape> bound_shapes() const;
  void check_input(size_t i, const Tensor& tensor) const;
  // Shapes of all inputs, from those without states.
  std::vector<Shape> with_states(const std::vector<Shape>& given) const;

  // States that lanes keep (states.cpp). Those that grow in place are no inputs of editions; the others are, and stand behind the outputs
  // that a run gives back.
  struct Kept {
    StateInfo info;
    size_t input = 0, output = 0;  // indices into inputs and outputs below; of those in place: number of the lane's first slot, and nothing
    passes::StateOrder order{};    // of those in place: a slot for each part
  };
  std::vector<Kept> kept;
  std::vector<StateInfo> states;
  std::string why_copied;
  // What a run gives and gets, without states.
  std::vector<Port> public_inputs, public_outputs;
  std::vector<size_t> public_input;  // indices into inputs
  bool grows_in_place() const { return !growing_.empty(); }
  // Of those in place, the n-th: its state.
  const Kept& growing(size_t n) const;
  bool is_long(size_t input) const { return input < long_.size() && long_[input]; }
  // How many positions a run on these adds.
  int64_t new_positions(const std::vector<Shape>& shapes) const;
  // Of state `i`, whose inputs' shapes these are; open dims are those of inputs of the same name, positions `length`.
  Shape state_shape(const StateInfo& state, std::span<const Shape> shapes, int64_t length) const;

  CompileOptions options;
  std::vector<Port> inputs, outputs;
  std::vector<std::string> defaults;  // inputs whose own values were compiled in
  std::shared_ptr<const std::vector<std::string>> output_names;
  std::vector<PassReport> passes;
  std::map<std::string, std::string> metadata;
  std::atomic<int> compiled{0};
  std::shared_ptr<ProgramImpl> once;  // CompileOptions::once; or null

 private:
  void part_off_once();
  void name_ports();
  void find_states();
  void settle_states();
  bool try_in_place(int64_t open_size);
  // Inside: the states that it holds, straightened (passes::straighten_states).
  struct Length {
    std::shared_ptr<Graph> graph;
    std::vector<passes::GrowingState> inside;
    std::vector<passes::StateOrder> orders;
  };
  std::shared_ptr<const Graph> prepare_held(const std::vector<Shape>& shapes, std::vector<PassReport>& reports, Held& held);
  Length prepare_length(const std::vector<Shape>& shapes, int64_t length, std::vector<PassReport>& reports);
  std::shared_ptr<Graph> shaped(const std::vector<Shape>& shapes, const std::map<ValueId, Dims>& more) const;
  Binding binding(size_t input) const { return input < bindings_.size() ? bindings_[input] : Binding::sizes; }
  bool stays_open(size_t input) const { return binding(input) == Binding::open; }
  std::shared_ptr<const Graph> prepare(const std::vector<Shape>& shapes, std::vector<PassReport>& reports);
  std::shared_ptr<const lower::Plan> find_or_build(const std::vector<Shape>& shapes);
  std::shared_ptr<const lower::Plan> build(std::shared_ptr<const Graph> graph, const lower::Remembered* remembered);

  Graph graph_;
  std::vector<Binding> bindings_;
  std::vector<bool> long_;                     // by input: as long as what is held and what is new
  std::vector<passes::GrowingState> growing_;  // those in place
  std::vector<passes::StateOrder> orders_;     // of each of them; empty until an edition was tried
  std::vector<bool> base_constants_;
  lower::Weights weights_;
  int64_t block_bytes_ = 0;
  std::vector<Edition> archived_;  // not lowered yet
  std::mutex mutex_;
  struct Compiled {
    std::vector<Shape> shapes;
    std::shared_ptr<const lower::Plan> plan;
    std::vector<PassReport> passes;
    std::shared_ptr<const Held> held;
  };
  std::list<Compiled> editions_;  // most recently used first
};

}  // namespace lathe
