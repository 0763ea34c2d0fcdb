// Weights of 4 and 8 bits behind a DequantizeLinear stay so: products take them as they are (ops/narrow_weights.hpp), and what stands
// between is done on the numbers. Before constants are folded, or they would be floats.
#include <algorithm>

#include "ops/support.hpp"
#include "passes/rewriter.hpp"
#include "tensor/numbers.hpp"

namespace lathe::passes {
namespace {

bool weight_type(DType d) { return d == DType::i8 || d == DType::u8 || d == DType::i4 || d == DType::u4; }

// Numbers of 4 bits, two a byte, the first one low.
uint8_t half_at(const Tensor& t, int64_t i) {
  return static_cast<uint8_t>(static_cast<const uint8_t*>(t.data())[i / 2] >> (i % 2 * 4) & 15);
}

// Numbers of 4 bits as bytes; others as they are.
Tensor in_bytes(const Tensor& t) {
  if (bit_width(t.dtype()) == 8) return t;
  const bool is_signed = t.dtype() == DType::i4;
  Tensor out(is_signed ? DType::i8 : DType::u8, t.shape());
  auto* to = static_cast<uint8_t*>(out.data());
  for (int64_t i = 0; i < t.size(); ++i) to[i] = is_signed ? static_cast<uint8_t>((half_at(t, i) ^ 8) - 8) : half_at(t, i);
  return out;
}

// A matrix on its side.
Tensor turned(const Tensor& t) {
  const int64_t rows = t.shape()[0], columns = t.shape()[1];
  Tensor out(t.dtype(), {columns, rows});
  const auto width = static_cast<size_t>(bit_width(t.dtype()));
  auto* to = static_cast<uint8_t*>(out.data());
  const auto* from = static_cast<const uint8_t*>(t.data());
  std::fill_n(to, out.byte_size(), uint8_t{0});
  for (int64_t r = 0; r < rows; ++r) {
    for (int64_t c = 0; c < columns; ++c) {
      const int64_t at = r * columns + c, there = c * rows + r;
      if (width == 4) to[there / 2] |= static_cast<uint8_t>(half_at(t, at) << (there % 2 * 4));
      else std::copy_n(from + static_cast<size_t>(at) * (width / 8), width / 8, to + static_cast<size_t>(there) * (width / 8));
    }
  }
  return out;
}

class QuantisedWeights {
 public:
  explicit QuantisedWeights(Graph& graph) : graph_(graph), r_(graph, "quantised weights") {}

  Report run() {
    for (int n = 0; n < static_cast<int>(graph_.nodes.size()); ++n) {
      const Node& node = graph_.nodes[static_cast<size_t>(n)];
      if (!node.domain.empty() || node.inputs.empty()) continue;
      if (node.op == "Transpose") transpose(n);
      else if (node.op == "Gather" && node.integer("axis", 0) == 0) gather(n);
    }
    return r_.finish();
  }

 private:
  // A constant matrix of few bits with f32 scales.
  struct Matrix {
    int node = -1;
    Tensor q, scale;
    std::optional<Tensor> zero;
    int64_t axis = 1;
  };
  std::optional<Matrix> matrix(ValueId v) const {
    Matrix m;
    m.node = r_.maker(v, "DequantizeLinear");
    if (m.node < 0 || r_.dtype(v) != DType::f32) return std::nullopt;
    const Node& node = r_.node(m.node);
    const Tensor *q = r_.constant(node.inputs[0]), *scale = r_.constant(node.inputs[1]);
    if (!q || !scale || q->rank() != 2 || q->size() == 0 || !weight_type(q->dtype())) return std::nullopt;
    if (scale->dtype() != DType::f32 || scale->rank() > 2 || scale->size() == 0) return std::nullopt;
    m.q = *q, m.scale = *scale;
    if (node.inputs.size() > 2 && node.inputs[2] != kAbsent) {
      const Tensor* zero = r_.constant(node.inputs[2]);
      if (!zero) return std::nullopt;
      m.zero = *zero;
    }
    const int64_t axis = node.integer("axis", 1);
    m.axis = axis < 0 ? axis + 2 : axis;
    return m;
  }
  static bool single(const Matrix& m) { return m.scale.size() == 1 && m.scale.rank() <= 1; }
  std::string name_of(int n, const char* part) const {
    const Node& node = r_.node(n);
    return (node.name.empty() ? node.op : node.name) + part;
  }

