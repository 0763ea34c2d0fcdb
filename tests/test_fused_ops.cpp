// Every operator that has a fast step, against plain evaluation: parameters, broadcasting, layouts, instruction sets.
#include <algorithm>
#include <cmath>

#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;
using Attributes = std::map<std::string, Attribute::Data>;

// One node on random inputs, under every instruction set.
void check_op(const char* op, const std::vector<Shape>& shapes, const Attributes& attributes = {}, float low = -2, float high = 2,
              int64_t opset = 18, Tolerance tolerance = {2e-5, 1e-4, 0}) {
  CAPTURE(op);
  for (const std::string& isa : machine_info().isas) {
    CAPTURE(isa);
    Builder b("one", opset);
    std::vector<ValueId> in;
    std::vector<Tensor> inputs;
    for (size_t i = 0; i < shapes.size(); ++i) {
      in.push_back(b.input("x" + std::to_string(i), DType::f32, dims(shapes[i])));
      inputs.push_back(random_tensor(shapes[i], 10 + i, low, high));
    }
    b.output(b.op(op, in, attributes), "y");
    check_against_plain(b.finish(), inputs, {.threads = 2, .isa = isa}, tolerance);
  }
}

// That the op does not fall back to plain evaluation: the speed promise of the fast list.
std::string step_kind(const char* op, const Shape& shape, const Attributes& attributes = {}, int64_t opset = 18) {
  Builder b("one", opset);
  b.output(b.op(op, {b.input("x", DType::f32, dims(shape))}, attributes), "y");
  const auto steps = compile(b.finish(), {.threads = 1}).describe().steps;
  std::string kinds;
  for (const StepInfo& s : steps) {
    if (s.kind != "layout" && s.kind != "copy") kinds += s.kind;
  }
  return kinds;
}

}  // namespace

TEST_CASE("unary functions") {
  for (const char* op : {"Neg", "Abs", "Exp", "Tanh", "Sigmoid", "Erf", "Floor", "Ceil", "Round", "Sign", "Relu", "Softplus", "Softsign",
                         "HardSwish", "Mish"}) {
    check_op(op, {{3, 37}});
    CHECK(step_kind(op, {3, 37}) == "tape");
  }
  check_op("Sqrt", {{101}}, {}, 0, 9);
  check_op("Log", {{101}}, {}, 0.001f, 9);
  check_op("Reciprocal", {{101}}, {}, 0.5f, 9);
  check_op("Gelu", {{5, 33}}, {}, -4, 4, 20);
  check_op("Gelu", {{5, 33}}, {{"approximate", std::string("tanh")}}, -4, 4, 20);
}

TEST_CASE("unary functions with attributes") {
  for (float alpha : {0.1f, 1.0f, 2.5f}) {
    for (const char* op : {"LeakyRelu", "Elu", "Celu", "ThresholdedRelu"}) check_op(op, {{4, 19}}, {{"alpha", alpha}}, -5, 5);
    check_op("Selu", {{4, 19}}, {{"alpha", alpha}, {"gamma", 1.5f}}, -5, 5);
    check_op("HardSigmoid", {{4, 19}}, {{"alpha", alpha}, {"beta", 0.3f}}, -5, 5);
  }
  check_op("Selu", {{77}});
  check_op("HardSigmoid", {{77}});
}

