// Type and shape inference over a graph, and everything else that can be told of a model without running it.
#include <algorithm>
#include <cstring>
#include <map>
#include <set>
#include <unordered_map>
#include <utility>

#include "base/memory.hpp"
#include "base/text.hpp"
#include "ops/operands.hpp"
#include "ops/support.hpp"

namespace lathe {

using ops::kind_name;
using ops::kind_of;

namespace {

constexpr int64_t kOldestOpset = 1, kNewestOpset = 24;

// Values known while inferring: integers that shapes are made of, kept apart from the graph's constants.
using Known = std::unordered_map<ValueId, Tensor>;
thread_local const Known* current_known = nullptr;
thread_local int inference_depth = 0;

const Tensor* known_constant(const Graph& graph, ValueId v) {
  if (graph.values[v].constant) return &*graph.values[v].constant;
  if (current_known) {
    const auto it = current_known->find(v);
    if (it != current_known->end()) return &it->second;
  }
  return nullptr;
}

// Lists of sizes of which some are names: what Shape and the arithmetic behind it make. An unknown entry is -1 or not known at all.
using KnownSizes = std::unordered_map<ValueId, Dims>;
thread_local const KnownSizes* current_sizes = nullptr;

std::optional<Dims> sizes_in(const Tensor& t) {
  if (t.composite() || (t.dtype() != DType::i64 && t.dtype() != DType::i32) || t.rank() > 1 || t.size() > 64 || t.data() == nullptr)
    return std::nullopt;
  Dims out;
  for (int64_t n : integers(t)) out.push_back(n >= 0 ? Dim(n) : Dim());
  return out;
}

std::optional<Dims> known_sizes(const Graph& graph, ValueId v) {
  if (v == kAbsent) return std::nullopt;
  if (const Tensor* t = known_constant(graph, v)) return sizes_in(*t);
  if (current_sizes == nullptr) return std::nullopt;
  const auto it = current_sizes->find(v);
  return it == current_sizes->end() ? std::nullopt : std::optional(it->second);
}

// Follows sizes through the ops that exporters compute shapes with.
void learn_sizes(const Graph& graph, const Node& node, KnownSizes& known) {
  if (!node.domain.empty() || node.outputs.size() != 1 || node.inputs.empty() || node.inputs[0] == kAbsent) return;
  const ValueId out = node.outputs[0];
  if (out == kAbsent || known_constant(graph, out)) return;
  const auto in = [&](size_t i) { return i < node.inputs.size() ? known_sizes(graph, node.inputs[i]) : std::nullopt; };
  // Exact numbers: -1 would be unknown among sizes.
  const auto numbers = [&](size_t i) -> std::optional<std::vector<int64_t>> {
    const Tensor* t = i < node.inputs.size() && node.inputs[i] != kAbsent ? known_constant(graph, node.inputs[i]) : nullptr;
    if (!t || t->composite() || (t->dtype() != DType::i64 && t->dtype() != DType::i32) || t->data() == nullptr) return std::nullopt;
    return integers(*t);
  };
  if (node.op == "Shape") {
    const auto& dims = graph.values[node.inputs[0]].dims;
    if (!dims || dims->size() > 64) return;
    const auto rank = static_cast<int64_t>(dims->size());
    const auto place = [&](int64_t at) { return std::clamp<int64_t>(at < 0 ? at + rank : at, 0, rank); };
    const int64_t from = place(node.integer("start", 0)), to = place(node.integer("end", rank));
    known[out] = from < to ? Dims(dims->begin() + from, dims->begin() + to) : Dims();
  } else if (node.op == "Identity" || node.op == "Unsqueeze" || node.op == "Squeeze" || node.op == "Reshape") {
    if (const auto a = in(0); a && (node.op == "Identity" || a->size() == 1)) known[out] = *a;
  } else if (node.op == "Cast") {
    const DType to = graph.values[out].dtype;
    if (const auto a = in(0); a && (to == DType::i64 || to == DType::i32)) known[out] = *a;
  } else if (node.op == "Gather") {
    const auto a = in(0);
    const auto at = numbers(1);
    if (!a || !at || node.integer("axis", 0) != 0) return;
    Dims picked;
    for (int64_t i : *at) {
      const auto n = static_cast<int64_t>(a->size());
      if (i < -n || i >= n) return;
      picked.push_back((*a)[static_cast<size_t>(i < 0 ? i + n : i)]);
    }
    known[out] = std::move(picked);
  } else if (node.op == "Slice" && graph.version_of(node) >= 10) {
    const auto a = in(0);
    const auto starts = numbers(1), ends = numbers(2), steps = node.inputs.size() > 4 ? numbers(4) : std::vector<int64_t>{1};
    if (!a || !starts || !ends || starts->size() != 1 || ends->size() != 1 || !steps || *steps != std::vector<int64_t>{1}) return;
    const auto n = static_cast<int64_t>(a->size());
    const auto place = [&](int64_t at) { return std::clamp<int64_t>(at < 0 ? at + n : at, 0, n); };
    const int64_t from = place((*starts)[0]), to = place((*ends)[0]);
    known[out] = from < to ? Dims(a->begin() + from, a->begin() + to) : Dims();
  } else if (node.op == "Concat") {
    Dims all;
    for (size_t i = 0; i < node.inputs.size(); ++i) {
      const auto part = in(i);
      if (!part || all.size() + part->size() > 64) return;
      all.insert(all.end(), part->begin(), part->end());
    }
    known[out] = std::move(all);
  } else if (node.op == "Add" || node.op == "Sub" || node.op == "Mul" || node.op == "Div") {
    const auto a = in(0), b = in(1);
    if (!a || !b || (a->size() != b->size() && a->size() != 1 && b->size() != 1)) return;
    Dims made;
    for (size_t i = 0; i < std::max(a->size(), b->size()); ++i) {
      const Dim &x = (*a)[a->size() == 1 ? 0 : i], &y = (*b)[b->size() == 1 ? 0 : i];
      made.push_back(node.op == "Add"   ? sum(x, y)
                     : node.op == "Sub" ? difference(x, y)
                     : node.op == "Mul" ? product(x, y)
                     : y.known()        ? quotient(x, y.value)
                                        : Dim());
    }
    known[out] = std::move(made);
  }
}

// A small integer result of constants only: worth knowing while inferring.
void learn(const Graph& graph, const Node& node, const OpDef& def, Known& known) {
  constexpr int64_t kSmall = 4096;
  if (!def.pure || node.domain != "" || node.has_subgraphs() || node.op == "Dropout") return;
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
    if (!t || t->size() > kSmall || t->data() == nullptr) return;
    inputs.push_back(*t);
  }
  for (ValueId v : node.outputs) {
    if (v == kAbsent) continue;
    const auto shape = known_shape(graph.values[v].dims);
    if (!shape || !checked_product(*shape) || element_count(*shape) > kSmall) return;
  }
  const auto results = evaluate_node(graph, node, inputs);
  for (size_t i = 0; i < results.size() && i < node.outputs.size(); ++i) {
    if (node.outputs[i] != kAbsent && !results[i].composite()) known[node.outputs[i]] = results[i];
  }
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
    // A name the exporter gave says more than an expression.
    if (!out[i].known() && (d.known() || out[i].symbol.empty() || (is_name(d) && !is_name(out[i])))) out[i] = d;
  }
  return out;
}

