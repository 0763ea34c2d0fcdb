// lathe explain, profile and ship, as a user runs them.
#include <cmath>
#include <map>
#include <set>

#include "tool.hpp"

using namespace test;

TEST_CASE("explain tells every step's nodes, reasons and least time, as text, JSON and drawing") {
  Folder f;
  const std::string svg = (f.path / "g.svg").string(), png = (f.path / "g.png").string(), dot = (f.path / "g.dot").string();
  const Result r = tool("explain " + kGrain + " --threads 1 --draw " + svg);
  INFO(r.err);
  REQUIRE(r.code == 0);
  CHECK(has(r.out, "fold normalisation"));
  CHECK(has(r.out, "bias + residual + relu"));
  CHECK(has(r.out, "no more"));
  CHECK(has(r.out, "lower bound"));
  CHECK(has(slurp(svg), "block1.a/conv"));
  CHECK(tool("explain " + kGrain + " --threads 1 --draw " + png + " --detail steps").code == 0);
  CHECK(slurp(png).starts_with("\x89PNG"));
  CHECK(tool("explain " + kGrain + " --threads 1 --draw " + dot + " --focus block3 --around 1").code == 0);
  CHECK(has(slurp(dot), "block3.a/conv"));
  CHECK(!has(slurp(dot), "stem/conv (Conv)"));

  const Result j = tool("explain " + kGrain + " --threads 1 --json - --timed --runs 3");
  REQUIRE(j.code == 0);
  const Json facts = Json::parse(j.out);
  REQUIRE(facts["steps"].size() == 15);
  std::set<std::string> nodes;
  for (const Json& s : facts["steps"]) {
    CHECK(s["limit_seconds"].get<double>() > 0);
    CHECK(!s["why"].get<std::string>().empty());
    for (const Json& n : s["nodes"]) nodes.insert(n.get<std::string>());
  }
  CHECK(nodes.size() == 41 - 1);  // every node of the model but the Flatten, which is a view
  CHECK(tool("explain " + kGrain + " --draw " + (f.path / "g.gif").string()).code == 2);
  // Shaded by where the digits go.
  const std::string budget = (f.path / "budget.json").string();
  REQUIRE(tool("parity " + kGrain + " --budget --json " + budget).code == 0);
  CHECK(tool("explain " + kGrain + " --threads 1 --draw " + dot + " --sensitivity " + budget).code == 0);
  CHECK(has(slurp(dot), "% of the loss"));
  CHECK(has(slurp(dot), "costs nothing"));
  CHECK(tool("explain " + kGrain + " --sensitivity " + budget).code == 2);
  const Result none = tool("explain " + kGrain + " --draw " + dot + " --sensitivity " + kGrain);
  CHECK(none.code == 2);
  CHECK(has(none.err, "expected what 'lathe narrow --sensitivity"));
  CHECK(tool("explain " + kGrain + " --focus nowhere --draw " + svg).code != 0);
}

TEST_CASE("profile: time by step and op, chart and timeline") {
  Folder f;
  const std::string chart = (f.path / "p.png").string(), timeline = (f.path / "t.json").string();
  const Result r = tool("profile " + kGrain + " --threads 2 --runs 5 --top 4 --chart " + chart + " --timeline " + timeline);
  INFO(r.err);
  REQUIRE(r.code == 0);
  CHECK(has(r.out, "4 of 15 steps"));
  CHECK(has(r.out, "reading the clock after every step"));
  CHECK(slurp(chart).starts_with("\x89PNG"));
  const Json events = Json::parse(slurp(timeline));
  int complete = 0;
  std::map<int, double> over;  // when a track's last event ended: pages draw what overlaps one inside the other
  for (const Json& e : events["traceEvents"]) {
    if (e["ph"] == "M" && e["name"] == "process_name") CHECK(e["args"]["name"] == "grain.onnx");
    if (e["ph"] != "X") continue;
    ++complete;
    const double begin = e["ts"], length = e["dur"];
    CHECK(length >= 0);
    double& last = over.try_emplace(e["tid"].get<int>(), 0).first->second;
    CHECK(begin >= last);
    last = begin + length;
  }
  CHECK(complete >= 15);
  const Result cold = tool("profile " + kGrain + " --threads 1 --runs 3 --cold --json -");
  REQUIRE(cold.code == 0);
  const Json j = Json::parse(cold.out);
  CHECK(j["cold"] == true);
  double shares = 0;
  for (const Json& s : j["steps"]) shares += s["share"].get<double>();
  CHECK(std::fabs(shares - 1) < 0.2);  // medians need not add up
  CHECK(tool("profile " + kGrain + " --chart " + (f.path / "no" / "p.png").string()).code != 0);
}

TEST_CASE("explain and profile: of a branch that runs do not take, nothing is counted") {
  const Folder f;
  Builder b("gate", 21), yes("yes", 21), no("no", 21);
  b.input("x", DType::f32, {32, 64});
  const ValueId loud = b.input("loud", DType::boolean, {});
  b.constant("w", random_tensor({64, 64}, 1));
  yes.output(yes.op("MatMul", {yes.outer("x"), yes.outer("w")}), "made");
  no.output(no.op("Tanh", {no.outer("x")}), "made");
  b.output(b.op("If", {loud}, {{"then_branch", yes.finish_body()}, {"else_branch", no.finish_body()}}), "y");
  const std::string model = (f.path / "gate.onnx").string();
  save(b.finish(), model);
  const auto explained = Json::parse(tool("explain " + model + " --json -").out);
  CHECK(explained["steps"].size() == 3);
  CHECK(explained["steps"][0]["conditional"] == true);
  CHECK(explained["steps"][2]["conditional"] == false);
  CHECK(has(tool("explain " + model).out, "a run takes one of them"));
  const Result r = tool("profile " + model + " --runs 3 --threads 1");
  CHECK(r.code == 0);
  CHECK(has(r.out, "its branch was not taken"));
  CHECK(!has(r.out, "nan"));
  CHECK(has(tool("bench " + model + " --seconds 0.02 --warmup 0 --threads 1").out, "branches"));
}

