// Lines of models by the tool: job cards from pictures, as the training script's float64 loop writes them; loops; states kept over a
// series.
#include "tool.hpp"

using namespace test;

namespace {

const std::string kCards = (kDemo / "jobcard/jobcard.toml").string(), kTable = (kDemo / "jobcard/cards.csv").string();

// The column of a table whose cells hold no quotes.
std::vector<std::string> column(const std::string& name) {
  std::vector<std::string> out;
  size_t at = 0;
  for (const std::string& line : lines_of(slurp(kTable))) {
    std::vector<std::string> cells(1);
    bool quoted = false;
    for (const char c : line) {
      if (c == '"') quoted = !quoted;
      else if (c == ',' && !quoted) cells.emplace_back();
      else cells.back() += c;
    }
    if (out.empty() && at == 0 && cells[0] == "picture") {
      while (cells.at(at) != name) ++at;
      continue;
    }
    out.push_back(cells.at(at));
  }
  return out;
}

}  // namespace

TEST_CASE("line: job cards are those of the float64 loop, one by one and side by side, from models and from one archive") {
  const auto expected = column("float64");
  REQUIRE(expected.size() == 40);
  const Folder f;
  const std::string archive = (f.path / "cards.lathe").string();
  const Result shipped = tool("ship " + kCards + " -o " + archive + " --states found --shape board=1,3,64,128");
  INFO(shipped.err);
  REQUIRE(shipped.code == 0);
  for (const std::string& how : {kCards, kCards + " --side-by-side 8", kCards + " --side-by-side 3 --threads 1 --positions 40", archive,
                                 archive + " --side-by-side 5"}) {
    CAPTURE(how);
    const Json j = json_of("generate " + how + " --each " + kTable);
    REQUIRE(j["results"].size() == 40);
    for (size_t i = 0; i < 40; ++i) CHECK(j["results"][i]["text"] == expected[i]);
    CHECK(j["exact_match"]["share"] > 0.9);
    CHECK(j["exact_match"]["low"] < j["exact_match"]["share"]);
  }
}

TEST_CASE("line: one card, what the picture cost, and what larger ones would") {
  const std::string one =
      "generate " + kCards + " --image " + (kDemo / "jobcard/boards/board_00.png").string() + " --prompt '" + column("prompt")[0] + "'";
  const Json j = json_of(one + " --picture-costs 128x256,100x200");
  CHECK(j["text"] == column("float64")[0]);
  CHECK(j["picture"]["tokens"] == 8);
  CHECK(j["picture"]["shape"] == Json({1, 3, 64, 128}));
  REQUIRE(j["picture_costs"].size() == 3);
  CHECK(j["picture_costs"][0]["prompt_tokens"] == j["prompt_tokens"]);
  CHECK(j["picture_costs"][1]["prompt_tokens"] == j["prompt_tokens"].get<int>() + 24);
  CHECK(j["picture_costs"][2]["shape"] == Json({1, 3, 128, 224}));  // sides that 32 divides
  CHECK(j["picture_costs"][1]["picture_seconds"] > 0);
  const Result r = tool(one);
  INFO(r.err);
  REQUIRE(r.code == 0);
  CHECK(has(r.out, column("float64")[0]));
  CHECK(has(r.err, "as 1x3x64x128: 8 tokens"));
  CHECK(has(r.err, "6 that grow, in place"));
  // A picture of another size is padded to what 32 divides; none at all is no mark at all.
  const Json words = json_of("generate " + kCards + " --prompt '" + column("prompt")[0] + "'");
  CHECK(words["picture"].is_null());
  CHECK(words["prompt_tokens"] == j["prompt_tokens"].get<int>() - 8);
}

