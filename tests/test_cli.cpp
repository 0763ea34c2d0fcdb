// The command-line tool, driven as a process.
#include "tool.hpp"

using namespace test;

TEST_CASE("help teaches and versions are told") {
  const Result help = tool("--help");
  CHECK(help.code == 0);
  CHECK(has(help.out, "lathe inspect grain.onnx"));
  CHECK(has(help.out, "Exit codes"));
  for (const char* command : {"machine", "inspect", "run", "parity", "bench"}) {
    const Result r = tool(std::string(command) + " --help");
    CHECK(r.code == 0);
    CHECK(has(r.out, "--json"));
  }
  CHECK(tool("--version").code == 0);
}

TEST_CASE("machine") {
  const Result r = tool("machine --no-measure --json -");
  REQUIRE(r.code == 0);
  const Json j = Json::parse(r.out);
  CHECK(j["usable_cores"] >= 1);
  CHECK(j["instruction_sets"][0] == "scalar");
  const Result people = tool("machine --threads 1");
  CHECK(people.code == 0);
  CHECK(has(people.out, "GFLOP/s"));
  CHECK(has(people.out, "read DRAM"));
}

TEST_CASE("inspect") {
  const Result r = tool("inspect " + kGrain + " --json -");
  REQUIRE(r.code == 0);
  const Json j = Json::parse(r.out);
  CHECK(j["inputs"][0]["name"] == "image");
  CHECK(j["inputs"][0]["shape"][0] == "batch");
  CHECK(j["ops"]["Conv"] == 12);
  CHECK(j["parameters"] > 300000);
  CHECK(j["flops"] > 3e7);
  CHECK(j["faults"].empty());
  const Result s = tool("inspect " + kGrain + " --steps --batch 4");
  CHECK(s.code == 0);
  CHECK(has(s.out, "fold normalisation: 12 changes"));
  CHECK(has(s.out, "bias + residual + relu"));
  CHECK(has(s.out, "inputs 4x3x64x64"));
}

TEST_CASE("inspect lists every unknown op with its count") {
  Folder f;
  Graph g = load(kGrain);
  for (Node& n : g.nodes) {
    if (n.op == "Relu") n.op = "Wobble";
    if (n.op == "Flatten") n.op = "Jiggle";
  }
  save(g, f.path / "odd.onnx");
  const Result r = tool("inspect " + (f.path / "odd.onnx").string());
  CHECK(r.code == 3);
  CHECK(has(r.out, "Jiggle (1 node), Wobble (9 nodes)"));
  const Result run = tool("run " + (f.path / "odd.onnx").string() + " --seed 1");
  CHECK(run.code == 3);
  CHECK(has(run.err, "2 ops are not known at opset 17"));
}

TEST_CASE("run on pictures: labels, accuracy") {
  const Result one = tool("run " + kGrain + " --image " + (kDemo / "grain/test/board_001.png").string() + " --json -");
  REQUIRE(one.code == 0);
  CHECK(Json::parse(one.out)["results"][0]["top"][0]["label"] == "beech");
  const Result all = tool("run " + kGrain + " --image " + (kDemo / "grain/test").string() + " --truth " +
                          (kDemo / "grain/truth.csv").string() + " --json -");
  REQUIRE(all.code == 0);
  const Json j = Json::parse(all.out);
  CHECK(j["accuracy"]["judged"] == 240);
  CHECK(j["accuracy"]["share"] > 0.9);
}

