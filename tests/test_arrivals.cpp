// Requests that arrive whether or not anybody is free; and what figures depend on.
#include <algorithm>

#include "support.hpp"

namespace {

using namespace test;

// Takes about so many microseconds, by a kernel of ours that sleeps on the clock.
Program sleeper(int64_t microseconds) {
  static const bool once = [] {
    OpDef d;
    d.domain = "test.arrivals";
    d.name = "Wait";
    d.infer = [](InferContext& c) { c.set(0, c.dtype(0), c.dims(0)); };
    d.plain = [](const EvalContext& c) {
      const auto until = std::chrono::steady_clock::now() + std::chrono::microseconds(c.node.integer("us", 0));
      while (std::chrono::steady_clock::now() < until) {
      }
      return std::vector<Tensor>{c.in(0).clone()};
    };
    register_op(d);
    return true;
  }();
  (void)once;
  Builder b("sleeper");
  b.import_domain("test.arrivals", 1);
  const auto x = b.input("x", DType::f32, {1});
  b.output(b.op("test.arrivals::Wait", {x}, {{"us", microseconds}}), "y");
  CompileOptions o;
  o.threads = 1;
  return compile(b.finish(), o);
}

const std::vector<Tensor> kOne{Tensor::from<float>({1}, {1})};

TEST_CASE("below what a lane can serve requests wait little; above it the line grows") {
  const Program p = sleeper(2000);  // 500 a second at most
  ArrivalOptions o;
  o.seconds = 1;
  o.arrivals = Arrivals::even;
  const ArrivalResult calm = under_load(p, 1, kOne, 100, o);
  CHECK(calm.requests == 100);
  CHECK(calm.unserved == 0);
  CHECK(calm.service.median >= 0.0019);
  CHECK(calm.total.p99 >= calm.service.median);
  CHECK(calm.offered == doctest::Approx(100).epsilon(0.02));

  // A moment of quiet is enough: somebody else may have the processor for longer than a request takes.
  ArrivalOptions brief = o;
  brief.seconds = 0.1;
  bool waited_little = false;
  for (int i = 0; i < 100 && !waited_little; ++i) {
    const ArrivalResult r = under_load(p, 1, kOne, 100, brief);
    waited_little = r.waiting.median < r.service.median;
  }
  CHECK(waited_little);

  o.drain_seconds = 5;
  const ArrivalResult crowded = under_load(p, 1, kOne, 1500, o);
  CHECK_FALSE(crowded.kept_up);
  CHECK(crowded.served < 600);
  CHECK(crowded.waiting.median > 0.2);  // half the requests of a second of arrivals wait for most of it
  CHECK(crowded.longest > 300);
  CHECK(crowded.busy > 0.8);
  // Waiting and service come to the whole, request by request.
  CHECK(crowded.waiting.mean + crowded.service.mean == doctest::Approx(crowded.total.mean).epsilon(0.01));

  o.drain_seconds = 0.1;
  const ArrivalResult cut = under_load(p, 1, kOne, 1500, o);
  CHECK(cut.unserved > 0);
  CHECK_FALSE(cut.kept_up);
}

TEST_CASE("random arrivals have the rate asked for, the same ones for the same seed, and are bounded") {
  const Program p = sleeper(10);
  ArrivalOptions o;
  o.seconds = 2;
  const ArrivalResult a = under_load(p, 1, kOne, 800, o), b = under_load(p, 1, kOne, 800, o);
  CHECK(a.requests == b.requests);
  CHECK(a.requests > 1400);
  CHECK(a.requests < 1800);
  o.seed = 2;
  CHECK(under_load(p, 1, kOne, 800, o).requests != a.requests);
  o.requests = 50;
  CHECK(under_load(p, 1, kOne, 800, o).requests == 50);
}

TEST_CASE("the highest rate that keeps a limit lies below what the lane can do at all") {
  const Program p = sleeper(2000);
  ArrivalOptions o;
  o.seconds = 0.5;
  o.arrivals = Arrivals::even;
  const HighestRate h = highest_rate(p, 1, kOne, 0.2, o);
  CHECK(h.rate < 1500);
  CHECK(h.tried.size() >= 2);
  // What it says it has seen: the limit kept there, and broken or lines left at some higher rate.
  for (const ArrivalResult& r : h.tried) {
    if (r.rate == h.rate) CHECK((r.unserved == 0 && r.total.p99 <= h.limit));
  }
  CHECK(std::ranges::any_of(h.tried, [&](const ArrivalResult& r) { return r.rate > h.rate && (r.unserved > 0 || r.total.p99 > h.limit); }));
  // What one request takes is over the limit already.
  CHECK(highest_rate(p, 1, kOne, 0.0005, o).rate == 0);
}

TEST_CASE("what cannot be asked for is said") {
  const Program p = sleeper(10);
  CHECK(error_of([&] { under_load(p, 1, kOne, 0); }).find("rate is 0") != std::string::npos);
  CHECK(error_of([&] { under_load(p, 1, kOne, 1e9); }).find("rate is") != std::string::npos);
  ArrivalOptions o;
  o.lanes = 0;
  CHECK(error_of([&] { under_load(p, 1, kOne, 10, o); }).find("lanes is 0") != std::string::npos);
  o = {};
  o.seconds = 1e9;
  CHECK(error_of([&] { under_load(p, 1, kOne, 10, o); }).find("too many to keep") != std::string::npos);
  CHECK(error_of([&] { highest_rate(p, 1, kOne, 0); }).find("limit is 0") != std::string::npos);
  // What a run throws comes out.
  const std::vector<Tensor> wrong{Tensor::from<float>({2}, {1, 2})};
  CHECK(error_of([&] { under_load(p, 1, wrong, 10); }).find("shape") != std::string::npos);
}

TEST_CASE("the environment is told, and names nobody") {
  const Environment e = environment();
  CHECK_FALSE(e.version.empty());
  CHECK_FALSE(e.compiler.empty());
  CHECK(e.page_bytes >= 4096);
  CHECK_FALSE(e.affinity.empty());
  CHECK(e.machine.usable >= 1);
  CHECK(peak_memory_bytes() > (1 << 20));
  char host[256] = "";
  gethostname(host, sizeof host - 1);
  for (const std::string& text : {e.version, e.compiler, e.system, e.governor, e.affinity, e.huge_pages}) {
    if (std::strlen(host) > 3) CHECK(text.find(host) == std::string::npos);
  }
}

TEST_CASE("bench tells the first run, the warm-up, and what reading the weights alone would take") {
  Builder b("rows");
  const auto x = b.input("x", DType::f32, {1, 512});
  b.output(b.op("MatMul", {x, b.constant("w", random_tensor({512, 2048}, 1))}), "y");
  CompileOptions co;
  co.threads = 1;
  const Program p = compile(b.finish(), co);
  BenchOptions o;
  o.min_seconds = 0.2;
  const BenchResult r = bench(p, 1, {random_tensor({1, 512}, 2)}, o);
  CHECK(r.first_seconds > 0);
  CHECK(r.warmup_runs >= 6);
  CHECK(r.weight_bytes >= 512 * 2048 * 4);
  CHECK(r.read_bandwidth > 1e8);
  CHECK(r.share_of_reading > 0);
  CHECK(r.latency.p99 <= r.latency.p999);
}

}  // namespace
