// lathe watch, on the demo models.
#include <set>

#include "tool.hpp"

using namespace test;

namespace {

const std::string kKnots = (kDemo / "knots/knots.onnx").string(), kScans = (kDemo / "knots/test").string();

}  // namespace

TEST_CASE("watch: boxes of a folder, kept in every form, gone on with, and judged as the model is") {
  const Folder f;
  const auto file = [&](const char* name) { return (f.path / name).string(); };
  const std::string where = " --lines " + file("l.jsonl") + " --table " + file("t.csv") + " --boxes " + file("b.csv");
  const Result all = tool("watch " + kKnots + " " + kScans + where + " --annotated " + file("drawn") + " --sheet " + file("sheet.png") +
                          " --json " + file("j"));
  INFO(all.err);
  REQUIRE(all.code == 0);
  CHECK(all.err.empty());
  CHECK(has(all.out, "boxes of 60 frames"));
  CHECK(has(all.out, "detect = { form = \"cells\""));
  CHECK(has(all.out, "scan_000.png"));
  CHECK(has(all.out, "and 40 more"));
  CHECK(has(all.out, "frames/s"));
  const Json j = Json::parse(slurp(f.path / "j"));
  CHECK(j["frames"] == 60);
  CHECK(j["sees"] == "boxes");
  CHECK(j["seen"].size() == 3);
  CHECK(lines_of(slurp(f.path / "l.jsonl")).size() == 60);
  CHECK(fs::exists(f.path / "drawn/scan_059.png"));
  CHECK(fs::file_size(f.path / "sheet.png") > 20000);
  // What is printed as found is taken as given.
  const std::string text = j["detect"].get<std::string>();
  std::ofstream(f.path / "w.toml") << "model = \"" << kKnots << "\"\nfrom = [\"" << kScans << "\"]\n" << text << "\n";
  const Result given = tool("watch " + file("w.toml") + " --json -");
  INFO(given.err);
  REQUIRE(given.code == 0);
  CHECK(Json::parse(given.out)["seen"] == j["seen"]);
  // Results are written over results.
  CHECK(tool("watch " + kKnots + " " + kScans + where).code == 0);
  // Half of the lines: the rest is done again, and the files are the same.
  const std::string lines = slurp(f.path / "l.jsonl");
  std::ofstream(f.path / "l.jsonl") << lines.substr(0, lines.size() / 2);
  const Result more = tool("watch " + kKnots + " " + kScans + where + " --resume");
  CHECK(more.code == 0);
  CHECK(has(more.out, "were done before"));
  CHECK(slurp(f.path / "l.jsonl") == lines);
  // Held against what is true, by the same boxes.
  const Result judged =
      tool("judge " + kKnots + " --as boxes --data " + (kDemo / "knots/boxes.csv").string() + " --beside " + kScans + " --json -");
  REQUIRE(judged.code == 0);
  const Json m = Json::parse(judged.out)["models"][0];
  CHECK(m["items"] == 60);
  CHECK(m["classes"].size() == 3);
  CHECK(m["detect"] == text);
}

TEST_CASE("watch: rules of a sheet on a stand-in camera, the same each time") {
  const Folder f;
  const auto run = [&] {
    const Result r = tool("watch " + (kDemo / "knots/gate.toml").string() + " --no-waiting --json " + (f.path / "j").string());
    INFO(r.err);
    REQUIRE(r.code == 0);
    CHECK(has(r.out, "\"rule\":\"large knot\""));
    return Json::parse(slurp(f.path / "j"));
  };
  const Json a = run(), b = run();
  CHECK(a["happenings"].size() > 1);
  CHECK(a["happenings"] == b["happenings"]);
  CHECK(a["happenings"][0]["state"] == "begins");
  // One that prints, one that fails and goes on, one that fails and ends it.
  const auto sheet = [&](const std::string& action) {
    std::ofstream(f.path / "s.toml") << "model = \"" << kKnots << "\"\nfrom = [\"" << kScans
                                     << "\"]\n[[rule]]\nname = \"hole\"\nclass = \"hole\"\nthen = [" << action << "]\n";
    return tool("watch " + (f.path / "s.toml").string());
  };
  const Result printed = sheet("{ print = true }");
  CHECK(printed.code == 0);
  CHECK(has(printed.out, "{\"rule\":\"hole\",\"state\":\"begins\""));
  const Result goes_on = sheet("{ command = [\"false\"], on_failure = \"go on\" }");
  CHECK(goes_on.code == 1);
  CHECK(has(goes_on.err, "command 'false' ended with exit code 1"));
  CHECK(has(goes_on.out, "boxes of 60 frames"));
  const Result ends = sheet("{ command = [\"false\"] }");
  CHECK(ends.code == 4);
  CHECK(has(ends.err, "rule 'hole', frame 'scan_000.png'"));
  const Result wrong = sheet("{ comand = [\"false\"] }");
  CHECK(wrong.code == 3);
  CHECK(has(wrong.err, "s.toml:6:"));
}

