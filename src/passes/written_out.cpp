// Normalisations and the like that no step does in their type, written out as reductions and elementwise nodes, which steps do in any; and
// products of bytes that are both made while running, which none does.
#include <algorithm>
#include <numeric>
#include <string_view>

#include "ops/support.hpp"
#include "passes/node_writer.hpp"
#include "tensor/numbers.hpp"

namespace lathe::passes {
namespace {

class WrittenOut : public NodeWriter {
 public:
  using NodeWriter::NodeWriter;

  std::string operator()(const Node& n) {
    if (!n.domain.empty() || n.inputs.empty() || n.outputs.empty() || n.inputs[0] == kAbsent || n.outputs[0] == kAbsent) return "";
    if (std::ranges::count_if(n.outputs, [](ValueId v) { return v != kAbsent; }) != 1 || !rank(n.inputs[0])) return "";
    type_ = dtype(n.inputs[0]);
    if (n.op == "MatMulInteger" || n.op == "QLinearMatMul") return byte_product(n);
    if (n.op == "MeanVarianceNormalization") return type_ == DType::f32 || type_ == DType::f64 ? mean_variance(n) : "";
    if (n.op == "ReduceMax" || n.op == "ReduceMin") return by_floats(n);
    if (n.op == "QuantizeLinear") return quantised(n);
    if (n.op == "DequantizeLinear") return dequantised(n);
    if (n.op == "ConvInteger") return byte_convolution(n);
    if (n.op == "BatchNormalization" && type_ == DType::f32 && made(n, 1, 5)) return by_channel(n);
    if (type_ != DType::f64) return "";
    if (n.op == "Softmax" || n.op == "LogSoftmax") return softmax(n);
    if (n.op == "LayerNormalization" || n.op == "RMSNormalization") return over_rows(n);
    if (n.op == "BatchNormalization") return by_channel(n);
    if (n.op == "InstanceNormalization") return instance(n);
    if (n.op == "GroupNormalization") return in_groups(n);
    if (n.op == "GlobalAveragePool" || n.op == "GlobalMaxPool") return global(n);
    if (n.op == "ReduceLogSumExp") return log_sum_exp(n);
    return "";
  }

 private:
  ValueId op(const Node& n, const char* name, std::vector<ValueId> in, ValueId to = kAbsent) {
    return put(n, name, 13, std::move(in), {}, to, type_);
  }
  static std::vector<int64_t> from(int64_t axis, int64_t rank) {
    std::vector<int64_t> axes(static_cast<size_t>(std::max<int64_t>(0, rank - axis)));
    std::iota(axes.begin(), axes.end(), axis);
    return axes;
  }
  ValueId reduce(const Node& n, const char* name, ValueId v, const List& axes, ValueId to = kAbsent, bool keep = true) {
    if (std::string_view(name) == "ReduceSum")
      return put(n, name, 13, {v, integers(n.name + ".axes", axes)}, {{"keepdims", attribute(int64_t{keep})}}, to, type_);
    return put(n, name, 13, {v}, {{"axes", attribute(axes)}, {"keepdims", attribute(int64_t{keep})}}, to, type_);
  }
  // A mean over axes that need not be next to one another: of one run of them after the other.
  ValueId mean(const Node& n, ValueId v, const List& axes) {
    for (size_t i = 0; i < axes.size();) {
      size_t end = i + 1;
      while (end < axes.size() && axes[end] == axes[end - 1] + 1) ++end;
      v = reduce(n, "ReduceMean", v, List(axes.begin() + static_cast<int64_t>(i), axes.begin() + static_cast<int64_t>(end)));
      i = end;
    }
    return v;
  }
  ValueId square(const Node& n, ValueId v) { return op(n, "Mul", {v, v}); }

  // The greatest of bytes: floats hold them all.
  std::string by_floats(const Node& n) {
    if (type_ != DType::u8 && type_ != DType::i8 && type_ != DType::boolean) return "";
    std::vector<ValueId> in = n.inputs;
    in[0] = cast(n, in[0], DType::f32);
    cast(n, put(n, n.op, graph_.version_of(n), std::move(in), n.attributes, kAbsent, DType::f32), type_, n.outputs[0]);
    return "as floats";
  }