// No tensor has an axis as long as this; below it, sizes can be added up with pads and strides without leaving int64_t.
constexpr int64_t kLongestAxis = int64_t{1} << 48;

void check_axes(const Value& v) {
  if (!v.dims) return;
  for (const Dim& d : *v.dims) {
    if (d.known() && d.value > kLongestAxis)
      fail(Category::shape, "'{}' has a dim of {}; no tensor is that long, at most 2^48 is taken", v.name, d.value);
  }
}

void keep_result(Value& v, const InferContext::Result& r) {
  if (r.composite) {
    if (v.dtype != DType::undefined)
      fail(Category::type, "'{}' is declared {}, its node gives {}", v.name, to_string(v.dtype), to_string(*r.composite));
    if (!v.composite) set_type(v, *r.composite);
    return;
  }
  if (v.composite) {
    if (r.dtype != DType::undefined)
      fail(Category::type, "'{}' is declared {}, its node gives {}", v.name, to_string(*v.composite), to_string(r.dtype));
    return;
  }
  if (r.dtype != DType::undefined) {
    if (v.dtype != DType::undefined && v.dtype != r.dtype)
      fail(Category::type, "'{}' is declared {}, its node gives {}", v.name, to_string(v.dtype), to_string(r.dtype));
    v.dtype = r.dtype;
  }
  v.dims = merge(v.dims, r.dims, v.name);
  check_axes(v);
}

