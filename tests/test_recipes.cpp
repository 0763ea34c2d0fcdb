// Recipes as data: what a family offers, what is refused, and what every recipe of it must give.
#include <algorithm>
#include <bit>
#include <cmath>
#include <set>

#include "lower/plan/recipe.hpp"
#include "lower/recipe/chooser.hpp"
#include "lower/recipe/cost.hpp"
#include "lower/recipe/recipe_space.hpp"
#include "runtime/program_impl.hpp"
#include "support.hpp"
#include "tensor/widen.hpp"

using namespace test;
using lower::Recipe;
using lower::RecipeSpace;

namespace {

using Ints = std::vector<int64_t>;

// A graph of one step of each family with knobs, and what it is called.
struct Sample {
  std::string name;
  Graph graph;
  std::vector<Tensor> inputs;
};

class Maker {
 public:
  Builder b{"sample", 23};
  std::vector<Tensor> inputs;
  ValueId feed(const Shape& shape) {
    inputs.push_back(random_tensor(shape, 40 + inputs.size()));
    return b.input("x" + std::to_string(inputs.size()), DType::f32, Dims(shape.begin(), shape.end()));
  }
  ValueId weight(const Shape& shape, float scale = 0.3f) {
    ++weights_;
    return b.constant("w" + std::to_string(weights_), random_tensor(shape, 90 + weights_, -scale, scale));
  }
  Sample done(const std::string& name, ValueId out) {
    b.output(out, "y");
    return {name, b.finish(), std::move(inputs)};
  }