  // Whether a run makes one of these inputs.
  bool made(const Node& n, size_t from, size_t to) const {
    for (size_t i = from; i < std::min(to, n.inputs.size()); ++i) {
      if (n.inputs[i] != kAbsent && !graph_.values[static_cast<size_t>(n.inputs[i])].constant) return true;
    }
    return false;
  }
  bool is_byte(ValueId v) const { return dtype(v) == DType::u8 || dtype(v) == DType::i8; }

  // An input as floats, one for all or one along an axis, so that it lies against the first; nothing when there are blocks.
  std::optional<ValueId> along(const Node& n, size_t input, int64_t axis) {
    const auto x = shape(n.inputs[0]), s = shape(n.inputs[input]);
    if (!x || !s || s->size() > 1) return std::nullopt;
    const ValueId v = dtype(n.inputs[input]) == DType::f32 ? n.inputs[input] : cast(n, n.inputs[input], DType::f32);
    if (element_count(*s) == 1) return op(n, "Reshape", {v, integers(n.name + ".scalar", {})});
    axis = ops::wrap_axis(axis, static_cast<int64_t>(x->size()));
    List sizes(x->size() - static_cast<size_t>(axis), 1);
    sizes[0] = element_count(*s);
    return op(n, "Reshape", {v, integers(n.name + ".along", sizes)});
  }

  // Whether constant zero points are not the same for all channels, which no tape adds.
  bool zeros_differ(const Node& n) const {
    if (n.inputs.size() < 3 || n.inputs[2] == kAbsent) return false;
    const auto& zero = graph_.values[static_cast<size_t>(n.inputs[2])].constant;
    if (!zero || zero->data() == nullptr || zero->rank() > 1) return false;
    const auto list = lathe::integers(*zero);
    return std::ranges::any_of(list, [&](int64_t z) { return z != list[0]; });
  }

  // By scales or zero points that a run makes: the division, rounded, from the zero point on; NaN is the zero point.
  std::string quantised(const Node& n) {
    if (type_ != DType::f32 || dtype(n.inputs[1]) != DType::f32 || !is_byte(n.outputs[0])) return "";
    if ((!made(n, 1, 3) && !zeros_differ(n)) || n.integer("precision", 0) > 1) return "";
    const int64_t axis = n.integer("axis", 1);
    const auto scale = along(n, 1, axis);
    std::optional<ValueId> zero;
    if (has(n, 2)) zero = along(n, 2, axis);
    if (!scale || (has(n, 2) && !zero)) return "";
    const ValueId exact = op(n, "Div", {n.inputs[0], *scale});
    const ValueId number_of = put(n, "Where", 9, {put(n, "IsNaN", 13, {exact}, {}, kAbsent, DType::boolean), number(n, 0), exact});
    ValueId near = op(n, "Round", {number_of});
    if (zero) near = op(n, "Add", {near, *zero});
    as_bytes(n, near);
    return "divided, rounded, and put where zero is";
  }

  std::string dequantised(const Node& n) {
    if (!made(n, 1, 3) || !is_byte(n.inputs[0]) || dtype(n.outputs[0]) != DType::f32 || dtype(n.inputs[1]) != DType::f32) return "";
    type_ = DType::f32;
    const int64_t axis = n.integer("axis", 1);
    const auto scale = along(n, 1, axis);
    ValueId x = cast(n, n.inputs[0], DType::f32);
    if (!scale) return "";
    if (has(n, 2)) {
      const auto zero = along(n, 2, axis);
      if (!zero) return "";
      x = op(n, "Sub", {x, *zero});
    }
    op(n, "Mul", {x, *scale}, n.outputs[0]);
    return "by a scale that a run makes: a product of floats";
  }

  // Floats that are whole become the bytes that are the node's result, as one step.
  void as_bytes(const Node& n, ValueId whole) {
    const ValueId none =
        constant(n.name + ".zero", dtype(n.outputs[0]) == DType::i8 ? Tensor::from<int8_t>({}, {0}) : Tensor::from<uint8_t>({}, {0}));
    put(n, "QuantizeLinear", 13, {whole, constant(n.name + ".one", Tensor::from<float>({}, {1})), none}, {}, n.outputs[0],
        dtype(n.outputs[0]));
  }

