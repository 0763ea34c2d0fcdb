// Shaping a model before it is compiled: cut it, fix its sizes, put preprocessing inside, freeze inputs, rename, move it to a newer
// opset. Every function leaves a checked graph with inferred types, ready for save() or compile(), or throws Error and leaves the
// graph as it was.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe {

// Keeps what the named outputs need, starting from the named values as inputs (any values of the graph). An empty list keeps the
// model's own. Throws Error (value) naming what there is, or the inputs that are still needed.
void cut(Graph& graph, const std::vector<std::string>& inputs, const std::vector<std::string>& outputs);

// Gives symbolic dims sizes, everywhere. Throws Error (value) naming the dims there are.
void bind_dims(Graph& graph, const std::map<std::string, int64_t>& sizes);

// Replaces an input's dims, whatever was declared: known sizes, names, or open ones.
void set_input_dims(Graph& graph, const std::string& input, Dims dims);

// Makes an input a constant. Throws Error (type, shape) when the tensor does not fit it.
void freeze_input(Graph& graph, const std::string& input, Tensor tensor);

// Renames values (old -> new): inputs, outputs or anything between. Throws Error (value) when a name is not there or taken.
void rename_values(Graph& graph, const std::map<std::string, std::string>& names);

struct Preprocessing {
  std::vector<float> mean{}, scale{};  // (pixel - mean) * scale; none, one, or one a channel
  bool swap_channels = false;          // RGB comes in, the model wants BGR (or the other way about)
  bool from_u8 = false;                // the input takes bytes
  bool from_channels_last = false;     // the input takes N x H x W x C
};

// Puts preprocessing in front of an input of N x C x H x W; the new input has the old one's name. Throws Error (shape, value).
void embed_preprocessing(Graph& graph, const std::string& input, const Preprocessing& how);

// The same model under a newer opset of the default domain: attributes that became inputs, renamed ops, changed meanings. Subgraphs
// too; functions keep their own versions. Throws Error: value (downward, or beyond what is supported), unsupported (naming the nodes
// that cannot be carried over).
void convert_opset(Graph& graph, int64_t version);

}  // namespace lathe