  // Turned before it is widened.
  void transpose(int n) {
    const auto m = matrix(r_.node(n).inputs[0]);
    if (!m || r_.node(n).integers("perm", {1, 0}) != std::vector<int64_t>{1, 0}) return;
    std::vector<ValueId> inputs{r_.add_constant(name_of(n, ".numbers"), turned(m->q))};
    inputs.push_back(r_.add_constant(name_of(n, ".scale"), m->scale.rank() == 2 ? turned(m->scale) : m->scale));
    if (m->zero) inputs.push_back(r_.add_constant(name_of(n, ".zero"), m->zero->rank() == 2 ? turned(*m->zero) : *m->zero));
    const Node& widened = r_.node(m->node);
    auto attributes = widened.attributes;
    attributes["axis"].data = 1 - m->axis;
    r_.become(n, "DequantizeLinear", graph_.version_of(widened), inputs, std::move(attributes), {m->node});
  }

  // Rows are looked up among the numbers and widened then: [rows, blocks, numbers of a block] with a scale a block.
  void gather(int n) {
    const Node& node = r_.node(n);
    const auto m = matrix(node.inputs[0]);
    const auto at = r_.graph_dims(node.inputs[1]);
    const bool known = r_.graph_dims(node.outputs[0]).has_value();
    if (!m || !at || !known) return;
    const int64_t rows = m->q.shape()[0], length = m->q.shape()[1];
    int64_t blocks = 1;
    if (m->scale.rank() == 2) {
      blocks = m->scale.shape()[1];
      const int64_t block = r_.node(m->node).integer("block_size", 0);
      if (m->axis != 1 || length % blocks != 0 || (block != 0 && block * blocks != length)) return;
    } else if (!single(*m) && m->axis != 0) {
      return;  // a scale a column: rare for tables
    }
    const Tensor q = in_bytes(m->q);
    const auto pick = [&](const char* part, const Tensor& table, Dims row) {
      Dims dims = *at;
      dims.insert(dims.end(), row.begin(), row.end());
      return r_.before(n, "Gather", 13, {r_.add_constant(name_of(n, part), table), node.inputs[1]}, {}, table.dtype(), std::move(dims));
    };
    if (single(*m)) {
      std::vector<ValueId> inputs{pick(".numbers", q, {length}), r_.node(m->node).inputs[1]};
      if (m->zero) inputs.push_back(r_.add_constant(name_of(n, ".zero"), in_bytes(*m->zero)));
      r_.become(n, "DequantizeLinear", 13, inputs, {}, {m->node});
      return;
    }
    const int64_t block = length / blocks;
    const auto by_block = [&](const char* part, const Tensor& t) { return pick(part, t.reshaped({rows, blocks, 1}), {blocks, 1}); };
    Dims open = *at;
    open.insert(open.end(), {Dim(blocks), Dim(block)});
    const auto as_floats = [&](ValueId v, Dims dims) {
      Attribute to;
      to.data = int64_t{number_of_dtype(DType::f32)};
      return r_.before(n, "Cast", 13, {v}, {{"to", std::move(to)}}, DType::f32, std::move(dims));
    };
    ValueId y = as_floats(pick(".numbers", q.reshaped({rows, blocks, block}), {blocks, block}), open);
    if (m->zero) {
      Dims one = *at;
      one.insert(one.end(), {Dim(blocks), Dim(1)});
      y = r_.before(n, "Sub", 14, {y, as_floats(by_block(".zero", in_bytes(*m->zero)), one)}, {}, DType::f32, open);
    }
    y = r_.before(n, "Mul", 14, {y, by_block(".scale", m->scale)}, {}, DType::f32, open);
    std::vector<int64_t> shape(at->size(), 0);  // as they are
    shape.push_back(length);
    r_.become(n, "Reshape", 13,
              {y, r_.add_constant(name_of(n, ".shape"), Tensor::from<int64_t>({static_cast<int64_t>(shape.size())}, shape))}, {},
              {m->node});
  }

  Graph& graph_;
  Rewriter r_;
};

}  // namespace

Report quantised_weights(Graph& graph) { return QuantisedWeights(graph).run(); }

}  // namespace lathe::passes
