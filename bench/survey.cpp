// Every op of the standard's default domain that exporters write, in every dtype they write it in, at about a million elements or 100
// MFLOP: which go by compiled steps, how fast against this machine's limit and against f32, and which do not.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <memory>
#include <set>

#include <lathe/lathe.hpp>

#include "timing.hpp"

using namespace lathe;
using A = std::map<std::string, Attribute::Data>;
using List = std::vector<int64_t>;

namespace {

// Makes the operands of a form in one dtype.
struct Form {
  Builder& b;
  DType d;

  ValueId in(const std::string& name, Dims dims) { return b.input(name, d, std::move(dims)); }
  ValueId typed(const std::string& name, DType dtype, Dims dims) { return b.input(name, dtype, std::move(dims)); }
  ValueId integers(const std::string& name, const List& v) {
    return b.constant(name, Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v));
  }
  // A constant of the dtype: small numbers that all types hold.
  ValueId weights(const std::string& name, const Shape& shape, DType dtype = DType::undefined) {
    if (dtype == DType::undefined) dtype = d;
    Tensor t(dtype, shape);
    uint64_t state = 88172645463325252ull;
    for (int64_t i = 0; i < t.size(); ++i) {
      state ^= state << 13, state ^= state >> 7, state ^= state << 17;
      const double v = is_float(dtype) ? static_cast<double>(state % 1024) / 1024 + 0.01 : static_cast<double>(state % 5 + 1);
      switch (dtype) {
        case DType::f32: t.as<float>()[i] = static_cast<float>(v); break;
        case DType::f64: t.as<double>()[i] = v; break;
        case DType::i32: t.as<int32_t>()[i] = static_cast<int32_t>(v); break;
        case DType::i64: t.as<int64_t>()[i] = static_cast<int64_t>(v); break;
        case DType::f16:
        case DType::bf16: static_cast<uint16_t*>(t.data())[i] = static_cast<uint16_t>(encode_narrow(dtype, v)); break;
        default: static_cast<uint8_t*>(t.data())[i] = dtype == DType::boolean ? state % 2 : static_cast<uint8_t>(v);
      }
    }
    return b.constant(name, std::move(t));
  }
  ValueId floats(const std::string& name, const std::vector<float>& v) {
    return b.constant(name, Tensor::from<float>({static_cast<int64_t>(v.size())}, v));
  }
  void out(const std::string& op, std::vector<ValueId> inputs, A attributes = {}, int outputs = 1) {
    const auto made = b.ops(op, std::move(inputs), outputs, std::move(attributes));
    for (ValueId v : made) b.output(v);
  }
};

struct Entry {
  std::string op, form;
  std::vector<DType> dtypes;
  std::function<void(Form&)> make;
};

const std::vector<DType> kReal{DType::f32, DType::f16, DType::bf16, DType::f64};
const std::vector<DType> kNumbers{DType::f32, DType::f16, DType::bf16, DType::f64, DType::i32, DType::i64};
const std::vector<DType> kAll{DType::f32, DType::f16, DType::bf16, DType::f64,    DType::i32,
                              DType::i64, DType::u8,  DType::i8,   DType::boolean};
const std::vector<DType> kBytes{DType::u8, DType::i8};
const std::vector<DType> kBool{DType::boolean};

