// Forms that no step has as they stand: losses, normalisations whose statistics are results, scales and weights that a run makes, what is
// picked, and what is empty.
#include <array>
#include <cmath>
#include <map>
#include <numeric>

#include "steps.hpp"
#include "tensor/widen.hpp"

using namespace test;
using Data = Attribute::Data;
using Attributes = std::map<std::string, Data>;

namespace {

void without_plain(const Graph& g, const std::vector<Tensor>& in, Tolerance tolerance = {2e-5, 1e-4, 0}) {
  for (const StepInfo& s : compile(g, {.threads = 1}).describe().steps) CHECK_MESSAGE(s.kind != "plain", s.op);
  for (const int threads : {1, 3}) check_against_plain(g, in, {.threads = threads}, tolerance);
  check_against_plain(g, in, {.threads = 1, .fuse = false}, tolerance);
}

Tensor indices(DType d, const Shape& shape, std::mt19937_64& random, int64_t below, int64_t ignored = -1) {
  std::vector<int64_t> v(static_cast<size_t>(element_count(shape)));
  for (int64_t& i : v) i = ignored != -1 && random() % 4 == 0 ? ignored : static_cast<int64_t>(random() % static_cast<uint64_t>(below));
  return narrow<int64_t>(d, shape, v);
}

// Random numbers as another type has them.
Tensor as(DType d, const Tensor& t) { return narrow<double>(d, t.shape(), widen<double>(t)); }

}  // namespace

TEST_CASE("losses: weighted, with targets that are ignored, summed up in every way") {
  std::mt19937_64 random(3);
  for (int trial = 0; trial < 120; ++trial) {
    CAPTURE(trial);
    const bool entropy = trial % 2 == 0, weighted = trial % 3 == 0;
    const int64_t ignored = trial % 5 == 0 ? -100 : trial % 5 == 1 ? 2 : -1;
    Shape xs{between(random, 1, 6), between(random, 3, 9)}, ts{xs[0]};
    for (int64_t a = between(random, 0, 2); a > 0; --a) xs.push_back(between(random, 1, 8)), ts.push_back(xs.back());
    const DType index = trial % 4 < 2 ? DType::i64 : DType::i32;
    const DType real = trial % 7 == 0 ? DType::f64 : DType::f32;
    Builder b("loss", 13);
    std::vector<ValueId> in{b.input("x", real, dims(xs)), b.input("t", index, dims(ts))};
    std::vector<Tensor> fed{as(real, random_tensor(xs, random(), -4, 4)), indices(index, ts, random, xs[1], ignored)};
    if (weighted) {
      in.push_back(b.input("w", real, {xs[1]}));
      fed.push_back(as(real, random_tensor({xs[1]}, random(), 0.1f, 2)));
    }
    Attributes attributes{{"reduction", std::string(std::array{"none", "sum", "mean"}[static_cast<size_t>(trial / 2 % 3)])}};
    if (ignored != -1) attributes["ignore_index"] = ignored;
    const bool both = entropy && trial % 4 == 0;
    const auto made = b.ops(entropy ? "SoftmaxCrossEntropyLoss" : "NegativeLogLikelihoodLoss", in, both ? 2 : 1, attributes);
    b.output(b.op("Neg", {made[0]}), "loss");
    if (both) b.output(made[1], "log_p");
    const Graph g = b.finish();
    if (real == DType::f32) without_plain(g, fed);
    else check_against_plain(g, fed, {.threads = 2});
  }
}

TEST_CASE("a loss of a class that there is not is an error; infinities of targets that are ignored count nothing") {
  for (const int64_t wrong : {int64_t{5}, int64_t{-1}, int64_t{-3}, int64_t{1000}}) {
    Builder b("loss", 13);
    b.output(b.op("NegativeLogLikelihoodLoss", {b.input("x", DType::f32, {3, 5}), b.input("t", DType::i64, {3})}), "y");
    Lane lane(compile(b.finish(), {.threads = 1}));
    const std::vector<Tensor> in{random_tensor({3, 5}, 1), Tensor::from<int64_t>({3}, {0, wrong, 4})};
    CHECK(error_of([&] { lane.run(std::span<const Tensor>(in)); }) != "");
  }
  Builder b("loss", 13);
  b.output(b.op("NegativeLogLikelihoodLoss", {b.input("x", DType::f32, {2, 3}), b.input("t", DType::i64, {2})},
                Attributes{{"ignore_index", int64_t{1}}, {"reduction", std::string("sum")}}),
           "y");
  without_plain(b.finish(), {Tensor::from<float>({2, 3}, {-INFINITY, 2, 3, 4, 5, NAN}), Tensor::from<int64_t>({2}, {1, 0})});
}

