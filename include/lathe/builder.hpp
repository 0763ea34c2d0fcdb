// Makes graphs in code.
//
//   lathe::Builder b("scale");
//   auto x = b.input("x", lathe::DType::f32, {"batch", 4});
//   auto w = b.constant("w", lathe::Tensor::from<float>({4}, {1, 2, 3, 4}));
//   b.output(b.op("Relu", {b.op("Mul", {x, w})}), "y");
//   lathe::Graph graph = b.finish();
#pragma once

#include "lathe/graph.hpp"

namespace lathe {

// Threads: one at a time. Ownership: holds the graph until finish() gives it away. Failure: a call that throws Error leaves what was added
// before it; finish() throws with every fault that inference found.
class Builder {
 public:
  // `opset`: version of the standard's default domain.
  explicit Builder(std::string name, int64_t opset = 17);

  ValueId input(std::string name, DType dtype, Dims dims);
  ValueId constant(std::string name, Tensor tensor);
  // Names another domain the model uses (before the first op of it).
  void import_domain(std::string domain, int64_t version);
  // Adds a node with one output; "domain::Op" for an op of another domain (a name is made up when none is given) and returns the output.
  ValueId op(std::string op, std::vector<ValueId> inputs, std::map<std::string, Attribute::Data> attributes = {},
             std::string output_name = "");
  // Adds a node with several outputs.
  std::vector<ValueId> ops(std::string op, std::vector<ValueId> inputs, int outputs,
                           std::map<std::string, Attribute::Data> attributes = {});
  // Makes `value` an output of the graph; renames it when a name is given.
  void output(ValueId value, std::string name = "");
  void metadata(std::string key, std::string value);

  // In a body (of If, Loop, Scan): a value of the graph around it, by name.
  ValueId outer(std::string name);
  // The graph as a body: the value of an attribute of the node it belongs to. It is checked with the graph around it.
  std::shared_ptr<Graph> finish_body();
  // Infers types and shapes and checks the graph. Throws Error with every fault found.
  Graph finish();

 private:
  Graph graph_;
  int made_up_ = 0;
};

// A recurrent layer's weights with their gates in another order. Along `axis` they stand one behind another, each of the same size; a
// letter for each says which is which: "run" (reset, update, new) to "urn", "ifgo" (input, forget, cell, output) to "iofg". Throws Error:
// value (not the same letters, or one twice; the axis cannot be parted so).
Tensor in_gate_order(const Tensor& weights, int64_t axis, std::string_view from, std::string_view to);

}  // namespace lathe
