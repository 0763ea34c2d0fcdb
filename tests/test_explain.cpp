// What the compiler says of itself, and what profiles and drawings make of it.
#include <set>

#include "support.hpp"

using namespace test;

namespace {

// Two modules, a branch, a view and an output from the middle.
Graph modules_net() {
  Builder b("net", 21);
  const ValueId x = b.input("x", DType::f32, {Dim(2), Dim(24)});
  const auto w = [&](const std::string& name, Shape s) { return b.constant(name, random_tensor(std::move(s), 3)); };
  const ValueId h = b.op("Relu", {b.op("MatMul", {x, w("first/w", {24, 24})})});
  const ValueId y = b.op("Softmax", {b.op("MatMul", {h, w("second/w", {24, 8})})});
  const ValueId v = b.op("Reshape", {b.op("Tanh", {h}), b.constant("s", Tensor::from<int64_t>({1}, {48}))});
  b.output(y, "scores");
  b.output(v, "flat");
  Graph g = b.finish();
  const char* const names[]{"first/product", "first/relu", "second/product", "second/soft", "second/tanh", "second/view"};
  REQUIRE(g.nodes.size() == std::size(names));
  for (size_t i = 0; i < g.nodes.size(); ++i) g.nodes[i].name = names[i];
  return g;
}

size_t count_of(const std::string& text, const std::string& part) {
  size_t n = 0;
  for (size_t at = text.find(part); at != std::string::npos; at = text.find(part, at + 1)) ++n;
  return n;
}

}  // namespace

TEST_CASE("every node belongs to a step or is a view; every step says why, and why no more") {
  const Graph g = modules_net();
  const EditionInfo e = compile(g, {.threads = 1}).describe();
  std::set<int> steps;
  for (const NodeInfo& n : e.nodes) {
    CAPTURE(n.label);
    CHECK(n.step < static_cast<int>(e.steps.size()));
    if (n.step < 0) CHECK(n.op == "Reshape");
    else steps.insert(n.step);
    CHECK(!n.outputs.empty());
    CHECK(has(n.output, "f32"));
  }
  for (size_t i = 0; i < e.steps.size(); ++i) {
    const StepInfo& s = e.steps[i];
    CAPTURE(s.kind);
    CHECK(!s.why.empty());
    CHECK(!s.recipe.empty());
    CHECK(s.bytes > 0);
    if (steps.contains(static_cast<int>(i))) CHECK(!s.why_not.empty());
  }
  CHECK(has(e.steps[0].why, "the node after the MatMul keeps its shape"));
  CHECK(has(e.steps[0].why_not, "read by 2 nodes"));
  CHECK(e.input_names == std::vector<std::string>{"x"});
  CHECK(e.output_names == std::vector<std::string>{"scores", "flat"});
  const EditionInfo apart = compile(g, {.threads = 1, .fuse = false}).describe();
  CHECK(apart.steps.size() > e.steps.size());
  for (const StepInfo& s : apart.steps) CHECK((s.why_not.empty() || s.why_not == "fusion is off"));
}

TEST_CASE("a drawing: nodes, steps or modules; a focus; names that need quoting") {
  const EditionInfo e = compile(modules_net(), {.threads = 1}).describe();
  const std::string nodes = drawing(e, {.detail = Detail::nodes, .title = "a \"title\" with \\ in it"});
  CHECK(nodes.starts_with("digraph"));
  CHECK(count_of(nodes, "subgraph") == e.steps.size());
  CHECK(has(nodes, "first/product"));
  CHECK(has(nodes, "a &quot;title&quot;"));
  const std::string steps = drawing(e, {.detail = Detail::steps});
  CHECK(count_of(steps, "subgraph") == 0);
  const std::string modules = drawing(e, {.detail = Detail::modules, .depth = 1});
  CHECK(has(modules, "first"));
  CHECK(has(modules, "second"));
  CHECK(!has(modules, "second/soft"));
  const std::string near = drawing(e, {.detail = Detail::nodes, .focus = "first/product", .around = 0});
  CHECK(has(near, "first/product"));
  CHECK(!has(near, "second/soft"));
  CHECK(has(error_of([&] { drawing(e, {.focus = "nowhere"}); }), "nowhere"));
}