TEST_CASE("binary functions over every kind of broadcasting") {
  const std::vector<std::pair<Shape, Shape>> pairs{{{4, 5}, {4, 5}},
                                                   {{4, 5}, {5}},
                                                   {{4, 5}, {4, 1}},
                                                   {{4, 5}, {}},
                                                   {{}, {4, 5}},
                                                   {{1, 5}, {4, 1}},
                                                   {{2, 3, 4}, {3, 1}},
                                                   {{2, 1, 4}, {1, 3, 1}},
                                                   {{2, 3, 4, 5}, {4, 1}},
                                                   {{3, 1, 300}, {2, 300}},
                                                   {{2, 2, 2, 2, 2}, {2, 1, 2}},
                                                   {{1}, {1}},
                                                   {{0, 4}, {4}},
                                                   {{6, 1000}, {6, 1}},
                                                   {{5, 1}, {1, 700}}};
  for (const char* op : {"Add", "Sub", "Mul", "Div", "Max", "Min"}) {
    for (const auto& [a, b] : pairs) {
      CAPTURE(to_string(a));
      CAPTURE(to_string(b));
      check_op(op, {a, b}, {}, 0.5f, 3);
    }
  }
}

TEST_CASE("powers, slopes and sums of several") {
  check_op("Pow", {{4, 33}, {}}, {}, 0.1f, 3);
  check_op("Pow", {{4, 33}, {33}}, {}, 0.1f, 3);
  for (float exponent : {2.0f, 3.0f, 0.5f, -1.0f}) {
    Builder b("power");
    b.output(b.op("Pow", {b.input("x", DType::f32, {50}), b.constant("e", Tensor::from<float>({}, {exponent}))}));
    check_against_plain(b.finish(), {random_tensor({50}, 1, 0.1f, 3)});
  }
  check_op("PRelu", {{2, 3, 20}, {3, 1}});
  check_op("PRelu", {{2, 3, 20}, {20}});
  for (const char* op : {"Sum", "Mean", "Max", "Min"}) {
    check_op(op, {{4, 9}});
    check_op(op, {{4, 9}, {9}, {4, 1}});
    check_op(op, {{4, 9}, {4, 9}, {4, 9}, {1}, {9}});
  }
}

TEST_CASE("comparisons, logic, casts and selection") {
  for (const char* op : {"Less", "LessOrEqual", "Greater", "GreaterOrEqual", "Equal"}) {
    check_op(op, {{4, 9}, {9}});
    check_op(op, {{300}, {300}});
  }
  Builder b("logic");
  const auto x = b.input("x", DType::f32, {7, 41}), y = b.input("y", DType::f32, {41});
  const auto less = b.op("Less", {x, y}), positive = b.op("Greater", {x, b.constant("zero", Tensor::from<float>({}, {0}))});
  b.output(b.op("And", {less, positive}), "and");
  b.output(b.op("Or", {less, positive}), "or");
  b.output(b.op("Xor", {less, b.op("Not", {positive})}), "xor");
  b.output(b.op("Cast", {less}, {{"to", int64_t{1}}}), "as float");
  b.output(b.op("Cast", {b.op("Floor", {x})}, {{"to", int64_t{9}}}), "as bool");
  b.output(b.op("Where", {less, x, y}), "where");
  const Graph g = b.finish();
  for (const std::string& isa : machine_info().isas) {
    check_against_plain(g, {random_tensor({7, 41}, 1, -2, 2), random_tensor({41}, 2, -2, 2)}, {.threads = 2, .isa = isa});
  }
}

TEST_CASE("clips with every choice of bounds") {
  for (int which = 0; which < 4; ++which) {
    for (bool constant : {true, false}) {
      Builder b("clip");
      const auto x = b.input("x", DType::f32, {3, 50});
      std::vector<Tensor> inputs{random_tensor({3, 50}, 1, -3, 3)};
      std::vector<ValueId> in{x};
      for (int i = 0; i < 2; ++i) {
        const Tensor bound = Tensor::from<float>({}, {i == 0 ? -0.5f : 0.75f});
        if (!(which >> i & 1)) {
          in.push_back(kAbsent);
        } else if (constant) {
          in.push_back(b.constant("bound" + std::to_string(i), bound));
        } else {
          in.push_back(b.input("bound" + std::to_string(i), DType::f32, {}));
          inputs.push_back(bound);
        }
      }
      b.output(b.op("Clip", in));
      check_against_plain(b.finish(), inputs);
    }
  }
  check_op("Clip", {{50}}, {{"min", -0.5f}, {"max", 0.5f}}, -2, 2, 10);
}

