// The kernels that make models fast, against plain evaluation over many shapes, under every instruction set and several thread counts.
#include <array>
#include <cmath>
#include <limits>

#include "kernels/isa.hpp"
#include "support.hpp"

using namespace test;

namespace {

Tensor bytes_tensor(DType dtype, const Shape& shape, std::mt19937_64& random) {
  Tensor t(dtype, shape);
  auto* p = static_cast<uint8_t*>(t.data());
  for (size_t i = 0; i < t.byte_size(); ++i) p[i] = static_cast<uint8_t>(random());
  return t;
}

Tensor byte_scalar(DType dtype, int v) {
  Tensor t(dtype, {});
  *static_cast<uint8_t*>(t.data()) = static_cast<uint8_t>(v);
  return t;
}

int64_t between(std::mt19937_64& random, int64_t low, int64_t high) {
  return low + static_cast<int64_t>(random() % static_cast<uint64_t>(high - low + 1));
}

// One random graph through every instruction set, on 1 and 3 threads.
template <typename Check>
void everywhere(const Graph& g, Check check) {
  for (kernels::Isa isa : kernels::available()) {
    for (int threads : {1, 3}) {
      CAPTURE(std::string(kernels::name(isa)));
      CAPTURE(threads);
      check(g, CompileOptions{.threads = threads, .isa = std::string(kernels::name(isa))});
    }
  }
}

std::string step_kinds(const Graph& g) {
  std::string all;
  for (const StepInfo& s : compile(g, {.threads = 1}).describe().steps) all += s.kind + " ";
  return all;
}

}  // namespace

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
    const int64_t groups = between(random, 1, 3), channels = groups * between(random, 1, 9), filters = groups * between(random, 1, 20),
                  kernel = between(random, 1, 4), dilation = between(random, 1, 2), stride = between(random, 1, 3),
                  side = between(random, 7, 12), pad = between(random, 0, 4);
    Builder b("q", 21);
    const ValueId x = b.input("x", at, {2, channels, side, side}),
                  w = b.constant("w", bytes_tensor(bt, {filters, channels / groups, kernel, kernel}, random));
    const ValueId za = b.constant("za", byte_scalar(at, static_cast<int>(random() % 256))),
                  zb = b.constant("zb", byte_scalar(bt, static_cast<int>(random() % 256)));
    std::map<std::string, Attribute::Data> attributes{{"group", groups},
                                                      {"strides", std::vector<int64_t>{stride, 1}},
                                                      {"dilations", std::vector<int64_t>{1, dilation}},
                                                      {"pads", std::vector<int64_t>{pad, 0, 1, pad}}};
    if (requantised) {
      Tensor bias(DType::i32, {filters});
      for (int32_t& v : bias.as<int32_t>()) v = static_cast<int32_t>(between(random, -3000, 3000));
      b.output(
          b.op("QLinearConv",
               {x, b.constant("sx", Tensor::from<float>({}, {0.02f})), za, w,
                b.constant("sw", random_tensor({filters}, trial, 0.001f, 0.02f)), zb, b.constant("sy", Tensor::from<float>({}, {0.3f})),
                b.constant("zy", byte_scalar(DType::u8, 100)), b.constant("bias", bias)},
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

TEST_CASE("attention by blocks of keys") {
  std::mt19937_64 random(10);
  for (int trial = 0; trial < 36; ++trial) {
    const int64_t batch = between(random, 1, 2), kv_heads = between(random, 1, 2), group = between(random, 1, 2), heads = kv_heads * group,
                  length = trial % 6 == 0 ? between(random, 100, 300) : between(random, 1, 30),
                  keys = trial % 5 == 0 ? between(random, 257, 600) : between(random, 1, 40), width = between(random, 1, 40),
                  value_width = between(random, 1, 40);
    const bool flat = random() % 2, causal = random() % 3 == 0;
    const int mask = static_cast<int>(random() % 4);  // none, f32 rows x keys, bool by batch, f32 one row
    std::map<std::string, Attribute::Data> attributes;
    if (causal) attributes["is_causal"] = int64_t{1};
    if (random() % 2) attributes["scale"] = 0.37f;
    if (flat) attributes["q_num_heads"] = heads, attributes["kv_num_heads"] = kv_heads;
    const Shape qs = flat ? Shape{batch, length, heads * width} : Shape{batch, heads, length, width},
                ks = flat ? Shape{batch, keys, kv_heads * width} : Shape{batch, kv_heads, keys, width},
                vs = flat ? Shape{batch, keys, kv_heads * value_width} : Shape{batch, kv_heads, keys, value_width};
    Builder b("attention", 23);
    const auto dims = [](const Shape& s) { return Dims(s.begin(), s.end()); };
    std::vector<ValueId> in{b.input("q", DType::f32, dims(qs)), b.input("k", DType::f32, dims(ks)), b.input("v", DType::f32, dims(vs))};
    std::vector<Tensor> fed{random_tensor(qs, trial, -2, 2), random_tensor(ks, trial + 100, -2, 2), random_tensor(vs, trial + 200)};
    if (mask == 1 || mask == 3) {
      const Shape ms{mask == 1 ? length : 1, keys};
      Tensor m = random_tensor(ms, trial + 300);
      if (keys > 2) m.as<float>()[1] = -std::numeric_limits<float>::infinity();
      in.push_back(b.input("m", DType::f32, dims(ms)));
      fed.push_back(m);
    } else if (mask == 2) {
      const Shape ms{batch, 1, length, keys};
      Tensor m(DType::boolean, ms);
      for (bool& v : m.as<bool>()) v = random() % 4 != 0;
      in.push_back(b.input("m", DType::boolean, dims(ms)));
      fed.push_back(m);
    }
    b.output(b.op("Attention", in, attributes), "y");
    const Graph g = b.finish();
    REQUIRE(has(step_kinds(g), "attention"));
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, fed, o); });
  }
}

