// Forms of ops that graphs exported for training have, as nodes that have steps: losses, normalisations that give their statistics too, and
// masks of dropouts that drop nothing.
#include <algorithm>
#include <numeric>

#include "passes/node_writer.hpp"
#include "tensor/numbers.hpp"

namespace lathe::passes {
namespace {

class TrainingForms : public NodeWriter {
 public:
  explicit TrainingForms(Graph& graph) : NodeWriter(graph), readers_(graph.consumers()) {}

  std::string operator()(const Node& n) {
    if (!n.domain.empty() || n.inputs.empty() || n.outputs.empty() || n.inputs[0] == kAbsent || !rank(n.inputs[0])) return "";
    type_ = dtype(n.inputs[0]);
    if (type_ == DType::string) return "";
    if (n.op == "Dropout") return mask_of_ones(n);
    if (n.op == "EyeLike") return ones_on_a_diagonal(n);
    if (type_ != DType::f32 && type_ != DType::f64) return "";
    if (n.op == "NegativeLogLikelihoodLoss") return loss(n, n.inputs[0]) ? "picked, weighted and summed up" : "";
    if (n.op == "SoftmaxCrossEntropyLoss") return cross_entropy(n);
    if (n.op == "LayerNormalization") return with_statistics(n);
    if (n.op == "BatchNormalization") return of_the_batch(n);
    return "";
  }

 private:
  // Whether anybody reads it.
  bool wanted(const Node& n, size_t i) const {
    if (i >= n.outputs.size() || n.outputs[i] == kAbsent) return false;
    const bool leaves = std::ranges::find(graph_.outputs, n.outputs[i]) != graph_.outputs.end();
    return leaves || !readers_[static_cast<size_t>(n.outputs[i])].empty();
  }
  ValueId op(const Node& n, const char* name, std::vector<ValueId> in, ValueId to = kAbsent) {
    return put(n, name, 13, std::move(in), {}, to);
  }
  ValueId mean(const Node& n, ValueId v, const List& axes) {
    return put(n, "ReduceMean", 13, {v}, {{"axes", attribute(axes)}, {"keepdims", attribute(int64_t{1})}});
  }
  // Everything added up, a scalar.
  ValueId sum(const Node& n, ValueId v, ValueId to = kAbsent) {
    return put(n, "ReduceSum", 13, {v}, {{"keepdims", attribute(int64_t{0})}}, to);
  }
  ValueId variance(const Node& n, ValueId off, const List& axes) { return mean(n, op(n, "Mul", {off, off}), axes); }
  ValueId deviation(const Node& n, ValueId variance) {
    return op(n, "Sqrt", {op(n, "Add", {variance, number(n, n.real("epsilon", 1e-5f))})});
  }

  // What is left out when nothing is dropped: nothing.
  std::string mask_of_ones(const Node& n) {
    const auto s = shape(n.inputs[0]);
    if (!s || graph_.version_of(n) < 7 || !wanted(n, 1)) return "";
    if (has(n, 2)) {
      const auto& training = graph_.values[n.inputs[2]].constant;
      if (!training || widen<int64_t>(*training).at(0) != 0) return "";
    }
    if (n.outputs[0] != kAbsent) put(n, "Identity", 13, {n.inputs[0]}, {}, n.outputs[0]);
    const DType d = dtype(n.outputs[1]);
    const ValueId one = constant(n.name + ".one", narrow<double>(d, Shape{}, std::vector<double>{1}));
    put(n, "Expand", 13, {one, integers(n.name + ".sizes", List(s->begin(), s->end()))}, {}, n.outputs[1], d);
    return "it drops nothing, and says so of every element";
  }

  // Only sizes decide: rows and columns compared.
  std::string ones_on_a_diagonal(const Node& n) {
    const auto s = shape(n.inputs[0]);
    const DType d = dtype(n.outputs[0]);
    if (!s || s->size() != 2 || element_count(*s) == 0 || d == DType::undefined) return "";
    const int64_t k = std::clamp<int64_t>(n.integer("k", 0), -(*s)[0], (*s)[1]);
    const auto count = [&](int64_t size, int64_t from, const Shape& lies) {
      std::vector<int64_t> v(static_cast<size_t>(size));
      std::iota(v.begin(), v.end(), from);
      return constant(n.name + ".places", Tensor::from<int64_t>(lies, v));
    };
    const ValueId same =
        put(n, "Equal", 13, {count((*s)[0], k, {(*s)[0], 1}), count((*s)[1], 0, {1, (*s)[1]})}, {}, kAbsent, DType::boolean);
    cast(n, same, d, n.outputs[0]);
    return "one where the row is the column";
  }