TEST_CASE("reductions over every set of neighbouring axes") {
  for (const char* op :
       {"ReduceSum", "ReduceMean", "ReduceMax", "ReduceMin", "ReduceL1", "ReduceL2", "ReduceSumSquare", "ReduceProd", "ReduceLogSumExp"}) {
    for (const Ints& axes : {Ints{0}, Ints{1}, Ints{-1}, Ints{0, 1}, Ints{1, 2}, Ints{0, 2}, Ints{0, 1, 2}}) {
      for (int64_t keep : {0, 1}) {
        CAPTURE(op);
        CAPTURE(to_string(axes));
        check_op(op, {{3, 5, 21}}, {{"axes", axes}, {"keepdims", keep}}, -1, 1, 12, {1e-4, 1e-4, 0});
      }
    }
  }
  check_op("ReduceSum", {{4, 6}});  // no axes: all
  CHECK(step_kind("ReduceMean", {3, 5, 21}, {{"axes", Ints{1}}}, 12) == "reduction");
  CHECK(step_kind("ReduceMax", {3, 5, 21}, {{"axes", Ints{-1}}}, 12) == "reduction");
}

TEST_CASE("running sums along every axis, forwards, backwards and without the element itself") {
  for (int64_t axis : {-3, -1, 0, 1, 2}) {
    for (int64_t exclusive : {0, 1}) {
      for (int64_t reverse : {0, 1}) {
        Builder b("sums", 17);
        const Shape s{5, 40, 9};
        const ValueId x = b.input("x", DType::f32, {5, 40, 9}), a = b.constant("a", Tensor::from<int64_t>({1}, {axis}));
        b.output(b.op("CumSum", {x, a}, {{"exclusive", exclusive}, {"reverse", reverse}}), "y");
        const Graph g = b.finish();
        CHECK(compile(g).describe().steps.at(0).kind == "reduction");
        Tensor in = random_tensor(s, 4, -100, 100);
        in.as<float>()[700] = INFINITY, in.as<float>()[900] = NAN;
        check_against_plain(g, {in});
      }
    }
  }
}

TEST_CASE("softmax along every axis") {
  for (const char* op : {"Softmax", "LogSoftmax"}) {
    for (int64_t axis : {-1, 0, 1, 2}) {
      check_op(op, {{3, 5, 21}}, {{"axis", axis}}, -30, 30);
      check_op(op, {{3, 5, 21}}, {{"axis", axis}}, -30, 30, 11);
    }
    check_op(op, {{1, 1}});
    check_op(op, {{2, 7, 3, 3}}, {{"axis", int64_t{1}}});
  }
  CHECK(step_kind("Softmax", {3, 21}) == "softmax");
  CHECK(step_kind("Softmax", {2, 7, 3, 3}, {{"axis", int64_t{1}}}) == "softmax");
}

TEST_CASE("normalisations") {
  for (int64_t axis : {-1, 1}) {
    for (bool bias : {true, false}) {
      Builder b("norm");
      const auto x = b.input("x", DType::f32, {4, 6, 33});
      const Shape row = axis == -1 ? Shape{33} : Shape{6, 33};
      std::vector<ValueId> in{x, b.constant("scale", random_tensor(row, 2))};
      if (bias) in.push_back(b.constant("bias", random_tensor(row, 3)));
      b.output(b.op("LayerNormalization", in, {{"axis", axis}, {"epsilon", 1e-3f}}));
      const Graph g = b.finish();
      CHECK(compile(g, {.threads = 1}).describe().steps[0].kind == "normalisation");
      check_against_plain(g, {random_tensor({4, 6, 33}, 1, -5, 5)}, {.threads = 3}, {1e-4, 1e-4, 0});
    }
  }
  // Apart from a product before it, a batch normalisation is a tape of a factor and a summand.
  Builder b("batch norm");
  const auto vec = [&](const char* name, float low, float high) { return b.constant(name, random_tensor({6}, 5, low, high)); };
  b.output(b.op("BatchNormalization",
                {b.input("x", DType::f32, {2, 6, 7, 5}), vec("s", 0.5f, 1), vec("b", -1, 1), vec("m", -1, 1), vec("v", 0.5f, 2)}));
  const Graph g = b.finish();
  CHECK(compile(g, {.threads = 1}).describe().steps[0].kind == "tape");
  check_against_plain(g, {random_tensor({2, 6, 7, 5}, 1)});
  check_op("InstanceNormalization", {{2, 4, 9}, {4}, {4}});
}

