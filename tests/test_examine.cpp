// One pass that reports every fault: examine() and examine_file().
#include "support.hpp"

using namespace test;

namespace {

std::string report(const std::vector<Fault>& faults, bool fatal) {
  std::string text;
  for (const Fault& f : faults) {
    if (f.fatal == fatal) text += f.where + ": " + f.what + "\n";
  }
  return text;
}

Graph small() {
  Builder b("small");
  const auto x = b.input("x", DType::f32, {2, 3});
  b.output(b.op("Relu", {b.op("Neg", {x}, {}, "h")}), "y");
  return b.finish();
}

}  // namespace

TEST_CASE("a good model has no faults") { CHECK(examine(small()).empty()); }

TEST_CASE("all that is wrong is reported at once") {
  Graph g = small();
  g.nodes[0].attributes["alpha"].data = 1.0f;  // Neg has none: a warning
  g.nodes[1].name = g.nodes[0].name;           // a warning
  Value ghost;
  ghost.name = "ghost";
  const ValueId unmade = g.add_value(ghost);
  Value twin;
  twin.name = "x";
  g.add_value(twin);
  Value out;
  out.name = "z";
  const ValueId z = g.add_value(out);
  Node bad;
  bad.name = "late";
  bad.op = "Concat";
  bad.inputs = {g.inputs[0], unmade};
  bad.outputs = {z};
  bad.attributes["axis"].data = std::string("one");
  g.nodes.push_back(bad);
  Node unknown;
  unknown.op = "Wobble";
  unknown.domain = "made.up";
  unknown.inputs = {g.inputs[0]};
  g.nodes.push_back(unknown);
  Node short_one;
  short_one.name = "half";
  short_one.op = "Add";
  short_one.inputs = {g.inputs[0]};
  g.nodes.push_back(short_one);
  g.outputs.push_back(unmade);
  const auto faults = examine(g);
  const std::string fatal = report(faults, true), warnings = report(faults, false);
  for (const char* part :
       {"value 'x': two values have this name", "node 'late' (Concat): reads 'ghost', which no input, initializer or node gives",
        "attribute 'axis' holds one string, expected one integer", "made.up::Wobble (1 node)",
        "node 'half' (Add): has 1 inputs, expected 2", "output 'ghost': is not made by any node"})
    CHECK_MESSAGE(has(fatal, part), part << "\nin\n" << fatal);
  CHECK(has(warnings, "attribute 'alpha' is not one this op has"));
  CHECK(has(warnings, "several nodes have this name"));
  // The same through check(), which throws the fatal ones only.
  const std::string thrown = error_of([&] { check(g); });
  CHECK(has(thrown, "reads 'ghost'"));
  CHECK_FALSE(has(thrown, "alpha"));
}

TEST_CASE("order, cycles, opsets") {
  Graph g = small();
  std::swap(g.nodes[0], g.nodes[1]);
  CHECK(has(report(examine(g), true), "reads 'h' before"));
  const Folder f;
  save(g, f.path / "order.onnx");
  const auto faults = examine_file(f.path / "order.onnx");
  CHECK(report(faults, true).empty());
  CHECK(has(report(faults, false), "they were sorted"));
  Graph cycle = small();
  cycle.nodes[0].inputs = {cycle.outputs[0]};
  save(cycle, f.path / "cycle.onnx");
  CHECK(has(report(examine_file(f.path / "cycle.onnx"), true), "the graph has a cycle"));
  Graph old = small();
  old.opsets[""] = 99;
  CHECK(has(report(examine(old), true), "opset 99 of the default domain is not supported; versions 1 to 24 are"));
  old.opsets.clear();
  CHECK(has(report(examine(old), true), "imports no opset"));
  Graph named = small();
  named.values[named.nodes[0].outputs[0]].name = "\xC3\x28";
  CHECK(has(report(examine(named), true), "not valid UTF-8"));
  save(named, f.path / "name.onnx");
  CHECK(has(error_of([&] { load(f.path / "name.onnx"); }), "not valid UTF-8"));
}

TEST_CASE("types and shapes are part of it, but not twice") {
  Graph g = small();
  g.values[g.nodes[0].outputs[0]].dims = Dims{5, 5};
  const std::string text = report(examine(g), true);
  CHECK(has(text, "'h' is declared 5 x 5, its node gives 2 x 3"));
  g.nodes[0].inputs.clear();  // then its types are not looked at
  CHECK_FALSE(has(report(examine(g), true), "declared 5 x 5"));
}

TEST_CASE("files that are no models at all") {
  const Folder f;
  write(f.path / "text.onnx", "this is no model, only words that go on for a while");
  CHECK(has(report(examine_file(f.path / "text.onnx"), true), "not an ONNX file"));
  CHECK(has(report(examine_file(f.path / "nothing.onnx"), true), "no such file"));
  CHECK(has(report(examine_file(f.path), true), "is a folder"));
}
