// Products and convolutions between DequantizeLinear and QuantizeLinear: the form in which exporters write quantised models. Each becomes
// the standard's op on the quantised numbers themselves; where floats are wanted of it, the one that gives sums, which are scaled then.
// Before constants are folded, or the weights would be numbers again.
#include <algorithm>
#include <cmath>

#include "base/fail.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"
#include "passes/rewriter.hpp"
#include "tensor/numbers.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {
namespace {

bool is_byte(DType d) { return d == DType::u8 || d == DType::i8; }

// What a DequantizeLinear reads: the numbers, their scale (one, or one a channel) and zero point (absent: 0).
struct Dequantised {
  int node = -1;
  ValueId numbers = kAbsent, scale = kAbsent, zero = kAbsent;
  std::vector<double> scales;
};

class QuantisedSteps {
 public:
  explicit QuantisedSteps(Graph& graph) : graph_(graph), r_(graph, "quantised steps") {}

  Report run() {
    for (int n = 0; n < static_cast<int>(graph_.nodes.size()); ++n) {
      const Node& node = graph_.nodes[n];
      if (!node.domain.empty() || node.op != "QuantizeLinear" || graph_.values[node.inputs[0]].dtype != DType::f32) continue;
      quantised_by(n);
    }
    for (int n = 0; n < static_cast<int>(graph_.nodes.size()); ++n) {
      const Node& node = graph_.nodes[n];
      if (!node.domain.empty() || node.outputs.size() != 1 || graph_.values[node.outputs[0]].dtype != DType::f32) continue;
      if (r_.readers(node.outputs[0]) == 0) continue;
      if (node.op == "Conv") sums_of_convolution(n);
      else if (node.op == "MatMul" || node.op == "Gemm") sums_of_product(n);
    }
    return r_.finish();
  }

 private:
  std::optional<Dequantised> dequantised(ValueId v, bool bytes) const {
    const int n = r_.maker(v, "DequantizeLinear");
    if (n < 0 || graph_.values[v].dtype != DType::f32) return std::nullopt;
    const Node& node = graph_.nodes[n];
    Dequantised d;
    d.node = n;
    d.numbers = node.inputs[0];
    d.scale = node.inputs[1];
    d.zero = node.inputs.size() > 2 ? node.inputs[2] : kAbsent;
    const Tensor* scale = r_.constant(d.scale);
    if (!scale || scale->dtype() != DType::f32 || scale->rank() > 1 || (bytes && !is_byte(graph_.values[d.numbers].dtype)))
      return std::nullopt;
    if (d.zero != kAbsent && !r_.constant(d.zero)) return std::nullopt;
    if (node.integer("block_size", 0) != 0 || scale->size() == 0) return std::nullopt;
    // One zero point for each scale, or one for all: the integer ops want them so.
    if (d.zero != kAbsent && r_.constant(d.zero)->size() != scale->size() && r_.constant(d.zero)->size() != 1) return std::nullopt;
    d.scales = widen<double>(*scale);
    return d;
  }
  // Along this axis, if it has one scale for each entry.
  bool along(const Dequantised& d, int64_t axis) const {
    if (d.scales.size() == 1) return true;
    const auto rank = static_cast<int64_t>(graph_.values[d.numbers].dims->size());
    return ops::wrap_axis(graph_.nodes[d.node].integer("axis", 1), rank) == axis;
  }

  ValueId given(ValueId zero, ValueId like) {
    if (zero != kAbsent) return zero;
    const DType d = graph_.values[like].dtype;
    Tensor t(d, {});
    *static_cast<uint8_t*>(t.data()) = 0;
    return r_.add_constant(graph_.values[like].name + ".zero", t);
  }

  // A constant that is one number a filter along the last dim, as a list of them: for a convolution rank 1 alone.
  static bool lies_along(const Shape& s, int64_t filters, bool convolution) {
    return !s.empty() && s.back() == filters && element_count(s) == filters && (!convolution || s.size() == 1);
  }

