// A model as those see it who look for where it parts from a reference: what makes each value, and what of it was compared.
#pragma once

#include <functional>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "lathe/divergence.hpp"

namespace lathe::parting {

// The model as it is compiled: defaults that runs give are inputs, functions are written out, and only what the outputs asked for need.
class Net {
 public:
  Net(const Graph& model, CompileOptions& options);

  const Graph& graph() const { return graph_; }
  // kAbsent when there is none.
  ValueId find(const std::string& name) const;
  // The model's name for what a program has made: a value in half precision is made in f32, under a name of its own.
  std::string model_name(const std::string& made) const;
  // Index of the node that makes it; -1: an input or a constant.
  int maker(ValueId v) const { return maker_[static_cast<size_t>(v)]; }
  int depth(ValueId v) const { return depth_[static_cast<size_t>(v)]; }
  const std::string& name(ValueId v) const { return graph_.values[static_cast<size_t>(v)].name; }
  // What a node reads, in its subgraphs too, constants left out.
  std::vector<ValueId> reads(int node) const;
  // The nodes between `target` and the nearest values before it that `known` accepts, in order; those values; inputs among them.
  struct Segment {
    std::vector<int> nodes;
    std::vector<ValueId> from;
  };
  Segment segment(ValueId target, const std::function<bool(ValueId)>& known) const;
  // That part of the model as one of its own, whose outputs are all values that its nodes make. Throws Error.
  Graph extract(const Segment& s) const;

 private:
  Graph graph_;
  std::vector<int> maker_, depth_;
  std::map<std::string, ValueId> by_name_;
};

// Root mean square of the difference over that of what is expected; the share that differs, of other than floating types. Infinite where
// one is NaN or infinite and the other is not the same. `steps`: whole numbers of 8 bits and less that far apart count as the same: what is
// rounded to them falls to either side when it lies in the middle.
double error_of(const Tensor& got, const Tensor& expected, int64_t steps = 0);
// What rounding alone explains at one value.
double floor_of(DType dtype);
// The expected value as the type that was got; items of sequences alike.
Tensor as_type(const Tensor& t, DType dtype);
// Where a value declares no type: that of the value around its subgraph.
void take_type(Value& v, const Graph& around, ValueId outer);
// The same for the first `inputs` inputs of the body of a Loop or Scan: what is carried and scanned stands at the same places of the node's.
void take_carried_types(Graph& body, size_t inputs, const Graph& around, const Node& node);
// `expected` may be wider. Tolerances as given; by dtype the absolute part is at least a tenth of the relative one times the root mean
// square of what is expected: values between have no scale of their own.
Comparison compare_value(const std::string& name, const Tensor& got, const Tensor& expected, const Tolerances& tolerances,
                         int64_t steps = 0);

// Limits of plain evaluation that keep to what runs may: stop and time.
class Watched {
 public:
  explicit Watched(const RunOptions& run, const EvalLimits& limits);
  const EvalLimits& limits() const { return limits_; }

 private:
  RunOptions run_;
  std::chrono::steady_clock::time_point start_;
  EvalLimits limits_;
};

// Exact values of a model by name: plain evaluation in double.
class Exact {
 public:
  Exact(const Graph& written_out, std::span<const Tensor> inputs, const RunOptions& run, const EvalLimits& limits);
  bool has(const std::string& name) const { return graph_.find_value(name) != kAbsent; }
  std::map<std::string, Tensor> values(const std::vector<std::string>& names);
  int runs() const { return runs_; }

 private:
  Graph graph_;
  std::vector<Tensor> inputs_;
  RunOptions run_;
  EvalLimits limits_;
  int runs_ = 0;
};

// Throws Error (unsupported) when results differ from run to run.
void refuse_random(const Graph& graph);

}  // namespace lathe::parting