  // Weights of bytes that a run makes: in floats where these hold the sums exactly, else in doubles.
  std::string byte_convolution(const Node& n) {
    const auto w = shape(n.inputs[1]), x = shape(n.inputs[0]);
    if (!made(n, 1, 2) || !w || !x || w->size() < 3 || !is_byte(n.inputs[0]) || !is_byte(n.inputs[1])) return "";
    constexpr int64_t kExact = 256;  // 256 * 255 * 255 < 2^24
    type_ = element_count(*w) <= kExact * std::max<int64_t>(1, (*w)[0]) ? DType::f32 : DType::f64;
    const auto real = [&](size_t i, size_t zero, int64_t channels) {
      const ValueId v = cast(n, n.inputs[i], type_);
      if (zero >= n.inputs.size() || n.inputs[zero] == kAbsent) return v;
      const auto s = shape(n.inputs[zero]);
      if (!s || s->size() > 1 || (element_count(*s) != 1 && element_count(*s) != channels)) return kAbsent;
      List beside(w->size(), 1);
      beside[0] = element_count(*s);
      return op(n, "Sub", {v, op(n, "Reshape", {cast(n, n.inputs[zero], type_), integers(n.name + ".beside", beside)})});
    };
    const ValueId pixels = real(0, 2, 1), weights = real(1, 3, (*w)[0]);
    if (pixels == kAbsent || weights == kAbsent) return "";
    cast(n, put(n, "Conv", 11, {pixels, weights}, n.attributes), DType::i32, n.outputs[0]);
    return "a convolution of floats";
  }

  std::string softmax(const Node& n) {
    if (graph_.version_of(n) < 13) return "";  // everything from the axis on
    const List axis{ops::wrap_axis(n.integer("axis", -1), *rank(n.inputs[0]))};
    const ValueId off = op(n, "Sub", {n.inputs[0], reduce(n, "ReduceMax", n.inputs[0], axis)}), power = op(n, "Exp", {off});
    const ValueId sum = reduce(n, "ReduceSum", power, axis);
    if (n.op == "Softmax") op(n, "Div", {power, sum}, n.outputs[0]);
    else op(n, "Sub", {off, op(n, "Log", {sum})}, n.outputs[0]);
    return "powers of what is left of the largest, by their sum";
  }

  std::string over_rows(const Node& n) {
    const bool centred = n.op == "LayerNormalization";
    if (dtype(n.inputs[1]) != type_ || dtype(n.outputs[0]) != type_) return "";
    const int64_t ranks = *rank(n.inputs[0]);
    const List axes = from(ops::wrap_axis(n.integer("axis", -1), ranks), ranks);
    const ValueId off = centred ? op(n, "Sub", {n.inputs[0], mean(n, n.inputs[0], axes)}) : n.inputs[0];
    const ValueId deviation = op(n, "Sqrt", {op(n, "Add", {mean(n, square(n, off), axes), number(n, n.real("epsilon", 1e-5f))})});
    const bool biased = centred && has(n, 2);
    const ValueId scaled = op(n, "Mul", {op(n, "Div", {off, deviation}), n.inputs[1]}, biased ? kAbsent : n.outputs[0]);
    if (biased) op(n, "Add", {scaled, n.inputs[2]}, n.outputs[0]);
    return "a division by the deviation of rows";
  }

  // One entry a channel, beside a picture.
  ValueId beside(const Node& n, ValueId v, int64_t ranks) {
    List sizes(static_cast<size_t>(std::max<int64_t>(1, ranks - 1)), 1);
    sizes[0] = -1;
    return op(n, "Reshape", {v, integers(n.name + ".shape", sizes)});
  }

  std::string by_channel(const Node& n) {
    const int64_t ranks = *rank(n.inputs[0]);
    if (graph_.version_of(n) < 9 || n.integer("training_mode", 0) != 0 || ranks < 2) return "";
    for (size_t i = 1; i < 5; ++i) {
      if (dtype(n.inputs[i]) != type_) return "";
    }
    const auto channel = [&](size_t i) { return beside(n, n.inputs[i], ranks); };
    const ValueId deviation = op(n, "Sqrt", {op(n, "Add", {channel(4), number(n, n.real("epsilon", 1e-5f))})});
    const ValueId factor = op(n, "Div", {channel(1), deviation});
    op(n, "Add", {op(n, "Mul", {op(n, "Sub", {n.inputs[0], channel(3)}), factor}), channel(2)}, n.outputs[0]);
    return "a factor and an addend a channel";
  }

