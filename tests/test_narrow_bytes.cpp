// Models on bytes, with ranges read off calibration items; halves throughout; rounding that makes up for itself.
#include <algorithm>
#include <cmath>
#include <set>

#include "support.hpp"

using namespace test;

namespace {

// A picture net with what such nets have: a first layer, depthwise, a residual sum, a pool, a concat, and a product at the end.
Graph picture_net(float spread = 1) {
  Builder b("picture", 17);
  const auto x = b.input("image", DType::f32, {"batch", 3, 16, 16});
  const auto conv = [&](ValueId v, int64_t in, int64_t out, int64_t kernel, int64_t groups, uint64_t seed, const std::string& name) {
    Tensor w = random_tensor({out, in / groups, kernel, kernel}, seed, -0.4f, 0.4f), bias = random_tensor({out}, seed + 50, -0.2f, 0.2f);
    // Uneven filters: what equalising is for.
    const int64_t each = w.size() / out;
    for (int64_t f = 0; f < out; ++f) {
      const float factor = f % 4 == 0 ? spread : 1;
      for (int64_t i = 0; i < each; ++i) w.as<float>()[f * each + i] *= factor;
      bias.as<float>()[f] *= factor;
    }
    const int64_t pad = kernel / 2;
    const auto y = b.op("Conv", {v, b.constant(name + ".w", w), b.constant(name + ".b", bias)},
                        {{"pads", std::vector<int64_t>{pad, pad, pad, pad}}, {"group", groups}}, name);
    return y;
  };
  auto y = b.op("Relu", {conv(x, 3, 16, 3, 1, 1, "stem")});
  y = b.op("Relu", {conv(y, 16, 16, 3, 16, 2, "depthwise")});
  const auto z = b.op("Relu", {conv(y, 16, 16, 1, 1, 3, "point")});
  const auto sum = b.op("Relu", {b.op("Add", {conv(z, 16, 16, 3, 1, 4, "second"), y})});
  const auto pooled = b.op("MaxPool", {sum}, {{"kernel_shape", std::vector<int64_t>{2, 2}}, {"strides", std::vector<int64_t>{2, 2}}});
  const auto joined = b.op("Concat", {pooled, conv(pooled, 16, 8, 1, 1, 5, "side")}, {{"axis", int64_t{1}}});
  y = b.op("Flatten", {b.op("GlobalAveragePool", {joined})});
  b.output(b.op("Gemm", {y, b.constant("head.w", random_tensor({24, 10}, 6, -0.5f, 0.5f)), b.constant("head.b", random_tensor({10}, 7))},
                {}, "scores"),
           "scores");
  b.metadata("kept", "yes");
  return b.finish();
}

Calibration items(size_t count, Shape shape, float low = -1, float high = 1, uint64_t seed = 100) {
  return {count, [=](size_t i) { return std::vector<Tensor>{random_tensor(shape, seed + i, low, high)}; }};
}

double cosine_on(const Graph& a, const Graph& b, const std::vector<Tensor>& in) {
  Lane first(compile(a, {.threads = 2})), second(compile(b, {.threads = 2}));
  const Outputs x = first.run(std::span<const Tensor>(in)), y = second.run(std::span<const Tensor>(in));
  return compare("", y[0], x[0]).cosine;
}

int count_ops(const Graph& g, const std::string& op) {
  return static_cast<int>(std::ranges::count_if(g.nodes, [&](const Node& n) { return n.op == op; }));
}

}  // namespace

