// Job sheets: what they say, what is wrong with them, and what comes of them.
#include <algorithm>
#include <fstream>

#include "lathe/compare.hpp"
#include "decoder.hpp"

using namespace test;

namespace {

struct Sheet {
  Folder f;
  std::filesystem::path write(const std::string& text) const {
    const auto file = f.path / "sheet.toml";
    std::ofstream(file) << text;
    return file;
  }
  std::string error(const std::string& text) const {
    try {
      (void)read_job_sheet(write(text));
    } catch (const Error& e) {
      CHECK(e.category() == Category::format);
      std::string what = e.what();
      const auto at = what.find("sheet.toml");
      return at == std::string::npos ? what : what.substr(at);
    }
    return "read";
  }
};

// Says of 8 numbers which of 4 classes they are, as the largest sum of two.
Graph sums() {
  Builder b("sums", 17);
  const auto x = b.input("x", DType::f32, {"batch", 8});
  Tensor w(DType::f32, {8, 4}), v(DType::f32, {4, 4});
  std::ranges::fill(w.as<float>(), 0.0f);
  std::ranges::fill(v.as<float>(), 0.0f);
  for (int64_t i = 0; i < 8; ++i) w.as<float>()[i * 4 + i / 2] = 1;
  for (int64_t i = 0; i < 4; ++i) v.as<float>()[i * 4 + i] = 1;
  const auto y = b.op("Relu", {b.op("MatMul", {x, b.constant("w", w)})});
  b.output(b.op("MatMul", {y, b.constant("v", v)}), "y");
  return b.finish();
}

const char* kVariants = R"(
[[variant]]
name = "f32"
model = "m.onnx"
[[variant]]
name = "bytes"
model = "m.onnx"
narrow = { activations = "u8" }
keep_as = "bytes.onnx"
[[variant]]
name = "pairs"
model = "m.onnx"
batch = 2
lanes = 2
)";

void write_data(const Folder& f, const Graph& g, size_t items) {
  const Tensor x = random_tensor({static_cast<int64_t>(items), 8}, 5, 0, 1);
  Tensor classes(DType::i64, {static_cast<int64_t>(items)});
  Lane lane(compile(g));
  const Tensor y = lane.run({{"x", x}})[0];
  for (size_t i = 0; i < items; ++i) {
    const auto row = y.as<float>().subspan(i * 4, 4);
    classes.as<int64_t>()[i] = std::max_element(row.begin(), row.end()) - row.begin();
  }
  classes.as<int64_t>()[0] = (classes.as<int64_t>()[0] + 1) % 4;  // one that is wrong for all
  write_npy(f.path / "x.npy", x);
  write_npy(f.path / "classes.npy", classes);
  write_npy(f.path / "calibration.npy", random_tensor({16, 8}, 77, 0, 1));
}

}  // namespace

