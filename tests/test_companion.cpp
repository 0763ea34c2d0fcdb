// The companion domain beyond the numpy cases: maps, malformed models, special transforms.
#include <cmath>

#include "support.hpp"

using namespace test;
using Data = Attribute::Data;
using I = std::vector<int64_t>;
using F = std::vector<float>;
using S = std::vector<std::string>;

namespace {

std::vector<Tensor> run(const char* op, const Tensor& x, std::map<std::string, Data> attributes, int outputs = 1) {
  Builder b("one", 17);
  b.import_domain("ai.onnx.ml", 3);
  const ValueId in = b.input("x", x.dtype(), Dims(x.shape().begin(), x.shape().end()));
  for (ValueId v : b.ops(std::string("ai.onnx.ml::") + op, {in}, outputs, std::move(attributes))) b.output(v);
  const Graph g = b.finish();
  const auto plain = evaluate_plain(g, std::span(&x, 1));
  Lane lane(compile(g, {.threads = 1}));
  const Outputs out = lane.run(std::span(&x, 1));
  for (size_t i = 0; i < plain.size(); ++i) CHECK(identical(plain[i], out[i]));
  return plain;
}

std::map<std::string, Data> stump() {
  return {{"nodes_treeids", I{0, 0, 0}},      {"nodes_nodeids", I{0, 1, 2}},
          {"nodes_featureids", I{0, 0, 0}},   {"nodes_modes", S{"BRANCH_LT", "LEAF", "LEAF"}},
          {"nodes_values", F{0.5f, 0, 0}},    {"nodes_truenodeids", I{1, 0, 0}},
          {"nodes_falsenodeids", I{2, 0, 0}}, {"target_treeids", I{0, 0}},
          {"target_nodeids", I{1, 2}},        {"target_ids", I{0, 0}},
          {"target_weights", F{-1, 3}}};
}

}  // namespace

TEST_CASE("scores to maps") {
  const auto out = run("ZipMap", Tensor::from<float>({2, 2}, {0.25f, 0.75f, 1, 0}), {{"classlabels_strings", S{"oak", "ash"}}})[0];
  REQUIRE(out.kind() == Kind::sequence);
  REQUIRE(out.items().size() == 2);
  const Tensor& second = out.items()[1];
  CHECK(second.kind() == Kind::map);
  CHECK(second.items()[0].as<std::string>()[0] == "oak");
  CHECK(second.items()[1].as<float>()[0] == 1);
  CHECK(has(error_of([] { run("ZipMap", Tensor::from<float>({1, 2}, {1, 0}), {{"classlabels_int64s", I{1, 2, 3}}}); }), "3 class labels"));
}

TEST_CASE("two classes from one score, and every transform") {
  const Tensor x = Tensor::from<float>({2, 1}, {2, -1});
  const auto scores = [&](const char* how) {
    return run("LinearClassifier", x, {{"coefficients", F{1}}, {"classlabels_ints", I{7, 8}}, {"post_transform", std::string(how)}}, 2);
  };
  const auto none = scores("NONE");
  CHECK(none[0].as<int64_t>()[0] == 8);
  CHECK(none[0].as<int64_t>()[1] == 7);
  CHECK(none[1].as<float>()[0] == -2);
  const auto logistic = scores("LOGISTIC");
  CHECK(logistic[1].as<float>()[1] == doctest::Approx(1 / (1 + std::exp(-2.0))));
  CHECK(logistic[1].as<float>()[0] + logistic[1].as<float>()[1] == doctest::Approx(1));
  const Tensor middle =
      run("LinearRegressor", Tensor::from<float>({1, 1}, {0.975f}), {{"coefficients", F{1}}, {"post_transform", std::string("PROBIT")}})[0];
  CHECK(middle.as<float>()[0] == doctest::Approx(1.959964).epsilon(1e-5));
  CHECK(has(error_of([&] { scores("SOFTEST"); }), "attribute 'post_transform' is 'SOFTEST'"));
}

TEST_CASE("trees that are none") {
  const Tensor x = Tensor::from<float>({3, 1}, {0, 0.5f, NAN});
  const Tensor y = run("TreeEnsembleRegressor", x, stump())[0];
  CHECK(y.as<float>()[0] == -1);
  CHECK(y.as<float>()[1] == 3);
  CHECK(y.as<float>()[2] == 3);  // what is missing goes the false way unless the tree says otherwise
  auto tracked = stump();
  tracked["nodes_missing_value_tracks_true"] = I{1, 0, 0};
  CHECK(run("TreeEnsembleRegressor", x, tracked)[0].as<float>()[2] == -1);
  const auto wrong = [&](const char* key, Data value) {
    auto a = stump();
    a[key] = std::move(value);
    return error_of([&] { run("TreeEnsembleRegressor", x, a); });
  };
  CHECK(has(wrong("nodes_truenodeids", I{9, 0, 0}), "which it does not have"));
  CHECK(has(wrong("nodes_falsenodeids", I{0, 0, 0}), "circle"));
  CHECK(has(wrong("nodes_featureids", I{4, 0, 0}), "feature 4 of a row of 1"));
  CHECK(has(wrong("nodes_modes", S{"BRANCH_ODD", "LEAF", "LEAF"}), "BRANCH_ODD"));
  CHECK(has(wrong("target_ids", I{0, 5}), "target 5 of 1"));
  CHECK(has(wrong("nodes_values", F{1}), "differ in length"));
}
