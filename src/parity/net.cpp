#include "parity/net.hpp"

#include <algorithm>
#include <cmath>

#include "base/fail.hpp"
#include "lathe/shaping.hpp"
#include "tensor/widen.hpp"

namespace lathe::parting {

Net::Net(const Graph& model, CompileOptions& options) {
  graph_ = std::move(*deep_copy(model));
  open_defaults(graph_, options.given);
  options.given.clear();
  inline_functions(graph_);
  graph_.functions.clear();
  if (!options.outputs.empty()) cut(graph_, {}, options.outputs);
  options.outputs.clear();
  maker_ = graph_.producers();
  depth_.assign(graph_.values.size(), 0);
  for (size_t n = 0; n < graph_.nodes.size(); ++n) {
    int deepest = 0;
    for (ValueId v : reads(static_cast<int>(n))) deepest = std::max(deepest, depth_[static_cast<size_t>(v)]);
    for (ValueId v : graph_.nodes[n].outputs) {
      if (v != kAbsent) depth_[static_cast<size_t>(v)] = deepest + 1;
    }
  }
  for (size_t v = 0; v < graph_.values.size(); ++v) by_name_.emplace(graph_.values[v].name, static_cast<ValueId>(v));
}

ValueId Net::find(const std::string& name) const {
  const auto it = by_name_.find(name);
  return it == by_name_.end() ? kAbsent : it->second;
}

std::string Net::model_name(const std::string& made) const {
  constexpr std::string_view kWide = ".f32";
  if (by_name_.contains(made) || !made.ends_with(kWide)) return made;
  const std::string narrow = made.substr(0, made.size() - kWide.size());
  return by_name_.contains(narrow) ? narrow : made;
}

std::vector<ValueId> Net::reads(int node) const {
  std::vector<ValueId> out;
  const auto take = [&](ValueId v) {
    if (v != kAbsent && !graph_.values[static_cast<size_t>(v)].constant && std::ranges::find(out, v) == out.end()) out.push_back(v);
  };
  const Node& n = graph_.nodes[static_cast<size_t>(node)];
  for (ValueId v : n.inputs) take(v);
  for (const Capture& c : n.captures) take(c.value);
  return out;
}

Net::Segment Net::segment(ValueId target, const std::function<bool(ValueId)>& known) const {
  Segment s;
  std::set<int> nodes;
  std::set<ValueId> from;
  std::vector<ValueId> open{target};
  while (!open.empty()) {
    const ValueId v = open.back();
    open.pop_back();
    const int n = maker(v);
    if (n < 0 || (v != target && known(v))) {
      from.insert(v);
      continue;
    }
    if (!nodes.insert(n).second) continue;
    for (ValueId r : reads(n)) open.push_back(r);
  }
  s.nodes.assign(nodes.begin(), nodes.end());
  s.from.assign(from.begin(), from.end());
  return s;
}

Graph Net::extract(const Segment& s) const {
  Graph g = graph_;
  std::vector<std::string> inputs, outputs;
  for (ValueId v : s.from) inputs.push_back(name(v));
  for (int n : s.nodes) {
    for (ValueId v : graph_.nodes[static_cast<size_t>(n)].outputs) {
      if (v != kAbsent && std::ranges::find(s.from, v) == s.from.end()) outputs.push_back(name(v));
    }
  }
  cut(g, inputs, outputs);
  return g;
}

namespace {

bool codes(DType t) { return !is_float(t) && t != DType::boolean && t != DType::string && !is_complex(t) && bit_width(t) <= 8; }

}  // namespace

double error_of(const Tensor& got, const Tensor& expected, int64_t steps) {
  if (got.composite() && got.kind() == expected.kind() && got.items().size() == expected.items().size()) {
    double worst = 0;
    for (size_t i = 0; i < got.items().size(); ++i) worst = std::max(worst, error_of(got.items()[i], expected.items()[i], steps));
    return worst;
  }
  if (got.composite() || expected.composite() || got.shape() != expected.shape()) return INFINITY;
  if (got.size() == 0) return 0;
  if (got.dtype() == DType::string || expected.dtype() == DType::string || is_complex(got.dtype())) return identical(got, expected) ? 0 : 1;
  if (!is_float(got.dtype()) || !is_float(expected.dtype())) {
    const auto a = widen<int64_t>(got), b = widen<int64_t>(expected);
    const int64_t same = codes(got.dtype()) ? steps : 0;
    int64_t differ = 0;
    for (size_t i = 0; i < a.size(); ++i) differ += a[i] != b[i] && (same == 0 || std::abs(a[i] - b[i]) > same);
    return static_cast<double>(differ) / static_cast<double>(a.size());
  }
  const auto a = widen<double>(got), b = widen<double>(expected);
  double off = 0, whole = 0;
  for (size_t i = 0; i < a.size(); ++i) {
    if (a[i] == b[i] || (std::isnan(a[i]) && std::isnan(b[i]))) {
      if (std::isfinite(b[i])) whole += b[i] * b[i];
      continue;
    }
    if (!std::isfinite(a[i]) || !std::isfinite(b[i])) return INFINITY;
    off += (a[i] - b[i]) * (a[i] - b[i]);
    whole += b[i] * b[i];
  }
  if (off == 0) return 0;
  return whole == 0 ? INFINITY : std::sqrt(off / whole);
}

double floor_of(DType dtype) {
  switch (dtype) {
    case DType::f64: return 1e-14;
    case DType::f16: return 1e-3;
    case DType::bf16: return 8e-3;
    case DType::f32: return 1e-6;
    default: return is_float(dtype) ? 0.1 : 0;
  }
}

Tensor as_type(const Tensor& t, DType dtype) {
  if (t.kind() == Kind::sequence || t.kind() == Kind::optional) {
    std::vector<Tensor> items;
    for (const Tensor& item : t.items()) items.push_back(as_type(item, dtype));
    if (t.kind() == Kind::sequence) return Tensor::sequence(std::move(items));
    return Tensor::optional(items.empty() ? std::nullopt : std::optional(items[0]));
  }
  if (t.composite() || t.dtype() == dtype || !is_float(t.dtype()) || !is_float(dtype)) return t;
  return narrow<double>(dtype, t.shape(), widen<double>(t));
}

Comparison compare_value(const std::string& name, const Tensor& got, const Tensor& expected, const Tolerances& tolerances, int64_t steps) {
  std::optional<Tolerance> asked = tolerances.of(name, got.dtype());
  if (!asked && steps > 0 && codes(got.dtype())) asked = Tolerance{static_cast<double>(steps), 0, 0};
  if (got.composite()) {
    const Tensor* leaf = &got;
    while (leaf->composite() && !leaf->items().empty()) leaf = &leaf->items()[0];
    return compare(name, got, leaf->composite() ? expected : as_type(expected, leaf->dtype()), asked);
  }
  if (!is_float(got.dtype()) || !is_float(expected.dtype()) || got.shape() != expected.shape()) return compare(name, got, expected, asked);
  Tolerance t = tolerance_for(got.dtype(), asked);
  if (!asked || asked->absolute < 0) {
    double squares = 0;
    for (double x : widen<double>(expected)) squares += std::isfinite(x) ? x * x : 0;
    t.absolute = std::max(t.absolute, 0.1 * t.relative * std::sqrt(squares / std::max<double>(1, static_cast<double>(expected.size()))));
  }
  return compare(name, got, as_type(expected, got.dtype()), t);
}

Watched::Watched(const RunOptions& run, const EvalLimits& limits) : run_(run), start_(std::chrono::steady_clock::now()), limits_(limits) {
  limits_.pulse_context = this;
  limits_.pulse = [](void* context) {
    const auto& w = *static_cast<Watched*>(context);
    if (w.run_.stop.stop_requested()) fail(Category::cancelled, "plain evaluation was cancelled");
    if (w.run_.limit.count() > 0 && std::chrono::steady_clock::now() - w.start_ > w.run_.limit)
      fail(Category::cancelled, "plain evaluation passed its limit of {:.3f} s", std::chrono::duration<double>(w.run_.limit).count());
  };
}

Exact::Exact(const Graph& written_out, std::span<const Tensor> inputs, const RunOptions& run, const EvalLimits& limits)
    : graph_(in_double(written_out)), run_(run), limits_(limits) {
  if (inputs.size() != graph_.inputs.size())
    fail(Category::value, "the model takes {} inputs, got {}", graph_.inputs.size(), inputs.size());
  for (size_t i = 0; i < inputs.size(); ++i) {
    const Value& v = graph_.values[static_cast<size_t>(graph_.inputs[i])];
    inputs_.push_back(v.dtype == DType::f64 || v.composite ? as_type(inputs[i], DType::f64) : inputs[i]);
  }
}

std::map<std::string, Tensor> Exact::values(const std::vector<std::string>& names) {
  Graph g = graph_;
  g.outputs.clear();
  for (const std::string& name : names) g.outputs.push_back(g.find_value(name));
  // Only what these need.
  std::vector<bool> needed(g.values.size(), false);
  for (ValueId v : g.outputs) needed[static_cast<size_t>(v)] = true;
  std::vector<bool> kept(g.nodes.size(), false);
  for (size_t n = g.nodes.size(); n-- > 0;) {
    const Node& node = g.nodes[n];
    kept[n] = std::ranges::any_of(node.outputs, [&](ValueId v) { return v != kAbsent && needed[static_cast<size_t>(v)]; });
    if (!kept[n]) continue;
    for (ValueId v : node.inputs) {
      if (v != kAbsent) needed[static_cast<size_t>(v)] = true;
    }
    for (const Capture& c : node.captures) {
      if (c.value != kAbsent) needed[static_cast<size_t>(c.value)] = true;
    }
  }
  std::vector<Node> nodes;
  for (size_t n = 0; n < g.nodes.size(); ++n) {
    if (kept[n]) nodes.push_back(std::move(g.nodes[n]));
  }
  g.nodes = std::move(nodes);
  const Watched watched(run_, limits_);
  auto results = evaluate_plain(g, inputs_, watched.limits());
  ++runs_;
  std::map<std::string, Tensor> out;
  for (size_t i = 0; i < names.size(); ++i) out[names[i]] = std::move(results[i]);
  return out;
}

void refuse_random(const Graph& graph) {
  for (const Node& n : graph.nodes) {
    const OpDef* d = find_op(n.domain, n.op, graph.version_of(n));
    if (d != nullptr && !d->pure)
      fail(Category::unsupported, "{} gives another result each time: there is nothing to hold values against", label(graph, n));
    n.each_subgraph([](const auto& sub) { refuse_random(*sub); });
  }
}

}  // namespace lathe::parting
