// Between DequantizeLinear and QuantizeLinear, what only moves numbers or takes the largest of them is done on the quantised numbers
// themselves, which are a quarter of the size. Results are the same to the bit: both ops keep the order of numbers, and what has been
// quantised comes back the same.
#include <algorithm>
#include <array>
#include <cmath>

#include "ops/internal_attributes.hpp"
#include "passes/rewriter.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {
namespace {

// Ops that only move elements of their first input, by their second and later ones, as long as these are no elements themselves.
constexpr std::array kMovesBytes{"Reshape", "Flatten",      "Squeeze",      "Unsqueeze", "Transpose", "Slice",
                                 "Gather",  "DepthToSpace", "SpaceToDepth", "Expand",    "Tile",      "Identity"};

class QuantisedMoves {
 public:
  explicit QuantisedMoves(Graph& graph) : graph_(graph), r_(graph, "quantised moves"), users_(graph.values.size()) {
    for (int n = 0; n < static_cast<int>(graph.nodes.size()); ++n) {
      for (ValueId v : graph.nodes[n].inputs) {
        if (v != kAbsent) users_[v].push_back(n);
      }
    }
  }

  Report run() {
    for (int n = 0; n < static_cast<int>(graph_.nodes.size()); ++n) {
      const Node& node = graph_.nodes[n];
      if (!node.domain.empty() || node.outputs.size() != 1) continue;
      if (node.op == "MaxPool" || (moves(node) && only_quantised(node.outputs[0], 0))) onward(n);
      else if (node.op == "QuantizeLinear") quantised(n);
    }
    return r_.finish();
  }

 private:
  static bool moves(const Node& n) {
    if (n.op == "Resize")
      return n.text("mode", "nearest") == "nearest" && n.text("coordinate_transformation_mode", "half_pixel") != "tf_crop_and_resize";
    return std::ranges::find(kMovesBytes, n.op) != kMovesBytes.end();
  }

  // One scale and zero point for all bytes, known and usable.
  struct Scaling {
    ValueId scale = kAbsent, zero = kAbsent;
    float step = 0;
    int64_t origin = 0;
    DType numbers = DType::undefined;
    bool operator==(const Scaling& o) const { return step == o.step && origin == o.origin && numbers == o.numbers; }
  };
  std::optional<Scaling> scaling(const Node& n, DType numbers) const {
    if (numbers != DType::u8 && numbers != DType::i8) return std::nullopt;
    Scaling s{n.inputs[1], n.inputs.size() > 2 ? n.inputs[2] : kAbsent, 0, 0, numbers};
    const Tensor* scale = r_.constant(s.scale);
    if (!scale || scale->size() != 1 || scale->dtype() != DType::f32) return std::nullopt;
    s.step = *scale->as<float>().data();
    if (!std::isfinite(s.step) || s.step < 1e-30f || s.step > 1e30f) return std::nullopt;
    if (s.zero == kAbsent) return s;
    const Tensor* zero = r_.constant(s.zero);
    if (!zero || zero->size() != 1 || zero->dtype() != numbers) return std::nullopt;
    s.origin = widen<int64_t>(*zero)[0];
    return s;
  }
  // The node that makes `v` of bytes, and how.
  std::optional<std::pair<int, Scaling>> dequantised(ValueId v) const {
    const int n = r_.maker(v, "DequantizeLinear");
    if (n < 0 || r_.dtype(v) != DType::f32) return std::nullopt;
    const auto s = scaling(graph_.nodes[n], r_.dtype(graph_.nodes[n].inputs[0]));
    return s ? std::optional(std::pair(n, *s)) : std::nullopt;
  }

  bool only_quantised(ValueId v, int depth) const {
    constexpr int kDeepest = 8;
    if (depth > kDeepest || r_.is_output(v) || users_[v].empty()) return false;
    return std::ranges::all_of(users_[v], [&](int n) {
      const Node& user = graph_.nodes[n];
      if (!user.domain.empty() || user.outputs.size() != 1 || user.inputs[0] != v) return false;
      return user.op == "QuantizeLinear" || (moves(user) && only_quantised(user.outputs[0], depth + 1));
    });
  }

