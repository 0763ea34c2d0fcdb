// What the compiler makes of the ways in which exporters write things down: each pattern becomes the step it should, with the numbers of
// plain evaluation; what only looks like one stays as it is.
#include <algorithm>
#include <cmath>
#include <cstring>

#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;

struct Net {
  Builder b{"pattern", 21};
  int names = 0;
  std::vector<Tensor> fed;

  ValueId in(const Shape& s, float low = -1, float high = 1) {
    fed.push_back(random_tensor(s, 11 + fed.size(), low, high));
    return b.input("x" + std::to_string(fed.size()), DType::f32, Dims(s.begin(), s.end()));
  }
  ValueId c(float v) { return b.constant("c" + std::to_string(names++), Tensor::from<float>({}, {v})); }
  ValueId w(const Shape& s, uint64_t seed = 5) { return b.constant("w" + std::to_string(names++), random_tensor(s, seed)); }
  ValueId ints(const Ints& v) {
    return b.constant("i" + std::to_string(names++), Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v));
  }
  ValueId op(const std::string& name, const std::vector<ValueId>& inputs, const std::map<std::string, Attribute::Data>& a = {}) {
    return b.op(name, inputs, a);
  }
  // Finishes, compares with plain, and gives the ops at the heads of the steps, in order.
  std::string steps(ValueId out, Tolerance tolerance = {1e-5, 1e-4, 0}) {
    b.output(out, "y");
    const Graph g = b.finish();
    check_against_plain(g, fed, {.threads = 1}, tolerance);
    check_against_plain(g, fed, {.threads = 2, .fuse = false}, tolerance);
    std::string all;
    for (const StepInfo& s : compile(g, {.threads = 1}).describe().steps) {
      if (s.kind != "layout") all += (all.empty() ? "" : " ") + s.op;
    }
    return all;
  }
};

}  // namespace

TEST_CASE("activations written out: one op each") {
  {
    Net n;
    const ValueId x = n.in({4, 33}, -6, 6);
    CHECK(n.steps(n.op("Mul", {n.op("Mul", {x, n.op("Add", {n.op("Erf", {n.op("Div", {x, n.c(1.41421356f)})}), n.c(1)})}), n.c(0.5f)})) ==
          "Gelu");
  }
  {
    Net n;
    const ValueId x = n.in({4, 33}, -6, 6), cube = n.op("Mul", {n.op("Pow", {x, n.c(3)}), n.c(0.044715f)});
    const ValueId t = n.op("Tanh", {n.op("Mul", {n.op("Add", {x, cube}), n.c(0.7978845608f)})});
    CHECK(n.steps(n.op("Mul", {n.op("Mul", {n.c(0.5f), x}), n.op("Add", {n.c(1), t})})) == "Gelu");
  }
  {
    Net n;
    const ValueId x = n.in({4, 33}, -6, 6);
    CHECK(n.steps(n.op("Div", {n.op("Mul", {x, n.op("Clip", {n.op("Add", {x, n.c(3)}), n.c(0), n.c(6)})}), n.c(6)})) == "HardSwish");
  }
  {
    Net n;
    const ValueId x = n.in({4, 33}, -6, 6);
    CHECK(n.steps(n.op("Mul", {x, n.op("Tanh", {n.op("Softplus", {x})})})) == "Mish");
  }
  {  // not quite: another offset, and the erf of something else
    Net n;
    const ValueId x = n.in({4, 33}), z = n.in({4, 33});
    const ValueId y = n.op("Mul", {n.op("Mul", {z, n.op("Add", {n.op("Erf", {n.op("Div", {x, n.c(1.41421356f)})}), n.c(1)})}), n.c(0.5f)});
    CHECK(n.steps(y).find("Gelu") == std::string::npos);
  }
}

TEST_CASE("normalisations written out") {
  for (const bool shifted : {true, false}) {
    for (const bool centred : {true, false}) {
      CAPTURE(shifted);
      CAPTURE(centred);
      Net n;
      ValueId x = n.in({3, 5, 64});
      const Ints last{-1};
      if (centred) x = n.op("Sub", {x, n.op("ReduceMean", {x, n.ints(last)})});
      const ValueId variance = n.op("ReduceMean", {n.op("Pow", {x, n.c(2)}), n.ints(last)});
      ValueId y = n.op("Mul", {n.op("Div", {x, n.op("Sqrt", {n.op("Add", {variance, n.c(1e-5f)})})}), n.w({64}, 3)});
      if (shifted) y = n.op("Add", {y, n.w({64}, 4)});
      const std::string steps = n.steps(y);
      if (centred) CHECK(steps == "LayerNormalization");
      else CHECK(steps.find("RMSNormalization") == 0);
      CHECK(steps.find("ReduceMean") == std::string::npos);
    }
  }
  // A mean over another axis is another thing.
  Net n;
  const ValueId x = n.in({3, 5, 64}), c = n.op("Sub", {x, n.op("ReduceMean", {x, n.ints({1})})});
  const ValueId v = n.op("ReduceMean", {n.op("Mul", {c, c}), n.ints({-1})});
  CHECK(n.steps(n.op("Mul", {n.op("Div", {c, n.op("Sqrt", {n.op("Add", {v, n.c(1e-5f)})})}), n.w({64})})).find("LayerNormalization") ==
        std::string::npos);
}

TEST_CASE("softmax and attention written out") {
  {
    Net n;
    const ValueId x = n.in({6, 40}, -9, 9);
    const ValueId e = n.op("Exp", {n.op("Sub", {x, n.op("ReduceMax", {x, n.ints({-1})})})});
    CHECK(n.steps(n.op("Div", {e, n.op("ReduceSum", {e, n.ints({-1})})})) == "Softmax");
  }
  for (const bool masked : {false, true}) {
    for (const bool flat : {false, true}) {
      CAPTURE(masked);
      CAPTURE(flat);
      Net n;
      const int64_t rows = 24, heads = 3, width = 16;
      const auto split = [&](ValueId v, const Ints& perm) {
        return flat ? n.op("Transpose", {n.op("Reshape", {v, n.ints({0, 0, heads, width})})}, {{"perm", perm}}) : v;
      };
      const Shape s = flat ? Shape{2, rows, heads * width} : Shape{2, heads, rows, width};
      const ValueId q = split(n.in(s), {0, 2, 1, 3}), v = split(n.in(s), {0, 2, 1, 3});
      ValueId k = n.in(s);
      k = flat ? split(k, {0, 2, 3, 1}) : n.op("Transpose", {k}, {{"perm", Ints{0, 1, 3, 2}}});
      ValueId scores = n.op("Div", {n.op("MatMul", {q, k}), n.c(4)});
      if (masked) scores = n.op("Add", {scores, n.in({2, 1, 1, rows}, -3, 0)});
      ValueId y = n.op("MatMul", {n.op("Softmax", {scores}, {{"axis", int64_t{-1}}}), v});
      if (flat) y = n.op("Reshape", {n.op("Transpose", {y}, {{"perm", Ints{0, 2, 1, 3}}}), n.ints({0, 0, heads * width})});
      CHECK(n.steps(y) == "Attention");
    }
  }
}

