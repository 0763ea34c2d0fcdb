// The op registry, inference over a graph, and plain evaluation of a graph.
#include <algorithm>
#include <cstring>
#include <map>
#include <mutex>
#include <set>
#include <unordered_map>

#include <utility>

#include "base/memory.hpp"
#include "lathe/builder.hpp"
#include "ops/support.hpp"

namespace lathe {
namespace {

constexpr int64_t kOldestOpset = 1, kNewestOpset = 24;

struct Registry {
  // domain:name -> definitions by since-version
  std::map<std::pair<std::string, std::string>, std::map<int, OpDef>, std::less<>> defs;
};

Registry& registry() {
  static Registry r = [] {
    Registry fresh;
    std::vector<OpDef> all;
    ops::add_elementwise(all);
    ops::add_contractions(all);
    ops::add_normalisations(all);
    ops::add_pooling(all);
    ops::add_reductions(all);
    ops::add_movement(all);
    ops::add_resize(all);
    ops::add_creation(all);
    for (OpDef& d : all) fresh.defs[{d.domain, d.name}][d.since] = std::move(d);
    return fresh;
  }();
  return r;
}

// Values known while inferring: integers that shapes are made of, kept apart from the graph's constants.
using Known = std::unordered_map<ValueId, Tensor>;
thread_local const Known* current_known = nullptr;

const Tensor* known_constant(const Graph& graph, ValueId v) {
  if (graph.values[v].constant) return &*graph.values[v].constant;
  if (current_known) {
    const auto it = current_known->find(v);
    if (it != current_known->end()) return &it->second;
  }
  return nullptr;
}

}  // namespace

void register_op(OpDef def) {
  if (def.name.empty() || !def.infer || !def.plain) fail(Category::value, "register_op: a definition needs a name, infer and plain");
  auto& slot = registry().defs[{def.domain, def.name}];
  slot[def.since] = std::move(def);
}

const OpDef* find_op(std::string_view domain, std::string_view name, int64_t version) {
  const auto it = registry().defs.find(std::pair<std::string, std::string>(domain == "ai.onnx" ? "" : domain, name));
  if (it == registry().defs.end()) return nullptr;
  const OpDef* best = nullptr;
  for (const auto& [since, def] : it->second) {
    if (since <= version) best = &def;
  }
  return best;
}

std::vector<const OpDef*> all_ops() {
  std::vector<const OpDef*> out;
  for (const auto& [key, versions] : registry().defs) {
    for (const auto& [since, def] : versions) out.push_back(&def);
  }
  return out;
}

InferContext::InferContext(const Graph& graph, const Node& node, int version)
    : graph_(graph), node_(node), version_(version), results_(node.outputs.size()) {}

DType InferContext::dtype(int i) const { return has(i) ? graph_.values[node_.inputs[i]].dtype : DType::undefined; }

const std::optional<Dims>& InferContext::dims(int i) const {
  static const std::optional<Dims> none;
  return has(i) ? graph_.values[node_.inputs[i]].dims : none;
}

int InferContext::rank(int i) const { return dims(i) ? static_cast<int>(dims(i)->size()) : -1; }

const Tensor* InferContext::constant(int i) const { return has(i) ? known_constant(graph_, node_.inputs[i]) : nullptr; }

std::optional<std::vector<int64_t>> InferContext::integers(int i) const {
  const Tensor* t = constant(i);
  if (!t) return std::nullopt;
  return lathe::integers(*t);
}

void InferContext::set(int output, DType dtype, std::optional<Dims> dims) {
  if (output < output_count()) results_[output] = {dtype, std::move(dims)};
}

void InferContext::fail(Category category, const std::string& what) const { throw Error({{category, label(graph_, node_), what}}); }

namespace {

// Puts the node's label on errors that do not name it yet.
[[noreturn]] void rethrow_for(const Graph& graph, const Node& node, const Error& e) {
  std::vector<Fault> faults = e.faults();
  for (Fault& f : faults) {
    if (f.where.empty()) f.where = label(graph, node);
  }
  throw Error(std::move(faults));
}

const OpDef& definition(const Graph& graph, const Node& node) {
  const OpDef* def = find_op(node.domain, node.op, graph.opset(node.domain));
  if (!def) throw Error({{Category::unsupported, label(graph, node), "op is not known"}});
  return *def;
}

// Declared dims win where they say more (a name the exporter gave); a known size that differs is a fault.
std::optional<Dims> merge(const std::optional<Dims>& declared, const std::optional<Dims>& inferred, const std::string& name) {
  if (!inferred) return declared;
  if (!declared) return inferred;
  if (declared->size() != inferred->size()) {
    fail(Category::shape, "'{}' is declared with rank {} ({}), its node gives rank {} ({})", name, declared->size(), to_string(*declared),
         inferred->size(), to_string(*inferred));
  }
  Dims out = *inferred;
  for (size_t i = 0; i < out.size(); ++i) {
    const Dim& d = (*declared)[i];
    if (d.known() && out[i].known() && d.value != out[i].value) {
      fail(Category::shape, "'{}' is declared {}, its node gives {}", name, to_string(*declared), to_string(*inferred));
    }
    if (!out[i].known() && (d.known() || out[i].symbol.empty())) out[i] = d;
  }
  return out;
}

// A small integer result of constants only: worth knowing while inferring.
void learn(const Graph& graph, const Node& node, Known& known) {
  constexpr int64_t kSmall = 4096;
  std::vector<Tensor> inputs;
  for (ValueId v : node.inputs) {
    if (v == kAbsent) {
      inputs.emplace_back();
      continue;
    }
    const Tensor* t = known_constant(graph, v);
    if (!t && (node.op == "Shape" || node.op == "Size")) {
      const auto shape = known_shape(graph.values[v].dims);
      if (!shape || !checked_product(*shape)) return;
      // Only the shape is read: one byte stands for all elements.
      static std::byte nothing[64];
      inputs.push_back(Tensor::borrow(graph.values[v].dtype == DType::undefined ? DType::u8 : graph.values[v].dtype, *shape, nothing));
      continue;
    }
    if (!t || t->size() > kSmall) return;
    inputs.push_back(*t);
  }
  for (ValueId v : node.outputs) {
    if (v == kAbsent) continue;
    const auto shape = known_shape(graph.values[v].dims);
    if (!shape || !checked_product(*shape) || element_count(*shape) > kSmall || node.domain != "") return;
  }
  if (node.op == "Dropout") return;
  const auto results = evaluate_node(graph, node, inputs);
  for (size_t i = 0; i < results.size(); ++i) {
    if (node.outputs[i] != kAbsent) known[node.outputs[i]] = results[i];
  }
}

}  // namespace

void infer(Graph& graph) {
  std::vector<Fault> faults;
  Known known;
  const Known* outer = std::exchange(current_known, &known);
  for (size_t n = 0; n < graph.nodes.size(); ++n) {
    const Node& node = graph.nodes[n];
    try {
      InferContext context(graph, node, static_cast<int>(graph.opset(node.domain)));
      definition(graph, node).infer(context);
      for (size_t i = 0; i < node.outputs.size(); ++i) {
        if (node.outputs[i] == kAbsent) continue;
        Value& v = graph.values[node.outputs[i]];
        const auto& r = context.results()[i];
        if (r.dtype != DType::undefined) {
          if (v.dtype != DType::undefined && v.dtype != r.dtype) {
            fail(Category::type, "'{}' is declared {}, its node gives {}", v.name, to_string(v.dtype), to_string(r.dtype));
          }
          v.dtype = r.dtype;
        }
        v.dims = merge(v.dims, r.dims, v.name);
      }
      learn(graph, node, known);
    } catch (const Error& e) {
      for (Fault f : e.faults()) {
        if (f.where.empty()) f.where = label(graph, node);
        faults.push_back(std::move(f));
      }
    } catch (const std::exception& e) {  // an empty list where one element was expected, and the like
      faults.push_back({Category::value, label(graph, node), fmt::format("malformed attributes or inputs ({})", e.what())});
    }
  }
  current_known = outer;
  if (!faults.empty()) throw Error(std::move(faults));
}

void check(const Graph& graph) {
  std::vector<Fault> faults;
  const int64_t opset = graph.opset("");
  const auto uses_default = std::any_of(graph.nodes.begin(), graph.nodes.end(), [](const Node& n) { return n.domain.empty(); });
  if (uses_default && (opset < kOldestOpset || opset > kNewestOpset)) {
    faults.push_back(
        {Category::unsupported, "",
         fmt::format("opset {} of the default domain is not supported; versions {} to {} are", opset, kOldestOpset, kNewestOpset)});
  }
  std::map<std::string, int> unknown;
  std::vector<bool> made(graph.values.size(), false);
  for (size_t v = 0; v < graph.values.size(); ++v) made[v] = graph.values[v].constant.has_value();
  for (ValueId v : graph.inputs) made[v] = true;
  for (const Node& node : graph.nodes) {
    for (ValueId v : node.outputs) {
      if (v != kAbsent) made[v] = true;
    }
  }
  for (const Node& node : graph.nodes) {
    for (ValueId v : node.inputs) {
      if (v != kAbsent && !made[v]) {
        faults.push_back({Category::value, label(graph, node),
                          fmt::format("reads '{}', which no input, initializer or node gives", graph.values[v].name)});
      }
    }
    if (node.domain.empty() && (opset < kOldestOpset || opset > kNewestOpset)) continue;
    const OpDef* d = find_op(node.domain, node.op, graph.opset(node.domain));
    if (!d) {
      ++unknown[node.domain.empty() ? node.op : node.domain + "::" + node.op];
      continue;
    }
    const int in = static_cast<int>(node.inputs.size()), out = static_cast<int>(node.outputs.size());
    if (in < d->min_inputs || (d->max_inputs >= 0 && in > d->max_inputs)) {
      faults.push_back({Category::value, label(graph, node),
                        fmt::format("has {} inputs, expected {}", in,
                                    d->max_inputs < 0                ? fmt::format("at least {}", d->min_inputs)
                                    : d->min_inputs == d->max_inputs ? std::to_string(d->min_inputs)
                                                                     : fmt::format("{} to {}", d->min_inputs, d->max_inputs))});
    } else if (out < d->min_outputs || (d->max_outputs >= 0 && out > d->max_outputs)) {
      faults.push_back({Category::value, label(graph, node), fmt::format("has {} outputs, expected at most {}", out, d->max_outputs)});
    } else {
      for (int i = 0; i < d->min_inputs; ++i) {
        if (node.inputs[i] == kAbsent)
          faults.push_back({Category::value, label(graph, node), fmt::format("input {} is left out, but the op needs it", i)});
      }
    }
  }
  if (!unknown.empty()) {
    std::string list;
    for (const auto& [name, count] : unknown)
      list += fmt::format("{}{} ({} node{})", list.empty() ? "" : ", ", name, count, count == 1 ? "" : "s");
    faults.push_back({Category::unsupported, "",
                      fmt::format("{} op{} not known at opset {}: {}; register a definition with lathe::register_op", unknown.size(),
                                  unknown.size() == 1 ? " is" : "s are", opset, list)});
  }
  for (const auto* list : {&graph.inputs, &graph.outputs}) {
    for (ValueId v : *list) {
      if (!graph.values[v].other_type.empty())
        faults.push_back({Category::unsupported, fmt::format("'{}'", graph.values[v].name),
                          "is a sequence, map or optional; only tensors can go in and out yet"});
    }
  }
  for (ValueId v : graph.outputs) {
    if (!made[v]) faults.push_back({Category::value, fmt::format("output '{}'", graph.values[v].name), "is not made by any node"});
  }
  if (!faults.empty()) throw Error(std::move(faults));
}

std::vector<Tensor> evaluate_node(const Graph& graph, const Node& node, std::span<const Tensor> inputs) {
  try {
    const OpDef& d = definition(graph, node);
    for (int i = 0; i < d.min_inputs; ++i) {
      if (static_cast<size_t>(i) >= inputs.size() || inputs[i].empty())
        fail(Category::value, "input {} is left out, but the op needs it", i);
    }
    return d.plain({node, static_cast<int>(graph.opset(node.domain)), inputs, static_cast<int>(node.outputs.size())});
  } catch (const Error& e) {
    rethrow_for(graph, node, e);
  } catch (const std::bad_alloc&) {
    throw Error({{Category::resource, label(graph, node), "out of memory"}});
  } catch (const std::exception& e) {
    throw Error({{Category::value, label(graph, node), fmt::format("malformed attributes or inputs ({})", e.what())}});
  }
}

std::vector<Tensor> evaluate_plain(const Graph& graph, std::span<const Tensor> inputs) {
  if (inputs.size() != graph.inputs.size()) fail(Category::value, "the graph takes {} inputs, got {}", graph.inputs.size(), inputs.size());
  std::vector<Tensor> values(graph.values.size());
  std::vector<int> uses(graph.values.size(), 0);
  for (size_t v = 0; v < values.size(); ++v) {
    if (graph.values[v].constant) values[v] = *graph.values[v].constant;
  }
  for (size_t i = 0; i < inputs.size(); ++i) values[graph.inputs[i]] = inputs[i];
  for (const Node& node : graph.nodes) {
    for (ValueId v : node.inputs) {
      if (v != kAbsent) ++uses[v];
    }
  }
  for (ValueId v : graph.outputs) ++uses[v];
  for (const Node& node : graph.nodes) {
    std::vector<Tensor> in;
    for (ValueId v : node.inputs) in.push_back(v == kAbsent ? Tensor() : values[v]);
    auto out = evaluate_node(graph, node, in);
    for (size_t i = 0; i < node.outputs.size() && i < out.size(); ++i) {
      if (node.outputs[i] != kAbsent && uses[node.outputs[i]] > 0) values[node.outputs[i]] = std::move(out[i]);
    }
    for (ValueId v : node.inputs) {
      if (v != kAbsent && --uses[v] == 0 && !graph.values[v].constant) values[v] = Tensor();
    }
  }
  std::vector<Tensor> out;
  for (ValueId v : graph.outputs) out.push_back(values[v]);
  return out;
}

// ---- Builder --------------------------------------------------------------------------------------------------

Builder::Builder(std::string name, int64_t opset) {
  graph_.name = std::move(name);
  graph_.opsets[""] = opset;
  graph_.producer = "mellow-lathe";
}

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

Graph Builder::finish() {
  std::set<std::string> names;
  for (const Value& v : graph_.values) {
    if (!names.insert(v.name).second) fail(Category::value, "two values are named '{}'", v.name);
  }
  graph_.sort();
  check(graph_);
  infer(graph_);
  return std::move(graph_);
}

}  // namespace lathe
