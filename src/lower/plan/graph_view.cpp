#include "lower/plan/graph_view.hpp"

#include <algorithm>

#include "base/fail.hpp"

namespace lathe::lower {

std::span<const int> Group::ahead() const { return std::span(nodes).first(std::ranges::find(nodes, anchor) - nodes.begin()); }
std::span<const int> Group::from_anchor() const { return std::span(nodes).subspan(std::ranges::find(nodes, anchor) - nodes.begin()); }

GraphView::GraphView(const Graph& graph, std::function<Tensor(ValueId)> restore)
    : graph_(graph), restore_(std::move(restore)), readers_(graph.consumers()), producers_(graph.producers()) {
  constexpr int64_t kStays = int64_t{4} << 20;  // bytes of weights that L2 may hold from one run to the next
  int64_t weight_bits = 0;
  for (const Value& value : graph.values) {
    const auto shape = known_shape(value.dims);
    if (value.constant && shape && value.dtype != DType::string && value.dtype != DType::undefined)
      weight_bits += element_count(*shape) * bit_width(value.dtype);
    dynamic_.push_back(!shape || value.dtype == DType::undefined || value.dtype == DType::string || value.composite);
  }
  much_weight_ = weight_bits / 8 > kStays;
}

bool GraphView::is_output(ValueId v) const { return std::ranges::find(graph_.outputs, v) != graph_.outputs.end(); }

Tensor GraphView::constant(ValueId v) const {
  const Tensor& t = *graph_.values[static_cast<size_t>(v)].constant;
  return t.data() != nullptr || t.size() == 0 ? t : restore_(v);
}

std::optional<ops::NarrowWeights> GraphView::narrow(ValueId v) const {
  const int made = v == kAbsent ? -1 : producers_[static_cast<size_t>(v)];
  return made < 0 ? std::nullopt : ops::narrow_weights(graph_, node(made), readers_);
}

std::string node_label(const Node& n) { return n.name.empty() ? n.op : n.name + " (" + n.op + ")"; }

bool makes_nothing(const Graph& g, const Node& n) {
  bool any = false;
  for (ValueId v : n.outputs) {
    if (v == kAbsent) continue;
    const auto shape = known_shape(g.values[v].dims);
    if (!shape || element_count(*shape) != 0) return false;
    any = true;
  }
  return any;
}

bool all_f32(const Graph& g, const Node& n) {
  const auto f32 = [&](ValueId v) { return v == kAbsent || (g.values[v].dtype == DType::f32 && known_shape(g.values[v].dims)); };
  return n.domain.empty() && std::ranges::all_of(n.inputs, f32) && f32(n.outputs[0]);
}

int64_t product(const Shape& s, size_t from, size_t to) {
  int64_t n = 1;
  for (size_t i = from; i < to; ++i) n *= s[i];
  return n;
}

}  // namespace lathe::lower