TEST_CASE("attention as exporters write it: keys scaled too, capped, hidden twice, batch and heads in one axis") {
  const auto written = [](const char* form) {
    CAPTURE(std::string(form));
    const auto is = [&](const char* what) { return std::string(form) == what; };
    Net n;
    const int64_t batch = 2, heads = 3, rows = 12, width = 16;
    const Shape s{batch, heads, rows, width};
    ValueId q = n.in(s, -3, 3), k = n.op("Transpose", {n.in(s, -3, 3)}, {{"perm", Ints{0, 1, 3, 2}}}), v = n.in(s);
    const bool joined = is("one axis") || is("one axis, mask") || is("one axis, mask by four");
    if (joined) {
      q = n.op("Reshape", {q, n.ints({batch * heads, rows, width})});
      k = n.op("Reshape", {k, n.ints({batch * heads, width, rows})});
      v = n.op("Reshape", {v, n.ints({batch * heads, rows, width})});
    }
    if (is("both scaled")) {
      q = n.op("Mul", {q, n.c(0.5f)});
      k = n.op("Mul", {k, n.c(0.5f)});
    }
    ValueId scores = n.op("MatMul", {q, k});
    if (!is("both scaled")) scores = n.op("Mul", {scores, n.c(0.25f)});
    if (is("capped")) scores = n.op("Mul", {n.op("Tanh", {n.op("Div", {scores, n.c(3)})}), n.c(3)});
    if (is("capped") || is("hidden twice") || is("safe")) scores = n.op("Add", {scores, n.in({batch, 1, 1, rows}, -9, 0)});
    if (is("hidden twice")) scores = n.op("Add", {n.in({heads, rows, rows}, -9, 0), scores});
    if (is("one axis, mask")) scores = n.op("Add", {scores, n.in({batch * heads, rows, rows}, -9, 0)});
    if (is("one axis, mask by four")) {
      scores = n.op("Add", {n.op("Reshape", {scores, n.ints({batch, heads, rows, rows})}), n.in({batch, 1, 1, rows}, -9, 0)});
      scores = n.op("Reshape", {scores, n.ints({batch * heads, rows, rows})});
    }
    ValueId weights = n.op("Softmax", {scores}, {{"axis", int64_t{-1}}});
    if (is("safe")) weights = n.op("Where", {n.op("IsNaN", {weights}), n.c(0), weights});
    if (is("no number")) weights = n.op("Where", {n.op("IsNaN", {scores}), n.c(0), weights});  // of the scores: another thing
    return n.steps(n.op("MatMul", {weights, v}));
  };
  for (const char* form : {"both scaled", "capped", "hidden twice", "safe", "one axis", "one axis, mask", "one axis, mask by four"})
    CHECK(written(form).find("Attention") != std::string::npos);
  CHECK(written("hidden twice") == "Add Attention");
  CHECK(written("no number").find("Attention") == std::string::npos);
}

TEST_CASE("attention that counts weights which are no numbers as nothing") {
  // Rows that see nothing, and scores that are no numbers.
  Builder b("safe", 22);
  const ValueId q = b.input("q", DType::f32, {1, 2, 9, 8}), k = b.input("k", DType::f32, {1, 2, 20, 8}),
                v = b.input("v", DType::f32, {1, 2, 20, 8}), mask = b.input("mask", DType::f32, {9, 20});
  const ValueId scores = b.op("Add", {b.op("MatMul", {q, b.op("Transpose", {k}, {{"perm", Ints{0, 1, 3, 2}}})}), mask});
  const ValueId weights = b.op("Softmax", {scores}, {{"axis", int64_t{-1}}});
  const ValueId some = b.op("Where", {b.op("IsNaN", {weights}), b.constant("none", Tensor::from<float>({}, {0})), weights});
  b.output(b.op("MatMul", {some, v}), "y");
  const Graph g = b.finish();
  for (const bool broken_values : {false, true}) {
    std::vector<Tensor> in{random_tensor({1, 2, 9, 8}, 1), random_tensor({1, 2, 20, 8}, 2), random_tensor({1, 2, 20, 8}, 3),
                           Tensor(DType::f32, {9, 20})};
    for (int64_t i = 0; i < 180; ++i) in[3].as<float>()[static_cast<size_t>(i)] = i / 20 == 4 ? -INFINITY : i % 7 == 0 ? -3.0f : 0.0f;
    in[0].as<float>()[6 * 8 + 2] = NAN;
    if (broken_values) in[2].as<float>()[5 * 8 + 1] = INFINITY;
    check_against_plain(g, in, {.threads = 1}, {1e-5, 1e-4, 0});
  }
  const EditionInfo e = compile(g, {.threads = 1}).describe();
  CHECK(std::ranges::any_of(e.steps, [](const StepInfo& s) { return s.op == "Attention"; }));
}

TEST_CASE("attention of groups of heads, and of one row with what was kept") {
  Net n;
  const int64_t kv = 2, group = 3, past = 20, width = 8;
  const ValueId q = n.in({1, kv * group, 1, width});
  const auto kept = [&] {
    const ValueId all = n.op("Concat", {n.in({1, kv, past, width}), n.in({1, kv, 1, width})}, {{"axis", int64_t{2}}});
    const ValueId said = n.op("Expand", {n.op("Unsqueeze", {all, n.ints({2})}), n.ints({1, kv, group, past + 1, width})});
    return n.op("Reshape", {said, n.ints({1, kv * group, past + 1, width})});
  };
  const ValueId k = n.op("Transpose", {kept()}, {{"perm", Ints{0, 1, 3, 2}}});
  const ValueId soft = n.op("Softmax", {n.op("Mul", {n.op("MatMul", {q, k}), n.c(0.3f)})}, {{"axis", int64_t{-1}}});
  CHECK(n.steps(n.op("MatMul", {soft, kept()})) == "Concat Concat Attention");
}