std::vector<Entry> entries() {
  std::vector<Entry> all;
  const auto add = [&](std::string op, std::string form, const std::vector<DType>& dtypes, std::function<void(Form&)> make) {
    all.push_back({std::move(op), std::move(form), dtypes, std::move(make)});
  };
  const Dims flat{1024, 1024}, picture{1, 64, 128, 128};
  for (const char* op : {"Neg", "Abs", "Sign"}) add(op, "", kNumbers, [=](Form& f) { f.out(op, {f.in("x", flat)}); });
  for (const char* op : {"Relu",  "Sigmoid",         "Tanh",  "Exp",  "Log",  "Sqrt",     "Reciprocal", "Erf",         "Floor",     "Ceil",
                         "Round", "LeakyRelu",       "Elu",   "Selu", "Celu", "Softplus", "Softsign",   "HardSigmoid", "HardSwish", "Mish",
                         "Gelu",  "ThresholdedRelu", "Sin",   "Cos",  "Tan",  "Atan",     "IsNaN",      "IsInf",       "Acos",      "Acosh",
                         "Asin",  "Asinh",           "Atanh", "Cosh", "Sinh", "Shrink",   "Swish",      "Hardmax"})
    add(op, "", kReal, [=](Form& f) { f.out(op, {f.in("x", flat)}); });
  for (const char* op : {"Add", "Sub", "Mul", "Div", "Max", "Min"})
    add(op, "", kNumbers, [=](Form& f) { f.out(op, {f.in("x", flat), f.in("y", flat)}); });
  for (const char* op : {"Sum", "Mean"})
    add(op, "of three", kReal, [=](Form& f) { f.out(op, {f.in("x", flat), f.in("y", flat), f.in("z", flat)}); });
  for (const char* op : {"BitwiseAnd", "BitwiseOr", "BitwiseXor"})
    add(op, "", {DType::i32, DType::i64, DType::u8}, [=](Form& f) { f.out(op, {f.in("x", flat), f.in("y", flat)}); });
  add("BitwiseNot", "", {DType::i32, DType::i64, DType::u8}, [=](Form& f) { f.out("BitwiseNot", {f.in("x", flat)}); });
  add("BitShift", "", kBytes, [=](Form& f) {
    f.out("BitShift", {f.typed("x", DType::u8, flat), f.typed("y", DType::u8, flat)}, {{"direction", std::string("RIGHT")}});
  });
  add("Mod", "of floats", kReal, [=](Form& f) { f.out("Mod", {f.in("x", flat), f.weights("w", {1024})}, {{"fmod", int64_t{1}}}); });
  add("Add", "a row to each", kNumbers, [=](Form& f) { f.out("Add", {f.in("x", flat), f.weights("w", {1024})}); });
  add("Pow", "squares", kReal, [=](Form& f) { f.out("Pow", {f.in("x", flat), f.weights("w", {})}); });
  add("Mod", "", {DType::i32, DType::i64}, [=](Form& f) { f.out("Mod", {f.in("x", flat), f.weights("w", {1024})}); });
  for (const char* op : {"Less", "LessOrEqual", "Greater", "GreaterOrEqual", "Equal"})
    add(op, "", kNumbers, [=](Form& f) { f.out(op, {f.in("x", flat), f.in("y", flat)}); });
  for (const char* op : {"And", "Or", "Xor"}) add(op, "", kBool, [=](Form& f) { f.out(op, {f.in("x", flat), f.in("y", flat)}); });
  add("Not", "", kBool, [=](Form& f) { f.out("Not", {f.in("x", flat)}); });
  add("Where", "", kNumbers, [=](Form& f) { f.out("Where", {f.typed("c", DType::boolean, flat), f.in("x", flat), f.in("y", flat)}); });
  add("Clip", "", kNumbers, [=](Form& f) { f.out("Clip", {f.in("x", flat), f.weights("low", {}), f.weights("high", {})}); });
  add("PRelu", "", kReal, [=](Form& f) { f.out("PRelu", {f.in("x", flat), f.weights("w", {1024})}); });
  for (const auto& [name, to] : {std::pair{"to f32", int64_t{1}},
                                 {"to f16", int64_t{10}},
                                 {"to i32", int64_t{6}},
                                 {"to i64", int64_t{7}},
                                 {"to bool", int64_t{9}},
                                 {"to u8", int64_t{2}},
                                 {"to f64", int64_t{11}}})
    add("Cast", name, kAll, [=](Form& f) { f.out("Cast", {f.in("x", flat)}, {{"to", to}}); });

  for (const char* op : {"ReduceSum", "ReduceMean", "ReduceMax", "ReduceMin", "ReduceProd", "ReduceL1", "ReduceL2", "ReduceSumSquare",
                         "ReduceLogSum", "ReduceLogSumExp"}) {
    for (const auto& [name, axis] : {std::pair{"last axis", int64_t{1}}, {"first axis", int64_t{0}}})
      add(op, name, kNumbers, [=](Form& f) { f.out(op, {f.in("x", flat), f.integers("axes", {axis})}); });
    add(op, "all", kNumbers, [=](Form& f) { f.out(op, {f.in("x", flat)}); });
  }
  for (const char* op : {"ArgMax", "ArgMin"}) {
    for (const auto& [name, axis] : {std::pair{"last axis", int64_t{1}}, {"first axis", int64_t{0}}})
      add(op, name, kNumbers, [=](Form& f) { f.out(op, {f.in("x", flat)}, {{"axis", axis}}); });
  }
  for (const auto& [name, axis] : {std::pair{"last axis", int64_t{1}}, {"first axis", int64_t{0}}}) {
    add("Softmax", name, kReal, [=](Form& f) { f.out("Softmax", {f.in("x", flat)}, {{"axis", axis}}); });
    add("LogSoftmax", name, kReal, [=](Form& f) { f.out("LogSoftmax", {f.in("x", flat)}, {{"axis", axis}}); });
    add("CumSum", name, kNumbers, [=](Form& f) {
      f.out("CumSum", {f.in("x", flat), f.b.constant("axis", Tensor::from<int64_t>({}, {axis}))});
    });
    add("TopK", name, kNumbers, [=](Form& f) { f.out("TopK", {f.in("x", flat), f.integers("k", {8})}, {{"axis", axis}}, 2); });
  }
  add("LayerNormalization", "", kReal, [=](Form& f) {
    f.out("LayerNormalization", {f.in("x", flat), f.weights("w", {1024}), f.weights("b", {1024})});
  });
  add("RMSNormalization", "", kReal, [=](Form& f) { f.out("RMSNormalization", {f.in("x", flat), f.weights("w", {1024})}); });
  add("BatchNormalization", "", kReal, [=](Form& f) {
    f.out("BatchNormalization",
          {f.in("x", picture), f.weights("s", {64}), f.weights("b", {64}), f.weights("m", {64}), f.weights("v", {64})});
  });
  add("InstanceNormalization", "", kReal, [=](Form& f) {
    f.out("InstanceNormalization", {f.in("x", picture), f.weights("s", {64}), f.weights("b", {64})});
  });
  add("GroupNormalization", "", kReal, [=](Form& f) {
    f.out("GroupNormalization", {f.in("x", picture), f.weights("s", {64}), f.weights("b", {64})}, {{"num_groups", int64_t{8}}});
  });
  add("LpNormalization", "", kReal, [=](Form& f) { f.out("LpNormalization", {f.in("x", flat)}, {{"axis", int64_t{1}}}); });
  add("LRN", "", kReal, [=](Form& f) { f.out("LRN", {f.in("x", picture)}, {{"size", int64_t{5}}}); });
  add("MeanVarianceNormalization", "", kReal, [=](Form& f) { f.out("MeanVarianceNormalization", {f.in("x", picture)}); });

  add("MatMul", "by a constant", kNumbers, [=](Form& f) { f.out("MatMul", {f.in("x", {384, 384}), f.weights("w", {384, 384})}); });
  add("MatMul", "one row", kReal, [=](Form& f) { f.out("MatMul", {f.in("x", {1, 1024}), f.weights("w", {1024, 1024})}); });
  add("MatMul", "both made at run time, batches", kReal, [=](Form& f) {
    f.out("MatMul", {f.in("x", {8, 192, 192}), f.in("y", {8, 192, 192})});
  });
  add("Gemm", "", kReal, [=](Form& f) {
    f.out("Gemm", {f.in("x", {384, 384}), f.weights("w", {384, 384}), f.weights("b", {384})}, {{"transB", int64_t{1}}});
  });
  add("Gemm", "alpha, beta, both turned", kReal, [=](Form& f) {
    f.out("Gemm", {f.in("x", {384, 384}), f.weights("w", {384, 384}), f.weights("b", {384})},
          {{"transA", int64_t{1}}, {"transB", int64_t{1}}, {"alpha", 0.5f}, {"beta", 2.0f}});
  });
  add("Einsum", "bij,bjk->bik", kReal, [=](Form& f) {
    f.out("Einsum", {f.in("x", {8, 192, 192}), f.in("y", {8, 192, 192})}, {{"equation", std::string("bij,bjk->bik")}});
  });
  add("Einsum", "bhid,bhjd->bhij", kReal, [=](Form& f) {
    f.out("Einsum", {f.in("x", {2, 4, 192, 64}), f.in("y", {2, 4, 192, 64})}, {{"equation", std::string("bhid,bhjd->bhij")}});
  });
  const auto conv = [&](const std::string& op, const std::string& form, Dims x, Shape w, A attributes,
                        const std::vector<DType>& dtypes = kReal) {
    add(op, form, dtypes, [=](Form& f) { f.out(op, {f.in("x", x), f.weights("w", w)}, attributes); });
  };
  conv("Conv", "3x3", {1, 64, 40, 40}, {64, 64, 3, 3}, {{"pads", List{1, 1, 1, 1}}});
  conv("Conv", "1x1", {1, 128, 56, 56}, {128, 128, 1, 1}, {});
  conv("Conv", "7x7 of 3 channels, stride 2", {1, 3, 160, 160}, {32, 3, 7, 7}, {{"pads", List{3, 3, 3, 3}}, {"strides", List{2, 2}}});
  conv("Conv", "depthwise", {1, 64, 128, 128}, {64, 1, 3, 3}, {{"pads", List{1, 1, 1, 1}}, {"group", int64_t{64}}});
  conv("Conv", "4 groups", {1, 128, 40, 40}, {128, 32, 3, 3}, {{"pads", List{1, 1, 1, 1}}, {"group", int64_t{4}}});
  conv("Conv", "of sequences", {1, 128, 1024}, {128, 128, 3}, {{"pads", List{1, 1}}});
  conv("Conv", "of volumes", {1, 16, 24, 24, 24}, {16, 16, 3, 3, 3}, {{"pads", List{1, 1, 1, 1, 1, 1}}});
  conv("ConvTranspose", "2x2, stride 2", {1, 128, 32, 32}, {128, 64, 2, 2}, {{"strides", List{2, 2}}});
  conv("ConvTranspose", "of sequences", {1, 128, 512}, {128, 128, 4}, {{"strides", List{2}}, {"pads", List{1, 1}}});
  conv("ConvTranspose", "a group a channel", {1, 64, 64, 64}, {64, 1, 4, 4},
       {{"strides", List{2, 2}}, {"pads", List{1, 1, 1, 1}}, {"group", int64_t{64}}});
  conv("ConvTranspose", "4 groups", {1, 64, 32, 32}, {64, 16, 4, 4},
       {{"strides", List{2, 2}}, {"pads", List{1, 1, 1, 1}}, {"group", int64_t{4}}});
  conv("ConvTranspose", "to one filter", {1, 64, 64, 64}, {64, 1, 4, 4}, {{"strides", List{2, 2}}, {"pads", List{1, 1, 1, 1}}});
  conv("ConvTranspose", "3x3, stride 1", {1, 64, 40, 40}, {64, 64, 3, 3}, {{"pads", List{1, 1, 1, 1}}});
  conv("ConvTranspose", "of volumes", {1, 16, 12, 12, 12}, {16, 16, 2, 2, 2}, {{"strides", List{2, 2, 2}}});
  conv("Conv", "dilated", {1, 64, 40, 40}, {64, 64, 3, 3}, {{"pads", List{4, 4, 4, 4}}, {"dilations", List{4, 4}}});
  conv("Conv", "depthwise, dilated", {1, 64, 128, 128}, {64, 1, 3, 3},
       {{"pads", List{2, 2, 2, 2}}, {"dilations", List{2, 2}}, {"group", int64_t{64}}});
  conv("Conv", "depthwise, twice as many", {1, 64, 128, 128}, {128, 1, 3, 3}, {{"pads", List{1, 1, 1, 1}}, {"group", int64_t{64}}});
  conv("Conv", "depthwise 7x7", {1, 64, 64, 64}, {64, 1, 7, 7}, {{"pads", List{3, 3, 3, 3}}, {"group", int64_t{64}}});
  conv("Conv", "depthwise, of sequences", {1, 256, 4096}, {256, 1, 15}, {{"pads", List{7, 7}}, {"group", int64_t{256}}});
  conv("Conv", "depthwise, of volumes", {1, 32, 24, 24, 24}, {32, 1, 3, 3, 3}, {{"pads", List{1, 1, 1, 1, 1, 1}}, {"group", int64_t{32}}});
  conv("Conv", "32 groups of 4", {1, 128, 40, 40}, {128, 4, 3, 3}, {{"pads", List{1, 1, 1, 1}}, {"group", int64_t{32}}});
  conv("Conv", "1x1, stride 2", {1, 128, 56, 56}, {256, 128, 1, 1}, {{"strides", List{2, 2}}});
  conv("Conv", "16x16 patches", {1, 3, 224, 224}, {192, 3, 16, 16}, {{"strides", List{16, 16}}});
  conv("Conv", "1x7", {1, 64, 40, 40}, {64, 64, 1, 7}, {{"pads", List{0, 3, 0, 3}}});
  conv("Conv", "of a signal, 10 taps, stride 5", {1, 1, 80000}, {512, 1, 10}, {{"strides", List{5}}});
  add("Conv", "weights made at run time", kReal, [=](Form& f) {
    f.out("Conv", {f.in("x", {1, 64, 40, 40}), f.in("w", {64, 64, 3, 3})}, {{"pads", List{1, 1, 1, 1}}});
  });
  for (const char* op : {"MaxPool", "AveragePool"}) {
    const std::vector<DType> dtypes =
        op[0] == 'M' ? std::vector<DType>{DType::f32, DType::f16, DType::bf16, DType::f64, DType::u8, DType::i8} : kReal;
    add(op, "2x2, stride 2", dtypes, [=](Form& f) {
      f.out(op, {f.in("x", picture)}, {{"kernel_shape", List{2, 2}}, {"strides", List{2, 2}}});
    });
    add(op, "3x3, padded", dtypes, [=](Form& f) {
      f.out(op, {f.in("x", picture)}, {{"kernel_shape", List{3, 3}}, {"pads", List{1, 1, 1, 1}}});
    });
    add(op, "of sequences", dtypes, [=](Form& f) {
      f.out(op, {f.in("x", {1, 64, 16384})}, {{"kernel_shape", List{2}}, {"strides", List{2}}});
    });
    add(op, "of volumes", dtypes, [=](Form& f) {
      f.out(op, {f.in("x", {1, 16, 40, 40, 40})}, {{"kernel_shape", List{2, 2, 2}}, {"strides", List{2, 2, 2}}});
    });
  }
  add("MaxPool", "with indices", kReal, [=](Form& f) {
    f.out("MaxPool", {f.in("x", picture)}, {{"kernel_shape", List{2, 2}}, {"strides", List{2, 2}}}, 2);
  });
  for (const char* op : {"GlobalAveragePool", "GlobalMaxPool"}) add(op, "", kReal, [=](Form& f) { f.out(op, {f.in("x", picture)}); });
  add("LpPool", "", kReal, [=](Form& f) {
    f.out("LpPool", {f.in("x", picture)}, {{"kernel_shape", List{2, 2}}, {"strides", List{2, 2}}});
  });
  for (const char* mode : {"nearest", "linear", "cubic"}) {
    for (const auto& [name, scales] : {std::pair{"twice", std::vector<float>{1, 1, 2, 2}}, {"half", std::vector<float>{1, 1, 0.5f, 0.5f}}})
      add("Resize", fmt::format("{}, {}", mode, name), {DType::f32, DType::f16, DType::bf16, DType::f64, DType::u8}, [=](Form& f) {
        f.out("Resize", {f.in("x", {1, 16, 128, 128}), kAbsent, f.floats("scales", scales)}, {{"mode", std::string(mode)}});
      });
  }
  add("Resize", "linear, of sequences", kReal, [=](Form& f) {
    f.out("Resize", {f.in("x", {1, 64, 8192}), kAbsent, f.floats("scales", {1, 1, 2})}, {{"mode", std::string("linear")}});
  });
  add("Resize", "linear, of volumes", kReal, [=](Form& f) {
    f.out("Resize", {f.in("x", {1, 4, 32, 32, 32}), kAbsent, f.floats("scales", {1, 1, 2, 2, 2})}, {{"mode", std::string("linear")}});
  });
  add("Resize", "linear, of channels-last pictures", kReal, [=](Form& f) {
    f.out("Resize", {f.in("x", {1, 128, 128, 16}), kAbsent, f.floats("scales", {1, 2, 2, 1})}, {{"mode", std::string("linear")}});
  });

  add("Transpose", "", kAll, [=](Form& f) { f.out("Transpose", {f.in("x", flat)}); });
  add("Transpose", "channels to the front", kAll, [=](Form& f) {
    f.out("Transpose", {f.in("x", {1, 512, 512, 3})}, {{"perm", List{0, 3, 1, 2}}});
  });
  add("Transpose", "channels to the end", kAll, [=](Form& f) {
    f.out("Transpose", {f.in("x", {1, 3, 512, 512})}, {{"perm", List{0, 2, 3, 1}}});
  });
  add("Transpose", "heads", kAll, [=](Form& f) { f.out("Transpose", {f.in("x", {4, 64, 16, 256})}, {{"perm", List{0, 2, 1, 3}}}); });
  add("Concat", "", kAll, [=](Form& f) { f.out("Concat", {f.in("x", picture), f.in("y", picture)}, {{"axis", int64_t{1}}}); });
  add("Split", "", kAll, [=](Form& f) { f.out("Split", {f.in("x", flat), f.integers("sizes", {512, 512})}, {{"axis", int64_t{1}}}, 2); });
  add("Slice", "every other", kAll, [=](Form& f) {
    f.out("Slice", {f.in("x", flat), f.integers("from", {0}), f.integers("to", {1024}), f.integers("axes", {1}), f.integers("step", {2})});
  });
  add("Slice", "backwards", kAll, [=](Form& f) {
    f.out("Slice",
          {f.in("x", flat), f.integers("from", {-1}), f.integers("to", {INT64_MIN}), f.integers("axes", {1}), f.integers("step", {-1})});
  });
  for (const char* mode : {"constant", "reflect", "edge", "wrap"})
    add("Pad", mode, kAll, [=](Form& f) {
      f.out("Pad", {f.in("x", picture), f.integers("pads", {0, 0, 2, 2, 0, 0, 2, 2})}, {{"mode", std::string(mode)}});
    });
  add("Expand", "", kAll, [=](Form& f) { f.out("Expand", {f.in("x", {1024, 1}), f.integers("to", {1024, 1024})}); });
  add("Tile", "", kAll, [=](Form& f) { f.out("Tile", {f.in("x", {256, 1024}), f.integers("times", {2, 2})}); });
  add("Gather", "rows", kAll, [=](Form& f) { f.out("Gather", {f.weights("w", {1024, 1024}), f.typed("at", DType::i64, {1024})}); });
  add("Gather", "columns", kAll, [=](Form& f) {
    f.out("Gather", {f.in("x", flat), f.typed("at", DType::i64, {512})}, {{"axis", int64_t{1}}});
  });
  add("GatherElements", "", kAll, [=](Form& f) {
    f.out("GatherElements", {f.in("x", flat), f.typed("at", DType::i64, flat)}, {{"axis", int64_t{1}}});
  });
  add("GatherElements", "first axis", kAll, [=](Form& f) {
    f.out("GatherElements", {f.in("x", flat), f.typed("at", DType::i64, flat)}, {{"axis", int64_t{0}}});
  });
  add("GatherND", "of single elements", kAll, [=](Form& f) {
    f.out("GatherND", {f.in("x", flat), f.typed("at", DType::i64, {512, 512, 2})});
  });
  add("GatherND", "", kAll, [=](Form& f) { f.out("GatherND", {f.in("x", flat), f.typed("at", DType::i64, {1024, 1})}); });
  add("ScatterElements", "", kAll, [=](Form& f) {
    f.out("ScatterElements", {f.in("x", flat), f.typed("at", DType::i64, {1024, 256}), f.in("u", {1024, 256})}, {{"axis", int64_t{1}}});
  });
  add("ScatterND", "", kAll, [=](Form& f) {
    f.out("ScatterND", {f.in("x", flat), f.typed("at", DType::i64, {256, 1}), f.in("u", {256, 1024})});
  });
  for (const char* how : {"add", "max"}) {
    add("ScatterElements", how, kNumbers, [=](Form& f) {
      f.out("ScatterElements", {f.in("x", flat), f.typed("at", DType::i64, {1024, 256}), f.in("u", {1024, 256})},
            {{"axis", int64_t{1}}, {"reduction", std::string(how)}});
    });
    add("ScatterND", how, kNumbers, [=](Form& f) {
      f.out("ScatterND", {f.in("x", flat), f.typed("at", DType::i64, {256, 1}), f.in("u", {256, 1024})}, {{"reduction", std::string(how)}});
    });
  }
  add("TensorScatter", "", kReal, [=](Form& f) {
    f.out("TensorScatter", {f.in("x", {4, 8, 512, 64}), f.in("u", {4, 8, 16, 64}), f.integers("at", {0, 5, 9, 100})});
  });
  add("DepthToSpace", "", kReal, [=](Form& f) { f.out("DepthToSpace", {f.in("x", picture)}, {{"blocksize", int64_t{2}}}); });
  add("SpaceToDepth", "", kReal, [=](Form& f) { f.out("SpaceToDepth", {f.in("x", picture)}, {{"blocksize", int64_t{2}}}); });
  add("Trilu", "", kNumbers, [=](Form& f) { f.out("Trilu", {f.in("x", flat)}); });
  add("OneHot", "", {DType::f32, DType::i64}, [=](Form& f) {
    f.out("OneHot",
          {f.typed("at", DType::i64, {1024}), f.b.constant("depth", Tensor::from<int64_t>({}, {1024})), f.weights("values", {2})});
  });
  add("NonZero", "", kAll, [=](Form& f) { f.out("NonZero", {f.in("x", flat)}); });
  add("Compress", "", kAll, [=](Form& f) {
    f.out("Compress", {f.in("x", flat), f.weights("c", {1024}, DType::boolean)}, {{"axis", int64_t{0}}});
  });
  add("Unique", "", kNumbers, [=](Form& f) { f.out("Unique", {f.in("x", {65536})}); });
  add("EyeLike", "", kReal, [=](Form& f) { f.out("EyeLike", {f.in("x", flat)}); });
  add("Range", "", {DType::f32, DType::i64, DType::i32}, [=](Form& f) {
    f.out("Range", {f.in("from", {}), f.in("to", {}), f.in("step", {})});
  });
  add("CenterCropPad", "", kAll, [=](Form& f) { f.out("CenterCropPad", {f.in("x", flat), f.integers("to", {900, 1100})}); });
  add("Col2Im", "", kReal, [=](Form& f) {
    f.out("Col2Im", {f.in("x", {1, 64 * 9, 62 * 62}), f.integers("image", {64, 64}), f.integers("block", {3, 3})});
  });
  add("AffineGrid", "", kReal, [=](Form& f) { f.out("AffineGrid", {f.in("theta", {4, 2, 3}), f.integers("size", {4, 3, 256, 256})}); });
  add("DeformConv", "3x3", kReal, [=](Form& f) {
    f.out("DeformConv", {f.in("x", {1, 64, 40, 40}), f.weights("w", {64, 64, 3, 3}), f.in("offset", {1, 18, 40, 40})},
          {{"pads", List{1, 1, 1, 1}}});
  });
  add("MaxUnpool", "", kReal, [=](Form& f) {
    f.out("MaxUnpool", {f.in("x", {1, 64, 64, 64}), f.typed("at", DType::i64, {1, 64, 64, 64})},
          {{"kernel_shape", List{2, 2}}, {"strides", List{2, 2}}});
  });
  add("MaxRoiPool", "", kReal, [=](Form& f) {
    f.out("MaxRoiPool", {f.in("x", {1, 64, 64, 64}), f.weights("rois", {32, 5})}, {{"pooled_shape", List{7, 7}}, {"spatial_scale", 30.0f}});
  });
  add("GlobalLpPool", "", kReal, [=](Form& f) { f.out("GlobalLpPool", {f.in("x", picture)}); });
  add("RotaryEmbedding", "", kReal, [=](Form& f) {
    f.out("RotaryEmbedding", {f.in("x", {1, 8, 1024, 64}), f.in("cos", {1, 1024, 32}), f.in("sin", {1, 1024, 32})});
  });
  add("Det", "", kReal, [=](Form& f) { f.out("Det", {f.in("x", {4096, 8, 8})}); });
  add("DFT", "of 512", kReal, [=](Form& f) {
    f.out("DFT", {f.in("x", {1024, 512, 1}), kAbsent, f.b.constant("axis", Tensor::from<int64_t>({}, {1}))});
  });
  add("DFT", "of 400", kReal, [=](Form& f) {
    f.out("DFT", {f.in("x", {1024, 400, 1}), kAbsent, f.b.constant("axis", Tensor::from<int64_t>({}, {1}))}, {{"onesided", int64_t{1}}});
  });
  add("STFT", "", kReal, [=](Form& f) {
    f.out("STFT", {f.in("x", {1, 160000}), f.b.constant("step", Tensor::from<int64_t>({}, {160})), f.weights("w", {400})},
          {{"onesided", int64_t{1}}});
  });
  add("MelWeightMatrix", "", {DType::f32}, [=](Form& f) {
    const auto n = [&](const char* name, int64_t v) { return f.b.constant(name, Tensor::from<int64_t>({}, {v})); };
    f.out("MelWeightMatrix", {n("bins", 128), n("length", 1024), n("rate", 16000), f.b.constant("low", Tensor::from<float>({}, {0.0f})),
                              f.b.constant("high", Tensor::from<float>({}, {8000.0f}))});
  });
  add("RandomNormalLike", "", {DType::f32}, [=](Form& f) { f.out("RandomNormalLike", {f.in("x", flat)}); });
  add("RandomUniformLike", "", {DType::f32}, [=](Form& f) { f.out("RandomUniformLike", {f.in("x", flat)}); });
  add("Bernoulli", "", {DType::f32}, [=](Form& f) { f.out("Bernoulli", {f.b.op("Sigmoid", {f.in("x", flat)})}); });
  add("Multinomial", "", {DType::f32}, [=](Form& f) { f.out("Multinomial", {f.in("x", {64, 1024})}, {{"sample_size", int64_t{64}}}); });
  add("SoftmaxCrossEntropyLoss", "", {DType::f32}, [=](Form& f) {
    f.out("SoftmaxCrossEntropyLoss", {f.in("x", flat), f.typed("at", DType::i64, {1024})});
  });
  add("NegativeLogLikelihoodLoss", "", {DType::f32}, [=](Form& f) {
    f.out("NegativeLogLikelihoodLoss", {f.in("x", flat), f.typed("at", DType::i64, {1024})});
  });
  add("ReverseSequence", "", kReal, [=](Form& f) { f.out("ReverseSequence", {f.in("x", flat), f.integers("n", List(1024, 700))}); });

  add("GridSample", "", kReal, [=](Form& f) { f.out("GridSample", {f.in("x", {1, 16, 128, 128}), f.in("grid", {1, 128, 128, 2})}); });
  add("RoiAlign", "", kReal, [=](Form& f) {
    f.out("RoiAlign", {f.in("x", {1, 64, 64, 64}), f.weights("rois", {32, 4}), f.integers("at", List(32, 0))},
          {{"output_height", int64_t{7}}, {"output_width", int64_t{7}}, {"spatial_scale", 30.0f}});
  });
  add("NonMaxSuppression", "", {DType::f32}, [=](Form& f) {
    f.out("NonMaxSuppression",
          {f.in("boxes", {1, 1000, 4}), f.in("scores", {1, 20, 1000}), f.integers("most", {100}), f.floats("iou", {0.5f})});
  });
  for (const auto& [op, gates] : {std::pair{"LSTM", int64_t{4}}, {"GRU", int64_t{3}}, {"RNN", int64_t{1}}}) {
    const auto layer = [=](Form& f, int64_t layout, bool lengths, A attributes) {
      const int64_t h = 128, in = 64, steps = 32, batch = 8;
      attributes["hidden_size"] = h;
      attributes["layout"] = layout;
      f.out(op,
            {f.in("x", layout ? Dims{batch, steps, in} : Dims{steps, batch, in}), f.weights("w", {1, gates * h, in}),
             f.weights("r", {1, gates * h, h}), f.weights("b", {1, 2 * gates * h}),
             lengths ? f.b.constant("lengths", Tensor::from<int32_t>({batch}, std::vector<int32_t>(batch, 20))) : kAbsent},
            attributes);
    };
    add(op, "", kReal, [=](Form& f) { layer(f, 0, false, {}); });
    add(op, "batch first", kReal, [=](Form& f) { layer(f, 1, false, {}); });
    add(op, "clipped", kReal, [=](Form& f) { layer(f, 0, false, {{"clip", 3.0f}}); });
    add(op, "sequence lengths", kReal, [=](Form& f) { layer(f, 0, true, {}); });
    add(op, "backwards", kReal, [=](Form& f) { layer(f, 0, false, {{"direction", std::string("reverse")}}); });
  }
  add("Attention", "", kReal, [=](Form& f) {
    f.out("Attention", {f.in("q", {1, 8, 128, 64}), f.in("k", {1, 8, 128, 64}), f.in("v", {1, 8, 128, 64})});
  });

  // Bytes: scales are f32 whatever the numbers are.
  const auto scale = [](Form& f, const std::string& name) { return f.floats(name, {0.02f}); };
  const auto one = [](Form& f, const std::string& name, DType d) { return f.weights(name, {}, d); };
  add("QuantizeLinear", "", kBytes, [=](Form& f) {
    f.out("QuantizeLinear", {f.typed("x", DType::f32, flat), f.b.constant("s", Tensor::from<float>({}, {0.02f})), one(f, "z", f.d)});
  });
  add("DequantizeLinear", "", kBytes, [=](Form& f) {
    f.out("DequantizeLinear", {f.in("x", flat), f.b.constant("s", Tensor::from<float>({}, {0.02f})), one(f, "z", f.d)});
  });
  add("DynamicQuantizeLinear", "", {DType::f32}, [=](Form& f) { f.out("DynamicQuantizeLinear", {f.in("x", flat)}, {}, 3); });
  add("MatMulInteger", "", kBytes, [=](Form& f) {
    f.out("MatMulInteger", {f.in("x", {384, 384}), f.weights("w", {384, 384}), one(f, "z", f.d)});
  });
  add("MatMulInteger", "both made at run time", kBytes, [=](Form& f) {
    f.out("MatMulInteger", {f.in("x", {8, 192, 192}), f.in("y", {8, 192, 192})});
  });
  add("ConvInteger", "3x3", kBytes, [=](Form& f) {
    f.out("ConvInteger", {f.in("x", {1, 64, 40, 40}), f.weights("w", {64, 64, 3, 3}), one(f, "z", f.d)}, {{"pads", List{1, 1, 1, 1}}});
  });
  add("ConvInteger", "depthwise", kBytes, [=](Form& f) {
    f.out("ConvInteger", {f.in("x", picture), f.weights("w", {64, 1, 3, 3}), one(f, "z", f.d)},
          {{"pads", List{1, 1, 1, 1}}, {"group", int64_t{64}}});
  });
  add("QLinearMatMul", "", kBytes, [=](Form& f) {
    f.out("QLinearMatMul", {f.in("x", {384, 384}), scale(f, "sx"), one(f, "zx", f.d), f.weights("w", {384, 384}), scale(f, "sw"),
                            one(f, "zw", f.d), scale(f, "sy"), one(f, "zy", f.d)});
  });
  add("QLinearConv", "3x3", kBytes, [=](Form& f) {
    f.out("QLinearConv",
          {f.in("x", {1, 64, 40, 40}), scale(f, "sx"), one(f, "zx", f.d), f.weights("w", {64, 64, 3, 3}), scale(f, "sw"), one(f, "zw", f.d),
           scale(f, "sy"), one(f, "zy", f.d)},
          {{"pads", List{1, 1, 1, 1}}});
  });
  return all;
}