TEST_CASE("normalisations of which the statistics are results too") {
  std::mt19937_64 random(5);
  for (int trial = 0; trial < 40; ++trial) {
    CAPTURE(trial);
    const Shape xs{between(random, 1, 4), between(random, 2, 7), between(random, 2, 9)};
    const int64_t axis = between(random, -3, 2), from = axis < 0 ? axis + 3 : axis;
    const Shape own(xs.begin() + from, xs.end());
    Builder b("layer", 17);
    std::vector<ValueId> in{b.input("x", DType::f32, dims(xs)), b.input("scale", DType::f32, dims(own))};
    std::vector<Tensor> fed{random_tensor(xs, random()), random_tensor(own, random())};
    if (trial % 2 == 0) in.push_back(b.constant("bias", random_tensor(own, random())));
    const auto made = b.ops("LayerNormalization", in, 3, Attributes{{"axis", axis}, {"epsilon", 1e-3f}});
    b.output(made[0], "y");
    if (trial % 3 != 0) b.output(made[1], "mean");
    if (trial % 3 != 1) b.output(b.op("Neg", {made[2]}), "inverse");
    without_plain(b.finish(), fed);
  }
  for (const Shape& xs : {Shape{4, 6}, Shape{3, 5, 7}, Shape{2, 4, 5, 6}}) {
    for (const bool training : {true, false}) {
      INFO(to_string(xs));
      Builder b("batch", 15);
      std::vector<ValueId> in{b.input("x", DType::f32, dims(xs))};
      std::vector<Tensor> fed{random_tensor(xs, 1)};
      for (const char* name : {"scale", "bias", "mean", "variance"}) {
        in.push_back(b.input(name, DType::f32, {xs[1]}));
        fed.push_back(random_tensor({xs[1]}, fed.size(), 0.1f, 2));
      }
      Attributes attributes{{"momentum", 0.7f}};
      if (training) attributes["training_mode"] = int64_t{1};
      const auto made = b.ops("BatchNormalization", in, training ? 3 : 1, attributes);
      for (size_t i = 0; i < made.size(); ++i) b.output(made[i], "y" + std::to_string(i));
      without_plain(b.finish(), fed);
    }
  }
}

TEST_CASE("dropouts that drop nothing, and ones on diagonals") {
  for (const DType d : {DType::f32, DType::f64}) {
    Builder b("dropout", 13);
    const auto x = b.input("x", d, {4, 50});
    const auto off = b.constant("off", Tensor::from<bool>({}, {false}));
    const auto made = b.ops("Dropout", {x, b.constant("half", Tensor::from<float>({}, {0.5f})), off}, 2);
    b.output(b.op("Neg", {made[0]}), "y");
    b.output(made[1], "kept");
    without_plain(b.finish(), {as(d, random_tensor({4, 50}, 1))});
  }
  for (const int64_t k : {0, 2, -3, 90, -90}) {
    for (const int64_t to : {0, 1, 7, 9}) {
      Builder b("eye", 14);
      Attributes attributes{{"k", k}};
      if (to != 0) attributes["dtype"] = to;
      b.output(b.op("EyeLike", {b.input("x", DType::f32, {5, 8})}, attributes), "y");
      without_plain(b.finish(), {random_tensor({5, 8}, 1)});
    }
  }
}

