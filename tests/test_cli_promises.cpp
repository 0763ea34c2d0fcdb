// What the tool promises whatever it is given: files of the user's stay, figures are true, limits hold, and a message names the remedy.
#include "tool.hpp"

using namespace test;
using Data = Attribute::Data;

namespace {

// A number in a body for each of 2^62 trips; `grows` gathers them.
void endless(const fs::path& path, bool grows) {
  Builder body("body", 21);
  body.input("i", DType::i64, {});
  const auto going = body.input("going", DType::boolean, {}), x = body.input("x", DType::f32, Dims{64});
  body.output(body.op("Identity", {going}), "on");
  body.output(body.op("Sin", {x}), "more");
  if (grows) body.output(body.op("Cos", {x}), "row");
  Builder b("endless", 21);
  const auto x0 = b.input("x", DType::f32, Dims{64});
  const auto trips = b.constant("trips", Tensor::from<int64_t>({}, {int64_t{1} << 62}));
  const auto out = b.ops("Loop", {trips, kAbsent, x0}, grows ? 2 : 1, {{"body", Data(body.finish_body())}});
  for (size_t i = 0; i < out.size(); ++i) b.output(out[i], "y" + std::to_string(i));
  save(b.finish(), path);
}

// y = x + bias, where the model gives bias a value that a caller may change.
void with_default(const fs::path& path) {
  Builder b("default");
  const auto x = b.input("x", DType::f32, {3});
  const auto bias = b.constant("bias", Tensor::from<float>({3}, {1, 2, 3}));
  b.output(b.op("Add", {x, bias}), "y");
  Graph g = b.finish();
  g.defaults.push_back({bias, type_of(g.values[bias])});
  save(g, path);
}

Json accuracy(const std::string& model, const std::string& options = "") {
  const Result r = tool("run " + model + " --image " + (kDemo / "grain/test").string() + " --truth " +
                        (kDemo / "grain/truth.csv").string() + " --json - " + options);
  INFO(model, options, r.err);
  REQUIRE(r.code == 0);
  return Json::parse(r.out)["accuracy"]["right"];
}

const std::string kPixels = " --mean 158.1,122.4,86.7 --scale 0.0196078,0.0230681,0.0261438";

}  // namespace

TEST_CASE("no command writes over what it reads, or over a file of another kind") {
  Folder f;
  const std::string dir = f.path.string(), model = dir + "/g.onnx", link = dir + "/link.onnx", hard = dir + "/hard.onnx";
  fs::copy(kGrain, model);
  fs::create_symlink("g.onnx", link);
  fs::create_hard_link(model, hard);
  const std::string before = slurp(model);
  for (const std::string& name : {model, link, hard, dir + "/../" + f.path.filename().string() + "/g.onnx"}) {
    for (const std::string& command :
         {"turn " + model + " --bind batch=2 -o " + name, "ship " + model + " -o " + name, "inspect " + model + " --json " + name,
          "vet " + model + " --json " + name, "explain " + model + " --draw " + name + ".dot --json " + name,
          "run " + link + " --seed 1 --json " + name}) {
      const Result r = tool(command);
      INFO(command, ": ", r.err);
      CHECK(r.code == 2);
      CHECK(has(r.err, "reads; name another file"));
      CHECK(slurp(model) == before);
    }
  }
  CHECK_FALSE(fs::exists(link + ".dot"));  // refused before anything is done
  // Notes, pictures, models, archives and arrays are not taken for one another.
  write(f.path / "notes.txt", "oak is brown\n");
  REQUIRE(tool("ship " + model + " -o " + dir + "/g.lathe").code == 0);
  fs::copy(kDemo / "grain/test/board_000.png", f.path / "board.png");
  fs::copy(kGrain, f.path / "other.onnx");
  struct Case {
    std::string command, file, kind;
  };
  for (const Case& c : {Case{"turn " + model + " --bind batch=2 -o ", "g.lathe", "a program archive"},
                        {"turn " + model + " --bind batch=2 -o ", "notes.txt", "text"},
                        {"ship " + model + " -o ", "other.onnx", "a model"},
                        {"inspect " + model + " --json ", "notes.txt", "text"},
                        {"inspect " + model + " --json ", "board.png", "a PNG picture"},
                        {"sweep Relu --sizes 64 --csv ", "other.onnx", "a model"}}) {
    const std::string was = slurp(f.path / c.file);
    const Result r = tool(c.command + dir + "/" + c.file);
    INFO(c.command, c.file, ": ", r.err);
    CHECK(r.code == 2);
    CHECK(has(r.err, "there is a file of another kind (" + c.kind + ")"));
    CHECK(slurp(f.path / c.file) == was);
  }
  // The same kind is written again; a link stays one and its file changes.
  fs::create_symlink("j.json", dir + "/l.json");
  for (int i = 0; i < 2; ++i) CHECK(tool("inspect " + model + " --json " + dir + "/l.json").code == 0);
  CHECK(fs::is_symlink(dir + "/l.json"));
  CHECK(Json::parse(slurp(f.path / "j.json"))["nodes"] == 41);
  CHECK(tool("turn " + model + " --bind batch=2 -o " + dir + "/other.onnx").code == 0);
  CHECK(tool("inspect " + model + " --json /dev/null").code == 0);
  CHECK(fs::is_character_file("/dev/null"));
  CHECK(tool("inspect " + model + " --json " + dir).code == 2);
  // Saved outputs are no exception.
  write_npy(f.path / "species.npy", random_tensor({1, 3, 64, 64}, 1));
  CHECK(has(tool("run " + model + " --input image=" + dir + "/species.npy --save " + dir).err, "reads; name another file"));
}