TEST_CASE("a calibrated model runs its steps on bytes, agrees with plain evaluation, and is near the wide one on new items") {
  const Graph wide = picture_net();
  const Calibration c = items(16, {1, 3, 16, 16});
  for (const DType type : {DType::u8, DType::i8}) {
    for (const RangeChoice range : {RangeChoice::extremes, RangeChoice::percentile, RangeChoice::squares, RangeChoice::divergence}) {
      CAPTURE(to_string(type));
      CAPTURE(static_cast<int>(range));
      const ByteModel model(wide, c, {.activations = type, .range = range});
      CHECK(model.candidates().size() == 10);
      CHECK(model.left().empty());
      CHECK(model.warnings().empty());
      const Graph written = model.write();
      const Folder f;
      save(written, f.path / "bytes.onnx");
      const Graph back = load(f.path / "bytes.onnx");
      CHECK(examine_file(f.path / "bytes.onnx").empty());
      CHECK(back.metadata.at("kept") == "yes");
      CHECK(back.outputs.size() == 1);
      CHECK(back.values[back.outputs[0]].name == "scores");
      const std::vector<Tensor> fresh{random_tensor({5, 3, 16, 16}, 7)};
      CHECK(cosine_on(wide, back, fresh) > 0.999);
      CHECK(cosine_on(wide, back, fresh) < 1);
      // Plain evaluation of the written form may fall on the other side of a byte here and there.
      const auto plain = evaluate_plain(back, fresh);
      Lane lane(compile(back, {.threads = 2}));
      CHECK(compare("", lane.run(std::span<const Tensor>(fresh))[0], plain[0]).cosine > 0.99999);
      // Its layers are steps on bytes.
      const EditionInfo info = compile(back, {.threads = 2}).describe({{5, 3, 16, 16}});
      const auto on_bytes = std::ranges::count_if(info.steps, [](const StepInfo& s) { return s.op == "QLinearConv"; });
      CHECK(on_bytes == 5);
      CHECK(info.plain == 0);
    }
  }
}

TEST_CASE("ranges hold what was met, or leave out what is hardly ever met; a pool and a concat give the scale they read") {
  Builder b("one", 17);
  const auto x = b.input("x", DType::f32, {1, 4, 8, 8});
  auto y = b.op("Conv", {x, b.constant("w", random_tensor({4, 4, 1, 1}, 3))}, {}, "conv");
  y = b.op("MaxPool", {y}, {{"kernel_shape", std::vector<int64_t>{2, 2}}}, "pool");
  b.output(b.op("Conv", {y, b.constant("v", random_tensor({4, 4, 1, 1}, 4))}, {}, "last"), "y");
  const Graph g = b.finish();
  // One number in ten thousand is far out.
  const Calibration c{40, [](size_t i) {
                        Tensor t = random_tensor({1, 4, 8, 8}, i);
                        if (i == 7) t.as<float>()[11] = 1000;
                        return std::vector<Tensor>{t};
                      }};
  const ByteModel all(g, c, {.range = RangeChoice::extremes}), most(g, c, {.range = RangeChoice::percentile, .percentile = 99.9}),
      squares(g, c, {.range = RangeChoice::squares});
  const auto of = [](const ByteModel& m, size_t i) { return m.candidates()[i].high - m.candidates()[i].low; };
  CHECK(of(all, 0) > 100);
  CHECK(all.candidates()[0].high == all.candidates()[0].met_high);
  CHECK(of(most, 0) < 20);
  CHECK(of(squares, 0) <= of(all, 0));
  for (const ByteModel* m : {&all, &most, &squares}) {
    REQUIRE(m->candidates().size() == 3);
    CHECK(m->candidates()[0].low == m->candidates()[1].low);
    CHECK(m->candidates()[0].high == m->candidates()[1].high);
  }
}

TEST_CASE("equalised channels compute the same, and lose less on bytes") {
  const Graph uneven = picture_net(30);
  const Calibration c = items(16, {1, 3, 16, 16});
  const ByteModel with(uneven, c, {.range = RangeChoice::extremes}),
      without(uneven, c, {.range = RangeChoice::extremes, .equalise = false});
  const std::vector<Tensor> fresh{random_tensor({3, 3, 16, 16}, 7)};
  Lane a(compile(uneven, {.threads = 1})), b(compile(with.wide(), {.threads = 1}));
  CHECK(compare("", b.run(std::span<const Tensor>(fresh))[0], a.run(std::span<const Tensor>(fresh))[0]).pass);
  const double even = with.error_of(with.write()).signal_to_noise, odd = without.error_of(without.write()).signal_to_noise;
  MESSAGE(even, " dB equalised, ", odd, " dB not");
  CHECK(even > odd + 1);
}