TEST_CASE("scales and zero points that a run makes, one for all and one a channel") {
  std::mt19937_64 random(7);
  for (int trial = 0; trial < 60; ++trial) {
    CAPTURE(trial);
    const Shape xs{between(random, 1, 3), between(random, 2, 6), between(random, 1, 40)};
    const DType d = trial % 2 == 0 ? DType::u8 : DType::i8;
    const int64_t axis = trial % 3 == 0 ? -1 : between(random, -3, 2), along = xs[static_cast<size_t>((axis + 3) % 3)];
    const Shape own = trial % 3 == 0 ? (trial % 6 == 0 ? Shape{} : Shape{1}) : Shape{along};
    const bool zero = trial % 4 != 0 || d == DType::i8, fixed = trial % 5 == 0;
    Builder b("scaled", 13);
    const auto x = b.input("x", DType::f32, dims(xs));
    std::vector<Tensor> fed{random_tensor(xs, random(), -9, 9)};
    if (trial % 3 == 1) fed[0].as<float>()[0] = NAN;
    Tensor scale = random_tensor(own, random(), 0.01f, 0.2f), points = bytes_tensor(d, own, random);
    ValueId s, z = kAbsent;
    if (fixed) s = b.constant("s", scale);
    else s = b.input("s", DType::f32, dims(own)), fed.push_back(scale);
    if (zero && fixed) z = b.constant("z", points);
    else if (zero) z = b.input("z", d, dims(own)), fed.push_back(points);
    const Attributes attributes{{"axis", axis}};
    std::vector<ValueId> operands{x, s};
    if (zero) operands.push_back(z);
    const auto bytes = b.op("QuantizeLinear", operands, attributes);
    b.output(bytes, "bytes");
    operands[0] = bytes;
    b.output(b.op("DequantizeLinear", operands, attributes), "floats");
    without_plain(b.finish(), fed, {0, 1e-6, 0});
  }
}

TEST_CASE("convolutions of bytes by weights that a run makes") {
  std::mt19937_64 random(11);
  for (int trial = 0; trial < 40; ++trial) {
    CAPTURE(trial);
    const int64_t groups = trial % 4 == 0 ? 2 : 1, depth = trial % 5 == 0 ? 40 : between(random, 1, 5);
    const int64_t filters = groups * between(random, 1, 4);
    const Shape xs{2, groups * depth, 8, 9}, ws{filters, depth, 3, 3};
    const DType wd = trial % 2 == 0 ? DType::u8 : DType::i8;
    Builder b("convolution", 13);
    std::vector<ValueId> in{b.input("x", DType::u8, dims(xs)), b.input("w", wd, dims(ws))};
    std::vector<Tensor> fed{bytes_tensor(DType::u8, xs, random), bytes_tensor(wd, ws, random)};
    if (trial % 3 != 0) in.push_back(b.input("xz", DType::u8, {})), fed.push_back(byte_scalar(DType::u8, 117));
    if (trial % 3 == 1) in.push_back(b.input("wz", wd, {filters})), fed.push_back(bytes_tensor(wd, {filters}, random));
    b.output(b.op("ConvInteger", in, Attributes{{"pads", std::vector<int64_t>{1, 0, 1, 2}}, {"group", groups}}), "y");
    without_plain(b.finish(), fed, {0, 0, 0});
  }
}

TEST_CASE("recurrent layers by weights that a run makes") {
  std::mt19937_64 random(13);
  for (int trial = 0; trial < 60; ++trial) {
    CAPTURE(trial);
    const char* op = std::array{"RNN", "GRU", "LSTM"}[static_cast<size_t>(trial % 3)];
    const int64_t gates = std::array{1, 3, 4}[static_cast<size_t>(trial % 3)], ways = trial % 4 == 0 ? 2 : 1;
    const int64_t steps = between(random, 1, 6), batch = between(random, 1, 4), in = between(random, 1, 20),
                  hidden = between(random, 1, 37);
    Builder b("recurrent", 14);
    std::vector<ValueId> operands;
    std::vector<Tensor> fed;
    const auto give = [&](const char* name, const Shape& s, bool constant = false) {
      Tensor t = random_tensor(s, random(), -0.4f, 0.4f);
      if (constant) operands.push_back(b.constant(name, t));
      else operands.push_back(b.input(name, DType::f32, dims(s))), fed.push_back(t);
    };
    give("x", {steps, batch, in});
    give("w", {ways, gates * hidden, in});
    give("r", {ways, gates * hidden, hidden}, trial % 5 == 0);
    if (trial % 2 == 0) give("b", {ways, 2 * gates * hidden}, trial % 3 == 0);
    Attributes attributes{{"hidden_size", hidden}};
    if (ways == 2) attributes["direction"] = std::string("bidirectional");
    else if (trial % 3 == 0) attributes["direction"] = std::string("reverse");
    if (gates == 3 && trial % 2 == 0) attributes["linear_before_reset"] = int64_t{1};
    if (gates == 4 && trial % 2 == 0) {
      operands.resize(7, kAbsent);
      give("p", {ways, 3 * hidden}, trial % 4 == 0);
    }
    const auto made = b.ops(op, operands, gates == 4 ? 3 : 2, attributes);
    for (size_t i = 0; i < made.size(); ++i) b.output(made[i], "y" + std::to_string(i));
    without_plain(b.finish(), fed);
  }
}