 private:
  uint64_t weights_ = 0;
};

std::vector<Sample> samples() {
  std::vector<Sample> all;
  const auto add = [&](const std::string& name, auto make) {
    Maker m;
    all.push_back(m.done(name, make(m)));
  };
  const Ints one{1, 1, 1, 1};
  add("convolution.lines", [&](Maker& m) {
    const ValueId wide = m.b.op("Relu", {m.b.op("Conv", {m.feed({2, 12, 24, 40}), m.weight({70, 12, 1, 1}), m.weight({70})})});
    return m.b.op("Conv", {wide, m.weight({70, 1, 3, 3})}, {{"pads", one}, {"group", int64_t{70}}});
  });
  add("convolution.direct", [&](Maker& m) {
    const ValueId c =
        m.b.op("Conv", {m.feed({2, 40, 13, 11}), m.weight({70, 40, 3, 3}), m.weight({70})}, {{"pads", one}, {"strides", Ints{2, 2}}});
    return m.b.op("Relu", {c});
  });
  add("convolution.padded", [&](Maker& m) {
    return m.b.op("Conv", {m.feed({2, 3, 40, 37}), m.weight({20, 3, 5, 5})}, {{"strides", Ints{2, 2}}});
  });
  add("convolution.winograd", [&](Maker& m) {
    return m.b.op("Conv", {m.feed({1, 32, 40, 40}), m.weight({48, 32, 3, 3})}, {{"pads", one}});
  });
  add("convolution.winograd", [&](Maker& m) {  // by weights of 16 bits
    std::vector<double> numbers;
    for (int64_t i = 0; i < 72 * 32 * 9; ++i) numbers.push_back(static_cast<double>(i * 37 % 101 - 50) / 100);
    const ValueId w = m.b.op("Cast", {m.b.constant("halves", narrow<double>(DType::f16, {72, 32, 3, 3}, numbers))}, {{"to", int64_t{1}}});
    return m.b.op("Conv", {m.feed({1, 32, 40, 40}), w}, {{"pads", one}});
  });
  add("convolution.few", [&](Maker& m) {
    return m.b.op("Sigmoid", {m.b.op("Conv", {m.feed({2, 40, 13, 11}), m.weight({3, 40, 3, 3}), m.weight({3})}, {{"pads", one}})});
  });
  add("convolution.planes", [&](Maker& m) {
    return m.b.op("Conv", {m.feed({1, 24, 30, 19}), m.weight({24, 1, 3, 3})}, {{"pads", one}, {"group", int64_t{24}}});
  });
  add("convolution.transposed", [&](Maker& m) {
    return m.b.op("ConvTranspose", {m.feed({1, 24, 9, 8}), m.weight({24, 40, 3, 3})}, {{"strides", Ints{2, 2}}});
  });
  add("product", [&](Maker& m) {
    const ValueId x = m.b.op("Sigmoid", {m.b.op("Mul", {m.feed({150, 700}), m.weight({700})})});
    return m.b.op("MatMul", {x, m.weight({700, 90}, 0.05f)});
  });
  add("product", [&](Maker& m) { return m.b.op("MatMul", {m.feed({9, 20, 30}), m.feed({9, 30, 25})}); });
  add("elementwise", [&](Maker& m) { return m.b.op("Tanh", {m.b.op("Add", {m.feed({7, 300, 50}), m.weight({300, 1})})}); });
  add("rows", [&](Maker& m) { return m.b.op("Softmax", {m.b.op("Mul", {m.feed({60, 130}), m.weight({130})})}); });
  add("rows", [&](Maker& m) {
    return m.b.op("ReduceMean", {m.feed({3, 70, 600}), m.b.constant("axes", Tensor::from<int64_t>({1}, {1}))});
  });
  add("rows.parts", [&](Maker& m) {
    return m.b.op("Add", {m.b.op("Softmax", {m.b.op("Mul", {m.feed({2, 40000}), m.weight({40000})})}), m.weight({40000})});
  });
  add("rows.parts", [&](Maker& m) {
    return m.b.op("ReduceL2",
                  {m.b.op("Mul", {m.feed({2, 40000}), m.weight({40000})}), m.b.constant("axes", Tensor::from<int64_t>({1}, {1}))});
  });
  add("rows.parts", [&](Maker& m) {
    return m.b.op("ReduceMean", {m.feed({2, 9000, 20}), m.b.constant("axes", Tensor::from<int64_t>({1}, {1}))});
  });
  add("product.deep", [&](Maker& m) {
    return m.b.op("Sigmoid", {m.b.op("Gemm", {m.feed({3, 30000}), m.weight({30000, 20}, 0.05f), m.weight({20})})});
  });
  add("running_sum", [&](Maker& m) {
    return m.b.op("CumSum", {m.feed({20, 33, 9}), m.b.constant("axis", Tensor::from<int64_t>({}, {1}))});
  });
  add("spectrum", [&](Maker& m) {
    return m.b.op("DFT", {m.feed({40, 30, 1}), kAbsent, m.b.constant("axis", Tensor::from<int64_t>({}, {1}))});
  });
  add("pool.lines", [&](Maker& m) { return m.b.op("MaxPool", {m.feed({2, 5, 31, 40})}, {{"kernel_shape", Ints{3, 3}}}); });
  add("pool.planes", [&](Maker& m) {
    const ValueId c = m.b.op("Conv", {m.feed({1, 16, 21, 21}), m.weight({32, 16, 1, 1})});
    const ValueId p = m.b.op("AveragePool", {c}, {{"kernel_shape", Ints{3, 3}}});
    return m.b.op("Conv", {p, m.weight({16, 32, 1, 1})});
  });
  add("resize", [&](Maker& m) {
    return m.b.op("Resize", {m.feed({1, 3, 20, 20}), kAbsent, m.b.constant("s", Tensor::from<float>({4}, {1, 1, 2.5f, 1.5f}))},
                  {{"mode", std::string("linear")}});
  });
  add("select", [&](Maker& m) { return m.b.op("ArgMax", {m.feed({90, 70})}, {{"axis", int64_t{1}}}); });
  add("recurrent", [&](Maker& m) {
    return m.b.op("LSTM", {m.feed({12, 3, 40}), m.weight({1, 4 * 24, 40}), m.weight({1, 4 * 24, 24})}, {{"hidden_size", int64_t{24}}});
  });
  add("recurrent", [&](Maker& m) {
    return m.b.op("GRU", {m.feed({12, 3, 40}), m.weight({2, 3 * 128, 40}), m.weight({2, 3 * 128, 128}, 0.1f)},
                  {{"hidden_size", int64_t{128}}, {"direction", std::string("bidirectional")}});
  });
  add("attention", [&](Maker& m) {
    return m.b.op("Attention", {m.feed({1, 3, 150, 16}), m.feed({1, 3, 400, 16}), m.feed({1, 3, 400, 16})});
  });
  const auto bytes = [](Maker& m, const Shape& shape) {
    std::vector<int8_t> numbers;
    for (int64_t i = 0; i < element_count(shape); ++i) numbers.push_back(static_cast<int8_t>(i * 37 % 251 - 125));
    return m.b.constant("bytes", Tensor::from<int8_t>(shape, numbers));
  };
  const auto as = [](Maker& m, ValueId v, int64_t type) { return m.b.op("Cast", {v}, {{"to", type}}); };
  constexpr int64_t kF32 = 1, kF64 = 11;
  add("byte_depthwise", [&](Maker& m) {
    const auto q = m.b.ops("DynamicQuantizeLinear", {m.feed({1, 24, 20, 19})}, 3);
    const ValueId sums = m.b.op("ConvInteger", {q[0], bytes(m, {24, 1, 3, 3}), q[2]}, {{"pads", one}, {"group", int64_t{24}}});
    return m.b.op("Mul", {as(m, sums, kF32), q[1]});
  });
  for (const char* name : {"byte_product", "dynamic_quantise"})
    add(name, [&](Maker& m) {
      const auto q = m.b.ops("DynamicQuantizeLinear", {m.feed({300, 150})}, 3);
      return m.b.op("Mul", {as(m, m.b.op("MatMulInteger", {q[0], bytes(m, {150, 90}), q[2]}), kF32), q[1]});
    });
  add("product", [&](Maker& m) {  // by weights of a byte
    const ValueId scale = m.b.constant("scale", random_tensor({90}, 3, 0.001f, 0.01f));
    return m.b.op("MatMul", {m.feed({3, 150}), m.b.op("DequantizeLinear", {bytes(m, {150, 90}), scale}, {{"axis", int64_t{1}}})});
  });
  add("pool.any", [&](Maker& m) {
    return as(m, m.b.op("MaxPool", {as(m, m.feed({2, 3, 30, 31}), kF64)}, {{"kernel_shape", Ints{3, 3}}, {"pads", one}}), kF32);
  });
  add("product", [&](Maker& m) {  // of doubles
    return as(m, m.b.op("MatMul", {as(m, m.feed({90, 40}), kF64), as(m, m.feed({40, 70}), kF64)}), kF32);
  });
  add("rows", [&](Maker& m) {
    return as(m, m.b.op("ReduceSum", {as(m, m.feed({20, 50, 90}), kF64), m.b.constant("axes", Tensor::from<int64_t>({1}, {1}))}), kF32);
  });
  add("elements", [&](Maker& m) {
    std::vector<int64_t> at;
    for (int64_t i = 0; i < 400 * 30; ++i) at.push_back(i * 7 % 100 - 50);
    return m.b.op("GatherElements", {m.feed({400, 50}), m.b.constant("at", Tensor::from<int64_t>({400, 30}, at))}, {{"axis", int64_t{1}}});
  });
  return all;
}

// The program with these recipes in the place of its own.
Program with_recipes(const Program& program, std::vector<Recipe> recipes) {
  ProgramImpl::Parts parts = program.impl()->parts(true);
  parts.editions.at(0).recipes = std::move(recipes);
  return Program(std::make_shared<ProgramImpl>(std::move(parts)));
}

std::vector<Recipe> recipes_of(const Program& program) { return program.impl()->edition(program.bound_shapes())->recipes; }

std::vector<float> run(const Program& p, const std::vector<Tensor>& inputs) {
  Lane lane(p);
  const Tensor out = lane.run(std::span<const Tensor>(inputs))[0];
  std::vector<float> numbers;
  if (out.dtype() == DType::i64) numbers.assign(out.as<int64_t>().begin(), out.as<int64_t>().end());
  else numbers.assign(out.as<float>().begin(), out.as<float>().end());
  return numbers;
}

}  // namespace

