// The tool's options in depth: what they change, and that every output comes as a table and as JSON.
#include "tool.hpp"

using namespace test;

namespace {

// A model with two inputs of open sizes and two outputs.
void two_inputs(const fs::path& path) {
  Builder b("two");
  const auto x = b.input("x", DType::f32, {"rows", "columns"}), y = b.input("y", DType::f32, {"columns"});
  const auto s = b.op("Add", {x, y}, {}, "sum");
  b.output(b.op("Relu", {s}), "positive");
  b.output(b.op("ReduceMax", {s}, {{"axes", std::vector<int64_t>{1}}, {"keepdims", int64_t{0}}}), "largest");
  save(b.finish(), path);
}

}  // namespace

TEST_CASE("shapes and dims by name") {
  Folder f;
  two_inputs(f.path / "two.onnx");
  const std::string model = (f.path / "two.onnx").string();
  Json j = json_of("run " + model + " --seed 1 --dim rows=2 --dim columns=5");
  CHECK(j["outputs"]["positive"]["shape"] == Json({2, 5}));
  CHECK(j["outputs"]["largest"]["shape"] == Json({2}));
  // A shape of one input binds the other's dim of the same name.
  j = json_of("run " + model + " --seed 1 --shape x=3,4");
  CHECK(j["outputs"]["positive"]["shape"] == Json({3, 4}));
  j = json_of("run " + model + " --seed 1 --shape x=3,4 --output sum --output largest");
  CHECK(j["outputs"].size() == 2);
  CHECK(j["outputs"].contains("sum"));
  // What is left open is asked for with options that close it, ready to be typed.
  Result r = tool("run " + model + " --seed 1");
  CHECK(r.code == 2);
  CHECK(has(r.err, "input 'x' is 1 x columns: its size must be given, e.g. --shape x=1,16 or --dim columns=16"));
  r = tool("run " + model + " --seed 1 --shape x=3,4 --shape y=5");
  CHECK(r.code == 2);
  CHECK(has(r.err, "two sizes"));
  r = tool("bench " + model);
  CHECK(r.code == 2);
  CHECK(has(r.err, "--dim columns=16"));
  CHECK(tool("bench " + model + " --dim columns=16 --seconds 0.05 --warmup 0").code == 0);
  r = tool("inspect " + model);
  CHECK(r.code == 0);
  CHECK(has(r.out, "not known"));
  CHECK(has(tool("run " + model + " --seed 1 --shape z=3").err, "no input is named 'z'; the inputs are x, y"));
}

TEST_CASE("arrays bind open dims by themselves, and part of the inputs may be random") {
  Folder f;
  two_inputs(f.path / "two.onnx");
  const std::string model = (f.path / "two.onnx").string();
  write_npy(f.path / "x.npy", Tensor::from<float>({2, 3}, {1, 2, 3, -4, -5, -6}));
  write_npy(f.path / "y.npy", Tensor::from<float>({3}, {0, 0, 1}));
  Json j = json_of("run " + model + " --input x=" + (f.path / "x.npy").string() + " --input y=" + (f.path / "y.npy").string());
  CHECK(j["outputs"]["positive"]["values"] == Json({1.0, 2.0, 4.0, 0.0, 0.0, 0.0}));
  CHECK(j["outputs"]["largest"]["values"] == Json({4.0, -4.0}));
  j = json_of("run " + model + " --seed 2 --input x=" + (f.path / "x.npy").string());
  CHECK(j["outputs"]["positive"]["shape"] == Json({2, 3}));
  const Result r = tool("run " + model + " --input x=" + (f.path / "x.npy").string());
  CHECK(r.code == 2);
  CHECK(has(r.err, "no value for input y"));
  CHECK(has(tool("run " + model + " --input x=" + (f.path / "x.txt").string()).err, "expected .npy, .npz or .pb"));
}

TEST_CASE("the same seed gives the same results, on any number of threads and either form") {
  const Json a = json_of("run " + kGrain + " --seed 5"), b = json_of("run " + kGrain + " --seed 5 --threads 2"),
             c = json_of("run " + kGrain + " --seed 6");
  CHECK(a["outputs"] == b["outputs"]);
  CHECK(a["outputs"] != c["outputs"]);
}