  // What is added before the result is rounded: 32-bit numbers of scale (that of the input times that of the weights), or floats as they
  // are; rounding them to that scale could be seen in the result.
  struct Bias {
    ValueId numbers = kAbsent;
    std::vector<float> floats;
  };
  std::optional<Bias> bias_of(ValueId v, const Dequantised& x, const Dequantised& w, int64_t filters, bool convolution,
                              std::vector<int>& inside) {
    const auto step = [&](int64_t i) { return x.scales[0] * w.scales[w.scales.size() == 1 ? 0 : static_cast<size_t>(i)]; };
    const auto as_list = [&](const Tensor& t) {
      const auto values = widen<double>(t);
      return std::vector<float>(values.begin(), values.end());
    };
    if (const auto d = dequantised(v, false)) {
      const Tensor* numbers = r_.constant(d->numbers);
      if (!numbers || numbers->dtype() != DType::i32 || !lies_along(numbers->shape(), filters, convolution) ||
          !along(*d, static_cast<int64_t>(numbers->shape().size()) - 1))
        return std::nullopt;
      bool fits = d->zero == kAbsent || std::ranges::all_of(widen<double>(*r_.constant(d->zero)), [](double z) { return z == 0; });
      for (int64_t i = 0; fits && i < filters; ++i) {
        const double s = d->scales[d->scales.size() == 1 ? 0 : static_cast<size_t>(i)];
        fits = std::fabs(s - step(i)) <= 1e-4 * step(i);
      }
      if (!fits) return std::nullopt;
      inside.push_back(d->node);
      if (numbers->rank() == 1) return Bias{d->numbers, {}};
      const Tensor flat = numbers->reshaped({filters});
      return Bias{r_.add_constant(graph_.values[d->numbers].name + ".flat", flat), {}};
    }
    const Tensor* floats = r_.constant(v);
    if (!floats || floats->dtype() != DType::f32 || !lies_along(floats->shape(), filters, convolution)) return std::nullopt;
    if (std::ranges::any_of(floats->as<float>(), [](float f) { return !std::isfinite(f); })) return std::nullopt;
    return Bias{kAbsent, as_list(*floats)};
  }

  void quantised_by(int q) {
    const Node& quantize = graph_.nodes[q];
    const ValueId y_scale = quantize.inputs[1], y_zero = quantize.inputs.size() > 2 ? quantize.inputs[2] : kAbsent;
    const Tensor* scale = r_.constant(y_scale);
    const DType to = graph_.values[quantize.outputs[0]].dtype;
    if (!scale || scale->size() != 1 || scale->dtype() != DType::f32 || !is_byte(to) || (y_zero != kAbsent && !r_.constant(y_zero))) return;
    const double zero = y_zero == kAbsent ? 0 : widen<double>(*r_.constant(y_zero))[0], s = widen<double>(*scale)[0];
    const double lowest = ((to == DType::u8 ? 0 : -128) - zero) * s, highest = ((to == DType::u8 ? 255 : 127) - zero) * s;
    std::vector<int> inside;
    ValueId at = quantize.inputs[0];
    // A clamp that the quantised range does anyway.
    for (const char* op : {"Relu", "Clip"}) {
      const int c = r_.maker(at, op);
      if (c < 0 || r_.readers(at) != 1) continue;
      const Node& clamp = graph_.nodes[c];
      double low = 0, high = HUGE_VAL;
      if (op[0] == 'C') {
        const auto bound = [&](size_t i, const char* name, double otherwise) -> std::optional<double> {
          if (clamp.inputs.size() == 1) return clamp.real(name, static_cast<float>(otherwise));
          return clamp.inputs.size() > i && clamp.inputs[i] != kAbsent ? r_.scalar(clamp.inputs[i]) : std::optional(otherwise);
        };
        const auto a = bound(1, "min", -HUGE_VAL), b = bound(2, "max", HUGE_VAL);
        if (!a || !b) return;
        low = *a, high = *b;
      }
      if (low > lowest + 0.49 * s || high < highest - 0.49 * s) return;
      inside.push_back(c);
      at = clamp.inputs[0];
    }
    if (r_.readers(at) != 1) return;
    if (const int conv = r_.maker(at, "Conv"); conv >= 0) return convolution(q, conv, std::move(inside));
    ValueId bias = kAbsent;
    int product = r_.maker(at, "MatMul");
    if (product < 0) {
      if (const int gemm = r_.maker(at, "Gemm"); gemm >= 0) return matrix(q, gemm, kAbsent, std::move(inside));
      const int add = r_.maker(at, "Add");
      if (add < 0) return;
      for (int side = 0; side < 2 && product < 0; ++side) {
        product = r_.maker(graph_.nodes[add].inputs[side], "MatMul");
        bias = graph_.nodes[add].inputs[1 - side];
        if (product >= 0 && r_.readers(graph_.nodes[add].inputs[side]) != 1) return;
      }
      if (product < 0) return;
      inside.push_back(add);
    }
    matrix(q, product, bias, std::move(inside));
  }