TEST_CASE("rotary embeddings written out") {
  const int64_t length = 7, width = 12, half = width / 2;
  // Tables whose halves say the same, or not.
  const auto table = [&](int64_t rows, uint64_t seed, bool same = true) {
    Tensor t = random_tensor({rows, width}, seed);
    for (int64_t i = 0; same && i < rows; ++i) std::copy_n(&t.as<float>()[i * width], half, &t.as<float>()[i * width + half]);
    return t;
  };
  const auto written = [&](Net& n, ValueId x, ValueId cosine, ValueId sine, bool split) {
    ValueId low, high;
    if (split) {
      const auto both = n.b.ops("Split", {x}, 2, {{"axis", int64_t{-1}}, {"num_outputs", int64_t{2}}});
      low = both[0], high = both[1];
    } else {
      low = n.op("Slice", {x, n.ints({0}), n.ints({half}), n.ints({-1})});
      high = n.op("Slice", {x, n.ints({half}), n.ints({1 << 30}), n.ints({3})});
    }
    const ValueId turned = n.op("Concat", {n.op("Neg", {high}), low}, {{"axis", int64_t{-1}}});
    return n.op("Add", {n.op("Mul", {x, cosine}), n.op("Mul", {turned, sine})});
  };
  for (const int64_t batch : {1, 2}) {
    for (const bool split : {false, true}) {
      Net n;
      const ValueId x = n.in({batch, 3, length, width});
      CHECK(n.steps(written(n, x, n.b.constant("cos", table(length, 1)), n.b.constant("sin", table(length, 2)), split)) ==
            "RotaryEmbedding");
    }
  }
  {  // positions that are fed
    Net n;
    const ValueId x = n.in({2, 3, length, width}), ids = n.b.input("ids", DType::i64, {2, length});
    Tensor places(DType::i64, {2, length});
    for (int64_t i = 0; i < places.size(); ++i) places.as<int64_t>()[i] = (i * 5) % 30;
    n.fed.push_back(places);
    const auto looked_up = [&](const char* name, uint64_t seed) {
      return n.op("Unsqueeze", {n.op("Gather", {n.b.constant(name, table(30, seed)), ids}), n.ints({1})});
    };
    CHECK(n.steps(written(n, x, looked_up("cos", 1), looked_up("sin", 2), false)) == "RotaryEmbedding");
  }
  {  // angles that are computed
    Net n;
    const ValueId x = n.in({2, 3, length, width}), angle = n.in({2, length, half}, -3, 3);
    const auto of = [&](const char* f) {
      return n.op("Unsqueeze", {n.op(f, {n.op("Concat", {angle, angle}, {{"axis", int64_t{-1}}})}), n.ints({1})});
    };
    CHECK(n.steps(written(n, x, of("Cos"), of("Sin"), true)).ends_with("RotaryEmbedding"));
  }
  {  // halves with angles of their own: something else
    Net n;
    const ValueId x = n.in({1, 3, length, width});
    const ValueId y = written(n, x, n.b.constant("cos", table(length, 1, false)), n.b.constant("sin", table(length, 2)), false);
    CHECK(n.steps(y).find("Rotary") == std::string::npos);
  }
}

TEST_CASE("blocks of pixels moved by reshapes and transposes") {
  const auto moved = [](const Shape& from, const Ints& apart, const Ints& perm, const Ints& to) {
    Net n;
    return n.steps(n.op("Reshape", {n.op("Transpose", {n.op("Reshape", {n.in(from), n.ints(apart)})}, {{"perm", perm}}), n.ints(to)}),
                   {0, 0, 0});
  };
  CHECK(moved({2, 12, 5, 3}, {2, 3, 2, 2, 5, 3}, {0, 1, 4, 2, 5, 3}, {2, 3, 10, 6}) == "DepthToSpace");
  CHECK(moved({2, 12, 5, 3}, {2, 2, 2, 3, 5, 3}, {0, 3, 4, 1, 5, 2}, {2, 3, 10, 6}) == "DepthToSpace");
  CHECK(moved({2, 3, 10, 6}, {2, 3, 5, 2, 3, 2}, {0, 3, 5, 1, 2, 4}, {2, 12, 5, 3}) == "SpaceToDepth");
  CHECK(moved({2, 12, 5, 3}, {2, 3, 2, 2, 5, 3}, {0, 1, 4, 3, 5, 2}, {2, 3, 10, 6}) == "Transpose");  // the block turned over
}

TEST_CASE("normalisation of groups written out") {
  for (const bool plain : {true, false}) {
    Net n;
    const ValueId x = n.in({2, 12, 5, 4}), split = n.op("Reshape", {x, n.ints({2, 3, -1})});
    const ValueId scale =
        plain ? n.b.constant("one", Tensor::from<float>({3}, {1, 1, 1})) : n.b.constant("one", Tensor::from<float>({3}, {1, 2, 1}));
    const ValueId zero = n.b.constant("zero", Tensor::from<float>({3}, {0, 0, 0}));
    const ValueId norm = n.op("Reshape", {n.op("InstanceNormalization", {split, scale, zero}), n.ints({2, 12, 5, 4})});
    const std::string steps = n.steps(n.op("Add", {n.op("Mul", {norm, n.w({12, 1, 1})}), n.w({1, 12, 1, 1}, 6)}));
    if (plain) CHECK(steps == "GroupNormalization");
    else CHECK(steps.find("GroupNormalization") == std::string::npos);
  }
}

