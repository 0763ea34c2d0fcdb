// Steps that multiply: products, 8-bit products and convolutions, narrow weights.
#include <array>
#include <cmath>
#include <limits>

#include "steps.hpp"
#include "tensor/widen.hpp"

using namespace test;

TEST_CASE("8-bit products are exact, whatever the signs and zero points") {
  std::mt19937_64 random(7);
  for (int trial = 0; trial < 60; ++trial) {
    const bool a_signed = random() % 2, b_signed = random() % 2, per_column = random() % 2, requantised = random() % 2,
               out_signed = random() % 2;
    const int64_t m = between(random, 1, 40), n = between(random, 1, 70),
                  k = trial % 9 == 0 ? between(random, 1000, 2600) : between(random, 1, 70);
    const DType at = a_signed ? DType::i8 : DType::u8, bt = b_signed ? DType::i8 : DType::u8, yt = out_signed ? DType::i8 : DType::u8;
    CAPTURE(m);
    CAPTURE(n);
    CAPTURE(k);
    Builder b("q", 21);
    const bool batched = random() % 3 == 0;
    const Shape as = batched ? Shape{2, m, k} : Shape{m, k};
    const ValueId x = b.input("x", at, Dims(as.begin(), as.end())), w = b.constant("w", bytes_tensor(bt, {k, n}, random));
    const ValueId za = b.constant("za", byte_scalar(at, static_cast<int>(random() % 256)));
    const ValueId zb = b.constant("zb", per_column ? bytes_tensor(bt, {n}, random) : byte_scalar(bt, static_cast<int>(random() % 256)));
    if (requantised) {
      const Tensor scales = random_tensor({per_column ? n : 1}, trial, 0.001f, 0.01f);
      const ValueId sa = b.constant("sa", Tensor::from<float>({}, {0.013f})),
                    sb = b.constant("sb", per_column ? scales : scales.reshaped({})),
                    sy = b.constant("sy", Tensor::from<float>({}, {0.21f}));
      b.output(b.op("QLinearMatMul", {x, sa, za, w, sb, zb, sy, b.constant("zy", byte_scalar(yt, static_cast<int>(random() % 256)))}), "y");
    } else {
      b.output(b.op("MatMulInteger", {x, w, za, zb}), "y");
    }
    const Graph g = b.finish();
    REQUIRE(has(step_kinds(g), "byte product"));
    const Tensor in = bytes_tensor(at, as, random);
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {in}, o); });
  }
}

TEST_CASE("8-bit convolutions are exact: padding, strides, dilations, groups") {
  std::mt19937_64 random(8);
  for (int trial = 0; trial < 50; ++trial) {
    const bool a_signed = random() % 2, b_signed = random() % 2, requantised = random() % 2;
    const DType at = a_signed ? DType::i8 : DType::u8, bt = b_signed ? DType::i8 : DType::u8;
    const bool depthwise = trial % 3 == 0, ties = trial % 4 == 0;
    const int64_t groups = depthwise ? between(random, 2, 300) : between(random, 1, 3),
                  channels = groups * (depthwise ? 1 : between(random, 1, 9)), filters = groups * (depthwise ? 1 : between(random, 1, 40)),
                  kernel = between(random, 1, 4), dilation = between(random, 1, 2), stride = between(random, 1, 3),
                  side = between(random, 7, 12), pad = between(random, 0, 4);
    Builder b("q", 21);
    const ValueId x = b.input("x", at, {2, channels, side, side}),
                  w = b.constant("w", bytes_tensor(bt, {filters, channels / groups, kernel, kernel}, random));
    const ValueId za = b.constant("za", byte_scalar(at, static_cast<int>(random() % 256))),
                  zb = b.constant("zb", byte_scalar(bt, trial % 5 == 0 ? (b_signed ? 0 : 128) : static_cast<int>(random() % 256)));
    std::map<std::string, Attribute::Data> attributes{{"group", groups},
                                                      {"strides", std::vector<int64_t>{stride, 1}},
                                                      {"dilations", std::vector<int64_t>{1, dilation}},
                                                      {"pads", std::vector<int64_t>{pad, 0, 1, pad}}};
    if (requantised) {
      Tensor bias(DType::i32, {filters});
      for (int32_t& v : bias.as<int32_t>()) v = static_cast<int32_t>(between(random, -3000, 3000));
      b.output(
          b.op("QLinearConv",
               {x, b.constant("sx", Tensor::from<float>({}, {ties ? 0.5f : 0.02f})), za, w,
                b.constant("sw", ties ? random_tensor({filters}, 0, 0.03125f, 0.03125f) : random_tensor({filters}, trial, 0.001f, 0.02f)),
                zb, b.constant("sy", Tensor::from<float>({}, {ties ? 4.0f : 0.3f})), b.constant("zy", byte_scalar(DType::u8, 100)),
                b.constant("bias", bias)},
               attributes),
          "y");
    } else {
      b.output(b.op("ConvInteger", {x, w, za, zb}, attributes), "y");
    }
    const Graph g = b.finish();
    REQUIRE(has(step_kinds(g), "byte convolution"));
    const Tensor in = bytes_tensor(at, {2, channels, side, side}, random);
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {in}, o); });
  }
}