TEST_CASE("a recipe space takes what lies in its ranges and says why it refuses the rest") {
  RecipeSpace space("family.one", 2);
  space.knob("tasks", 8, 1, 64);
  space.knob("rows", 28, 0, 140, 14, true);
  const Recipe first = space.first();
  CHECK(describe(first) == "family.one/2 tasks=8 rows=28");
  CHECK(first.at("rows") == 28);
  CHECK(has(error_of([&] { first.at("columns"); }), "no knob 'columns'"));
  CHECK(space.fault(first).empty());
  const auto fault = [&](auto change) {
    Recipe r = first;
    change(r);
    return space.fault(r);
  };
  CHECK(fault([](Recipe& r) { r.knobs[1].value = 140; }).empty());
  CHECK(fault([](Recipe& r) { r.knobs[0].value = 65; }) == "knob 'tasks' is 65, expected 1 to 64");
  CHECK(fault([](Recipe& r) { r.knobs[1].value = 15; }) == "knob 'rows' is 15, expected 0 to 140 in steps of 14");
  CHECK(fault([](Recipe& r) { r.knobs[0].value = INT64_MIN; }) != "");
  CHECK(has(fault([](Recipe& r) { r.family = "family.two"; }), "expected family.one version 2"));
  CHECK(has(fault([](Recipe& r) { r.version = 1; }), "family.one version 1"));
  CHECK(has(fault([](Recipe& r) { r.knobs.pop_back(); }), "1 knobs, expected 2"));
  CHECK(has(fault([](Recipe& r) { std::swap(r.knobs[0], r.knobs[1]); }), "knob 0 is 'rows', expected 'tasks'"));
  // Another machine: only what decides the order of sums is kept.
  Recipe other = first;
  other.knobs[0].value = 3, other.knobs[1].value = 42;
  CHECK(describe(space.same_bits(other)) == "family.one/2 tasks=8 rows=42");
}