TEST_CASE("algebra: what is done twice, undone, or changes nothing") {
  {
    Net n;
    const ValueId x = n.in({2, 3, 4});
    const ValueId a = n.op("Softmax", {x}), b = n.op("Softmax", {x});
    CHECK(n.steps(n.op("Sub", {n.op("Exp", {a}), n.op("Neg", {b})})) == "Softmax Exp");
  }
  {
    Net n;
    const ValueId t = n.op("Transpose", {n.in({2, 3, 4})}, {{"perm", Ints{0, 2, 1}}});
    CHECK(n.steps(n.op("Softmax", {n.op("Transpose", {n.op("Relu", {t})}, {{"perm", Ints{0, 2, 1}}})})) == "Softmax");
  }
  {
    Net n;
    ValueId x = n.op("Reshape", {n.in({2, 3, 4}), n.ints({6, 4})});
    x = n.op("Mul", {n.op("Reshape", {n.op("Unsqueeze", {x, n.ints({0})}), n.ints({24})}), n.c(1)});
    x = n.op("Pad", {n.op("Slice", {x, n.ints({0}), n.ints({24})}), n.ints({0, 0})});
    CHECK(n.steps(n.op("Relu", {x})) == "Relu");
  }
  {  // consecutive products by constants: one when it is less work, two when it is more
    Net n;
    CHECK(n.steps(n.op("MatMul", {n.op("MatMul", {n.in({5, 8}), n.w({8, 32})}), n.w({32, 6}, 9)})) == "MatMul");
  }
  {
    Net n;
    CHECK(n.steps(n.op("MatMul", {n.op("MatMul", {n.in({5, 32}), n.w({32, 4})}), n.w({4, 32}, 9)})) == "MatMul MatMul");
  }
  {  // x + 0 is not x when x is -0; x * 1 is
    Net n;
    const ValueId x = n.in({4});
    n.fed[0].as<float>()[0] = -0.0f;
    CHECK(n.steps(n.op("Reciprocal", {n.op("Add", {x, n.c(0)})})) == "Add");
  }
}

TEST_CASE("control flow on constants is opened") {
  Builder then_branch("then", 21), else_branch("else", 21);
  then_branch.output(then_branch.op("Neg", {then_branch.outer("x1")}), "t");
  else_branch.output(else_branch.op("Exp", {else_branch.outer("x1")}), "e");
  Net n;
  n.in({3, 3});
  const ValueId condition = n.b.constant("condition", Tensor::from<bool>({}, {true}));
  const ValueId y = n.op("If", {condition}, {{"then_branch", then_branch.finish_body()}, {"else_branch", else_branch.finish_body()}});
  CHECK(n.steps(n.op("Relu", {y})) == "Neg");
}

namespace {

// A quantised net as exporters write it: floats between DequantizeLinear and QuantizeLinear.
struct Quantised : Net {
  ValueId scale(std::vector<float> s) {
    const Shape shape = s.size() == 1 ? Shape{} : Shape{static_cast<int64_t>(s.size())};
    return b.constant("s" + std::to_string(names++), Tensor::from<float>(shape, s));
  }
  template <typename T>
  ValueId numbers(const Shape& s, int low, int high, uint64_t seed) {
    Tensor t(std::is_signed_v<T> ? DType::i8 : DType::u8, s);
    std::mt19937_64 random(seed);
    for (T& v : t.as<T>()) v = static_cast<T>(low + static_cast<int>(random() % static_cast<uint64_t>(high - low + 1)));
    return b.constant("q" + std::to_string(names++), t);
  }
  ValueId zero_u8(uint8_t z) { return b.constant("z" + std::to_string(names++), Tensor::from<uint8_t>({}, {z})); }
  ValueId quantise(ValueId x, float s, uint8_t z) { return op("QuantizeLinear", {x, scale({s}), zero_u8(z)}); }
  ValueId round_trip(ValueId x, float s, uint8_t z) { return op("DequantizeLinear", {quantise(x, s, z), scale({s}), zero_u8(z)}); }
  ValueId weights(const Shape& s, const std::vector<float>& scales, int64_t axis, uint64_t seed) {
    Tensor zero(DType::i8, scales.size() == 1 ? Shape{} : Shape{static_cast<int64_t>(scales.size())});
    std::memset(zero.data(), 0, zero.byte_size());
    return op("DequantizeLinear", {numbers<int8_t>(s, -100, 100, seed), scale(scales), b.constant("z" + std::to_string(names++), zero)},
              {{"axis", axis}});
  }
};

}  // namespace

