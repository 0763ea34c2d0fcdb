// The tool: recipes searched for, listed, pinned, kept, and followed.
#include "tool.hpp"

#include <fmt/format.h>

namespace {

using namespace test;

const std::string kNet = (kDemo / "grain/grain.onnx").string();

// The number that --list gives the first problem with this knob.
int problem_with(const std::string& knob) {
  const Json all = Json::parse(tool("tune " + kNet + " --list --threads 1 --json -").out)["problems"];
  for (size_t i = 0; i < all.size(); ++i) {
    if (has(all[i]["recipe"].get<std::string>(), " " + knob + "=")) return static_cast<int>(i) + 1;
  }
  return 0;
}

TEST_CASE("tune lists the problems with their families and knobs") {
  const Json all = Json::parse(tool("tune " + kNet + " --list --threads 1 --json -").out);
  REQUIRE(all["problems"].size() > 5);
  for (const Json& p : all["problems"]) {
    CHECK(has(p["problem"].get<std::string>(), " | "));
    CHECK((p["chosen_by"] == "estimate" || p["chosen_by"] == "learned"));
    for (const Json& f : p["families"]) {
      for (const Json& k : f["knobs"]) {
        CHECK(k["least"] <= k["estimate"]);
        CHECK(k["estimate"] <= k["most"]);
      }
    }
  }
  const std::string text = tool("tune " + kNet + " --list --threads 1").out;
  CHECK(has(text, "convolution.winograd"));
  CHECK(has(text, "in steps of 16, reorders sums"));
}

TEST_CASE("tune keeps what it found, and begins with it the next time") {
  Folder f;
  const std::string book = (f.path / "book.sqlite").string();
  const Json first = Json::parse(tool("tune " + kNet + " --threads 1 --seconds 3 --trials 30 --logbook " + book + " --json -").out);
  CHECK(first["trials"].get<int>() > 10);
  CHECK(first["trials"].get<int>() <= 30);
  CHECK(first["wrong"] == 0);
  CHECK(first["curve"].size() > 1);
  CHECK(first["problems"].size() > 5);
  CHECK(first["low"].get<double>() <= first["gain"].get<double>());
  const Result again = tool("tune " + kNet + " --threads 1 --seconds 3 --trials 12 --logbook " + book);
  INFO(again.out);
  CHECK(again.code == 0);
  CHECK(has(again.out, "kept in " + book));
  CHECK(tool("bench " + kNet + " --threads 1 --seconds 0.02 --warmup 0 --recipes " + book).code == 0);
  // Another's entries stay.
  CHECK(tool("logbook --logbook " + book).code == 0);
}

TEST_CASE("bench, profile and explain take a knob turned by hand without a file; a wrong one is an error") {
  const Json steps = Json::parse(tool("explain " + kNet + " --threads 1 --pin k_block=128 --json -").out)["steps"];
  CHECK(std::ranges::count_if(steps, [](const Json& s) { return s["chosen_by"] == "pinned"; }) > 0);
  for (const Json& s : steps) CHECK((s["chosen_by"] == "pinned") == has(s["chosen"].get<std::string>(), " k_block=128"));
  CHECK(has(tool("explain " + kNet + " --threads 1 --pin k_block=128").out, "      pinned    "));
  CHECK(tool("bench " + kNet + " --threads 1 --seconds 0.02 --warmup 0 --pin k_block=128").code == 0);
  CHECK(tool("profile " + kNet + " --threads 1 --runs 2 --pin k_block=128").code == 0);
  const Result nobody = tool("bench " + kNet + " --threads 1 --pin nobody:k_block=128");
  CHECK(nobody.code == 2);
  CHECK(has(nobody.err, "no step has a node named 'nobody'"));
  CHECK(has(tool("profile " + kNet + " --threads 1 --pin k_block=7").err, "expected 64 to 576"));
  CHECK(has(tool("explain " + kNet + " --pin k_block").err, "expected NODE:KNOB=VALUE"));
}

TEST_CASE("a pinned knob is followed by every command, shipped, and told by explain") {
  Folder f;
  const int n = problem_with("k_block");
  REQUIRE(n > 0);
  const std::string file = (f.path / "r.json").string(), archive = (f.path / "g.lathe").string();
  REQUIRE(tool(fmt::format("tune {} --threads 1 --pin {}:k_block=64 --write {}", kNet, n, file)).code == 0);
  const auto followed = [](const Json& explained) {
    return std::ranges::count_if(explained["steps"], [](const Json& s) { return has(s["chosen"].get<std::string>(), "k_block=64 "); });
  };
  const Json explained = Json::parse(tool("explain " + kNet + " --threads 1 --recipes " + file + " --json -").out);
  CHECK(followed(explained) >= 1);
  CHECK(followed(Json::parse(tool("explain " + kNet + " --threads 1 --json -").out)) == 0);
  const std::string text = tool("explain " + kNet + " --threads 1 --recipes " + file).out;
  CHECK(has(text, "tuned "));
  CHECK(has(text, "steps follow one"));
  CHECK(has(tool("bench " + kNet + " --threads 1 --seconds 0.02 --warmup 0 --recipes " + file).out, "steps follow one"));
  CHECK(tool("parity " + kNet + " --threads 1 --recipes " + file).code == 0);
  REQUIRE(tool("ship " + kNet + " --threads 1 -o " + archive + " --recipes " + file).code == 0);
  CHECK(followed(Json::parse(tool("explain " + archive + " --threads 1 --json -").out)) >= 1);
  // For other threads there is none.
  CHECK(followed(Json::parse(tool("explain " + kNet + " --threads 2 --recipes " + file + " --json -").out)) == 0);
}

TEST_CASE("tune turns one knob") {
  const int n = problem_with("k_block");
  const Json c = Json::parse(tool(fmt::format("tune {} --threads 1 --curve {}:k_block=64,17,576 --seconds 0.3 --json -", kNet, n)).out);
  CHECK(c["estimate"] == 576);
  REQUIRE(c["points"].size() == 3);
  CHECK(c["points"][0]["timed"] == true);
  CHECK(c["points"][1]["timed"] == false);
  CHECK(has(c["points"][1]["reason"].get<std::string>(), "in steps of 16"));
  CHECK(c["points"][2]["value"] == 576);
  const Result r = tool(fmt::format("tune {} --threads 1 --curve {}:k_block --seconds 0.3", kNet, n));
  CHECK(r.code == 0);
  CHECK(has(r.out, "  estimate"));
}

TEST_CASE("what tune and --recipes cannot do is said") {
  Folder f;
  const auto refused = [&](const std::string& command, int code, const std::string& why) {
    const Result r = tool(command);
    INFO(r.err);
    CHECK(r.code == code);
    CHECK(has(r.err, why));
  };
  const std::string file = (f.path / "r.json").string(), text = (f.path / "t.txt").string(), archive = (f.path / "g.lathe").string();
  refused("tune " + kNet + " --pin 1:k_block=64", 2, "--write");
  refused("tune " + kNet + " --pin 900:k_block=64 --write " + file, 2, "problems 1 to");
  refused("tune " + kNet + " --pin nothing --write " + file, 2, "like 3:row_tasks");
  refused("tune " + kNet + " --pin 1:speed=64 --write " + file, 2, "no knob 'speed'");
  refused(fmt::format("tune {} --pin {}:k_block=17 --write {}", kNet, problem_with("k_block"), file), 2, "in steps of 16");
  CHECK_FALSE(fs::exists(file));
  refused("tune " + kNet + " --curve 1:speed", 2, "no knob 'speed'");
  refused("tune " + kNet + " --seconds 0", 2, "--seconds");
  write(text, "hello");
  refused("bench " + kNet + " --recipes " + text, 3, "holds no recipes");
  refused("bench " + kNet + " --recipes " + (f.path / "none.json").string(), 2, "there is no file");
  write(f.path / "far.json", R"({"format": "mellow-lathe recipes", "version": 1, "machine": "an abacus", "recipes": []})");
  refused("bench " + kNet + " --recipes " + (f.path / "far.json").string(), 2, "for another machine (an abacus)");
  refused("tune " + kNet + " --logbook " + text + " --seconds 1", 3, "logbook");
  REQUIRE(tool("ship " + kNet + " -o " + archive).code == 0);
  refused("tune " + archive, 2, "compiled already");
  refused("bench " + archive + " --recipes " + text, 2, "compiled already");
}

}  // namespace