TEST_CASE("preprocessing is applied once, wherever it happens") {
  Folder f;
  const std::string dir = f.path.string(), inside = dir + "/inside.onnx", bytes = dir + "/bytes.onnx";
  const Json plain = accuracy(kGrain);
  CHECK(plain == 238);
  REQUIRE(tool("turn " + kGrain + " --picture image" + kPixels + " -o " + inside).code == 0);
  CHECK(accuracy(inside) == plain);
  const Json facts = Json::parse(tool("inspect " + inside + " --json -").out);
  CHECK_FALSE(facts["metadata"].contains("mean"));
  CHECK_FALSE(facts["metadata"].contains("scale"));
  CHECK(facts["metadata"]["labels"] == "ash,beech,cherry,oak,pine,walnut");
  // Bytes, height x width x channel, as a camera gives them.
  REQUIRE(tool("turn " + kGrain + " --picture image" + kPixels + " --from-u8 --from-channels-last -o " + bytes).code == 0);
  CHECK(accuracy(bytes) == plain);
  CHECK(accuracy(bytes, "--batch 16") == plain);
  // Twice would be once too often.
  const Result r = tool("turn " + inside + " --picture image --swap-channels -o " + dir + "/swapped.onnx");
  CHECK(r.code == 0);
  CHECK(Json::parse(tool("inspect " + dir + "/swapped.onnx --json -").out)["metadata"]["channels"] == "bgr");
  CHECK(accuracy(dir + "/swapped.onnx") == plain);  // the pictures are handed over blue first then
}

TEST_CASE("pictures go through models of any batch, and through archives") {
  Folder f;
  const std::string dir = f.path.string();
  const Json right = accuracy(kGrain);
  REQUIRE(tool("turn " + kGrain + " --bind batch=7 -o " + dir + "/seven.onnx").code == 0);
  CHECK(accuracy(dir + "/seven.onnx") == right);  // 240 is no multiple of 7
  REQUIRE(tool("ship " + dir + "/seven.onnx -o " + dir + "/seven.lathe").code == 0);
  CHECK(accuracy(dir + "/seven.lathe") == right);
  CHECK(accuracy(kGrain, "--batch 32") == right);
  const std::string one = (kDemo / "grain/test/board_000.png").string();
  const Json alone = Json::parse(tool("run " + kGrain + " --image " + one + " --json -").out)["results"];
  const Json padded = Json::parse(tool("run " + dir + "/seven.lathe --image " + one + " --json -").out)["results"];
  REQUIRE(padded.size() == 1);
  CHECK(padded[0]["top"][0]["label"] == alone[0]["top"][0]["label"]);
  CHECK(padded[0]["top"][0]["value"].get<double>() == doctest::Approx(alone[0]["top"][0]["value"].get<double>()).epsilon(1e-4));
  // Each picture's rows are saved under its own name.
  REQUIRE(tool("run " + dir + "/seven.onnx --image " + one + " --save " + dir + "/saved").code == 0);
  CHECK(read_npy(f.path / "saved/board_000.species.npy").shape() == Shape{1, 6});
}