TEST_CASE("attention: NaN, infinity and rows that see nothing") {
  Builder b("attention", 23);
  const ValueId q = b.input("q", DType::f32, {1, 1, 4, 8}), k = b.input("k", DType::f32, {1, 1, 300, 8}),
                v = b.input("v", DType::f32, {1, 1, 300, 8});
  const ValueId m = b.input("m", DType::boolean, {4, 300});
  b.output(b.op("Attention", {q, k, v, m}), "y");
  const Graph g = b.finish();
  std::vector<Tensor> in{random_tensor({1, 1, 4, 8}, 1), random_tensor({1, 1, 300, 8}, 2), random_tensor({1, 1, 300, 8}, 3),
                         Tensor(DType::boolean, {4, 300})};
  for (int64_t i = 0; i < 4 * 300; ++i)
    in[3].as<bool>()[static_cast<size_t>(i)] = i / 300 != 1 && !(i / 300 == 3 && i % 300 < 280);  // row 1 sees nothing
  in[0].as<float>()[0] = std::numeric_limits<float>::quiet_NaN();                                 // row 0
  everywhere(g, [&](const Graph& graph, const CompileOptions& o) {
    Lane lane(compile(graph, o));
    const Outputs out = lane.run(std::span<const Tensor>(in));
    const auto y = out["y"].as<float>();
    for (int i = 0; i < 8; ++i) {
      CHECK(std::isnan(y[i]));
      CHECK(y[8 + i] == 0);
      CHECK(std::isfinite(y[16 + i]));
      CHECK(std::isfinite(y[24 + i]));
    }
    check_against_plain(graph, in, o);
  });
}

TEST_CASE("memory of attention is linear in the length") {
  const auto arena = [](int64_t length) {
    Builder b("attention", 23);
    std::vector<ValueId> in;
    for (const char* name : {"q", "k", "v"}) in.push_back(b.input(name, DType::f32, {1, 4, length, 64}));
    b.output(b.op("Attention", in), "y");
    return compile(b.finish(), {.threads = 2}).describe().arena_bytes;
  };
  CHECK(arena(8192) < 2 * arena(2048));
  CHECK(arena(8192) < size_t{8} << 20);  // a matrix of scores would take 1 GiB
}

TEST_CASE("transposed convolutions over many shapes") {
  std::mt19937_64 random(12);
  int done = 0;
  for (int trial = 0; done < 60; ++trial) {
    const int64_t groups = between(random, 1, 2), channels = groups * between(random, 1, 5), per_group = between(random, 1, 40),
                  axes = between(random, 1, 2);
    Shape xs{between(random, 1, 2), channels}, ws{channels, per_group};
    std::vector<int64_t> strides, pads, dilations, extra;
    for (int64_t a = 0; a < axes; ++a) {
      xs.push_back(between(random, 1, 7));
      ws.push_back(between(random, 1, 4));
      strides.push_back(between(random, 1, 4));
      dilations.push_back(between(random, 1, 2));
      extra.push_back(between(random, 0, strides.back() - 1));
    }
    for (int64_t a = 0; a < 2 * axes; ++a) pads.push_back(between(random, 0, 2));
    Builder b("turned", 21);
    const ValueId x = b.input("x", DType::f32, Dims(xs.begin(), xs.end()));
    std::vector<ValueId> in{x, b.constant("w", random_tensor(ws, trial))};
    if (random() % 2) in.push_back(b.constant("bias", random_tensor({per_group * groups}, trial + 1)));
    Graph g;
    try {
      b.output(b.op("ConvTranspose", in,
                    {{"strides", strides}, {"pads", pads}, {"dilations", dilations}, {"output_padding", extra}, {"group", groups}}),
               "y");
      g = b.finish();
    } catch (const Error&) {
      continue;  // the padding eats all of it
    }
    if (element_count(*known_shape(g.values[g.outputs[0]].dims)) == 0) continue;
    ++done;
    REQUIRE(has(step_kinds(g), "transposed convolution"));
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {random_tensor(xs, trial + 2)}, o); });
  }
}