void add_fault(std::vector<Fault>& faults, const Fault& fault, const Graph& graph, const Node& node) {
  faults.push_back(fault);
  if (faults.back().where.empty()) faults.back().where = label(graph, node);
}

// Infers node after node. With `skip`, nodes with these labels and nodes of unknown ops have been reported already. Nothing is thrown.
std::vector<Fault> infer_nodes(Graph& graph, const std::set<std::string>* skip = nullptr) {
  std::vector<Fault> faults;
  Known known;
  KnownSizes sizes;
  const Known* outer = std::exchange(current_known, &known);
  const KnownSizes* outer_sizes = std::exchange(current_sizes, &sizes);
  for (const ValueId input : graph.inputs) {
    try {
      check_axes(graph.values[input]);
    } catch (const Error& e) {
      faults.push_back({Category::shape, "graph inputs", e.faults().front().what});
      graph.values[input].dims->assign(graph.values[input].dims->size(), Dim());  // what follows must not reckon with it
    }
  }
  for (const Node& node : graph.nodes) {
    const OpDef* def = find_op(node.domain, node.op, graph.version_of(node));
    if (def == nullptr || (skip && !skip->empty() && skip->contains(label(graph, node)))) {
      if (def == nullptr && !skip) faults.push_back({Category::unsupported, label(graph, node), "op is not known"});
      continue;
    }
    try {
      for (size_t i = 0; i < node.inputs.size(); ++i) {
        if (node.inputs[i] != kAbsent && graph.values[node.inputs[i]].composite && !def->composites) {
          fail(Category::type, "input {} ('{}') is {}, expected a tensor", i, graph.values[node.inputs[i]].name,
               to_string(*graph.values[node.inputs[i]].composite));
        }
      }
      ops::check_present(*def, node);
      InferContext context(graph, node, static_cast<int>(graph.version_of(node)));
      if (def->statement) ops::check_statement(*def->statement, context);
      def->infer(context);
      for (size_t i = 0; i < node.outputs.size(); ++i) {
        if (node.outputs[i] != kAbsent) keep_result(graph.values[node.outputs[i]], context.results()[i]);
      }
      learn(graph, node, *def, known);
      learn_sizes(graph, node, sizes);
    } catch (const Error& e) {
      for (const Fault& f : e.faults()) add_fault(faults, f, graph, node);
    } catch (const std::exception& e) {  // an empty list where one element was expected, and the like
      faults.push_back({Category::value, label(graph, node), fmt::format("malformed attributes or inputs ({})", e.what())});
    }
  }
  current_known = outer;
  current_sizes = outer_sizes;
  return faults;
}

// Functions are written out on a copy; what is learnt of the values that are there before comes back.
std::vector<Fault> infer_graph(Graph& graph, const std::set<std::string>* skip = nullptr) {
  if (graph.functions.empty()) return infer_nodes(graph, skip);
  const auto copy = deep_copy(graph);
  try {
    inline_functions(*copy);
  } catch (const Error& e) {
    return e.faults();
  }
  auto faults = infer_nodes(*copy, skip);
  for (size_t v = 0; v < graph.values.size(); ++v) {
    if (!graph.values[v].constant) set_type(graph.values[v], type_of(copy->values[v]));
  }
  return faults;
}

bool utf8(std::string_view s) {
  for (size_t i = 0; i < s.size();) {
    const auto c = static_cast<unsigned char>(s[i]);
    const int more = c < 0x80 ? 0 : c >= 0xC2 && c < 0xE0 ? 1 : c >= 0xE0 && c < 0xF0 ? 2 : c >= 0xF0 && c < 0xF5 ? 3 : -1;
    if (more < 0 || i + static_cast<size_t>(more) >= s.size()) return false;
    for (int k = 1; k <= more; ++k) {
      if ((static_cast<unsigned char>(s[i + k]) & 0xC0) != 0x80) return false;
    }
    i += static_cast<size_t>(more) + 1;
  }
  return true;
}

// The structural part of examination; goes down into subgraphs and functions.
class Examiner {
 public:
  explicit Examiner(const Graph& root) : root_(root) {}