TEST_CASE("the bias takes off what rounding adds on average, and rounding that makes up for itself loses less") {
  // Inputs far from zero, and alike: what rounding adds does not cancel.
  Builder b("product", 17);
  const auto x = b.input("x", DType::f32, {8, 96});
  b.output(b.op("Gemm",
                {b.op("Relu", {b.op("Gemm", {x, b.constant("v", random_tensor({96, 128}, 1)), b.constant("c", random_tensor({128}, 2))})}),
                 b.constant("w", random_tensor({128, 32}, 3)), b.constant("d", random_tensor({32}, 4))}),
           "y");
  const Graph g = b.finish();
  const Calibration c = items(32, {8, 96}, 0.5f, 2);
  const auto noise = [&](Rounding rounding, bool bias) {
    const ByteModel m(g, c, {.rounding = rounding, .equalise = false, .correct_bias = bias});
    return m.error_of(m.write()).signal_to_noise;
  };
  const double plain = noise(Rounding::nearest, false), corrected = noise(Rounding::nearest, true),
               compensated = noise(Rounding::compensated, true);
  MESSAGE(plain, " dB nearest, ", corrected, " dB with the bias corrected, ", compensated, " dB compensated");
  CHECK(corrected > plain);
  CHECK(compensated > plain);
  // Weights alone in 4 bits, where it matters most.
  Graph nearest = g, made_up = g;
  narrow_model(nearest, {.weights = DType::i4, .block = 32});
  narrow_model(made_up, {.weights = DType::i4, .block = 32, .rounding = Rounding::compensated}, &c);
  const std::vector<Tensor> fresh{random_tensor({8, 96}, 999, 0.5f, 2)};
  CHECK(1 - cosine_on(g, made_up, fresh) < 0.7 * (1 - cosine_on(g, nearest, fresh)));
}

TEST_CASE("each node alone is measured, and a budget keeps as few wide as it takes") {
  // One layer is much worse off on bytes than the others: its input has a channel a thousand times the rest.
  Builder b("mixed", 17);
  const auto x = b.input("x", DType::f32, {1, 8, 12, 12});
  Tensor wild = random_tensor({8, 8, 3, 3}, 1, -0.3f, 0.3f), calm = random_tensor({8, 8, 1, 1}, 2, -0.5f, 0.5f);
  for (int64_t i = 0; i < 72; ++i) wild.as<float>()[i] *= 3000;
  for (int64_t f = 0; f < 8; ++f) calm.as<float>()[f * 8] *= 1e-6f;  // that channel hardly counts afterwards
  auto y = b.op("Conv", {x, b.constant("wild", wild)}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}}, "wild_out");
  y = b.op("Tanh", {b.op("Conv", {y, b.constant("calm", calm)}, {}, "calm_out")});
  y = b.op("Conv", {y, b.constant("w3", random_tensor({8, 8, 1, 1}, 3))}, {}, "third_out");
  b.output(b.op("Conv", {y, b.constant("w4", random_tensor({8, 8, 1, 1}, 4))}, {}, "fourth_out"), "y");
  Graph g = b.finish();
  for (Node& n : g.nodes) n.name = g.values[n.outputs[0]].name;
  const ByteModel m(g, items(16, {1, 8, 12, 12}), {.range = RangeChoice::extremes, .equalise = false});
  const std::vector<Sensitivity> ranked = m.sensitivity();
  REQUIRE(ranked.size() == 4);
  for (size_t i = 1; i < ranked.size(); ++i) CHECK(ranked[i - 1].loss >= ranked[i].loss);
  const std::set<std::string> worst{ranked[0].node, ranked[1].node};
  CHECK(worst == std::set<std::string>{"wild_out", "calm_out"});
  const auto loss = [&](const Graph& form) { return 1 - m.error_of(form).cosine; };
  const Budgeted held = within_budget(m, ranked, loss, 1e-3);
  CHECK(held.loss <= 1e-3);
  CHECK(held.loss_of_all > 1e-3);
  CHECK(!held.wide.empty());
  CHECK(held.wide.size() <= 2);
  CHECK(std::ranges::all_of(held.wide, [&](const std::string& n) { return worst.contains(n); }));
  CHECK(loss(m.write(held.wide)) == held.loss);
  CHECK(count_ops(m.write(held.wide), "QuantizeLinear") < count_ops(m.write(), "QuantizeLinear"));
  // No budget can be held that asks for no error at all.
  CHECK_THROWS_WITH_AS((void)within_budget(m, ranked, loss, -1), doctest::Contains("the best tried loses"), Error);
  // With everything held, nothing stays wide.
  CHECK(within_budget(m, ranked, loss, 1).wide.empty());
}