TEST_CASE("a long chain is drawn in several columns; modules come from names, or from where one value passes") {
  const auto chain = [](const std::function<std::string(int)>& name) {
    Builder b("chain");
    auto v = b.input("x", DType::f32, {1, 16});
    for (int i = 0; i < 40; ++i) {
      v = b.op("MatMul", {v, b.constant("w" + std::to_string(i), random_tensor({16, 16}, static_cast<uint64_t>(i)))});
      v = b.op("Softmax", {v});
    }
    b.output(v, "y");
    Graph g = b.finish();
    for (size_t i = 0; i < g.nodes.size(); ++i) g.nodes[i].name = name(static_cast<int>(i));
    return compile(g, {.threads = 1}).describe();
  };
  const EditionInfo named = chain([](int i) { return "stage" + std::to_string(i / 20) + "/node" + std::to_string(i); });
  const std::string drawn = drawing(named, {.detail = Detail::steps});
  CHECK(has(drawn, "column1"));
  CHECK(has(drawn, "constraint=false"));
  CHECK(has(drawn, "stage0/node0"));
  // No edge is lost: each column but the first is entered by one.
  CHECK(count_of(drawn, "b10 -> b11") == 1);
  const std::vector<std::string> modules = modules_of(named.nodes);
  CHECK(modules.front() == "stage0");
  CHECK(modules.back() == "stage3");
  CHECK(std::set<std::string>(modules.begin(), modules.end()).size() == 4);
  CHECK(modules_of(named.nodes, 2).front() == "stage0");
  // Names that tell nothing.
  const EditionInfo plain = chain([](int) { return std::string(); });
  const std::vector<std::string> sections = modules_of(plain.nodes);
  const std::set<std::string> different(sections.begin(), sections.end());
  CHECK(different.size() >= 20);
  CHECK(different.size() <= 40);
  CHECK(has(sections.front(), "1 to 2: MatMul, Softmax"));
  // A block whose values are read beside it is one section.
  Builder b("residual");
  auto v = b.input("x", DType::f32, {1, 16});
  for (int i = 0; i < 6; ++i) {
    const auto w = b.constant("w" + std::to_string(i), random_tensor({16, 16}, static_cast<uint64_t>(i)));
    const auto m = b.op("Softmax", {b.op("Tanh", {b.op("MatMul", {v, w})})});
    v = b.op("Add", {v, m});
  }
  b.output(v, "y");
  const EditionInfo residual = compile(b.finish(), {.threads = 1, .fuse = false}).describe();
  const std::vector<std::string> blocks = modules_of(residual.nodes);
  CHECK(std::set<std::string>(blocks.begin(), blocks.end()).size() == 6);
}

TEST_CASE("a profile adds up: steps, ops, shares, timeline") {
  const Program p = compile(modules_net(), {.threads = 2});
  Lane lane(p);
  const Roofline roofline("", 1);
  CHECK(roofline.peak_gflops() > 0);
  bool arithmetic = false;
  CHECK(roofline.seconds(1e9, 8, &arithmetic) > 0);
  CHECK(arithmetic);
  CHECK(roofline.seconds(1, 1e9, &arithmetic) > 0);
  CHECK(!arithmetic);
  CHECK(roofline.seconds(2e9, 8) > roofline.seconds(1e9, 8));
  const auto inputs = random_inputs(p, p.bound_shapes(), 1);
  int told = 0;
  const Profile prof = profile(lane, inputs, roofline, {.runs = 7, .progress = [&](const std::string&) { ++told; }});
  CHECK(told > 0);
  REQUIRE(prof.steps.size() == p.describe().steps.size());
  double share = 0, op_share = 0;
  int op_steps = 0;
  for (const StepProfile& s : prof.steps) {
    share += s.share;
    CHECK(s.latency.median >= 0);
    CHECK(s.limit_seconds > 0);
  }
  for (const OpProfile& o : prof.ops) op_share += o.share, op_steps += o.steps;
  CHECK(share == doctest::Approx(1));
  CHECK(op_share == doctest::Approx(1));
  CHECK(op_steps == static_cast<int>(prof.steps.size()));
  CHECK(std::is_sorted(prof.ops.begin(), prof.ops.end(), [](const OpProfile& a, const OpProfile& b) { return a.seconds > b.seconds; }));
  REQUIRE(prof.timeline.size() == prof.steps.size());
  double at = 0;
  for (const StepTime& t : prof.timeline) {
    CHECK(t.begin >= at - 1e-9);
    at = t.begin + t.seconds;
  }
  CHECK(at <= prof.timeline_seconds + 1e-6);
  const std::string json = timeline_json(prof, "net \"quoted\"");
  CHECK(has(json, "traceEvents"));
  CHECK(has(json, "\\\"quoted\\\""));
  // Timing is off again afterwards.
  lane.run(std::span<const Tensor>(inputs));
  CHECK(lane.step_times().empty());
}