  std::string instance(const Node& n) {
    const int64_t ranks = *rank(n.inputs[0]);
    const List axes = from(2, ranks);
    const ValueId off = op(n, "Sub", {n.inputs[0], mean(n, n.inputs[0], axes)});
    const ValueId deviation = op(n, "Sqrt", {op(n, "Add", {mean(n, square(n, off), axes), number(n, n.real("epsilon", 1e-5f))})});
    const ValueId factor = op(n, "Div", {beside(n, n.inputs[1], ranks), deviation});
    op(n, "Add", {op(n, "Mul", {off, factor}), beside(n, n.inputs[2], ranks)}, n.outputs[0]);
    return "a division by the deviation of planes";
  }

  // Each group is a row; scale and bias are of groups at first, of channels since version 21.
  std::string in_groups(const Node& n) {
    const auto s = shape(n.inputs[0]);
    const int64_t groups = n.integer("num_groups", 0);
    if (!s || s->size() < 2 || groups < 1 || (*s)[1] % groups != 0 || element_count(*s) == 0 || n.integer("stash_type", 1) != 1) return "";
    for (size_t i = 1; i < 3; ++i) {
      if (dtype(n.inputs[i]) != type_) return "";
    }
    const bool by_channel = graph_.version_of(n) >= 21;
    const ValueId rows =
        op(n, "Reshape", {n.inputs[0], integers(n.name + ".groups", {(*s)[0], groups, element_count(*s) / (*s)[0] / groups})});
    const ValueId off = op(n, "Sub", {rows, mean(n, rows, {2})});
    const ValueId deviation = op(n, "Sqrt", {op(n, "Add", {mean(n, square(n, off), {2}), number(n, n.real("epsilon", 1e-5f))})});
    const auto sized = [&](ValueId v, ValueId to = kAbsent) {
      return op(n, "Reshape", {v, integers(n.name + ".sizes", List(s->begin(), s->end()))}, to);
    };
    ValueId y = op(n, "Div", {off, deviation});
    if (by_channel) y = sized(y);
    const int64_t ranks = by_channel ? static_cast<int64_t>(s->size()) : 3;
    y = op(n, "Mul", {y, beside(n, n.inputs[1], ranks)});
    y = op(n, "Add", {y, beside(n, n.inputs[2], ranks)}, by_channel ? n.outputs[0] : kAbsent);
    if (!by_channel) sized(y, n.outputs[0]);
    return "a division by the deviation of groups";
  }

  std::string mean_variance(const Node& n) {
    List axes = ops::wrap_axes(n.integers("axes", {0, 2, 3}), *rank(n.inputs[0]));
    std::ranges::sort(axes);
    const ValueId off = op(n, "Sub", {n.inputs[0], mean(n, n.inputs[0], axes)});
    const ValueId deviation = op(n, "Sqrt", {mean(n, square(n, off), axes)});
    op(n, "Div", {off, op(n, "Add", {deviation, number(n, 1e-9)})}, n.outputs[0]);
    return "a division by the deviation";
  }

  std::string global(const Node& n) {
    const int64_t ranks = *rank(n.inputs[0]);
    if (ranks < 3) return "";
    reduce(n, n.op == "GlobalMaxPool" ? "ReduceMax" : "ReduceMean", n.inputs[0], from(2, ranks), n.outputs[0]);
    return "a reduction of planes";
  }

  // log(sum(exp(x - m))) + m, with m the largest; infinities come out as they go in.
  std::string log_sum_exp(const Node& n) {
    const auto axes = reduced_axes(n);
    if (!axes || axes->empty()) return "";
    constexpr double kMost = 1.7976931348623157e308;
    const ValueId most = op(n, "Clip", {reduce(n, "ReduceMax", n.inputs[0], *axes), number(n, -kMost), number(n, kMost)});
    const ValueId sum = reduce(n, "ReduceSum", op(n, "Exp", {op(n, "Sub", {n.inputs[0], most})}), *axes);
    const bool keeps = n.integer("keepdims", 1) != 0;
    const ValueId y = op(n, "Add", {op(n, "Log", {sum}), most}, keeps ? n.outputs[0] : kAbsent);
    if (!keeps) op(n, "Squeeze", {y, integers(n.name + ".axes", *axes)}, n.outputs[0]);
    return "the largest is taken off before the powers, and put on again";
  }

