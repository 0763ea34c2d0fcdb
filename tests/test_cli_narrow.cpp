// lathe narrow
#include "tool.hpp"

using namespace test;

TEST_CASE("narrow: the demo model in each form, judged against itself") {
  const Folder f;
  const std::string out = (f.path / "n.onnx").string();
  const auto size = fs::file_size(kGrain);
  for (const auto& [type, share] : {std::pair{"i8", 0.3}, {"u8", 0.3}, {"f16", 0.55}, {"bf16", 0.55}}) {
    CAPTURE(type);
    const Result r = tool("narrow " + kGrain + " -o " + out + " --weights " + type + " --json -");
    REQUIRE(r.code == 0);
    const Json j = Json::parse(r.out);
    CHECK(j["agrees_with_plain"] == true);
    CHECK(j["narrowed"].size() >= 10);
    CHECK(j["outputs"][0]["cosine"].get<double>() > 0.9999);
    CHECK(static_cast<double>(fs::file_size(out)) < share * static_cast<double>(size));
    const Result judged = tool("judge " + out + " --data " + (kDemo / "grain/truth.csv").string() + " --beside " +
                               (kDemo / "grain/test").string() + " --at-least 0.98");
    CHECK(judged.code == 0);
  }
  const Result text = tool("narrow " + kGrain + " -o " + out + " --leave block4.a/conv");
  CHECK(has(text.out, "weights in i8"));
  CHECK(has(text.out, "1 left wide"));
  CHECK(has(text.out, "block4.a/conv"));
  CHECK(has(text.out, "compiled agrees with plain evaluation"));
}

TEST_CASE("narrow: straight to an archive, which can be compiled again") {
  const Folder f;
  const std::string archive = (f.path / "n.lathe").string(), model = (f.path / "n.onnx").string();
  const Result r = tool("narrow " + kGrain + " -o " + archive + " --weights f16");
  INFO(r.err);
  REQUIRE(r.code == 0);
  CHECK(has(r.out, "compiled agrees with plain evaluation"));
  REQUIRE(tool("narrow " + kGrain + " -o " + model + " --weights f16").code == 0);
  const auto outputs = [&](const std::string& of, const std::string& more) {
    const Result run = tool("run " + of + " --seed 3 --json - " + more);
    REQUIRE(run.code == 0);
    return Json::parse(run.out)["outputs"];
  };
  CHECK(outputs(archive, "") == outputs(model, ""));
  CHECK(outputs(archive, "--batch 3") == outputs(model, "--batch 3"));  // the leading dim stays open
  CHECK(tool("narrow " + kGrain + " -o " + archive + " --weights f16 --external-from 1").code == 2);
}

TEST_CASE("narrow: what it does not do is said, and the model is never written over") {
  const Folder f;
  const std::string out = (f.path / "n.onnx").string();
  const Result four = tool("narrow " + kGrain + " -o " + out + " --weights i4");
  CHECK(four.code == 2);
  CHECK(has(four.err, "takes no weights of 4 bits"));
  CHECK(!fs::exists(out));
  const Result node = tool("narrow " + kGrain + " -o " + out + " --leave block4.a/cnv");
  CHECK(node.code == 2);
  CHECK(has(node.err, "no node is named 'block4.a/cnv'"));
  CHECK(tool("narrow " + kGrain + " -o " + kGrain).code == 2);
  CHECK(has(tool("narrow " + kGrain + " -o " + out + " --block 8").err, "out of range"));
}
