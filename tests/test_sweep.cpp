// Sweeps of single kernels, the choice of lanes, and the crew itself.
#include <atomic>
#include <thread>

#include "runtime/crew.hpp"
#include "support.hpp"

using namespace test;

TEST_CASE("sweep cases have the sizes their names say") {
  const auto one = [](const std::string& op, const std::string& size) {
    SweepRequest r;
    r.op = op;
    r.sizes = {size};
    return sweep_cases(r).at(0);
  };
  CHECK(one("MatMul", "3x5x7").flops == 2 * 3 * 5 * 7);
  CHECK(one("MatMul", "4*3x5x7").flops == 4 * 2 * 3 * 5 * 7);
  CHECK(one("MatMul", "3x5x7").read == 4 * (3 * 7 + 7 * 5));
  CHECK(one("MatMul", "3x5x7").written == 4 * 3 * 5);
  CHECK(one("Conv", "1x4x8x8 6x3x3 p1 g2").flops == 2.0 * 6 * 64 * 2 * 9);
  CHECK(one("Conv", "1x4x8x8 6x3x3 s2 p1").written == 4 * 6 * 16);
  CHECK(one("Exp", "2^10").size == 1024);
  CHECK(one("Mul+Add+Relu", "4096").graph.nodes.size() == 3);
  CHECK(one("Attention", "1x2x5x8").flops == 4 * 2 * 25 * 8);
  CHECK(one("LSTM", "3x2x4x5").flops == 2.0 * 3 * 2 * 4 * 5 * 9);
  SweepRequest range;
  range.op = "Exp";
  range.sizes = {"2^10..2^14"};
  const auto cases = sweep_cases(range);
  REQUIRE(cases.size() == 3);
  CHECK(cases.back().size == 16384);
  CHECK(has(error_of([&] { one("MatMul", "3x5"); }), "size '3x5' of MatMul: expected MxNxK"));
  CHECK(has(error_of([&] { one("Conv", "1x4x8x8"); }), "expected NxCxHxW FxKHxKW"));
  CHECK(has(error_of([&] { one("Conv", "1x4x8x8 6x3x3 q2"); }), "expected"));
  CHECK(has(error_of([&] { one("Exp", "-5"); }), "a number of elements"));
  CHECK(has(error_of([&] { one("Exp", "2^99"); }), "a number of elements"));
  for (const char* huge : {"99999999999^2", "9223372036854775807", "9223372036854775807^2", "99999999999999999999"}) {
    CAPTURE(std::string(huge));
    CHECK(has(error_of([&] { one("Exp", huge); }), "a number of elements"));
  }
  CHECK(has(error_of([&] { one("NonZero", "64"); }), "'NonZero' is not one that can be swept"));
}

TEST_CASE("an implementation of one's own is checked, then timed; a wrong one is not timed") {
  static std::atomic<int> calls{0};
  const auto relu = [](bool right) {
    return [right](const SweepTask& t) -> std::function<void()> {
      if (t.node.op != "Relu") return {};
      return [in = t.operands[0], out = t.outputs[0], right]() mutable {
        ++calls;
        for (size_t i = 0; i < in.as<float>().size(); ++i)
          out.as<float>()[i] = in.as<float>()[i] < 0 ? (right ? 0 : 0.5f) : in.as<float>()[i];
      };
    };
  };
  register_implementation({"relu of the test", relu(true)});
  register_implementation({"wrong relu of the test", relu(false)});
  CHECK(has(error_of([&] { register_implementation({"relu of the test", relu(true)}); }), "is taken"));
  CHECK(has(error_of([&] { register_implementation({"plain", relu(true)}); }), "is taken"));
  CHECK(has(error_of([&] { register_implementation({"empty", {}}); }), "prepare"));
  SweepRequest r;
  r.op = "Relu";
  r.sizes = {"1000"};
  const auto cases = sweep_cases(r);
  SweepOptions o;
  o.rounds = 3;
  o.visit_seconds = 1e-4;
  o.with = {"scalar", "relu of the test", "wrong relu of the test", "plain"};
  const SweepRow row = sweep(cases[0], o);
  REQUIRE(row.results.size() == 4);
  CHECK(row.limit_seconds > 0);
  for (int i : {0, 1, 3}) {
    CHECK(row.results[i].skipped.empty());
    CHECK(row.results[i].check.pass);
    CHECK(row.results[i].latency.median > 0);
    CHECK(row.results[i].share > 0);
  }
  CHECK(row.results[2].wrong);
  CHECK(has(row.results[2].skipped, "wrong"));
  CHECK(row.results[2].latency.runs == 0);
  CHECK(calls > 3);
  o.with = {"nobody"};
  CHECK(has(error_of([&] { sweep(cases[0], o); }), "there is no implementation 'nobody'; there are"));
  SUBCASE("what does not do the op is left out, or named when it was asked for") {
    r.op = "Exp";
    const auto other = sweep_cases(r);
    o.with = {"relu of the test"};
    CHECK(sweep(other[0], o).results.at(0).skipped == "does not do this");
    o.with = {};
    for (const SweepResult& result : sweep(other[0], o).results) CHECK(!has(result.implementation, "relu"));
  }
}

