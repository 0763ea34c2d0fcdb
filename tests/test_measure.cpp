// Measuring: that figures add up, and that the probe measures something.
#include <algorithm>
#include <thread>

#include "support.hpp"

using namespace test;

TEST_CASE("this machine is described") {
  const MachineInfo m = machine_info();
  CHECK_FALSE(m.cpu.empty());
  CHECK(m.usable >= 1);
  CHECK(m.usable == usable_cores());
  CHECK(m.memory_bytes > (size_t{64} << 20));
  REQUIRE_FALSE(m.isas.empty());
  CHECK(m.isas.front() == "scalar");
}

// Instrumented code runs at no limit of the machine.
TEST_CASE("the probe: wider instruction sets are faster, more threads never much slower" * doctest::skip(sanitized())) {
  const auto isas = machine_info().isas;
  const double scalar = measure_fma_peak("scalar", 1, 0.03), best = measure_fma_peak(isas.back(), 1, 0.03);
  CHECK(scalar > 0.1);
  if (isas.size() > 1) CHECK(best > 1.5 * scalar);
  CHECK(measure_fma_peak(isas.back(), 2, 0.03) > 0.5 * best);
  CHECK(has(error_of([] { measure_fma_peak("quantum", 1); }), "'quantum'"));
}

TEST_CASE("the probe: small working sets read faster than memory" * doctest::skip(sanitized())) {
  const double l1 = measure_read_bandwidth("", 16 << 10, 1, 0.03), dram = measure_read_bandwidth("", size_t{128} << 20, 1, 0.1);
  CHECK(dram > 0.1);
  CHECK(l1 > dram);
}

TEST_CASE("interleaving reports the ratio of medians' rounds") {
  const auto wait = [](int us) {
    const auto end = std::chrono::steady_clock::now() + std::chrono::microseconds(us);
    while (std::chrono::steady_clock::now() < end) {
    }
  };
  int a = 0, b = 0;
  const Interleaved r = interleave([&] { wait(200), ++a; }, [&] { wait(800), ++b; }, 11);
  CHECK(a == 12);  // one warm-up
  CHECK(b == 12);
  CHECK(r.ratio > 2);
  CHECK(r.ratio < 8);
  CHECK(r.low <= r.ratio);
  CHECK(r.high >= r.ratio);
  CHECK(r.a.runs == 11);
}

TEST_CASE("bench counts what it did") {
  const Program p = compile(load(kDemo / "grain/grain.onnx"), {.threads = 1, .dims = {{"batch", 2}}});
  const auto inputs = random_inputs(p, p.bound_shapes(), 1);
  BenchOptions o;
  o.warmup_seconds = 0.01;
  o.min_seconds = 0.1;
  o.max_seconds = 60;  // only the slowest machine gets there before it has its runs
  const BenchResult r = bench(p, 1, inputs, o);
  CHECK(r.latency.runs >= o.min_runs);
  CHECK(r.latency.min <= r.latency.median);
  CHECK(r.latency.median <= r.latency.p90);
  CHECK(r.latency.p90 <= r.latency.p99);
  CHECK(r.latency.p99 <= r.latency.max);
  CHECK(r.flops == doctest::Approx(2 * 32.35e6).epsilon(0.01));
  CHECK(r.gflops == doctest::Approx(r.flops / r.latency.median / 1e9));
  CHECK(r.share > 0);
  CHECK(r.peak_gflops > 0);
  CHECK(r.share == doctest::Approx(r.gflops / r.peak_gflops));
  CHECK(r.runs_per_second * r.seconds == doctest::Approx(static_cast<double>(r.latency.runs)));
  o.lanes = 2;
  CHECK(bench(p, 1, inputs, o).latency.runs >= 2 * o.min_runs);
  o.lanes = 0;
  CHECK(has(error_of([&] { bench(p, 1, inputs, o); }), "lanes is 0"));
}