TEST_CASE("f16 and bf16 weights stay narrow and give what casting them first gives") {
  std::mt19937_64 random(9);
  for (int trial = 0; trial < 30; ++trial) {
    const DType dtype = trial % 2 ? DType::f16 : DType::bf16;
    const bool gemm = trial % 3 == 0;
    const int64_t m = between(random, 1, 20), n = between(random, 1, 80), k = between(random, 1, 90);
    Builder b("narrow", 21);
    const Shape ws = gemm ? Shape{n, k} : Shape{k, n};
    Builder c("cast", 21);
    c.output(c.op("Cast", {c.input("w", DType::f32, Dims(ws.begin(), ws.end()))}, {{"to", int64_t{dtype == DType::f16 ? 10 : 16}}}), "y");
    const Tensor wide = random_tensor(ws, trial);
    const Tensor narrow = evaluate_plain(c.finish(), std::span(&wide, 1))[0];
    const ValueId x = b.input("x", DType::f32, {m, k}), w = b.op("Cast", {b.constant("w", narrow)}, {{"to", int64_t{1}}});
    const ValueId y =
        gemm ? b.op("Gemm", {x, w, b.constant("bias", random_tensor({n}, 3))}, {{"transB", int64_t{1}}}) : b.op("MatMul", {x, w});
    b.output(b.op("Relu", {y}), "y");
    const Graph g = b.finish();
    const EditionInfo info = compile(g, {.threads = 1}).describe();
    REQUIRE(info.steps.size() == 1);
    CHECK(has(info.steps[0].recipe, dtype == DType::f16 ? "f16 weights" : "bf16 weights"));
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {random_tensor({m, k}, trial + 5)}, o); });
  }
  SUBCASE("several editions share them, and a model given away holds them once") {
    Builder b("editions", 21);
    const ValueId x = b.input("x", DType::f32, {"rows", 64});
    Tensor half(DType::bf16, {64, 96});
    for (auto& v : half.as<BFloat16>()) v.bits = 0x3f80;  // 1
    b.output(b.op("MatMul", {x, b.op("Cast", {b.constant("w", half)}, {{"to", int64_t{1}}})}), "y");
    Lane lane(compile(b.finish(), {.threads = 1}));
    for (int64_t rows : {1, 5, 33}) {
      const Tensor in = random_tensor({rows, 64}, 4);
      const Outputs out = lane.run({{"x", in}});
      double sum = 0;
      for (int64_t i = 0; i < 64; ++i) sum += in.as<float>()[i];
      CHECK(out["y"].as<float>()[0] == doctest::Approx(sum).epsilon(1e-5));
      CHECK(out["y"].as<float>()[95] == doctest::Approx(sum).epsilon(1e-5));
    }
    CHECK(lane.program().describe({{5, 64}}).weight_bytes == 64 * 96 * 2);
  }
  SUBCASE("a cast that something else reads too is not taken away") {
    Builder b("shared", 21);
    const ValueId x = b.input("x", DType::f32, {3, 4});
    Tensor half(DType::f16, {4, 5});
    for (auto& v : half.as<Half>()) v.bits = 0x3c00;  // 1
    const ValueId w = b.op("Cast", {b.constant("w", half)}, {{"to", int64_t{1}}});
    b.output(b.op("MatMul", {x, w}), "y");
    b.output(b.op("Neg", {w}), "z");
    check_against_plain(b.finish(), {random_tensor({3, 4}, 1)});
  }
}

