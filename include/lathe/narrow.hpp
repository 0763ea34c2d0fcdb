// Narrowing a model's weights: the same graph with fewer bits a number, in the open standard's own forms, ready for save() or compile().
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe {

struct NarrowOptions {
  // f16, bf16: initializers of f32 are kept so, behind a Cast. i8, u8, i4, u4: whole numbers behind a DequantizeLinear, for MatMul and
  // Gemm, Gather of rows, and (8 bits) Conv. Unsigned types have zero points: a block's least and largest number are both met.
  DType weights = DType::i8;
  // Numbers along K, or along a row of a table, that share a scale: 16 to 4096; 0: 8 bits one a column or filter, 4 bits 64. Conv has one
  // a filter.
  int64_t block = 0;
  int64_t least = 1024;              // numbers: smaller weights stay as they are
  std::vector<std::string> leave{};  // nodes whose weights stay as they are
};

struct NarrowedWeights {
  std::string node, op;  // the first that reads them
  Shape shape;
  int64_t bytes_before = 0, bytes_after = 0;  // scales and zero points counted
  double signal_to_noise = 0;                 // decibels; infinity: every number is kept exactly
};

struct NarrowReport {
  std::vector<NarrowedWeights> weights;
  std::vector<std::pair<std::string, std::string>> left;  // node, and why its weights stay wide
  int64_t bytes_before = 0, bytes_after = 0;              // of all initializers
};

// Each weight is rounded to the nearest number. Carries the model over to the opset that the form needs. Throws Error: value (no such type
// or node, a block out of range, nothing to narrow), unsupported (the opset cannot be reached); the graph is left as it was then.
NarrowReport narrow_model(Graph& graph, const NarrowOptions& options = {});

}  // namespace lathe