  void convolution(int q, int conv, std::vector<int> inside) {
    const Node node = graph_.nodes[conv];
    const auto x = dequantised(node.inputs[0], true), w = dequantised(node.inputs[1], true);
    if (!x || !w || x->scales.size() != 1 || !along(*w, 0) || !r_.constant(w->numbers)) return;
    const int64_t filters = r_.constant(w->numbers)->shape()[0];
    inside.insert(inside.end(), {conv, x->node, w->node});
    std::vector<ValueId> in{x->numbers, x->scale, given(x->zero, x->numbers), w->numbers, w->scale, given(w->zero, w->numbers)};
    finish_with(q, in);
    auto attributes = node.attributes;
    if (node.inputs.size() > 2 && node.inputs[2] != kAbsent) {
      const auto bias = bias_of(node.inputs[2], *x, *w, filters, true, inside);
      if (!bias) return;
      add_bias(*bias, in, attributes);
    }
    r_.become(q, "QLinearConv", 10, std::move(in), std::move(attributes), inside);
  }

  static void add_bias(const Bias& bias, std::vector<ValueId>& in, std::map<std::string, Attribute>& attributes) {
    if (bias.numbers != kAbsent) in.push_back(bias.numbers);
    else attributes[ops::kRealBias].data = bias.floats;
  }

  // The output's scale and zero point behind the operands.
  void finish_with(int q, std::vector<ValueId>& in) {
    const Node& quantize = graph_.nodes[q];
    in.push_back(quantize.inputs[1]);
    in.push_back(given(quantize.inputs.size() > 2 ? quantize.inputs[2] : kAbsent, quantize.outputs[0]));
  }

