#include "ops/narrow_weights.hpp"

#include <algorithm>

namespace lathe::ops {
namespace {

// Fewer entries to a scale are as many bytes of scales as of numbers.
constexpr int64_t kLeastBlock = 8;

const Tensor* held(const Graph& g, ValueId v) {
  return v == kAbsent || !g.values[static_cast<size_t>(v)].constant ? nullptr : &*g.values[static_cast<size_t>(v)].constant;
}

// Whether all readers are products that take `v` as a matrix by which rows are multiplied; and whether they transpose it, all alike.
std::optional<bool> transposed_by_products(const Graph& g, ValueId v, const std::vector<int>& readers) {
  std::optional<bool> transposed;
  for (int r : readers) {
    const Node& n = g.nodes[static_cast<size_t>(r)];
    const bool product = n.domain.empty() && (n.op == "MatMul" || (n.op == "Gemm" && n.real("alpha", 1) == 1 && n.real("beta", 1) == 1));
    if (!product || n.inputs.size() < 2 || n.inputs[1] != v || n.inputs[0] == v || (n.inputs.size() > 2 && n.inputs[2] == v))
      return std::nullopt;
    const Value& rows = g.values[static_cast<size_t>(n.inputs[0])];
    if (rows.dtype != DType::f32 || !rows.dims || rows.dims->size() < 2) return std::nullopt;
    if (n.integer("transA", 0) != 0 || (n.inputs.size() > 2 && n.inputs[2] != kAbsent && !held(g, n.inputs[2]))) return std::nullopt;
    const bool turned = n.op == "Gemm" && n.integer("transB", 0) != 0;
    if (transposed && *transposed != turned) return std::nullopt;
    transposed = turned;
  }
  return transposed;
}

// Whether all readers are convolutions with filters of many channels that take `v` as weights.
bool by_convolutions(const Graph& g, ValueId v, const std::vector<std::vector<int>>& readers) {
  // First layers, and those of very few filters, have kernels of their own, and few weights.
  constexpr int64_t kFewChannels = 8, kFewFilters = 8;
  const auto dims = known_shape(g.values[static_cast<size_t>(v)].dims);
  if (!dims || dims->size() < 3 || dims->size() > 5 || (*dims)[1] <= kFewChannels || (*dims)[0] <= kFewFilters) return false;
  return std::ranges::all_of(readers[static_cast<size_t>(v)], [&](int r) {
    const Node& n = g.nodes[static_cast<size_t>(r)];
    if (!n.domain.empty() || n.op != "Conv" || n.inputs.size() < 2 || n.inputs[1] != v || n.inputs[0] == v ||
        (n.inputs.size() > 2 && n.inputs[2] == v) || n.integer("group", 1) != 1)
      return false;
    const Value& x = g.values[static_cast<size_t>(n.inputs[0])];
    return x.dtype == DType::f32 && x.dims.has_value();
  });
}

std::optional<NarrowWeights> quantised(const Graph& g, const Node& n, bool transposed) {
  const Tensor *q = held(g, n.inputs[0]), *scale = held(g, n.inputs[1]);
  NarrowWeights w{n.inputs[0], n.inputs[1], n.inputs.size() > 2 ? n.inputs[2] : kAbsent};
  if (!scale || scale->dtype() != DType::f32 || scale->size() == 0 || (w.zero != kAbsent && !held(g, w.zero))) return std::nullopt;
  if (q->dtype() != DType::i8 && q->dtype() != DType::u8 && q->dtype() != DType::i4 && q->dtype() != DType::u4) return std::nullopt;
  if (scale->size() == 1 && scale->rank() <= 1) return w;
  const int64_t wanted = n.integer("axis", 1), axis = wanted < 0 ? wanted + 2 : wanted, k_axis = transposed ? 1 : 0;
  w.by_column = true;
  if (scale->rank() == 1) return axis == 1 - k_axis ? std::optional(w) : std::nullopt;
  const int64_t k = q->shape()[static_cast<size_t>(k_axis)], blocks = scale->rank() == 2 ? scale->shape()[static_cast<size_t>(k_axis)] : 0;
  if (axis != k_axis || blocks < 1) return std::nullopt;
  w.block = n.integer("block_size", 0);
  if (w.block == 0) w.block = (k + blocks - 1) / blocks;
  return w.block >= kLeastBlock && (k + w.block - 1) / w.block == blocks ? std::optional(w) : std::nullopt;
}

}  // namespace

std::optional<NarrowWeights> narrow_weights(const Graph& g, const Node& n, const std::vector<std::vector<int>>& readers) {
  // Cheap refusals first: this is asked of every Cast.
  const bool cast = n.op == "Cast";
  if (!n.domain.empty() || (!cast && n.op != "DequantizeLinear") || n.inputs.empty() || n.outputs.empty()) return std::nullopt;
  const ValueId v = n.outputs[0];
  const Tensor* from = held(g, n.inputs[0]);
  if (from == nullptr || from->rank() < 2 || from->size() == 0 || g.values[static_cast<size_t>(v)].dtype != DType::f32) return std::nullopt;
  if (cast && from->dtype() != DType::f16 && from->dtype() != DType::bf16) return std::nullopt;
  if (std::ranges::find(g.outputs, v) != g.outputs.end()) return std::nullopt;
  if (from->rank() > 2) {
    if (!cast || readers[static_cast<size_t>(v)].empty() || !by_convolutions(g, v, readers)) return std::nullopt;
    return NarrowWeights{n.inputs[0]};
  }
  const auto transposed = transposed_by_products(g, v, readers[static_cast<size_t>(v)]);
  if (!transposed) return std::nullopt;
  if (cast) return NarrowWeights{n.inputs[0]};
  return quantised(g, n, *transposed);
}

}  // namespace lathe::ops