TEST_CASE("archives of several shapes run, are timed, and say which shapes they hold") {
  Folder f;
  const std::string dir = f.path.string(), two = dir + "/two.lathe", whole = dir + "/whole.lathe";
  REQUIRE(tool("ship " + kGrain + " --also image=8,3,64,64 -o " + two).code == 0);
  CHECK(Json::parse(tool("inspect " + two + " --json -").out)["editions"] == Json({{{1, 3, 64, 64}}, {{8, 3, 64, 64}}}));
  const auto shape = [&](const std::string& arguments) {
    const Result r = tool(arguments + " --json -");
    INFO(arguments, ": ", r.err);
    REQUIRE(r.code == 0);
    return Json::parse(r.out);
  };
  CHECK(shape("run " + two + " --seed 1")["outputs"]["species"]["shape"] == Json({1, 6}));
  CHECK(shape("run " + two + " --seed 1 --batch 8")["outputs"]["species"]["shape"] == Json({8, 6}));
  CHECK(shape("run " + two + " --seed 1 --dim batch=8")["outputs"]["species"]["shape"] == Json({8, 6}));
  CHECK(shape("bench " + two + " --shape image=8,3,64,64 --seconds 0.05 --warmup 0")["items_per_run"] == 8);
  CHECK(shape("profile " + two + " --runs 3")["flops"].get<double>() > 0);
  CHECK(shape("explain " + two + " --batch 8")["flops"].get<double>() ==
        doctest::Approx(8 * shape("explain " + two)["flops"].get<double>()));
  const Result other = tool("run " + two + " --seed 1 --batch 4");
  CHECK(other.code == 2);
  CHECK(has(other.err, "only for image=1,3,64,64; image=8,3,64,64"));
  CHECK(has(other.err, "--with-graph"));
  // With the graph, any batch.
  REQUIRE(tool("ship " + kGrain + " --with-graph -o " + whole).code == 0);
  CHECK(shape("run " + whole + " --seed 1 --batch 4")["outputs"]["species"]["shape"] == Json({4, 6}));
  CHECK(shape("bench " + whole + " --seconds 0.05 --warmup 0")["items_per_run"] == 1);
  // The graph alone: smaller, for any processor, any batch.
  const std::string any = dir + "/any.lathe";
  const Result anywhere = tool("ship " + kGrain + " --any-machine -o " + any);
  REQUIRE(anywhere.code == 0);
  CHECK(has(anywhere.out, "any processor"));
  CHECK(has(anywhere.out, "those that it meets"));
  CHECK(fs::file_size(any) < fs::file_size(whole));
  CHECK(shape("run " + any + " --seed 1 --batch 4")["outputs"]["species"]["shape"] == Json({4, 6}));
  CHECK(shape("inspect " + any)["isa"] == "any");
  CHECK(tool("parity " + any + " --cases " + (kDemo / "grain").string()).code == 0);
  // What options bind is the first shape; --also comes on top of it.
  REQUIRE(tool("ship " + kGrain + " --dim batch=3 --also image=2,3,64,64 -o " + two).code == 0);
  CHECK(Json::parse(tool("inspect " + two + " --json -").out)["editions"] == Json({{{3, 3, 64, 64}}, {{2, 3, 64, 64}}}));
  // A case of a shape that is not held is named, the others are checked.
  REQUIRE(tool("ship " + kGrain + " -o " + two).code == 0);
  const Result parity = tool("parity " + two + " --cases " + (kDemo / "grain").string());
  INFO(parity.out, parity.err);
  CHECK(parity.code == 0);
  CHECK(has(parity.out, "skipped: its shapes are 8x3x64x64"));
  CHECK(has(parity.out, "1 case skipped"));
  // Every size must come from somewhere.
  Builder b("open");
  b.output(b.op("Relu", {b.input("x", DType::f32, {"n", 3, "height", "width"})}), "y");
  save(b.finish(), f.path / "open.onnx");
  const Result ship = tool("ship " + dir + "/open.onnx -o " + dir + "/open.lathe");
  CHECK(ship.code == 2);
  CHECK(has(ship.err, "--shape x=1,3,224,224 or --dim height=224 --dim width=224"));
  CHECK(tool("ship " + dir + "/open.onnx --dim height=320 --dim width=320 --also x=1,3,48,160 -o " + dir + "/open.lathe").code == 0);
  CHECK(tool("ship " + dir + "/open.onnx --also x=1,3,48,160 -o " + dir + "/one.lathe").code == 0);
}

