// Operator definitions: type and shape inference and plain evaluation, by domain, name and since-version.
// Register your own with register_op before loading a model that uses it.
#pragma once

#include <functional>
#include <span>

#include "lathe/graph.hpp"

namespace lathe {

// What an inference function sees and sets. Inputs are by position; absent ones have undefined dtype.
class InferContext {
 public:
  InferContext(const Graph& graph, const Node& node, int version);

  const Node& node() const { return node_; }
  int version() const { return version_; }  // the opset version the model imports for this domain
  int input_count() const { return static_cast<int>(node_.inputs.size()); }
  int output_count() const { return static_cast<int>(node_.outputs.size()); }
  bool has(int input) const { return input < input_count() && node_.inputs[input] != kAbsent; }
  DType dtype(int input) const;  // undefined: absent or not known
  const std::optional<Dims>& dims(int input) const;
  int rank(int input) const;                // -1: not known
  const Tensor* constant(int input) const;  // the input's value when it is known while compiling, else null
  // Constant integer input, or nothing when it is not known while compiling.
  std::optional<std::vector<int64_t>> integers(int input) const;

  void set(int output, DType dtype, std::optional<Dims> dims);
  // Throws Error of the category, naming the node.
  [[noreturn]] void fail(Category category, const std::string& what) const;
  void require(bool condition, Category category, const std::string& what) const {
    if (!condition) fail(category, what);
  }

  struct Result {
    DType dtype = DType::undefined;
    std::optional<Dims> dims;
  };
  const std::vector<Result>& results() const { return results_; }

 private:
  const Graph& graph_;
  const Node& node_;
  int version_;
  std::vector<Result> results_;
};

// What plain evaluation sees. Inputs are concrete tensors; absent ones are empty().
struct EvalContext {
  const Node& node;
  int version;
  std::span<const Tensor> inputs;
  int output_count;

  bool has(size_t i) const { return i < inputs.size() && !inputs[i].empty(); }
  const Tensor& in(size_t i) const { return inputs[i]; }
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
};

// Adds a definition; replaces one with the same domain, name and since-version. Not safe while other threads compile.
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
std::vector<Tensor> evaluate_plain(const Graph& graph, std::span<const Tensor> inputs);
// One node.
std::vector<Tensor> evaluate_node(const Graph& graph, const Node& node, std::span<const Tensor> inputs);

// A shape check of inputs, outputs, nodes, and definitions without evaluating: everything `infer` checks, plus
// duplicate names, missing values, unknown ops (all listed with counts), unsupported opsets. Throws Error.
void check(const Graph& graph);

}  // namespace lathe
