// lathe judge
#include <png.h>

#include <cmath>

#include "tool.hpp"

using namespace test;

namespace {
const std::string kTruth = " --data " + (kDemo / "grain/truth.csv").string() + " --beside " + (kDemo / "grain/test").string();
}

TEST_CASE("judge: the demo model on its held-out pictures, from a table, folders, an archive") {
  const Folder f;
  const Result r = tool("judge " + kGrain + kTruth + " --json -");
  REQUIRE(r.code == 0);
  const Json j = Json::parse(r.out)["models"][0];
  CHECK(j["items"] == 240);
  CHECK(j["top_1"]["value"].get<double>() > 0.98);
  CHECK(j["top_1"]["low"].get<double>() < j["top_1"]["value"].get<double>());
  CHECK(j["classes"].size() == 6);
  CHECK(j["confusion"].size() == 6);
  CHECK(j["wrong"].size() == 240 - std::lround(240 * j["top_1"]["value"].get<double>()));
  const Result text = tool("judge " + kGrain + kTruth);
  CHECK(has(text.out, "240 items, 6 classes"));
  CHECK(has(text.out, "What it is (rows) and what was said (columns)"));
  CHECK(has(text.out, "Wrong, the most certain first"));
  // A folder a class, with one file that is no picture; in batches.
  std::ifstream truth(kDemo / "grain/truth.csv");
  int taken = 0;
  for (std::string line; std::getline(truth, line) && taken < 30;) {
    const std::string file = line.substr(0, line.find(',')), label = line.substr(line.find(',') + 1);
    if (!fs::exists(kDemo / "grain/test" / file)) continue;
    fs::create_directories(f.path / "data" / label);
    fs::copy_file(kDemo / "grain/test" / file, f.path / "data" / label / file);
    ++taken;
  }
  write(f.path / "data/oak/broken.png", "not a picture");
  const std::string data = " --data " + (f.path / "data").string();
  const Result folders = tool("judge " + kGrain + data + " --batch 4 --json -");
  REQUIRE(folders.code == 0);
  const Json by_folder = Json::parse(folders.out)["models"][0];
  CHECK(by_folder["items"] == 30);
  CHECK(by_folder["left_out"].size() == 1);
  CHECK(has(folders.err, "broken.png is left out"));
  const Result strict = tool("judge " + kGrain + data + " --strict");
  CHECK(strict.code == 3);
  CHECK(has(strict.err, "broken.png"));
  const std::string archive = (f.path / "grain.lathe").string();
  REQUIRE(tool("ship " + kGrain + " -o " + archive).code == 0);
  const Result shipped = tool("judge " + archive + kTruth + " --json -");
  CHECK(shipped.code == 0);
  CHECK(Json::parse(shipped.out)["models"][0]["top_1"] == j["top_1"]);
}

TEST_CASE("judge: another model on the same items, and a share that must be held") {
  const Folder f;
  const Result level = tool("judge " + kGrain + kTruth + " --against " + kGrain);
  CHECK(level.code == 0);
  CHECK(has(level.out, "is level against"));
  CHECK(has(level.out, "not significant, p = 1"));
  // With its channels the wrong way round it is worse, and that is no chance.
  const std::string other = (f.path / "other.onnx").string();
  Graph g = load(kGrain);
  g.metadata["channels"] = "bgr";
  save(g, other);
  const Result worse = tool("judge " + kGrain + kTruth + " --against " + other + " --json -");
  REQUIRE(worse.code == 0);
  const Json against = Json::parse(worse.out)["models"][1]["against_first"];
  CHECK(against["items"] == 240);
  CHECK(against["difference"]["value"].get<double>() < 0);
  CHECK(against["significant"] == true);
  CHECK(has(tool("judge " + kGrain + kTruth + " --against " + other).out, "lost "));
  CHECK(tool("judge " + kGrain + kTruth + " --at-least 0.9").code == 0);
  const Result held = tool("judge " + other + kTruth + " --at-least 0.97");
  CHECK(held.code == 1);
  CHECK(has(held.out, "not held: at least 97.0 %"));
}