TEST_CASE("sequences: products on bytes, sums and normalisations between them in f32, attention's own products left and named") {
  Builder b("sequence", 17);
  const auto x = b.input("x", DType::f32, {1, 10, 32});
  const auto product = [&](ValueId v, int64_t in, int64_t out, uint64_t seed) {
    return b.op("Add", {b.op("MatMul", {v, b.constant("w" + std::to_string(seed), random_tensor({in, out}, seed, -0.2f, 0.2f))}),
                        b.constant("b" + std::to_string(seed), random_tensor({out}, seed + 30))});
  };
  const auto normal = [&](ValueId v, uint64_t seed) {
    return b.op("LayerNormalization", {v, b.constant("g" + std::to_string(seed), random_tensor({32}, seed, 0.5f, 20)),
                                       b.constant("h" + std::to_string(seed), random_tensor({32}, seed + 1))});
  };
  const auto n = normal(x, 40);
  const auto q = product(n, 32, 32, 1), k = product(n, 32, 32, 2), v = product(n, 32, 32, 3);
  const auto scores = b.op("Softmax", {b.op("MatMul", {q, b.op("Transpose", {k}, {{"perm", std::vector<int64_t>{0, 2, 1}}})})});
  const auto after = b.op("Add", {x, product(b.op("MatMul", {scores, v}), 32, 32, 4)});
  const auto inner = b.op("Relu", {product(normal(after, 60), 32, 64, 5)});
  b.output(b.op("Add", {after, product(inner, 64, 32, 6)}), "y");
  const Graph g = b.finish();
  const ByteModel m(g, items(16, {1, 10, 32}));
  CHECK(m.candidates().size() == 6);
  REQUIRE(m.left().size() == 2);
  CHECK(m.left()[0].second == "both operands are made while running");
  CHECK(cosine_on(g, m.write(), {random_tensor({1, 10, 32}, 5)}) > 0.999);
  CHECK(cosine_on(g, m.wide(), {random_tensor({1, 10, 32}, 5)}) > 0.999999);
}