TEST_CASE("line: what takes a model takes a line") {
  const std::string cards = kCards + " --states found --shape board=1,3,64,128 --dim new=1 --dim all=1";
  const Json b = json_of("bench " + cards + " --seconds 0.05 --seed 2");
  CHECK(b["latency_seconds"]["median"] > 0);
  CHECK(b["weight_bytes"].get<double>() > 700000);
  const std::string held = kCards + " --states found --shape board=1,3,64,128 --dim new=1 --held 20";  // and a mask of 21
  CHECK(json_of("bench " + held + " --seconds 0.05")["latency_seconds"]["median"] > 0);
  const Json p = json_of("profile " + held + " --runs 3");
  CHECK(p["steps"].size() > 20);
  const Result i = tool("inspect " + kCards);
  CHECK(i.code == 0);
  CHECK(has(i.out, "past.0.keys"));
  CHECK(has(i.out, "lathe.states"));
  // As one file, vetted, with narrower weights.
  const Folder f;
  const std::string joined = (f.path / "joined.onnx").string();
  CHECK(tool("vet " + kCards).code == 0);
  CHECK(tool("turn " + kCards + " -o " + joined).code == 0);
  CHECK(json_of("generate " + joined + " --each " + kTable)["exact_match"]["right"] == 40);
  CHECK(tool("narrow " + kCards + " -o " + joined).code == 0);
  CHECK(json_of("generate " + joined + " --each " + kTable)["exact_match"]["share"] > 0.9);
  // Against plain evaluation.
  const Result parity = tool("parity " + kCards + " --against-plain --shape board=1,3,64,128 --dim new=1 --dim all=4 --dim held=3");
  INFO(parity.out, parity.err);
  CHECK(parity.code == 0);
}

TEST_CASE("line: rounds of a loop give what the model gives again and again, with the table's numbers") {
  const Folder f;
  const std::string picture = (kDemo / "sanding/scratched/board_00.png").string();
  const auto run = [&](const std::string& what, const std::string& folder) {
    const Result r = tool("run " + what + " --save " + (f.path / folder).string());
    INFO(r.err);
    REQUIRE(r.code == 0);
  };
  const std::string sanding = (kDemo / "sanding/sanding.onnx").string();
  run((kDemo / "sanding/rounds.toml").string() + " --image " + picture, "rounds");
  const PictureOptions how{.mean = {0}, .scale = {0.00392156863f}};
  Tensor x = picture_to_tensor(read_picture(picture), how);
  Lane lane(compile(load(sanding)));
  for (const float pressure : {1.0f, 0.5f, 0.25f}) {
    const Outputs sanded = lane.run({{"picture", x}});
    Tensor next(DType::f32, x.shape());
    for (size_t i = 0; i < next.as<float>().size(); ++i)
      next.as<float>()[i] = x.as<float>()[i] + pressure * (sanded[0].as<float>()[i] - x.as<float>()[i]);
    x = next;
  }
  const Tensor got = read_npy(f.path / "rounds" / "board_00.rounds.board.npy");
  REQUIRE(got.shape() == x.shape());
  float most = 0;
  for (size_t i = 0; i < got.as<float>().size(); ++i) most = std::max(most, std::fabs(got.as<float>()[i] - x.as<float>()[i]));
  CHECK(most < 1e-5f);
}

TEST_CASE("run: a series with the state kept is what a float64 loop makes of it, and without it is not") {
  const Folder f;
  const std::string chatter = (kDemo / "chatter/chatter.onnx").string();
  const std::string series = " --series vibration=" + (kDemo / "chatter/vibration.npy").string();
  const Json j = json_of("run " + chatter + " --states found" + series + " --save " + (f.path / "kept").string());
  CHECK(j["runs"] == 1500);
  CHECK(j["states"] == Json({"state_in"}));
  const Tensor expected = read_npy(kDemo / "chatter/chances.npy"), got = read_npy(f.path / "kept/chatter.npy");
  const Tensor truth = read_npy(kDemo / "chatter/truth.npy");
  REQUIRE(got.shape() == expected.shape());
  int right = 0;
  for (size_t i = 0; i < got.as<float>().size(); ++i) {
    CHECK(std::fabs(got.as<float>()[i] - expected.as<float>()[i]) < 1e-4f);
    right += (got.as<float>()[i] > 0.5f) == (truth.as<int64_t>()[i] != 0);
  }
  CHECK(right > 1450);
  // The same from an archive; every state zero, otherwise.
  const std::string archive = (f.path / "chatter.lathe").string();
  REQUIRE(tool("ship " + chatter + " -o " + archive + " --states found").code == 0);
  json_of("run " + archive + series + " --save " + (f.path / "shipped").string());
  CHECK(slurp(f.path / "shipped/chatter.npy") == slurp(f.path / "kept/chatter.npy"));
  const Result r = tool("run " + chatter + series + " --input state_in=" + (f.path / "zero.npy").string());
  CHECK(r.code != 0);
  write_npy(f.path / "zero.npy", Tensor::from<float>({1, 1, 32}, std::vector<float>(32, 0)));
  json_of("run " + chatter + series + " --input state_in=" + (f.path / "zero.npy").string() + " --save " + (f.path / "apart").string());
  CHECK(slurp(f.path / "apart/chatter.npy") != slurp(f.path / "kept/chatter.npy"));
}

