// Whole numbers of types that no tape computes in, in wider ones; divisions by numbers that a run brings, behind a look at them; powers.
#include <algorithm>
#include <string_view>

#include "ops/internal_attributes.hpp"
#include "ops/internal_ops.hpp"
#include "passes/node_writer.hpp"
#include "tensor/numbers.hpp"

namespace lathe::passes {
namespace {

constexpr std::string_view kCompares[]{"Equal", "Less", "LessOrEqual", "Greater", "GreaterOrEqual"};
// What tapes do to bytes as they are: floats hold them.
constexpr std::string_view kOfBytes[]{"Add", "Sub", "Mul", "Max", "Min", "Clip", "Where"};
constexpr std::string_view kWider[]{"Div", "Mod",        "Pow",       "Abs",        "Neg",        "Sign",    "Relu",
                                    "Sum", "BitwiseAnd", "BitwiseOr", "BitwiseXor", "BitwiseNot", "BitShift"};

// What numbers of 64 bits without a sign are not as numbers with one.
constexpr std::string_view kNotOfLargest[]{"Div", "Mod", "Pow", "Clip", "Abs", "Sign", "Relu"};

bool among(std::span<const std::string_view> list, std::string_view op) { return std::ranges::find(list, op) != list.end(); }

class WholeNumbers : public NodeWriter {
 public:
  using NodeWriter::NodeWriter;

  std::string operator()(const Node& n) {
    if (!n.domain.empty() || n.inputs.empty() || n.outputs.empty() || n.outputs[0] == kAbsent) return "";
    const size_t first = n.op == "Where" ? 1 : 0;
    if (n.inputs.size() <= first || n.inputs[first] == kAbsent || n.attributes.contains("axis")) return "";
    type_ = dtype(n.inputs[first]);
    if (n.op == "Pow" && type_ != dtype(n.inputs[1])) return power(n);
    if ((n.op == "Div" || n.op == "Mod") && (type_ == DType::i32 || type_ == DType::i64)) return looked_at(n);
    return wider(n, first);
  }

 private:
  std::string wider(const Node& n, size_t first) {
    const bool bytes = type_ == DType::u8 || type_ == DType::i8, compares = among(kCompares, n.op), largest = type_ == DType::u64;
    if (!bytes && type_ != DType::i16 && type_ != DType::u16 && type_ != DType::u32 && !largest) return "";
    if (largest && among(kNotOfLargest, n.op)) return "";
    if (!among(kWider, n.op) && (bytes || (!compares && !among(kOfBytes, n.op)))) return "";
    for (size_t i = first; i < n.inputs.size(); ++i) {
      if (n.inputs[i] != kAbsent && dtype(n.inputs[i]) != type_) return "";
    }
    const DType narrow = type_;
    const DType wide = type_ == DType::u32 || largest || n.op == "Pow" || n.op == "BitShift" ? DType::i64 : DType::i32;
    // Those without a sign of 64 bits lie as those with one do when the highest bit is the other.
    const bool ordered = largest && (n.op == "Max" || n.op == "Min" || (compares && n.op != "Equal"));
    const auto turned = [&](ValueId v, ValueId to = kAbsent) {
      return put(n, "BitwiseXor", 18, {v, constant(n.name + ".highest", Tensor::from<int64_t>({}, {INT64_MIN}))}, {}, to, wide);
    };
    std::vector<ValueId> in = n.inputs;
    for (size_t i = first; i < in.size(); ++i) {
      if (in[i] == kAbsent) continue;
      in[i] = cast(n, in[i], wide);
      if (ordered) in[i] = turned(in[i]);
    }
    ValueId made =
        put(n, n.op, graph_.version_of(n), in, n.attributes, compares ? n.outputs[0] : kAbsent, compares ? DType::boolean : wide);
    if (!compares) cast(n, ordered ? turned(made) : made, narrow, n.outputs[0]);
    return fmt::format("{} as {}", to_string(narrow), to_string(wide));
  }

  // What a run divides by, looked at first.
  std::string looked_at(const Node& n) {
    if (n.attributes.contains(ops::kDivisorsChecked) || dtype(n.inputs[1]) != type_ || graph_.version_of(n) < 7) return "";
    const Value& divisor = graph_.values[static_cast<size_t>(n.inputs[1])];
    const auto made = shape(n.outputs[0]);
    if (divisor.constant || !known_shape(divisor.dims) || !made || element_count(*made) == 0) return "";
    Node look;
    look.domain = ops::kInternalDomain;
    look.op = ops::kDivisors;
    look.name = n.name.empty() ? n.op : n.name;
    look.version = 1;
    look.module = n.module;
    look.inputs = {n.inputs[1]};
    look.outputs = {add(look.name + ".divisors", type_)};
    const ValueId checked = look.outputs[0];
    out_.push_back(std::move(look));
    Attributes attributes = n.attributes;
    attributes[ops::kDivisorsChecked] = attribute(int64_t{1});
    put(n, n.op, graph_.version_of(n), {n.inputs[0], checked}, std::move(attributes), n.outputs[0]);
    return "a look at what it divides by comes first";
  }

  // Base and exponent of different types: in double, as the standard's arithmetic has it, where one of them is a float.
  std::string power(const Node& n) {
    const DType base = type_, exponent = dtype(n.inputs[1]);
    const auto known = [](DType d) {
      return d == DType::f32 || d == DType::f64 || d == DType::i8 || d == DType::u8 || d == DType::i16 || d == DType::u16 ||
             d == DType::i32 || d == DType::u32 || d == DType::i64 || d == DType::u64;
    };
    if (base == DType::u64 || (exponent == DType::u64 && !is_float(base)) || !known(base) || !known(exponent) || graph_.version_of(n) < 12)
      return "";
    const auto& constant = graph_.values[static_cast<size_t>(n.inputs[1])].constant;
    if (constant && is_float(base)) return "";  // seldom_ops has it in the base's own type
    const DType in = is_float(base) || is_float(exponent) ? DType::f64 : DType::i64;
    const auto as = [&](ValueId v) { return dtype(v) == in ? v : cast(n, v, in); };
    const ValueId made = put(n, "Pow", 13, {as(n.inputs[0]), as(n.inputs[1])}, {}, base == in ? n.outputs[0] : kAbsent, in);
    if (base != in) cast(n, made, base, n.outputs[0]);
    return fmt::format("in {}", to_string(in));
  }
};

}  // namespace

Report whole_numbers(Graph& graph) { return written_anew<WholeNumbers>(graph, "whole numbers"); }

}  // namespace lathe::passes