TEST_CASE("judge: arrays with classes and with values") {
  const Folder f;
  const auto path = [&](const char* name) { return (f.path / name).string(); };
  Builder b("sum", 17);
  b.output(b.op("MatMul", {b.input("x", DType::f32, {Dim("n"), 8}), b.constant("W", random_tensor({8, 3}, 1))}), "y");
  save(b.finish(), path("m.onnx"));
  const Tensor x = random_tensor({40, 8}, 2);
  write_npz(path("x.npz"), {{"x", x}});
  Lane lane(compile(load(path("m.onnx"))));
  const Tensor y = lane.run({{"x", x}})[0];
  Tensor classes(DType::i64, {40}), values(DType::f32, {40, 3});
  for (int64_t i = 0; i < 40; ++i) {
    const float* row = y.as<float>().data() + i * 3;
    classes.as<int64_t>()[i] = i < 10 ? 0 : std::max_element(row, row + 3) - row;
    for (int64_t k = 0; k < 3; ++k) values.as<float>()[i * 3 + k] = row[k] + 0.25f;
  }
  write_npy(path("classes.npy"), classes);
  write_npy(path("values.npy"), values);
  const Result c = tool("judge " + path("m.onnx") + " --data " + path("x.npz") + " --targets " + path("classes.npy") + " --json -");
  REQUIRE(c.code == 0);
  CHECK(Json::parse(c.out)["models"][0]["items"] == 40);
  CHECK(Json::parse(c.out)["models"][0]["top_1"]["value"].get<double>() >= 0.75);
  const std::string with_values = "judge " + path("m.onnx") + " --data " + path("x.npz") + " --targets " + path("values.npy");
  const Result v = tool(with_values + " --batch 7 --json -");
  REQUIRE(v.code == 0);
  const Json j = Json::parse(v.out)["models"][0];
  CHECK(j["mean_absolute_error"]["value"].get<double>() == doctest::Approx(0.25).epsilon(1e-3));
  CHECK(j["root_mean_square_error"]["value"].get<double>() == doctest::Approx(0.25).epsilon(1e-3));
  CHECK(has(tool(with_values + " --against " + path("m.onnx")).out, "which may be chance"));
  CHECK(has(tool(with_values + " --at-least 0.5").err, "these targets are values"));
  Tensor few(DType::i64, {3});
  std::fill_n(few.as<int64_t>().data(), 3, 0);
  write_npy(path("few.npy"), few);
  CHECK(has(tool("judge " + path("m.onnx") + " --data " + path("x.npz") + " --targets " + path("few.npy")).err,
            "expected as many items in both"));
  classes.as<int64_t>()[5] = 9;
  write_npy(path("high.npy"), classes);
  CHECK(has(tool("judge " + path("m.onnx") + " --data " + path("x.npz") + " --targets " + path("high.npy")).err,
            "item 5 is of class 9, the model has 3"));
}

TEST_CASE("judge: noise has no accuracy; what is missing is said") {
  const Result noise = tool("judge " + kGrain + " --noise 20 --json -");
  REQUIRE(noise.code == 0);
  const Json j = Json::parse(noise.out);
  CHECK(j["accuracy"].is_null());
  CHECK(has(j["why"], "noise has no right answers"));
  CHECK(j["items_a_second"].get<double>() > 0);
  CHECK(tool("judge " + kGrain).code == 2);
  CHECK(has(tool("judge " + kGrain + " --noise 5 --at-least 0.5").err, "measures speed alone"));
  CHECK(has(tool("judge " + kGrain + " --data " + (kDemo / "grain/test").string()).err, "its pictures have no label"));
  const Folder f;
  write(f.path / "labels.csv", "file,label\nboard_000.png,teak\n");
  const Result other =
      tool("judge " + kGrain + " --data " + (f.path / "labels.csv").string() + " --beside " + (kDemo / "grain/test").string());
  CHECK(other.code == 3);
  CHECK(has(other.err, "'teak' is none of the model's 6 classes"));
}