TEST_CASE("quantised products and convolutions between floats run on bytes") {
  const std::vector<float> per_filter{0.01f, 0.02f, 0.005f, 0.03f, 0.01f, 0.02f, 0.005f, 0.03f, 0.01f, 0.02f, 0.005f, 0.03f};
  // Within one step of the output's scale.
  {
    Quantised n;
    const ValueId x = n.round_trip(n.in({2, 8, 9, 9}), 1 / 127.0f, 128);
    ValueId y = n.op("Conv", {x, n.weights({12, 8, 3, 3}, per_filter, 0, 1), n.w({12}, 2)}, {{"pads", Ints{1, 1, 1, 1}}});
    y = n.round_trip(n.op("Relu", {y}), 0.05f, 0);
    CHECK(n.steps(y, {0.0501, 0, 0}) == "QuantizeLinear QLinearConv DequantizeLinear");
  }
  {  // the zero point is not the lowest number: the clamp is not the range's own, and stays
    Quantised n;
    const ValueId x = n.round_trip(n.in({2, 8, 9, 9}), 1 / 127.0f, 128);
    const ValueId y = n.op("Relu", {n.op("Conv", {x, n.weights({12, 8, 3, 3}, {0.01f}, 0, 1)})});
    CHECK(n.steps(n.round_trip(y, 0.05f, 100), {0.0501, 0, 0}).find("QLinearConv") == std::string::npos);
  }
  for (const bool biased : {false, true}) {
    CAPTURE(biased);
    Quantised n;
    const ValueId x = n.round_trip(n.in({2, 5, 16}), 1 / 127.0f, 120);
    ValueId y = n.op("MatMul", {x, n.weights({16, 12}, per_filter, 1, 3)});
    if (biased) y = n.op("Add", {y, n.w({12}, 4)});
    const std::string steps = n.steps(n.round_trip(y, 0.04f, 130), {0.0401, 0, 0});
    CHECK(steps == (biased ? "QuantizeLinear QLinearConv DequantizeLinear" : "QuantizeLinear QLinearMatMul DequantizeLinear"));
  }
  {
    Quantised n;
    const ValueId x = n.round_trip(n.in({7, 16}), 1 / 127.0f, 120);
    const ValueId y = n.op("Gemm", {x, n.weights({12, 16}, per_filter, 0, 3), n.w({12}, 4)}, {{"transB", int64_t{1}}});
    CHECK(n.steps(n.round_trip(y, 0.04f, 130), {0.0401, 0, 0}) == "QuantizeLinear QLinearConv DequantizeLinear");
  }
  {  // floats are wanted of it: sums, scaled in the same step
    Quantised n;
    const ValueId x = n.round_trip(n.in({2, 8, 9, 9}), 1 / 127.0f, 128);
    const ValueId y = n.op("Conv", {x, n.weights({12, 8, 3, 3}, per_filter, 0, 1), n.w({12}, 2)}, {{"pads", Ints{1, 1, 1, 1}}});
    CHECK(n.steps(n.op("Relu", {y}), {1e-5, 1e-5, 0}) == "QuantizeLinear ConvInteger");
  }
  {
    Quantised n;
    const ValueId x = n.round_trip(n.in({7, 16}), 1 / 127.0f, 120);
    const ValueId y = n.op("Gemm", {x, n.weights({12, 16}, per_filter, 0, 3), n.w({12}, 4)}, {{"transB", int64_t{1}}});
    CHECK(n.steps(n.op("Sigmoid", {y}), {1e-5, 1e-5, 0}) == "QuantizeLinear MatMulInteger");
  }
  {  // the largest of bytes, joined with others of another scale and turned: floats nowhere, and the same to the bit
    Quantised n;
    const ValueId x = n.round_trip(n.in({1, 8, 10, 10}), 0.01f, 128), y = n.round_trip(n.in({1, 8, 5, 5}), 0.02f, 100);
    const ValueId pooled = n.op("MaxPool", {x}, {{"kernel_shape", Ints{2, 2}}, {"strides", Ints{2, 2}}});
    const ValueId joined = n.round_trip(n.op("Concat", {pooled, y}, {{"axis", int64_t{1}}}), 0.015f, 110);
    const std::string steps = n.steps(n.round_trip(n.op("Transpose", {joined}, {{"perm", Ints{0, 2, 3, 1}}}), 0.015f, 110), {0, 0, 0});
    CHECK(steps.find("MaxPool") != std::string::npos);
    CHECK(std::ranges::count(steps, 'D') <= 3);  // one DequantizeLinear at the end, and those on the way to another scale
  }
  {  // maxima that something else reads too
    Quantised n;
    const ValueId x = n.round_trip(n.in({1, 4, 8, 8}), 0.01f, 128);
    const ValueId pooled =
        n.op("MaxPool", {n.op("MaxPool", {x}, {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}})}, {{"kernel_shape", Ints{2, 2}}});
    CHECK(n.steps(n.op("Add", {pooled, n.round_trip(pooled, 0.03f, 7)}), {0, 0, 0}).find("MaxPool MaxPool") != std::string::npos);
  }
  {  // a sum of two quantised values: one tape from bytes to bytes, exactly as plain evaluation has it
    Quantised n;
    const ValueId a = n.round_trip(n.in({40, 33}), 0.01f, 128), c = n.round_trip(n.in({40, 33}), 0.02f, 100);
    CHECK(n.steps(n.round_trip(n.op("Add", {a, c}), 0.03f, 90), {0, 0, 0}).find("Add") == std::string::npos);
  }
}

TEST_CASE("reductions take the elementwise nodes around them") {
  {
    Net n;  // scaled and masked scores; the mask is broadcast over heads and rows
    const ValueId x = n.in({2, 3, 5, 40}, -5, 5);
    const ValueId y = n.op("Softmax", {n.op("Add", {n.op("Mul", {x, n.c(0.5f)}), n.in({2, 1, 1, 40})})}, {{"axis", int64_t{-1}}});
    CHECK(n.steps(n.op("Mul", {y, n.c(2)})) == "Softmax");
  }
  {
    Net n;  // a sum that is normalised and also added again later: written once, read near
    const ValueId sum = n.op("Add", {n.in({4, 9, 48}), n.in({4, 9, 48})});
    const ValueId normed = n.op("LayerNormalization", {sum, n.w({48}), n.w({48}, 6)});
    CHECK(n.steps(n.op("Add", {n.op("MatMul", {normed, n.w({48, 48}, 7)}), sum}), {1e-4, 1e-4, 0}) == "LayerNormalization MatMul");
  }
  {
    Net n;
    const ValueId x = n.in({6, 100});
    CHECK(n.steps(n.op("ReduceMean", {n.op("Mul", {n.op("Exp", {x}), x}), n.ints({-1})})) == "ReduceMean");
  }
  {
    Net n;  // a reader of the sum that stands before the reduction: the sum is a step of its own
    const ValueId x = n.op("Add", {n.in({6, 30}), n.in({6, 30})});
    const ValueId first = n.op("MatMul", {x, n.w({30, 30})});
    CHECK(n.steps(n.op("Add", {n.op("MatMul", {n.op("LogSoftmax", {x}), n.w({30, 30}, 8)}), first}), {1e-4, 1e-4, 0}).find("Add ") == 0);
  }
}

TEST_CASE("constant factors along the channels go into the weights before them") {
  {
    Net n;
    ValueId y = n.op("Conv", {n.in({2, 6, 8, 8}), n.w({10, 6, 3, 3}), n.w({10}, 2)});
    y = n.op("Add", {n.op("Div", {n.op("Mul", {n.w({10, 1, 1}, 3), y}), n.c(2)}), n.w({1, 10, 1, 1}, 4)});
    n.b.output(n.op("Relu", {y}), "z");
    const Graph g = n.b.finish();
    check_against_plain(g, n.fed, {.threads = 1});
    const EditionInfo e = compile(g, {.threads = 1}).describe();
    REQUIRE(e.steps.size() >= 1);
    CHECK(has(e.steps[0].recipe, "bias + relu"));
    CHECK(!has(e.steps[0].recipe, "tape"));
  }
  {
    Net n;  // along another axis: stays
    const ValueId y = n.op("Conv", {n.in({1, 6, 8, 8}), n.w({6, 6, 3, 3})});
    n.b.output(n.op("Mul", {y, n.w({6, 1}, 3)}), "z");
    const Graph g = n.b.finish();
    check_against_plain(g, n.fed, {.threads = 1});
    std::string recipes;
    for (const StepInfo& step : compile(g, {.threads = 1}).describe().steps) recipes += step.recipe + ";";
    CHECK(has(recipes, "tape"));
  }
}

