// Ops in forms that no step is written for, as ops in forms that one is: along the last axis between two transposes, products for sums over
// letters, recurrent layers with the steps first. Only in f32: nothing else would gain.
#include <algorithm>
#include <cctype>
#include <limits>
#include <map>
#include <numeric>
#include <set>

#include "base/fail.hpp"
#include "lathe/op.hpp"
#include "ops/support.hpp"
#include "passes/passes.hpp"

namespace lathe::passes {
namespace {

using Attributes = std::map<std::string, Attribute>;
using List = std::vector<int64_t>;

Attribute attribute(Attribute::Data data) {
  Attribute a;
  a.data = std::move(data);
  return a;
}

class UsualForms {
 public:
  explicit UsualForms(Graph& graph) : graph_(graph) {}

  Report run() {
    Report report{"usual forms", {}};
    std::vector<Node> nodes;
    nodes.swap(graph_.nodes);
    for (Node& n : nodes) {
      const std::string name = label(graph_, n);
      const std::string how = n.domain.empty() && wanted(n) ? rewritten(n) : "";
      if (how.empty()) out_.push_back(std::move(n));
      else report.changes.push_back(fmt::format("{}: {}", name, how));
    }
    graph_.nodes = std::move(out_);
    return report;
  }

 private:
  static bool wanted(const Node& n) {
    static const std::set<std::string_view> kOps{"Softmax", "LogSoftmax", "ArgMax", "ArgMin", "TopK", "ReduceL2", "ReduceSumSquare",
                                                 "ReduceLogSumExp", "Einsum", "Gemm", "LSTM", "GRU", "RNN"};
    return kOps.contains(n.op);
  }
  bool is_f32(ValueId v) const { return v != kAbsent && graph_.values[v].dtype == DType::f32; }
  std::optional<int64_t> rank(ValueId v) const {
    const auto& dims = graph_.values[v].dims;
    return dims ? std::optional(static_cast<int64_t>(dims->size())) : std::nullopt;
  }

  // Gives "" and leaves the node alone, or says what it did.
  std::string rewritten(Node& n) {
    if (n.inputs.empty() || !is_f32(n.inputs[0]) || !rank(n.inputs[0])) return "";
    if (n.op == "Einsum") return einsum(n);
    if (n.op == "Gemm") return gemm(n);
    if (n.op == "LSTM" || n.op == "GRU" || n.op == "RNN") return recurrent(n);
    if (n.op == "ReduceLogSumExp") return log_sum_exp(n);
    return along_last(n);
  }

  ValueId add(const std::string& name, DType dtype) {
    Value v;
    v.name = name;
    for (int i = 2; graph_.find_value(v.name) != kAbsent; ++i) v.name = fmt::format("{}.{}", name, i);
    v.dtype = dtype;
    return graph_.add_value(std::move(v));
  }
  ValueId constant(const std::string& name, Tensor t) {
    const ValueId v = add(name, t.dtype());
    graph_.values[v].dims = Dims(t.shape().begin(), t.shape().end());
    graph_.values[v].constant = std::move(t);
    return v;
  }
  ValueId integers(const std::string& name, const List& list) {
    return constant(name, Tensor::from<int64_t>({static_cast<int64_t>(list.size())}, list));
  }
  // A node that stands for a part of `of`; makes `to`, or a value of its own.
  ValueId put(const Node& of, const std::string& op, int64_t version, std::vector<ValueId> inputs, Attributes attributes = {},
              ValueId to = kAbsent, DType dtype = DType::f32) {
    Node n;
    n.op = op;
    n.name = fmt::format("{}.{}", of.name.empty() ? of.op : of.name, op);
    n.version = version;
    n.module = of.module;
    n.inputs = std::move(inputs);
    n.attributes = std::move(attributes);
    n.outputs = {to != kAbsent ? to : add(n.name, dtype)};
    out_.push_back(std::move(n));
    return out_.back().outputs[0];
  }
  ValueId turn(const Node& of, ValueId v, const List& order, ValueId to = kAbsent, DType dtype = DType::f32) {
    return put(of, "Transpose", 13, {v}, {{"perm", attribute(order)}}, to, dtype);
  }
  static List inverse(const List& order) {
    List back(order.size());
    for (size_t i = 0; i < order.size(); ++i) back[static_cast<size_t>(order[i])] = static_cast<int64_t>(i);
    return back;
  }

