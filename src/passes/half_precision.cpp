// Nodes on f16 and bf16 compute in f32: steps are written for it. Values between such nodes stay f32 (or are rounded after each node, as
// the model is written, when that is asked for); they are narrow where they come into the graph, leave it, or are read by what is left
// alone. Constants stay as they are behind a Cast, so that products and convolutions can widen them while they are loaded.
#include <algorithm>
#include <map>
#include <set>

#include "base/fail.hpp"
#include "ops/internal_attributes.hpp"
#include "passes/rewriter.hpp"
#include "tensor/numbers.hpp"

namespace lathe::passes {
namespace {

bool is_half(DType d) { return d == DType::f16 || d == DType::bf16; }

// What gives or takes types by other ways than its operands' dtypes.
const std::set<std::string_view> kLeftAlone{"BitCast", "CastLike", "Constant", "ConstantOfShape", "EyeLike", "Range", "Multinomial"};
// What moves elements, or looks at no more than their number: does it as well on narrow ones.
const std::set<std::string_view> kMoves{
    "Identity",     "Reshape",   "Flatten",        "Squeeze",         "Unsqueeze", "Transpose", "Slice",          "Split", "Concat",
    "Gather",       "GatherND",  "GatherElements", "Expand",          "Tile",      "Shape",     "Size",           "Pad",   "DepthToSpace",
    "SpaceToDepth", "ScatterND", "Dropout",        "ScatterElements", "Compress",  "NonZero",   "ReverseSequence"};

// Their kernels may round what they multiply.
const std::set<std::string_view> kMultiplies{"Conv", "Gemm", "MatMul"};

class Widener {
 public:
  Widener(Graph& graph, bool round_each) : graph_(graph), round_each_(round_each) {}

  Report run() {
    Report report{"half precision", {}};
    for (Node& n : graph_.nodes) like_to_cast(n);
    if (std::ranges::none_of(graph_.values, [](const Value& v) { return is_half(v.dtype); })) return report;
    for (const Value& v : graph_.values) names_.insert(v.name);
    std::vector<Node> nodes;
    nodes.swap(graph_.nodes);
    for (Node& n : nodes) {
      if (n.op == "Cast" && n.domain.empty()) cast(std::move(n));
      else if (!widened(n)) out_.push_back(std::move(n));
    }
    graph_.nodes = std::move(out_);
    if (count_ > 0) {
      report.changes.push_back(fmt::format("{} nodes on f16 or bf16 compute in f32; {}", count_,
                                           round_each_ ? "each rounds its result, as the model is written"
                                                       : "values between them stay f32, and are rounded where they leave"));
    }
    return report;
  }

 private:
  // The type it takes from another value is known as soon as that value's is.
  void like_to_cast(Node& n) const {
    if (n.op != "CastLike" || !n.domain.empty() || n.inputs.size() != 2 || n.inputs[1] == kAbsent) return;
    const Value& like = graph_.values[n.inputs[1]];
    if (like.dtype == DType::undefined || like.composite) return;
    // Of texts it may fail, and then says by its own name what is wrong.
    if (like.dtype == DType::string || graph_.values[n.inputs[0]].dtype == DType::string) return;
    Attribute to;
    to.data = int64_t{number_of_dtype(like.dtype)};
    n.op = "Cast";
    n.inputs.pop_back();
    n.attributes["to"] = std::move(to);
  }

  bool half(ValueId v) const { return v != kAbsent && is_half(graph_.values[v].dtype) && !graph_.values[v].composite; }

  ValueId add(ValueId like, DType dtype, const char* suffix) {
    Value v;
    const std::string name = graph_.values[like].name + suffix;
    v.name = name;
    for (int i = 2; !names_.insert(v.name).second; ++i) v.name = fmt::format("{}.{}", name, i);
    v.dtype = dtype;
    v.dims = graph_.values[like].dims;
    return graph_.add_value(std::move(v));
  }
  void put_cast(ValueId from, ValueId to, const std::string& name) {
    Node n;
    n.op = "Cast";
    n.name = name;
    n.version = 13;
    n.inputs = {from};
    n.outputs = {to};
    n.attributes["to"].data = int64_t{number_of_dtype(graph_.values[to].dtype)};
    out_.push_back(std::move(n));
  }

