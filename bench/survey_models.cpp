#include <tuple>

#include "survey_forms.hpp"

namespace lathe::survey {

std::vector<Entry> ops_in_models() {
  std::vector<Entry> all;
  const auto add = [&](std::string op, std::string form, const std::vector<DType>& dtypes, std::function<void(Form&)> make) {
    all.push_back({std::move(op), std::move(form), dtypes, std::move(make)});
  };
  const auto conv = [&](const std::string& op, const std::string& form, Dims x, Shape w, A attributes,
                        const std::vector<DType>& dtypes = kReal) {
    add(op, form, dtypes, [=](Form& f) { f.out(op, {f.in("x", x), f.weights("w", w)}, attributes); });
  };
  const Dims flat{1024, 1024}, picture{1, 64, 128, 128};
  for (const char* op : {"ReduceMean", "ReduceMax", "ReduceSum"}) {
    add(op, "of pixels", kNumbers, [=](Form& f) { f.out(op, {f.in("x", picture), f.integers("axes", {2, 3})}); });
    add(op, "of channels", kNumbers, [=](Form& f) {
      f.out(op, {f.in("x", picture), f.integers("axes", {1})}, {{"keepdims", int64_t{0}}});
    });
  }
  for (const char* op : {"ReduceMax", "ReduceMin"}) {
    add(op, "of bytes, last axis", kBytes, [=](Form& f) { f.out(op, {f.in("x", flat), f.integers("axes", {1})}); });
    add(op, "of bytes, pixels", kBytes, [=](Form& f) { f.out(op, {f.in("x", picture), f.integers("axes", {2, 3})}); });
  }
  for (const char* op : {"Softmax", "LogSoftmax"})
    add(op, "of channels", kReal, [=](Form& f) { f.out(op, {f.in("x", picture)}, {{"axis", int64_t{1}}}); });
  add("ArgMax", "of channels", kNumbers, [=](Form& f) {
    f.out("ArgMax", {f.in("x", picture)}, {{"axis", int64_t{1}}, {"keepdims", int64_t{0}}});
  });
  add("TopK", "300 of 30000", kNumbers, [=](Form& f) { f.out("TopK", {f.in("x", {1, 30000}), f.integers("k", {300})}, {}, 2); });
  add("Add", "a channel to each", kNumbers, [=](Form& f) { f.out("Add", {f.in("x", picture), f.weights("w", {64, 1, 1})}); });
  add("Mul", "by a mask of pixels", kNumbers, [=](Form& f) { f.out("Mul", {f.in("x", picture), f.in("y", {1, 1, 128, 128})}); });
  add("Where", "one number", kNumbers, [=](Form& f) {
    f.out("Where", {f.typed("c", DType::boolean, flat), f.in("x", flat), f.weights("y", {})});
  });
  add("Equal", "to a number", kNumbers, [=](Form& f) { f.out("Equal", {f.in("x", flat), f.weights("y", {})}); });
  add("MatMul", "by a vector", kReal, [=](Form& f) { f.out("MatMul", {f.in("x", {1024, 1024}), f.in("y", {1024})}); });
  add("MatMul", "heads by a constant", kReal, [=](Form& f) { f.out("MatMul", {f.in("x", {2, 8, 64, 128}), f.weights("w", {128, 128})}); });
  add("MatMul", "made at run time, one row", kReal, [=](Form& f) { f.out("MatMul", {f.in("x", {1, 1024}), f.in("y", {1024, 1024})}); });
  add("Gemm", "one row", kReal, [=](Form& f) {
    f.out("Gemm", {f.in("x", {1, 1024}), f.weights("w", {1024, 1024}), f.weights("b", {1024})}, {{"transB", int64_t{1}}});
  });
  for (const auto& [name, equation, x, y] :
       {std::tuple{"bhwc,hkc->bhwk", "bhwc,hkc->bhwk", Dims{8, 14, 14, 64}, Dims{14, 14, 64}},
        std::tuple{"nchw,cd->ndhw", "nchw,cd->ndhw", Dims{1, 64, 64, 64}, Dims{64, 64}},
        std::tuple{"bqnc,bnchw->bqnhw", "bqnc,bnchw->bqnhw", Dims{1, 100, 8, 32}, Dims{1, 8, 32, 32, 32}}})
    add("Einsum", name, kReal, [=](Form& f) { f.out("Einsum", {f.in("x", x), f.in("y", y)}, {{"equation", std::string(equation)}}); });
  add("Einsum", "bii->bi", kReal, [=](Form& f) { f.out("Einsum", {f.in("x", {16, 256, 256})}, {{"equation", std::string("bii->bi")}}); });
  conv("Conv", "3x3, stride 2", {1, 64, 56, 56}, {128, 64, 3, 3}, {{"pads", List{1, 1, 1, 1}}, {"strides", List{2, 2}}});
  conv("Conv", "5x5, sizes kept", {1, 32, 56, 56}, {32, 32, 5, 5}, {{"auto_pad", std::string("SAME_UPPER")}});
  conv("Conv", "to one filter", {1, 64, 256, 256}, {1, 64, 1, 1}, {});
  conv("Conv", "128 taps, 16 groups", {1, 768, 199}, {768, 48, 128}, {{"pads", List{64, 64}}, {"group", int64_t{16}}});
  conv("ConvTranspose", "3x3, stride 2, one more", {1, 64, 32, 32}, {64, 64, 3, 3},
       {{"strides", List{2, 2}}, {"pads", List{1, 1, 1, 1}}, {"output_padding", List{1, 1}}});
  add("ConvTranspose", "weights made at run time", kReal, [=](Form& f) {
    f.out("ConvTranspose", {f.in("x", {1, 64, 32, 32}), f.in("w", {64, 64, 2, 2})}, {{"strides", List{2, 2}}});
  });
  add("MaxPool", "3x3, stride 2", {DType::f32, DType::f16, DType::bf16, DType::f64, DType::u8, DType::i8}, [=](Form& f) {
    f.out("MaxPool", {f.in("x", picture)}, {{"kernel_shape", List{3, 3}}, {"strides", List{2, 2}}, {"pads", List{1, 1, 1, 1}}});
  });
  add("MaxPool", "5x5, again and again", kReal, [=](Form& f) {
    ValueId x = f.in("x", {1, 128, 40, 40});
    for (int i = 0; i < 3; ++i) x = f.b.op("MaxPool", {x}, {{"kernel_shape", List{5, 5}}, {"pads", List{2, 2, 2, 2}}});
    f.b.output(x);
  });
  add("AveragePool", "7x7", kReal, [=](Form& f) { f.out("AveragePool", {f.in("x", {1, 512, 7, 7})}, {{"kernel_shape", List{7, 7}}}); });
  add("LpPool", "powers of three", kReal, [=](Form& f) {
    f.out("LpPool", {f.in("x", picture)}, {{"kernel_shape", List{2, 2}}, {"strides", List{2, 2}}, {"p", int64_t{3}}});
  });
  add("Resize", "linear, to a size, corners aligned", kReal, [=](Form& f) {
    f.out("Resize", {f.in("x", {1, 16, 100, 100}), kAbsent, kAbsent, f.integers("sizes", {1, 16, 256, 256})},
          {{"mode", std::string("linear")}, {"coordinate_transformation_mode", std::string("align_corners")}});
  });
  add("Resize", "linear, a part of it", kReal, [=](Form& f) {
    f.out("Resize",
          {f.in("x", {1, 16, 128, 128}), f.floats("roi", {0, 0, 0.1f, 0.2f, 1, 1, 0.9f, 0.8f}), kAbsent,
           f.integers("sizes", {1, 16, 128, 128})},
          {{"mode", std::string("linear")}, {"coordinate_transformation_mode", std::string("tf_crop_and_resize")}});
  });
  add("Resize", "linear, smaller, without aliases", kReal, [=](Form& f) {
    f.out("Resize", {f.in("x", {1, 3, 512, 512}), kAbsent, kAbsent, f.integers("sizes", {1, 3, 224, 224})},
          {{"mode", std::string("linear")}, {"antialias", int64_t{1}}});
  });
  for (const auto& [name, mode] : {std::pair{"nearest", "nearest"}, {"cubic", "cubic"}})
    add("GridSample", name, kReal, [=](Form& f) {
      f.out("GridSample", {f.in("x", {1, 16, 128, 128}), f.in("grid", {1, 128, 128, 2})}, {{"mode", std::string(mode)}});
    });
  add("GridSample", "of volumes", kReal, [=](Form& f) {
    f.out("GridSample", {f.in("x", {1, 8, 32, 32, 32}), f.in("grid", {1, 32, 32, 32, 3})});
  });
  add("Slice", "a part of the channels", kAll, [=](Form& f) {
    f.out("Slice", {f.in("x", picture), f.integers("from", {16}), f.integers("to", {48}), f.integers("axes", {1})});
  });
  add("Split", "of channels", kAll, [=](Form& f) {
    f.out("Split", {f.in("x", picture)}, {{"axis", int64_t{1}}, {"num_outputs", int64_t{2}}}, 2);
  });
  add("Concat", "of columns", kAll, [=](Form& f) {
    f.out("Concat", {f.in("x", {1024, 500}), f.in("y", {1024, 524})}, {{"axis", int64_t{1}}});
  });
  add("Gather", "one entry", kAll, [=](Form& f) {
    f.out("Gather", {f.in("x", {3, 1024, 512}), f.b.constant("at", Tensor::from<int64_t>({}, {1}))}, {{"axis", int64_t{0}}});
  });
  for (const auto& [op, gates] : {std::pair{"LSTM", int64_t{4}}, {"GRU", int64_t{3}}}) {
    add(op, "both ways, with states", kReal, [=](Form& f) {
      const int64_t h = 128, in = 64;
      std::vector<ValueId> inputs{f.in("x", {32, 8, in}),
                                  f.weights("w", {2, gates * h, in}),
                                  f.weights("r", {2, gates * h, h}),
                                  f.weights("b", {2, 2 * gates * h}),
                                  kAbsent,
                                  f.in("h", {2, 8, h})};
      if (gates == 4) inputs.push_back(f.in("c", {2, 8, h}));
      A attributes{{"hidden_size", h}, {"direction", std::string("bidirectional")}};
      if (gates == 3) attributes["linear_before_reset"] = int64_t{1};
      f.out(op, inputs, attributes, gates == 4 ? 3 : 2);
    });
    add(op, "weights made at run time", {DType::f32}, [=](Form& f) {
      f.out(op, {f.in("x", {32, 8, 64}), f.in("w", {1, gates * 128, 64}), f.in("r", {1, gates * 128, 128})},
            {{"hidden_size", int64_t{128}}});
    });
  }
  const Dims heads{1, 8, 128, 64}, fewer{1, 2, 128, 64};
  add("Attention", "causal", kReal, [=](Form& f) {
    f.out("Attention", {f.in("q", heads), f.in("k", heads), f.in("v", heads)}, {{"is_causal", int64_t{1}}});
  });
  add("Attention", "fewer heads of keys", kReal, [=](Form& f) {
    f.out("Attention", {f.in("q", heads), f.in("k", fewer), f.in("v", fewer)});
  });
  add("Attention", "a mask", kReal, [=](Form& f) {
    f.out("Attention", {f.in("q", heads), f.in("k", heads), f.in("v", heads), f.in("mask", {1, 1, 128, 128})});
  });
  add("Attention", "a mask of booleans", kReal, [=](Form& f) {
    f.out("Attention", {f.in("q", heads), f.in("k", heads), f.in("v", heads), f.typed("mask", DType::boolean, {1, 1, 128, 128})});
  });
  add("Attention", "states put together", kReal, [=](Form& f) {
    f.out("Attention",
          {f.in("q", {1, 8, 1, 64}), f.in("k", {1, 8, 1, 64}), f.in("v", {1, 8, 1, 64}), kAbsent, f.in("pk", {1, 8, 511, 64}),
           f.in("pv", {1, 8, 511, 64})},
          {{"is_causal", int64_t{1}}}, 3);
  });
  add("Attention", "heads side by side", kReal, [=](Form& f) {
    f.out("Attention", {f.in("q", {1, 128, 512}), f.in("k", {1, 128, 512}), f.in("v", {1, 128, 512})},
          {{"q_num_heads", int64_t{8}}, {"kv_num_heads", int64_t{8}}});
  });
  for (const char* op : {"QuantizeLinear", "DequantizeLinear"}) {
    const bool makes = op[0] == 'Q';
    add(op, "by channels", kBytes, [=](Form& f) {
      f.out(op,
            {makes ? f.typed("x", DType::f32, picture) : f.in("x", picture), f.weights("s", {64}, DType::f32), f.weights("z", {64}, f.d)},
            {{"axis", int64_t{1}}});
    });
    add(op, "blocks of 64", kBytes, [=](Form& f) {
      f.out(op,
            {makes ? f.typed("x", DType::f32, flat) : f.in("x", flat), f.weights("s", {16, 1024}, DType::f32),
             f.weights("z", {16, 1024}, f.d)},
            {{"axis", int64_t{0}}, {"block_size", int64_t{64}}});
    });
  }
  // What a byte net is made of, as exporters write it: floats between DequantizeLinear and QuantizeLinear.
  const auto on_bytes = [&](const std::string& op, const std::vector<Dims>& shapes, A attributes) {
    add(op, "on bytes between scales", kBytes, [=](Form& f) {
      const auto s = [&](const char* name, float v) { return f.b.constant(name, Tensor::from<float>({}, {v})); };
      std::vector<ValueId> inputs;
      for (size_t i = 0; i < shapes.size(); ++i)
        inputs.push_back(f.b.op("DequantizeLinear", {f.in(fmt::format("x{}", i), shapes[i]), s(fmt::format("s{}", i).c_str(), 0.02f),
                                                     f.weights(fmt::format("z{}", i), {}, f.d)}));
      const ValueId y = f.b.op(op, inputs, attributes);
      f.out("QuantizeLinear", {y, s("sy", 0.03f), f.weights("zy", {}, f.d)});
    });
  };
  on_bytes("Add", {picture, picture}, {});
  on_bytes("Mul", {picture, picture}, {});
  on_bytes("Concat", {picture, picture}, {{"axis", int64_t{1}}});
  on_bytes("AveragePool", {picture}, {{"kernel_shape", List{2, 2}}, {"strides", List{2, 2}}});
  on_bytes("GlobalAveragePool", {picture}, {});
  on_bytes("Sigmoid", {picture}, {});
  on_bytes("HardSwish", {picture}, {});
  on_bytes("LeakyRelu", {picture}, {});
  on_bytes("Softmax", {flat}, {{"axis", int64_t{1}}});
  on_bytes("MatMul", {{384, 384}, {384, 384}}, {});
  add("ConvTranspose", "on bytes between scales", kBytes, [=](Form& f) {
    const auto s = [&](const char* name, float v) { return f.b.constant(name, Tensor::from<float>({}, {v})); };
    const ValueId x = f.b.op("DequantizeLinear", {f.in("x", {1, 128, 32, 32}), s("sx", 0.02f), f.weights("zx", {}, f.d)});
    const ValueId w = f.b.op("DequantizeLinear", {f.weights("w", {128, 64, 2, 2}, DType::i8), s("sw", 0.01f)});
    f.out("QuantizeLinear", {f.b.op("ConvTranspose", {x, w}, {{"strides", List{2, 2}}}), s("sy", 0.03f), f.weights("zy", {}, f.d)});
  });

  // Changes of name, and what needs no arithmetic.
  add("Identity", "", kAll, [=](Form& f) { f.out("Identity", {f.in("x", flat)}); });
  add("Dropout", "", kReal, [=](Form& f) { f.out("Dropout", {f.in("x", flat)}); });
  add("Flatten", "", kAll, [=](Form& f) { f.out("Flatten", {f.in("x", picture)}); });
  add("Reshape", "", kAll, [=](Form& f) { f.out("Reshape", {f.in("x", flat), f.integers("to", {64, -1})}); });
  add("Squeeze", "", kAll, [=](Form& f) { f.out("Squeeze", {f.in("x", picture)}); });
  add("Unsqueeze", "", kAll, [=](Form& f) { f.out("Unsqueeze", {f.in("x", flat), f.integers("axes", {0})}); });
  for (const char* op : {"Shape", "Size"}) add(op, "", kAll, [=](Form& f) { f.out(op, {f.in("x", flat)}); });
  add("Constant", "", {DType::f32}, [=](Form& f) { f.out("Constant", {}, {{"value", Tensor::from<float>({2}, {1, 2})}}); });
  add("ConstantOfShape", "", {DType::f32}, [=](Form& f) { f.out("ConstantOfShape", {f.integers("shape", {1024, 1024})}); });
  add("ConstantOfShape", "made at run time", {DType::f32}, [=](Form& f) { f.out("ConstantOfShape", {f.typed("shape", DType::i64, {2})}); });
  add("CastLike", "", kReal, [=](Form& f) { f.out("CastLike", {f.typed("x", DType::i64, flat), f.weights("w", {})}); });
  for (const char* op : {"HannWindow", "HammingWindow", "BlackmanWindow"})
    add(op, "", {DType::f32}, [=](Form& f) { f.out(op, {f.b.constant("size", Tensor::from<int64_t>({}, {400}))}); });
  for (const char* op : {"RandomNormal", "RandomUniform"})
    add(op, "", {DType::f32}, [=](Form& f) { f.out(op, {}, {{"shape", List{1024, 1024}}}); });

  add("Upsample", "", kReal, [=](Form& f) {
    f.out("Upsample", {f.in("x", {1, 16, 128, 128}), f.floats("scales", {1, 1, 2, 2})}, {{"mode", std::string("linear")}});
  });
  all.back().opset = 9;
  add("Scatter", "", kReal, [=](Form& f) {
    f.out("Scatter", {f.in("x", flat), f.typed("at", DType::i64, {1024, 256}), f.in("u", {1024, 256})}, {{"axis", int64_t{1}}});
  });
  all.back().opset = 9;

  // Control flow around what it is for.
  add("If", "branches that fit", kReal, [=](Form& f) {
    const ValueId c = f.typed("c", DType::boolean, {});
    f.b.op("Identity", {f.in("x", flat)}, {}, "seen");
    Builder yes("yes", 23), no("no", 23);
    yes.output(yes.op("Relu", {yes.outer("seen")}), "y");
    no.output(no.op("Neg", {no.outer("seen")}), "y");
    f.out("If", {c}, {{"then_branch", yes.finish_body()}, {"else_branch", no.finish_body()}});
  });
  add("Loop", "a product a trip", {DType::f32}, [=](Form& f) {
    Builder body("body", 23);
    body.input("trip", DType::i64, {});
    const ValueId on = body.input("on", DType::boolean, {}), x = body.input("h", DType::f32, {128, 128});
    body.output(body.op("Identity", {on}), "still");
    body.output(body.op("Tanh", {body.op("MatMul", {x, body.outer("w")})}), "next");
    f.weights("w", {128, 128});
    f.out("Loop", {f.b.constant("trips", Tensor::from<int64_t>({}, {32})), kAbsent, f.in("x", {128, 128})}, {{"body", body.finish_body()}});
  });
  add("Scan", "a product a trip", {DType::f32}, [=](Form& f) {
    Builder body("body", 23);
    const ValueId h = body.input("h", DType::f32, {128, 128}), x = body.input("x", DType::f32, {128, 128});
    const ValueId next = body.op("Tanh", {body.op("Add", {body.op("MatMul", {h, body.outer("w")}), x})});
    body.output(next, "next");
    body.output(body.op("Relu", {next}), "seen");
    f.weights("w", {128, 128});
    f.out("Scan", {f.in("h", {128, 128}), f.in("xs", {32, 128, 128})}, {{"body", body.finish_body()}, {"num_scan_inputs", int64_t{1}}}, 2);
  });

  // Sequences and optionals, on their way from what makes them to what takes tensors again.
  const auto position = [](Form& f, const char* name, int64_t v) { return f.b.constant(name, Tensor::from<int64_t>({}, {v})); };
  add("SplitToSequence", "and SequenceAt", {DType::f32, DType::f16, DType::i64}, [=](Form& f) {
    const ValueId s = f.b.op("SplitToSequence", {f.in("x", flat), position(f, "each", 256)});
    f.out("SequenceAt", {s, position(f, "at", 2)});
  });
  add("SequenceConstruct", "and ConcatFromSequence", {DType::f32, DType::f16, DType::i64}, [=](Form& f) {
    f.out("ConcatFromSequence", {f.b.op("SequenceConstruct", {f.in("x", flat), f.in("y", flat)})}, {{"axis", int64_t{0}}});
  });
  add("SequenceInsert", "SequenceEmpty, SequenceErase and SequenceLength", {DType::f32}, [=](Form& f) {
    ValueId s = f.b.op("SequenceEmpty", {});
    for (int i = 0; i < 4; ++i) s = f.b.op("SequenceInsert", {s, f.in(fmt::format("x{}", i), {256, 1024})});
    s = f.b.op("SequenceErase", {s, position(f, "at", 1)});
    f.b.output(f.b.op("SequenceLength", {s}));
    f.out("ConcatFromSequence", {s}, {{"axis", int64_t{0}}});
  });
  add("SequenceMap", "", {DType::f32}, [=](Form& f) {
    Builder body("body", 23);
    body.output(body.op("Relu", {body.input("x", DType::f32, {256, 1024})}), "y");
    const ValueId s = f.b.op("SplitToSequence", {f.in("x", flat), position(f, "each", 256)});
    f.out("ConcatFromSequence", {f.b.op("SequenceMap", {s}, {{"body", body.finish_body()}})}, {{"axis", int64_t{0}}});
  });
  add("Optional", "OptionalHasElement and OptionalGetElement", {DType::f32}, [=](Form& f) {
    const ValueId some = f.b.op("Optional", {f.in("x", flat)});
    f.b.output(f.b.op("OptionalHasElement", {some}));
    f.out("OptionalGetElement", {some});
  });

  // Losses as training exports leave them.
  for (const char* op : {"SoftmaxCrossEntropyLoss", "NegativeLogLikelihoodLoss"}) {
    add(op, "of pixels, weighted", {DType::f32}, [=](Form& f) {
      f.out(op, {f.in("x", {1, 16, 256, 256}), f.typed("at", DType::i64, {1, 256, 256}), f.weights("w", {16})},
            {{"reduction", std::string("sum")}, {"ignore_index", int64_t{15}}});
    });
    add(op, "each", {DType::f32}, [=](Form& f) {
      f.out(op, {f.in("x", flat), f.typed("at", DType::i64, {1024})}, {{"reduction", std::string("none")}});
    });
  }
  return all;
}

}  // namespace lathe::survey