  // The axis is moved to the end, and back in what keeps it.
  std::string along_last(Node& n) {
    const int64_t rank = *this->rank(n.inputs[0]), version = graph_.version_of(n);
    const bool soft = n.op.ends_with("Softmax"), reduces = n.op.starts_with("Reduce");
    if (rank < 2 || (soft && version < 13) || (n.op == "TopK" && version < 10)) return "";
    int64_t axis = n.integer("axis", soft || n.op == "TopK" ? -1 : 0);
    if (reduces) {
      const auto axes = axes_of(n);
      if (!axes || axes->size() != 1) return "";
      axis = axes->front();
    }
    axis = ops::wrap_axis(axis, rank);
    // Channels that are next to one another in memory have a step of their own.
    if (axis == rank - 1 || (soft && axis == 1 && rank > 2)) return "";
    List order(static_cast<size_t>(rank));
    std::iota(order.begin(), order.end(), 0);
    order.erase(order.begin() + axis);
    order.push_back(axis);
    const bool keeps = soft || n.op == "TopK" || n.integer("keepdims", 1) != 0;
    Node main = n;
    main.inputs[0] = turn(n, n.inputs[0], order);
    if (reduces) {
      main.version = 13;
      main.inputs.resize(1);
      main.attributes.erase("noop_with_empty_axes");
      main.attributes["axes"] = attribute(List{rank - 1});
    } else {
      main.attributes["axis"] = attribute(rank - 1);
    }
    std::vector<std::pair<ValueId, ValueId>> back;
    for (ValueId& v : main.outputs) {
      if (v == kAbsent || !keeps) continue;
      const ValueId turned = add(graph_.values[v].name + ".turned", graph_.values[v].dtype);
      back.emplace_back(turned, v);
      v = turned;
    }
    out_.push_back(std::move(main));
    for (const auto& [from, to] : back) turn(n, from, inverse(order), to, graph_.values[to].dtype);
    return fmt::format("axis {} of {} is moved to the end", axis, rank);
  }

  std::optional<List> axes_of(const Node& n) const {
    List axes = ops::axes_are_input(n.op, graph_.version_of(n)) ? List() : n.integers("axes");
    if (n.inputs.size() > 1 && n.inputs[1] != kAbsent) {
      const auto& c = graph_.values[n.inputs[1]].constant;
      if (!c || c->data() == nullptr) return std::nullopt;
      axes = lathe::integers(*c);
    }
    if (axes.empty()) return std::nullopt;
    return ops::wrap_axes(axes, *rank(n.inputs[0]));
  }

  // log(sum(exp(x - m))) + m, with m the largest; infinities come out as they go in.
  std::string log_sum_exp(const Node& n) {
    const auto axes = axes_of(n);
    if (!axes) return "";
    const auto reduce = [&](const char* op, ValueId v) {
      if (std::string_view(op) == "ReduceSum") return put(n, op, 13, {v, integers(n.name + ".axes", *axes)}, {{"keepdims", attribute(int64_t{1})}});
      return put(n, op, 13, {v}, {{"axes", attribute(*axes)}, {"keepdims", attribute(int64_t{1})}});
    };
    constexpr float kMost = std::numeric_limits<float>::max();
    const ValueId most = put(n, "Clip", 13, {reduce("ReduceMax", n.inputs[0]), constant(n.name + ".low", Tensor::from<float>({}, {-kMost})),
                                             constant(n.name + ".high", Tensor::from<float>({}, {kMost}))});
    const ValueId sum = reduce("ReduceSum", put(n, "Exp", 13, {put(n, "Sub", 14, {n.inputs[0], most})}));
    const bool keeps = n.integer("keepdims", 1) != 0;
    const ValueId y = put(n, "Add", 14, {put(n, "Log", 13, {sum}), most}, {}, keeps ? n.outputs[0] : kAbsent);
    if (!keeps) put(n, "Squeeze", 13, {y, integers(n.name + ".axes", *axes)}, {}, n.outputs[0]);
    return "the largest is taken off before the powers, and put on again";
  }

  // beta is a factor of its own, and a C of another form is added by itself.
  std::string gemm(Node& n) {
    if (n.inputs.size() < 3 || n.inputs[2] == kAbsent || !is_f32(n.inputs[2]) || graph_.version_of(n) < 7) return "";
    const auto c = known_shape(graph_.values[n.inputs[2]].dims), y = known_shape(graph_.values[n.outputs[0]].dims);
    if (!c || !y || y->size() != 2) return "";
    const float beta = n.real("beta", 1);
    const bool fits = *c == *y || (!c->empty() && c->back() == (*y)[1] && element_count(*c) == (*y)[1]);
    if (beta == 1 && fits) return "";
    Node product = n;
    product.inputs.resize(2);
    product.attributes.erase("beta");
    product.outputs = {add(graph_.values[n.outputs[0]].name + ".product", DType::f32)};
    const ValueId made = product.outputs[0];
    out_.push_back(std::move(product));
    ValueId added = n.inputs[2];
    if (beta != 1) added = put(n, "Mul", 14, {added, constant(n.name + ".beta", Tensor::from<float>({}, {beta}))});
    put(n, "Add", 14, {made, added}, {}, n.outputs[0]);
    return "what is added stands by itself";
  }

