// Programs and lanes as an application uses them: copying, moving, several inputs and outputs, binding, editions at once.
#include <dirent.h>
#include <sched.h>
#include <unistd.h>

#include <algorithm>
#include <set>
#include <thread>

#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;

// y = relu(a + b), z = max over the last axis, n = how many rows.
Graph sums() {
  Builder b("sums");
  const auto x = b.input("a", DType::f32, {"rows", 8}), y = b.input("b", DType::f32, {8});
  const auto s = b.op("Add", {x, y});
  b.output(b.op("Relu", {s}), "y");
  b.output(b.op("ReduceMax", {s}, {{"axes", Ints{1}}, {"keepdims", int64_t{0}}}), "z");
  b.output(b.op("Shape", {b.op("Gather", {x, b.constant("column", Tensor::from<int64_t>({}, {0}))}, {{"axis", int64_t{1}}})}), "n");
  b.metadata("shop", "Alder Row");
  return b.finish();
}

// Ids of this process's threads.
std::set<int> threads_now() {
  std::set<int> ids;
  DIR* folder = opendir("/proc/self/task");
  REQUIRE(folder != nullptr);
  while (const dirent* entry = readdir(folder)) {
    if (entry->d_name[0] != '.') ids.insert(std::atoi(entry->d_name));
  }
  closedir(folder);
  return ids;
}

}  // namespace

TEST_CASE("a program tells its inputs, outputs and metadata") {
  const Program p = compile(sums(), {.threads = 2});
  REQUIRE(p.inputs().size() == 2);
  CHECK(p.inputs()[0].name == "a");
  CHECK(to_string(*p.inputs()[0].dims) == "rows x 8");
  REQUIRE(p.outputs().size() == 3);
  CHECK(p.outputs()[2].dtype == DType::i64);
  CHECK(p.metadata().at("shop") == "Alder Row");
  CHECK(p.options().threads == 2);
  CHECK(p.options().isa == machine_info().isas.back());
}

TEST_CASE("inputs by name in any order, outputs by name and position") {
  Lane lane(compile(sums(), {.threads = 1}));
  const Tensor a = random_tensor({3, 8}, 1), b = random_tensor({8}, 2);
  const Outputs out = lane.run({{"b", b}, {"a", a}});
  CHECK(out.size() == 3);
  CHECK(out.name(1) == "z");
  CHECK(identical(out["z"], out[1]));
  CHECK(out["n"].as<int64_t>()[0] == 3);
  CHECK(out["y"].shape() == Shape{3, 8});
  const std::vector<Tensor> in{a, b};
  CHECK(identical(lane.run(std::span<const Tensor>(in))["y"], out["y"]));
  CHECK(has(error_of([&] { lane.run(std::span<const Tensor>(in).first(1)); }), "takes 2 inputs, got 1"));
}

TEST_CASE("shapes change from run to run, back and forth") {
  Lane lane(compile(sums(), {.threads = 2, .editions = 3}));
  const Tensor b = random_tensor({8}, 2);
  for (int round = 0; round < 3; ++round) {
    for (int64_t rows : {1, 7, 3, 0, 40, 7}) {
      const Tensor a = random_tensor({rows, 8}, rows);
      const Outputs out = lane.run({{"a", a}, {"b", b}});
      CHECK(out["n"].as<int64_t>()[0] == rows);
      for (int64_t i = 0; i < rows; ++i) {
        float top = -1e9f;
        for (int64_t k = 0; k < 8; ++k) top = std::max(top, a.as<float>()[i * 8 + k] + b.as<float>()[k]);
        CHECK(out["z"].as<float>()[i] == top);
      }
    }
  }
}

TEST_CASE("lanes move, programs copy, and a lane outlives its program's other owners") {
  const Tensor a = random_tensor({2, 8}, 1), b = random_tensor({8}, 2);
  std::optional<Lane> kept;
  Tensor expected;
  {
    Program p = compile(sums(), {.threads = 2});
    Program copy = p;
    Lane first(copy);
    expected = first.run({{"a", a}, {"b", b}})["y"].clone();
    kept.emplace(std::move(first));
  }
  CHECK(identical(kept->run({{"a", a}, {"b", b}})["y"], expected));
  Lane other = std::move(*kept);
  CHECK(identical(other.run({{"a", a}, {"b", b}})["y"], expected));
  const Outputs out = other.run({{"a", a}, {"b", b}});
  kept.reset();
  CHECK(identical(out["y"], expected));
}

