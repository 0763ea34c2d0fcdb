// Weights of 4 and 8 bits behind a DequantizeLinear: products and look-ups take them as they are.
#include <array>

#include "steps.hpp"
#include "tensor/widen.hpp"

using namespace test;
using Data = Attribute::Data;

namespace {

constexpr std::array kTypes{DType::i8, DType::u8, DType::i4, DType::u4};

Tensor numbers(DType dtype, Shape shape, std::mt19937_64& random) {
  const int bits = bit_width(dtype);
  const bool is_signed = dtype == DType::i8 || dtype == DType::i4;
  std::vector<double> v(static_cast<size_t>(element_count(shape)));
  for (double& x : v) x = static_cast<double>(between(random, 0, (1 << bits) - 1)) - (is_signed ? 1 << (bits - 1) : 0);
  return narrow<double>(dtype, std::move(shape), v);
}

enum class Scales { one, by_axis, blocked };

// A DequantizeLinear of a rows x columns constant with its scales along `axis`.
ValueId dequantised(Builder& b, DType dtype, int64_t rows, int64_t columns, Scales scales, int64_t axis, int64_t block, bool zeros,
                    std::mt19937_64& random) {
  Shape s;
  if (scales == Scales::by_axis) s = {axis == 0 ? rows : columns};
  if (scales == Scales::blocked) s = axis == 0 ? Shape{(rows + block - 1) / block, columns} : Shape{rows, (columns + block - 1) / block};
  std::vector<ValueId> in{b.constant("q", numbers(dtype, {rows, columns}, random)),
                          b.constant("scale", random_tensor(s, random(), 0.01f, 0.1f))};
  if (zeros) in.push_back(b.constant("zero", numbers(dtype, s, random)));
  std::map<std::string, Data> attributes{{"axis", axis}};
  if (scales == Scales::blocked) attributes["block_size"] = block;
  return b.op("DequantizeLinear", in, {attributes.begin(), attributes.end()});
}

}  // namespace

TEST_CASE("products by weights of 4 and 8 bits give what products by their floats give") {
  std::mt19937_64 random(11);
  for (int trial = 0; trial < 120; ++trial) {
    const DType dtype = kTypes[static_cast<size_t>(trial % 4)];
    const auto scales = static_cast<Scales>(between(random, 0, 2));
    const bool zeros = random() % 2;
    const int form = static_cast<int>(between(random, 0, 2));  // MatMul, Gemm by N x K, MatMul by a Transpose of N x K
    const int64_t block = between(random, 8, 40), m = trial % 5 == 0 ? between(random, 5, 40) : between(random, 1, 4),
                  n = between(random, 1, 100), k = trial % 7 == 0 ? between(random, 600, 1400) : between(random, 1, 130);
    CAPTURE(trial);
    CAPTURE(m);
    CAPTURE(n);
    CAPTURE(k);
    Builder b("weights", 21);
    const bool turned = form > 0, batched = form != 1 && random() % 3 == 0;
    const int64_t k_axis = turned ? 1 : 0;
    const ValueId w = dequantised(b, dtype, turned ? n : k, turned ? k : n, scales, scales == Scales::blocked ? k_axis : 1 - k_axis, block,
                                  zeros, random);
    const Shape xs = batched ? Shape{1, m, k} : Shape{m, k};
    const ValueId x = b.input("x", DType::f32, Dims(xs.begin(), xs.end()));
    const ValueId bias = b.constant("bias", random_tensor({n}, 5));
    ValueId y;
    if (form == 1) y = b.op("Gemm", {x, w, bias}, {{"transB", int64_t{1}}});
    else y = b.op("Add", {b.op("MatMul", {x, form == 2 ? b.op("Transpose", {w}) : w}), bias});
    if (trial % 3 == 0) y = b.op("Relu", {y});
    if (trial % 3 == 1) y = b.op("Mul", {y, b.op("Sigmoid", {y})});
    if (trial % 4 == 0) {
      Shape ys = xs;
      ys.back() = n;
      y = b.op("Add", {y, b.input("residual", DType::f32, Dims(ys.begin(), ys.end()))});
    }
    b.output(y, "y");
    const Graph g = b.finish();
    const EditionInfo info = compile(g, {.threads = 1}).describe();
    REQUIRE(info.steps.size() == 1);
    CHECK(has(info.steps[0].recipe, std::string(to_string(dtype)) + " weights"));
    std::vector<Tensor> in{random_tensor(xs, static_cast<uint64_t>(trial))};
    if (trial % 4 == 0) {
      Shape ys = xs;
      ys.back() = n;
      in.push_back(random_tensor(ys, 77));
    }
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, in, o); });
  }
}

