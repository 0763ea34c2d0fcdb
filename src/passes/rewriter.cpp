#include "passes/rewriter.hpp"

#include <algorithm>
#include <cmath>

#include "base/fail.hpp"
#include "lathe/op.hpp"
#include "ops/operands.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {

std::optional<std::vector<InferContext::Result>> inferred(const Graph& graph, const Node& node) {
  const OpDef* def = find_op(node.domain, node.op, graph.version_of(node));
  if (def == nullptr) return std::nullopt;
  InferContext context(graph, node, static_cast<int>(graph.version_of(node)));
  try {
    if (def->statement) ops::check_statement(*def->statement, context);
    def->infer(context);
  } catch (const std::exception&) {
    return std::nullopt;  // it would be reported as a fault of the model
  }
  return context.results();
}

// Passes run more than once, so a name of theirs may be there already.
std::string unused_name(const Graph& graph, const std::string& name) {
  std::string free = name;
  for (int i = 2; graph.find_value(free) != kAbsent; ++i) free = fmt::format("{}.{}", name, i);
  return free;
}

Rewriter::Rewriter(Graph& graph, std::string pass) : graph_(graph), report_{std::move(pass), {}}, made_(graph.producers()) {
  for (const auto& list : graph.consumers()) readers_.push_back(static_cast<int>(list.size()));
  for (ValueId v : graph.outputs) ++readers_[v];
}

int Rewriter::maker(ValueId v, std::string_view op) const {
  if (v == kAbsent || static_cast<size_t>(v) >= made_.size() || made_[v] < 0) return -1;
  const Node& n = graph_.nodes[made_[v]];
  return n.domain.empty() && n.op == op && n.outputs[0] == v ? made_[v] : -1;
}

const Tensor* Rewriter::constant(ValueId v) const {
  if (v == kAbsent || !graph_.values[v].constant) return nullptr;
  const Tensor& t = *graph_.values[v].constant;
  return t.composite() || (t.data() == nullptr && t.size() > 0) ? nullptr : &t;
}

std::optional<double> Rewriter::scalar(ValueId v) const {
  const Tensor* t = constant(v);
  if (!t || t->size() != 1 || t->dtype() == DType::string || !is_float(t->dtype())) return std::nullopt;
  return widen<double>(*t)[0];
}

bool Rewriter::is_scalar(ValueId v, double wanted) const {
  const auto s = scalar(v);
  // Exporters round such numbers to the precision of their own.
  return s && std::fabs(*s - wanted) <= 1e-4 * std::fabs(wanted);
}

std::optional<ValueId> Rewriter::beside(int n, double wanted) const {
  const auto& in = graph_.nodes[n].inputs;
  if (in.size() != 2) return std::nullopt;
  if (is_scalar(in[1], wanted)) return in[0];
  if (is_scalar(in[0], wanted)) return in[1];
  return std::nullopt;
}

std::optional<Shape> Rewriter::shape(ValueId v) const { return v == kAbsent ? std::nullopt : known_shape(graph_.values[v].dims); }

std::optional<std::vector<int64_t>> Rewriter::integers(ValueId v) const {
  const Tensor* t = constant(v);
  if (!t || (t->dtype() != DType::i64 && t->dtype() != DType::i32)) return std::nullopt;
  return widen<int64_t>(*t);
}

bool Rewriter::is_output(ValueId v) const { return std::find(graph_.outputs.begin(), graph_.outputs.end(), v) != graph_.outputs.end(); }

std::optional<std::vector<int64_t>> Rewriter::axes(int n) const {
  const Node& node = graph_.nodes[n];
  const auto& dims = graph_.values[node.inputs[0]].dims;
  if (!dims) return std::nullopt;
  std::vector<int64_t> axes;
  if (!ops::axes_are_input(node.op, graph_.version_of(node))) axes = node.integers("axes");
  if (node.inputs.size() > 1 && node.inputs[1] != kAbsent) {
    const auto given = integers(node.inputs[1]);
    if (!given) return std::nullopt;
    axes = *given;
  }
  if (axes.empty()) return std::nullopt;
  axes = ops::wrap_axes(axes, static_cast<int64_t>(dims->size()));
  std::sort(axes.begin(), axes.end());
  return axes;
}