TEST_CASE("what conditions pick and what is not zero, of every type and along every axis") {
  std::mt19937_64 random(17);
  const DType all[]{DType::f32, DType::f64,     DType::f16, DType::bf16, DType::u8,
                    DType::i8,  DType::boolean, DType::i16, DType::i32,  DType::i64};
  for (int trial = 0; trial < 120; ++trial) {
    CAPTURE(trial);
    const DType d = all[static_cast<size_t>(trial) % std::size(all)];
    Shape xs;
    for (int64_t a = between(random, trial % 2, 3); a > 0; --a)
      xs.push_back(between(random, trial % 11 == 0 ? 0 : 1, trial % 3 == 0 ? 60 : 7));
    std::vector<double> v(static_cast<size_t>(element_count(xs)));
    for (double& e : v) e = random() % 3 == 0 ? 0 : d == DType::boolean ? 1 : static_cast<double>(random() % 100);
    const Tensor x = narrow<double>(d, xs, v);
    Builder b("picked", 13);
    const auto in = b.input("x", d, dims(xs));
    std::vector<Tensor> fed{x};
    if (trial % 2 == 0) {
      b.output(b.op("NonZero", {in}), "places");
    } else {
      const bool flat = trial % 4 == 1;
      const int64_t axis = between(random, 0, static_cast<int64_t>(xs.size()) - 1);
      const int64_t most = flat ? element_count(xs) : xs[static_cast<size_t>(axis)], length = trial % 3 == 0 ? most / 2 : most;
      Tensor keep(DType::boolean, {length});
      for (int64_t i = 0; i < length; ++i) keep.as<bool>()[i] = random() % 3 != 0;
      fed.push_back(keep);
      Attributes attributes;
      if (!flat) attributes["axis"] = axis;
      b.output(b.op("Compress", {in, b.input("keep", DType::boolean, {length})}, attributes), "kept");
    }
    const Graph g = b.finish();
    const Tensor expected = evaluate_plain(g, fed)[0];
    for (const int threads : {1, 3}) {
      Lane lane(compile(g, {.threads = threads}));
      for (int run = 0; run < 3; ++run) CHECK(identical(lane.run(std::span<const Tensor>(fed))[0], expected));
    }
  }
  // More than there is to pick from.
  Builder b("picked", 13);
  b.output(
      b.op("Compress", {b.input("x", DType::f32, {3, 4}), b.input("keep", DType::boolean, {Dim("n")})}, Attributes{{"axis", int64_t{1}}}),
      "y");
  const Graph g = b.finish();
  Lane lane(compile(g, {.threads = 1}));
  const std::vector<Tensor> wrong{random_tensor({3, 4}, 1), Tensor(DType::boolean, {5})};
  const std::string said = error_of([&] { evaluate_plain(g, wrong); });
  CHECK(has(said, "5"));
  CHECK(error_of([&] { lane.run(std::span<const Tensor>(wrong)); }) == said);
}