namespace {

void write_png(const fs::path& file, int height, int width, uint32_t format, const std::vector<uint8_t>& pixels) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  image.height = static_cast<png_uint_32>(height);
  image.width = static_cast<png_uint_32>(width);
  image.format = format;
  REQUIRE(png_image_write_to_file(&image, file.c_str(), 0, pixels.data(), 0, nullptr));
}

}  // namespace

TEST_CASE("judge: masks, restored pictures, boxes and a contact sheet of the worst") {
  const Folder f;
  const auto path = [&](const char* name) { return (f.path / name).string(); };
  // Four pictures of 8 x 8: red on the left half, the more the later.
  std::string masks = "file,target\n", same = "", boxes = "file,class,x,y,width,height\n";
  for (int i = 0; i < 4; ++i) {
    std::vector<uint8_t> pixels(8 * 8 * 3, 20), mask(64, 0);
    for (int p = 0; p < 64; ++p) {
      if (p % 8 < 4) pixels[static_cast<size_t>(p) * 3] = 230, mask[static_cast<size_t>(p)] = 1;
    }
    if (i == 3) std::fill(mask.begin(), mask.end(), 1);  // the model will be half right here
    const std::string name = "p" + std::to_string(i) + ".png";
    write_png(f.path / name, 8, 8, PNG_FORMAT_RGB, pixels);
    write_png(f.path / ("m" + name), 8, 8, PNG_FORMAT_GRAY, mask);
    masks += name + ",m" + name + "\n";
    same += name + "," + name + "\n";
    boxes += name + (i == 3 ? ",1,0,0,4,4\n" : ",0,1,1,4,4\n");
  }
  masks += "none.png,mp0.png\n";
  write(f.path / "masks.csv", masks);
  write(f.path / "same.csv", same);
  write(f.path / "boxes.csv", boxes);
  const auto model = [&](const char* name, auto make) {
    Builder b(name, 17);
    const auto x = b.input("image", DType::f32, {1, 3, 8, 8});
    b.output(make(b, x), "out");
    save(b.finish(), f.path / (std::string(name) + ".onnx"));
  };
  model("red", [](Builder& b, ValueId x) {
    return b.op("Slice", {x, b.constant("from", Tensor::from<int64_t>({1}, {0})), b.constant("to", Tensor::from<int64_t>({1}, {1})),
                          b.constant("axis", Tensor::from<int64_t>({1}, {1}))});
  });
  model("copy", [](Builder& b, ValueId x) { return b.op("Relu", {x}); });
  model("box", [](Builder& b, ValueId x) {  // always the same two boxes
    const auto nothing =
        b.op("Mul", {b.op("ReduceMean", {x}, {{"keepdims", int64_t{0}}}), b.constant("zero", Tensor::from<float>({}, {0}))});
    return b.op("Add", {b.constant("rows", Tensor::from<float>({1, 2, 6}, {1, 1, 5, 5, 0.9f, 0, 0, 0, 4, 4, 0.4f, 0})), nothing});
  });
  const Result m = tool("judge " + path("red.onnx") + " --as masks --data " + path("masks.csv") + " --scale 0.00392157 --json -");
  REQUIRE(m.code == 0);
  const Json masked = Json::parse(m.out)["models"][0];
  CHECK(masked["items"] == 4);
  CHECK(masked["left_out"].size() == 1);
  CHECK(masked["pixels_right"]["value"].get<double>() == doctest::Approx(0.875));
  CHECK(masked["worst"][0]["item"] == "p3.png");
  const Result copy =
      tool("judge " + path("copy.onnx") + " --as pictures --data " + path("same.csv") + " --white 255 --against " + path("copy.onnx"));
  CHECK(copy.code == 0);
  CHECK(has(copy.out, "PSNR, dB"));
  CHECK(has(copy.out, "which may be chance"));
  const Result b = tool("judge " + path("box.onnx") + " --as boxes --data " + path("boxes.csv") + " --sheet " + path("sheet.png") +
                        " --json " + path("b.json"));
  REQUIRE(b.code == 0);
  const Json boxed = Json::parse(slurp(path("b.json")))["models"][0];
  CHECK(boxed["items"] == 4);
  CHECK(boxed["map_at_half"]["value"].get<double>() > 0.3);
  CHECK(boxed["map_at_half"]["value"].get<double>() < 0.6);  // one class of two is never found
  // Against a model that finds nothing: average precision falls by all that it was.
  model("blind", [](Builder& b, ValueId x) {
    const auto nothing =
        b.op("Mul", {b.op("ReduceMean", {x}, {{"keepdims", int64_t{0}}}), b.constant("zero", Tensor::from<float>({}, {0}))});
    return b.op("Add", {b.constant("rows", Tensor::from<float>({1, 2, 6}, {1, 1, 5, 5, 0.001f, 0, 0, 0, 4, 4, 0.001f, 0})), nothing});
  });
  const std::string blind = "judge " + path("box.onnx") + " --as boxes --data " + path("boxes.csv") + " --against " + path("blind.onnx");
  const Result against = tool(blind + " --json " + path("a.json"));
  REQUIRE(against.code == 0);
  CHECK(has(against.out, "mean average precision at 0.5, against the first: -"));
  const Json lost = Json::parse(slurp(path("a.json")))["models"][1]["against_first"]["map_at_half"];
  CHECK(lost["value"].get<double>() == doctest::Approx(-boxed["map_at_half"]["value"].get<double>()));
  CHECK(lost["high"].get<double>() <= 0);
  CHECK(slurp(path("sheet.png")).substr(1, 3) == "PNG");
  CHECK(read_picture(path("sheet.png")).shape()[0] > 200);
  const Result wrong = tool("judge " + kGrain + kTruth + " --sheet " + path("wrong.png") + " --json " + path("w.json"));
  CHECK(wrong.code == 0);
  CHECK(slurp(path("wrong.png")).substr(1, 3) == "PNG");
  CHECK(tool("judge " + kGrain + kTruth + " --sheet " + path("wrong.jpg")).code == 2);
  const Result odd = tool("judge " + path("copy.onnx") + " --as boxes --data " + path("boxes.csv"));
  CHECK(odd.code == 3);
  CHECK(has(odd.err, "no reading makes boxes of them"));
}