TEST_CASE("pools with padding, strides, dilation and rounding up") {
  for (const char* op : {"MaxPool", "AveragePool"}) {
    const Shape x{2, 19, 11, 10};
    check_op(op, {x}, {{"kernel_shape", Ints{3, 3}}});
    check_op(op, {x}, {{"kernel_shape", Ints{2, 3}}, {"strides", Ints{2, 3}}, {"pads", Ints{1, 1, 0, 1}}});
    check_op(op, {x}, {{"kernel_shape", Ints{3, 3}}, {"strides", Ints{2, 2}}, {"ceil_mode", int64_t{1}}});
    check_op(op, {x}, {{"kernel_shape", Ints{3, 3}}, {"strides", Ints{2, 2}}, {"auto_pad", std::string("SAME_UPPER")}});
    check_op(op, {{1, 5, 30}}, {{"kernel_shape", Ints{4}}, {"strides", Ints{3}}});
    check_op(op, {{1, 5, 6, 7, 8}}, {{"kernel_shape", Ints{2, 2, 2}}});
    CHECK(has(step_kind(op, x, {{"kernel_shape", Ints{3, 3}}}), "pool"));
  }
  check_op("MaxPool", {{1, 4, 12, 12}}, {{"kernel_shape", Ints{3, 3}}, {"dilations", Ints{2, 2}}});
  check_op("AveragePool", {{1, 4, 9, 9}}, {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}, {"count_include_pad", int64_t{1}}});
  check_op("AveragePool", {{1, 4, 9, 9}},
           {{"kernel_shape", Ints{3, 3}},
            {"pads", Ints{1, 1, 1, 1}},
            {"count_include_pad", int64_t{1}},
            {"ceil_mode", int64_t{1}},
            {"strides", Ints{2, 2}}});
  for (const char* op : {"GlobalAveragePool", "GlobalMaxPool"}) {
    check_op(op, {{2, 19, 7, 5}});
    check_op(op, {{1, 3, 11}});
    CHECK(step_kind(op, {2, 19, 7, 5}) == "reduction");
  }
}

TEST_CASE("strided movement") {
  for (const Ints& perm : {Ints{0, 1, 2, 3}, Ints{3, 2, 1, 0}, Ints{0, 2, 3, 1}, Ints{0, 3, 1, 2}, Ints{1, 0, 3, 2}, Ints{2, 3, 0, 1}}) {
    check_op("Transpose", {{3, 5, 18, 7}}, {{"perm", perm}});
  }
  check_op("Transpose", {{40, 70}});
  check_op("Concat", {{2, 3, 4}, {2, 5, 4}, {2, 0, 4}}, {{"axis", int64_t{1}}});
  check_op("Concat", {{7}}, {{"axis", int64_t{0}}});
  for (const DType dtype : {DType::i64, DType::u8, DType::f16, DType::boolean}) {
    Builder b("typed");
    const auto x = b.input("x", dtype, {4, 6});
    b.output(b.op("Concat", {b.op("Transpose", {x}), b.op("Reshape", {x, b.constant("s", Tensor::from<int64_t>({2}, {6, 4}))})},
                  {{"axis", int64_t{1}}}));
    const Graph g = b.finish();
    const Program p = compile(g, {.threads = 2});
    const auto in = random_inputs(p, p.bound_shapes(), 3);
    Lane lane(p);
    CHECK(identical(lane.run(std::span<const Tensor>(in))[0], evaluate_plain(g, in)[0]));
  }
}

