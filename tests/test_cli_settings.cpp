// The settings file, and the log.
#include "tool.hpp"

using namespace test;

namespace {

// The tool with a home of its own.
struct Home {
  Folder f;
  fs::path settings = f.path / ".config/mellow-lathe/settings.toml";

  explicit Home(const std::string& text = "") {
    fs::create_directories(settings.parent_path());
    if (!text.empty()) write(settings, text);
  }
  Result tool(const std::string& arguments) const {
    const std::string out = (f.path / "out").string(), err = (f.path / "err").string();
    const int status = std::system(("env -u LATHE_LOGBOOK -u XDG_CONFIG_HOME -u XDG_DATA_HOME HOME=" + f.path.string() + " " + LATHE_TOOL +
                                    " " + arguments + " >" + out + " 2>" + err + " </dev/null")
                                       .c_str());
    return {WIFEXITED(status) ? WEXITSTATUS(status) : -1, slurp(out), slurp(err)};
  }
  Json json(const std::string& arguments) const {
    const Result r = tool(arguments + " --json -");
    INFO(arguments, ": ", r.err);
    REQUIRE(r.code == 0);
    return Json::parse(r.out);
  }
};

const std::string kBench = "bench " + kGrain + " --seconds 0.02 --warmup 0";

}  // namespace

TEST_CASE("settings give options to every call; the command line goes before them") {
  const Home home(
      "[every]\nthreads = 1\nisa = \"scalar\"\n\n[bench]\nisa = \"sse4\"\ntime_limit = 90.5\n\n[profile]\ncold = true\nruns = 3\n"
      "[run]\noutput = [\"pooled\", \"species\"]\n");
  const Json bench = home.json(kBench);
  CHECK(bench["threads"] == 1);
  CHECK(bench["isa"] == "sse4");  // the command's own goes before [every]
  CHECK(home.json(kBench + " --threads 2")["threads"] == 2);
  CHECK(home.json(kBench + " --isa=avx2")["isa"] != "sse4");
  const Json profile = home.json("profile " + kGrain);
  CHECK(profile["isa"] == "scalar");
  CHECK(profile["cold"] == true);
  CHECK(profile["runs"] == 3);
  // A list gives an option several times.
  CHECK(home.json("run " + kGrain + " --seed 1")["outputs"].size() == 2);
  // Commands without such an option do not mind.
  CHECK(home.tool("machine --json -").code == 0);
}

TEST_CASE("what is wrong with settings is said with its line") {
  const std::pair<const char*, const char*> wrong[]{
      {"[every]\nthread = 1\n", "settings.toml:2: no command has an option 'thread'; did you mean 'threads'?"},
      {"[bench]\nworst = 1\n", "settings.toml:2: lathe bench has no option 'worst'"},
      {"[bech]\nthreads = 1\n", "settings.toml:1: there is no setting 'bech'; did you mean 'bench'?"},
      {"[profile]\ncold = 1\n", "settings.toml:2: 'cold' is true or false"},
      {"[bench]\nthreads = 1979-05-27\n", "settings.toml:2: 'threads' takes a number or a text"},
      {"bench = 3\n", "settings.toml:1: 'bench' is a table of options: [bench]"},
      {"[bench\n", "settings.toml:1:"},
  };
  for (const auto& [text, says] : wrong) {
    const Home home(text);
    const Result r = home.tool(kBench);
    INFO(r.err);
    CHECK(r.code == 3);
    CHECK(has(r.err, says));
  }
  // A value that the option does not take: where it comes from is said, too.
  const Home home("[bench]\nseconds = -3\n");
  const Result r = home.tool("bench " + kGrain);
  CHECK(r.code == 2);
  CHECK(has(r.err, "settings.toml gives: --seconds -3"));
  CHECK(home.tool("--version").code == 0);
}

TEST_CASE("the log tells what was done, in levels, behind what was there") {
  const Home home;
  const std::string log = (home.f.path / "l.log").string();
  CHECK(home.tool("run " + kGrain + " --seed 1 --log " + log).code == 0);
  const std::string once = slurp(log);
  CHECK(has(once, " info lathe "));
  CHECK(has(once, "loaded in"));
  CHECK(has(once, "compiled for 1x3x64x64"));
  CHECK(has(once, "exit code 0"));
  CHECK(!has(once, " debug "));
  for (const std::string& line : lines_of(once)) CHECK(line.substr(0, 2) == "20");
  CHECK(home.tool("run " + kGrain + " --seed 1 --log " + log + " --log-level debug").code == 0);
  const std::string twice = slurp(log);
  CHECK(twice.starts_with(once));
  CHECK(has(twice, " debug pass "));
  CHECK(has(twice, " debug step 1: convolution"));
  // Errors end in it too; at that level nothing else does.
  const std::string errors = (home.f.path / "e.log").string();
  CHECK(home.tool("run nowhere.onnx --seed 1 --log-level error --log " + errors).code == 3);
  CHECK(has(slurp(errors), " error nowhere.onnx: no such file"));
  // Nothing is written behind what is no log.
  const fs::path model = home.f.path / "m.onnx";
  fs::copy_file(kGrain, model);
  const Result over = home.tool("inspect " + kGrain + " --log " + model.string());
  CHECK(over.code == 2);
  CHECK(has(over.err, "holds something else than a log"));
  CHECK(slurp(model) == slurp(kGrain));
  CHECK(home.tool("inspect " + kGrain + " --log " + std::string("/proc/none/folder.log")).code != 0);
  if (fs::exists("/dev/full")) {
    const Result full = home.tool("inspect " + kGrain + " --log /dev/full");
    CHECK(full.code == 0);
    CHECK(has(full.err, "the log cannot be written"));
  }
  // A program of one's own listens through the library.
  std::vector<std::string> heard;
  set_log([&](LogLevel level, std::string_view text) { heard.push_back(std::string(to_string(level)) + " " + std::string(text)); });
  (void)compile(load(kGrain), {.threads = 1});
  set_log({});
  const size_t lines = heard.size();
  REQUIRE(lines >= 1);
  CHECK(has(heard[0], "info "));
  (void)load(kGrain);
  CHECK(heard.size() == lines);
}