TEST_CASE("figures that nobody counted are not shown as zero") {
  Folder f;
  const std::string loop = (f.path / "loop.onnx").string(), constants = (f.path / "constants.onnx").string();
  Builder body("body", 21);
  body.input("i", DType::i64, {});
  const auto going = body.input("going", DType::boolean, {}), x = body.input("x", DType::f32, Dims{4, 4});
  body.output(body.op("Identity", {going}), "on");
  body.output(body.op("MatMul", {x, body.op("Constant", {}, {{"value", Data(random_tensor({4, 4}, 1))}})}), "more");
  Builder b("loop", 21);
  const auto n = b.input("n", DType::i64, {});
  b.output(b.op("Loop", {n, kAbsent, b.input("x0", DType::f32, {4, 4})}, {{"body", Data(body.finish_body())}}), "y");
  save(b.finish(), loop);
  const Result bench = tool("bench " + loop + " --seconds 0.05 --warmup 0");
  INFO(bench.out);
  CHECK(bench.code == 0);
  // A loop is counted by running it.
  CHECK(has(bench.out, "128 FLOP a run"));
  CHECK(has(bench.out, "share of peak"));
  const Json facts = Json::parse(tool("inspect " + loop + " --json -").out);
  CHECK(facts["flops"].is_null());
  CHECK(facts["parameters"] == 16);
  CHECK(facts["nodes"] == 1);
  CHECK(facts["nodes_in_all"] == 4);
  CHECK(has(tool("inspect " + loop).out, "1 node, and 3 inside subgraphs and functions"));
  Builder c("constants");
  c.output(c.op("MatMul", {c.input("x", DType::f32, {1, 8}), c.op("Constant", {}, {{"value", Data(random_tensor({8, 2}, 1))}})}), "y");
  save(c.finish(), constants);
  CHECK(Json::parse(tool("inspect " + constants + " --json -").out)["parameter_bytes"] == 64);
  // Rate, peak and share agree, and no number of lanes beats the machine.
  const Json many = Json::parse(tool("bench " + kGrain + " --lanes 40 --threads 1 --seconds 0.3 --warmup 0 --json -").out);
  CHECK(many["share_of_peak"].get<double>() < 1.3);
  CHECK(many["share_of_peak"].get<double>() == doctest::Approx(many["gflops"].get<double>() / many["peak_gflops"].get<double>()));
}

TEST_CASE("limits end what would never end, and say how to raise them") {
  Folder f;
  const std::string turns = (f.path / "turns.onnx").string(), grows = (f.path / "grows.onnx").string();
  endless(turns, false);
  endless(grows, true);
  const auto stopped = [&](const std::string& arguments, const std::string& says) {
    const Result r = tool(arguments);
    INFO(arguments, ": ", r.err);
    CHECK(r.code == 4);
    CHECK(has(r.err, says));
  };
  stopped("run " + turns + " --seed 1 --time-limit 0.2", "--time-limit raises it");
  stopped("run " + turns + " --seed 1 --trip-limit 1000", "limit of 1000 trips; --trip-limit raises it");
  stopped("bench " + turns + " --trip-limit 1000", "--trip-limit raises it");
  stopped("bench " + turns + " --time-limit 0.2", "--time-limit raises it");
  stopped("parity " + turns + " --against-plain --trip-limit 1000", "--trip-limit raises it");
  stopped("run " + grows + " --seed 1 --memory-limit 1M", "--memory-limit raises it");
  stopped("run " + kGrain + " --seed 1 --memory-limit 1k", "--memory-limit raises it");
  CHECK(tool("run " + kGrain + " --seed 1 --memory-limit 1G --time-limit 0").code == 0);
  for (const char* bad : {"--memory-limit lots", "--memory-limit 0", "--time-limit -1", "--trip-limit 0"}) {
    const Result r = tool("run " + kGrain + " --seed 1 " + bad);
    INFO(bad, ": ", r.err);
    CHECK(r.code == 2);
    CHECK(r.err.size() < 250);  // no range of 309 digits
  }
}