  // Products of bytes of which neither is a constant: in floats, which hold the sums of so many products exactly.
  std::string byte_product(const Node& n) {
    constexpr int64_t kExact = 256, kMostParts = 16;  // 256 * 255 * 255 < 2^24
    const bool integer = n.op == "MatMulInteger";
    const auto input = [&](size_t i) { return i < n.inputs.size() ? n.inputs[i] : kAbsent; };
    const ValueId a = input(0), b = input(integer ? 1 : 3), a_zero = input(2), b_zero = input(integer ? 3 : 5);
    const auto single = [&](ValueId v) {
      const auto s = v == kAbsent ? std::optional(Shape{}) : shape(v);
      return s && s->size() < 2 && element_count(*s) == 1;
    };
    const auto as = shape(a), bs = shape(b);
    if (graph_.values[static_cast<size_t>(b)].constant || !is_byte(a) || !is_byte(b) || !single(a_zero) || !single(b_zero)) return "";
    if (!as || !bs || as->size() < 2 || bs->size() < 2) return "";
    const int64_t depth = as->back(), parts = (depth + kExact - 1) / kExact;
    if (depth < 1 || parts > kMostParts) return "";
    if (!integer && !(single(n.inputs[1]) && single(n.inputs[4]) && single(n.inputs[6]) && single(n.inputs[7]))) return "";
    if (!integer && dtype(n.inputs[1]) != DType::f32) return "";
    type_ = DType::f32;
    const auto floats = [&](ValueId v, ValueId zero) {
      const ValueId wide = cast(n, v, DType::f32);
      if (zero == kAbsent) return wide;
      return op(n, "Sub", {wide, op(n, "Reshape", {cast(n, zero, DType::f32), integers(n.name + ".scalar", {1})})});
    };
    const ValueId left = floats(a, a_zero), right = floats(b, b_zero);
    const auto part = [&](ValueId v, int64_t axis, int64_t at) {
      if (parts == 1) return v;
      return op(n, "Slice",
                {v, integers(n.name + ".from", {at}), integers(n.name + ".to", {std::min(depth, at + kExact)}),
                 integers(n.name + ".axis", {axis})});
    };
    ValueId sum = kAbsent;
    for (int64_t i = 0; i < parts; ++i) {
      const bool last = i + 1 == parts;
      const ValueId product = op(n, "MatMul", {part(left, -1, i * kExact), part(right, -2, i * kExact)});
      const ValueId whole = cast(n, product, DType::i32, integer && parts == 1 ? n.outputs[0] : kAbsent);
      sum = i == 0 ? whole : put(n, "Add", 14, {sum, whole}, {}, integer && last ? n.outputs[0] : kAbsent, DType::i32);
    }
    if (integer) return "a product of floats";
    // In doubles, as the standard's arithmetic has it: a float would round ties the other way now and then.
    const DType to = dtype(n.outputs[0]);
    const bool is_signed = to == DType::i8;
    const auto wide = [&](const char* name, std::vector<ValueId> in) { return put(n, name, 13, std::move(in), {}, kAbsent, DType::f64); };
    const auto scalar = [&](size_t i) {
      return put(n, "Reshape", 13, {cast(n, n.inputs[i], DType::f64), integers(n.name + ".none", {})}, {}, kAbsent, DType::f64);
    };
    const ValueId factor = wide("Div", {wide("Mul", {scalar(1), scalar(4)}), scalar(6)});
    const ValueId near = wide("Add", {wide("Round", {wide("Mul", {cast(n, sum, DType::f64), factor})}), scalar(7)});
    const auto bound = [&](double v) { return constant(n.name + ".bound", Tensor::from<double>({}, {v})); };
    const ValueId kept = wide("Clip", {near, bound(is_signed ? -128 : 0), bound(is_signed ? 127 : 255)});
    as_bytes(n, cast(n, kept, DType::f32));
    return "a product of floats, made bytes in doubles";
  }
};

}  // namespace

Report written_out(Graph& graph) { return written_anew<WrittenOut>(graph, "written out"); }

}  // namespace lathe::passes