TEST_CASE("gather checks indices while running") {
  Builder b("gather");
  b.output(b.op("Gather", {b.input("x", DType::f32, {5, 3}), b.input("i", DType::i32, {2, 2})}));
  Lane lane(compile(b.finish(), {.threads = 2}));
  const Tensor x = random_tensor({5, 3}, 1), good = Tensor::from<int32_t>({2, 2}, {0, 4, -5, -1}),
               bad = Tensor::from<int32_t>({2, 2}, {0, 5, 1, 2});
  const Outputs out = lane.run({{"x", x}, {"i", good}});
  CHECK(out[0].shape() == Shape{2, 2, 3});
  CHECK(out[0].as<float>()[3] == x.as<float>()[12]);
  CHECK(out[0].as<float>()[6] == x.as<float>()[0]);
  CHECK(has(error_of([&] { lane.run({{"x", x}, {"i", bad}}); }), "index 5 is outside an axis of 5 elements"));
}

TEST_CASE("rotary embeddings check positions while running") {
  Builder b("rotary", 23);
  b.output(b.op("RotaryEmbedding", {b.input("x", DType::f32, {1, 2, 3, 4}), b.constant("cos", random_tensor({9, 2}, 1)),
                                    b.constant("sin", random_tensor({9, 2}, 2)), b.input("at", DType::i64, {1, 3})}));
  Lane lane(compile(b.finish(), {.threads = 2}));
  const Tensor x = random_tensor({1, 2, 3, 4}, 3);
  const auto at = [](int64_t last) { return Tensor::from<int64_t>({1, 3}, {0, 8, last}); };
  CHECK(lane.run({{"x", x}, {"at", at(4)}})[0].shape() == Shape{1, 2, 3, 4});
  CHECK(has(error_of([&] { lane.run({{"x", x}, {"at", at(9)}}); }), "position 9 is outside a cache of 9 rows"));
  CHECK(has(error_of([&] { lane.run({{"x", x}, {"at", at(-1)}}); }), "position -1 is outside"));
  CHECK(lane.run({{"x", x}, {"at", at(8)}})[0].shape() == Shape{1, 2, 3, 4});  // the lane is good for the next run
}

TEST_CASE("ops that must not fall back to plain evaluation") {
  const auto only = [](const char* op, const std::vector<Shape>& shapes, const Attributes& a = {}) {
    Builder b("one", 23);
    std::vector<ValueId> in;
    for (size_t i = 0; i < shapes.size(); ++i) in.push_back(b.input("x" + std::to_string(i), DType::f32, dims(shapes[i])));
    b.output(b.op(op, in, a), "y");
    std::string kinds;
    for (const StepInfo& s : compile(b.finish(), {.threads = 1}).describe().steps) {
      if (s.kind != "layout") kinds += (kinds.empty() ? "" : " ") + s.kind;
    }
    return kinds;
  };
  CHECK(only("DepthToSpace", {{1, 8, 3, 3}}, {{"blocksize", int64_t{2}}}) == "copy");
  CHECK(only("SpaceToDepth", {{1, 8, 4, 4}}, {{"blocksize", int64_t{2}}}) == "copy");
  CHECK(only("RotaryEmbedding", {{1, 2, 3, 4}, {1, 3, 2}, {1, 3, 2}}) == "rotary");
  CHECK(only("Attention", {{1, 2, 1, 8}, {1, 2, 9, 8}, {1, 2, 9, 8}}) == "attention");
  CHECK(only("GroupNormalization", {{1, 8, 3, 3}, {8}, {8}}, {{"num_groups", int64_t{2}}}) == "normalisation");
  // A state of other sizes than it must have is told as plain evaluation tells it.
  Builder b("state", 23);
  std::vector<ValueId> in;
  for (const Shape& s : {Shape{1, 2, 3, 8}, Shape{1, 2, 3, 8}, Shape{1, 2, 3, 8}})
    in.push_back(b.input("i" + std::to_string(in.size()), DType::f32, dims(s)));
  in.push_back(kAbsent);
  for (const Shape& s : {Shape{1, 2, 5, 8}, Shape{1, 2, 5, 8}}) in.push_back(b.input("i" + std::to_string(in.size()), DType::f32, dims(s)));
  const auto made = b.ops("Attention", in, 3);
  for (size_t i = 0; i < made.size(); ++i) b.output(made[i], "y" + std::to_string(i));
  const Program p = compile(b.finish(), {.threads = 1});
  CHECK(p.describe().steps.size() == 1);
  CHECK(p.describe().steps[0].recipe.find("5 of them from before") != std::string::npos);
}

