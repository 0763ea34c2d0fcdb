#include "ops/arithmetic.hpp"

#include <algorithm>
#include <cctype>
#include <map>
#include <set>
#include <string>

#include "lathe/op.hpp"
#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// Elements of a value, when its sizes are known.
std::optional<double> elements(const Graph& g, ValueId v) {
  if (v == kAbsent) return std::nullopt;
  const auto shape = known_shape(g.values[v].dims);
  return shape ? std::optional(static_cast<double>(element_count(*shape))) : std::nullopt;
}

std::optional<Shape> shape_of(const Graph& g, const Node& n, size_t input) {
  return input < n.inputs.size() && n.inputs[input] != kAbsent ? known_shape(g.values[n.inputs[input]].dims) : std::nullopt;
}

// Multiply-adds for each element of the result.
std::optional<double> depth(const Graph& g, const Node& n) {
  const bool requantised = n.op.starts_with("QLinear");
  if (n.op == "MatMul" || n.op == "MatMulInteger" || n.op == "QLinearMatMul") {
    const auto a = shape_of(g, n, 0);
    return a && !a->empty() ? std::optional(static_cast<double>(a->back())) : std::nullopt;
  }
  if (n.op == "Gemm") {
    const auto a = shape_of(g, n, 0);
    return a && a->size() == 2 ? std::optional(static_cast<double>((*a)[n.integer("transA", 0) != 0 ? 0 : 1])) : std::nullopt;
  }
  const auto w = shape_of(g, n, requantised ? 3 : 1);
  if (!w || w->empty() || (*w)[0] == 0) return std::nullopt;
  return static_cast<double>(element_count(*w)) / static_cast<double>((*w)[0]);
}

// Weights are used once for each entry and step of a sequence.
std::optional<double> recurrent(const Graph& g, const Node& n) {
  const auto x = shape_of(g, n, 0), w = shape_of(g, n, 1), r = shape_of(g, n, 2);
  if (!x || !w || !r || x->size() != 3) return std::nullopt;
  return 2 * static_cast<double>((*x)[0] * (*x)[1]) * static_cast<double>(element_count(*w) + element_count(*r));
}

std::optional<double> pooling(const Graph& g, const Node& n, double results) {
  if (n.op.starts_with("Global") && !n.inputs.empty()) return elements(g, n.inputs[0]);
  double taps = 1;
  for (int64_t k : n.integers("kernel_shape")) taps *= static_cast<double>(k);
  return taps * results;
}

// Letters that are multiplied over: the product of their sizes.
std::optional<double> equation(const Graph& g, const Node& n) {
  std::map<char, int64_t> sizes;
  const std::string text = n.text("equation", "");
  if (text.find("...") != std::string::npos) return std::nullopt;
  size_t operand = 0, axis = 0;
  for (char c : text) {
    if (c == '-') break;
    if (c == ',') ++operand, axis = 0;
    if (!std::isalpha(static_cast<unsigned char>(c))) continue;
    const auto shape = shape_of(g, n, operand);
    if (!shape || axis >= shape->size()) return std::nullopt;
    sizes[c] = (*shape)[axis++];
  }
  double all = static_cast<double>(std::max<size_t>(1, n.inputs.size()));
  for (const auto& [letter, size] : sizes) all *= static_cast<double>(size);
  return all;
}

}  // namespace

std::optional<double> arithmetic(const Graph& g, const Node& n) {
  const OpDef* def = find_op(n.domain, n.op, g.version_of(n));
  if (def == nullptr || !n.domain.empty() || n.has_subgraphs()) return std::nullopt;
  if (def->trait == Trait::movement || def->trait == Trait::view) return 0;
  const auto results = n.outputs.empty() ? std::nullopt : elements(g, n.outputs[0]);
  static const std::set<std::string_view> kProducts{"MatMul", "MatMulInteger", "QLinearMatMul", "Gemm",
                                                    "Conv",   "ConvInteger",   "QLinearConv",   "DeformConv"};
  if (kProducts.contains(n.op)) {
    const auto k = depth(g, n);
    return k && results ? std::optional(2 * *k * *results) : std::nullopt;
  }
  if (n.op == "ConvTranspose") {  // each entry of the input meets all weights of its channel
    const auto w = shape_of(g, n, 1);
    const auto x = n.inputs.empty() ? std::nullopt : elements(g, n.inputs[0]);
    return w && x && !w->empty() && (*w)[0] > 0 ? std::optional(2 * *x * static_cast<double>(element_count(*w) / (*w)[0])) : std::nullopt;
  }
  if (n.op == "LSTM" || n.op == "GRU" || n.op == "RNN") return recurrent(g, n);
  if (n.op == "Einsum") return equation(g, n);
  if (n.op.ends_with("Pool")) return results ? pooling(g, n, *results) : std::nullopt;
  if (def->trait == Trait::reduction) return n.inputs.empty() ? std::nullopt : elements(g, n.inputs[0]);
  if (def->trait == Trait::elementwise)
    return results ? std::optional(*results * std::max<double>(1, static_cast<double>(n.inputs.size()) - 1)) : std::nullopt;
  // Of the rest: one operation for each number that is read or made, whichever are more.
  const auto read = n.inputs.empty() ? std::nullopt : elements(g, n.inputs[0]);
  return results ? std::optional(std::max(*results, read.value_or(0))) : read;
}

}  // namespace lathe::ops
