// A model whose values are halves, activations too.
#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/fail.hpp"
#include "lathe/op.hpp"
#include "lathe/shaping.hpp"
#include "narrow/observe.hpp"
#include "narrow/weights.hpp"
#include "passes/rewriter.hpp"
#include "tensor/numbers.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

class Halver {
 public:
  Halver(Graph& graph, DType to) : g(graph), to_(to), limit_(to == DType::f16 ? 65504.0 : 3.38e38) {}

  NarrowReport run(const Calibration* calibration) {
    report_.bytes_before = narrowing::initializer_bytes(g);
    if (calibration) find_overflow(*calibration);
    for (size_t v = 0; v < g.values.size(); ++v) was_wide_.push_back(g.values[v].dtype == DType::f32);
    for (size_t v = 0; v < was_wide_.size(); ++v) constant(static_cast<ValueId>(v));
    std::vector<Node> nodes;
    nodes.swap(g.nodes);
    for (ValueId v : g.inputs) {
      if (was_wide_[static_cast<size_t>(v)]) inside_[v] = kAbsent;  // cast when a half is wanted
    }
    // What subgraphs compute stays f32, and so does what they read and give; their weights are kept as halves.
    for (Node& n : nodes) node(std::move(n));
    for (ValueId& v : g.outputs) give_wide(v);
    narrowing::halve_bodies(g, to_, inside_, report_);
    passes::remove_dead(g);
    report_.bytes_after = narrowing::initializer_bytes(g);
    return std::move(report_);
  }

 private:
  bool wide(ValueId v) const { return v != kAbsent && static_cast<size_t>(v) < was_wide_.size() && was_wide_[static_cast<size_t>(v)]; }

  void find_overflow(const Calibration& c) {
    std::vector<ValueId> values;
    for (const Node& n : g.nodes) {
      for (ValueId v : n.outputs) {
        if (v != kAbsent && g.values[static_cast<size_t>(v)].dtype == DType::f32) values.push_back(v);
      }
    }
    std::vector<double> most(values.size(), 0);
    narrowing::observe(g, values, c, "what overflows", [&](size_t, size_t i, const Tensor& t) {
      for (float x : t.as<float>()) most[i] = std::max(most[i], std::isfinite(x) ? std::fabs(static_cast<double>(x)) : 0.0);
    });
    const auto makers = g.producers();
    for (size_t i = 0; i < values.size(); ++i) {
      if (most[i] <= limit_) continue;
      kept_.insert(values[i]);
      const Node& n = g.nodes[static_cast<size_t>(makers[static_cast<size_t>(values[i])])];
      report_.left.emplace_back(
          n.name.empty() ? n.op : n.name,
          fmt::format("{:.6g} was met, beyond the largest {} ({:.6g}): its result stays f32", most[i], to_string(to_), limit_));
    }
  }

  void constant(ValueId v) {
    Value& value = g.values[static_cast<size_t>(v)];
    if (!value.constant || value.dtype != DType::f32 || std::ranges::any_of(g.defaults, [&](const Default& d) { return d.value == v; }))
      return;
    const auto numbers = widen<double>(*value.constant);
    const auto beyond = std::ranges::find_if(numbers, [&](double x) { return std::isfinite(x) && std::fabs(x) > limit_; });
    if (beyond != numbers.end()) {
      report_.left.emplace_back(value.name, fmt::format("{:.6g} is beyond the largest {}", *beyond, to_string(to_)));
      kept_.insert(v);
      return;
    }
    const Tensor half = narrow<double>(to_, value.constant->shape(), numbers);
    const auto back = widen<double>(half);
    double signal = 0, noise = 0;
    for (size_t i = 0; i < numbers.size(); ++i) {
      if (!std::isfinite(numbers[i])) continue;
      signal += numbers[i] * numbers[i], noise += (numbers[i] - back[i]) * (numbers[i] - back[i]);
    }
    halves_[v] = {half, noise > 0 ? 10 * std::log10(signal / noise) : std::numeric_limits<double>::infinity()};
  }