TEST_CASE("weights of few bits take their few bits, in archives and several editions too") {
  std::mt19937_64 random(12);
  Builder b("decoder", 21);
  const ValueId x = b.input("x", DType::f32, {Dim("rows"), 256});
  b.output(b.op("MatMul", {x, dequantised(b, DType::i4, 256, 512, Scales::blocked, 0, 32, false, random)}), "y");
  const Graph g = b.finish();
  const Program p = compile(g, {.threads = 2});
  const Folder f;
  std::vector<Tensor> ins, outs;
  Lane lane(p);
  for (const int64_t rows : {1, 3, 20}) {
    ins.push_back(random_tensor({rows, 256}, static_cast<uint64_t>(rows)));
    outs.push_back(lane.run(std::span<const Tensor>(&ins.back(), 1))[0]);
    // The numbers, and a scale for 32 of them.
    CHECK(p.describe({{rows, 256}}).weight_bytes <= 256 * 512 / 2 + 4 * 256 * 512 / 32);
  }
  save_program(p, f.path / "p.lathe");
  CHECK(fs::file_size(f.path / "p.lathe") < 256 * 512 * 2);
  Lane other(load_program(f.path / "p.lathe"));
  for (size_t i = 0; i < ins.size(); ++i) CHECK(identical(other.run(std::span<const Tensor>(&ins[i], 1))[0], outs[i]));
}

TEST_CASE("scales that no product takes are widened as before") {
  std::mt19937_64 random(13);
  // Along K one each, blocks along N, three numbers a block, weights that something else reads too.
  for (int form = 0; form < 4; ++form) {
    Builder b("odd", 21);
    const ValueId x = b.input("x", DType::f32, {3, 48});
    const Scales scales = form == 0 ? Scales::by_axis : form == 3 ? Scales::one : Scales::blocked;
    const ValueId w = dequantised(b, DType::i8, 48, 64, scales, form == 1 ? 1 : 0, form == 2 ? 3 : 16, true, random);
    b.output(b.op("MatMul", {x, w}), "y");
    if (form == 3) b.output(b.op("Neg", {w}), "z");
    check_against_plain(b.finish(), {random_tensor({3, 48}, 3)}, {.threads = 2});
  }
}

TEST_CASE("rows are looked up among numbers of few bits, and widened then") {
  std::mt19937_64 random(14);
  for (int trial = 0; trial < 48; ++trial) {
    CAPTURE(trial);
    const DType dtype = kTypes[static_cast<size_t>(trial % 4)];
    const auto scales = static_cast<Scales>(trial / 4 % 3);
    Builder b("table", 21);
    const ValueId table = dequantised(b, dtype, 90, 64, scales, scales == Scales::blocked ? 1 : 0, 16, trial % 2, random);
    const bool flat = trial % 3 == 0;
    const ValueId at = b.input("at", DType::i64, flat ? Dims{Dim("tokens")} : Dims{2, Dim("tokens")});
    ValueId y = b.op("Gather", {table, at});
    b.output(trial % 5 == 0 ? b.op("Relu", {y}) : y, "y");
    if (trial % 7 == 0) b.output(b.op("MatMul", {y, b.op("Transpose", {table})}), "scores");  // as models tie both ends
    const Graph g = b.finish();
    Tensor tokens(DType::i64, flat ? Shape{7} : Shape{2, 7});
    for (int64_t& t : tokens.as<int64_t>()) t = between(random, -90, 89);
    const Program p = compile(g, {.threads = 2});
    const auto info = p.describe({tokens.shape()});
    CHECK(info.plain == 0);
    CHECK(info.weight_bytes < (trial % 7 == 0 ? 2 : 1) * 90 * 64 + 8192);  // floats would be 23040
    check_against_plain(g, {tokens}, {.threads = 2});
  }
}

TEST_CASE("weights of 8 bits: more rows than one pass takes, with what follows the product row by row") {
  std::mt19937_64 random(5);
  for (int64_t m = 3; m <= 10; ++m) {
    for (const int64_t n : {40, 97}) {
      const int64_t k = 48;
      Builder b("rows", 21);
      const ValueId x = b.input("x", DType::f32, {m, k}), more = b.input("more", DType::f32, {m, n}),
                    gain = b.input("gain", DType::f32, {m, 1});
      Tensor w(DType::i8, {k, n});
      for (int8_t& v : w.as<int8_t>()) v = static_cast<int8_t>(random());
      const ValueId weights = b.op("DequantizeLinear",
                                   {b.constant("w", w), b.constant("scale", random_tensor({n}, 3, 0.001f, 0.01f)),
                                    b.constant("zero", Tensor::from<int8_t>({n}, std::vector<int8_t>(static_cast<size_t>(n), 0)))},
                                   {{"axis", int64_t{1}}});
      ValueId y = b.op("Add", {b.op("MatMul", {x, weights}), b.constant("bias", random_tensor({n}, 4))});
      y = b.op("Mul", {b.op("Tanh", {b.op("Add", {y, more})}), gain});
      b.output(b.op("Add", {y, more}), "y");
      const Graph g = b.finish();
      const std::vector<Tensor> inputs{random_tensor({m, k}, random()), random_tensor({m, n}, random()), random_tensor({m, 1}, random())};
      everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, inputs, o); });
    }
  }
}