TEST_CASE("results outlive their lane") {
  const Tensor a = random_tensor({2, 8}, 1), b = random_tensor({8}, 2);
  std::optional<Outputs> out;
  {
    Lane lane(compile(sums(), {.threads = 1}));
    out = lane.run({{"a", a}, {"b", b}});
  }
  CHECK((*out)["y"].size() == 16);
  CHECK((*out)["n"].as<int64_t>()[0] == 2);
}

TEST_CASE("some outputs bound, the others not") {
  Lane lane(compile(sums(), {.threads = 1}));
  const Tensor a = random_tensor({2, 8}, 1), b = random_tensor({8}, 2);
  const Tensor expected = lane.run({{"a", a}, {"b", b}})["z"].clone();
  float mine[2] = {0, 0};
  lane.bind_output("z", Tensor::borrow(DType::f32, {2}, mine));
  lane.run({{"a", a}, {"b", b}});
  CHECK(mine[0] == expected.as<float>()[0]);
  CHECK(mine[1] == expected.as<float>()[1]);
  lane.bind_output("z", Tensor());  // let go again
  mine[0] = -7;
  CHECK(identical(lane.run({{"a", a}, {"b", b}})["z"], expected));
  CHECK(mine[0] == -7);
  CHECK(has(error_of([&] { lane.bind_output("q", Tensor()); }), "the outputs are y, z, n"));
}

TEST_CASE("many threads ask one program for many editions at once") {
  const Program p = compile(sums(), {.threads = 1, .editions = 4});
  std::atomic<int> wrong{0};
  std::vector<std::jthread> threads;
  for (int t = 0; t < 6; ++t) {
    threads.emplace_back([&, t] {
      Lane lane(p);
      const Tensor b = random_tensor({8}, 2);
      for (int i = 0; i < 40; ++i) {
        const int64_t rows = (i * 7 + t) % 6;
        const Tensor a = random_tensor({rows, 8}, i);
        if (lane.run({{"a", a}, {"b", b}})["n"].as<int64_t>()[0] != rows) ++wrong;
      }
    });
  }
  threads.clear();
  CHECK(wrong == 0);
  CHECK(p.editions_compiled() >= 6);
}

TEST_CASE("an error leaves a lane usable") {
  Lane lane(compile(sums(), {.threads = 2}));
  const Tensor a = random_tensor({2, 8}, 1), b = random_tensor({8}, 2), bad = random_tensor({9}, 2);
  for (int i = 0; i < 5; ++i) {
    CHECK_FALSE(error_of([&] { lane.run({{"a", a}, {"b", bad}}); }).empty());
    CHECK(lane.run({{"a", a}, {"b", b}}).size() == 3);
  }
}

TEST_CASE("what a step throws on a worker's thread names its node; the lane, others of its program and earlier results go on") {
  OpDef d;
  d.domain = "shop";
  d.name = "Brittle";
  d.infer = [](InferContext& c) { c.set(0, c.dtype(0), c.dims(0)); };
  d.plain = [](const EvalContext& c) -> std::vector<Tensor> { return {c.in(0).clone()}; };
  d.fast = [](const KernelRequest&) -> FastKernel {
    return [](KernelContext& c) {
      const auto* x = static_cast<const float*>(c.inputs[0].data);
      auto* y = static_cast<float*>(c.outputs[0].data);
      c.each(64, [&](int64_t task) {
        if (x[task] > 1e6f) throw Error(Category::value, "a shard at " + std::to_string(task));
        y[task] = 2 * x[task];
      });
    };
  };
  register_op(d);
  Builder b("brittle", 17);
  b.import_domain("shop", 1);
  const ValueId x = b.input("x", DType::f32, {64});
  b.output(b.op("Neg", {b.op("shop::Brittle", {b.op("Abs", {x})})}), "y");
  const Program p = compile(b.finish(), {.threads = 3});
  Lane lane(p), other(p);
  Tensor good = random_tensor({64}, 1), bad = good.clone();
  const Outputs before = lane.run({{"x", good}});
  const Tensor kept = before[0].clone();
  for (int64_t at : {0, 31, 63}) {
    std::ranges::copy(good.as<float>(), bad.as<float>().begin());
    bad.as<float>()[at] = 1e9f;
    const std::string error = error_of([&] { lane.run({{"x", bad}}); });
    CHECK(has(error, "a shard at " + std::to_string(at)));
    CHECK(has(error, "Brittle"));
    CHECK(identical(before[0], kept));
    CHECK(identical(lane.run({{"x", good}})[0], kept));
    CHECK(identical(other.run({{"x", good}})[0], kept));
  }
}