TEST_CASE("recurrent layers keep their weights as bytes; attention's products run on bytes when asked") {
  Builder b("both", 17);
  const auto x = b.input("x", DType::f32, {12, 1, 24});
  const auto layer =
      b.ops("LSTM",
            {x, b.constant("w", random_tensor({1, 128, 24}, 1, -0.4F, 0.4F)), b.constant("r", random_tensor({1, 128, 32}, 2, -0.3F, 0.3F))},
            1, {{"hidden_size", int64_t{32}}});
  const auto rows = b.op("Reshape", {layer[0], b.constant("shape", Tensor::from<int64_t>({2}, {12, 32}))});
  const auto q = b.op("MatMul", {rows, b.constant("wq", random_tensor({32, 32}, 3, -0.3F, 0.3F))}, {}, "queries");
  const auto k = b.op("MatMul", {rows, b.constant("wk", random_tensor({32, 32}, 4, -0.3F, 0.3F))}, {}, "keys");
  const auto scores = b.op("MatMul", {q, b.op("Transpose", {k}, {{"perm", std::vector<int64_t>{1, 0}}})}, {}, "scores");
  b.output(b.op("MatMul", {b.op("Softmax", {scores}), rows}, {}, "mixed"), "y");
  const Graph g = b.finish();
  const Calibration c = items(24, {12, 1, 24});
  ByteOptions options;
  const ByteModel plain(g, c, options);
  options.products = true;
  const ByteModel all(g, c, options);
  const auto has_step = [](const ByteModel& m, const std::string& op) {
    return std::ranges::count(m.candidates(), op, &ByteCandidate::op);
  };
  CHECK(has_step(plain, "LSTM") == 1);
  CHECK(has_step(plain, "MatMul") == 2);
  CHECK(plain.left().size() == 2);
  CHECK(has_step(all, "MatMul") == 4);
  CHECK(all.left().empty());
  const auto lstm = std::ranges::find(all.candidates(), std::string("LSTM"), &ByteCandidate::op);
  CHECK(lstm->bytes_before == 4 * (128 * 24 + 128 * 32));
  CHECK(lstm->bytes_after < lstm->bytes_before / 3);
  CHECK(lstm->weights_signal_to_noise > 35);
  const std::vector<Tensor> in{random_tensor({12, 1, 24}, 999)};
  for (const ByteModel* m : {&plain, &all}) {
    const Graph written = m->write();
    const auto at = std::ranges::find(written.nodes, std::string("LSTM"), &Node::op);
    REQUIRE(at != written.nodes.end());
    CHECK(written.values[static_cast<size_t>(at->inputs[1])].constant.has_value() == false);
    CHECK(cosine_on(g, written, in) > 0.999);
    const Outputs got = Lane(compile(written, {.threads = 1})).run(std::span<const Tensor>(in));
    CHECK(compare("y", got[0], evaluate_plain(written, in)[0]).cosine > 0.9999);
    // Left out, a layer keeps its floats.
    const Graph wide = m->write({lstm->node});
    const auto kept = std::ranges::find(wide.nodes, std::string("LSTM"), &Node::op);
    CHECK(wide.values[static_cast<size_t>(kept->inputs[1])].constant.has_value());
  }
  CHECK(count_ops(all.write({}), "QuantizeLinear") > count_ops(plain.write({}), "QuantizeLinear"));
  CHECK(all.sensitivity().size() == all.candidates().size());
}