TEST_CASE("the cost model orders what it is asked about") {
  const lower::Rates r;
  CHECK(lower::seconds(r, {50e9, 0}) == doctest::Approx(1));
  CHECK(lower::seconds(r, {1, 20e9}) == doctest::Approx(2));
  CHECK(!lower::worth_sharing(r, 1e4));
  CHECK(lower::worth_sharing(r, 1e7));
  CHECK(lower::row_calls_pay(r, 1000, 512));
  CHECK(!lower::row_calls_pay(r, 1000, 2));
  const lower::Machine two{kernels::Isa::avx2, 2, 512 << 10, r};
  CHECK(lower::split_work(two, 2, 1, 1, 16, 16, 6).count() == 1);
  CHECK(lower::split_work(two, 1, 4000, 100, 16, 600, 6).count() == 1);
  CHECK(lower::split_work(two, 2, 4000, 100, 16, 600, 6).count() >= 2);
  CHECK(lower::panels_of_block(two, 1 << 20, 16) == 1);
}

TEST_CASE("each family with knobs does its sample, by the recipe that it says") {
  std::set<std::string> seen;
  for (Sample& s : samples()) {
    CAPTURE(s.name);
    const Program p = compile(s.graph, {.threads = 2});
    const auto recipes = recipes_of(p);
    const auto it = std::ranges::find(recipes, s.name, &Recipe::family);
    REQUIRE(it != recipes.end());
    CHECK(!it->knobs.empty());
    seen.insert(s.name);
    // Data, and nothing but data: the same program made again has the same.
    CHECK(recipes_of(compile(s.graph, {.threads = 2})) == recipes);
    const auto& steps = p.impl()->edition(p.bound_shapes())->steps;
    CHECK(std::ranges::any_of(steps, [&](const lower::Step& step) { return step.recipe == *it; }));
  }
  CHECK(seen.size() == 25);
}