TEST_CASE("epilogues of every form on a convolution") {
  const auto run = [](const char* what, auto tail) {
    CAPTURE(what);
    Builder b("tail");
    const auto x = b.input("x", DType::f32, {2, 5, 6, 7}), r = b.input("r", DType::f32, {2, 9, 6, 7});
    const auto y = b.op("Conv", {x, b.constant("w", random_tensor({9, 5, 3, 3}, 1, -0.3f, 0.3f))}, {{"pads", Ints{1, 1, 1, 1}}});
    b.output(tail(b, y, r), "y");
    const Graph g = b.finish();
    const std::vector<Tensor> in{random_tensor({2, 5, 6, 7}, 2), random_tensor({2, 9, 6, 7}, 3)};
    for (int threads : {1, 3}) check_against_plain(g, in, {.threads = threads});
  };
  const auto vec = [](Builder& b, Shape s) { return b.constant("v", random_tensor(std::move(s), 9)); };
  run("bias", [&](Builder& b, ValueId y, ValueId) { return b.op("Add", {y, vec(b, {9, 1, 1})}); });
  run("bias first", [&](Builder& b, ValueId y, ValueId) { return b.op("Add", {vec(b, {1, 9, 1, 1}), y}); });
  run("a row of the last axis is no bias", [&](Builder& b, ValueId y, ValueId) { return b.op("Add", {y, vec(b, {7})}); });
  run("scalar", [&](Builder& b, ValueId y, ValueId) { return b.op("Mul", {y, vec(b, {})}); });
  run("residual, relu", [&](Builder& b, ValueId y, ValueId r) { return b.op("Relu", {b.op("Add", {r, y})}); });
  run("relu, residual", [&](Builder& b, ValueId y, ValueId r) { return b.op("Add", {b.op("Relu", {y}), r}); });
  run("subtracted", [&](Builder& b, ValueId y, ValueId r) { return b.op("Sub", {r, y}); });
  run("twice itself", [&](Builder& b, ValueId y, ValueId) { return b.op("Add", {y, y}); });
  run("silu", [&](Builder& b, ValueId y, ValueId) { return b.op("Mul", {y, b.op("Sigmoid", {y})}); });
  run("a plane for all channels", [&](Builder& b, ValueId y, ValueId) {
    return b.op("Mul", {y, b.constant("v", random_tensor({2, 1, 6, 7}, 4))});
  });
  run("clip", [&](Builder& b, ValueId y, ValueId) {
    return b.op("Clip", {y, b.constant("l", Tensor::from<float>({}, {-0.2f})), b.constant("h", Tensor::from<float>({}, {0.3f}))});
  });
  run("long chain", [&](Builder& b, ValueId y, ValueId r) {
    for (int i = 0; i < 10; ++i) y = b.op("Tanh", {b.op("Add", {b.op("Mul", {y, r}), r})});
    return y;
  });
  run("hard swish by hand", [&](Builder& b, ValueId y, ValueId) {
    const auto three = b.constant("three", Tensor::from<float>({}, {3})), six = b.constant("six", Tensor::from<float>({}, {6})),
               zero = b.constant("zero", Tensor::from<float>({}, {0}));
    return b.op("Div", {b.op("Mul", {y, b.op("Clip", {b.op("Add", {y, three}), zero, six})}), six});
  });
}

