#include "line/scope.hpp"

#include <algorithm>

namespace lathe::line {

ValueId Scope::seen_from_here(ValueId outer) {
  if (outer == kAbsent) return kAbsent;
  const auto [it, fresh] = outer_.try_emplace(outer, kAbsent);
  if (!fresh) return it->second;
  above->used(outer);
  Value v = above->graph.values[static_cast<size_t>(outer)];
  v.constant.reset();
  it->second = graph.add_value(std::move(v));
  return it->second;
}

ValueId Scope::find(const std::string& from) {
  if (const auto it = named_.find(from); it != named_.end()) return it->second;
  for (const Result& r : results_) {
    if (from == r.part + "." + r.name) return r.id;
  }
  const auto first = std::ranges::find(results_, from, &Result::part);
  if (first != results_.end()) return first->id;
  return above ? seen_from_here(above->find(from)) : kAbsent;
}

bool Scope::has_part(const std::string& part) const { return std::ranges::find(results_, part, &Result::part) != results_.end(); }

std::vector<std::string> Scope::results_of(const std::string& part) const {
  std::vector<std::string> out;
  for (const Result& r : results_) {
    if (r.part == part) out.push_back(r.part + "." + r.name);
  }
  return out.empty() && above ? above->results_of(part) : out;
}

ValueId Scope::outer_input(const std::function<ValueId(Scope&)>& make) {
  if (!above) return make(*this);
  return seen_from_here(above->outer_input(make));
}

std::vector<Capture> Scope::captures() const {
  std::vector<Capture> out;
  for (const auto& [outer, here] : outer_) out.push_back({outer, graph.values[static_cast<size_t>(here)].name});
  return out;
}

ValueId Scope::constant(const std::string& n, Tensor tensor) {
  Value v;
  v.name = n;
  v.dtype = tensor.dtype();
  v.dims = Dims(tensor.shape().begin(), tensor.shape().end());
  v.constant = std::move(tensor);
  return graph.add_value(std::move(v));
}

std::vector<ValueId> Scope::nodes(const std::string& n, std::string op, std::vector<ValueId> inputs,
                                  const std::vector<std::string>& outputs, std::map<std::string, Attribute::Data> attributes) {
  Node node;
  node.name = n;
  node.op = std::move(op);
  node.inputs = std::move(inputs);
  for (auto& [key, data] : attributes) node.attributes[key].data = std::move(data);
  for (const std::string& name : outputs) {
    Value v;
    v.name = name;
    node.outputs.push_back(graph.add_value(std::move(v)));
  }
  graph.nodes.push_back(std::move(node));
  return graph.nodes.back().outputs;
}

}  // namespace lathe::line
