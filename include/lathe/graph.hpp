// The model in memory: values, nodes, subgraphs, initializers, metadata. Independent of any file format.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "lathe/error.hpp"
#include "lathe/tensor.hpp"

namespace lathe {

using ValueId = int32_t;
inline constexpr ValueId kAbsent = -1;  // an optional input or output left out

// A dimension: known (value >= 0), symbolic (a name shared by all dims of the same size), or unknown.
struct Dim {
  int64_t value = -1;
  std::string symbol;

  Dim() = default;
  Dim(int64_t v) : value(v) {}                  // NOLINT: a number is a known dim
  Dim(std::string s) : symbol(std::move(s)) {}  // NOLINT: a name is a symbolic dim
  Dim(const char* s) : symbol(s) {}             // NOLINT
  bool known() const { return value >= 0; }
  bool operator==(const Dim&) const = default;
};
using Dims = std::vector<Dim>;

std::string to_string(const Dim& dim);    // "64", "batch", "?"
std::string to_string(const Dims& dims);  // "batch x 3 x 64 x 64"
// The concrete shape, when every dim is known.
std::optional<Shape> known_shape(const std::optional<Dims>& dims);

class Graph;

// Bytes of an attribute kind that the Graph does not interpret, kept so that writing gives them back.
struct Opaque {
  int kind = 0;
  std::string bytes;
  bool operator==(const Opaque&) const = default;
};

struct Attribute {
  using Data = std::variant<std::monostate, int64_t, float, std::string, Tensor, std::shared_ptr<Graph>, std::vector<int64_t>,
                            std::vector<float>, std::vector<std::string>, std::vector<Tensor>, std::vector<std::shared_ptr<Graph>>, Opaque>;
  Data data;
  std::string reference;  // name of the enclosing function's attribute, when this one refers to it
};

struct Node {
  std::string op;
  std::string domain;  // "" is the standard's default domain
  std::string name;
  std::string doc;
  std::vector<ValueId> inputs;
  std::vector<ValueId> outputs;
  std::map<std::string, Attribute> attributes;
  std::vector<std::string> merged;  // labels of nodes that passes folded into this one; not written to files

  template <typename T>
  const T* find(std::string_view key) const {
    const auto it = attributes.find(std::string(key));
    return it == attributes.end() ? nullptr : std::get_if<T>(&it->second.data);
  }
  int64_t integer(std::string_view key, int64_t otherwise) const;
  float real(std::string_view key, float otherwise) const;
  std::string text(std::string_view key, std::string_view otherwise) const;
  std::vector<int64_t> integers(std::string_view key, std::vector<int64_t> otherwise = {}) const;
};

struct Value {
  std::string name;
  DType dtype = DType::undefined;  // undefined: not known
  std::optional<Dims> dims;        // nothing: not even the rank is known
  std::optional<Tensor> constant;  // initializer, or the result of folding
  std::string doc;
  std::string other_type;  // type that is not a tensor (sequence, optional, map), as the standard encodes it
};

// A model-local function: nodes in a scope of their own, called by (domain, name).
struct Function {
  std::string name, domain, doc;
  std::vector<std::string> attributes;  // names a caller may or must set
  std::shared_ptr<Graph> body;          // its opsets are the function's own imports
};

// Open structure: passes edit it directly. Nodes stand in topological order.
class Graph {
 public:
  std::string name, doc;
  std::vector<Value> values;
  std::vector<Node> nodes;
  std::vector<ValueId> inputs, outputs;
  std::map<std::string, int64_t> opsets;  // domain -> version
  std::map<std::string, std::string> metadata;
  std::vector<Function> functions;
  int64_t ir_version = 8;
  std::string producer, producer_version, model_domain;
  int64_t model_version = 0;

  ValueId add_value(Value value);
  // kAbsent when there is none of that name.
  ValueId find_value(std::string_view name) const;
  // The version of the domain this graph imports; 0 when it imports none.
  int64_t opset(std::string_view domain) const;
  // Index of the node that makes each value, -1 for inputs and constants.
  std::vector<int> producers() const;
  // Indices of the nodes that read each value (in order, a node twice if it reads it twice). Does not count graph outputs.
  std::vector<std::vector<int>> consumers() const;
  // Sorts nodes topologically (stable). Throws Error (value) naming the nodes on a cycle.
  void sort();
};

// The same model: names, types, nodes, attributes, tensors and metadata, whatever the ids are.
bool equal(const Graph& a, const Graph& b);

// "node 'stem/conv' (Conv)", or "node #4 (Conv)" when it has no name.
std::string label(const Graph& graph, const Node& node);

}  // namespace lathe
