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

class Builder {
 public:
  // `opset`: version of the standard's default domain.
  explicit Builder(std::string name, int64_t opset = 17);

  ValueId input(std::string name, DType dtype, Dims dims);
  ValueId constant(std::string name, Tensor tensor);
  // Adds a node with one output (a name is made up when none is given) and returns the output.
  ValueId op(std::string op, std::vector<ValueId> inputs, std::map<std::string, Attribute::Data> attributes = {},
             std::string output_name = "");
  // Adds a node with several outputs.
  std::vector<ValueId> ops(std::string op, std::vector<ValueId> inputs, int outputs,
                           std::map<std::string, Attribute::Data> attributes = {});
  // Makes `value` an output of the graph; renames it when a name is given.
  void output(ValueId value, std::string name = "");
  void metadata(std::string key, std::string value);

  // Infers types and shapes and checks the graph. Throws Error with every fault found.
  Graph finish();

 private:
  Graph graph_;
  int made_up_ = 0;
};

}  // namespace lathe