TEST_CASE("ship: one file that run, bench, profile, explain, parity and inspect take in place of the model") {
  Folder f;
  const std::string file = (f.path / "grain.lathe").string();
  const Result made = tool("ship " + kGrain + " -o " + file);
  INFO(made.err);
  REQUIRE(made.code == 0);
  CHECK(has(made.out, "program archive"));
  const Json facts = Json::parse(tool("inspect " + file + " --json -").out);
  CHECK(facts["source"] == "grain.onnx");
  CHECK(facts["carries_graph"] == false);
  CHECK(facts["inputs"][0]["name"] == "image");
  const std::string picture = (kDemo / "grain/test/board_000.png").string();
  const Result model = tool("run " + kGrain + " --image " + picture), archive = tool("run " + file + " --image " + picture);
  CHECK(archive.code == 0);
  CHECK(archive.out == model.out);
  CHECK(tool("run " + file + " --seed 1").code == 0);
  CHECK(tool("bench " + file + " --seconds 0.05 --warmup 0.01").code == 0);
  CHECK(tool("profile " + file + " --runs 2").code == 0);
  CHECK(has(tool("explain " + file).out, "fold normalisation"));
  // What only a model takes is refused in words, as wrong usage.
  for (const char* wrong : {"run FILE --seed 1 --isa scalar", "bench FILE --versus-unfused", "parity FILE --against-plain",
                            "ship FILE -o x.lathe", "bench FILE --batch 2", "inspect FILE --steps"}) {
    std::string command = wrong;
    command.replace(command.find("FILE"), 4, file);
    CAPTURE(command);
    const Result r = tool(command);
    CHECK(r.code == 2);
    CHECK(!r.err.empty());
  }
  CHECK(tool("turn " + file + " -o " + (f.path / "x.onnx").string()).code == 3);
  CHECK(tool("ship " + kGrain + " -o " + (f.path / "no" / "x.lathe").string()).code == 4);
  write(file, slurp(file).substr(0, 1000));
  const Result cut = tool("run " + file + " --seed 1");
  CHECK(cut.code == 3);
  CHECK(has(cut.err, "cut short"));
}

TEST_CASE("ship with several shapes and with the graph") {
  Folder f;
  const std::string file = (f.path / "grain.lathe").string();
  const Result made = tool("ship " + kGrain + " --also image=1,3,64,64 --also image=8,3,64,64 --with-graph -o " + file + " --json -");
  INFO(made.err);
  REQUIRE(made.code == 0);
  const Json facts = Json::parse(made.out);
  CHECK(facts["editions"] == Json({{{1, 3, 64, 64}}, {{8, 3, 64, 64}}}));
  CHECK(facts["carries_graph"] == true);
  CHECK(tool("parity " + file + " --cases " + (kDemo / "grain").string()).code == 0);  // of one picture, and of eight
  CHECK(tool("run " + file + " --image " + (kDemo / "grain/test").string() + " --truth " + (kDemo / "grain/truth.csv").string()).code == 0);
  CHECK(tool("ship " + kGrain + " --also wood=1 -o " + file).code == 2);
}

TEST_CASE("ship: what builds into a program of its own") {
  const Folder f;
  const std::string kit = (f.path / "kit").string();
  const Result made = tool("ship " + kGrain + " --batch 1 --static-kit " + kit);
  INFO(made.err);
  REQUIRE(made.code == 0);
  CHECK(has(made.out, "families of steps"));
  for (const char* file : {"model.lathe", "model.S", "needed.cpp", "main.cpp", "CMakeLists.txt", "README.md"})
    CHECK(fs::exists(fs::path(kit) / file));
  const std::string needed = slurp(fs::path(kit) / "needed.cpp");
  CHECK(has(needed, "const StepFamily& convolution_"));
  CHECK(!has(needed, "attention"));
  CHECK(has(needed, "add_pooling"));
  CHECK(!has(needed, "add_random"));
  CHECK(tool("inspect " + kit + "/model.lathe").code == 0);
  // A kit is made anew, but for the example, which is the user's; what is no kit stays as it is.
  write(fs::path(kit) / "main.cpp", "int main() {}\n");
  CHECK(tool("ship " + kGrain + " --batch 1 --static-kit " + kit).code == 0);
  CHECK(slurp(fs::path(kit) / "main.cpp") == "int main() {}\n");
  const fs::path project = f.path / "project";
  fs::create_directories(project);
  write(project / "CMakeLists.txt", "project(mine)\n");
  const Result theirs = tool("ship " + kGrain + " --static-kit " + project.string());
  CHECK(theirs.code == 3);
  CHECK(has(theirs.err, "holds CMakeLists.txt, and is no kit"));
  CHECK(slurp(project / "CMakeLists.txt") == "project(mine)\n");
  CHECK(std::distance(fs::directory_iterator(project), {}) == 1);
  CHECK(tool("ship " + kGrain).code == 2);
  CHECK(tool("ship " + kGrain + " --any-machine --static-kit " + kit).code == 2);
}