TEST_CASE("products: ragged, narrow, batched, the same bits for every thread count") {
  std::mt19937_64 random(14);
  for (int trial = 0; trial < 80; ++trial) {
    const int64_t m = between(random, 1, 60), n = between(random, 1, 140), k = trial % 8 == 0 ? 1024 : between(random, 1, 130),
                  batch = trial % 3 == 0 ? between(random, 2, 9) : 0;
    Builder b("product", 21);
    const Shape as = batch ? Shape{batch, m, k} : Shape{m, k}, bs = batch ? Shape{batch, k, n} : Shape{k, n};
    const ValueId x = b.input("x", DType::f32, Dims(as.begin(), as.end()));
    std::vector<Tensor> fed{random_tensor(as, trial)};
    ValueId w;
    if (batch) {
      w = b.input("w", DType::f32, Dims(bs.begin(), bs.end()));
      fed.push_back(random_tensor(bs, trial + 1));
    } else {
      w = b.constant("w", random_tensor(bs, trial + 1));
    }
    b.output(b.op("MatMul", {x, w}), "y");
    const Graph g = b.finish();
    for (kernels::Isa isa : kernels::available()) {
      CAPTURE(std::string(kernels::name(isa)));
      Tensor first;
      for (int threads : {1, 2, 5}) {
        const CompileOptions o{.threads = threads, .isa = std::string(kernels::name(isa))};
        check_against_plain(g, fed, o);
        Lane lane(compile(g, o));
        const Tensor y = lane.run(std::span<const Tensor>(fed))["y"].clone();
        if (first.empty()) first = y;
        else CHECK(identical(first, y));
      }
    }
  }
}

TEST_CASE("few rows and columns over a long K, cut: constant, 16-bit and run-time weights, epilogues, the same bits on any threads") {
  auto recipes = std::make_shared<Recipes>();
  recipes->pin(read_pin("family=product.deep"));
  std::mt19937_64 random(15);
  for (int trial = 0; trial < 24; ++trial) {
    CAPTURE(trial);
    const int64_t m = trial % 3 == 0 ? 1 : between(random, 2, 30), n = between(random, 1, 70), k = between(random, 30000, 60000);
    const int form = trial % 4;  // constant, f16, made at run time, transposed with alpha and a bias
    Builder b("deep", 21);
    const ValueId x = b.input("x", DType::f32, {m, k});
    std::vector<Tensor> fed{random_tensor({m, k}, trial)};
    const Tensor w = random_tensor({k, n}, trial + 1, -0.1f, 0.1f);
    ValueId y;
    if (form == 3) {
      std::map<std::string, Attribute::Data> attributes{{"alpha", 0.5f}, {"transB", int64_t{1}}};
      const Tensor turned = random_tensor({n, k}, trial + 1, -0.1f, 0.1f);
      ValueId weights = kAbsent;
      if (trial % 8 == 3) weights = b.constant("w", turned);
      else weights = b.input("w", DType::f32, {n, k}), fed.push_back(turned);
      y = b.op("Gemm", {x, weights, b.constant("c", random_tensor({n}, 4))}, attributes);
    } else if (form == 2) {
      fed.push_back(w);
      y = b.op("MatMul", {x, b.input("w", DType::f32, {k, n})});
    } else if (form == 1) {
      std::vector<double> numbers(w.as<float>().begin(), w.as<float>().end());
      y = b.op("MatMul", {x, b.op("Cast", {b.constant("w", narrow<double>(DType::f16, {k, n}, numbers))}, {{"to", int64_t{1}}})});
    } else {
      y = b.op("MatMul", {x, b.constant("w", w)});
    }
    if (trial % 5 == 0) y = b.op("Relu", {y});
    if (trial % 5 == 1) y = b.op("Add", {b.op("Sigmoid", {y}), b.constant("row", random_tensor({n}, 9))});
    if (trial % 5 == 2) {
      y = b.op("Add", {y, b.input("residual", DType::f32, {m, n})});
      fed.push_back(random_tensor({m, n}, 8));
    }
    b.output(y, "y");
    const Graph g = b.finish();
    const auto expected = evaluate_plain(g, fed);
    for (kernels::Isa isa : kernels::available()) {
      CAPTURE(std::string(kernels::name(isa)));
      Tensor first;
      for (int threads : {1, 2, 5}) {
        const CompileOptions o{.threads = threads, .recipes = recipes, .isa = std::string(kernels::name(isa))};
        const Program p = compile(g, o);
        CHECK(std::ranges::any_of(p.describe().steps, [](const StepInfo& s) { return has(s.recipe, ", K in "); }));
        if (threads == 2) check_against(expected, g, fed, o, {2e-4, 1e-4, 0});
        Lane lane(p);
        const Tensor out = lane.run(std::span<const Tensor>(fed))["y"].clone();
        CHECK(compare("y", out, expected[0], Tolerance{2e-4, 1e-4, 0}).pass);
        if (first.empty()) first = out;
        else CHECK(identical(first, out));
      }
    }
  }
}
