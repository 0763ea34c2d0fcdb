// lathe logbook, and what others keep in it.
#include "tool.hpp"

using namespace test;

TEST_CASE("logbook: what bench, profile, judge and narrow keep is listed, shown, written and drawn") {
  const Folder f;
  const std::string book = (f.path / "book.sqlite").string(), in = " --logbook " + book;
  CHECK(tool("logbook" + in).code == 3);  // not there yet
  const std::string quick = "bench " + kGrain + " --threads 1 --seconds 0.05 --warmup 0";
  const Result first = tool(quick + in);
  REQUIRE(first.code == 0);
  CHECK(has(first.out, "kept as entry 1 of"));
  REQUIRE(tool("profile " + kGrain + " --runs 3" + in).code == 0);
  REQUIRE(tool("judge " + kGrain + " --data " + (kDemo / "grain/truth.csv").string() + " --beside " + (kDemo / "grain/test").string() + in +
               " --json " + (f.path / "j.json").string())
              .code == 0);
  REQUIRE(tool("narrow " + kGrain + " -o " + (f.path / "n.onnx").string() + in).code == 0);
  const Json list = Json::parse(tool("logbook" + in + " --json -").out);
  REQUIRE(list["entries"].size() == 4);
  CHECK(list["entries"][0]["kind"] == "narrow");
  CHECK(list["entries"][3]["kind"] == "bench");
  CHECK(list["entries"][1]["figures"]["accuracy"]["value"].get<double>() > 0.98);
  CHECK(list["entries"][3]["hash"] == list["entries"][1]["hash"]);
  CHECK(Json::parse(tool("logbook" + in + " --kind judge --json -").out)["entries"].size() == 1);
  CHECK(Json::parse(tool("logbook" + in + " --model nothing --json -").out)["entries"].empty());
  CHECK(Json::parse(tool("logbook" + in + " --here --last 2 --json -").out)["entries"].size() == 2);
  const Json one = Json::parse(tool("logbook" + in + " --show 1 --json -").out);
  CHECK(one["details"]["model"] == kGrain);
  CHECK(one["figures"]["latency"]["samples"].size() >= 10);
  CHECK(has(tool("logbook" + in + " --show 1").out, "runs kept"));
  CHECK(tool("logbook" + in + " --show 9").code == 3);
  const std::string csv = (f.path / "all.csv").string(), chart = (f.path / "history.svg").string();
  for (int again = 0; again < 2; ++again) CHECK(tool("logbook" + in + " --write " + csv).code == 0);  // over the same kind, too
  CHECK(lines_of(slurp(csv)).size() > 10);
  CHECK(tool("logbook" + in + " --kind bench --chart " + chart).code == 0);
  CHECK(has(slurp(chart), "<svg"));
}

TEST_CASE("logbook: slower or only noise, as an exit code; what is unlike is not compared") {
  const Folder f;
  const std::string in = " --logbook " + (f.path / "book.sqlite").string();
  const std::string quick = "bench " + kGrain + " --threads 1 --seconds 0.3 --warmup 0.05";
  const Result none = tool(quick + in + " --against LAST");
  CHECK(none.code == 3);
  CHECK(has(none.err, "holds no earlier bench of 'grain.onnx'"));
  REQUIRE(tool(quick + in).code == 0);
  const Result against = tool(quick + in + " --against LAST --json -");
  // Whatever this machine does meanwhile: the code and the words agree.
  const Json j = Json::parse(against.out)["against"];
  CHECK(against.code == (j["verdict"] == "slower" ? 1 : 0));
  CHECK(j["low"].get<double>() <= j["ratio"].get<double>());
  CHECK(j["ratio"].get<double>() <= j["high"].get<double>());
  CHECK(j["before"] == 1);
  // It was looked at, and not kept; with --keep it is.
  CHECK(Json::parse(tool("logbook" + in + " --json -").out)["entries"].size() == 1);
  (void)tool(quick + in + " --against LAST --keep");
  const Json two = Json::parse(tool("logbook" + in + " --entry 2 --against 1 --json -").out);
  CHECK(two["after"] == 2);
  REQUIRE(tool("bench " + kGrain + " --threads 2 --seconds 0.05 --warmup 0" + in).code == 0);
  const Result unlike = tool("logbook" + in + " --entry 3 --against 1");
  CHECK(unlike.code == 2);
  CHECK(has(unlike.err, "differ in options"));
  CHECK(tool("logbook" + in + " --entry 3").code == 2);
  CHECK(tool("logbook" + in + " --entry 3 --against never").code == 2);
}

TEST_CASE("logbook: where it is kept, from the environment, the settings, or by itself") {
  const Folder f;
  const std::string quick = "bench " + kGrain + " --threads 1 --seconds 0.02 --warmup 0";
  const auto with = [&](const std::string& environment, const std::string& arguments) {
    const std::string out = (f.path / "said").string();
    const int status = std::system(("env -u LATHE_LOGBOOK HOME=" + f.path.string() + " XDG_CONFIG_HOME= XDG_DATA_HOME= " + environment +
                                    " " + LATHE_TOOL + " " + arguments + " >" + out + " 2>&1 </dev/null")
                                       .c_str());
    return Result{WEXITSTATUS(status), slurp(out), ""};
  };
  CHECK(!has(with("", quick).out, "kept as entry"));
  CHECK(has(with("LATHE_LOGBOOK=" + (f.path / "named.sqlite").string(), quick).out,
            "kept as entry 1 of " + (f.path / "named.sqlite").string()));
  const Result own = with("", quick + " --keep");
  CHECK(has(own.out, "kept as entry 1 of " + (f.path / ".local/share/mellow-lathe/logbook.sqlite").string()));
  fs::create_directories(f.path / ".config/mellow-lathe");
  const fs::path settings = f.path / ".config/mellow-lathe/settings.toml";
  write(settings, "logbook = \"mine.sqlite\"\n");
  CHECK(has(with("", quick).out, "kept as entry 1 of " + (f.path / ".config/mellow-lathe/mine.sqlite").string()));
  write(settings, "logbok = \"mine.sqlite\"\n");
  const Result wrong = with("", quick);
  CHECK(wrong.code == 3);
  CHECK(has(wrong.out, "settings.toml:1: there is no setting 'logbok'; did you mean 'logbook'?"));
  write(settings, "logbook = 3\n");
  CHECK(has(with("", quick).out, "'logbook' is a path in quotes"));
}