TEST_CASE("elementwise nodes before a product are done on its rows") {
  const auto before_of = [](const Graph& g, CompileOptions options = {}) {
    for (const StepInfo& s : compile(g, options).describe().steps) {
      if (has(s.recipe, " before, ")) return s.recipe.substr(s.recipe.find(" before, ") + 9);
    }
    return std::string("none");
  };
  const auto everywhere = [](const Graph& g, const std::vector<Tensor>& in) {
    for (const std::string& isa : machine_info().isas) {
      for (const int threads : {1, 3}) check_against_plain(g, in, {.threads = threads, .isa = isa});
    }
  };
  const auto scaled = [](Builder& b, ValueId x, Shape s, uint64_t seed) {
    const auto name = [&](const char* part) { return part + std::to_string(seed); };
    const ValueId scale = b.constant(name("scale"), random_tensor(s, seed)), shift = b.constant(name("shift"), random_tensor(s, seed + 1));
    return b.op("Relu", {b.op("Add", {b.op("Mul", {x, scale}), shift})});
  };
  // Many rows in blocks, few rows of a wide product all first, rows longer than the kernel takes in one go; and a Gemm with a tail.
  for (const auto& [rows, depth, columns] : {std::tuple{333L, 96L, 40L}, {5L, 200L, 700L}, {70L, 900L, 33L}}) {
    CAPTURE(rows);
    Builder b("product");
    const ValueId x = b.input("x", DType::f32, {rows, depth});
    b.output(b.op("Tanh", {b.op("Gemm", {scaled(b, x, {depth}, 3), b.constant("w", random_tensor({depth, columns}, 5, -0.1f, 0.1f)),
                                         b.constant("bias", random_tensor({columns}, 6))})}),
             "y");
    const Graph g = b.finish();
    CHECK(before_of(g) != "none");
    CHECK(compile(g).describe().steps.size() == 1);
    everywhere(g, {random_tensor({rows, depth}, 7)});
  }
  {  // gated pictures: the gate is one a channel of each image, the input part of a larger value
    Builder b("gated");
    const ValueId x = b.input("x", DType::f32, {2, 4, 7, 9}), gate = b.input("gate", DType::f32, {2, 64, 1, 1});
    const ValueId wide = b.op("Conv", {x, b.constant("a", random_tensor({96, 4, 1, 1}, 1))});
    const ValueId part =
        b.op("Slice", {wide, b.constant("from", Tensor::from<int64_t>({1}, {32})), b.constant("to", Tensor::from<int64_t>({1}, {96})),
                       b.constant("axis", Tensor::from<int64_t>({1}, {1}))});
    const ValueId held = b.op("Mul", {part, gate});
    b.output(b.op("Conv", {held, b.constant("w", random_tensor({24, 64, 1, 1}, 2, -0.2f, 0.2f))}), "y");
    const Graph g = b.finish();
    CHECK(has(before_of(g), "rows at a time"));
    everywhere(g, {random_tensor({2, 4, 7, 9}, 3), random_tensor({2, 64, 1, 1}, 4)});
  }
  {  // a first layer: what makes its picture is done on the lines that its copy takes, not on the padding
    Builder b("first layer");
    const ValueId x = b.input("x", DType::f32, {2, 3, 20, 64});
    const ValueId w = b.constant("w", random_tensor({16, 3, 5, 5}, 2, -0.2f, 0.2f));
    b.output(b.op("Conv", {scaled(b, x, {3, 1, 1}, 8), w},
                  {{"pads", std::vector<int64_t>{2, 2, 2, 2}}, {"strides", std::vector<int64_t>{2, 2}}}),
             "y");
    const Graph g = b.finish();
    CHECK(before_of(g) == "into the padded rows");
    everywhere(g, {random_tensor({2, 3, 20, 64}, 9)});
  }
  {  // read twice, or by a window: a step of its own, and the plan says why
    Builder b("not so");
    const ValueId x = b.input("x", DType::f32, {1, 64, 9, 9});
    const ValueId twice = scaled(b, x, {64, 1, 1}, 1);
    const ValueId y = b.op("Conv", {twice, b.constant("w", random_tensor({64, 64, 1, 1}, 2, -0.1f, 0.1f))});
    const ValueId windowed = b.op("Relu", {b.op("Add", {y, twice})});
    const ValueId both = b.op("Sigmoid", {b.op("Mul", {windowed, b.op("GlobalAveragePool", {windowed})})});
    b.output(b.op("Conv", {both, b.constant("v", random_tensor({8, 64, 3, 3}, 3, -0.1f, 0.1f))}), "z");
    const Graph g = b.finish();
    CHECK(before_of(g) == "none");
    const EditionInfo info = compile(g).describe();
    CHECK(std::ranges::any_of(info.steps, [](const StepInfo& s) { return has(s.why_not, "several times, in windows"); }));
    everywhere(g, {random_tensor({1, 64, 9, 9}, 4)});
  }
}