TEST_CASE("small independent branches run side by side, with the same bits") {
  Net n;
  const ValueId x = n.in({1, 24, 14, 14});
  std::vector<ValueId> joined;
  for (uint64_t i = 0; i < 5; ++i) {
    ValueId y = n.op("Relu", {n.op("Conv", {x, n.w({16, 24, 1, 1}, 20 + i)})});
    if (i % 2) y = n.op("Conv", {y, n.w({16, 16, 3, 3}, 30 + i)}, {{"pads", Ints{1, 1, 1, 1}}});
    joined.push_back(y);
  }
  n.b.output(n.op("Concat", joined, {{"axis", int64_t{1}}}), "y");
  const Graph g = n.b.finish();
  check_against_plain(g, n.fed, {.threads = 3});
  std::string kinds;
  for (const StepInfo& s : compile(g, {.threads = 2}).describe().steps) kinds += s.kind + ";";
  CHECK(has(kinds, "side by side"));
  kinds.clear();
  for (const StepInfo& s : compile(g, {.threads = 1}).describe().steps) kinds += s.kind + ";";
  CHECK(!has(kinds, "side by side"));
  Lane alone(compile(g, {.threads = 1}));
  const Tensor expected = alone.run(std::span<const Tensor>(n.fed))[0].clone();
  Lane several(compile(g, {.threads = 4}));
  for (int i = 0; i < 50; ++i) CHECK(identical(expected, several.run(std::span<const Tensor>(n.fed))[0]));

  // A recipe says whether they run at once.
  const auto joined_by = [&](std::shared_ptr<Recipes> recipes) {
    const Program p = compile(g, {.threads = 2, .recipes = std::move(recipes)});
    Lane lane(p);
    CHECK(identical(expected, lane.run(std::span<const Tensor>(n.fed))[0]));
    const EditionInfo edition = p.describe();
    const auto it = std::ranges::find(edition.steps, "side by side", &StepInfo::kind);
    REQUIRE(it != edition.steps.end());
    return *it;
  };
  const StepInfo step = joined_by(std::make_shared<Recipes>());
  CHECK(step.chosen == "side_by_side/1 at_once=1");
  CHECK(step.chosen_by == "estimate");
  const auto pinned = std::make_shared<Recipes>();
  pinned->pin(read_pin("at_once=0"));
  const StepInfo apart = joined_by(pinned);
  CHECK(apart.chosen_by == "pinned");
  CHECK(apart.recipe.starts_with("one after the other: "));
  const auto tuned = std::make_shared<Recipes>();
  tuned->add({step.problem, compile(g, {.threads = 2}).options().isa, 2, "side_by_side/1 at_once=0", 1.5});
  CHECK(joined_by(tuned).chosen_by == "tuned");
  pinned->pin(read_pin("at_once=2"));
  CHECK(has(joined_by(pinned).refused, "knob 'at_once' is 2, expected 0 to 1"));
  // What is pinned at a part of it is.
  const auto inside = std::make_shared<Recipes>();
  inside->pin(read_pin(step.nodes[0].substr(0, step.nodes[0].find(" (")) + ":k_block=64"));
  CHECK(joined_by(inside).chosen_by == "pinned");
  CHECK(pin_fault(*inside, compile(g, {.threads = 2, .recipes = inside}).describe()) == "");
  // An archive keeps it; one for other threads needs it not.
  const Folder folder;
  const std::filesystem::path kept = folder.path / "kept.lathe";
  save_program(compile(g, {.threads = 2, .recipes = tuned}), kept);
  const auto chosen_in = [&](int threads) {
    std::string all;
    for (const StepInfo& s : load_program(kept, {.threads = threads}).describe().steps) all += s.chosen + ";";
    return all;
  };
  CHECK(has(chosen_in(2), "at_once=0"));
  CHECK(!has(chosen_in(1), "at_once"));
}

namespace {

// Recurrent cells as exporters write them out, step after step over rows of x.
struct Unrolled {
  enum Form { joined, apart, gate_by_gate } form = joined;  // one product of x and state together, one each, one for each gate
  enum Mix { halves, other_way, difference, other_difference } mix = halves;  // how a GRU puts state and candidate together
  bool lstm = true, after = true, shared = true;
  bool feedback = false;       // the input of a step depends on the state before
  bool gives_states = false;   // the state of each step is an output
  bool gives_carried = false;  // what the first step carries on is an output
  int64_t steps = 5, batch = 3, in = 6, hidden = 8;

  Builder b{"unrolled", 21};
  int names = 0;
  ValueId constant(Tensor t) { return b.constant("c" + std::to_string(names++), std::move(t)); }
  ValueId weight(Shape s, uint64_t seed) { return constant(random_tensor(std::move(s), seed, -0.4f, 0.4f)); }
  ValueId ints(std::vector<int64_t> v) { return constant(Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v)); }

  // The sum before gate `g` of `count`, of x and h.
  std::vector<ValueId> sums(ValueId x, ValueId h, int64_t count, uint64_t seed) {
    if (form == gate_by_gate) {
      std::vector<ValueId> out;
      for (int64_t g = 0; g < count; ++g) {
        const auto of = [&](uint64_t k) { return seed * 100 + static_cast<uint64_t>(g) * 10 + k; };
        const ValueId wx = b.op("Gemm", {x, weight({hidden, in}, of(1)), weight({hidden}, of(2))}, {{"transB", int64_t{1}}});
        out.push_back(b.op("Add", {wx, b.op("MatMul", {h, weight({hidden, hidden}, of(3))})}));
      }
      return out;
    }
    ValueId z = kAbsent;
    if (form == joined) {
      const ValueId xh = b.op("Concat", {x, h}, {{"axis", int64_t{1}}});
      z = b.op("Add", {b.op("MatMul", {xh, weight({in + hidden, count * hidden}, seed)}), weight({count * hidden}, seed + 1)});
    } else {
      z = b.op("Add", {b.op("MatMul", {x, weight({in, count * hidden}, seed)}),
                       b.op("Gemm", {h, weight({count * hidden, hidden}, seed + 1), weight({count * hidden}, seed + 2)},
                            {{"transB", int64_t{1}}})});
    }
    return b.ops("Split", {z, ints(std::vector<int64_t>(static_cast<size_t>(count), hidden))}, static_cast<int>(count),
                 {{"axis", int64_t{-1}}});
  }