TEST_CASE("judge: lines of text, by the model's own vocabulary") {
  const Folder f;
  const auto path = [&](const char* name) { return (f.path / name).string(); };
  // Says after each byte the next one of the alphabet, whatever came before.
  Builder b("next");
  const auto tokens = b.input("tokens", DType::i64, {"batch", "time"});
  const auto depth = b.constant("depth", Tensor::from<int64_t>({1}, {256}));
  const auto one = b.constant("one", Tensor::from<int64_t>({}, {1}));
  const auto hot = b.op("OneHot", {b.op("Add", {tokens, one}), depth, b.constant("values", Tensor::from<float>({2}, {0, 20}))});
  b.output(hot, "scores");
  save(b.finish(), f.path / "next.onnx");
  write(f.path / "lines.txt", "abcd\n\nxyz\nabab\r\nq\n");
  const std::string judge = "judge " + path("next.onnx") + " --as tokens --data " + path("lines.txt");
  const Result none = tool(judge);
  CHECK(none.code == 2);
  CHECK(has(none.err, "carries no vocabulary"));
  const Result r = tool(judge + " --vocabulary bytes --json " + path("j.json"));
  INFO(r.err);
  REQUIRE(r.code == 0);
  const Json j = Json::parse(slurp(path("j.json")))["models"][0];
  CHECK(j["items"] == 3);  // an empty line and one of a single token say nothing
  CHECK(j["tokens_right"]["value"].get<double>() == doctest::Approx(7.0 / 8));
  CHECK(j["exact"]["value"].get<double>() == doctest::Approx(2.0 / 3));
  // One of eight has a loss of 20, the others none.
  CHECK(j["perplexity"]["value"].get<double>() == doctest::Approx(std::exp(20.0 / 8)).epsilon(0.01));
  // The demo's model keeps its past; each line begins anew, whatever the lanes did before.
  const std::string notes = (kDemo / "notes/notes.onnx").string();
  write(f.path / "notes.txt", "Spindle 2\nSpindle 2\nBoard 847\nSpindle 2\n");
  const Result n = tool("judge " + notes + " --as tokens --data " + path("notes.txt") + " --json " + path("n.json") + " --worst 4");
  INFO(n.err);
  REQUIRE(n.code == 0);
  const Json worst = Json::parse(slurp(path("n.json")))["models"][0]["worst"];
  REQUIRE(worst.size() == 4);
  int alike = 0;
  for (const Json& w : worst) alike += w["what"] == worst[1]["what"];
  CHECK(alike >= 3);
  write(f.path / "bad.txt", "");
  CHECK(tool("judge " + notes + " --as tokens --data " + path("bad.txt")).code != 0);
}