TEST_CASE("inputs with a value of their own take another") {
  Folder f;
  const std::string model = (f.path / "d.onnx").string(), dir = f.path.string();
  with_default(model);
  write_npy(f.path / "x.npy", Tensor::from<float>({3}, {10, 20, 30}));
  write_npy(f.path / "b.npy", Tensor::from<float>({3}, {0.5f, 0, -1}));
  const auto values = [&](const std::string& more) {
    const Result r = tool("run " + model + " --input x=" + dir + "/x.npy --json - " + more);
    INFO(r.err);
    REQUIRE(r.code == 0);
    return Json::parse(r.out)["outputs"]["y"]["values"];
  };
  CHECK(values("") == Json({11.0, 22.0, 33.0}));
  CHECK(values("--input bias=" + dir + "/b.npy") == Json({10.5, 20.0, 29.0}));
  write_npz(f.path / "in.npz", {{"x", Tensor::from<float>({3}, {1, 1, 1})}, {"bias", Tensor::from<float>({3}, {5, 6, 7})}});
  write_npz(f.path / "out.npz", {{"y", Tensor::from<float>({3}, {6, 7, 8})}});
  CHECK(tool("parity " + model + " --npz-inputs " + dir + "/in.npz --npz-outputs " + dir + "/out.npz").code == 0);
}

TEST_CASE("what used to pass in silence is answered") {
  Folder f;
  const std::string dir = f.path.string();
  write_npz(f.path / "in.npz", {{"imagee", random_tensor({1, 3, 64, 64}, 1)}});
  write_npz(f.path / "out.npz", {{"species", random_tensor({1, 6}, 1)}});
  struct Bad {
    std::string arguments, says;
  };
  for (const Bad& b : {Bad{"parity " + kGrain + " --npz-inputs " + dir + "/in.npz --npz-outputs " + dir + "/out.npz",
                           "'imagee' names no input of the model; they are image; did you mean 'image'?"},
                       {"parity " + kGrain + " --against-plain --cases " + dir, "leave out --cases"},
                       {"run " + kGrain + " --seed 1 --save-as npz", "give --save DIR too"},
                       {"run " + kGrain + " --seed 1 --output species --output species", "is given twice"},
                       {"run " + kGrain + " --seed 1 --output speces", "did you mean 'species'?"},
                       {"run " + kGrain + " --seed 1 --treads 2", "did you mean '--threads'?"},
                       {"run " + kGrain + " --seed 1 --shape imag=1,3,64,64", "did you mean 'image'?"},
                       {"bnch " + kGrain, "did you mean 'bench'?"},
                       {"turn " + kGrain + " --rename specie=kind -o " + dir + "/t.onnx", "did you mean 'species'?"},
                       {"turn " + kGrain + " --bind bach=2 -o " + dir + "/t.onnx", "batch"},
                       {"parity " + kGrain + " --relative -0.5", "'-0.5' is not a number of 0 or more"}}) {
    const Result r = tool(b.arguments);
    INFO(b.arguments, ": ", r.err);
    CHECK(r.code == 2);
    CHECK(has(r.err, b.says));
  }
  // NaN going in and coming out; more threads than cores.
  Tensor odd = random_tensor({1, 3, 64, 64}, 1);
  odd.as<float>()[5] = NAN;
  write_npy(f.path / "nan.npy", odd);
  CHECK(has(tool("run " + kGrain + " --input image=" + dir + "/nan.npy").err, "input 'image' holds 1 NaN"));
  const Result picture = tool("run " + kGrain + " --scale nan --image " + (kDemo / "grain/test/board_000.png").string());
  CHECK(has(picture.out, "6 of 6 are NaN"));
  CHECK_FALSE(has(picture.out, "nan %"));
  CHECK(has(tool("run " + kGrain + " --seed 1 --threads 300").err, "more threads than cores take turns"));
  // One tolerance given leaves the other as it is for the dtype.
  CHECK(has(tool("parity " + kGrain + " --against-plain --relative 0.01").out, "1e-06 absolute + 0.01 relative"));
  CHECK(has(tool("parity " + kGrain + " --against-plain --absolute 0.01").out, "0.01 absolute + 0.001 relative"));
}