  // MatMul or Gemm with weights of rank two. With a bias it is a convolution of one pixel, which can take one.
  void matrix(int q, int product, ValueId bias, std::vector<int> inside) {
    const Node node = graph_.nodes[product];
    const bool gemm = node.op == "Gemm";
    if (gemm && (node.real("alpha", 1) != 1 || node.real("beta", 1) != 1 || node.integer("transA", 0) != 0)) return;
    if (gemm && node.inputs.size() > 2) bias = node.inputs[2];
    const bool turned = gemm && node.integer("transB", 0) != 0;
    const auto x = dequantised(node.inputs[0], true), w = dequantised(node.inputs[1], true);
    const Tensor* held = w ? r_.constant(w->numbers) : nullptr;
    if (!x || !held) return;
    const Tensor numbers = *held;  // a reference would move with the values
    if (x->scales.size() != 1 || numbers.rank() != 2 || !along(*w, turned ? 0 : 1)) return;
    inside.insert(inside.end(), {product, x->node, w->node});
    const int64_t filters = numbers.shape()[turned ? 0 : 1], depth = numbers.shape()[turned ? 1 : 0];
    const auto shape = r_.shape(node.inputs[0]);
    const ValueId x_zero = given(x->zero, x->numbers), w_zero = given(w->zero, w->numbers);
    // Weights in the order that is wanted, with or without a place for the pixel.
    const auto weights = [&](bool filters_first, Shape s) {
      Tensor t(numbers.dtype(), std::move(s));
      const auto* from = static_cast<const uint8_t*>(numbers.data());
      auto* to = static_cast<uint8_t*>(t.data());
      for (int64_t f = 0; f < filters; ++f) {
        for (int64_t k = 0; k < depth; ++k)
          to[filters_first ? f * depth + k : k * filters + f] = from[turned ? f * depth + k : k * filters + f];
      }
      return r_.add_constant(graph_.values[w->numbers].name + ".turned", t);
    };
    if (bias == kAbsent) {
      std::vector<ValueId> in{x->numbers, x->scale, x_zero, turned ? weights(false, {depth, filters}) : w->numbers, w->scale, w_zero};
      finish_with(q, in);
      r_.become(q, "QLinearMatMul", 10, std::move(in), {}, inside);
      return;
    }
    if (!shape) return;
    const auto whole = bias_of(bias, *x, *w, filters, false, inside);
    if (!whole) return;
    if (element_count(*shape) == 0) return;
    const int64_t rows = element_count(*shape) / depth;
    const auto sizes = [&](const Shape& s) {
      Tensor t(DType::i64, {static_cast<int64_t>(s.size())});
      std::copy(s.begin(), s.end(), t.as<int64_t>().begin());
      return r_.add_constant(graph_.values[graph_.nodes[q].outputs[0]].name + ".shape", t);
    };
    Shape out = *shape;
    out.back() = filters;
    const DType to = graph_.values[graph_.nodes[q].outputs[0]].dtype;
    const ValueId pixels =
        r_.before(q, "Reshape", 13, {x->numbers, sizes({rows, depth, 1, 1})}, {}, graph_.values[x->numbers].dtype, {rows, depth, 1, 1});
    std::vector<ValueId> in{pixels, x->scale, x_zero, weights(true, {filters, depth, 1, 1}), w->scale, w_zero};
    finish_with(q, in);
    std::map<std::string, Attribute> attributes;
    add_bias(*whole, in, attributes);
    const ValueId made = r_.before(q, "QLinearConv", 10, std::move(in), std::move(attributes), to, {rows, filters, 1, 1});
    r_.become(q, "Reshape", 13, {made, sizes(out)}, {}, inside);
  }

  ValueId one_zero(const Dequantised& x) {
    if (x.zero == kAbsent || r_.constant(x.zero)->rank() == 0) return given(x.zero, x.numbers);
    return r_.add_constant(graph_.values[x.zero].name + ".alone", r_.constant(x.zero)->reshaped({}));
  }

  // 32-bit sums at `n`, scaled by what operands are scaled by, with a bias: floats. `shape` is that of scale and bias beside the sums.
  void floats_of(int n, ValueId sums, const Dequantised& x, const Dequantised& w, std::optional<std::vector<float>> bias, Shape shape,
                 const std::vector<int>& inside) {
    const auto dims = graph_.values[graph_.nodes[n].outputs[0]].dims;
    const std::string name = graph_.values[graph_.nodes[n].outputs[0]].name;
    Tensor scale(DType::f32, w.scales.size() == 1 ? Shape{} : shape);
    for (size_t i = 0; i < w.scales.size(); ++i) scale.as<float>()[i] = static_cast<float>(x.scales[0] * w.scales[i]);
    const ValueId wide = r_.before(n, "Cast", 13, {sums}, {{"to", {int64_t{number_of_dtype(DType::f32)}, ""}}}, DType::f32, *dims);
    const ValueId by = r_.add_constant(name + ".scale", scale);
    if (!bias) {
      r_.become(n, "Mul", 14, {wide, by}, {}, inside);
      return;
    }
    Tensor added(DType::f32, std::move(shape));
    std::ranges::copy(*bias, added.as<float>().begin());
    const ValueId scaled = r_.before(n, "Mul", 14, {wide, by}, {}, DType::f32, *dims);
    r_.become(n, "Add", 14, {scaled, r_.add_constant(name + ".bias", added)}, {}, inside);
  }