struct Result {
  std::string name;
  DType dtype;
  double seconds = 0, limit = 0;
  double against = 0;  // times the f32 twin's time
  std::string plain;   // why, when a step is

  // What moves twice the bytes of its twin may leave a cache that the twin fits: at most of its limit it is not slow.
  bool slow() const { return (against > 4 && limit < 0.5 * seconds) || (seconds > 0 && limit < 0.05 * seconds); }
};

// Why what is plain or slow may stay so. Forms that begin with `name`, in one of these types (none: all).
struct Reason {
  std::string_view name;
  std::vector<DType> dtypes;
  std::string_view why;
};
const std::vector<Reason> kReasons{
    {"Compress", {}, "how much is left is known while it runs: a copy by the op's own loop"},
    {"NonZero", {}, "how many there are is known while it runs: two passes by the op's own loop"},
    {"NonMaxSuppression", {}, "how many are left is known while it runs: the op's own loop, on candidates above the score"},
    {"Div", {DType::i32, DType::i64}, "a zero among divisors that a run brings is an error with its place; constants divide in a tape"},
    {"MatMul, by a constant", {DType::i32, DType::i64}, "no exporter writes it; bytes are multiplied by MatMulInteger"},
    {"ReduceLogSumExp", {DType::i32, DType::i64}, "of whole numbers it means nothing that models want"},
    {"Cast, to f16", {DType::i32, DType::i64}, "through doubles, rounded once; models cast floats to halves"},
    {"Gather, columns",
     {DType::u8, DType::i8, DType::boolean},
     "an element a cycle, as in f32, which takes as long: its limit counts bytes, of which there are a quarter"},
    {"Pow", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"GridSample",
     {DType::f32},
     "four numbers a result from wherever the grid says, here at random: not memory's rate but its answers are waited for"},
    {"RoiAlign", {DType::f32}, "some sixteen numbers a result, in turn: arithmetic, of which its limit counts none"},
    {"Resize", {DType::u8}, "sums of floats, as fast as in f32: its limit counts bytes, of which there are a quarter"},
    {"Mish", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"Atan", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"EyeLike", {}, "its result is known before a run; exporters write constants"},
    {"Range", {}, "how long it is is known while it runs: a loop of the op's own"},
    {"Unique", {}, "how many there are is known while it runs: a sort of the op's own"},
    {"MaxRoiPool", {}, "of exporters of long ago; the op's own loop"},
    {"Det", {}, "by elimination, matrix by matrix: the op's own loop"},
    {"Random", {}, "numbers drawn one after the other, the same whatever the threads"},
    {"Bernoulli", {}, "numbers drawn one after the other, the same whatever the threads"},
    {"Multinomial", {}, "numbers drawn one after the other, the same whatever the threads"},
    {"SoftmaxCrossEntropyLoss", {}, "of training"},
    {"NegativeLogLikelihoodLoss", {}, "of training"},
    {"Bitwise", {DType::u8}, "no exporter writes it of bytes"},
    {"BitShift", {}, "no exporter writes it in models that compute"},
    {"MelWeightMatrix", {}, "of constants; a run has it from the compiler"},
    {"DFT", {}, "in double, as plain evaluation has it: its limit is that of floats"},
    {"STFT", {}, "in double, as plain evaluation has it: its limit is that of floats"},
    {"Ac", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"As", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"Atanh", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"Cosh", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"Sinh", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"Attention", {DType::f64}, "in double by hand-written graphs alone, which have the softmax written out: that has steps"},
    {"", {DType::f64}, "half as many to a register, functions of the C library; models are not shipped in double"},
};
std::string_view reason(const Result& r) {
  for (const Reason& k : kReasons) {
    if (r.name.starts_with(k.name) && (k.dtypes.empty() || std::ranges::find(k.dtypes, r.dtype) != k.dtypes.end())) return k.why;
  }
  return {};
}

}  // namespace