  // Two operands without repeated letters: one product of matrices, batch by batch.
  std::string einsum(const Node& n) {
    if (n.inputs.size() != 2 || !is_f32(n.inputs[1])) return "";
    std::string text = n.text("equation", "");
    std::erase(text, ' ');
    const size_t comma = text.find(','), arrow = text.find("->");
    if (comma == std::string::npos || arrow == std::string::npos || text.find('.') != std::string::npos) return "";
    const std::string a = text.substr(0, comma), b = text.substr(comma + 1, arrow - comma - 1), y = text.substr(arrow + 2);
    const auto as = known_shape(graph_.values[n.inputs[0]].dims), bs = known_shape(graph_.values[n.inputs[1]].dims);
    if (!as || !bs || as->size() != a.size() || bs->size() != b.size()) return "";
    const auto once = [](const std::string& s) { return std::set<char>(s.begin(), s.end()).size() == s.size(); };
    if (!once(a) || !once(b) || !once(y)) return "";
    std::map<char, int64_t> size;
    for (size_t i = 0; i < a.size(); ++i) size[a[i]] = (*as)[i];
    for (size_t i = 0; i < b.size(); ++i) {
      if (size.contains(b[i]) && size[b[i]] != (*bs)[i]) return "";  // one of them is repeated
      size[b[i]] = (*bs)[i];
    }
    const auto in = [](const std::string& s, char c) { return s.find(c) != std::string::npos; };
    std::string batch, rows, columns, depth;
    for (char c : a) (in(y, c) ? in(b, c) ? batch : rows : depth) += c;
    for (char c : b) {
      if (!in(a, c)) columns += c;
    }
    // A letter that one operand alone has is summed by itself, and a product without depth is no product.
    if (depth.empty() || std::ranges::any_of(depth, [&](char c) { return !in(b, c); }) || std::ranges::any_of(columns, [&](char c) { return !in(y, c); }) ||
        y.size() != batch.size() + rows.size() + columns.size())
      return "";
    const auto count = [&](const std::string& s) {
      return std::accumulate(s.begin(), s.end(), int64_t{1}, [&](int64_t p, char c) { return p * size[c]; });
    };
    if (count(batch + rows + columns + depth) == 0) return "";
    const auto order = [](const std::string& from, const std::string& to) {
      List l;
      for (char c : to) l.push_back(static_cast<int64_t>(from.find(c)));
      return l;
    };
    const auto matrix = [&](ValueId v, const std::string& from, const std::string& to, const List& shape) {
      const ValueId turned = from == to ? v : turn(n, v, order(from, to));
      return put(n, "Reshape", 13, {turned, integers(n.name + ".sizes", shape)});
    };
    const bool batched = !batch.empty();
    const auto with_batch = [&](List l) {
      if (batched) l.insert(l.begin(), count(batch));
      return l;
    };
    const ValueId left = matrix(n.inputs[0], a, batch + rows + depth, with_batch({count(rows), count(depth)}));
    const ValueId right = matrix(n.inputs[1], b, batch + depth + columns, with_batch({count(depth), count(columns)}));
    const ValueId product = put(n, "MatMul", 13, {left, right});
    List sizes;
    for (char c : batch + rows + columns) sizes.push_back(size[c]);
    const bool turns = batch + rows + columns != y;
    const ValueId whole = put(n, "Reshape", 13, {product, integers(n.name + ".sizes", sizes)}, {}, turns ? kAbsent : n.outputs[0]);
    if (turns) turn(n, whole, order(batch + rows + columns, y), n.outputs[0]);
    return fmt::format("a product of {} x {} by {} x {}{}", count(rows), count(depth), count(depth), count(columns),
                       batched ? fmt::format(", {} times", count(batch)) : "");
  }

  // The batch is moved behind the steps, and before them again.
  std::string recurrent(const Node& n) {
    if (n.integer("layout", 0) != 1) return "";
    Node main = n;
    main.attributes.erase("layout");
    for (size_t i : {0, 5, 6}) {
      if (i < main.inputs.size() && main.inputs[i] != kAbsent) main.inputs[i] = turn(n, main.inputs[i], {1, 0, 2});
    }
    std::vector<std::pair<ValueId, size_t>> back;
    for (size_t i = 0; i < main.outputs.size(); ++i) {
      if (main.outputs[i] == kAbsent) continue;
      back.emplace_back(main.outputs[i], i);
      main.outputs[i] = add(graph_.values[main.outputs[i]].name + ".steps_first", DType::f32);
    }
    const std::vector<ValueId> made = main.outputs;
    out_.push_back(std::move(main));
    for (const auto& [to, i] : back) turn(n, made[i], i == 0 ? List{2, 0, 1, 3} : List{1, 0, 2}, to);
    return "steps come before the batch";
  }

  Graph& graph_;
  std::vector<Node> out_;
};

}  // namespace

Report usual_forms(Graph& graph) {
  Report report = UsualForms(graph).run();
  if (!report.changes.empty()) infer(graph);
  return report;
}

}  // namespace lathe::passes