  // The f32 form of a narrow value, made by a Cast here unless there is one.
  ValueId wide(ValueId v) {
    if (const auto it = wide_.find(v); it != wide_.end()) return it->second;
    const ValueId w = add(v, DType::f32, ".f32");
    put_cast(v, w, graph_.values[v].name + ".widened");
    return wide_[v] = w;
  }

  // After a node that makes `w` in place of `v`: the narrow form for whoever reads that (it goes with what is dead), and what others read.
  void made(ValueId v, ValueId w, const std::string& name) {
    put_cast(w, v, name + ".rounded");
    computed_.insert(v);
    if (!round_each_) {
      wide_[v] = w;
      return;
    }
    wide_[v] = add(v, DType::f32, ".f32");
    put_cast(v, wide_[v], name + ".widened");
  }

  // What a Cast narrows, nodes read as it was; what a Cast narrows and another widens again is rounded: that is what they are for.
  void cast(Node n) {
    const ValueId in = n.inputs[0], result = n.outputs[0];
    const DType to = graph_.values[result].dtype, from = graph_.values[in].dtype;
    // What is cut off to whole numbers, or asked whether it is zero, is rounded first: 2.9999 is 3 in the model.
    if (computed_.contains(in) && !narrowed_.contains(in) && is_float(to)) n.inputs[0] = wide(in);
    if (half(result) && from == DType::f32 && !graph_.values[in].constant && !round_each_) {
      wide_[result] = in;
      computed_.insert(result);
      narrowed_.insert(result);
    }
    // From one narrow type to the other it is rounded to the second.
    if (half(in) && half(result) && from != to) n.inputs[0] = in;
    out_.push_back(std::move(n));
  }

  bool widened(Node& n) {
    const bool touches = std::ranges::any_of(n.inputs, [&](ValueId v) { return half(v); }) ||
                         std::ranges::any_of(n.outputs, [&](ValueId v) { return half(v); });
    if (!touches || !n.domain.empty() || n.has_subgraphs() || kLeftAlone.contains(n.op)) return false;
    const OpDef* def = find_op(n.domain, n.op, graph_.version_of(n));
    if (def == nullptr || !def->pure || def->composites || def->fast) return false;
    const bool moves = kMoves.contains(n.op) && n.text("reduction", "none") == "none";  // a scatter may add
    if (moves && std::ranges::none_of(n.inputs, [&](ValueId v) { return half(v) && computed_.contains(v); })) return false;
    const size_t before = out_.size();
    std::vector<ValueId> fresh;  // widened for this node
    Node w = n;
    for (ValueId& v : w.inputs) {
      if (!half(v)) continue;
      if (!wide_.contains(v)) fresh.push_back(v);
      v = wide(v);
    }
    std::vector<std::pair<ValueId, ValueId>> results;
    for (ValueId& v : w.outputs) {
      if (!half(v)) continue;
      const ValueId as = add(v, DType::f32, ".f32");
      results.emplace_back(v, as);
      v = as;
    }
    if (!agrees(w)) {
      out_.resize(before);
      for (ValueId v : fresh) wide_.erase(v);
      return false;
    }
    const std::string name = n.name.empty() ? n.op : n.name;
    if (kMultiplies.contains(n.op) && half(n.inputs[0]))
      w.attributes[ops::kRowsLike].data = int64_t{number_of_dtype(graph_.values[n.inputs[0]].dtype)};
    out_.push_back(std::move(w));
    for (const auto& [v, as] : results) made(v, as, name);
    ++count_;
    return true;
  }

  // Whether the op takes these inputs and gives f32 for them.
  bool agrees(const Node& node) const {
    const auto results = inferred(graph_, node);
    if (!results) return false;
    for (size_t i = 0; i < node.outputs.size(); ++i) {
      if (node.outputs[i] != kAbsent && (*results)[i].dtype != graph_.values[node.outputs[i]].dtype) return false;
    }
    return true;
  }

  Graph& graph_;
  const bool round_each_;
  std::vector<Node> out_;
  std::map<ValueId, ValueId> wide_;  // f32 form of narrow values
  std::set<ValueId> computed_;       // those of them that are made in f32, by nodes or of what a Cast narrows
  std::set<ValueId> narrowed_;       // the latter
  std::set<std::string> names_;
  int count_ = 0;
};

}  // namespace

Report widen_halves(Graph& graph, bool round_each) {
  Report report = Widener(graph, round_each).run();
  if (!report.changes.empty()) {
    remove_dead(graph);
    infer(graph);
  }
  return report;
}

}  // namespace lathe::passes
