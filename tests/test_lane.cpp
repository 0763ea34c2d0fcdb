// Programs and lanes as an application uses them: copying, moving, several inputs and outputs, binding, editions at once.
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
