// The rooms between Graph and threads: passes, the memory plan, the crew.
#include <atomic>
#include <numeric>
#include <thread>

#include "lower/group/minimum_cut.hpp"
#include "lower/plan/plan.hpp"
#include "lower/schedule/memory.hpp"
#include "passes/passes.hpp"
#include "runtime/crew.hpp"
#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;

class NoKernel : public lower::StepKernel {
  void run(const lower::StepContext&) const override {}
};

// A plan with random buffers, each made at one step and read at some later ones.
lower::Plan random_plan(std::mt19937& random, bool in_place) {
  lower::Plan plan;
  const int steps = 2 + static_cast<int>(random() % 30);
  plan.steps.resize(steps);
  for (auto& s : plan.steps) s.kernel = std::make_unique<NoKernel>();
  for (int s = 0; s < steps; ++s) {
    lower::Buffer b;
    b.bytes = random() % 5000;
    plan.buffers.push_back(b);
    const auto id = static_cast<lower::BufferId>(plan.buffers.size()) - 1;
    plan.steps[s].writes.push_back(id);
    for (int k = 0; k < 2; ++k) {
      const int reader = s + 1 + static_cast<int>(random() % 8);
      if (reader < steps) plan.steps[reader].reads.push_back(id);
    }
    if (in_place && !plan.steps[s].reads.empty()) plan.steps[s].in_place = plan.steps[s].reads[random() % plan.steps[s].reads.size()];
    if (random() % 3 == 0) {
      plan.buffers.push_back(b);
      plan.steps[s].scratch.push_back(static_cast<lower::BufferId>(plan.buffers.size()) - 1);
    }
  }
  return plan;
}

}  // namespace

TEST_CASE("buffers that live at the same time never overlap") {
  std::mt19937 random(8);
  for (int trial = 0; trial < 200; ++trial) {
    lower::Plan plan = random_plan(random, false);
    lower::plan_memory(plan);
    CHECK(plan.arena_bytes >= plan.arena_bound);
    for (size_t a = 0; a < plan.buffers.size(); ++a) {
      const lower::Buffer& x = plan.buffers[a];
      CHECK(x.offset % 64 == 0);
      CHECK(x.offset + x.bytes <= plan.arena_bytes);
      for (size_t b = a + 1; b < plan.buffers.size(); ++b) {
        const lower::Buffer& y = plan.buffers[b];
        const bool together = x.first <= y.last && y.first <= x.last;
        const bool apart = x.offset + x.bytes <= y.offset || y.offset + y.bytes <= x.offset;
        if (together && x.bytes > 0 && y.bytes > 0) REQUIRE(apart);
      }
    }
  }
}

TEST_CASE("in place only where the input dies with the step") {
  std::mt19937 random(9);
  int shared = 0;
  for (int trial = 0; trial < 200; ++trial) {
    lower::Plan plan = random_plan(random, true);
    lower::plan_memory(plan);
    // Running the plan: a buffer's bytes hold its own mark from the step that writes it to its last reader.
    std::vector<int> owner(plan.arena_bytes, -1);
    for (size_t s = 0; s < plan.steps.size(); ++s) {
      const auto& step = plan.steps[s];
      for (auto id : step.reads) {
        for (size_t i = 0; i < plan.buffers[id].bytes; ++i) REQUIRE(owner[plan.buffers[id].offset + i] == id);
      }
      for (auto id : step.scratch) std::fill_n(owner.begin() + plan.buffers[id].offset, plan.buffers[id].bytes, id);
      for (auto id : step.writes) {
        shared += step.in_place != lower::kNoBuffer && plan.buffers[id].offset == plan.buffers[step.in_place].offset &&
                  plan.buffers[id].bytes > 0;
        std::fill_n(owner.begin() + plan.buffers[id].offset, plan.buffers[id].bytes, id);
      }
    }
  }
  CHECK(shared > 50);
}