  std::vector<Fault> run() {
    opset_faults(root_, "");
    scope(root_, {}, 0);
    std::set<std::string> called;
    for (const Function& f : root_.functions) {
      const std::string where = fmt::format("function '{}'", f.name);
      if (!called.insert(f.domain + "::" + f.name + "::" + f.overload).second)
        add(Category::value, where, "is defined twice; one of them must go");
      if (!f.defaults.empty() || !f.attributes.empty()) {
        for (const std::string& a : f.attributes) {
          if (f.defaults.contains(a))
            add(Category::value, where, fmt::format("attribute '{}' is listed as one that must be set and with a default", a));
        }
      }
      inside_ = where + ": ";
      in_function_ = true;
      opset_faults(*f.body, where);
      scope(*f.body, {}, 1);
      in_function_ = false;
      inside_.clear();
    }
    if (!unknown_.empty()) {
      std::string list;
      std::vector<std::string> known;
      for (const OpDef* d : all_ops()) known.push_back(d->domain.empty() ? d->name : d->domain + "::" + d->name);
      for (const auto& [name, count] : unknown_) {
        const std::string near = nearest(name, known);
        list += fmt::format("{}{} ({} node{}{})", list.empty() ? "" : ", ", name, count, count == 1 ? "" : "s",
                            near.empty() ? "" : "; nearest: " + near);
      }
      add(Category::unsupported, "",
          fmt::format("{} op{} not known{}: {}; register a definition with lathe::register_op, or load a library of them (the "
                      "tool: --ops FILE.so)",
                      unknown_.size(), unknown_.size() == 1 ? " is" : "s are",
                      unknown_default_ ? fmt::format(" at opset {}", root_.opset("")) : "", list));
    }
    return std::move(faults_);
  }

  const std::set<std::string>& bad_nodes() const { return bad_; }

 private:
  void add(Category c, std::string where, std::string what, bool fatal = true) {
    faults_.push_back({c, inside_ + where, std::move(what), fatal});
  }
  void add(Category c, const Graph& g, const Node& n, std::string what, bool fatal = true) {
    const std::string where = label(g, n);
    if (fatal) bad_.insert(where);
    add(c, where, std::move(what), fatal);
  }

  void opset_faults(const Graph& g, const std::string& where) {
    const auto uses_default = [](const Graph& graph, const auto& self) -> bool {
      return std::ranges::any_of(graph.nodes, [&](const Node& n) {
        bool below = n.domain.empty() && n.version == 0;
        n.each_subgraph([&](const auto& sub) { below = below || self(*sub, self); });
        return below;
      });
    };
    const int64_t opset = g.opset("");
    bad_opset_ = uses_default(g, uses_default) && (opset < kOldestOpset || opset > kNewestOpset);
    if (bad_opset_) {
      add(Category::unsupported, where,
          opset == 0
              ? std::string("the model uses the default domain but imports no opset for it; opset_import must name one")
              : fmt::format("opset {} of the default domain is not supported; versions {} to {} are", opset, kOldestOpset, kNewestOpset));
    }
    for (const auto& [domain, version] : g.opsets) {
      if (version < 1) add(Category::value, where, fmt::format("imports version {} of domain '{}'; versions start at 1", version, domain));
    }
  }

