// Ops in types that had no step: pools of any number and with places, normalisations and softmax of doubles, running sums, casts to halves,
// products of bytes that are both made while running.
#include <array>
#include <cmath>
#include <limits>

#include "steps.hpp"
#include "tensor/widen.hpp"

using namespace test;
using Data = Attribute::Data;

namespace {

Tensor numbers(DType dtype, const Shape& shape, std::mt19937_64& random, double low = -3, double high = 3) {
  std::vector<double> v(static_cast<size_t>(element_count(shape)));
  for (double& x : v) x = low + (high - low) * static_cast<double>(random() % 100000) / 100000;
  return narrow<double>(dtype, shape, v);
}

// Compiled without plain evaluation, and equal to it within a few roundings of a double (exactly, for whole numbers).
void compiled_alike(const Graph& g, const std::vector<Tensor>& in, Tolerance tolerance = {1e-12, 1e-11, 0}) {
  for (const StepInfo& s : compile(g, {.threads = 1}).describe().steps) CHECK_MESSAGE(s.kind != "plain", s.op);
  for (const int threads : {1, 3}) check_against_plain(g, in, {.threads = threads}, tolerance);
}

}  // namespace

TEST_CASE("pools of doubles and bytes, and places of maxima") {
  std::mt19937_64 random(21);
  for (int trial = 0; trial < 80; ++trial) {
    CAPTURE(trial);
    const size_t axes = static_cast<size_t>(between(random, 1, 3));
    const bool average = trial % 4 == 0, places = !average && trial % 3 == 0;
    const DType dtype = average                    ? DType::f64
                        : places && trial % 2 == 0 ? DType::f32
                                                   : std::array{DType::f64, DType::u8, DType::i8}[static_cast<size_t>(trial % 3)];
    Shape xs{2, 3};
    std::vector<int64_t> kernel, strides, dilations, pads(2 * axes);
    for (size_t a = 0; a < axes; ++a) {
      xs.push_back(between(random, 4, 11));
      kernel.push_back(between(random, 1, 3));
      strides.push_back(between(random, 1, 3));
      dilations.push_back(average ? 1 : between(random, 1, 2));
      pads[a] = between(random, 0, kernel[a] - 1);
      pads[axes + a] = between(random, 0, kernel[a] - 1);
    }
    Builder b("pool", 19);
    std::map<std::string, Data> attributes{
        {"kernel_shape", kernel}, {"strides", strides}, {"pads", pads}, {"ceil_mode", int64_t{trial % 5 == 0}}};
    if (!average) attributes["dilations"] = dilations;
    if (average) attributes["count_include_pad"] = int64_t{trial % 8 == 0};
    if (places) attributes["storage_order"] = int64_t{trial % 2};
    const auto y = b.ops(average ? "AveragePool" : "MaxPool", {b.input("x", dtype, Dims(xs.begin(), xs.end()))}, places ? 2 : 1,
                         {attributes.begin(), attributes.end()});
    for (size_t i = 0; i < y.size(); ++i) b.output(y[i], "y" + std::to_string(i));
    const Graph g = b.finish();
    Tensor x = numbers(dtype, xs, random, dtype == DType::u8 ? 0 : -100, 100);
    if (dtype == DType::f64 && trial % 7 == 0) {
      x.as<double>()[3] = std::numeric_limits<double>::quiet_NaN();
      x.as<double>()[9] = -std::numeric_limits<double>::infinity();
    }
    compiled_alike(g, {x});
  }
}

TEST_CASE("normalisations and softmax of doubles are steps") {
  std::mt19937_64 random(22);
  const Shape s{2, 6, 5, 4};
  const Dims dims(s.begin(), s.end());
  const auto check = [&](const char* op, const std::vector<Shape>& more, std::map<std::string, Data> attributes, int64_t opset = 18) {
    CAPTURE(op);
    Builder b("n", opset);
    std::vector<ValueId> in{b.input("x", DType::f64, dims)};
    std::vector<Tensor> fed{numbers(DType::f64, s, random)};
    for (size_t i = 0; i < more.size(); ++i) {
      in.push_back(b.input("p" + std::to_string(i), DType::f64, Dims(more[i].begin(), more[i].end())));
      fed.push_back(numbers(DType::f64, more[i], random, 0.5, 2));
    }
    b.output(b.op(op, in, {attributes.begin(), attributes.end()}), "y");
    compiled_alike(b.finish(), fed);
  };
  for (const int64_t axis : {-1, 1, 0}) {
    check("Softmax", {}, {{"axis", axis}});
    check("LogSoftmax", {}, {{"axis", axis}});
  }
  check("LayerNormalization", {{5, 4}, {5, 4}}, {{"axis", int64_t{2}}});
  check("LayerNormalization", {{4}}, {});
  check("RMSNormalization", {{4}}, {}, 23);
  check("BatchNormalization", {{6}, {6}, {6}, {6}}, {{"epsilon", 1e-3f}});
  check("InstanceNormalization", {{6}, {6}}, {});
  check("GlobalAveragePool", {}, {});
  check("GlobalMaxPool", {}, {});
  check("MeanVarianceNormalization", {}, {});
  check("MeanVarianceNormalization", {}, {{"axes", std::vector<int64_t>{1, 3}}});
  check("ReduceLogSumExp", {}, {{"keepdims", int64_t{0}}});
}