TEST_CASE("labels, top and truth") {
  Folder f;
  const std::string picture = (kDemo / "grain/test/board_002.png").string();
  write(f.path / "names.txt", "one\ntwo\nthree\nfour\nfive\nsix\n");
  Json j = json_of("run " + kGrain + " --image " + picture + " --labels " + (f.path / "names.txt").string() + " --top 2");
  CHECK(j["results"][0]["top"].size() == 2);
  CHECK(j["results"][0]["top"][0]["label"] == "three");
  CHECK(json_of("run " + kGrain + " --image " + picture + " --top 99")["results"][0]["top"].size() == 6);
  write(f.path / "truth.csv", "file,label\nboard_002.png,oak\n");
  const Result r = tool("run " + kGrain + " --image " + picture + " --truth " + (f.path / "truth.csv").string());
  CHECK(r.code == 0);
  CHECK(has(r.out, "<- wrong"));
  CHECK(has(r.out, "accuracy: 0 of 1 right, 0.0 %"));
  CHECK(tool("run " + kGrain + " --image " + picture + " --labels /nowhere").code == 2);
  write(f.path / "bad.csv", "no commas here");
  CHECK(
      has(tool("run " + kGrain + " --image " + picture + " --truth " + (f.path / "bad.csv").string()).err, "expected lines of FILE,LABEL"));
}

TEST_CASE("preprocessing by option overrides the metadata") {
  const std::string picture = (kDemo / "grain/test/board_002.png").string();
  const Json a = json_of("run " + kGrain + " --image " + picture);
  const Json b = json_of("run " + kGrain + " --image " + picture + " --mean 158.1,122.4,86.7 --scale 0.0196078,0.0230681,0.0261438");
  CHECK(a["results"] == b["results"]);
  CHECK(json_of("run " + kGrain + " --image " + picture + " --mean 0 --scale 0.001")["results"] != a["results"]);
  CHECK(json_of("run " + kGrain + " --image " + picture + " --bgr")["results"] != a["results"]);
  CHECK(has(tool("run " + kGrain + " --image " + picture + " --mean 1,2").err, "mean has 2 values, expected 1 or 3"));
  CHECK(tool("run " + kGrain + " --image " + picture + " --mean a").code == 2);
  CHECK(tool("run " + kGrain + " --image " + picture + " --size big").code == 2);
  // An image for a model that takes none.
  Folder f;
  two_inputs(f.path / "two.onnx");
  const Result r = tool("run " + (f.path / "two.onnx").string() + " --shape x=3,4 --image " + picture);
  CHECK(r.code == 3);
  CHECK(has(r.err, "pictures need a model with one input of floats or u8"));
}

TEST_CASE("saving outputs of several pictures") {
  Folder f;
  fs::create_directory(f.path / "in");
  for (const char* name : {"board_000.png", "board_001.png"}) fs::copy(kDemo / "grain/test" / name, f.path / "in" / name);
  const Result r = tool("run " + kGrain + " --image " + (f.path / "in").string() + " --save " + (f.path / "out").string());
  CHECK(r.code == 0);
  for (const char* name : {"board_000.species.npy", "board_001.species.npy"}) CHECK(read_npy(f.path / "out" / name).shape() == Shape{1, 6});
}

TEST_CASE("parity: tolerances, npz, cut outputs, missing cases") {
  const Json j = json_of("parity " + kGrain + " --relative 0.5");
  const Json& c = j["cases"][0]["outputs"][0];
  for (const char* key : {"max_absolute", "max_relative", "max_ulp", "cosine", "worst_index", "got", "expected"}) CHECK(c.contains(key));
  CHECK(j["pass"] == true);
  CHECK(tool("parity " + kGrain + " --absolute 0 --relative 0 --ulp 1000").code == 0);
  CHECK(tool("parity " + kGrain + " --against-plain --isa scalar").code == 0);
  CHECK(tool("parity " + kGrain + " --against-plain --seed 9 --output pooled").code == 0);
  CHECK(tool("parity " + kGrain + " --npz-inputs x.npz").code == 2);
  CHECK(tool("parity " + kGrain + " --suite .").code == 2);
  Folder f;
  fs::copy(kGrain, f.path / "grain.onnx");
  const Result r = tool("parity " + (f.path / "grain.onnx").string());
  CHECK(r.code == 3);
  CHECK(has(r.err, "--against-plain"));
  CHECK(tool("parity " + (f.path / "grain.onnx").string() + " --cases " + (kDemo / "grain").string()).code == 0);
}