TEST_CASE("a value that is read elsewhere is not swallowed") {
  Builder b("fork");
  const auto x = b.input("x", DType::f32, {1, 4, 5, 5});
  const auto y = b.op("Conv", {x, b.constant("w", random_tensor({4, 4, 1, 1}, 1))});
  const auto r = b.op("Relu", {y});
  b.output(b.op("Add", {r, b.op("Conv", {r, b.constant("w2", random_tensor({4, 4, 1, 1}, 2))})}), "sum");
  b.output(y, "before");
  b.output(b.op("Neg", {r}), "negative");
  check_against_plain(b.finish(), {random_tensor({1, 4, 5, 5}, 3)}, {.threads = 2});
}

TEST_CASE("the same value in and out, twice out, and constants out") {
  Builder b("odd ends");
  const auto x = b.input("x", DType::f32, {2, 3});
  const auto y = b.op("Relu", {x});
  b.output(x);
  b.output(y);
  b.output(b.op("Identity", {y}), "again");
  b.output(b.op("Reshape", {y, b.constant("s", Tensor::from<int64_t>({1}, {6}))}), "flat");
  b.output(b.constant("k", Tensor::from<float>({2}, {1, 2})));
  b.output(b.constant("words", Tensor::from<std::string>({1}, {std::string("ash")})));
  const Graph g = b.finish();
  const std::vector<Tensor> in{random_tensor({2, 3}, 1)};
  Lane lane(compile(g));
  const Outputs out = lane.run(std::span<const Tensor>(in));
  const auto expected = evaluate_plain(g, in);
  for (size_t i = 0; i < expected.size(); ++i) CHECK(identical(out[i], expected[i]));
}

TEST_CASE("zero sizes everywhere") {
  for (const char* op : {"Relu", "Softmax", "Transpose"}) check_op(op, {{0, 4}});
  check_op("Conv", {{0, 3, 5, 5}, {4, 3, 3, 3}});
  check_op("MatMul", {{3, 0}, {0, 4}});
  check_op("Add", {{2, 0, 3}, {3}});
  check_op("Concat", {{0, 3}, {2, 3}}, {{"axis", int64_t{0}}});
  check_op("ReduceSum", {{0, 3}}, {{"axes", Ints{0}}}, -1, 1, 12);
}
