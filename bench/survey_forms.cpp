#include "survey_forms.hpp"

namespace lathe::survey {

std::vector<Entry> single_ops() {
  std::vector<Entry> all;
  const auto add = [&](std::string op, std::string form, const std::vector<DType>& dtypes, std::function<void(Form&)> make) {
    all.push_back({std::move(op), std::move(form), dtypes, std::move(make)});
  };
  const Dims flat{1024, 1024}, picture{1, 64, 128, 128};
  for (const char* op : {"Neg", "Abs", "Sign"}) add(op, "", kNumbers, [=](Form& f) { f.out(op, {f.in("x", flat)}); });
  for (const char* op : {"Relu",  "Sigmoid",         "Tanh",  "Exp",  "Log",  "Sqrt",     "Reciprocal", "Erf",         "Floor",     "Ceil",
                         "Round", "LeakyRelu",       "Elu",   "Selu", "Celu", "Softplus", "Softsign",   "HardSigmoid", "HardSwish", "Mish",
                         "Gelu",  "ThresholdedRelu", "Sin",   "Cos",  "Tan",  "Atan",     "IsNaN",      "IsInf",       "Acos",      "Acosh",
                         "Asin",  "Asinh",           "Atanh", "Cosh", "Sinh", "Shrink",   "Swish",      "Hardmax"}) {
    add(op, "", kReal, [=](Form& f) { f.out(op, {f.in("x", flat)}); });
    if (std::string(op) == "Swish") all.back().opset = 24;
  }
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
                                 {"to i16", int64_t{5}},
                                 {"to f64", int64_t{11}}})
    add("Cast", name, kAll, [=](Form& f) { f.out("Cast", {f.in("x", flat)}, {{"to", to}}); });
  for (const auto& [name, to] : {std::pair{"of whole numbers to f32", int64_t{1}}, {"of whole numbers to i64", int64_t{7}}})
    add("Cast", name, kOtherWhole, [=](Form& f) { f.out("Cast", {f.in("x", flat)}, {{"to", to}}); });
  for (const char* op : {"Add", "Mul", "Max", "Less", "Equal", "BitwiseAnd"})
    add(op, "of whole numbers", kOtherWhole, [=](Form& f) { f.out(op, {f.in("x", flat), f.in("y", flat)}); });
  for (const char* op : {"Div", "Mod"})
    add(op, "by what a run brings", {DType::i32, DType::i64}, [=](Form& f) {
      f.out(op, {f.in("x", flat), f.b.op("Max", {f.in("y", flat), f.weights("one", {})})});
    });
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
  all.back().opset = 24;
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

}  // namespace lathe::survey
