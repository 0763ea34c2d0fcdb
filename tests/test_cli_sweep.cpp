// lathe sweep and lathe bench --prefer, as a user runs them.
#include "tool.hpp"

using namespace test;

TEST_CASE("a sweep as table, JSON, CSV and chart") {
  Folder f;
  const std::string csv = (f.path / "s.csv").string(), chart = (f.path / "s.png").string(), json = (f.path / "s.json").string();
  const Result r = tool("sweep MatMul --sizes 8x9x10 '3*4x5x6' --with avx2,scalar,plain --rounds 3 --threads 1 --csv " + csv + " --chart " +
                        chart + " --json " + json);
  // Not every machine has avx2: the sentence then names what there is.
  if (r.code == 3) {
    CHECK(has(r.err, "there is no implementation 'avx2'; there are"));
    return;
  }
  INFO(r.err);
  REQUIRE(r.code == 0);
  CHECK(has(r.out, "checked against plain evaluation first"));
  CHECK(has(r.out, "8x9x10"));
  CHECK(has(r.out, "of limit"));
  CHECK(has(r.out, "avx2 is"));
  const std::string table = slurp(csv);
  CHECK(table.starts_with("op,size,size_value,threads,implementation"));
  CHECK(std::count(table.begin(), table.end(), '\n') == 1 + 2 * 3);
  CHECK(has(table, ",passed\n"));
  CHECK(slurp(chart).starts_with("\x89PNG"));
  const Json j = Json::parse(slurp(json));
  REQUIRE(j["cases"].size() == 2);
  CHECK(j["cases"][0]["flops"] == 2 * 8 * 9 * 10);
  CHECK(j["cases"][1]["size"] == "3*4x5x6");
  for (const Json& i : j["cases"][0]["implementations"]) {
    CHECK(i["check"]["pass"] == true);
    CHECK(i["seconds"]["median"] > 0);
    CHECK(i["share_of_limit"] > 0);
  }
  // The vector form of the same chart.
  const Result svg = tool("sweep Exp --sizes 2^8..2^10 --with scalar --rounds 3 --threads 1 --cold --chart " + (f.path / "s.svg").string());
  CHECK(svg.code == 0);
  CHECK(has(slurp(f.path / "s.svg"), "<svg"));
  CHECK(has(svg.out, "cold caches"));
}

TEST_CASE("a sweep with a knob turned by hand times it beside the estimate") {
  const Result r = tool("sweep MatMul --sizes 40x64x512 --rounds 3 --threads 1 --pin k_block=128 --json -");
  REQUIRE(r.code == 0);
  const Json all = Json::parse(r.out)["cases"][0]["implementations"];
  const auto pinned = std::ranges::find_if(all, [](const Json& i) { return i["implementation"] == "pinned"; });
  REQUIRE(pinned != all.end());
  CHECK((*pinned)["check"]["pass"] == true);
  CHECK((*pinned)["seconds"]["median"] > 0);
  const Result wrong = tool("sweep MatMul --sizes 40x64x512 --rounds 3 --threads 1 --with scalar --pin k_block=7");
  CHECK(has(wrong.out, "k_block"));
  CHECK(has(wrong.out, "64 to 576"));
  CHECK(has(tool("sweep MatMul --sizes 8x8x8 --pin y:k_block=64").err, "a sweep has no nodes to name"));
  CHECK(has(tool("sweep MatMul --sizes 8x8x8 --with pinned").err, "none are"));
}

TEST_CASE("sizes from a file, every committed table readable") {
  Folder f;
  write(f.path / "sizes.txt", "# two sizes\n  64  # small\n\n2^8\n");
  const Result r = tool("sweep Relu --shapes " + (f.path / "sizes.txt").string() + " --with scalar --rounds 3 --threads 1 --json -");
  REQUIRE(r.code == 0);
  CHECK(Json::parse(r.out)["cases"].size() == 2);
  const std::pair<const char*, const char*> tables[] = {{"products", "MatMul"},         {"large_products", "MatMul"},
                                                        {"one_row_products", "MatMul"}, {"convolutions", "Conv"},
                                                        {"depthwise", "Conv"},          {"transposed", "ConvTranspose"}};
  size_t convolutions = 0;
  for (const auto& [name, op] : tables) {
    SweepRequest request;
    request.op = op;
    for (const std::string& s : read_sizes((kDemo / "../bench/shapes" / (std::string(name) + ".txt")).string())) {
      request.sizes = {s};
      if (std::string(name) == "products" && s == "2048x2048x2048") continue;  // large, and nothing new
      CAPTURE(s);
      CHECK(sweep_cases(request).size() == 1);
      convolutions += std::string(op) == "Conv";
    }
  }
  CHECK(convolutions >= 40);
}

TEST_CASE("what a sweep refuses, and how") {
  Folder f;
  const auto refused = [&](const std::string& arguments, int code, const std::string& sentence) {
    const Result r = tool("sweep " + arguments);
    CAPTURE(arguments);
    CAPTURE(r.err);
    CHECK(r.code == code);
    CHECK(has(r.err, sentence));
  };
  refused("MatMul", 2, "give --sizes or --shapes");
  refused("MatMul --sizes 3x4", 2, "expected MxNxK");
  refused("Nothing --sizes 64", 2, "is not one that can be swept");
  refused("Relu --sizes 64 --with nobody", 2, "there is no implementation 'nobody'");
  refused("Relu --sizes 64 --dtype f99", 2, "there is no such element type");
  refused("Relu --sizes 64 --kernels ./nowhere.so", 3, "cannot be loaded as a library of implementations");
  refused("Relu --sizes 64 --with scalar --rounds 3 --chart picture.gif", 2, "expected a name ending in .png or .svg");
  refused("Relu --shapes " + (f.path / "none.txt").string(), 3, "cannot be read");
  write(f.path / "empty.txt", "# nothing\n");
  refused("Relu --shapes " + (f.path / "empty.txt").string(), 3, "holds no sizes");
  refused("Relu --sizes 64 --with scalar --rounds 3 --csv /nowhere/s.csv", 4, "/nowhere");
}

TEST_CASE("bench picks lanes and threads and says why") {
  const Result r = tool("bench " + kGrain + " --prefer throughput --threads 2 --seconds 0.05 --json -");
  INFO(r.err);
  REQUIRE(r.code == 0);
  const Json j = Json::parse(r.out);
  CHECK(j["choice"]["tried"].size() == 3);
  CHECK(j["lanes"] == j["choice"]["lanes"]);
  CHECK(has(j["choice"]["why"].get<std::string>(), "runs a second"));
  CHECK(tool("bench " + kGrain + " --prefer latency --lanes 2").code == 2);
}