TEST_CASE("depthwise convolutions and pools over many shapes, NaN and infinity as plain has them") {
  std::mt19937_64 random(13);
  for (int trial = 0; trial < 120; ++trial) {
    const int64_t channels = between(random, 1, 70), h = between(random, 1, 20), w = between(random, 1, 20), kernel = between(random, 1, 5),
                  stride = between(random, 1, 3), dilation = between(random, 1, 2), pad = between(random, 0, kernel);
    const char* ops[] = {"Conv", "MaxPool", "AveragePool"};
    const std::string op = ops[trial % 3];
    std::map<std::string, Attribute::Data> attributes{{"kernel_shape", std::vector<int64_t>{kernel, kernel}},
                                                      {"strides", std::vector<int64_t>{stride, stride}}};
    const int64_t reach = (kernel - 1) * dilation + 1, held = op == "Conv" ? pad : std::min(pad, kernel - 1);
    if (h + 2 * held < reach || w + 2 * held < reach) continue;
    attributes["pads"] = std::vector<int64_t>(4, held);
    attributes["dilations"] = std::vector<int64_t>{dilation, dilation};
    Builder b("window", 21);
    const Shape xs{2, channels, h, w};
    const ValueId x = b.input("x", DType::f32, {2, channels, h, w});
    if (op == "Conv") attributes["group"] = channels;
    const ValueId y =
        op == "Conv"
            ? b.op("Conv",
                   {x, b.constant("w", random_tensor({channels, 1, kernel, kernel}, trial)), b.constant("b", random_tensor({channels}, 1))},
                   attributes)
            : b.op(op, {x}, attributes);
    b.output(trial % 2 ? b.op("Clip",
                              {y, b.constant("low", Tensor::from<float>({}, {-0.5f})), b.constant("high", Tensor::from<float>({}, {0.9f}))})
                       : y,
             "y");
    Tensor in = random_tensor(xs, trial + 7);
    if (trial % 4 == 0) in.as<float>()[static_cast<size_t>(random() % in.as<float>().size())] = std::numeric_limits<float>::quiet_NaN();
    if (trial % 5 == 0) in.as<float>()[static_cast<size_t>(random() % in.as<float>().size())] = -std::numeric_limits<float>::infinity();
    everywhere(b.finish(), [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {in}, o); });
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

TEST_CASE("channels-last pictures reach a convolution without being copied") {
  Builder b("last", 21);
  const ValueId x = b.input("x", DType::f32, {2, 9, 8, 16});
  const ValueId turned = b.op("Transpose", {x}, {{"perm", std::vector<int64_t>{0, 3, 1, 2}}});
  const ValueId y = b.op("Conv", {turned, b.constant("w", random_tensor({8, 16, 3, 3}, 1))});
  b.output(b.op("Transpose", {y}, {{"perm", std::vector<int64_t>{0, 2, 3, 1}}}), "y");
  const Graph g = b.finish();
  CHECK(step_kinds(g) == "convolution ");
  everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {random_tensor({2, 9, 8, 16}, 2)}, o); });
}

TEST_CASE("Winograd's method: taken where it pays, the same bits on any number of threads, off when asked") {
  const auto layer = [](int64_t batch, int64_t channels, int64_t side, int64_t filters, int64_t stride) {
    Builder b("layer", 21);
    const ValueId x = b.input("x", DType::f32, {Dim(batch), Dim(channels), Dim(side), Dim(side)});
    const ValueId w = b.constant("w", random_tensor({filters, channels, 3, 3}, 5));
    b.output(b.op("Relu",
                  {b.op("Conv", {x, w}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}, {"strides", std::vector<int64_t>{stride, stride}}})}),
             "y");
    return b.finish();
  };
  const auto recipe = [](const Graph& g, CompileOptions o) {
    std::string all;
    for (const StepInfo& s : compile(g, o).describe().steps) all += s.recipe;
    return all;
  };
  const Graph g = layer(2, 24, 30, 40, 1);
  CHECK(has(recipe(g, {.threads = 1}), "Winograd"));
  CHECK(!has(recipe(g, {.threads = 1, .winograd = false}), "Winograd"));
  CHECK(!has(recipe(layer(1, 24, 30, 40, 2), {.threads = 1}), "Winograd"));   // strided
  CHECK(!has(recipe(layer(1, 512, 7, 512, 1), {.threads = 1}), "Winograd"));  // too few tiles for its weights
  for (const auto& [batch, channels, side, filters] :
       std::vector<std::array<int64_t, 4>>{{2, 24, 30, 40}, {1, 64, 56, 64}, {1, 256, 14, 256}, {3, 130, 9, 70}}) {
    const Graph net = layer(batch, channels, side, filters, 1);
    const Tensor x = random_tensor({batch, channels, side, side}, 9);
    Lane one(compile(net, {.threads = 1}));
    const Tensor alone = one.run({{"x", x}})[0].clone();
    for (int threads : {2, 3, 5}) {
      CAPTURE(threads);
      Lane several(compile(net, {.threads = threads}));
      CHECK(identical(alone, several.run({{"x", x}})[0]));
    }
  }
}
