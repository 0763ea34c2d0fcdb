// lathe vet, lathe turn, --ops, inspect --modules.
#include "tool.hpp"

using namespace test;

TEST_CASE("vet: a good model, a bad one, both") {
  const Folder f;
  CHECK(tool("vet " + kGrain).code == 0);
  CHECK(has(tool("vet " + kGrain).out, "nothing is wrong"));
  Builder b("bad");
  b.output(b.op("Relu", {b.input("x", DType::f32, {2})}, {{"slope", 1.0f}}), "y");
  const Graph g = b.finish();
  const std::string model = (f.path / "warned.onnx").string(), broken = (f.path / "broken.onnx").string();
  save(g, model);
  CHECK(tool("vet " + model).code == 0);
  CHECK(has(tool("vet " + model).out, "0 faults, 1 warning"));
  CHECK(tool("vet --strict " + model).code == 1);
  Graph wrong = g;
  wrong.nodes[0].op = "Wobble";
  save(wrong, broken);
  const Result r = tool("vet " + model + " " + broken + " --json -");
  CHECK(r.code == 1);
  const Json j = Json::parse(r.out);
  CHECK(j[0]["faults"].empty());
  CHECK(has(j[1]["faults"][0]["what"], "Wobble (1 node)"));
  CHECK(has(tool("run " + broken).err, "--ops FILE.so"));
}

TEST_CASE("turn: preprocessing inside, sizes bound, a newer opset, and the same answers") {
  const Folder f;
  const std::string out = (f.path / "turned.onnx").string();
  const Result r = tool("turn " + kGrain + " -o " + out +
                        " --bind batch=2 --picture image --from-u8 --mean 158.1,122.4,86.7 --scale 0.0196078,0.0230681,0.0261438 --opset "
                        "21 --rename species=kinds --json -");
  REQUIRE(r.code == 0);
  const Json j = Json::parse(r.out);
  CHECK(j["opset"] == 21);
  CHECK(j["inputs"][0]["type"] == "u8 2 x 3 x 64 x 64");
  CHECK(j["outputs"][0]["name"] == "kinds");
  const Tensor pixels = [] {
    Tensor t(DType::u8, {2, 3, 64, 64});
    for (int64_t i = 0; i < t.size(); ++i) t.as<uint8_t>()[i] = static_cast<uint8_t>(i * 131 % 256);
    return t;
  }();
  Tensor prepared(DType::f32, {2, 3, 64, 64});
  const float mean[] = {158.1f, 122.4f, 86.7f}, scale[] = {0.0196078f, 0.0230681f, 0.0261438f};
  for (int64_t i = 0; i < pixels.size(); ++i)
    prepared.as<float>()[i] = (static_cast<float>(pixels.as<uint8_t>()[i]) - mean[i / 4096 % 3]) * scale[i / 4096 % 3];
  Lane before(compile(load(kGrain))), after(compile(load(out)));
  CHECK(compare("species", after.run({{"image", pixels}})[0], before.run({{"image", prepared}})[0]).pass);
  // The original is left alone, a failing turn writes nothing, wrong usage is told apart.
  CHECK(equal(load(kGrain), load(kGrain)));
  const std::string none = (f.path / "none.onnx").string();
  CHECK(tool("turn " + kGrain + " -o " + none + " --output nowhere").code == 2);
  CHECK(tool("turn " + kGrain + " -o " + none + " --opset 3").code == 3);
  CHECK(tool("turn " + kGrain + " -o " + none).code == 2);
  CHECK(tool("turn " + kGrain + " -o " + none + " --mean 1").code == 2);
  CHECK(tool("turn " + kGrain + " -o " + none + " --shape image=1,-3").code == 2);
  CHECK(tool("turn " + kGrain + " -o " + none + " --bind batch=-1").code == 2);
  CHECK_FALSE(fs::exists(none));
  CHECK(tool("turn " + kGrain + " -o " + (f.path / "no/such/folder.onnx").string() + " --bind batch=1").code == 4);
}

TEST_CASE("turn: freezing and cutting by file") {
  const Folder f;
  Builder b("sum");
  const auto x = b.input("x", DType::f32, {2}), y = b.input("y", DType::f32, {2});
  b.output(b.op("Add", {b.op("Neg", {x}, {}, "minus"), y}), "z");
  save(b.finish(), f.path / "sum.onnx");
  write_npy(f.path / "y.npy", Tensor::from<float>({2}, {10, 20}));
  const std::string model = (f.path / "sum.onnx").string(), out = (f.path / "out.onnx").string();
  CHECK(tool("turn " + model + " -o " + out + " --freeze y=" + (f.path / "y.npy").string() + " --input minus --input y").code == 0);
  const Graph g = load(out);
  CHECK(g.inputs.size() == 1);
  CHECK(g.values[g.inputs[0]].name == "minus");
  CHECK(tool("turn " + model + " -o " + out + " --freeze y=" + (f.path / "y.txt").string()).code == 2);
}

TEST_CASE("a library of ops at run time") {
  const Folder f;
  const fs::path library = fs::path(LATHE_TOOL).parent_path().parent_path() / "lib/libalder_ops.so";
  if (!fs::exists(library)) return;  // the examples were not built
  Builder b("own");
  Graph g;
  b.import_domain("alder", 1);
  b.output(b.op("alder::Contrast", {b.input("x", DType::f32, {2, 4})}, {{"gain", 3.0f}}), "y");
  g = *b.finish_body();
  const std::string model = (f.path / "own.onnx").string();
  save(g, model);
  const Result without = tool("run " + model);
  CHECK(without.code == 3);
  CHECK(has(without.err, "alder::Contrast (1 node)"));
  CHECK(tool("run " + model + " --seed 1 --ops " + library.string()).code == 0);
  CHECK(tool("parity " + model + " --against-plain --ops " + library.string()).code == 0);
  CHECK(has(tool("inspect " + model + " --steps --ops " + library.string()).out, "the op's own fast kernel"));
  CHECK(tool("vet " + model + " --ops " + library.string()).code == 0);
  CHECK(has(tool("run " + model + " --ops " + kGrain).err, "cannot be loaded as a library of ops"));
}

TEST_CASE("inspect --modules") {
  const Folder f;
  Builder b("paths");
  const auto x = b.input("x", DType::f32, {2});
  b.output(b.op("Neg", {b.op("Relu", {x})}), "y");
  Graph g = b.finish();
  g.nodes[0].name = "/encoder/layer_0/Relu";
  g.nodes[1].name = "/encoder/layer_1/Neg";
  save(g, f.path / "m.onnx");
  const Json j = Json::parse(tool("inspect " + (f.path / "m.onnx").string() + " --modules --json -").out);
  CHECK(j["modules"].size() == 3);
  CHECK(j["modules"][0]["path"] == "encoder");
  CHECK(j["modules"][0]["nodes"] == 2);
  CHECK(has(tool("inspect " + (f.path / "m.onnx").string() + " --modules").out, "    layer_1"));
}