TEST_CASE("all numbers of a tensor by ReduceLogSumExp, and MeanVarianceNormalization of floats") {
  Builder b("all", 18);
  const auto x = b.input("x", DType::f32, {3, 4, 5, 6});
  b.output(b.op("ReduceLogSumExp", {x}, {{"keepdims", int64_t{0}}}), "sum");
  b.output(b.op("MeanVarianceNormalization", {x}), "normal");
  compiled_alike(b.finish(), {random_tensor({3, 4, 5, 6}, 3, -20, 20)}, {1e-5, 1e-5, 0});
}

TEST_CASE("running sums of doubles and whole numbers") {
  std::mt19937_64 random(23);
  for (const DType dtype : {DType::f64, DType::i32, DType::i64}) {
    for (int64_t axis = 0; axis < 3; ++axis) {
      Builder b("sums", 14);
      const auto x = b.input("x", dtype, {3, 5, 7}), at = b.constant("axis", Tensor::from<int64_t>({}, {axis}));
      b.output(b.op("CumSum", {x, at}, {{"exclusive", axis % 2}, {"reverse", int64_t{dtype == DType::i32}}}), "y");
      compiled_alike(b.finish(), {numbers(dtype, {3, 5, 7}, random, -2e9, 2e9)});
    }
  }
}

TEST_CASE("doubles and whole numbers become halves, rounded once") {
  for (const DType to : {DType::f16, DType::bf16}) {
    const Attribute::Data number = int64_t{to == DType::f16 ? 10 : 16};
    // Just above and below ties, in the range of normal numbers, of denormal ones and beyond.
    std::vector<double> v{0.0, -0.0, 65504, 65519.999999, 65520, 1e300, -1e300, 3e38, 3.5e38, INFINITY, -INFINITY, NAN, 5e-324, 1e-310};
    for (const double base : {1.0, 0x1p-14, 0x1p-24, 0x1p-126, 0x1p-133, 1000.0}) {
      for (int i = 0; i < 40; ++i) {
        const double tie = base * (1 + i * (to == DType::f16 ? 0x1p-11 : 0x1p-8));
        for (const double d : {tie, std::nextafter(tie, 1e9), std::nextafter(tie, -1e9), -tie, base * i / 2}) v.push_back(d);
      }
    }
    const auto n = static_cast<int64_t>(v.size());
    Builder b("halves", 19);
    b.output(b.op("Cast", {b.input("x", DType::f64, {n})}, {{"to", number}}), "y");
    compiled_alike(b.finish(), {Tensor::from<double>({n}, v)}, {0, 0, 0});
    for (const DType from : {DType::i32, DType::i64}) {
      std::mt19937_64 random(24);
      Builder c("whole", 19);
      c.output(c.op("Cast", {c.input("x", from, {400})}, {{"to", number}}), "y");
      compiled_alike(c.finish(), {numbers(from, {400}, random, -70000, 70000)}, {0, 0, 0});
    }
  }
}

TEST_CASE("products of bytes that are both made while running are exact") {
  std::mt19937_64 random(25);
  for (int trial = 0; trial < 24; ++trial) {
    CAPTURE(trial);
    const DType at = trial % 2 ? DType::u8 : DType::i8, bt = trial % 3 ? DType::u8 : DType::i8;
    const int64_t m = between(random, 1, 9), n = between(random, 1, 20),
                  k = trial % 4 == 0 ? between(random, 257, 1100) : between(random, 1, 256);
    Builder b("pairs", 21);
    const auto a = b.input("a", at, {2, m, k}), w = b.input("b", bt, {2, k, n});
    const bool zeros = trial % 5 != 0;
    const auto za = zeros ? b.input("za", at, {}) : kAbsent, zb = zeros ? b.input("zb", bt, {}) : kAbsent;
    std::vector<Tensor> in{numbers(at, {2, m, k}, random, at == DType::u8 ? 0 : -128, 127),
                           numbers(bt, {2, k, n}, random, bt == DType::u8 ? 0 : -128, 127)};
    if (zeros) {
      in.push_back(numbers(at, {}, random, 0, 100));
      in.push_back(numbers(bt, {}, random, 0, 100));
    }
    b.output(zeros ? b.op("MatMulInteger", {a, w, za, zb}) : b.op("MatMulInteger", {a, w}), "y");
    compiled_alike(b.finish(), in);
  }
  SUBCASE("requantised, in doubles") {
    Builder b("requantised", 21);
    const auto scale = [&](const char* name, float v) { return b.constant(name, Tensor::from<float>({}, {v})); };
    const auto zero = [&](const char* name, int v) { return b.constant(name, byte_scalar(DType::u8, v)); };
    b.output(b.op("QLinearMatMul",
                  {b.input("a", DType::u8, {4, 12, 64}), scale("sa", 0.02f), zero("za", 120), b.input("b", DType::u8, {4, 64, 12}),
                   scale("sb", 0.03f), zero("zb", 131), scale("sy", 0.4f), zero("zy", 128)}),
             "y");
    const Graph g = b.finish();
    const std::vector<Tensor> in{numbers(DType::u8, {4, 12, 64}, random, 0, 255), numbers(DType::u8, {4, 64, 12}, random, 0, 255)};
    const Program p = compile(g, {.threads = 2});
    CHECK(p.describe().plain == 0);
    Lane lane(p);
    const Tensor got = lane.run(std::span<const Tensor>(in))[0], expected = evaluate_plain(g, in)[0];
    int most = 0;
    for (int64_t i = 0; i < got.size(); ++i) most = std::max(most, std::abs(got.as<uint8_t>()[i] - expected.as<uint8_t>()[i]));
    CHECK(most == 0);
  }
}
