// lathe compare, and lathe narrow on bytes: the demo's forms side by side.
#include "tool.hpp"

using namespace test;

namespace {

const std::string kCalibrate = " --calibrate " + (kDemo / "grain/calibration").string();
const std::string kData = " --data " + (kDemo / "grain/truth.csv").string() + " --data-beside " + (kDemo / "grain/test").string();

std::string sheet(const std::string& variants, const std::string& more = "") {
  return "title = \"Forms\"\n[data]\npath = \"" + (kDemo / "grain/truth.csv").string() + "\"\nbeside = \"" +
         (kDemo / "grain/test").string() + "\"\n[calibration]\npath = \"" + (kDemo / "grain/calibration").string() +
         "\"\nitems = 12\n[measure]\nseconds = 0.1\nrounds = 3\n" + more + variants;
}
std::string variant(const std::string& name, const std::string& more) {
  return "[[variant]]\nname = \"" + name + "\"\nmodel = \"" + kGrain + "\"\n" + more + "\n";
}

}  // namespace

TEST_CASE("narrow on bytes: the demo model calibrated, ranked, and judged on pictures it has not seen") {
  const Folder f;
  const std::string out = (f.path / "bytes.onnx").string();
  const Result r = tool("narrow " + kGrain + " -o " + out + " --activations u8" + kCalibrate + kData + " --sensitivity noise --json -");
  REQUIRE(r.code == 0);
  CHECK(r.err.empty());
  const Json j = Json::parse(r.out);
  CHECK(j["agrees_with_plain"] == true);
  CHECK(j["steps"].size() == 18);
  CHECK(j["sensitivity"].size() == 18);
  CHECK(j["cosine"].get<double>() > 0.9999);
  CHECK(j["accuracy"]["before"]["top_1"]["value"].get<double>() - j["accuracy"]["after"]["top_1"]["value"].get<double>() <= 0.005);
  CHECK(j["file_bytes_after"].get<double>() < 0.3 * j["file_bytes_before"].get<double>());
  CHECK(j["warnings"].empty());
  for (const Json& s : j["steps"]) {
    CHECK(s["low"].get<double>() <= 0);
    CHECK(s["low"].get<double>() < s["high"].get<double>());
    CHECK(s["output_signal_to_noise"].get<double>() > 20);
  }
  const Result text = tool("narrow " + kGrain + " -o " + out + " --activations i8 --range extremes --rounding nearest" + kCalibrate +
                           " --items 10 --cosine-at-least 0.99999");
  CHECK(text.code == 0);
  CHECK(has(text.out, "Budget: "));
  CHECK(has(text.out, "0.9999900 was asked"));
  CHECK(has(text.out, "What each costs at the outputs"));
  CHECK(has(text.out, "compiled agrees with plain evaluation"));
  // Halves throughout.
  const Result half = tool("narrow " + kGrain + " -o " + out + " --activations f16" + kCalibrate);
  CHECK(half.code == 0);
  CHECK(has(half.out, "everything in f16"));
}

TEST_CASE("narrow on bytes: what does not go together, or cannot be held, is said") {
  const Folder f;
  const std::string out = (f.path / "bytes.onnx").string(), to = "narrow " + kGrain + " -o " + out + " --activations u8";
  for (const auto& [arguments, said] : {std::pair<std::string, std::string>{to, "--calibrate is missing"},
                                        {to + kCalibrate + " --noise 3", "do not go together"},
                                        {to + kCalibrate + " --weights i4", "weights are i8 then"},
                                        {to + kCalibrate + " --lose-at-most 1", "--data is missing"},
                                        {to + kCalibrate + " --cosine-at-least 0.9 --leave stem/conv", "the budget chooses"},
                                        {to + kCalibrate + " --leave stem/cnv", "did you mean 'stem/conv'?"},
                                        {to + kCalibrate + " --cosine-at-least 1", "the best tried loses"},
                                        {to + " --calibrate " + f.path.string(), "expected a folder for each class"},
                                        {"narrow " + kGrain + " -o " + out + " --sensitivity noise", "go with --activations"},
                                        {"narrow " + kGrain + " -o " + out + " --rounding compensated", "--calibrate is missing"}}) {
    CAPTURE(arguments);
    const Result r = tool(arguments);
    CHECK((r.code == 2 || r.code == 3));
    CHECK(has(r.err, said));
    CHECK(!fs::exists(out));
  }
  // The same pictures for both; pictures of one colour; a model that is quantised already.
  const Result same = tool(to + " --calibrate " + (kDemo / "grain/test").string() + " --items 20" + kData);
  CHECK(same.code == 0);
  CHECK(has(same.err, "20 of the calibration items are judged on too"));
  const Result again = tool("narrow " + out + " -o " + (f.path / "twice.onnx").string() + " --activations u8" + kCalibrate);
  CHECK(again.code == 3);
  CHECK(has(again.err, "quantised already"));
  const Result noise = tool(to + " --noise 8");
  CHECK(noise.code == 0);
  CHECK(has(noise.err, "ranges were read off noise"));
}