TEST_CASE("a chain of equal buffers needs two of them") {
  lower::Plan plan;
  plan.steps.resize(10);
  for (int s = 0; s < 10; ++s) {
    lower::Buffer b;
    b.bytes = 1000;
    plan.buffers.push_back(b);
    plan.steps[s].writes = {s};
    if (s > 0) plan.steps[s].reads = {s - 1};
  }
  lower::plan_memory(plan);
  CHECK(plan.arena_bytes == 2048);
  CHECK(plan.arena_bound == 2048);
  for (int s = 1; s < 10; ++s) plan.steps[s].in_place = s - 1;
  lower::plan_memory(plan);
  CHECK(plan.arena_bytes == 1024);
}

TEST_CASE("the crew does every task once, whatever the counts") {
  for (int threads : {1, 2, 3, 8}) {
    Crew crew(threads);
    CHECK(crew.size() == threads);
    for (int64_t tasks : {0, 1, 2, 7, 100, 5000}) {
      std::vector<std::atomic<int>> done(tasks);
      std::atomic<int> bad{0};
      crew.each(tasks, [&](int64_t task, int worker) {
        if (worker < 0 || worker >= threads) ++bad;
        ++done[task];
      });
      CHECK(bad == 0);
      CHECK(std::all_of(done.begin(), done.end(), [](const auto& d) { return d == 1; }));
    }
  }
}

TEST_CASE("the crew wakes up after sleeping, many times") {
  Crew crew(3);
  std::atomic<int64_t> total{0};
  for (int i = 0; i < 300; ++i) {
    crew.each(3, [&](int64_t task, int) { total += task; });
    if (i % 30 == 0) std::this_thread::sleep_for(std::chrono::milliseconds(2));  // longer than the spin
  }
  CHECK(total == 900);
}

TEST_CASE("crews start and stop") {
  for (int i = 0; i < 50; ++i) {
    Crew crew(1 + i % 4);
    if (i % 2) crew.each(4, [](int64_t, int) {});
  }
}

// ---- passes ----

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

TEST_CASE("a minimum cut is the cheapest of all ways to part the nodes") {
  constexpr int kSource = lower::MinimumCut::kSource, kSink = lower::MinimumCut::kSink;
  std::mt19937 random(11);
  for (int trial = 0; trial < 400; ++trial) {
    CAPTURE(trial);
    const int nodes = 1 + static_cast<int>(random() % 9), edges = static_cast<int>(random() % 30);
    struct Edge {
      int from, to;
      double capacity;
    };
    std::vector<Edge> all;
    lower::MinimumCut cut(nodes);
    for (int e = 0; e < edges; ++e) {
      const auto pick = [&] { return static_cast<int>(random() % static_cast<unsigned>(nodes + 2)) - 2; };
      const Edge edge{pick(), pick(), random() % 7 == 0 ? 1e30 : static_cast<double>(random() % 20)};
      // Nothing joins source and sink that may not be cut.
      if (edge.from == edge.to || (edge.from == kSource && edge.to == kSink)) continue;
      all.push_back(edge);
      cut.edge(edge.from, edge.to, edge.capacity);
    }
    const auto cost = [&](auto on_sink_side) {
      const auto side = [&](int n) { return n == kSink || (n != kSource && on_sink_side(n)); };
      double sum = 0;
      for (const Edge& e : all) sum += !side(e.from) && side(e.to) ? e.capacity : 0;
      return sum;
    };
    double best = 1e300;
    for (unsigned way = 0; way < 1U << nodes; ++way) best = std::min(best, cost([&](int n) { return (way >> n & 1) != 0; }));
    const double found = cut.solve();
    CHECK(found == doctest::Approx(best));
    CHECK(cost([&](int n) { return cut.on_sink_side(n); }) == doctest::Approx(best));
  }
  lower::MinimumCut nothing(3);  // a tie: the source's side
  CHECK(nothing.solve() == 0);
  CHECK(!nothing.on_sink_side(1));
  lower::MinimumCut chain(200000);  // long graphs need no deep stack
  chain.edge(kSource, 0, 5);
  for (int n = 0; n + 1 < 200000; ++n) chain.edge(n, n + 1, n == 777 ? 2 : 9);
  chain.edge(199999, kSink, 4);
  CHECK(chain.solve() == 2);
  CHECK((!chain.on_sink_side(777) && chain.on_sink_side(778)));
}