TEST_CASE("every kind of sweep passes its check under every instruction set") {
  const std::pair<const char*, const char*> all[] = {{"MatMul", "5x33x17"},
                                                     {"MatMul", "3*5x33x17"},
                                                     {"QLinearMatMul", "5x33x17"},
                                                     {"MatMulInteger", "5x33x17"},
                                                     {"Conv", "2x5x9x8 7x3x3 s2 p1"},
                                                     {"Conv", "1x4x20 6x5 p2"},
                                                     {"ConvTranspose", "1x4x5x5 3x2x2 s2"},
                                                     {"QLinearConv", "1x5x9x8 7x3x3 p1"},
                                                     {"MaxPool", "1x5x9x8 3x3 s2 p1"},
                                                     {"GlobalAveragePool", "1x5x9x8"},
                                                     {"Softmax", "4096"},
                                                     {"LayerNormalization", "4096"},
                                                     {"ReduceSum", "4096"},
                                                     {"ArgMax", "4096"},
                                                     {"TopK", "4096"},
                                                     {"Transpose", "4096"},
                                                     {"Where", "4096"},
                                                     {"Exp", "4096"},
                                                     {"Mul+Add+Sigmoid", "4096"},
                                                     {"Attention", "1x2x9x8"},
                                                     {"LSTM", "3x2x4x5"},
                                                     {"GRU", "3x2x4x5"},
                                                     {"RNN", "3x2x4x5"}};
  for (const auto& [op, size] : all) {
    CAPTURE(std::string(op));
    SweepRequest r;
    r.op = op;
    r.sizes = {size};
    SweepOptions o;
    o.rounds = 1;
    o.visit_seconds = 1e-5;
    o.threads = 2;
    for (const SweepResult& result : sweep(sweep_cases(r).at(0), o).results) {
      CAPTURE(result.implementation);
      CHECK(!result.wrong);
    }
  }
}

TEST_CASE("lanes are chosen by what was measured") {
  Builder b("small");
  b.output(b.op("Relu", {b.input("x", DType::f32, {8, 8})}), "y");
  const Graph g = b.finish();
  const std::vector<Tensor> in{random_tensor({8, 8}, 1)};
  const LaneChoice c = choose_lanes([&](int threads) { return compile(g, {.threads = threads}); }, in, Prefer::throughput, 2, 1);
  REQUIRE(c.tried.size() == 3);  // 1 x 1, 2 x 1, 1 x 2
  double best = 0;
  for (const LaneCandidate& t : c.tried) best = std::max(best, t.runs_per_second);
  for (const LaneCandidate& t : c.tried) {
    if (t.lanes == c.lanes && t.threads == c.threads) CHECK(t.runs_per_second >= best / 1.04);
  }
  CHECK(has(c.why, "runs a second"));
}

TEST_CASE("a crew runs every task once, more threads than cores, late workers or none") {
  for (int threads : {2, 3, 9}) {
    Crew crew(threads);
    for (int round = 0; round < 3000; ++round) {
      const int64_t tasks = round % 17;
      std::vector<std::atomic<int>> ran(static_cast<size_t>(tasks));
      crew.each(tasks, [&](int64_t task, int worker) {
        CHECK_UNARY(worker >= 0 && worker < threads);
        ran[static_cast<size_t>(task)].fetch_add(1);
      });
      for (const auto& n : ran) REQUIRE(n.load() == 1);
      if (round % 1000 == 0) std::this_thread::sleep_for(std::chrono::milliseconds(2));  // everyone asleep
    }
  }
}