  void scope(const Graph& g, std::set<std::string> outer, int depth) {
    if (depth > 32) return add(Category::format, "", "subgraphs are nested too deeply");
    std::unordered_map<std::string, int> names;
    for (const Value& v : g.values) {
      if (v.name.empty()) continue;
      if (++names[v.name] == 2) add(Category::value, fmt::format("value '{}'", v.name), "two values have this name; names must be unique");
      if (!utf8(v.name)) add(Category::format, fmt::format("value #{}", &v - g.values.data()), "its name is not valid UTF-8");
    }
    for (const Value& v : g.values) {
      if (!v.constant || v.constant->composite()) continue;
      // Kernels go by what the value says.
      const Tensor& held = *v.constant;
      const auto said = known_shape(v.dims);
      if ((v.dtype != DType::undefined && v.dtype != held.dtype()) || (said && *said != held.shape()))
        add(Category::type, fmt::format("value '{}'", v.name),
            fmt::format("its constant is {} of {}, the value says {} of {}", to_string(held.dtype()), to_string(held.shape()),
                        to_string(v.dtype), said ? to_string(*said) : "?"));
    }
    // Where each value comes from: -1 input, constant or captured; its node's index; -2 nowhere.
    std::vector<int> source(g.values.size(), -2);
    for (size_t v = 0; v < g.values.size(); ++v) {
      if (g.values[v].constant || outer.contains(g.values[v].name)) source[v] = -1;
    }
    for (ValueId v : g.inputs) source[v] = -1;
    for (size_t n = 0; n < g.nodes.size(); ++n) {
      for (ValueId v : g.nodes[n].outputs) {
        if (v == kAbsent) continue;
        if (source[v] >= 0 || g.values[v].constant || std::ranges::count(g.inputs, v) > 0)
          add(Category::value, g, g.nodes[n],
              fmt::format("makes '{}', which is already made elsewhere; every value has one source", g.values[v].name));
        source[v] = static_cast<int>(n);
      }
    }
    std::map<std::string, int> labels;
    for (size_t n = 0; n < g.nodes.size(); ++n) {
      const Node& node = g.nodes[n];
      if (!node.name.empty() && ++labels[node.name] == 2)
        add(Category::value, fmt::format("node '{}'", node.name),
            "several nodes have this name; messages about them cannot tell them apart", false);
      if (!utf8(node.name) || !utf8(node.op)) add(Category::format, fmt::format("node #{}", n), "its name or op is not valid UTF-8");
      const auto reads = [&](ValueId v) {
        if (v == kAbsent) return;
        if (source[v] == -2)
          add(Category::value, g, node, fmt::format("reads '{}', which no input, initializer or node gives", g.values[v].name));
        else if (source[v] >= static_cast<int>(n))
          add(Category::value, g, node,
              fmt::format("reads '{}' before {} makes it; Graph::sort() puts nodes in order", g.values[v].name,
                          label(g, g.nodes[source[v]])));
      };
      for (ValueId v : node.inputs) reads(v);
      for (const Capture& c : node.captures) reads(c.value);
      definition(g, node);
      if (node.has_subgraphs()) {
        std::set<std::string> around = outer;
        for (size_t v = 0; v < g.values.size(); ++v) {
          if (source[v] != -2) around.insert(g.values[v].name);
        }
        for (const Capture& c : node.captures) around.insert(c.name);
        const std::string before = inside_;
        inside_ += label(g, node) + ": ";
        node.each_subgraph([&](const std::shared_ptr<Graph>& sub) { scope(*sub, around, depth + 1); });
        inside_ = before;
      }
    }
    std::set<ValueId> listed;
    for (ValueId v : g.outputs) {
      if (v == kAbsent) continue;
      if (source[v] == -2) add(Category::value, fmt::format("output '{}'", g.values[v].name), "is not made by any node");
      if (!listed.insert(v).second) add(Category::value, fmt::format("output '{}'", g.values[v].name), "is listed twice", false);
    }
  }

  void definition(const Graph& g, const Node& node) {
    const int in = static_cast<int>(node.inputs.size()), out = static_cast<int>(node.outputs.size());
    if (const Function* f = find_function(root_, node)) {
      if (in > static_cast<int>(f->body->inputs.size()) || out > static_cast<int>(f->body->outputs.size())) {
        add(Category::value, g, node,
            fmt::format("has {} inputs and {} outputs, function '{}' takes {} and gives {}", in, out, f->name, f->body->inputs.size(),
                        f->body->outputs.size()));
      }
      for (const std::string& a : f->attributes) {
        if (!node.attributes.contains(a))
          add(Category::value, g, node, fmt::format("attribute '{}' is missing; function '{}' asks for it", a, f->name), false);
      }
      return;
    }
    if (node.domain.empty() && node.version == 0 && bad_opset_) return;
    const int64_t version = g.version_of(node);
    const OpDef* d = find_op(node.domain, node.op, version);
    if (d == nullptr) {
      const bool elsewhere = version == 0 && find_op(node.domain, node.op, 1 << 20) != nullptr;
      if (elsewhere)
        add(Category::value, g, node, fmt::format("the model imports no version of domain '{}'; opset_import must name one", node.domain));
      else
        ++unknown_[node.domain.empty() ? node.op : node.domain + "::" + node.op],
            unknown_default_ = unknown_default_ || node.domain.empty();
      bad_.insert(label(g, node));
      return;
    }
    if (in < d->min_inputs || (d->max_inputs >= 0 && in > d->max_inputs)) {
      add(Category::value, g, node,
          fmt::format("has {} inputs, expected {}", in,
                      d->max_inputs < 0                ? fmt::format("at least {}", d->min_inputs)
                      : d->min_inputs == d->max_inputs ? std::to_string(d->min_inputs)
                                                       : fmt::format("{} to {}", d->min_inputs, d->max_inputs)));
    } else if (out < d->min_outputs || (d->max_outputs >= 0 && out > d->max_outputs)) {
      add(Category::value, g, node,
          fmt::format("has {} outputs, expected {}", out,
                      out < d->min_outputs ? fmt::format("at least {}", d->min_outputs) : fmt::format("at most {}", d->max_outputs)));
    } else {
      for (int i = 0; i < d->min_inputs; ++i) {
        if (node.inputs[i] == kAbsent) add(Category::value, g, node, fmt::format("input {} is left out, but the op needs it", i));
      }
    }
    if (d->statement && d->statement->has_attributes) attributes(g, node, d->statement->attributes);
  }

