#include "narrow/layers.hpp"

#include <algorithm>
#include <numeric>

#include "ops/window.hpp"

namespace lathe::narrowing {
namespace {

const Tensor* floats(const Graph& g, ValueId v) {
  if (v == kAbsent) return nullptr;
  const Value& value = g.values[static_cast<size_t>(v)];
  return value.constant && value.dtype == DType::f32 && !value.constant->composite() ? &*value.constant : nullptr;
}

bool is_default(const Graph& g, ValueId v) {
  return std::ranges::any_of(g.defaults, [&](const Default& d) { return d.value == v; });
}

}  // namespace

std::optional<Layer> layer_of(const Graph& g, size_t node, const std::vector<std::vector<int>>& readers) {
  const Node& n = g.nodes[node];
  if (!n.domain.empty() || n.inputs.size() < 2 || n.inputs[0] == kAbsent) return std::nullopt;
  const Tensor* w = floats(g, n.inputs[1]);
  if (!w || w->size() == 0 || is_default(g, n.inputs[1]) || g.values[static_cast<size_t>(n.inputs[0])].constant) return std::nullopt;
  Layer l;
  l.node = node;
  l.input = n.inputs[0];
  l.weights = n.inputs[1];
  l.output = n.outputs[0];
  if (n.inputs.size() > 2 && n.inputs[2] != kAbsent) {
    const Tensor* b = floats(g, n.inputs[2]);
    if (!b || is_default(g, n.inputs[2])) return std::nullopt;
    l.bias = n.inputs[2];
  }
  if (n.op == "Conv" && w->rank() >= 3) {
    l.groups = n.integer("group", 1);
    l.filters = w->shape()[0];
    l.depth = w->size() / l.filters;
    if (l.groups < 1 || l.filters % l.groups != 0) return std::nullopt;
  } else if (n.op == "Gemm" && w->rank() == 2) {
    if (n.real("alpha", 1) != 1 || n.real("beta", 1) != 1 || n.integer("transA", 0) != 0) return std::nullopt;
    l.axis = n.integer("transB", 0) != 0 ? 0 : 1;
    l.filters = w->shape()[static_cast<size_t>(l.axis)];
    l.depth = w->shape()[static_cast<size_t>(1 - l.axis)];
    if (l.bias != kAbsent && (floats(g, l.bias)->rank() != 1 || floats(g, l.bias)->size() != l.filters)) return std::nullopt;
  } else if (n.op == "MatMul" && w->rank() == 2) {
    l.axis = 1;
    l.depth = w->shape()[0];
    l.filters = w->shape()[1];
    const auto& after = readers[static_cast<size_t>(l.output)];
    if (after.size() == 1 && std::ranges::find(g.outputs, l.output) == g.outputs.end()) {
      const Node& add = g.nodes[static_cast<size_t>(after[0])];
      const ValueId other = add.op == "Add" && add.domain.empty() ? add.inputs[add.inputs[0] == l.output ? 1 : 0] : kAbsent;
      const Tensor* b = floats(g, other);
      if (b && b->rank() == 1 && b->size() == l.filters && !is_default(g, other)) {
        l.bias = other;
        l.bias_node = after[0];
        l.output = add.outputs[0];
      }
    }
  } else {
    return std::nullopt;
  }
  return l;
}

std::vector<float> by_filter(const Graph& g, const Layer& l) {
  const auto w = g.values[static_cast<size_t>(l.weights)].constant->as<float>();
  if (l.axis == 0) return {w.begin(), w.end()};
  std::vector<float> rows(w.size());
  for (int64_t k = 0; k < l.depth; ++k) {
    for (int64_t f = 0; f < l.filters; ++f) rows[static_cast<size_t>(f * l.depth + k)] = w[static_cast<size_t>(k * l.filters + f)];
  }
  return rows;
}

Tensor in_order(const Graph& g, const Layer& l, std::span<const float> rows) {
  Tensor t(DType::f32, g.values[static_cast<size_t>(l.weights)].constant->shape());
  const auto to = t.as<float>();
  if (l.axis == 0) {
    std::ranges::copy(rows, to.begin());
    return t;
  }
  for (int64_t f = 0; f < l.filters; ++f) {
    for (int64_t k = 0; k < l.depth; ++k) to[static_cast<size_t>(k * l.filters + f)] = rows[static_cast<size_t>(f * l.depth + k)];
  }
  return t;
}

void each_row(const Graph& g, const Layer& l, const Tensor& input, int64_t most, const std::function<void(int64_t, const float*)>& f) {
  const auto x = input.as<float>();
  if (x.empty()) return;
  const Node& n = g.nodes[l.node];
  if (n.op != "Conv") {
    const int64_t rows = input.size() / l.depth, taken = std::min(rows, most);
    for (int64_t i = 0; i < taken; ++i) f(0, x.data() + i * rows / taken * l.depth);
    return;
  }
  const Shape& shape = input.shape();
  const auto spatial = std::span<const int64_t>(shape).subspan(2);
  const Shape& w = g.values[static_cast<size_t>(l.weights)].constant->shape();
  const ops::Window window = ops::read_window(n, spatial, std::span<const int64_t>(w).subspan(2));
  std::vector<std::vector<int64_t>> tables;
  for (int a = 0; a < window.axes(); ++a) tables.push_back(ops::window_table(window, a, spatial[static_cast<size_t>(a)]));
  const int64_t taps = window.taps(), channels = w[1], plane = element_count(spatial), places = element_count(window.out) * shape[0],
                taken = std::min(places, most);
  std::vector<int64_t> from(static_cast<size_t>(taps));
  std::vector<float> row(static_cast<size_t>(l.depth));
  for (int64_t i = 0; i < taken; ++i) {
    int64_t place = i * places / taken;
    const int64_t batch = place / (places / shape[0]);
    std::vector<int64_t> at(static_cast<size_t>(window.axes()));
    for (int a = window.axes() - 1; a >= 0; --a) {
      at[static_cast<size_t>(a)] = place % window.out[static_cast<size_t>(a)];
      place /= window.out[static_cast<size_t>(a)];
    }
    for (int64_t tap = 0; tap < taps; ++tap) {
      int64_t rest = tap, index = 0, stride = 1;
      for (int a = window.axes() - 1; a >= 0 && index >= 0; --a) {
        const auto axis = static_cast<size_t>(a);
        const int64_t source = tables[axis][static_cast<size_t>(at[axis] * window.kernel[axis] + rest % window.kernel[axis])];
        index = source < 0 ? -1 : index + source * stride;
        stride *= spatial[axis];
        rest /= window.kernel[axis];
      }
      from[static_cast<size_t>(tap)] = index;
    }
    for (int64_t group = 0; group < l.groups; ++group) {
      for (int64_t c = 0; c < channels; ++c) {
        const float* lines = x.data() + ((batch * l.groups + group) * channels + c) * plane;
        for (int64_t tap = 0; tap < taps; ++tap) {
          const int64_t index = from[static_cast<size_t>(tap)];
          row[static_cast<size_t>(c * taps + tap)] = index < 0 ? 0 : lines[index];
        }
      }
      f(group, row.data());
    }
  }
}

Moments::Moments(const Layer& l, bool pairs)
    : depth_(l.depth), groups_(l.groups), pairs_(pairs), sums_(static_cast<size_t>(l.groups * l.depth)) {
  int64_t at = 0;
  for (int64_t begin = 0; begin < depth_; begin += kBlock) {
    const int64_t size = std::min(kBlock, depth_ - begin);
    offsets_.push_back(at);
    at += size * size;
  }
  offsets_.push_back(at);
  if (pairs) products_.resize(static_cast<size_t>(at * groups_));
}

void Moments::add(int64_t group, const float* row) {
  rows_ += group == 0;
  double* sums = sums_.data() + group * depth_;
  for (int64_t k = 0; k < depth_; ++k) sums[k] += row[k];
  for (int64_t begin = 0, b = 0; pairs_ && begin < depth_; begin += kBlock, ++b) {
    const int64_t size = std::min(kBlock, depth_ - begin);
    float* into = products_.data() + group * offsets_.back() + offsets_[static_cast<size_t>(b)];
    for (int64_t i = 0; i < size; ++i) {
      const float x = row[begin + i];
      if (x == 0) continue;  // after a Relu, half of them
      for (int64_t j = i; j < size; ++j) into[i * size + j] += x * row[begin + j];
    }
  }
}

double Moments::mean(int64_t group, int64_t k) const {
  return rows_ == 0 ? 0 : sums_[static_cast<size_t>(group * depth_ + k)] / static_cast<double>(rows_);
}

std::vector<double> Moments::block(int64_t group, int64_t begin) const {
  const int64_t size = std::min(kBlock, depth_ - begin);
  const float* from = products_.data() + group * offsets_.back() + offsets_[static_cast<size_t>(begin / kBlock)];
  std::vector<double> out(static_cast<size_t>(size * size));
  for (int64_t i = 0; i < size; ++i) {
    for (int64_t j = i; j < size; ++j) out[static_cast<size_t>(i * size + j)] = out[static_cast<size_t>(j * size + i)] = from[i * size + j];
  }
  return out;
}

}  // namespace lathe::narrowing
