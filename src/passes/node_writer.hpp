// What passes that write nodes out as several others share: values and nodes under names of the node they stand for.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <numeric>
#include <optional>
#include <string>
#include <vector>

#include "lathe/op.hpp"
#include "ops/support.hpp"
#include "passes/rewriter.hpp"
#include "tensor/numbers.hpp"

namespace lathe::passes {

using Attributes = std::map<std::string, Attribute>;

inline Attribute attribute(Attribute::Data data) {
  Attribute a;
  a.data = std::move(data);
  return a;
}

class NodeWriter {
 public:
  using List = std::vector<int64_t>;
  explicit NodeWriter(Graph& graph) : graph_(graph) {}

  // Calls f with each node, which writes it out and says how, or gives "" and leaves it alone.
  template <typename F>
  Report run(std::string pass, F f) {
    Report report{std::move(pass), {}};
    std::vector<Node> nodes;
    nodes.swap(graph_.nodes);
    for (Node& n : nodes) {
      const size_t before = out_.size();
      std::string how;
      try {
        how = f(n);
      } catch (const Error&) {  // what is wrong with it is reported by who evaluates it
      }
      if (!how.empty()) {
        report.changes.push_back(fmt::format("{}: {}", label(graph_, n), how));
      } else {
        out_.resize(before);
        out_.push_back(std::move(n));
      }
    }
    graph_.nodes = std::move(out_);
    return report;
  }

 protected:
  std::optional<int64_t> rank(ValueId v) const {
    const auto& dims = graph_.values[static_cast<size_t>(v)].dims;
    return dims ? std::optional(static_cast<int64_t>(dims->size())) : std::nullopt;
  }
  std::optional<Shape> shape(ValueId v) const {
    return v == kAbsent ? std::nullopt : known_shape(graph_.values[static_cast<size_t>(v)].dims);
  }
  static bool has(const Node& n, size_t i) { return i < n.inputs.size() && n.inputs[i] != kAbsent; }
  DType dtype(ValueId v) const { return v == kAbsent ? DType::undefined : graph_.values[static_cast<size_t>(v)].dtype; }
  // Of a reduction, wrapped and sorted; all of them where it names none. Nothing when a run decides on them, or nothing is reduced.
  std::optional<List> reduced_axes(const Node& n) const {
    List axes = ops::axes_are_input(n.op, graph_.version_of(n)) ? List() : n.integers("axes");
    if (n.inputs.size() > 1 && n.inputs[1] != kAbsent) {
      const auto& c = graph_.values[static_cast<size_t>(n.inputs[1])].constant;
      if (!c || c->data() == nullptr) return std::nullopt;
      axes = lathe::integers(*c);
    }
    const int64_t ranks = *rank(n.inputs[0]);
    if (axes.empty() && n.integer("noop_with_empty_axes", 0) != 0) return std::nullopt;
    if (axes.empty()) {
      axes.resize(static_cast<size_t>(ranks));
      std::iota(axes.begin(), axes.end(), 0);
    }
    axes = ops::wrap_axes(axes, ranks);
    std::ranges::sort(axes);
    return axes;
  }
  ValueId add(const std::string& name, DType type) {
    Value v;
    v.name = unused_name(graph_, name);
    v.dtype = type;
    return graph_.add_value(std::move(v));
  }
  ValueId constant(const std::string& name, Tensor t) {
    const ValueId v = add(name, t.dtype());
    Value& value = graph_.values[static_cast<size_t>(v)];
    value.dims = Dims(t.shape().begin(), t.shape().end());
    value.constant = std::move(t);
    return v;
  }
  ValueId integers(const std::string& name, const List& list) {
    return constant(name, Tensor::from<int64_t>({static_cast<int64_t>(list.size())}, list));
  }
  // A number of the type in hand.
  ValueId number(const Node& of, double v) {
    return constant(of.name + ".number",
                    type_ == DType::f64 ? Tensor::from<double>({}, {v}) : Tensor::from<float>({}, {static_cast<float>(v)}));
  }
  // A node that stands for a part of `of`; makes `to`, or a value of its own, of the type in hand unless it says another.
  ValueId put(const Node& of, const std::string& op, int64_t version, std::vector<ValueId> inputs, Attributes attributes = {},
              ValueId to = kAbsent, DType type = DType::undefined) {
    Node n;
    n.op = op;
    n.name = fmt::format("{}.{}", of.name.empty() ? of.op : of.name, op);
    n.version = version;
    n.module = of.module;
    n.inputs = std::move(inputs);
    n.attributes = std::move(attributes);
    n.outputs = {to != kAbsent ? to : add(n.name, type == DType::undefined ? type_ : type)};
    out_.push_back(std::move(n));
    return out_.back().outputs[0];
  }
  ValueId reshaped(const Node& of, ValueId v, const List& sizes, ValueId to = kAbsent) {
    return put(of, "Reshape", 13, {v, integers(of.name + ".sizes", sizes)}, {}, to, dtype(v));
  }
  ValueId cast(const Node& of, ValueId v, DType to, ValueId result = kAbsent) {
    return put(of, "Cast", 13, {v}, {{"to", attribute(int64_t{number_of_dtype(to)})}}, result, to);
  }

  Graph& graph_;
  DType type_ = DType::f32;  // of most that is made
  std::vector<Node> out_;
};

// A pass that gives each node to a Writer, and finds out about what it wrote.
template <typename Writer>
Report written_anew(Graph& graph, std::string pass) {
  Writer writer(graph);
  Report report = writer.run(std::move(pass), [&](Node& n) { return writer(n); });
  if (!report.changes.empty()) infer(graph);
  return report;
}

}  // namespace lathe::passes