TEST_CASE("a sheet says everything that a job is") {
  const Sheet s;
  const JobSheet j = read_job_sheet(s.write(R"(
title = "All of it"
[data]
path = "labels.csv"
beside = "pictures"
[calibration]
path = "/tmp/elsewhere"
items = 40
[pictures]
size = [64, 96]
fit = "crop"
mean = [1, 2.5, 3]
scale = 0.5
bgr = true
labels = ["oak", "ash"]
[measure]
seconds = 0.5
rounds = 7
[limits]
lose_at_most = 0.5
latency_ms_at_most = 4
items_per_second_at_least = 100
megabytes_at_most = 2
[[variant]]
name = "wide"
model = "m.onnx"
threads = 2
lanes = 3
batch = 4
isa = "avx2"
shapes = { image = [4, 3, 64, 96] }
[[variant]]
name = "narrow"
model = "m.onnx"
keep_as = "kept.onnx"
[variant.narrow]
activations = "i8"
range = "percentile"
percentile = 99.5
rounding = "nearest"
equalise = false
correct_bias = false
cosine_at_least = 0.99
leave = ["head"]
)"));
  CHECK(j.title == "All of it");
  CHECK(j.data == s.f.path / "labels.csv");
  CHECK(j.beside == s.f.path / "pictures");
  CHECK(j.calibration == "/tmp/elsewhere");
  CHECK(j.calibration_items == 40);
  CHECK(j.pictures.height == 64);
  CHECK(j.pictures.width == 96);
  CHECK(j.pictures.fit == Fit::crop);
  CHECK(j.pictures.mean == std::vector<float>{1, 2.5f, 3});
  CHECK(j.pictures.scale == std::vector<float>{0.5f});
  CHECK(j.pictures.bgr);
  CHECK(j.labels == std::vector<std::string>{"oak", "ash"});
  CHECK(j.seconds == 0.5);
  CHECK(j.rounds == 7);
  CHECK(j.lose_at_most == 0.5);
  CHECK(j.latency_at_most == 0.004);
  CHECK(j.items_per_second_at_least == 100);
  CHECK(j.megabytes_at_most == 2);
  REQUIRE(j.variants.size() == 2);
  CHECK(j.variants[0].threads == 2);
  CHECK(j.variants[0].lanes == 3);
  CHECK(j.variants[0].batch == 4);
  CHECK(j.variants[0].isa == "avx2");
  CHECK(j.variants[0].shapes.at("image") == Shape{4, 3, 64, 96});
  CHECK(!j.variants[0].narrow);
  const NarrowPlan& p = *j.variants[1].narrow;
  CHECK(j.variants[1].keep_as == s.f.path / "kept.onnx");
  CHECK(p.weights == DType::i8);
  CHECK(p.activations == DType::i8);
  CHECK(p.bytes.range == RangeChoice::percentile);
  CHECK(p.bytes.percentile == 99.5);
  CHECK(p.rounding == Rounding::nearest);
  CHECK(!p.bytes.equalise);
  CHECK(!p.bytes.correct_bias);
  CHECK(p.cosine_at_least == 0.99);
  CHECK(p.leave == std::vector<std::string>{"head"});
}

TEST_CASE("what is wrong with a sheet is told with its line, its column, what was expected and the nearest right key") {
  const Sheet s;
  const std::string one = "[[variant]]\nname = \"a\"\nmodel = \"m.onnx\"\n";
  CHECK(s.error(one) == "read");
  CHECK(s.error("titel = \"x\"\n" + one) == "sheet.toml:1:1: the sheet has no key 'titel'; did you mean 'title'?");
  CHECK(s.error(one + "thread = 2\n") == "sheet.toml:4:1: [[variant]] has no key 'thread'; did you mean 'threads'?");
  CHECK(s.error(one + "threads = \"two\"\n") == "sheet.toml:4:11: 'threads' of [[variant]] is a whole number from 1 to 1024");
  CHECK(s.error(one + "threads = 0\n").starts_with("sheet.toml:4:11: 'threads' of [[variant]] is a whole number"));
  CHECK(s.error(one + "threads = 1.5\n").starts_with("sheet.toml:4:11: 'threads' of [[variant]] is a whole number"));
  CHECK(s.error(one + "isa = \"avx3\"\n") ==
        "sheet.toml:4:7: 'isa' of [[variant]] is one of scalar, sse4, avx2, avx512, amx, neon, not 'avx3'; did you mean 'avx2'?");
  CHECK(s.error(one + "narrow = { weights = \"i7\" }\n").find("'weights' of 'narrow' is one of f16, bf16") != std::string::npos);
  CHECK(s.error(one + "narrow = { range = \"squares\" }\n").find("'range' goes with activations") != std::string::npos);
  CHECK(s.error(one + "narrow = { activations = \"u8\", weights = \"i4\" }\n").find("i8 with activations on bytes") != std::string::npos);
  CHECK(s.error(one + "keep_as = \"k.onnx\"\n").find("'keep_as' goes with 'narrow'") != std::string::npos);
  CHECK(s.error(one + one) == "sheet.toml:4:1: two variants have the name 'a'");
  CHECK(s.error("[[variant]]\nmodel = \"m.onnx\"\n").find("has no 'name'") != std::string::npos);
  CHECK(s.error("[[variant]]\nname = \"m\"\n").find("has no 'model'") != std::string::npos);
  CHECK(s.error("[data]\nbeside = \"x\"\n" + one).find("[data] has no 'path'") != std::string::npos);
  CHECK(s.error("[pictures]\nsize = [64]\n" + one).find("'size' of [pictures] is [height, width] in pixels") != std::string::npos);
  CHECK(s.error("[pictures]\nmean = [1, \"x\"]\n" + one).starts_with("sheet.toml:2:12: 'mean' of [pictures] is a number"));
  CHECK(s.error("[measure]\nrounds = 1\n" + one).find("from 3 to 1000") != std::string::npos);
  CHECK(s.error("data = 3\n" + one).find("'data' of the sheet is a table: [data]") != std::string::npos);
  CHECK(s.error("variant = 3\n").find("'variant' is written [[variant]]") != std::string::npos);
  CHECK(s.error("").find("there is no [[variant]]") != std::string::npos);
  CHECK(s.error("a = = 3\n").starts_with("sheet.toml:1:5: "));
  CHECK(s.error(one + "shapes = { x = [1, \"y\"] }\n").find("the shape of 'x' is a list of whole numbers") != std::string::npos);
}

TEST_CASE("a job makes, judges and times its variants, marks what nothing beats, and tells what could not be built") {
  const Sheet s;
  const Graph g = sums();
  save(g, s.f.path / "m.onnx");
  write_data(s.f, g, 200);
  const std::string data = "[data]\npath = \"x.npy\"\ntargets = \"classes.npy\"\n[calibration]\npath = \"calibration.npy\"\n";
  const std::string measure = "[measure]\nseconds = 0.05\nrounds = 3\n";
  JobResult r = run_job_sheet(read_job_sheet(s.write(data + measure + kVariants)));
  REQUIRE(r.variants.size() == 3);
  CHECK(r.good());
  CHECK(r.labelled == 200);
  for (const VariantResult& v : r.variants) {
    CAPTURE(v.name);
    CHECK(v.failed.empty());
    REQUIRE(v.accuracy);
    CHECK(v.items == 200);
    CHECK(v.accuracy->value > 0.95);
    CHECK(v.latency.runs >= 3);
    CHECK(v.items_per_second > 0);
    CHECK(v.load_seconds > 0);
    CHECK(v.memory_bytes > 0);
    CHECK(v.file_bytes > 0);
    REQUIRE(v.parity);
    CHECK(*v.parity < 0.1);
  }
  CHECK(r.variants[0].accuracy->value == doctest::Approx(199.0 / 200));
  CHECK(r.variants[0].speed.value == 1);
  CHECK(!r.variants[0].against_first);
  CHECK(r.variants[2].against_first->difference.value == 0);
  CHECK(std::ranges::any_of(r.variants, [](const VariantResult& v) { return v.unbeaten; }));
  CHECK(std::filesystem::exists(s.f.path / "bytes.onnx"));
  // Limits, and variants that cannot be built: the others run all the same.
  r = run_job_sheet(read_job_sheet(s.write(data + measure + "[limits]\nlatency_ms_at_most = 0.000001\n" + kVariants +
                                           "[[variant]]\nname = \"absent\"\nmodel = \"none.onnx\"\n[[variant]]\nname = \"shape\"\nmodel = "
                                           "\"m.onnx\"\nshapes = { x = [3, 3] }\n")));
  CHECK(!r.good());
  REQUIRE(r.variants.size() == 5);
  CHECK(r.variants[0].broken.size() == 1);
  CHECK(r.variants[0].broken[0].find("may be") != std::string::npos);
  CHECK(r.variants[3].failed.find("none.onnx") != std::string::npos);
  CHECK(!r.variants[4].failed.empty());
  CHECK(r.variants[2].latency.runs > 0);
  // Without data there is speed alone, and a reason; bytes need calibration.
  r = run_job_sheet(read_job_sheet(s.write(measure + kVariants)));
  CHECK(r.no_accuracy.find("[data]") != std::string::npos);
  CHECK(r.variants[1].failed.find("[calibration]") != std::string::npos);
  CHECK(!r.variants[0].accuracy);
  CHECK(r.variants[0].latency.runs > 0);
}

TEST_CASE("values to predict are compared by their error; an archive is a variant too; the example sheet can be read") {
  const Sheet s;
  const Graph g = sums();
  save(g, s.f.path / "m.onnx");
  write_data(s.f, g, 64);
  Lane lane(compile(g));
  const Tensor x = read_npy(s.f.path / "x.npy");
  write_npy(s.f.path / "values.npy", lane.run({{"x", x}})[0]);
  save_program(compile(g, {.threads = 1, .shapes = {{"x", {1, 8}}}}), s.f.path / "m.lathe");
  const JobResult r = run_job_sheet(read_job_sheet(s.write(
      "[data]\npath = \"x.npy\"\ntargets = \"values.npy\"\n[calibration]\npath = \"calibration.npy\"\n[measure]\nseconds = "
      "0.05\nrounds = 3\n[[variant]]\nname = \"f32\"\nmodel = \"m.onnx\"\n[[variant]]\nname = \"archive\"\nmodel = "
      "\"m.lathe\"\n[[variant]]\nname = \"bytes\"\nmodel = \"m.onnx\"\nnarrow = { activations = \"u8\", cosine_at_least = 0.9 }\n")));
  REQUIRE(r.variants.size() == 3);
  CHECK(r.values);
  for (const VariantResult& v : r.variants) {
    CAPTURE(v.failed);
    REQUIRE(v.error);
  }
  CHECK(r.variants[0].error->value < 1e-5);
  CHECK(r.variants[1].error->value < 1e-5);
  CHECK(r.variants[1].parity_why_not.find("archive") != std::string::npos);
  CHECK(r.variants[2].error->value > r.variants[0].error->value);
  CHECK(r.variants[2].error_against_first->low > 0);
  const JobSheet example = read_job_sheet(s.write(example_job_sheet("m.onnx", g)));
  CHECK(example.variants.size() == 3);
  CHECK(example.variants[0].model == s.f.path / "m.onnx");
}

TEST_CASE("a variant follows tuned recipes, and says how many of its steps do") {
  const Sheet s;
  Builder b("product", 17);
  b.output(b.op("MatMul", {b.input("x", DType::f32, {20, 30}), b.constant("w", random_tensor({30, 40}, 1))}), "y");
  const Graph g = b.finish();
  save(g, s.f.path / "m.onnx");
  const Program p = compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>()});
  const StepInfo step = p.describe({}).steps[0];
  Recipes mine;
  mine.add({step.problem, p.options().isa, 1, step.chosen});
  write_recipes(s.f.path / "r.json", mine, machine_fingerprint());
  Logbook(s.f.path / "book.sqlite").keep_tuned(machine_fingerprint(), mine, {});
  write_recipes(s.f.path / "far.json", mine, "an abacus");
  const auto sheet = [](const char* name, const char* file) {
    return "[[variant]]\nname = \"" + std::string(name) + "\"\nmodel = \"m.onnx\"\nrecipes = \"" + file + "\"\n";
  };
  const JobResult r = run_job_sheet(read_job_sheet(s.write("[measure]\nseconds = 0.05\nrounds = 3\n" + sheet("a", "r.json") +
                                                           sheet("b", "book.sqlite") + sheet("c", "far.json") + sheet("d", "none.json"))));
  REQUIRE(r.variants.size() == 4);
  for (size_t i = 0; i < 2; ++i) {
    CAPTURE(r.variants[i].failed);
    REQUIRE(r.variants[i].notes.size() == 1);
    CHECK(r.variants[i].notes[0] == "1 of 1 steps by tuned recipes");
  }
  CHECK(r.variants[2].failed.find("for another machine (an abacus)") != std::string::npos);
  CHECK(r.variants[3].failed.find("cannot be read") != std::string::npos);
}