TEST_CASE("run on arrays and random data, results saved") {
  Folder f;
  const std::string dir = f.path.string();
  const Tensor x = random_tensor({2, 3, 64, 64}, 1);
  write_npy(f.path / "x.npy", x);
  write_npz(f.path / "x.npz", {{"image", x}});
  write_tensor_pb(f.path / "x.pb", {"image", x});
  for (const std::string& input : {"image=" + dir + "/x.npy", dir + "/x.npy", dir + "/x.npz", dir + "/x.pb"}) {
    const Result r = tool("run " + kGrain + " --input " + input + " --save " + dir + "/out");
    INFO(r.err);
    REQUIRE(r.code == 0);
    CHECK(read_npy(f.path / "out/species.npy").shape() == Shape{2, 6});
  }
  CHECK(tool("run " + kGrain + " --input " + dir + "/x.npz --save " + dir + "/out --save-as npz").code == 0);
  CHECK(read_npz(f.path / "out/outputs.npz")[0].name == "species");
  CHECK(tool("run " + kGrain + " --input " + dir + "/x.npz --save " + dir + "/out --save-as pb --output logits").code == 0);
  CHECK(read_tensor_pb(f.path / "out/logits.pb").tensor.shape() == Shape{2, 6});
  const Result seeded = tool("run " + kGrain + " --seed 3 --shape image=3,3,64,64 --json -");
  REQUIRE(seeded.code == 0);
  CHECK(Json::parse(seeded.out)["outputs"]["species"]["shape"][0] == 3);
  CHECK(tool("run " + kGrain + " --seed 3 --dim batch=2 --isa scalar --threads 2").code == 0);
}

TEST_CASE("parity: references, plain, failure, suite") {
  Folder f;
  CHECK(tool("parity " + kGrain).code == 0);
  CHECK(tool("parity " + kGrain + " --against-plain --batch 2").code == 0);
  const Result strict = tool("parity " + kGrain + " --absolute 0 --relative 0");
  CHECK(strict.code == 1);
  CHECK(has(strict.out, "DIFFERS"));
  CHECK(has(strict.out, "PARITY FAILED"));
  const std::string ref = (kDemo / "grain/reference_").string();
  CHECK(tool("parity " + kGrain + " --npz-inputs " + ref + "inputs.npz --npz-outputs " + ref + "outputs.npz").code == 0);
  // A suite of one good folder and one whose reference is wrong.
  fs::create_directories(f.path / "a");
  fs::copy(kDemo / "grain/grain.onnx", f.path / "a/model.onnx");
  fs::copy(kDemo / "grain/test_data_set_0", f.path / "a/test_data_set_0", fs::copy_options::recursive);
  Result r = tool("parity --suite " + f.path.string());
  CHECK(r.code == 0);
  CHECK(has(r.out, "1 passed, 0 failed, 0 skipped"));
  fs::copy(f.path / "a", f.path / "b", fs::copy_options::recursive);
  NamedTensor wrong = read_tensor_pb(f.path / "b/test_data_set_0/output_0.pb");
  wrong.tensor.as<float>()[1] += 0.5f;
  write_tensor_pb(f.path / "b/test_data_set_0/output_0.pb", wrong);
  r = tool("parity --suite " + f.path.string());
  CHECK(r.code == 1);
  CHECK(has(r.out, "FAILED   b: test_data_set_0 [plain]: output 'species'"));
  CHECK(has(r.out, "1 passed, 1 failed, 0 skipped"));
}

TEST_CASE("bench") {
  Folder f;
  const std::string file = (f.path / "b.json").string();
  const Result r = tool("bench " + kGrain + " --seconds 0.1 --warmup 0.02 --threads 1 --json " + file);
  REQUIRE(r.code == 0);
  CHECK(has(r.out, "share of peak"));
  const Json j = Json::parse(slurp(file));
  for (const char* key : {"min", "mean", "median", "p90", "p99", "max", "standard_deviation"}) CHECK(j["latency_seconds"][key] > 0);
  CHECK(j["share_of_peak"] > 0);
  CHECK(j["items_per_second"] > 0);
  const Result lanes = tool("bench " + kGrain + " --seconds 0.1 --warmup 0.02 --threads 1 --lanes 2 --batch 2 --json -");
  REQUIRE(lanes.code == 0);
  CHECK(Json::parse(lanes.out)["items_per_run"] == 2);
  const Result versus = tool("bench " + kGrain + " --versus-unfused --rounds 5 --json -");
  REQUIRE(versus.code == 0);
  CHECK(Json::parse(versus.out)["ratio"] > 0);
}