TEST_CASE("watch: streams, other models, and what is wrong with them") {
  const Folder f;
  const std::string video = (f.path / "v.y4m").string();
  const Result made = tool("watch " + kKnots + " --camera --no-waiting --frames 30 --size 96x144 --video " + video + " --corner");
  INFO(made.err);
  REQUIRE(made.code == 0);
  CHECK(has(made.out, "boxes of 30 frames"));
  const Result again = tool("watch " + kKnots + " " + video + " --json -");
  REQUIRE(again.code == 0);
  CHECK(Json::parse(again.out)["frames"] == 30);
  const Result sanded = tool("watch " + (kDemo / "sanding/sanding.onnx").string() + " " + (kDemo / "sanding/scratched").string() +
                             " --tile 64 --annotated " + (f.path / "sanded").string());
  CHECK(sanded.code == 0);
  CHECK(has(sanded.out, "pictures of 16 frames"));
  CHECK(fs::exists(f.path / "sanded/board_15.png"));
  const Result labels = tool("watch " + kGrain + " " + (kDemo / "grain/calibration").string() + " --json -");
  REQUIRE(labels.code == 0);
  CHECK(Json::parse(labels.out)["sees"] == "labels");
  CHECK(Json::parse(labels.out)["seen"].size() == 6);
  // A stream that breaks off: what came before is told, and the exit code says it.
  const std::string whole = slurp(video);
  std::ofstream(f.path / "cut.y4m", std::ios::binary) << whole.substr(0, whole.size() - 1000);
  const Result cut = tool("watch " + kKnots + " " + (f.path / "cut.y4m").string());
  CHECK(cut.code == 1);
  CHECK(has(cut.out, "boxes of 29 frames"));
  CHECK(has(cut.err, "in the middle of frame 29"));
  const auto wrong = [&](const std::string& arguments, int code, const char* says) {
    const Result r = tool("watch " + arguments);
    CAPTURE(arguments);
    CAPTURE(r.err);
    CHECK(r.code == code);
    CHECK(has(r.err, says));
  };
  wrong(kKnots, 2, "nothing to watch");
  wrong(kKnots + " nowhere.png", 2, "nowhere.png: no such file");
  wrong(kKnots + " " + kScans + " --detect box=center", 2, "did you mean 'centre'");
  wrong(kKnots + " " + kScans + " --detect scors=sigmoid", 2, "did you mean 'scores'");
  wrong(kKnots + " " + kScans + " --resume", 3, "name their file");
  wrong(kKnots + " " + kScans + " --video v.mp4", 2, "ending in .y4m");
  wrong(kKnots + " --camera --no-waiting", 2, "needs --frames");
  wrong(kKnots + " " + kScans + " --sees masks --json " + (f.path / "j").string(), 0, "");
  wrong(kGrain + " " + kScans + " --sees boxes", 3, "no reading makes boxes of them");
  wrong(kKnots + " " + kScans + " --lines " + kKnots, 2, "which this command reads");
  std::ofstream(f.path / "broken.png") << "no picture";
  wrong(kKnots + " " + (f.path / "broken.png").string(), 3, "broken.png is left out");
  wrong(kKnots + " " + video + " " + kScans, 2, "watched by itself");
}