TEST_CASE("line: what cannot be is said in a sentence") {
  const Folder f;
  const auto refused = [&](const std::string& arguments, const std::string& part, int code = 2) {
    const Result r = tool(arguments);
    INFO(arguments, r.out, r.err);
    CHECK(r.code == code);
    CHECK(has(r.err, part));
    CHECK(lines_of(r.err).size() <= 2);
  };
  const std::string notes = (kDemo / "notes/notes.onnx").string(), generate = "generate " + kCards;
  write(f.path / "none.toml", "title = \"x\"\n");
  refused("run " + (f.path / "none.toml").string(), "is a sheet without [[part]]");
  write(f.path / "wrong.toml", "[[part]]\nname = \"a\"\nmodel = \"" + notes + "\"\n[[part]]\nname = \"b\"\nmodel = \"" +
                                   (kDemo / "jobcard/merger.onnx").string() + "\"\ntakes = { cells = \"a.scores\" }\n");
  refused("inspect " + (f.path / "wrong.toml").string(), "part 'b' takes 'cells' as f32 batch x 48 x rows x columns, 'a.scores' is f32", 3);
  refused(generate + " --each " + (f.path / "no.csv").string(), "no.csv", 3);
  write(f.path / "bad.csv", "text,picture\na,b\n");
  refused(generate + " --each " + (f.path / "bad.csv").string(), "expected columns prompt, picture, expected", 3);
  write(f.path / "short.csv", "prompt,picture\n\"order 1\"\n");
  refused(generate + " --each " + (f.path / "short.csv").string(), "line 2 has 1 cells", 3);
  write(f.path / "lost.csv", "prompt,picture\norder,lost.png\n");
  refused(generate + " --each " + (f.path / "lost.csv").string(), "lost.png", 3);
  refused(generate + " --each " + kTable + " --prompt x", "exclude one another");
  refused(generate + " --prompt order --side-by-side 2", "goes with --each");
  refused("generate " + notes + " --each " + kTable + " --side-by-side 2", "takes no picture");
  write(f.path / "two.csv", "prompt\nBoard\nOrder\n");
  refused("generate " + notes + " --each " + (f.path / "two.csv").string() + " --side-by-side 2", "no input for what is there");
  refused("generate " + notes + " --prompt Board --image " + (kDemo / "jobcard/boards/board_00.png").string(),
          "none of the model's inputs");
  refused(generate + " --prompt order --picture-costs 12", "is not HEIGHTxWIDTH");
  const std::string chatter = "run " + (kDemo / "chatter/chatter.onnx").string() + " --states found --series ";
  refused(chatter + "vibrations=" + (kDemo / "chatter/vibration.npy").string(), "did you mean 'vibration'?");
  refused(chatter + "vibration=" + (kDemo / "chatter/truth.npy").string(), "expected as many axes, or one more in front");
  refused("run " + notes + " --positions 9", "--positions goes with --states");
  refused("ship " + kCards + " -o " + (f.path / "x.lathe").string() + " --states found --dim all=1 --shape board=1,3,64,128",
          "its mask is of one size", 3);
  refused("run " + notes + " --states 'present.*=pst.*'", "did you mean");
}