ValueId Rewriter::add_constant(const std::string& name, Tensor t) {
  Value v;
  v.name = unused_name(graph_, name);
  v.dtype = t.dtype();
  v.dims = Dims(t.shape().begin(), t.shape().end());
  v.constant = std::move(t);
  made_.push_back(-1);
  readers_.push_back(0);
  return graph_.add_value(std::move(v));
}

bool Rewriter::agrees(const Node& node) const {
  if (std::ranges::any_of(node.inputs, [&](ValueId v) { return refused_.contains(v); })) return false;
  const auto results = inferred(graph_, node);
  if (!results) return false;
  for (size_t i = 0; i < node.outputs.size(); ++i) {
    if (node.outputs[i] == kAbsent) continue;
    const Value& v = graph_.values[node.outputs[i]];
    const auto& made = (*results)[i];
    if (!v.dims || !made.dims || v.composite || made.dtype != v.dtype || *v.dims != *made.dims) return false;
  }
  return true;
}

bool Rewriter::become(int n, std::string op, int64_t version, std::vector<ValueId> inputs, std::map<std::string, Attribute> attributes,
                      const std::vector<int>& inside) {
  Node wanted;
  wanted.op = op;
  wanted.version = version;
  wanted.inputs = inputs;
  wanted.attributes = attributes;
  wanted.outputs = {graph_.nodes[n].outputs[0]};
  if (!agrees(wanted)) return false;
  Node& node = graph_.nodes[n];
  std::vector<std::string> merged;
  const auto say = [&](const Node& from) { merged.push_back(from.name.empty() ? from.op : from.name + " (" + from.op + ")"); };
  for (int i : inside) {
    if (i == n || i < 0) continue;
    say(graph_.nodes[i]);
    merged.insert(merged.end(), graph_.nodes[i].merged.begin(), graph_.nodes[i].merged.end());
  }
  say(node);
  node.op = std::move(op);
  node.domain.clear();
  node.version = version;
  node.inputs = std::move(inputs);
  node.attributes = std::move(attributes);
  node.outputs.resize(1);
  std::sort(merged.begin(), merged.end());
  merged.erase(std::unique(merged.begin(), merged.end()), merged.end());
  node.merged.insert(node.merged.end(), merged.begin(), merged.end());
  report_.changes.push_back(fmt::format("{} made of {}", label(graph_, node), fmt::join(merged, ", ")));
  return true;
}

ValueId Rewriter::before(int n, std::string op, int64_t version, std::vector<ValueId> inputs, std::map<std::string, Attribute> attributes,
                         DType dtype, Dims dims) {
  return before(n, std::move(op), version, std::move(inputs), std::move(attributes), dtype,
                std::vector<std::optional<Dims>>{std::move(dims)})[0];
}

std::vector<ValueId> Rewriter::before(int n, std::string op, int64_t version, std::vector<ValueId> inputs,
                                      std::map<std::string, Attribute> attributes, DType dtype,
                                      const std::vector<std::optional<Dims>>& dims) {
  Node added;
  added.name = fmt::format("{}.{}", graph_.nodes[n].name.empty() ? graph_.nodes[n].op : graph_.nodes[n].name, op);
  added.op = std::move(op);
  added.version = version;
  added.inputs = std::move(inputs);
  added.attributes = std::move(attributes);
  for (const auto& d : dims) {
    if (!d) {
      added.outputs.push_back(kAbsent);
      continue;
    }
    Value v;
    v.name = unused_name(graph_, graph_.values[graph_.nodes[n].outputs[0]].name + ".before");
    v.dtype = dtype;
    v.dims = d;
    made_.push_back(-1);
    readers_.push_back(1);
    added.outputs.push_back(graph_.add_value(std::move(v)));
  }
  if (!agrees(added)) refused_.insert(added.outputs.begin(), added.outputs.end());
  refused_.erase(kAbsent);
  added_.emplace_back(n, std::move(added));
  return added_.back().second.outputs;
}

Report Rewriter::finish() {
  std::stable_sort(added_.begin(), added_.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  if (!added_.empty()) {
    std::vector<Node> nodes;
    size_t next = 0;
    for (size_t n = 0; n < graph_.nodes.size(); ++n) {
      for (; next < added_.size() && added_[next].first == static_cast<int>(n); ++next) nodes.push_back(std::move(added_[next].second));
      nodes.push_back(std::move(graph_.nodes[n]));
    }
    graph_.nodes = std::move(nodes);
  }
  return std::move(report_);
}

}  // namespace lathe::passes