TEST_CASE("a failing run ends the bench with its error, with several lanes too") {
  Builder b("gather");
  b.output(b.op("Gather", {b.input("x", DType::f32, {5, 3}), b.input("i", DType::i64, {2})}));
  const Program p = compile(b.finish(), {.threads = 1});
  const std::vector<Tensor> inputs{random_tensor({5, 3}, 1), Tensor::from<int64_t>({2}, {0, 9})};
  BenchOptions o;
  o.lanes = 3;
  o.min_seconds = 0.05;
  CHECK(has(error_of([&] { bench(p, 1, inputs, o); }), "index 9"));
}

TEST_CASE("step times are kept when asked for, and add up to no more than the run") {
  Lane lane(compile(load(kDemo / "grain/grain.onnx"), {.threads = 1, .dims = {{"batch", 1}}}));
  const Tensor x = random_tensor({1, 3, 64, 64}, 1);
  lane.run({{"image", x}});
  CHECK(lane.step_times().empty());
  lane.time_steps(true);
  const auto start = std::chrono::steady_clock::now();
  lane.run({{"image", x}});
  const double whole = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  const auto times = lane.step_times();
  CHECK(times.size() == lane.program().describe().steps.size());
  double sum = 0;
  for (const StepTime& t : times) {
    CHECK(t.seconds > 0);
    sum += t.seconds;
  }
  CHECK(sum <= whole);
}

TEST_CASE("steps inside control flow are timed and counted by bench and profile") {
  Builder body("body");
  body.input("trip", DType::i64, {});
  const auto go = body.input("go", DType::boolean, {});
  const auto h = body.input("h", DType::f32, {16, 64});
  const auto next = body.op("Tanh", {body.op("MatMul", {h, body.outer("w")}, {}, "p")}, {}, "h_next");
  body.output(body.op("Identity", {go}, {}, "go_on"));
  body.output(next);
  Builder b("loop");
  const auto x = b.input("x", DType::f32, {16, 64});
  b.constant("w", random_tensor({64, 64}, 1));
  const auto trips = b.input("trips", DType::i64, {});  // a known number would be written out
  b.output(b.op("Loop", {trips, kAbsent, b.op("Exp", {x}, {}, "e")}, {{"body", body.finish_body()}}, "y"));
  CompileOptions options;
  options.threads = 1;
  const Program program = compile(b.finish(), options);
  const std::vector<Tensor> inputs{random_tensor({16, 64}, 2), Tensor::from<int64_t>({}, {7})};
  const double product = 2.0 * 16 * 64 * 64;

  Lane lane(program);
  lane.run(std::span<const Tensor>(inputs));
  CHECK(lane.inner_steps().empty());
  lane.time_steps(true);
  for (int again = 0; again < 2; ++again) {  // counted anew in each run
    lane.run(std::span<const Tensor>(inputs));
    const auto inner = lane.inner_steps();
    REQUIRE(inner.size() == 1);
    CHECK(inner[0].body == "body");
    CHECK(inner[0].runs == 7);
    CHECK(inner[0].edition->steps.size() == inner[0].seconds.size());
    CHECK(program.describe().steps[inner[0].step].op == "Loop");
    CHECK(inner[0].edition->flops >= product);
  }

  ProfileOptions po;
  po.runs = 5;
  const Profile p = profile(lane, inputs, Roofline(program.options().isa, 1), po);
  REQUIRE(p.inner.size() == 1);
  CHECK(p.inner[0].parent == -1);
  CHECK(p.inner[0].runs == 7);
  CHECK(p.flops >= 7 * product);
  double inside = 0;
  for (const StepProfile& s : p.inner[0].steps) inside += s.latency.median;
  CHECK(inside > 0);
  const StepProfile& around = p.steps[p.inner[0].step];
  CHECK(inside <= around.latency.p90 * 1.5);
  const auto by_op = [&](const char* op) { return std::ranges::find(p.ops, std::string(op), &OpProfile::op); };
  REQUIRE(by_op("MatMul") != p.ops.end());
  CHECK(by_op("MatMul")->flops >= 7 * product);
  REQUIRE(by_op("Loop") != p.ops.end());
  CHECK(by_op("Loop")->seconds <= around.latency.median);

  BenchOptions bo;
  bo.min_seconds = 0.02;
  bo.warmup_seconds = 0.02;
  const BenchResult r = bench(program, 1, inputs, bo);
  CHECK(r.flops >= 7 * product);
  CHECK(r.not_counted == 0);
}