  // A node on what a DequantizeLinear makes goes in front of it.
  void onward(int n) {
    const Node node = graph_.nodes[n];
    const auto from = dequantised(node.inputs[0]);
    const auto& dims = r_.graph_dims(node.outputs[0]);
    if (!from || !dims || r_.dtype(node.outputs[0]) != DType::f32) return;
    constexpr int64_t kBytePools = 12;  // the first version of MaxPool that takes bytes
    std::vector<ValueId> in = node.inputs;
    in[0] = graph_.nodes[from->first].inputs[0];
    const int64_t version = node.op == "MaxPool" ? std::max(kBytePools, graph_.version_of(node)) : graph_.version_of(node);
    const ValueId made = r_.before(n, node.op, version, std::move(in), node.attributes, from->second.numbers, *dims);
    std::vector<ValueId> back{made, from->second.scale};
    if (from->second.zero != kAbsent) back.push_back(from->second.zero);
    r_.become(n, "DequantizeLinear", 13, std::move(back), {}, {from->first});
  }

  void quantised(int q) {
    const Node node = graph_.nodes[q];
    const auto to = scaling(node, r_.dtype(node.outputs[0]));
    if (!to || r_.dtype(node.inputs[0]) != DType::f32) return;
    // There and back: the bytes that were.
    if (const auto from = dequantised(node.inputs[0]); from && from->second == *to) {
      r_.become(q, "Identity", 13, {graph_.nodes[from->first].inputs[0]}, {}, {from->first});
      return;
    }
    if (const int n = r_.maker(node.inputs[0], "Resize"); n >= 0 && r_.readers(node.inputs[0]) == 1) return resized(q, n, *to);
    const int c = r_.maker(node.inputs[0], "Concat");
    if (c < 0 || r_.readers(node.inputs[0]) != 1) return;
    const Node concat = graph_.nodes[c];
    std::vector<ValueId> parts;
    for (ValueId v : concat.inputs) {
      const auto& dims = r_.graph_dims(v);
      if (!dims) return;
      const auto from = dequantised(v);
      if (from && from->second == *to) {
        parts.push_back(graph_.nodes[from->first].inputs[0]);
        continue;
      }
      std::vector<ValueId> in{v, to->scale};
      if (to->zero != kAbsent) in.push_back(to->zero);
      parts.push_back(r_.before(q, "QuantizeLinear", 13, std::move(in), {}, to->numbers, *dims));
    }
    r_.become(q, "Concat", 13, std::move(parts), concat.attributes, {c});
  }

  // Weights that sum up to one leave zero points where they are, so sums of bytes are as good as those of floats. (Not the same to the bit:
  // what lies in the middle between two numbers in floats does so by chance.)
  void resized(int q, int n, const Scaling& to) {
    const Node node = graph_.nodes[n];
    const auto from = dequantised(node.inputs[0]);
    if (!node.domain.empty() || !from || from->second.numbers != to.numbers || graph_.version_of(node) < 11 ||
        node.text("coordinate_transformation_mode", "half_pixel") == "tf_crop_and_resize")
      return;
    std::vector<ValueId> in = node.inputs;
    in[0] = graph_.nodes[from->first].inputs[0];
    auto attributes = node.attributes;
    attributes[ops::kScaling].data =
        std::vector<float>{static_cast<float>(from->second.origin), from->second.step, static_cast<float>(to.origin), to.step};
    r_.become(q, "Resize", graph_.version_of(node), std::move(in), std::move(attributes), {from->first, n});
  }

  Graph& graph_;
  Rewriter r_;
  std::vector<std::vector<int>> users_;
};

}  // namespace

Report quantised_moves(Graph& graph) {
  Report report = QuantisedMoves(graph).run();
  if (!report.changes.empty()) remove_dead(graph);
  return report;
}

}  // namespace lathe::passes
