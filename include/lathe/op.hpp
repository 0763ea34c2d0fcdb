// Operator definitions: type and shape inference and plain evaluation, by domain, name and since-version.
// Register your own with register_op before loading a model that uses it.
#pragma once

#include <functional>
#include <memory>
#include <span>

#include "lathe/graph.hpp"

namespace lathe {

struct Statement;

// What an inference function sees and sets. Inputs are by position; absent ones have undefined dtype.
class InferContext {
 public:
  InferContext(const Graph& graph, const Node& node, int version);
  // Inputs that are here already, as plain evaluation has them. They must outlive this.
  InferContext(const Node& node, int version, std::span<const Tensor> inputs);

  const Node& node() const { return node_; }
  int version() const { return version_; }  // the opset version the model imports for this domain
  int input_count() const;
  int output_count() const { return static_cast<int>(node_.outputs.size()); }
  bool has(int input) const;
  DType dtype(int input) const;  // undefined: absent or not known
  const std::optional<Dims>& dims(int input) const;
  int rank(int input) const;  // -1: not known
  // Of any kind; a tensor of undefined dtype when nothing is known.
  Type type(int input) const;
  const Tensor* constant(int input) const;  // the input's value when it is known while compiling, else null
  // Constant integer input, or nothing when it is not known while compiling.
  std::optional<std::vector<int64_t>> integers(int input) const;
  // A list of sizes of which some may be names (what Shape gives of an input with open dims); unknown ones are -1 or not known. Nothing
  // when nothing is known of it.
  std::optional<Dims> sizes(int input) const;

  void set(int output, DType dtype, std::optional<Dims> dims);
  void set_type(int output, Type type);
  // Types of a subgraph's outputs when its inputs have these types. Throws Error with every fault found inside.
  std::vector<Type> infer_body(std::string_view attribute, std::span<const Type> inputs) const;
  // Throws Error of the category, naming the node (when the inputs are values of a graph).
  [[noreturn]] void fail(Category category, const std::string& what) const;
  void require(bool condition, Category category, const std::string& what) const {
    if (!condition) fail(category, what);
  }

  struct Result {
    DType dtype = DType::undefined;
    std::optional<Dims> dims;
    std::optional<Type> composite;
  };
  const std::vector<Result>& results() const { return results_; }

 private:
  const Graph* graph_ = nullptr;  // or
  std::span<const Tensor> tensors_;
  std::vector<std::optional<Dims>> tensor_dims_;
  const Node& node_;
  int version_;
  std::vector<Result> results_;
};

// Runs subgraphs in another way than node by node, for whoever evaluates the node that holds them.
class BodyHost {
 public:
  virtual ~BodyHost() = default;
  // Whether it ran `body`; then `out` has its results. `outer`: the values of the body that come from around it. Throws what its steps
  // throw.
  virtual bool run(const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer,
                   std::vector<Tensor>& out) = 0;
};

// What plain evaluation sees. Inputs are concrete tensors; absent ones are empty().
struct EvalContext {
  const Node& node;
  int version;
  std::span<const Tensor> inputs;
  int output_count;
  std::span<const Tensor> captures = {};  // values of node.captures, in order
  BodyHost* bodies = nullptr;             // null: subgraphs are evaluated node by node

  bool has(size_t i) const { return i < inputs.size() && !inputs[i].empty(); }
  const Tensor& in(size_t i) const { return inputs[i]; }
};

// A subgraph of the node under evaluation, ready to be run any number of times.
class Body {
 public:
  // Throws Error (value) when the attribute holds no graph.
  Body(const EvalContext& context, std::string_view attribute);
  ~Body();
  // Throws Error: value (number of inputs), resource (nested deeper than the limit), or what its nodes throw.
  std::vector<Tensor> run(std::span<const Tensor> inputs);
  size_t input_count() const;
  size_t output_count() const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

// What evaluation may use. Limits hold for one run, its subgraphs included.
struct EvalLimits {
  int64_t elements = int64_t{1} << 28;  // of one result
  int64_t trips = int64_t{1} << 24;     // of all Loop and Scan bodies together
  int depth = 32;                       // of bodies inside bodies
  void (*pulse)(void*) = nullptr;       // called between nodes and trips; throws to stop
  void* pulse_context = nullptr;
};

// Puts limits in force on this thread for its lifetime.
class LimitScope {
 public:
  explicit LimitScope(const EvalLimits& limits);
  ~LimitScope();
  LimitScope(const LimitScope&) = delete;
  LimitScope& operator=(const LimitScope&) = delete;