TEST_CASE("bad input: one sentence and the right exit code") {
  Folder f;
  const std::string dir = f.path.string();
  write(f.path / "text.onnx", "not a model");
  fs::copy(kGrain, f.path / "cut.onnx");
  fs::resize_file(f.path / "cut.onnx", 500000);
  fs::create_directory(f.path / "empty");
  write(f.path / "bad.png", "not a picture");
  write_npy(f.path / "wide.npy", random_tensor({1, 3, 64, 65}, 1));
  write_npy(f.path / "double.npy", Tensor(DType::f64, {1, 3, 64, 64}));
  struct Bad {
    std::string arguments;
    int code;
    std::string says;
  };
  const Bad cases[] = {
      {"", 2, "subcommand"},
      {"frobnicate", 2, "frobnicate"},
      {"inspect " + dir + "/none.onnx", 3, "no such file"},
      {"inspect " + dir + "/text.onnx", 3, "not an ONNX file"},
      {"run " + dir + "/cut.onnx --seed 1", 3, "cut short"},
      {"run " + kGrain, 2, "no value for input image"},
      {"run " + kGrain + " --input picture=" + dir + "/wide.npy", 2, "the inputs are image"},
      {"run " + kGrain + " --input " + dir + "/wide.npy", 3, "has shape 1x3x64x65, expected 1 x 3 x 64 x 64"},
      {"run " + kGrain + " --input " + dir + "/double.npy", 3, "is f64, expected f32"},
      {"run " + kGrain + " --input " + dir + "/none.npy", 3, "no such file"},
      {"run " + kGrain + " --image " + dir + "/bad.png", 3, "not a picture"},
      {"run " + kGrain + " --image " + dir + "/empty", 3, "holds no pictures"},
      {"run " + kGrain + " --seed 1 --dim width=3", 2, "the open ones are batch"},
      {"run " + kGrain + " --seed 1 --dim batch=many", 2, "not a size"},
      {"run " + kGrain + " --seed 1 --shape image=1,3,x", 2, "not a size"},
      {"run " + kGrain + " --seed 1 --output nothing", 2, "the model's outputs are species"},
      {"run " + kGrain + " --seed 1 --threads 0", 2, "--threads"},
      {"run " + kGrain + " --seed 1 --threads 1000000", 2, "--threads"},
      {"run " + kGrain + " --seed 1 --isa quantum", 2, "quantum"},
      {"run " + kGrain + " --seed 1 --save /proc/nothing", 4, "/proc/nothing"},
      {"bench " + kGrain + " --seconds 0.05 --warmup 0 --json /nonexistent/b.json", 4, "cannot be written"},
      {"parity " + kGrain + " --absolute little", 2, "little"},
      {"parity " + kGrain + " --cases " + dir, 3, "test_data_set_0"},
      {"parity --suite " + dir + "/none", 3, "no such folder"},
      {"parity", 2, "MODEL is missing"},
  };
  for (const Bad& b : cases) {
    const Result r = tool(b.arguments);
    INFO(b.arguments);
    INFO(r.err);
    CHECK(r.code == b.code);
    CHECK(has(r.err, b.says));
    CHECK(r.err.starts_with("lathe: "));
  }
  // Nothing half-written is left behind.
  for (const auto& e : fs::recursive_directory_iterator(f.path)) CHECK_FALSE(has(e.path().string(), ".part"));
}

TEST_CASE("results that cannot reach their file are no success") {
  if (!fs::exists("/dev/full")) return;
  const int status = std::system((std::string(LATHE_TOOL) + " inspect " + kGrain + " >/dev/full 2>/dev/null").c_str());
  CHECK(WEXITSTATUS(status) == 4);
}
