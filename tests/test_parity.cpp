// Comparison with references, statistics, cases.
#include <cmath>
#include <limits>

#include "support.hpp"

using namespace test;

TEST_CASE("comparison finds the worst element and says why") {
  const Tensor a = Tensor::from<float>({2, 2}, {1, 2, 3, 4}), b = Tensor::from<float>({2, 2}, {1, 2, 3.5f, 4});
  const Comparison c = compare("y", a, b);
  CHECK_FALSE(c.pass);
  CHECK(c.worst == Shape{1, 0});
  CHECK(c.max_absolute == doctest::Approx(0.5));
  CHECK(c.max_relative == doctest::Approx(0.5 / 3.5));
  CHECK(c.out_of_tolerance == 1);
  CHECK(has(c.reason, "got 3, expected 3.5"));
  CHECK(compare("y", a, b, Tolerance{0.5, 0, 0}).pass);
  CHECK_FALSE(compare("y", a, b, Tolerance{0.49, 0, 0}).pass);
  CHECK(compare("y", a, a, Tolerance{}).pass);
  CHECK(compare("y", a, a).cosine == doctest::Approx(1));
}

TEST_CASE("ulp distance") {
  const float one = 1.0f, next = std::nextafter(one, 2.0f);
  const Comparison c = compare("y", Tensor::from<float>({1}, {next}), Tensor::from<float>({1}, {one}), Tolerance{0, 0, 1});
  CHECK(c.max_ulp == 1);
  CHECK(c.pass);
  CHECK_FALSE(
      compare("y", Tensor::from<float>({1}, {std::nextafter(next, 2.0f)}), Tensor::from<float>({1}, {one}), Tolerance{0, 0, 1}).pass);
  CHECK(compare("y", Tensor::from<float>({1}, {-1e-45f}), Tensor::from<float>({1}, {1e-45f})).max_ulp == 2);
}

TEST_CASE("NaN and infinity are part of the answer") {
  const auto t = [](float a, float b) { return Tensor::from<float>({2}, {a, b}); };
  CHECK(compare("y", t(NAN, 1), t(NAN, 1)).pass);
  CHECK_FALSE(compare("y", t(NAN, 1), t(0, 1)).pass);
  CHECK_FALSE(compare("y", t(0, 1), t(NAN, 1), Tolerance{1e9, 1e9, 0}).pass);
  CHECK(compare("y", t(INFINITY, 1), t(INFINITY, 1)).pass);
  CHECK_FALSE(compare("y", t(INFINITY, 1), t(-INFINITY, 1), Tolerance{1e9, 1e9, 0}).pass);
}

TEST_CASE("dtype and shape differences fail whatever the tolerance") {
  const Tensor f = Tensor::from<float>({2}, {1, 2});
  CHECK(has(compare("y", f, Tensor::from<double>({2}, {1, 2})).reason, "dtype f32, expected f64"));
  CHECK(has(compare("y", f, Tensor::from<float>({2, 1}, {1, 2})).reason, "shape 2, expected 2x1"));
  CHECK_FALSE(compare("y", Tensor::from<int64_t>({1}, {3}), Tensor::from<int64_t>({1}, {4})).pass);
}

TEST_CASE("the demo model agrees with its float64 references") {
  Lane lane(compile(load(kDemo / "grain/grain.onnx")));
  const auto cases = read_cases(kDemo / "grain");
  REQUIRE(cases.size() == 2);
  for (const Case& c : cases) {
    const CaseResult r = check_case(lane, c, Tolerance{1e-5, 1e-4, 0});
    INFO(r.outputs[0].reason);
    CHECK(r.pass);
  }
  CHECK(check_case(lane, read_npz_case(kDemo / "grain/reference_inputs.npz", kDemo / "grain/reference_outputs.npz")).pass);
  // A reference that is off by a little must fail: the check can.
  Case wrong = cases[0];
  wrong.outputs[0].tensor = wrong.outputs[0].tensor.clone();
  wrong.outputs[0].tensor.as<float>()[2] += 0.01f;
  CHECK_FALSE(check_case(lane, wrong).pass);
}

TEST_CASE("latency statistics") {
  const Latency l = summarise({5, 1, 4, 2, 3});
  CHECK(l.median == 3);
  CHECK(l.min == 1);
  CHECK(l.max == 5);
  CHECK(l.mean == 3);
  CHECK(l.p90 == doctest::Approx(4.6));
  CHECK(l.deviation == doctest::Approx(std::sqrt(2.5)));
  CHECK(summarise({}).runs == 0);
}

TEST_CASE("random inputs are the same for the same seed") {
  const Program p = compile(load(kDemo / "grain/grain.onnx"), {.dims = {{"batch", 2}}});
  const auto a = random_inputs(p, p.bound_shapes(), 4), b = random_inputs(p, p.bound_shapes(), 4),
             c = random_inputs(p, p.bound_shapes(), 5);
  CHECK(identical(a[0], b[0]));
  CHECK_FALSE(identical(a[0], c[0]));
  CHECK(a[0].shape() == Shape{2, 3, 64, 64});
}