  // -weight[target] * log_p[target], of which a target that is ignored has none; their sum, their sum by that of the weights, or each.
  bool loss(const Node& n, ValueId log_p) {
    const auto x = shape(n.inputs[0]), t = shape(n.inputs[1]);
    const std::string how = n.text("reduction", "mean");
    if (!x || !t || x->size() < 2 || element_count(*x) == 0 || element_count(*t) == 0) return false;
    const DType d = dtype(n.inputs[1]);
    const auto whole = [&](int64_t v) { return constant(n.name + ".number", narrow<int64_t>(d, Shape{}, std::vector<int64_t>{v})); };
    const auto whole_op = [&](const char* name, std::vector<ValueId> in, DType to) {
      return put(n, name, 13, std::move(in), {}, kAbsent, to);
    };
    const auto* ignored = n.find<int64_t>("ignore_index");
    ValueId target = n.inputs[1], skip = kAbsent;
    const ValueId below = whole_op("Less", {target, whole(0)}, DType::boolean);
    // Gathers count places below zero from the end; there is no such class.
    target = whole_op("Where", {below, whole_op("Sub", {target, whole((*x)[1])}, d), target}, d);
    if (ignored) {
      skip = whole_op("Equal", {n.inputs[1], whole(*ignored)}, DType::boolean);
      target = whole_op("Where", {skip, whole(0), target}, d);
    }
    Shape lies = *x;
    lies[1] = 1;
    const ValueId picked = put(n, "GatherElements", 13, {log_p, reshaped(n, target, lies)}, {{"axis", attribute(int64_t{1})}});
    ValueId each = op(n, "Neg", {reshaped(n, picked, *t)}), weights = kAbsent;
    const ValueId none = number(n, 0);
    if (has(n, 2)) {
      weights = put(n, "Gather", 13, {n.inputs[2], target}, {{"axis", attribute(int64_t{0})}});
      each = op(n, "Mul", {each, weights});
    }
    if (ignored) {
      weights = op(n, "Where", {skip, none, weights == kAbsent ? number(n, 1) : weights});
      each = op(n, "Where", {skip, none, each});
    }
    if (how == "none") op(n, "Identity", {each}, n.outputs[0]);
    else if (how == "sum") sum(n, each, n.outputs[0]);
    else
      op(n, "Div", {sum(n, each), weights == kAbsent ? number(n, static_cast<double>(element_count(*t))) : sum(n, weights)}, n.outputs[0]);
    return true;
  }

  std::string cross_entropy(const Node& n) {
    if (n.outputs[0] == kAbsent) return "";
    const ValueId log_p = put(n, "LogSoftmax", 13, {n.inputs[0]}, {{"axis", attribute(int64_t{1})}}, wanted(n, 1) ? n.outputs[1] : kAbsent);
    return loss(n, log_p) ? "logarithms of probabilities, picked, weighted and summed up" : "";
  }

  std::string with_statistics(const Node& n) {
    const DType stash = n.integer("stash_type", 1) == 1 ? DType::f32 : type_;
    if ((!wanted(n, 1) && !wanted(n, 2)) || stash != type_ || n.outputs[0] == kAbsent) return "";
    const int64_t ranks = *rank(n.inputs[0]);
    List axes;
    for (int64_t a = ops::wrap_axis(n.integer("axis", -1), ranks); a < ranks; ++a) axes.push_back(a);
    const ValueId x = n.inputs[0];
    ValueId middle = mean(n, x, axes);
    const ValueId off = op(n, "Sub", {x, middle}), inverse = op(n, "Reciprocal", {deviation(n, variance(n, off, axes))});
    const ValueId scaled = op(n, "Mul", {op(n, "Mul", {off, inverse}), n.inputs[1]}, has(n, 2) ? kAbsent : n.outputs[0]);
    if (has(n, 2)) op(n, "Add", {scaled, n.inputs[2]}, n.outputs[0]);
    if (wanted(n, 1)) op(n, "Identity", {middle}, n.outputs[1]);
    if (wanted(n, 2)) op(n, "Identity", {inverse}, n.outputs[2]);
    return "its mean and its deviation are results too";
  }

  // By the statistics of the batch at hand, of which running ones are kept.
  std::string of_the_batch(const Node& n) {
    const auto s = shape(n.inputs[0]);
    if (!s || s->size() < 2 || graph_.version_of(n) < 14 || n.integer("training_mode", 0) == 0 || n.outputs[0] == kAbsent) return "";
    for (size_t i = 1; i < 5; ++i) {
      if (dtype(n.inputs[i]) != type_) return "";
    }
    List axes(s->size());
    std::iota(axes.begin(), axes.end(), 0);
    axes.erase(axes.begin() + 1);
    const Shape channels{(*s)[1]};
    Shape beside(s->size() - 1, 1);
    beside[0] = (*s)[1];
    const ValueId x = n.inputs[0], middle = mean(n, x, axes), off = op(n, "Sub", {x, middle}), spread = variance(n, off, axes);
    const ValueId factor = op(n, "Div", {reshaped(n, n.inputs[1], beside), deviation(n, spread)});
    op(n, "Add", {op(n, "Mul", {off, factor}), reshaped(n, n.inputs[2], beside)}, n.outputs[0]);
    const double momentum = n.real("momentum", 0.9f);
    const auto running = [&](size_t i, ValueId now) {
      if (!wanted(n, i)) return;
      const ValueId kept = op(n, "Mul", {n.inputs[i + 2], number(n, momentum)});
      op(n, "Add", {kept, op(n, "Mul", {reshaped(n, now, channels), number(n, 1 - momentum)})}, n.outputs[i]);
    };
    running(1, middle);
    running(2, spread);
    return "by the statistics of the batch";
  }

  std::vector<std::vector<int>> readers_;
};

}  // namespace

Report training_forms(Graph& graph) {
  // Few graphs have any: the others need not be asked who reads what.
  const auto may_be = [](const Node& n) { return n.outputs.size() > 1 || n.op == "EyeLike" || n.op.ends_with("Loss"); };
  if (std::ranges::none_of(graph.nodes, may_be)) return {"training forms", {}};
  return written_anew<TrainingForms>(graph, "training forms");
}

}  // namespace lathe::passes
