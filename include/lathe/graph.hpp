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
// Whether a shape is one that `dims` leave open: as many dims, each known one of that size. No dims leave everything open.
bool fits(const Shape& shape, const std::optional<Dims>& dims);

// A type that is more than one tensor: sequence, optional, map, sparse tensor; or a tensor inside one of them.
struct Type {
  enum class Kind { tensor, sequence, optional, map, sparse };
  Kind kind = Kind::tensor;
  DType dtype = DType::undefined;  // tensor, sparse: of the elements; map: of the keys
  std::optional<Dims> dims;        // tensor, sparse
  std::vector<Type> inner;         // sequence, optional: of the items; map: of the values
  bool operator==(const Type&) const = default;
};
std::string to_string(const Type& type);  // "sequence of f32 3 x ?"

class Graph;

// A tensor stored by its non-zero elements: values[i] stands at indices[i] (a linear index, or a row of one index a dim).
struct SparseTensor {
  Tensor values, indices;
  Shape shape;
};
// Throws Error (shape, value) when indices leave the shape or repeat, resource when it is too large to be dense.
Tensor dense(const SparseTensor& sparse);

// Bytes of an attribute kind that the Graph does not interpret, kept so that writing gives them back.
struct Opaque {
  int kind = 0;
  std::string bytes;
  bool operator==(const Opaque&) const = default;
};

struct Attribute {
  using Data =
      std::variant<std::monostate, int64_t, float, std::string, Tensor, std::shared_ptr<Graph>, std::vector<int64_t>, std::vector<float>,
                   std::vector<std::string>, std::vector<Tensor>, std::vector<std::shared_ptr<Graph>>, SparseTensor, Type, Opaque>;
  Data data;
  std::string reference;  // name of the enclosing function's attribute, when this one refers to it
};

// A value that a node's subgraphs read from the scope the node stands in, and the name they know it by.
struct Capture {
  ValueId value = kAbsent;
  std::string name;
  bool operator==(const Capture&) const = default;
};

struct Node {
  std::string op;
  std::string domain;  // "" is the standard's default domain
  std::string name;
  std::string doc;
  std::string overload;  // of a model-local function
  std::vector<ValueId> inputs;
  std::vector<ValueId> outputs;
  std::map<std::string, Attribute> attributes;
  std::vector<Capture> captures;  // made by resolve_captures
  int64_t version = 0;            // of the node's domain, when it differs from what the graph imports (a function's own); 0: the graph's
  std::string module;             // path of the model-local functions it came from, "encoder/layer_0"; "" when it is the graph's own
  std::map<std::string, std::string> metadata;
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
  // Calls f with each subgraph among the attributes.
  template <typename F>
  void each_subgraph(F&& f) const {
    for (const auto& [key, attribute] : attributes) {
      if (const auto* sub = std::get_if<std::shared_ptr<Graph>>(&attribute.data)) f(*sub);
      if (const auto* list = std::get_if<std::vector<std::shared_ptr<Graph>>>(&attribute.data)) {
        for (const auto& g : *list) f(g);
      }
    }
  }
  bool has_subgraphs() const;
};

struct Value {
  std::string name;
  DType dtype = DType::undefined;  // undefined: not known
  std::optional<Dims> dims;        // nothing: not even the rank is known
  std::optional<Tensor> constant;  // initializer, or the result of folding
  std::string doc;
  std::shared_ptr<const Type> composite;  // a sequence, optional or map: its type; dtype and dims are unknown then
};

Type type_of(const Value& value);
// Sets dtype and dims, or composite.
void set_type(Value& value, Type type);

// A model-local function: nodes in a scope of their own, called by (domain, name).
struct Function {
  std::string name, domain, doc;
  std::vector<std::string> attributes;        // names a caller must set
  std::map<std::string, Attribute> defaults;  // names a caller may set, with what holds otherwise
  std::string overload;
  std::shared_ptr<Graph> body;  // its opsets are the function's own imports
};

// An initializer that the model also lists among its inputs: a constant, unless the caller gives another value.
struct Default {
  ValueId value = kAbsent;
  Type declared;  // what the model says of it as an input
};

// Open structure: passes edit it directly.
// Threads: as a standard container, any number may read, or one may write.
// Ownership: copies share the tensors of constants and the subgraphs of nodes; deep_copy() shares no subgraph.
// Lifetime: ids are indices into `values`, valid until values are removed; references, until the vectors grow.
// Invariants that check() looks at: nodes in topological order, every value with one source, ids within `values`.
class Graph {
 public:
  std::string name, doc;
  std::vector<Value> values;
  std::vector<Node> nodes;
  std::vector<ValueId> inputs, outputs;
  std::vector<Default> defaults;
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
  // The version that holds for a node: its own, or what the graph imports for its domain.
  int64_t version_of(const Node& node) const { return node.version > 0 ? node.version : opset(node.domain); }
  // Index of the node that makes each value, -1 for inputs and constants.
  std::vector<int> producers() const;
  // Indices of the nodes that read each value, as input or in a subgraph (in order, a node twice if it reads it twice). Does not
  // count graph outputs.
  std::vector<std::vector<int>> consumers() const;
  // Sorts nodes topologically (stable). Throws Error (value) naming the nodes on a cycle.
  void sort();
};

// Makes inputs, behind the others, of defaults with these names: they must be given at each run then. Sizes that nodes' outputs had may
// have come from the defaults; they are open until types are inferred again. Throws Error (value) naming the
// defaults there are.
void open_defaults(Graph& graph, const std::vector<std::string>& names);

// Fills Node::captures of every node with subgraphs, inside out, and hands the opsets down. Subgraphs name outer values; from here on
// ids decide, and names are put right again by settle_names.
void resolve_captures(Graph& graph);
// Values without a source of their own in this (sub)graph that it reads: what it takes from around it.
std::vector<ValueId> free_values(const Graph& graph);
// Makes the names inside subgraphs agree with the names of the values they capture (before writing).
void settle_names(Graph& graph);
// A copy that shares tensors but no subgraph.
std::shared_ptr<Graph> deep_copy(const Graph& graph);

// The model-local function a node calls, or null.
const Function* find_function(const Graph& graph, const Node& node);
// Replaces every call of a model-local function by its nodes (also inside subgraphs), with names "call/inner", the call path in
// Node::module and the function's own opset versions. Throws Error (value) when functions call one another in a circle, or the result
// would have more than `most` nodes.
void inline_functions(Graph& graph, int64_t most = 2'000'000);

// The same model: names, types, nodes, attributes, tensors and metadata, whatever the ids are.
bool equal(const Graph& a, const Graph& b);

// "node 'stem/conv' (Conv)", or "node #4 (Conv)" when it has no name.
std::string label(const Graph& graph, const Node& node);

}  // namespace lathe