  void attributes(const Graph& g, const Node& node, const std::vector<AttributeRule>& rules) {
    for (const auto& [name, attribute] : node.attributes) {
      const auto it = std::ranges::find(rules, name, &AttributeRule::name);
      if (it == rules.end()) {
        add(Category::value, g, node, fmt::format("attribute '{}' is not one this op has; it is not used", name), false);
        continue;
      }
      if (!attribute.reference.empty()) {
        if (!in_function_)
          add(Category::value, g, node,
              fmt::format("attribute '{}' refers to '{}' of a function around it, but no function is; it must hold a value", name,
                          attribute.reference));
        continue;
      }
      const char got = kind_of(attribute.data);
      if (it->kinds.find(got) == std::string::npos)
        add(Category::type, g, node, fmt::format("attribute '{}' holds {}, expected {}", name, kind_name(got), kind_name(it->kinds[0])));
    }
    for (const AttributeRule& r : rules) {
      if (r.required && !node.attributes.contains(r.name))
        add(Category::value, g, node, fmt::format("attribute '{}' is missing; it must hold {}", r.name, kind_name(r.kinds[0])));
    }
  }

  const Graph& root_;
  std::vector<Fault> faults_;
  std::set<std::string> bad_;  // labels of nodes with fatal faults
  std::map<std::string, int> unknown_;
  std::string inside_;
  bool bad_opset_ = false, unknown_default_ = false, in_function_ = false;
};

}  // namespace

InferContext::InferContext(const Graph& graph, const Node& node, int version)
    : graph_(&graph), node_(node), version_(version), results_(node.outputs.size()) {}

InferContext::InferContext(const Node& node, int version, std::span<const Tensor> inputs)
    : tensors_(inputs), node_(node), version_(version), results_(node.outputs.size()) {
  for (const Tensor& t : inputs)
    tensor_dims_.push_back(t.empty() || t.composite() ? std::nullopt : std::optional<Dims>(Dims(t.shape().begin(), t.shape().end())));
}

int InferContext::input_count() const { return static_cast<int>(graph_ ? node_.inputs.size() : tensors_.size()); }

bool InferContext::has(int i) const { return i < input_count() && (graph_ ? node_.inputs[i] != kAbsent : !tensors_[i].empty()); }

DType InferContext::dtype(int i) const {
  return !has(i) ? DType::undefined : graph_ ? graph_->values[node_.inputs[i]].dtype : tensors_[i].dtype();
}

const std::optional<Dims>& InferContext::dims(int i) const {
  static const std::optional<Dims> none;
  return !has(i) ? none : graph_ ? graph_->values[node_.inputs[i]].dims : tensor_dims_[i];
}

int InferContext::rank(int i) const { return dims(i) ? static_cast<int>(dims(i)->size()) : -1; }

Type InferContext::type(int i) const {
  if (!has(i)) return {};
  if (graph_) return type_of(graph_->values[node_.inputs[i]]);
  Type t;
  constexpr Type::Kind kKinds[]{Type::Kind::tensor, Type::Kind::sequence, Type::Kind::optional, Type::Kind::map};
  t.kind = kKinds[static_cast<size_t>(tensors_[i].kind())];
  if (tensors_[i].composite()) {
    if (t.kind != Type::Kind::map) t.inner.emplace_back();
    return t;
  }
  t.dtype = tensors_[i].dtype();
  t.dims = tensor_dims_[i];
  return t;
}