TEST_CASE("what cannot be calibrated is refused, left or warned of, with a reason") {
  const Graph g = picture_net();
  CHECK_THROWS_WITH_AS(ByteModel(g, Calibration{}), doctest::Contains("no calibration items"), Error);
  CHECK_THROWS_WITH_AS(ByteModel(g, items(2, {1, 3, 16, 16}), {.activations = DType::f16}), doctest::Contains("u8 and i8 can"), Error);
  CHECK_THROWS_AS(ByteModel(g, items(2, {1, 3, 16})), Error);  // another shape: what the model says of it
  // All of one colour, and few.
  const Calibration grey{4, [](size_t) {
                           Tensor t(DType::f32, {1, 3, 16, 16});
                           std::ranges::fill(t.as<float>(), 0.5f);
                           return std::vector<Tensor>{t};
                         }};
  const ByteModel doubtful(g, grey);
  REQUIRE(doubtful.warnings().size() == 2);
  CHECK(doubtful.warnings()[0].find("one and the same value") != std::string::npos);
  CHECK(doubtful.warnings()[1].find("4 calibration items are few") != std::string::npos);
  // Quantised already.
  const Graph bytes = ByteModel(g, items(8, {1, 3, 16, 16})).write();
  CHECK_THROWS_WITH_AS(ByteModel(bytes, items(8, {1, 3, 16, 16})), doctest::Contains("quantised already"), Error);
  // A layer whose output is infinite, and one that never gives anything but zeros.
  Builder b("odd", 17);
  const auto x = b.input("x", DType::f32, {1, 4, 4, 4});
  const auto wide = b.op("Conv",
                         {b.op("Exp", {b.op("Mul", {x, b.constant("much", Tensor::from<float>({}, {1000}))})}),
                          b.constant("w", random_tensor({4, 4, 1, 1}, 1))},
                         {}, "endless");
  const auto none =
      b.op("Conv", {b.op("Mul", {x, b.constant("nothing", Tensor::from<float>({}, {0}))}), b.constant("v", random_tensor({4, 4, 1, 1}, 2))},
           {}, "none");
  const auto good = b.op("Conv", {x, b.constant("u", random_tensor({4, 4, 1, 1}, 3))}, {}, "good");
  for (const ValueId v : {wide, none, good}) b.output(b.op("Relu", {v}));
  Graph odd = b.finish();
  for (Node& n : odd.nodes) n.name = odd.values[n.outputs[0]].name;
  const ByteModel m(odd, items(8, {1, 4, 4, 4}));
  CHECK(m.candidates().size() == 1);
  REQUIRE(m.left().size() == 2);
  CHECK(m.left()[0].second.find("NaN or infinity was met") != std::string::npos);
  CHECK(m.left()[1].second.find("nothing but zeros was met") != std::string::npos);
  CHECK_THROWS_WITH_AS((void)m.write({"goad"}), doctest::Contains("did you mean 'good'?"), Error);
}

TEST_CASE("a model in halves throughout is near the wide one; what overflows is named and stays f32") {
  const Graph g = picture_net();
  const std::vector<Tensor> fresh{random_tensor({2, 3, 16, 16}, 7)};
  for (const DType type : {DType::f16, DType::bf16}) {
    Graph half = g;
    const NarrowReport r = halve_model(half, type);
    CHECK(r.left.empty());
    CHECK(static_cast<double>(r.bytes_after) < 0.52 * static_cast<double>(r.bytes_before));
    const Folder f;
    save(half, f.path / "half.onnx");
    const Graph back = load(f.path / "half.onnx");
    CHECK(back.values[back.inputs[0]].dtype == DType::f32);
    CHECK(back.values[back.outputs[0]].dtype == DType::f32);
    CHECK(count_ops(back, "Cast") == 2);
    CHECK(cosine_on(g, back, fresh) > (type == DType::f16 ? 0.99999 : 0.999));
    check_against_plain(back, fresh, {.threads = 2, .round_each = true});
  }
  Builder b("large", 17);
  const auto x = b.input("x", DType::f32, {4, 8});
  const auto large = b.op("MatMul", {x, b.constant("w", random_tensor({8, 8}, 1, 30000, 60000))}, {}, "large");
  b.output(b.op("Relu", {b.op("Div", {large, b.constant("by", Tensor::from<float>({}, {10000}))})}), "y");
  Graph half = b.finish();
  const Graph before = half;
  const Calibration c = items(4, {4, 8}, 0.5f, 1);
  const NarrowReport r = halve_model(half, DType::f16, &c);
  REQUIRE(r.left.size() == 1);
  CHECK(r.left[0].second.find("beyond the largest f16 (65504)") != std::string::npos);
  const std::vector<Tensor> in{random_tensor({4, 8}, 3, 0.5f, 1)};
  CHECK(cosine_on(before, half, in) > 0.9999);
  CHECK(std::isfinite(evaluate_plain(half, in)[0].as<float>()[0]));
}