TEST_CASE("any recipe is refused with a sentence or gives right numbers, and the same bits unless it reorders sums") {
  std::mt19937_64 random(5);
  const std::set<std::string> reorder{"k_block", "key_block", "block_rows", "made", "tiles", "parts"};
  const int64_t values[]{-1, 0, 1, 2, 3, 4, 5, 7, 8, 12, 16, 28, 30, 64, 100, 128, 240, 576, 1000, 4096, int64_t{1} << 40, INT64_MIN};
  int taken = 0, refused = 0;
  for (Sample& s : samples()) {
    CAPTURE(s.name);
    for (const int threads : {1, 2}) {
      const Program p = compile(s.graph, {.threads = threads});
      const auto recipes = recipes_of(p);
      const auto expected = run(p, s.inputs);
      double most = 1e-6;
      for (float v : expected) most = std::max(most, static_cast<double>(std::abs(v)));
      for (int trial = 0; trial < 40; ++trial) {
        auto changed = recipes;
        bool reorders = false;
        for (Recipe& r : changed) {
          for (lower::Knob& k : r.knobs) {
            if (random() % 2) continue;
            k.value = values[random() % std::size(values)];
            reorders = reorders || reorder.contains(k.name);
          }
        }
        std::string text;
        for (const Recipe& r : changed) text += describe(r) + "; ";
        CAPTURE(text);
        std::vector<float> got;
        Category category{};
        const std::string error = error_of([&] { got = run(with_recipes(p, changed), s.inputs); }, &category);
        if (!error.empty()) {
          ++refused;
          CHECK(category == Category::format);
          CHECK(has(error, "does not fit its step: "));
          continue;
        }
        ++taken;
        REQUIRE(got.size() == expected.size());
        size_t wrong = 0;
        for (size_t i = 0; i < got.size(); ++i) {
          const bool same = std::bit_cast<uint32_t>(got[i]) == std::bit_cast<uint32_t>(expected[i]);
          wrong += reorders ? std::abs(got[i] - expected[i]) > 1e-5 * most : !same;
        }
        REQUIRE(wrong == 0);
      }
    }
  }
  CHECK(taken > 100);
  CHECK(refused > 300);
}

TEST_CASE("every family that can do a step does it, whichever the estimates prefer") {
  std::set<std::string> tried;
  for (Sample& s : samples()) {
    CAPTURE(s.name);
    for (const int threads : {1, 2}) {
      CompileOptions options{.threads = threads, .recipes = std::make_shared<Recipes>()};
      const Program p = compile(s.graph, options);
      const auto expected = run(p, s.inputs);
      double most = 1e-6;
      for (float v : expected) most = std::max(most, static_cast<double>(std::abs(v)));
      for (const StepInfo& step : p.describe().steps) {
        for (const FamilyInfo& family : step.families) {
          if (step.kind == "layout" || step.chosen.starts_with(family.family + "/")) continue;
          CAPTURE(family.family);
          auto recipes = std::make_shared<Recipes>();
          const std::string node = step.nodes.front().substr(0, step.nodes.front().find(" ("));
          recipes->pin({node, "family", 0, family.family});
          options.recipes = recipes;
          const Program other = compile(s.graph, options);
          REQUIRE(pin_fault(*recipes, other.describe()) == "");
          tried.insert(family.family);
          const auto got = run(other, s.inputs);
          REQUIRE(got.size() == expected.size());
          size_t wrong = 0;
          for (size_t i = 0; i < got.size(); ++i) wrong += std::abs(got[i] - expected[i]) > 1e-5 * most;
          CHECK(wrong == 0);
        }
      }
    }
  }
  for (const char* name : {"cut", "convolution.winograd_2x2", "convolution.direct"}) {
    CAPTURE(std::string(name));
    CHECK(tried.contains(name));
  }
}

TEST_CASE("a step that is cut is two, which say so") {
  Maker m;
  const ValueId c = m.b.op("Conv", {m.feed({1, 16, 20, 20}), m.weight({24, 16, 3, 3})}, {{"strides", Ints{2, 2}}});
  const Sample s = m.done("net", m.b.op("Mul", {m.b.op("Erf", {c}), m.weight({24, 1, 1})}));
  auto recipes = std::make_shared<Recipes>();
  recipes->pin(read_pin("family=cut"));
  const Program fused = compile(s.graph, {.threads = 1}), cut = compile(s.graph, {.threads = 1, .recipes = recipes});
  const auto steps = [](const Program& p) {
    std::vector<StepInfo> computing;
    for (const StepInfo& step : p.describe().steps) {
      if (!step.chosen.empty()) computing.push_back(step);
    }
    return computing;
  };
  REQUIRE(steps(fused).size() == 1);
  const auto two = steps(cut);
  REQUIRE(two.size() == 2);
  CHECK(two[0].nodes.size() == 1);
  CHECK(two[1].nodes.size() == 2);
  for (const StepInfo& step : two) {
    CHECK(step.chosen.starts_with("cut/1 "));
    CHECK(step.chosen_by == "pinned");
    CHECK(has(step.why, "cut"));
  }
  CHECK(two[0].problem == two[1].problem);
  CHECK(run(cut, s.inputs) == run(fused, s.inputs));
  // As an archive has it.
  CHECK(steps(with_recipes(fused, recipes_of(cut))).size() == 2);
}