  Graph graph() {
    const ValueId xs = b.input("x", DType::f32, {Dim(steps), Dim(batch), Dim(in)});
    ValueId h = b.input("h", DType::f32, {Dim(batch), Dim(hidden)}),
            c = lstm ? b.input("c", DType::f32, {Dim(batch), Dim(hidden)}) : kAbsent;
    const ValueId one = constant(Tensor::from<float>({}, {1}));
    for (int64_t t = 0; t < steps; ++t) {
      const uint64_t seed = shared ? 5 : 5 + static_cast<uint64_t>(t);
      ValueId x = b.op("Gather", {xs, constant(Tensor::from<int64_t>({}, {t}))}, {{"axis", int64_t{0}}});
      if (feedback) x = b.op("Add", {x, b.op("Slice", {h, ints({0}), ints({in}), ints({1})})});
      if (lstm) {
        const auto z = sums(x, h, 4, seed);
        const ValueId keep = b.op("Mul", {b.op("Sigmoid", {z[1]}), c}),
                      fresh = b.op("Mul", {b.op("Sigmoid", {z[0]}), b.op("Tanh", {z[2]})});
        c = t % 2 ? b.op("Add", {keep, fresh}) : b.op("Add", {fresh, keep});
        h = b.op("Mul", {b.op("Sigmoid", {z[3]}), b.op("Tanh", {c})});
        if (gives_carried && t == 0) b.output(b.op("Identity", {c}), "carried");
      } else {
        const auto gates = sums(x, h, 2, seed);
        const ValueId z = b.op("Sigmoid", {gates[0]}), r = b.op("Sigmoid", {gates[1]});
        const ValueId of_x = b.op("Gemm", {x, weight({in, hidden}, seed + 50), weight({hidden}, seed + 51)});
        const ValueId w = weight({hidden, hidden}, seed + 52), bias = weight({hidden}, seed + 53);
        const ValueId of_h = after ? b.op("Mul", {r, b.op("Add", {b.op("MatMul", {h, w}), bias})})
                                   : b.op("Add", {b.op("MatMul", {b.op("Mul", {r, h}), w}), bias});
        const ValueId n = b.op("Tanh", {b.op("Add", {of_x, of_h})});
        const ValueId rest = mix == halves || mix == other_way ? b.op("Sub", {one, z}) : kAbsent;
        if (mix == halves) h = b.op("Add", {b.op("Mul", {rest, n}), b.op("Mul", {z, h})});
        else if (mix == other_way) h = b.op("Add", {b.op("Mul", {z, n}), b.op("Mul", {h, rest})});
        else if (mix == difference) h = b.op("Add", {n, b.op("Mul", {z, b.op("Sub", {h, n})})});
        else h = b.op("Add", {b.op("Mul", {b.op("Sub", {n, h}), z}), h});
      }
      if (gives_states) b.output(b.op("Identity", {h}), "h" + std::to_string(t));
    }
    b.output(b.op("Identity", {h}), "last");
    return b.finish();
  }

  std::vector<Tensor> fed() const {
    std::vector<Tensor> in_{random_tensor({steps, batch, in}, 1), random_tensor({batch, hidden}, 2)};
    if (lstm) in_.push_back(random_tensor({batch, hidden}, 3));
    return in_;
  }
};

// How many recurrent steps there are, after checking that results agree. `others`: products and tapes beside them.
int64_t layers_in(Unrolled u, int64_t* others = nullptr) {
  const Graph g = u.graph();
  for (const int threads : {1, 2}) check_against_plain(g, u.fed(), {.threads = threads});
  const EditionInfo info = compile(g).describe();
  if (others) *others = std::ranges::count_if(info.steps, [](const StepInfo& s) { return s.kind == "product" || s.kind == "tape"; });
  return std::ranges::count_if(info.steps, [](const StepInfo& s) { return s.kind == "recurrent"; });
}

}  // namespace

TEST_CASE("recurrent cells written out become one layer: LSTM") {
  for (const auto form : {Unrolled::joined, Unrolled::apart, Unrolled::gate_by_gate}) {
    CAPTURE(form);
    for (const bool states : {false, true}) {
      int64_t others = 0;
      CHECK(layers_in({.form = form, .gives_states = states}, &others) == 1);
      CHECK(others == 0);
    }
    CHECK(layers_in({.form = form, .steps = 1}) == 1);
    // As wide as the state is the input: which is which shows in what the next step reads.
    CHECK(layers_in({.form = form, .in = 8}) == 1);
  }
  CHECK(layers_in({.shared = false}) == 5);        // weights of its own in each step
  CHECK(layers_in({.feedback = true}) == 5);       // a step's input needs the one before
  CHECK(layers_in({.gives_carried = true}) == 5);  // somebody reads what is carried
}

TEST_CASE("recurrent cells written out become one layer: GRU") {
  for (const auto mix : {Unrolled::halves, Unrolled::other_way, Unrolled::difference, Unrolled::other_difference}) {
    for (const bool after : {true, false}) {
      for (const auto form : {Unrolled::apart, Unrolled::joined, Unrolled::gate_by_gate}) {
        CAPTURE(mix);
        CAPTURE(after);
        CAPTURE(form);
        int64_t others = 0;
        CHECK(layers_in({.form = form, .mix = mix, .lstm = false, .after = after}, &others) == 1);
        CHECK(others == 0);
      }
    }
  }
  CHECK(layers_in({.lstm = false, .gives_states = true}) == 1);
  CHECK(layers_in({.lstm = false, .feedback = true}) == 5);
}