TEST_CASE("layouts are chosen by what they cost over the whole graph") {
  const auto changes = [](const Graph& g) {
    std::vector<std::string> out;
    for (const StepInfo& s : compile(g).describe().steps) {
      if (s.kind == "layout") out.push_back(s.recipe + " " + s.nodes[0]);
    }
    return out;
  };
  const auto norm = [](Builder& b, ValueId v, const std::string& name) {
    return b.op("InstanceNormalization", {v, b.constant(name + "s", random_tensor({8}, 1)), b.constant(name + "b", random_tensor({8}, 2))});
  };
  const auto weight = [](Builder& b, const std::string& name, int64_t out, int64_t in) {
    return b.constant(name, random_tensor({out, in, 1, 1}, 3, -0.3f, 0.3f));
  };
  {  // What a convolution made goes on in the standard's order: it is turned once, before it is used twice.
    Builder b("turned once");
    const ValueId x = b.input("x", DType::f32, {1, 16, 6, 6});
    const ValueId y = b.op("Conv", {x, weight(b, "w", 8, 16)});
    const ValueId n = norm(b, y, "n");
    b.output(norm(b, b.op("Sigmoid", {b.op("Mul", {y, n})}), "m"), "z");
    const Graph g = b.finish();
    const auto found = changes(g);
    REQUIRE(found.size() == 2);
    CHECK(found[0] == "to channels-last layout of x");
    CHECK(has(found[1], "to natural order layout of Conv"));
    check_against_plain(g, {random_tensor({1, 16, 6, 6}, 4)});
  }
  {  // Elementwise work between convolutions stays channels-last, though one operand comes in the standard's order.
    Builder b("stays");
    const ValueId x = b.input("x", DType::f32, {1, 16, 6, 6}), extra = b.input("extra", DType::f32, {1, 8, 6, 6});
    const ValueId y = b.op("Conv", {x, weight(b, "w", 8, 16)});
    const ValueId pooled = b.op("MaxPool", {y}, {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}});
    const ValueId mixed = b.op("Mul", {b.op("Tanh", {pooled}), b.op("Sin", {extra})});
    b.output(b.op("Conv", {mixed, weight(b, "v", 4, 8)}), "z");
    const Graph g = b.finish();
    CHECK(changes(g).size() == 3);  // x, extra, and the result
    check_against_plain(g, {random_tensor({1, 16, 6, 6}, 4), random_tensor({1, 8, 6, 6}, 5)});
  }
  {  // Pictures that a model holds channels-last are turned to the standard's order and back: nothing moves.
    Builder b("names only");
    const ValueId x = b.input("x", DType::f32, {2, 6, 5, 16});
    const ValueId turned = b.op("Relu", {b.op("Transpose", {x}, {{"perm", Ints{0, 3, 1, 2}}})});
    const ValueId y = b.op("Conv", {turned, weight(b, "w", 8, 16)});
    const ValueId z = b.op("Tanh", {b.op("Add", {y, b.op("Sigmoid", {y})})});
    b.output(b.op("Transpose", {z}, {{"perm", Ints{0, 2, 3, 1}}}), "z");
    const Graph g = b.finish();
    CHECK(changes(g).empty());
    for (const StepInfo& s : compile(g).describe().steps) CHECK(s.kind != "copy");
    check_against_plain(g, {random_tensor({2, 6, 5, 16}, 4)});
  }
}