TEST_CASE("judge and run: checkpoints, and ranks that are not there") {
  const Folder f;
  const std::string done = (f.path / "done").string();
  const Json alone = Json::parse(tool("judge " + kGrain + kTruth + " --json -").out)["models"][0];
  CHECK(!alone.contains("shared"));
  const Result first = tool("judge " + kGrain + kTruth + " --checkpoint " + done + " --json -");
  REQUIRE(first.code == 0);
  const Result again = tool("judge " + kGrain + kTruth + " --checkpoint " + done + " --json -");
  REQUIRE(again.code == 0);
  const Json a = Json::parse(first.out)["models"][0], b = Json::parse(again.out)["models"][0];
  CHECK(a["shared"]["resumed"] == 0);
  CHECK(b["shared"]["resumed"] == 240);
  for (const char* key : {"top_1", "mean_f1", "confusion", "wrong"}) {
    CHECK(a[key] == alone[key]);
    CHECK(b[key] == alone[key]);
  }
  CHECK(has(tool("judge " + kGrain + kTruth + " --checkpoint " + done).out, "240 items from the checkpoint"));
  const Result other = tool("judge " + kGrain + kTruth + " --top 2 --checkpoint " + done);
  CHECK(other.code == 3);
  CHECK(has(other.err, "is of another job"));
  const Result on_model = tool("judge " + kGrain + kTruth + " --checkpoint " + (kDemo / "grain/truth.csv").string());
  CHECK(on_model.code == 3);
  CHECK(has(on_model.err, "is no checkpoint"));
  // Pictures that are run.
  const std::string pictures = "run " + kGrain + " --image " + (kDemo / "grain/test").string();
  const std::string kept = (f.path / "kept").string();
  const Result plain = tool(pictures + " --json -");
  REQUIRE(tool(pictures + " --checkpoint " + kept).code == 0);
  const Result resumed = tool(pictures + " --checkpoint " + kept + " --json -");
  REQUIRE(resumed.code == 0);
  CHECK(Json::parse(resumed.out)["results"] == Json::parse(plain.out)["results"]);
  CHECK(Json::parse(resumed.out)["shared"]["resumed"] == 240);

  const Result pigeons = tool("judge " + kGrain + kTruth + " --ranks pigeons");
  CHECK(pigeons.code == 3);
  CHECK(has(pigeons.err, "'pigeons' is no kind of ranks: expected mpi"));
  CHECK(tool("judge " + kGrain + " --noise 10 --ranks mpi").code == 2);
  CHECK(tool("run " + kGrain + " --input random --ranks mpi").code == 2);
}
