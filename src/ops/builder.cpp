#include "lathe/builder.hpp"

#include <cstring>
#include <algorithm>
#include <set>

#include "ops/support.hpp"

namespace lathe {

Builder::Builder(std::string name, int64_t opset) {
  graph_.name = std::move(name);
  graph_.opsets[""] = opset;
  graph_.producer = "mellow-lathe";
}

void Builder::import_domain(std::string domain, int64_t version) { graph_.opsets[std::move(domain)] = version; }

ValueId Builder::input(std::string name, DType dtype, Dims dims) {
  Value v;
  v.name = std::move(name);
  v.dtype = dtype;
  v.dims = std::move(dims);
  graph_.inputs.push_back(graph_.add_value(std::move(v)));
  return graph_.inputs.back();
}

ValueId Builder::constant(std::string name, Tensor tensor) {
  Value v;
  v.name = std::move(name);
  v.dtype = tensor.dtype();
  v.dims = ops::to_dims(tensor.shape());
  v.constant = std::move(tensor);
  return graph_.add_value(std::move(v));
}

ValueId Builder::op(std::string op, std::vector<ValueId> inputs, std::map<std::string, Attribute::Data> attributes,
                    std::string output_name) {
  const ValueId out = ops(std::move(op), std::move(inputs), 1, std::move(attributes))[0];
  if (!output_name.empty()) graph_.values[out].name = std::move(output_name);
  return out;
}

std::vector<ValueId> Builder::ops(std::string op, std::vector<ValueId> inputs, int outputs,
                                  std::map<std::string, Attribute::Data> attributes) {
  Node node;
  const size_t colons = op.find("::");
  if (colons != std::string::npos) {
    node.domain = op.substr(0, colons);
    op = op.substr(colons + 2);
  }
  node.name = fmt::format("{}_{}", op, ++made_up_);
  node.op = std::move(op);
  node.inputs = std::move(inputs);
  for (auto& [key, data] : attributes) node.attributes[key].data = std::move(data);
  for (int i = 0; i < outputs; ++i) {
    Value v;
    v.name = outputs == 1 ? node.name + ".out" : fmt::format("{}.out{}", node.name, i);
    node.outputs.push_back(graph_.add_value(std::move(v)));
  }
  graph_.nodes.push_back(std::move(node));
  return graph_.nodes.back().outputs;
}

void Builder::output(ValueId value, std::string name) {
  if (!name.empty()) graph_.values[value].name = std::move(name);
  graph_.outputs.push_back(value);
}

void Builder::metadata(std::string key, std::string value) { graph_.metadata[std::move(key)] = std::move(value); }

ValueId Builder::outer(std::string name) {
  const ValueId there = graph_.find_value(name);
  if (there != kAbsent) return there;
  Value v;
  v.name = std::move(name);
  return graph_.add_value(std::move(v));
}

std::shared_ptr<Graph> Builder::finish_body() { return std::make_shared<Graph>(std::move(graph_)); }

Graph Builder::finish() {
  std::set<std::string> names;
  for (const Value& v : graph_.values) {
    if (!names.insert(v.name).second) fail(Category::value, "two values are named '{}'", v.name);
  }
  resolve_captures(graph_);
  graph_.sort();
  check(graph_);
  infer(graph_);
  return std::move(graph_);
}

Tensor in_gate_order(const Tensor& weights, int64_t axis, std::string_view from, std::string_view to) {
  std::string a(from), b(to);
  std::ranges::sort(a);
  std::ranges::sort(b);
  if (a != b || a.empty() || std::ranges::adjacent_find(a) != a.end())
    fail(Category::value, "gates '{}' cannot be brought into the order '{}': each letter must be there once in both", from, to);
  const Shape& shape = weights.shape();
  const auto rank = static_cast<int64_t>(shape.size()), gates = static_cast<int64_t>(from.size());
  if (axis < -rank || axis >= rank) fail(Category::value, "axis {} is not one of the {} of {}", axis, rank, to_string(shape));
  if (axis < 0) axis += rank;
  const int64_t size = shape[static_cast<size_t>(axis)];
  if (size % gates != 0 || bit_width(weights.dtype()) % 8 != 0)
    fail(Category::value, "axis {} of {} {} cannot be parted into {} gates", axis, to_string(weights.dtype()), to_string(shape), gates);
  int64_t outer = 1;
  for (int64_t i = 0; i < axis; ++i) outer *= shape[static_cast<size_t>(i)];
  Tensor out(weights.dtype(), shape);
  const size_t part = outer * gates == 0 ? 0 : weights.byte_size() / static_cast<size_t>(outer * gates);
  for (int64_t o = 0; o < outer && part > 0; ++o) {
    for (size_t g = 0; g < to.size(); ++g)
      std::memcpy(static_cast<std::byte*>(out.data()) + (static_cast<size_t>(o * gates) + g) * part,
                  static_cast<const std::byte*>(weights.data()) + (static_cast<size_t>(o * gates) + from.find(to[g])) * part, part);
  }
  return out;
}

}  // namespace lathe