TEST_CASE("half precision: losses and normalisations whose statistics are results, against plain evaluation") {
  for (const DType d : {DType::f16, DType::bf16}) {
    const auto half = [&](const Shape& s, uint64_t seed) { return as(d, random_tensor(s, seed)); };
    Builder b("half", 17);
    const auto x = b.input("x", d, {6, 8});
    const auto made = b.ops("LayerNormalization", {x, b.constant("scale", half({8}, 1))}, 3);
    b.output(made[0], "y");
    b.output(made[1], "mean");
    b.output(b.op("SoftmaxCrossEntropyLoss", {x, b.constant("t", Tensor::from<int64_t>({6}, {0, 1, 2, 3, 4, 7}))}), "loss");
    check_against_plain(b.finish(), {half({6, 8}, 3)}, {.threads = 1}, {2e-2, 2e-2, 0});
  }
}

TEST_CASE("rows that are unique: their places, groups and counts, sorted and as they come") {
  std::mt19937_64 random(23);
  const DType all[]{DType::f32, DType::i64, DType::u8, DType::f64, DType::i32};
  for (int trial = 0; trial < 60; ++trial) {
    CAPTURE(trial);
    const DType d = all[static_cast<size_t>(trial) % std::size(all)];
    const bool flat = trial % 3 == 0, sorted = trial % 2 == 0;
    const Shape xs{between(random, 1, 9), between(random, 1, 40), between(random, 1, 3)};
    const auto axis = static_cast<size_t>(between(random, 0, 2));
    std::vector<double> v(static_cast<size_t>(element_count(xs)));
    for (double& e : v) e = static_cast<double>(random() % 3);
    if (is_float(d)) v[0] = -0.0;
    Builder b("unique", 13);
    Attributes attributes{{"sorted", int64_t{sorted}}};
    if (!flat) attributes["axis"] = static_cast<int64_t>(axis);
    const auto made = b.ops("Unique", {b.input("x", d, dims(xs))}, 4, attributes);
    for (size_t i = 0; i < 4; ++i) b.output(made[i], "y" + std::to_string(i));
    const std::vector<Tensor> in{narrow<double>(d, xs, v)}, out = evaluate_plain(b.finish(), in);
    // Rows along the axis, by a map.
    const int64_t n = flat ? element_count(xs) : xs[axis];
    const auto row = [&](int64_t k) {
      if (flat) return std::vector<double>{v[static_cast<size_t>(k)]};
      std::vector<double> r;
      for (int64_t i = 0; i < element_count(xs); ++i) {
        const int64_t place[]{i / (xs[1] * xs[2]), i / xs[2] % xs[1], i % xs[2]};
        if (place[axis] == k) r.push_back(v[static_cast<size_t>(i)]);
      }
      return r;
    };
    std::map<std::vector<double>, std::pair<int64_t, int64_t>> seen;  // first place, how many
    for (int64_t k = 0; k < n; ++k) ++seen.try_emplace(row(k), k, 0).first->second.second;
    const auto first = out[1].as<int64_t>(), group = out[2].as<int64_t>(), counts = out[3].as<int64_t>();
    REQUIRE(static_cast<size_t>(first.size()) == seen.size());
    for (size_t i = 0; i < first.size(); ++i) {
      const auto& [at, count] = seen.at(row(first[i]));
      CHECK(first[i] == at);
      CHECK(counts[i] == count);
      if (i > 0 && sorted) CHECK(row(first[i - 1]) < row(first[i]));
      if (i > 0 && !sorted) CHECK(first[i - 1] < first[i]);
    }
    for (int64_t k = 0; k < n; ++k) CHECK(row(first[static_cast<size_t>(group[static_cast<size_t>(k)])]) == row(k));
  }
  Builder b("unique", 13);
  const auto made = b.ops("Unique", {b.input("x", DType::f32, {7})}, 4);
  b.output(made[0], "y");
  b.output(made[3], "counts");
  const std::vector<Tensor> in{Tensor::from<float>({7}, {NAN, 3, -0.0f, NAN, 0, 3, INFINITY})}, out = evaluate_plain(b.finish(), in);
  REQUIRE(out[0].size() == 4);
  CHECK(out[0].as<float>()[2] == INFINITY);
  CHECK(std::isnan(out[0].as<float>()[3]));
  CHECK(identical(out[1], Tensor::from<int64_t>({4}, {2, 2, 1, 2})));
}