  ValueId fresh(const std::string& name, DType dtype, const std::optional<Dims>& dims) {
    Value v;
    v.name = passes::unused_name(g, name);
    v.dtype = dtype;
    v.dims = dims;
    return g.add_value(std::move(v));
  }
  void cast(ValueId from, ValueId into, DType type) {
    Node n;
    n.op = "Cast";
    n.name = g.values[static_cast<size_t>(into)].name + ".cast";
    n.inputs = {from};
    n.outputs = {into};
    n.attributes["to"].data = int64_t{number_of_dtype(type)};
    g.nodes.push_back(std::move(n));
  }
  // A value of the model as a half. Values that are not kept wide are made so; inputs are cast, once.
  ValueId half_of(ValueId v) {
    if (!wide(v) || kept_.contains(v)) return v;
    if (const auto it = halves_.find(v); it != halves_.end()) {
      if (const auto made = inside_.find(v); made != inside_.end()) return made->second;
      const auto& [half, ratio] = it->second;
      const std::string name = g.values[static_cast<size_t>(v)].name;
      const ValueId h = fresh(name + ".half", to_, Dims(half.shape().begin(), half.shape().end()));
      g.values[static_cast<size_t>(h)].constant = half;
      constexpr int64_t kTold = 256;  // smaller ones would fill the table
      if (half.size() >= kTold)
        report_.weights.push_back(
            {name, "", half.shape(), half.size() * static_cast<int64_t>(sizeof(float)), static_cast<int64_t>(half.byte_size()), ratio});
      return inside_[v] = h;
    }
    const auto it = inside_.find(v);
    if (it != inside_.end() && it->second != kAbsent) return it->second;
    if (g.values[static_cast<size_t>(v)].constant && it == inside_.end()) return v;  // a default: as the caller gives it
    const ValueId h = fresh(g.values[static_cast<size_t>(v)].name + ".half", to_, g.values[static_cast<size_t>(v)].dims);
    cast(v, h, to_);
    return inside_[v] = h;
  }
  // As f32: what is there only as a half is cast, once.
  ValueId wide_of(ValueId v) {
    if (!only_half_.contains(v)) return v;
    auto [it, first] = widened_.try_emplace(v, kAbsent);
    if (first) {
      it->second = v;
      cast(inside_.at(v), v, DType::f32);
    }
    return it->second;
  }

  void node(Node n) {
    Node half = n;
    bool possible = !n.has_subgraphs() && n.captures.empty();
    for (ValueId& v : half.inputs) {
      if (v == kAbsent) continue;
      possible = possible && !(wide(v) && kept_.contains(v));
    }
    for (ValueId v : n.outputs) possible = possible && !(v != kAbsent && kept_.contains(v));
    if (possible) {
      for (ValueId& v : half.inputs) {
        if (v != kAbsent) v = half_of(v);
      }
      if (half.op == "Cast" && half.integer("to", 0) == number_of_dtype(DType::f32))
        half.attributes["to"].data = int64_t{number_of_dtype(to_)};
      possible = takes(half);
    }
    if (!possible) {
      for (ValueId& v : n.inputs) {
        if (v != kAbsent) v = wide_of(v);
      }
      for (const Capture& c : n.captures) (void)wide_of(c.value);
      g.nodes.push_back(std::move(n));
      return;
    }
    for (ValueId& v : half.outputs) {
      if (!wide(v)) continue;
      const ValueId h = fresh(g.values[static_cast<size_t>(v)].name + ".half", to_, g.values[static_cast<size_t>(v)].dims);
      inside_[v] = h;
      only_half_.insert(v);
      v = h;
    }
    g.nodes.push_back(std::move(half));
  }
  // Whether the op takes these inputs, and gives halves for what was f32.
  bool takes(const Node& n) const {
    try {
      const auto results = passes::inferred(g, n);
      if (!results) return false;
      for (size_t i = 0; i < n.outputs.size() && i < results->size(); ++i) {
        if (wide(n.outputs[i]) && (*results)[i].dtype != to_) return false;
      }
      return true;
    } catch (const Error&) {
      return false;
    }
  }
  // Results of the model are f32 as before, under their names.
  void give_wide(ValueId& v) { v = wide_of(v); }

  Graph& g;
  DType to_;
  double limit_;
  NarrowReport report_;
  std::vector<bool> was_wide_;
  std::set<ValueId> kept_;                               // stay f32
  std::map<ValueId, std::pair<Tensor, double>> halves_;  // constants, and their signal to noise in decibels
  std::map<ValueId, ValueId> inside_;                    // the half of a value
  std::set<ValueId> only_half_;                          // made as halves; f32 by a Cast where somebody wants it
  std::map<ValueId, ValueId> widened_;
};

}  // namespace

NarrowReport halve_model(Graph& graph, DType to, const Calibration* calibration) {
  if (to != DType::f16 && to != DType::bf16) fail(Category::value, "a model cannot be halved to {}; f16 and bf16 can", to_string(to));
  const auto whole = deep_copy(graph);
  Graph& g = *whole;
  if (!g.functions.empty()) inline_functions(g);
  if (g.opset("") < 13) convert_opset(g, 13);
  infer(g);
  NarrowReport report = Halver(g, to).run(calibration && calibration->items > 0 ? calibration : nullptr);
  check(g);
  infer(g);
  graph = std::move(g);
  return report;
}

}  // namespace lathe