TEST_CASE("a variant turns knobs by hand; what its family refuses, and what is no pin, is said") {
  const Sheet s;
  Builder b("product", 17);
  b.output(b.op("MatMul", {b.input("x", DType::f32, {20, 30}), b.constant("w", random_tensor({30, 40}, 1))}, {}, "y"));
  Graph g = b.finish();
  g.nodes[0].name = "product";
  save(g, s.f.path / "m.onnx");
  const auto variant = [](const char* name, const char* pins) {
    return "[[variant]]\nname = \"" + std::string(name) + "\"\nmodel = \"m.onnx\"\npin = [" + pins + "]\n";
  };
  const JobResult r = run_job_sheet(
      read_job_sheet(s.write("[measure]\nseconds = 0.05\nrounds = 3\n" + variant("a", "\"product:k_block=64\", \"panel_block=1\"") +
                             variant("b", "\"product:k_block=5\"") + variant("c", "\"produce:k_block=64\""))));
  REQUIRE(r.variants.size() == 3);
  CAPTURE(r.variants[0].failed);
  REQUIRE(r.variants[0].notes.size() == 1);
  CHECK(r.variants[0].notes[0] == "1 of 1 steps pinned");
  CHECK(has(r.variants[1].failed, "expected 64 to 576"));
  CHECK(has(r.variants[2].failed, "did you mean 'product'"));
  CHECK(has(error_of([&] { read_job_sheet(s.write(variant("a", "\"k_block\""))); }), "expected NODE:KNOB=VALUE"));
}