TEST_CASE("a file that is no model is called what it is, and an op that is not known gets its neighbour") {
  Folder f;
  const std::string dir = f.path.string();
  REQUIRE(tool("ship " + kGrain + " -o " + dir + "/g.lathe").code == 0);
  fs::copy(f.path / "g.lathe", f.path / "renamed.onnx");
  write(f.path / "page.onnx", "<!DOCTYPE html><html>404</html>");
  write(f.path / "pointer.onnx", "version https://git-lfs.github.com/spec/v1\noid sha256:00\n");
  const auto says = [&](const std::string& file, const std::string& what) {
    const Result r = tool("vet " + file);
    INFO(file, ": ", r.out, r.err);
    CHECK(has(r.out + r.err, what));
  };
  says((kDemo / "grain/test/board_000.png").string(), "it is a PNG picture");
  says(dir + "/page.onnx", "it is an HTML page");
  says(dir + "/pointer.onnx", "Git LFS");
  says(dir + "/renamed.onnx", "it is a program archive");
  Builder b("typo");
  b.output(b.op("Sigmoid", {b.input("x", DType::f32, {2})}), "y");
  save(b.finish(), f.path / "typo.onnx");
  std::string bytes = slurp(f.path / "typo.onnx");
  for (size_t at = 0; (at = bytes.find("Sigmoid", at)) != std::string::npos; ++at) std::swap(bytes[at + 4], bytes[at + 5]);
  write(f.path / "typo.onnx", bytes);
  says(dir + "/typo.onnx", "nearest: Sigmoid");
}

TEST_CASE("what vet finds nothing wrong with compiles") {
  Folder f;
  const std::string model = (f.path / "late.onnx").string();
  // Sizes that meet only when constants are evaluated: six elements as a list of e^log.
  Builder b("late");
  const auto x = b.input("x", DType::f32, {2, 3});
  const float six = std::log(6.0f), seven = std::log(7.0f);
  const auto whole = b.op("Round", {b.op("Exp", {b.constant("log", Tensor::from<float>({1}, {six}))})});
  b.output(b.op("Reshape", {x, b.op("Cast", {whole}, {{"to", int64_t{7}}})}), "y");
  save(b.finish(), model);
  CHECK(has(tool("vet " + model).out, "nothing is wrong"));
  CHECK(tool("run " + model + " --seed 1").code == 0);
  std::string bytes = slurp(model);
  const size_t at = bytes.find(std::string(reinterpret_cast<const char*>(&six), sizeof six));
  REQUIRE(at != std::string::npos);
  bytes.replace(at, sizeof seven, reinterpret_cast<const char*>(&seven), sizeof seven);
  write(model, bytes);
  const Result vet = tool("vet " + model), run = tool("run " + model + " --seed 1");
  INFO(vet.out, run.err);
  CHECK(vet.code == 1);
  CHECK(has(vet.out, "cannot reshape 2x3"));
  CHECK(run.code == 3);
}

TEST_CASE("tables fit the terminal that they are printed on, and files get them whole") {
  Folder f;
  const std::string out = (f.path / "out").string();
  for (const std::string& command : {"inspect " + kGrain + " --nodes", "profile " + kGrain + " --runs 3 --threads 1"}) {
    CAPTURE(command);
    const auto tables = [](const std::string& text) {  // the lines from each rule of dashes to the next empty one
      std::vector<std::string> found;
      bool inside = false;
      for (std::string line : lines_of(text)) {
        if (line.ends_with('\r')) line.pop_back();
        if (has(line, "----------")) inside = true;
        if (line.empty()) inside = false;
        if (inside) found.push_back(line);
      }
      return found;
    };
    const std::string on_terminal =
        "script -qec \"stty cols 72; NO_COLOR=1 " + std::string(LATHE_TOOL) + " " + command + " 2>/dev/null\" /dev/null >" + out;
    REQUIRE(std::system((on_terminal + " </dev/null").c_str()) == 0);
    const std::vector<std::string> narrow = tables(slurp(out)), whole = tables(tool(command).out);
    REQUIRE(narrow.size() > 5);
    CHECK(narrow.size() == whole.size());
    for (const std::string& line : narrow) CHECK(line.size() <= 72);
    CHECK(std::ranges::any_of(whole, [](const std::string& line) { return line.size() > 72; }));
    CHECK(std::ranges::any_of(narrow, [](const std::string& line) { return has(line, ".."); }));
  }
}