TEST_CASE("near recurrent cells: what is none stays what it is") {
  const auto steps = [](auto change) {
    Builder b("near", 21);
    const auto w = [&](const char* name, Shape s, uint64_t seed) {
      return b.constant(name, random_tensor(std::move(s), seed, -0.4f, 0.4f));
    };
    const ValueId x = b.input("x", DType::f32, {2, 6}), h = b.input("h", DType::f32, {2, 8}), c = b.input("c", DType::f32, {2, 8});
    const ValueId z = b.op("Add", {b.op("MatMul", {x, w("w", {6, 32}, 1)}), b.op("MatMul", {h, w("r", {8, 32}, 2)})});
    const ValueId sizes = b.constant("sizes", Tensor::from<int64_t>({4}, {8, 8, 8, 8}));
    const auto parts = b.ops("Split", {z, sizes}, 4, {{"axis", int64_t{1}}});
    b.output(change(b, parts, c, x), "y");
    const Graph g = b.finish();
    check_against_plain(g, {random_tensor({2, 6}, 3), random_tensor({2, 8}, 4), random_tensor({2, 8}, 5)});
    const EditionInfo info = compile(g).describe();
    return std::ranges::count_if(info.steps, [](const StepInfo& s) { return s.kind == "recurrent"; });
  };
  using Parts = std::vector<ValueId>;
  const auto cell = [](Builder& b, const Parts& p, ValueId c, const char* gate, const char* fresh) {
    const ValueId next = b.op("Add", {b.op("Mul", {b.op(gate, {p[0]}), c}), b.op("Mul", {b.op("Sigmoid", {p[1]}), b.op(fresh, {p[2]})})});
    return b.op("Mul", {b.op("Sigmoid", {p[3]}), b.op("Tanh", {next})});
  };
  CHECK(steps([&](Builder& b, const Parts& p, ValueId c, ValueId) { return cell(b, p, c, "Sigmoid", "Tanh"); }) == 1);
  CHECK(steps([&](Builder& b, const Parts& p, ValueId c, ValueId) { return cell(b, p, c, "HardSigmoid", "Tanh"); }) == 0);
  CHECK(steps([&](Builder& b, const Parts& p, ValueId c, ValueId) {  // one row carried for the whole batch
          return cell(b, p, b.op("ReduceMean", {c, b.constant("rows", Tensor::from<int64_t>({1}, {0}))}), "Sigmoid", "Tanh");
        }) == 0);
  CHECK(steps([&](Builder& b, const Parts& p, ValueId c, ValueId) { return cell(b, p, c, "Sigmoid", "Relu"); }) == 0);
  CHECK(steps([&](Builder& b, const Parts& p, ValueId c, ValueId) {  // a gate that reads something else as well
          Parts q = p;
          q[0] = b.op("Add", {q[0], c});
          return cell(b, q, c, "Sigmoid", "Tanh");
        }) == 0);
}

TEST_CASE("cheap nodes on what is in memory are computed again for each reader") {
  const auto tapes = [](auto build) {
    Builder b("fan-out", 21);
    const ValueId x = b.input("x", DType::f32, {64, 300}), y = b.input("y", DType::f32, {64, 300});
    build(b, x, y);
    const Graph g = b.finish();
    check_against_plain(g, {random_tensor({64, 300}, 1), random_tensor({64, 300}, 2)});
    const EditionInfo info = compile(g).describe();
    double bytes = 0;
    for (const StepInfo& s : info.steps) bytes += s.bytes;
    return std::pair(info.steps.size(), std::llround(bytes / (64 * 300 * 4.0)));
  };
  const auto scale = [](Builder& b) { return b.constant("scale", random_tensor({300}, 3)); };
  // Three readers of max(x * scale, 0): three steps, each reading x and y and writing its own.
  CHECK(tapes([&](Builder& b, ValueId x, ValueId y) {
          const ValueId h = b.op("Relu", {b.op("Mul", {x, scale(b)})});
          b.output(b.op("Add", {h, y}), "a");
          b.output(b.op("Sub", {y, h}), "b");
          b.output(b.op("Tanh", {b.op("Mul", {h, y})}), "c");
        }) == std::pair<size_t, long long>(3, 9));
  // A dear one is not: it is written once.
  CHECK(tapes([&](Builder& b, ValueId x, ValueId y) {
          const ValueId h = b.op("Exp", {b.op("Mul", {x, scale(b)})});
          b.output(b.op("Add", {h, y}), "a");
          b.output(b.op("Sub", {y, h}), "b");
        }) == std::pair<size_t, long long>(3, 8));
  // Nor what is an output itself, or what a product makes in its own registers.
  CHECK(tapes([&](Builder& b, ValueId x, ValueId y) {
          const ValueId h = b.op("Mul", {x, scale(b)});
          b.output(h, "h");
          b.output(b.op("Add", {h, y}), "a");
          b.output(b.op("Sub", {y, h}), "b");
        }).first == 3);
  CHECK(tapes([&](Builder& b, ValueId x, ValueId y) {
          const ValueId h = b.op("Relu", {b.op("MatMul", {x, b.constant("w", random_tensor({300, 300}, 4, -0.1f, 0.1f))})});
          b.output(b.op("Add", {h, y}), "a");
          b.output(b.op("Sub", {y, h}), "b");
        }).first == 3);
}

TEST_CASE("scores that a Where hides are attention with a mask, also where a row sees nothing") {
  for (const float low : {-10000.0f, -65504.0f, -3.4e38f, -INFINITY}) {
    for (const bool turned : {false, true}) {
      CAPTURE(low);
      CAPTURE(turned);
      Builder b("hidden", 22);
      const ValueId q = b.input("q", DType::f32, {2, 3, 5, 8}), k = b.input("k", DType::f32, {2, 3, 7, 8}),
                    v = b.input("v", DType::f32, {2, 3, 7, 8}), seen = b.input("seen", DType::boolean, {2, 1, 5, 7});
      const ValueId product = b.op("MatMul", {q, b.op("Transpose", {k}, {{"perm", Ints{0, 1, 3, 2}}})});
      const ValueId scores = b.op("Div", {product, b.constant("root", Tensor::from<float>({}, {2.83f}))}),
                    nothing = b.constant("low", Tensor::from<float>({}, {low}));
      const ValueId hidden = turned ? b.op("Where", {seen, nothing, scores}) : b.op("Where", {seen, scores, nothing});
      b.output(b.op("MatMul", {b.op("Softmax", {hidden}, {{"axis", int64_t{-1}}}), v}), "y");
      const Graph g = b.finish();
      Tensor mask(DType::boolean, {2, 1, 5, 7});
      for (int64_t i = 0; i < mask.size(); ++i) {
        const bool nobody = i / 7 == 3 && !std::isinf(low);  // a row that sees nothing
        mask.as<bool>()[static_cast<size_t>(i)] = (!nobody && (i % 7 == 0 || i % 3 == 1)) != turned;
      }
      const std::vector<Tensor> in{random_tensor({2, 3, 5, 8}, 1, -9, 9), random_tensor({2, 3, 7, 8}, 2, -9, 9),
                                   random_tensor({2, 3, 7, 8}, 3), mask};
      check_against_plain(g, in, {.threads = 1}, {1e-4, 1e-4, 0});
      const EditionInfo e = compile(g, {.threads = 1}).describe();
      CHECK(std::ranges::any_of(e.steps, [](const StepInfo& s) { return s.op == "Attention"; }));
    }
  }
}
