// lathe generate, on the demo's notes: the same tokens as a float64 loop, in every way that must not change them.
#include "tool.hpp"

using namespace test;

namespace {

const std::string kNotes = (kDemo / "notes/notes.onnx").string();

Json generate(const std::string& options) {
  const Result r = tool("generate " + kNotes + " " + options + " --json -");
  INFO(r.err);
  REQUIRE(r.code == 0);
  return Json::parse(r.out);
}

}  // namespace

TEST_CASE("generate: what the training script's float64 loop makes of the same beginnings") {
  const Json lines = Json::parse(slurp(kDemo / "notes/continued.json"));
  REQUIRE(lines.size() == 8);
  for (const Json& line : lines) {
    const std::string beginning = line["beginning"];
    CAPTURE(beginning);
    std::string ids;
    for (const int64_t t : line["prompt"]) ids += (ids.empty() ? "" : ",") + std::to_string(t);
    const std::string prompt = beginning.empty() ? "--ids " + ids : "--prompt '" + beginning + "'";
    for (const char* how : {"--threads 1", "--threads 2", "--isa sse4", "--positions 80", "--beams 1 --seed 9"}) {
      CAPTURE(how);
      const Json j = generate(prompt + " --most 60 " + how);
      CHECK(j["tokens"] == line["tokens"]);
      CHECK(j["text"] == line["text"]);
      CHECK(j["prompt_tokens"] == line["prompt"].size());
    }
  }
}

TEST_CASE("generate: text on standard output, figures on the other, and drawn texts that come again") {
  const Result r = tool("generate " + kNotes + " --prompt 'Spindle 2' --threads 1");
  INFO(r.err);
  REQUIRE(r.code == 0);
  CHECK(r.out.starts_with("Spindle 2"));
  CHECK(lines_of(r.out).size() == 1);
  CHECK(has(r.err, "tokens/s"));
  CHECK(has(r.err, "4 that grow, in place"));
  CHECK(has(r.err, "by the model"));
  const std::string drawn = "--prompt Board --temperature 1.2 --top-k 40 --top-p 0.95 --repetition 1.1 --seed ";
  const Json once = generate(drawn + "5"), again = generate(drawn + "5 --threads 1"), other = generate(drawn + "6");
  CHECK(once["tokens"] == again["tokens"]);
  CHECK(once["tokens"] != other["tokens"]);
  const Json draft = generate(drawn + "5 --draft " + kNotes + " --ahead 3");
  CHECK(draft["tokens"] == once["tokens"]);
  CHECK(draft["proposed"] > 0);
  const Json beams = generate("--prompt Order --beams 4");
  CHECK(beams["log_likelihood"] < 0);
  CHECK(beams["ended"] == "token");
  // Ends that are asked for.
  CHECK(generate("--prompt 'Spindle 2' --most 3")["ended"] == "count");
  const Json stopped = generate("--prompt 'Spindle 2' --stop ' at ' --stop turns");
  CHECK(stopped["ended"] == "text");
  CHECK(!has(stopped["text"].get<std::string>(), " at "));
  CHECK(generate("--prompt 'Spindle 2' --positions 8")["ended"] == "room");
  // Shipped, it goes on from the archive alone.
  const Folder shipped;
  const std::string archive = (shipped.path / "notes.lathe").string();
  REQUIRE(tool("ship " + kNotes + " -o " + archive + " --states found --also tokens=1,3").code == 0);
  const Result from = tool("generate " + archive + " --prompt 'Spindle 2' --json -");
  INFO(from.err);
  REQUIRE(from.code == 0);
  CHECK(Json::parse(from.out)["text"] == generate("--prompt 'Spindle 2'")["text"]);
  // A prompt from a file, tokens without a vocabulary, another vocabulary.
  const Folder f;
  write(f.path / "prompt.txt", "Spindle 2");
  CHECK(generate("--prompt-file " + (f.path / "prompt.txt").string())["text"] == generate("--prompt 'Spindle 2'")["text"]);
  CHECK(generate("--prompt 'Spindle 2' --vocabulary " + (kDemo / "notes/notes.vocabulary").string())["text"] ==
        generate("--prompt 'Spindle 2'")["text"]);
}

TEST_CASE("generate: what cannot be is said before anything runs") {
  const auto refused = [](const std::string& options, int code = 2) {
    const Result r = tool("generate " + options);
    CAPTURE(options);
    CHECK(r.code == code);
    CHECK(r.out.empty());
    return r.err;
  };
  CHECK(has(refused(kNotes + " --ids 4,400"), "token 400 of the prompt is not one of the model's 384"));
  CHECK(has(refused(kNotes + " --prompt x --ids 1"), "exclude one another"));
  CHECK(has(refused(kNotes + " --prompt x --temperature -1"), "temperature is -1"));
  CHECK(has(refused(kNotes + " --prompt x --top-p 2"), "top_p is 2"));
  CHECK(has(refused(kNotes + " --prompt x --states 'presnt.*=past.*'"), "pairs nothing"));
  CHECK(has(refused(kNotes + " --prompt x --states 'scores=past.0.keys'"), "they differ in rank"));
  CHECK(has(refused(kNotes + " --prompt x --tokens-input tokns"), "did you mean 'tokens'"));
  CHECK(has(refused(kNotes + " --prompt 'a longer prompt' --positions 3"), "the program holds 3 at most"));
  CHECK(has(refused(kNotes + " --prompt x --beams 2 --temperature 1"), "temperature must be 0"));
  CHECK(has(refused(kNotes + " --prompt x --vocabulary bytes", 3), "the vocabulary has 256 tokens, the model tells 384 apart"));
  CHECK(has(refused(kGrain + " --ids 1"), "no input takes tokens"));
  CHECK(has(refused(kNotes + " --prompt x --batch 2"), "--batch"));
  const Folder f;
  write(f.path / "bad.vocabulary", "lathe vocabulary 1\nkind = words\n[tokens]\na\na\n");
  CHECK(has(refused(kNotes + " --prompt x --vocabulary " + (f.path / "bad.vocabulary").string(), 3),
            "bad.vocabulary: tokens 0 and 1 are both 'a'"));
}