TEST_CASE("suites: verbose, filtered, one path, as JSON") {
  const std::string suite = "parity --suite " LATHE_CASES " --filter ";
  if (!fs::exists(LATHE_CASES)) return;
  const Result r = tool(suite + "test_relu --verbose");
  CHECK(r.code == 0);
  CHECK(has(r.out, "passed   node/test_relu"));
  const Json j = json_of(suite + "test_softmax_ --isa scalar --threads 1");
  CHECK(j["failed"] == 0);
  CHECK(j["passed"] >= 7);
  CHECK(j["entries"][0]["verdict"] == "passed");
  const Result skipped = tool(suite + "test_adam --verbose");
  CHECK(has(skipped.out, "skipped  node/test_adam: "));
  CHECK(has(skipped.out, "ai.onnx.preview.training::Adam"));
  // With a list of exceptions every other skip counts, and so does an exception that is none.
  const Folder f;
  const auto list = [&](const std::string& text) {
    write(f.path / "list.txt", text);
    return " --except " + (f.path / "list.txt").string();
  };
  CHECK(tool(suite + "node/test_adam" + list("node/test_adam training\nnode/test_adam_multiple training\n")).code == 0);
  CHECK(tool(suite + "node/test_adam" + list("node/test_adam training\n")).code == 1);
  const Result passes = tool(suite + "node/test_relu" + list("node/test_relu no reason at all\n"));
  CHECK(passes.code == 1);
  CHECK(has(passes.out, "listed as an exception (no reason at all), but passes"));
  CHECK(tool(suite + "node/test_relu" + list("node/test_relu\n")).code == 2);
}

TEST_CASE("bench in numbers") {
  const Json j = json_of("bench " + kGrain + " --batch 3 --threads 1 --seconds 0.05 --warmup 0");
  CHECK(j["shapes"]["image"][0] == 3);
  CHECK(j["flops_per_run"] > 9e7);
  CHECK(j["noisy"].is_boolean());
  const Json v = json_of("bench " + kGrain + " --versus-unfused --rounds 3 --threads 1");
  CHECK(v["fused_steps"] < v["unfused_steps"]);
  CHECK(v["rounds"] == 3);
  CHECK(tool("bench " + kGrain + " --lanes 0").code == 2);
  CHECK(tool("bench " + kGrain + " --seconds nan_or_so").code == 2);
}

TEST_CASE("unfused and scalar runs agree with the best ones") {
  const Json best = json_of("run " + kGrain + " --seed 5"), scalar = json_of("run " + kGrain + " --seed 5 --isa scalar");
  for (int i = 0; i < 6; ++i) {
    const double a = best["outputs"]["species"]["values"][i], b = scalar["outputs"]["species"]["values"][i];
    CHECK(a == doctest::Approx(b).epsilon(1e-4));
  }
}

TEST_CASE("a file that is not there: the nearest name beside it") {
  Folder f;
  fs::copy_file(kGrain, f.path / "grain.onnx");
  write(f.path / "truth.csv", "a.png,b\n");
  const Result model = tool("run " + (f.path / "grian.onnx").string() + " --seed 1");
  CHECK(model.code == 3);
  CHECK(has(model.err, "grian.onnx: no such file; did you mean 'grain.onnx'?"));
  const Result data = tool("judge " + (f.path / "grain.onnx").string() + " --data " + (f.path / "trith.csv").string());
  CHECK(has(data.err, "did you mean 'truth.csv'?"));
  CHECK(!has(tool("run " + (f.path / "other.onnx").string() + " --seed 1").err, "did you mean"));
  CHECK(!has(tool("run " + (f.path / "none/grain.onnx").string() + " --seed 1").err, "did you mean"));
}