TEST_CASE("dims shared by two inputs must agree") {
  Builder builder("shared");
  const auto x = builder.input("x", DType::f32, {"n"}), y = builder.input("y", DType::f32, {"n"});
  builder.output(builder.op("Mul", {x, y}), "z");
  Lane lane(compile(builder.finish()));
  const Tensor three = random_tensor({3}, 1), four = random_tensor({4}, 1);
  CHECK(lane.run({{"x", three}, {"y", three}})[0].size() == 3);
  CHECK(has(error_of([&] { lane.run({{"x", three}, {"y", four}}); }), "dim 'n' is 3 in one input and 4 in another"));
}

TEST_CASE("thread counts out of range") {
  const Program p = compile(sums());
  CHECK(has(error_of([&] { Lane(p, -1); }), "threads is -1"));
  CHECK(has(error_of([&] { Lane(p, 100000); }), "expected 1 to 1024"));
  Lane many(p, 16);  // more than cores: slower, not wrong
  const Tensor a = random_tensor({200, 8}, 1), b = random_tensor({8}, 2);
  Lane one(p, 1);
  CHECK(identical(many.run({{"a", a}, {"b", b}})["y"], one.run({{"a", a}, {"b", b}})["y"]));
}

TEST_CASE("a lane's worker is woken on another core than the caller's, of those it may use") {
  cpu_set_t usable;
  CPU_ZERO(&usable);
  REQUIRE(sched_getaffinity(0, sizeof usable, &usable) == 0);
  if (CPU_COUNT(&usable) < 2) return;  // nowhere else to go
  Builder b("large");
  const auto x = b.input("x", DType::f32, {256, 256});
  b.output(b.op("MatMul", {x, b.constant("w", random_tensor({256, 256}, 1))}), "y");
  const std::set<int> before = threads_now();
  Lane lane(compile(b.finish(), {.threads = 2}));
  const std::vector<Tensor> in{random_tensor({256, 256}, 2)};
  lane.run(std::span<const Tensor>(in));
  std::vector<int> workers;
  for (int id : threads_now()) {
    if (!before.contains(id)) workers.push_back(id);
  }
  REQUIRE(workers.size() == 1);
  const auto allowed = [&] {
    cpu_set_t set;
    CPU_ZERO(&set);
    REQUIRE(sched_getaffinity(workers[0], sizeof set, &set) == 0);
    return set;
  };
  // The caller on each core in turn, with a rest before: the worker sleeps, and is woken off that core and off no other.
  for (int core = 0; core < CPU_SETSIZE; ++core) {
    if (!CPU_ISSET(core, &usable)) continue;
    cpu_set_t here;
    CPU_ZERO(&here);
    CPU_SET(core, &here);
    REQUIRE(sched_setaffinity(0, sizeof here, &here) == 0);
    cpu_set_t expected = usable;
    CPU_CLR(core, &expected);
    // On a busy machine it may take several rests until the worker, too, has come to sleep.
    cpu_set_t now = allowed();
    for (int rest = 0; rest < 50 && !CPU_EQUAL(&now, &expected); ++rest) {
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
      lane.run(std::span<const Tensor>(in));
      now = allowed();
    }
    CHECK(CPU_EQUAL(&now, &expected));
  }
  // What somebody else sets is kept: the caller's core alone stays so, though the two must share it then.
  cpu_set_t one;
  CPU_ZERO(&one);
  const cpu_set_t last = allowed();
  for (int core = 0; core < CPU_SETSIZE && CPU_COUNT(&one) == 0; ++core) {
    if (CPU_ISSET(core, &usable) && !CPU_ISSET(core, &last)) CPU_SET(core, &one);
  }
  REQUIRE(sched_setaffinity(workers[0], sizeof one, &one) == 0);
  REQUIRE(sched_setaffinity(0, sizeof one, &one) == 0);
  std::this_thread::sleep_for(std::chrono::milliseconds(20));
  lane.run(std::span<const Tensor>(in));
  const cpu_set_t kept = allowed();
  CHECK(CPU_EQUAL(&kept, &one));
  REQUIRE(sched_setaffinity(0, sizeof usable, &usable) == 0);
}

TEST_CASE("the plan explains itself") {
  const Program p = compile(sums(), {.threads = 1});
  const EditionInfo info = p.describe({{5, 8}, {8}});
  CHECK(info.inputs == std::vector<Shape>{{5, 8}, {8}});
  CHECK(info.flops > 0);
  for (const StepInfo& s : info.steps) {
    CHECK_FALSE(s.kind.empty());
    CHECK_FALSE(s.nodes.empty());
    CHECK_FALSE(s.recipe.empty());
    CHECK(s.bytes > 0);
  }
  // The number of rows is known while compiling: no step is left for it but its way out.
  for (const StepInfo& s : info.steps) CHECK(s.kind != "plain");
}