TEST_CASE("compare: a table of variants for people, programs and documents, with a chart") {
  const Folder f;
  const std::string file = (f.path / "sheet.toml").string(), chart = (f.path / "chart.svg").string();
  write(file, sheet(variant("f32", "") + variant("half", "narrow = { activations = \"f16\" }") +
                    variant("bytes", "narrow = { activations = \"u8\" }\nkeep_as = \"kept.onnx\"")));
  const Result r =
      tool("compare " + file + " --json " + (f.path / "c.json").string() + " --chart " + chart + " --write " + (f.path / "c.md").string());
  REQUIRE(r.code == 0);
  CHECK(has(r.out, "no other variant is both faster and right more often"));
  CHECK(has(r.out, "timed by turns: 3 rounds"));
  CHECK(has(slurp(chart), "<svg"));
  CHECK(has(slurp(f.path / "c.md"), "| variant | file |"));
  CHECK(fs::exists(f.path / "kept.onnx"));
  const Json j = Json::parse(slurp(f.path / "c.json"));
  REQUIRE(j["variants"].size() == 3);
  CHECK(j["variants"][0]["accuracy"]["value"].get<double>() > 0.98);
  CHECK(j["variants"][2]["file_bytes"].get<double>() < 0.3 * j["variants"][0]["file_bytes"].get<double>());
  CHECK(j["variants"][2]["against_first"].contains("p"));
  const Result csv = tool("compare " + file + " --write " + (f.path / "c.csv").string());
  CHECK(csv.code == 0);
  CHECK(lines_of(slurp(f.path / "c.csv")).size() == 4);
  CHECK(tool("compare " + file + " --write " + (f.path / "c.txt").string()).code == 2);
}

TEST_CASE("compare: limits and variants that cannot be built make the exit code 1, a sheet that is wrong is answered with its place") {
  const Folder f;
  const std::string file = (f.path / "sheet.toml").string();
  write(file, sheet(variant("f32", "") + variant("none", "narrow = { weights = \"i4\" }"), "[limits]\nitems_per_second_at_least = 1e9\n"));
  const Result r = tool("compare " + file);
  CHECK(r.code == 1);
  CHECK(has(r.out, "none: could not be built"));
  CHECK(has(r.out, "does not hold"));
  write(file, sheet(variant("f32", "thraeds = 2")));
  const Result wrong = tool("compare " + file);
  CHECK(wrong.code == 3);
  CHECK(has(wrong.err, "sheet.toml:14:1: [[variant]] has no key 'thraeds'; did you mean 'threads'?"));
  CHECK(tool("compare").code == 2);
  // The example is ready to run from where it is written.
  fs::create_directories(f.path / "sub");
  const std::string made = (f.path / "sub/made.toml").string();
  REQUIRE(tool("compare --example " + kGrain + " --write " + made).code == 0);
  std::string text = slurp(made);
  text.replace(text.find("seconds = 2"), 11, "seconds = 0.1");
  text.replace(text.find("rounds = 15"), 11, "rounds = 3");
  write(made, text);
  const Result example = tool("compare " + made);
  CHECK(example.code == 0);
  CHECK(has(example.out, "no accuracy: no labelled data"));
}