TEST_CASE("recipes of other steps, other versions, too few and too many are refused") {
  Maker m;
  const ValueId c = m.b.op("Conv", {m.feed({1, 8, 9, 9}), m.weight({8, 8, 1, 1})});
  const Sample s = m.done("net", m.b.op("Softmax", {m.b.op("Flatten", {c})}));
  const Program p = compile(s.graph, {.threads = 1});
  const auto refused = [&](auto change) {
    auto recipes = recipes_of(p);
    change(recipes);
    Category category{};
    const std::string error = error_of([&] { with_recipes(p, recipes); }, &category);
    CHECK(category == Category::format);
    return error;
  };
  CHECK(has(refused([](auto& r) { std::swap(r.front(), r.back()); }), "is for another kind of step than it belongs to"));
  CHECK(has(refused([](auto& r) { r.front().version = 99; }), "version 99"));
  CHECK(has(refused([](auto& r) { r.front().family = "plain"; }), "another kind of step"));
  CHECK(has(refused([](auto& r) { r.pop_back(); }), "its steps need more"));
  CHECK(has(refused([](auto& r) { r.push_back(r.back()); }), "more recipes than its steps need"));
  CHECK(has(refused([](auto& r) { r.front().knobs.clear(); }), "it has 0 knobs"));
}

TEST_CASE("on another number of threads only the order of sums is kept") {
  Maker m;
  const Sample s = m.done("product", m.b.op("MatMul", {m.feed({150, 700}), m.weight({700, 90}, 0.05f)}));
  const Program p = compile(s.graph, {.threads = 1});
  auto recipes = recipes_of(p);
  REQUIRE(recipes.size() == 1);
  const auto knob = [&](const std::vector<Recipe>& r, const std::string& name) { return r.at(0).at(name); };
  for (lower::Knob& k : recipes[0].knobs) {
    if (k.name == "k_block") k.value = 128;
  }
  ProgramImpl::Parts parts = p.impl()->parts(true);
  parts.editions.at(0).recipes = recipes;
  parts.editions.at(0).same_threads = false;
  parts.options.threads = 2;
  const Program two(std::make_shared<ProgramImpl>(std::move(parts)));
  const auto kept = recipes_of(two), own = recipes_of(compile(s.graph, {.threads = 2}));
  CHECK(knob(kept, "k_block") == 128);
  CHECK(knob(kept, "row_tasks") == knob(own, "row_tasks"));
  CHECK(run(two, s.inputs) == run(with_recipes(p, recipes), s.inputs));
}

TEST_CASE("problems are equal when recipes may be shared, and not otherwise") {
  const auto problem = [](int64_t channels, float alpha, bool constant, int threads) {
    Maker m;
    const ValueId x = m.b.op("LeakyRelu", {m.feed({1, channels, 6, 6})}, {{"alpha", alpha}});
    const Sample s = m.done("p", m.b.op("Conv", {x, constant ? m.weight({8, channels, 1, 1}) : m.feed({8, channels, 1, 1})}));
    auto graph = std::make_shared<const Graph>(s.graph);
    lower::Weights weights;
    const std::vector<bool> base(graph->values.size(), true);
    lower::PlanBuilder b(graph, weights, base, nullptr);
    lower::Group group{1, {0, 1}, lower::Anchor::tiles};
    return lower::problem_of(b, group, {kernels::Isa::avx2, threads, 512 << 10, {}});
  };
  const auto p = problem(8, 0.1f, true, 1);
  CHECK(p == problem(8, 0.1f, true, 1));
  CHECK(p != problem(9, 0.1f, true, 1));
  CHECK(p != problem(8, 0.2f, true, 1));
  CHECK(p != problem(8, 0.1f, false, 1));
  CHECK(p != problem(8, 0.1f, true, 2));
  CHECK(problem(8, NAN, true, 1) == problem(8, NAN, true, 1));
  CHECK(p.anchor == 1);
  CHECK(p.operations.size() == 2);
}