  // As floats; nothing when it is none that is known.
  std::optional<std::vector<float>> real_bias(ValueId v, const Dequantised& x, const Dequantised& w, int64_t filters, bool convolution,
                                              std::vector<int>& inside) {
    auto bias = bias_of(v, x, w, filters, convolution, inside);
    if (!bias) return std::nullopt;
    if (bias->numbers == kAbsent) return std::move(bias->floats);
    const auto numbers = widen<double>(*r_.constant(bias->numbers));
    std::vector<float> out(numbers.size());
    for (size_t i = 0; i < out.size(); ++i) out[i] = static_cast<float>(numbers[i] * x.scales[0] * w.scales[w.scales.size() == 1 ? 0 : i]);
    return out;
  }

  void sums_of_convolution(int n) {
    const Node node = graph_.nodes[n];
    const auto x = dequantised(node.inputs[0], true), w = dequantised(node.inputs[1], true);
    const auto dims = graph_.values[node.outputs[0]].dims;
    if (!x || !w || !dims || x->scales.size() != 1 || !along(*w, 0) || !r_.constant(w->numbers)) return;
    const Shape filters = r_.constant(w->numbers)->shape();
    std::vector<int> inside{x->node, w->node};
    std::optional<std::vector<float>> bias;
    if (node.inputs.size() > 2 && node.inputs[2] != kAbsent) {
      bias = real_bias(node.inputs[2], *x, *w, filters[0], true, inside);
      if (!bias) return;
    }
    Shape beside(filters.size() - 1, 1);  // [filters, 1, 1]
    beside[0] = filters[0];
    const ValueId sums = r_.before(n, "ConvInteger", 10, {x->numbers, w->numbers, one_zero(*x), given(w->zero, w->numbers)},
                                   node.attributes, DType::i32, *dims);
    floats_of(n, sums, *x, *w, std::move(bias), std::move(beside), inside);
  }

  void sums_of_product(int n) {
    const Node node = graph_.nodes[n];
    const bool gemm = node.op == "Gemm", turned = gemm && node.integer("transB", 0) != 0;
    if (gemm && (node.real("alpha", 1) != 1 || node.real("beta", 1) != 1 || node.integer("transA", 0) != 0)) return;
    const auto x = dequantised(node.inputs[0], true), w = dequantised(node.inputs[1], true);
    const Tensor* held = w ? r_.constant(w->numbers) : nullptr;
    const auto dims = graph_.values[node.outputs[0]].dims;
    if (!x || !held || !dims || x->scales.size() != 1 || held->rank() != 2 || !along(*w, turned ? 0 : 1)) return;
    const Tensor numbers = *held;  // a reference would move with the values
    const int64_t filters = numbers.shape()[turned ? 0 : 1];
    std::vector<int> inside{x->node, w->node};
    std::optional<std::vector<float>> bias;
    if (gemm && node.inputs.size() > 2 && node.inputs[2] != kAbsent) {
      bias = real_bias(node.inputs[2], *x, *w, filters, false, inside);
      if (!bias) return;
    }
    const ValueId b = turned ? r_.add_constant(graph_.values[w->numbers].name + ".turned", in_columns(numbers)) : w->numbers;
    const ValueId sums =
        r_.before(n, "MatMulInteger", 10, {x->numbers, b, one_zero(*x), given(w->zero, w->numbers)}, {}, DType::i32, *dims);
    floats_of(n, sums, *x, *w, std::move(bias), {filters}, inside);
  }

  static Tensor in_columns(const Tensor& rows) {
    const int64_t filters = rows.shape()[0], depth = rows.shape()[1];
    Tensor t(rows.dtype(), {depth, filters});
    const auto* from = static_cast<const uint8_t*>(rows.data());
    for (int64_t f = 0; f < filters; ++f) {
      for (int64_t k = 0; k < depth; ++k) static_cast<uint8_t*>(t.data())[k * filters + f] = from[f * depth + k];
    }
    return t;
  }

  Graph& graph_;
  Rewriter r_;
};

}  // namespace

Report quantised_steps(Graph& graph) {
  Report report = QuantisedSteps(graph).run();
  if (!report.changes.empty()) remove_dead(graph);
  return report;
}

}  // namespace lathe::passes