TEST_CASE("variants keep states: models, narrower ones and lines, at a number of positions held") {
  const Sheet s;
  const Graph g = decoder({.causal = true});
  save(g, s.f.path / "decoder.onnx");
  write(s.f.path / "line.toml",
        "[[part]]\nname = \"decoder\"\nmodel = \"decoder.onnx\"\nstates = \"found\"\n[[part]]\nname = \"best\"\nop = \"ArgMax\"\ntakes = "
        "[\"decoder.scores\"]\nset = { axis = -1 }\n");
  const std::string kept = "states = \"present.*=past.*\"\nshapes = { tokens = [1, 1] }\n";
  const JobResult r = run_job_sheet(read_job_sheet(
      s.write("[measure]\nseconds = 0.05\nrounds = 3\n[[variant]]\nname = \"f32\"\nmodel = \"decoder.onnx\"\nheld = 20\npositions = 32\n" +
              kept + "[[variant]]\nname = \"i8\"\nmodel = \"decoder.onnx\"\nnarrow = { weights = \"i8\" }\nheld = 20\n" + kept +
              "[[variant]]\nname = \"line\"\nmodel = \"line.toml\"\nstates = \"found\"\nshapes = { tokens = [1, 1] }\n" +
              "[[variant]]\nname = \"full\"\nmodel = \"decoder.onnx\"\nheld = 40\npositions = 32\n" + kept)));
  REQUIRE(r.variants.size() == 4);
  for (size_t i = 0; i < 3; ++i) {
    CAPTURE(r.variants[i].failed);
    CHECK(r.variants[i].latency.median > 0);
    REQUIRE(r.variants[i].parity);
    CHECK(*r.variants[i].parity < 1e-4);
  }
  CHECK(r.variants[3].failed.find("'held' is 40, and there is room for 32 positions") != std::string::npos);
  const std::string one = "[[variant]]\nname = \"a\"\nmodel = \"m.onnx\"\n";
  CHECK(s.error(one + "held = 3\n").find("'held' goes with 'states'") != std::string::npos);
  CHECK(s.error(one + "states = \"found\"\npositions = -1\n").find("'positions' of [[variant]] is a whole number from 0") !=
        std::string::npos);
}