 private:
  const EvalLimits* before_;
  int64_t trips_before_;
};
// Counts one trip of a loop against the limit in force. Throws Error (resource).
void count_trip();

// ---- fast kernels of your own ----

struct TensorView {
  DType dtype = DType::undefined;
  const Shape* shape = nullptr;
  void* data = nullptr;  // null: left out
};

// What a fast kernel sees while running: nothing here allocates.
class KernelContext {
 public:
  std::span<const TensorView> inputs, outputs;
  virtual ~KernelContext() = default;
  virtual int threads() const = 0;
  // Calls f(context, task) for every task in [0, tasks), on the lane's threads; returns when all are done.
  virtual void parallel(int64_t tasks, void (*f)(void* context, int64_t task), void* context) = 0;
  template <typename F>
  void each(int64_t tasks, F&& f) {
    parallel(
        tasks, [](void* c, int64_t task) { (*static_cast<std::remove_reference_t<F>*>(c))(task); }, &f);
  }
};
using FastKernel = std::function<void(KernelContext&)>;

// What a kernel is made for: one node at known shapes. `inputs[i]` holds the value of a constant input, else null.
struct KernelRequest {
  const Node& node;
  int version;
  std::string_view isa;  // "scalar", "sse4", "avx2", "avx512", "amx"; "neon" on ARM
  std::span<const TensorView> inputs, outputs;
};

// How an op takes part in fusion.
enum class Trait { opaque, elementwise, contraction, reduction, movement, view };

struct OpDef {
  std::string domain, name;
  int since = 1;                         // first opset version with these semantics
  int min_inputs = 1, max_inputs = 1;    // max -1: any number
  int min_outputs = 1, max_outputs = 1;  // max -1: any number
  Trait trait = Trait::opaque;
  std::function<void(InferContext&)> infer;
  std::function<std::vector<Tensor>(const EvalContext&)> plain;
  bool composites = false;  // takes sequences, optionals or maps; others get tensors only
  bool pure = true;         // false: another result each time (random ops); never evaluated ahead of a run
  // Attribute names with their kinds: i, f, s (one integer, float, string), t (tensor), g (graph), p (sparse tensor), y (type), capital
  // letters for lists, ! after a kind that must be there, and the values it may have: "axis:i pads:I! size:i!>0 mode:s(sum,mean)".
  // Nothing: not checked.
  std::optional<std::string> attributes;
  // What the inputs must be: "name:dtype[dims]" for each in order, with | between forms, such as
  //   "X:float[N,c*@group=1,+s] W:=X[M,c,...s] B:=X[M];M/@group=1 @axis<X".
  // dtype: any, number, float, index, bool, string, byte, f32, i32, i64, u8, or =name for that of another input. dims: _ is any size; a
  // number; a name, the same size wherever it stands; a product of those and of attributes (@group=1: 1 when it is not set); "...s" is
  // any number of dims, "+s" at least one, as many wherever s stands ("...=s": of the same sizes too). [] is a scalar, [~X] what
  // broadcasts to X. "name!": values of this input decide sizes or axes; a node whose such input is no constant is left to `plain`. After
  // the semicolon: sizes that an attribute divides, attributes that are axes of an input (<= : or one past them).
  // Inputs that are absent, and sizes that are not known yet, pass. Checked by inference and by plain evaluation: `infer`, `plain` and
  // `fast` may rely on it. Empty: not checked.
  std::string operands;
  // Makes a fast kernel for compiled programs; may be absent, and may give none for shapes or dtypes it does not want.
  std::function<FastKernel(const KernelRequest&)> fast;
  std::shared_ptr<const Statement> statement;  // `attributes` and `operands`, read by register_op
};

// The registry of ops is one for the process. It may change until the first model is loaded or compiled, from one thread at a time; from
// then on all threads read it, and only definitions of ops that no loaded model uses may be added, while no other thread loads, infers or
// compiles. Definitions are never removed: pointers to them stay valid, but to those that are replaced.
//
// Adds a definition; replaces one with the same domain, name and since-version. Throws Error (value) when name, infer or plain is missing,
// or when `attributes` or `operands` cannot be read; nothing has changed then.
void register_op(OpDef def);
// The definition in force at `version` of the domain (largest since <= version), or null.
const OpDef* find_op(std::string_view domain, std::string_view name, int64_t version);
// All definitions, sorted by domain, name and since-version.
std::vector<const OpDef*> all_ops();

// Infers dtypes and dims of every value from the inputs on, and checks nodes against their definitions. Declared types
// are kept and compared. Throws Error with every fault found.
void infer(Graph& graph);

// Evaluates the whole graph plainly, one node after another: slow, accurate, the oracle. `inputs` in the order of
// graph.inputs. Throws Error naming the node.
std::vector<Tensor> evaluate_plain(const Graph& graph, std::span<const Tensor> inputs, const EvalLimits& limits = {});
// One node, under the limits in force. `captures`: values of node.captures. Calls of model-local functions must be written out before.
std::vector<Tensor> evaluate_node(const Graph& graph, const Node& node, std::span<const Tensor> inputs,
                                  std::span<const Tensor> captures = {}, BodyHost* bodies = nullptr);

// Everything that can be told about a model without evaluating it, in one pass: sources and names of values, order and cycles, opsets,
// unknown ops (with counts), numbers of inputs and outputs, attributes, functions, subgraphs; then what `infer` finds in the nodes that
// passed. Faults that are not fatal are warnings.
std::vector<Fault> examine(const Graph& graph);
// The same, keeping the types it infers in `graph`.
std::vector<Fault> examine_and_infer(Graph& graph);
// The part of it that needs no inference. Throws Error with the fatal faults.
void check(const Graph& graph);

// Loads a shared library of op definitions and calls its `extern "C" void lathe_register_ops()`, which calls register_op. The library
// stays loaded. Throws Error (value) when it cannot be loaded or has no such function.
void load_ops(const std::string& path);

}  // namespace lathe