const Tensor* InferContext::constant(int i) const {
  if (!has(i)) return nullptr;
  return graph_ ? known_constant(*graph_, node_.inputs[i]) : tensors_[i].composite() ? nullptr : &tensors_[i];
}

std::optional<std::vector<int64_t>> InferContext::integers(int i) const {
  const Tensor* t = constant(i);
  if (!t) return std::nullopt;
  return lathe::integers(*t);
}

std::optional<Dims> InferContext::sizes(int i) const {
  if (!has(i)) return std::nullopt;
  return graph_ ? known_sizes(*graph_, node_.inputs[i]) : sizes_in(tensors_[i]);
}

void InferContext::set(int output, DType dtype, std::optional<Dims> dims) {
  if (output < output_count()) results_[output] = {dtype, std::move(dims), std::nullopt};
}

void InferContext::set_type(int output, Type type) {
  if (type.kind == Type::Kind::tensor) set(output, type.dtype, std::move(type.dims));
  else if (output < output_count()) results_[output] = {DType::undefined, std::nullopt, std::move(type)};
}

std::vector<Type> InferContext::infer_body(std::string_view attribute, std::span<const Type> inputs) const {
  const auto* body = node_.find<std::shared_ptr<Graph>>(attribute);
  if (body == nullptr) fail(Category::value, fmt::format("attribute '{}' must hold a graph", attribute));
  if (graph_ == nullptr) fail(Category::internal, "subgraphs are inferred in their graph only");
  if (inputs.size() != (*body)->inputs.size())
    fail(Category::value,
         fmt::format("the graph '{}' takes {} inputs, the node gives it {}", attribute, (*body)->inputs.size(), inputs.size()));
  if (inference_depth > 40) fail(Category::resource, "subgraphs are nested too deeply");
  Graph scope = **body;  // types found here hold for these inputs only
  for (size_t i = 0; i < inputs.size(); ++i) {
    Value& v = scope.values[scope.inputs[i]];
    const Type declared = type_of(v);
    if (inputs[i].kind != Type::Kind::tensor) {
      lathe::set_type(v, inputs[i]);
      continue;
    }
    if (inputs[i].dtype != DType::undefined && declared.dtype != DType::undefined && inputs[i].dtype != declared.dtype)
      fail(Category::type, fmt::format("the graph '{}' declares its input '{}' {}, the node gives {}", attribute, v.name,
                                       to_string(declared.dtype), to_string(inputs[i].dtype)));
    if (inputs[i].dtype != DType::undefined) v.dtype = inputs[i].dtype;
    v.dims = inputs[i].dims;  // what is declared there may be one trip's size only
  }
  for (ValueId free : free_values(scope)) {
    Value& v = scope.values[free];
    const auto it = std::ranges::find(node_.captures, v.name, &Capture::name);
    if (it == node_.captures.end() || it->value == kAbsent) continue;
    lathe::set_type(v, type_of(graph_->values[it->value]));
    if (const Tensor* t = known_constant(*graph_, it->value)) v.constant = *t;
  }
  ++inference_depth;
  const auto faults = infer_nodes(scope);
  --inference_depth;
  if (!faults.empty()) throw Error(faults);
  std::vector<Type> out;
  for (ValueId v : scope.outputs) out.push_back(type_of(scope.values[v]));
  return out;
}

void InferContext::fail(Category category, const std::string& what) const {
  throw Error({{category, graph_ ? label(*graph_, node_) : std::string(), what}});
}

void infer(Graph& graph) {
  auto faults = infer_graph(graph);
  if (!faults.empty()) throw Error(std::move(faults));
}

std::vector<Fault> examine_and_infer(Graph& graph) {
  Examiner examiner(graph);
  auto faults = examiner.run();
  for (Fault& f : infer_graph(graph, &examiner.bad_nodes())) faults.push_back(std::move(f));
  return faults;
}

std::vector<Fault> examine(const Graph& graph) {
  const auto copy = deep_copy(graph);
  return examine_and_infer(*copy);
}

void check(const Graph& graph) {
  auto faults = Examiner(graph).run();
  std::erase_if(faults, [](const Fault& f) { return !f.fatal; });
  if (!faults.empty()) throw Error(std::move(faults));
}

}  // namespace lathe
