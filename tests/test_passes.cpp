// Passes that clean up and fold. Patterns of exporters are in test_patterns.cpp.
#include "passes/passes.hpp"
#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;

}  // namespace

namespace {

std::vector<std::string> ops(const Graph& g) {
  std::vector<std::string> out;
  for (const Node& n : g.nodes) out.push_back(n.op);
  return out;
}

}  // namespace

TEST_CASE("constants fold, and only so far") {
  Builder b("fold");
  const auto x = b.input("x", DType::f32, {4});
  const auto k = b.op("Exp", {b.op("Neg", {b.constant("k", Tensor::from<float>({4}, {0, 0, 0, 0}))})});
  const auto big =
      b.op("Expand", {b.constant("one", Tensor::from<float>({1}, {1})), b.constant("s", Tensor::from<int64_t>({2}, {1000, 4}))});
  b.output(b.op("Add", {b.op("Mul", {x, k}), big}));
  Graph g = b.finish();
  const auto report = passes::fold_constants(g, 1000);
  CHECK(ops(g) == std::vector<std::string>{"Expand", "Mul", "Add"});
  CHECK(report.changes.size() == 2);
  CHECK(has(report.changes[0], "Neg"));
  passes::fold_constants(g);
  CHECK(ops(g) == std::vector<std::string>{"Mul", "Add"});
}

TEST_CASE("identities go, outputs keep their names") {
  Builder b("identity");
  const auto x = b.input("x", DType::f32, {4});
  auto y = b.op("Dropout", {b.op("Identity", {x})});
  y = b.op("Cast", {b.op("Relu", {y})}, {{"to", int64_t{1}}});
  y = b.op("Transpose", {y}, {{"perm", Ints{0}}});
  b.output(b.op("Identity", {y}), "last");
  Graph g = b.finish();
  const auto report = passes::remove_identities(g);
  CHECK(report.changes.size() == 4);
  CHECK(ops(g) == std::vector<std::string>{"Relu", "Identity"});
  CHECK(g.values[g.outputs[0]].name == "last");
  const std::vector<Tensor> in{Tensor::from<float>({4}, {-1, 0, 1, 2})};
  CHECK(identical(evaluate_plain(g, in)[0], Tensor::from<float>({4}, {0, 0, 1, 2})));
}

TEST_CASE("a dropout whose mask is read stays") {
  Builder b("mask");
  const auto out = b.ops("Dropout", {b.input("x", DType::f32, {4})}, 2);
  b.output(b.op("Relu", {out[0]}));
  b.output(out[1]);
  Graph g = b.finish();
  CHECK(passes::remove_identities(g).changes.empty());
  check_against_plain(g, {random_tensor({4}, 1)});
}

TEST_CASE("normalisation folds into every kind of product before it") {
  const auto norm = [](Builder& b, ValueId y, int64_t channels) {
    const auto vec = [&](const char* name, float low, float high) { return b.constant(name, random_tensor({channels}, 5, low, high)); };
    return b.op("BatchNormalization", {y, vec("s", 0.5f, 1), vec("b", -1, 1), vec("m", -1, 1), vec("v", 0.5f, 2)});
  };
  const auto fold = [&](const char* what, const Shape& x, auto product, int64_t channels, bool folds = true) {
    CAPTURE(what);
    Builder b("norm");
    b.output(norm(b, product(b, b.input("x", DType::f32, Dims(x.begin(), x.end()))), channels));
    const Graph before = b.finish();
    Graph after = before;
    CHECK(passes::fold_normalisation(after).changes.size() == (folds ? 1 : 0));
    passes::remove_dead(after);
    const std::vector<Tensor> in{random_tensor(x, 3)};
    const Comparison c = compare(what, evaluate_plain(after, in)[0], evaluate_plain(before, in)[0], Tolerance{1e-5, 1e-4, 0});
    INFO(c.reason);
    CHECK(c.pass);
  };
  const auto w = [](Builder& b, Shape s) { return b.constant("w", random_tensor(std::move(s), 1)); };
  const auto bias = [](Builder& b, Shape s) { return b.constant("bias", random_tensor(std::move(s), 2)); };
  fold(
      "convolution", {1, 3, 6, 6},
      [&](Builder& b, ValueId x) {
        return b.op("Conv", {x, w(b, {5, 3, 3, 3}), bias(b, {5})});
      },
      5);
  fold(
      "grouped", {1, 4, 6},
      [&](Builder& b, ValueId x) {
        return b.op("Conv", {x, w(b, {6, 2, 3})}, {{"group", int64_t{2}}});
      },
      6);
  fold(
      "transposed", {1, 4, 5},
      [&](Builder& b, ValueId x) {
        return b.op("ConvTranspose", {x, w(b, {4, 3, 3}), bias(b, {3})});
      },
      3);
  fold(
      "transposed, grouped", {1, 4, 5},
      [&](Builder& b, ValueId x) {
        return b.op("ConvTranspose", {x, w(b, {4, 3, 3})}, {{"group", int64_t{2}}});
      },
      6);
  fold(
      "product", {4, 3},
      [&](Builder& b, ValueId x) {
        return b.op("MatMul", {x, w(b, {3, 7})});
      },
      7);
  fold(
      "gemm", {4, 3},
      [&](Builder& b, ValueId x) {
        return b.op("Gemm", {x, w(b, {7, 3}), bias(b, {7})}, {{"transB", int64_t{1}}, {"beta", 0.5f}});
      },
      7);
  fold(
      "gemm with a column", {4, 3},
      [&](Builder& b, ValueId x) {
        return b.op("Gemm", {x, w(b, {3, 4}), bias(b, {4, 1})});
      },
      4, false);
  fold(
      "a product of rank 3", {2, 4, 3},
      [&](Builder& b, ValueId x) {
        return b.op("MatMul", {x, w(b, {3, 4})});
      },
      4, false);
}

TEST_CASE("a product read twice keeps its normalisation") {
  Builder b("shared");
  const auto x = b.input("x", DType::f32, {1, 2, 4, 4});
  const auto y = b.op("Conv", {x, b.constant("w", random_tensor({2, 2, 1, 1}, 1))});
  const auto vec = [&](const char* name) { return b.constant(name, random_tensor({2}, 5, 0.5f, 1)); };
  b.output(b.op("BatchNormalization", {y, vec("s"), vec("b"), vec("m"), vec("v")}));
  b.output(b.op("Relu", {y}));
  Graph g = b.finish();
  CHECK(passes::fold_normalisation(g).changes.empty());
  check_against_plain(g, {random_tensor({1, 2, 4, 4}, 1)});
}

TEST_CASE("dead nodes and their weights go") {
  Builder b("dead");
  const auto x = b.input("x", DType::f32, {2, 3});
  b.op("Tanh", {b.op("MatMul", {x, b.constant("w", random_tensor({3, 3}, 1))})});
  b.output(b.op("Relu", {x}));
  Graph g = b.finish();
  const auto report = passes::remove_dead(g);
  CHECK(report.changes.size() == 2);
  CHECK(ops(g) == std::vector<std::string>{"Relu"});
  CHECK_FALSE(g.values[g.find_value("w")].constant.has_value());
}

TEST_CASE("cutting drops inputs nobody reads") {
  Builder b("cut");
  const auto x = b.input("x", DType::f32, {2}), y = b.input("y", DType::f32, {2});
  b.output(b.op("Add", {b.op("Relu", {x}, {}, "early"), y}), "late");
  Graph g = b.finish();
  passes::cut_to_outputs(g, {"early"});
  CHECK(g.inputs.size() == 1);
  CHECK(ops(g) == std::vector<std::string>{"Relu"});
}