int main(int argc, char** argv) {
  std::string only;
  bool brief = false;
  double budget = 0.05;
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--only") && i + 1 < argc) only = argv[++i];
    else if (!std::strcmp(argv[i], "--seconds") && i + 1 < argc) budget = std::max(0.001, std::atof(argv[++i]));
    else if (!std::strcmp(argv[i], "--brief")) brief = true;
    else {
      fmt::print(stderr,
                 "usage: survey [--only TEXT] [--seconds A-FORM] [--brief]\n\n--brief compiles and lists what is left to plain evaluation, "
                 "and runs nothing\nexit status: 1 when something is plain or slow and no reason is known\n");
      return 2;
    }
  }
  const bool people = isatty(STDERR_FILENO);
  std::optional<Roofline> roofline;
  if (!brief) roofline.emplace("", 1);
  std::vector<Result> results;
  int refused = 0;
  for (const Entry& e : entries()) {
    const std::string name = e.op + (e.form.empty() ? "" : ", " + e.form);
    if (!only.empty() && name.find(only) == std::string::npos) continue;
    double twin = 0;
    for (DType d : e.dtypes) {
      if (people) fmt::print(stderr, "\r{:<70}", fmt::format("{} {}", name, to_string(d)));
      Result r{name, d, 0, 0, 0, ""};
      try {
        Builder b("survey", e.op == "Swish" || e.op == "TensorScatter" ? 24 : 23);
        Form f{b, d};
        e.make(f);
        const Program p = compile(b.finish(), {.threads = 1});
        const EditionInfo info = p.describe();
        for (const StepInfo& s : info.steps) {
          if (s.kind == "plain" && r.plain.empty()) r.plain = s.why;
        }
        if (!brief) {
          double flops = 0, bytes = 0;
          for (const StepInfo& s : info.steps) {
            // Where parts are views, what brings them to the outputs is all there is.
            if (s.kind != "layout" || e.op == "Split") flops += s.flops, bytes += s.bytes;
          }
          r.limit = roofline->seconds(flops, bytes);
          const auto inputs = random_inputs(p, p.bound_shapes(), 1);
          Lane lane(p);
          std::vector<double> times;
          const auto start = Clock::now();
          do {
            const auto t = Clock::now();
            lane.run(std::span<const Tensor>(inputs));
            times.push_back(since(t));
          } while (times.size() < 200 && since(start) < budget);
          std::ranges::sort(times);
          r.seconds = times[times.size() / 4];
        }
      } catch (const Error& error) {
        ++refused;  // the op is not defined on this dtype
        if (d == DType::f32 || e.dtypes == kBytes) fmt::print(stderr, "\n{} {}: {}\n", name, to_string(d), error.what());
        continue;
      }
      if (d == DType::f32) twin = r.seconds;
      else if (twin > 0) r.against = r.seconds / twin;
      if (!brief)
        fmt::print("{:<44} {:>5} {:>10.1f} us {:>6.1f} % {:>8} {}\n", name, to_string(d), 1e6 * r.seconds, 100 * r.limit / r.seconds,
                   r.against > 0 ? fmt::format("{:.2f}", r.against) : "", r.plain.empty() ? "" : "plain");
      results.push_back(std::move(r));
    }
  }
  if (people) fmt::print(stderr, "\r{:<70}\r", "");
  const auto plain = std::ranges::count_if(results, [](const Result& r) { return !r.plain.empty(); });
  fmt::print("{}{} forms and dtypes, {} of them by plain evaluation{}\n", brief ? "" : "\n", results.size(), plain,
             refused ? fmt::format("; {} are not in the standard", refused) : "");
  const auto list = [&](auto wanted) {
    std::map<std::pair<std::string, std::string_view>, std::string> listed;
    for (const Result& r : results) {
      if (wanted(r)) listed[{r.name, reason(r)}] += fmt::format(" {}", to_string(r.dtype));
    }
    bool known = true;
    for (const auto& [form, dtypes] : listed) {
      fmt::print("  {:<44}{}\n    {}\n", form.first, dtypes, form.second.empty() ? "no reason is known" : form.second);
      known = known && !form.second.empty();
    }
    return known;
  };
  bool known = list([](const Result& r) { return !r.plain.empty(); });
  if (!brief) {
    fmt::print("\nmore than four times slower than in f32, or below 5 % of the limit, by compiled steps\n");
    known = list([](const Result& r) { return r.plain.empty() && r.slow(); }) && known;
  }
  return known ? 0 : 1;
}
