// lathe parity --walk, --why, --budget, --to-double; bench over lists, side by side and under load; inspect --nodes; report.
#include "tool.hpp"

using namespace test;

namespace {

const std::string kInputs = (kDemo / "grain/reference_inputs.npz").string(), kOutputs = (kDemo / "grain/reference_outputs.npz").string();

// The demo's reference inputs, changed.
std::string spoilt(const fs::path& folder, const std::function<void(std::span<float>, int64_t plane)>& change) {
  auto arrays = read_npz(kInputs);
  Tensor t = arrays.at(0).tensor.clone();
  change(t.as<float>(), t.shape()[2] * t.shape()[3]);
  const std::string file = (folder / "spoilt.npz").string();
  const std::vector<NamedTensor> out{{arrays[0].name, t}};
  write_npz(file, out);
  return file;
}

void swap_channels(std::span<float> v, int64_t plane) {
  for (size_t picture = 0; picture < v.size(); picture += static_cast<size_t>(3 * plane)) {
    for (int64_t i = 0; i < plane; ++i) std::swap(v[picture + static_cast<size_t>(i)], v[picture + static_cast<size_t>(2 * plane + i)]);
  }
}

}  // namespace

TEST_CASE("parity walks the demo model, lists and draws it") {
  const Folder f;
  const std::string chart = (f.path / "walk.png").string(), markdown = (f.path / "walk.md").string();
  const Result r = tool("parity " + kGrain + " --walk --chart " + chart + " --markdown " + markdown);
  INFO(r.err);
  REQUIRE(r.code == 0);
  CHECK(has(r.out, "plain evaluation in double"));
  CHECK(has(r.out, "PARITY: all"));
  CHECK(fs::file_size(chart) > 5000);
  CHECK(has(slurp(markdown), "| depth | step |"));
  const Json j = json_of("parity " + kGrain + " --walk");
  CHECK(j["first_out_of_tolerance"].is_null());
  CHECK(j["values"].size() == 16);
  CHECK(j["values"].back()["value"] == "species");
  CHECK(j["plain_runs"] == 1);
  for (const Json& v : j["values"]) CHECK(v["error"].get<double>() < 1e-5);
  // Other inputs, and a batch.
  CHECK(json_of("parity " + kGrain + " --walk --image " + (kDemo / "grain/test/board_000.png").string())["inputs"] == "board_000.png");
  CHECK(json_of("parity " + kGrain + " --walk --seed 3 --batch 2")["values"][0]["comparison"]["shape"][0] == 2);
}

TEST_CASE("parity finds why outputs differ, and claims nothing else") {
  const Folder f;
  const std::string wrong = spoilt(f.path, swap_channels), given = " --npz-inputs " + wrong + " --npz-outputs " + kOutputs;
  const Result plain = tool("parity " + kGrain + given);
  CHECK(plain.code == 1);
  CHECK(has(plain.out, "DIFFERS"));
  CHECK(has(plain.out, "--why"));
  for (const std::string& line : lines_of(plain.out)) CHECK(line.size() <= 110);
  const Result why = tool("parity " + kGrain + given + " --why");
  CHECK(why.code == 1);
  CHECK(has(why.out, "first and third channel of 'image' swapped"));
  CHECK(has(why.out, "with this every output agrees"));
  const Json bytes = json_of("parity " + kGrain + " --npz-inputs " +
                                 spoilt(f.path,
                                        [](std::span<float> v, int64_t) {
                                          for (float& x : v) x *= 255;
                                        }) +
                                 " --npz-outputs " + kOutputs + " --why",
                             1);
  CHECK(has(bytes["verified"][0]["what"].get<std::string>(), "0 to 255"));
  const Json good = json_of("parity " + kGrain + " --npz-inputs " + kInputs + " --npz-outputs " + kOutputs + " --why");
  CHECK(good["agrees"] == true);
  CHECK(good["verified"].empty());
  // A picture fitted in another way than the reference was.
  const std::string picture = (kDemo / "knots/test").string();
  const fs::path one = fs::directory_iterator(picture)->path();
  const std::string from = (f.path / "out").string(), fit = " --image " + one.string() + " --fit ";
  REQUIRE(tool("run " + kGrain + fit + "pad --save " + from + " --save-as npz").code == 0);
  std::string reference;
  for (const auto& e : fs::directory_iterator(from)) reference = e.path().string();
  const Json fitted = json_of("parity " + kGrain + fit + "stretch --npz-outputs " + reference + " --why", 1);
  REQUIRE_FALSE(fitted["verified"].empty());
  CHECK(has(fitted["verified"][0]["what"].get<std::string>(), "padded"));
}

TEST_CASE("parity tells where the digits go, and whether they are as many as can be") {
  const Json j = json_of("parity " + kGrain + " --budget");
  double shares = 0;
  for (const Json& s : j["steps"]) shares += s["share"].get<double>();
  CHECK(shares == doctest::Approx(1).epsilon(0.01));
  CHECK(j["error"].get<double>() < 1e-5);
  const Result text = tool("parity " + kGrain + " --budget --top 5");
  CHECK(text.code == 0);
  CHECK(has(text.out, "5 of 15 steps"));
  CHECK(json_of("parity " + kGrain + " --to-double")["pass"] == true);
  // Against the model before it was narrowed.
  const Folder f;
  const std::string narrow = (f.path / "half.onnx").string();
  REQUIRE(tool("narrow " + kGrain + " -o " + narrow + " --weights f16").code == 0);
  CHECK(json_of("parity " + narrow + " --budget --against " + kGrain)["error"].get<double>() > 1e-5);
  const Json walked = Json::parse(tool("parity " + narrow + " --walk --against " + kGrain + " --json -").out);
  CHECK(walked["values_compared"].get<int>() >= 15);
}

TEST_CASE("parity takes values between, tolerances from a file, several models and folders") {
  const Folder f;
  const std::string values = (f.path / "values").string();
  // Values as another program would write them: each an output of the model, cut there.
  fs::create_directories(values);
  for (const char* name : {"stem.out", "pooled"}) {
    const std::string to = (f.path / "one").string();
    REQUIRE(tool("run " + kGrain + " --input " + kInputs + " --output " + name + " --save " + to).code == 0);
    fs::rename(fs::path(to) / (std::string(name) + ".npy"), fs::path(values) / (std::string(name) + ".npy"));
  }
  const std::string fed = " --npz-inputs " + kInputs + " --values " + values;
  const Json j = json_of("parity " + kGrain + " --walk" + fed);
  CHECK(j["values_compared"] == 2);
  CHECK(j["against"] == "the reference values given");
  write(f.path / "t.toml", "[value.\"species\"]\nabsolute = 0.0\nrelative = 0.0\n");
  const Result strict = tool("parity " + kGrain + " --tolerances " + (f.path / "t.toml").string());
  CHECK(strict.code == 1);
  write(f.path / "t.toml", "[value.species]\nabsolut = 0\n");
  const Result fault = tool("parity " + kGrain + " --tolerances " + (f.path / "t.toml").string());
  CHECK(fault.code == 3);
  CHECK(has(fault.err, "did you mean 'absolute'"));
  // Several, and a folder; one of them broken.
  fs::create_directories(f.path / "models");
  fs::copy(kGrain, f.path / "models/a.onnx");
  write(f.path / "models/b.onnx", "no model");
  const std::string markdown = (f.path / "all.md").string();
  const Result many = tool("parity " + kGrain + " " + (f.path / "models").string() + " --against-plain --markdown " + markdown);
  CHECK(many.code == 3);
  CHECK(has(many.out, "cannot be checked"));
  CHECK(has(slurp(markdown), "## `a.onnx`"));
  CHECK(json_of("parity " + kGrain + " " + (f.path / "models").string() + " --against-plain", 3)["models"].size() == 3);
}

TEST_CASE("parity: what does not go together is said") {
  for (const auto& [arguments, said] : {std::pair<std::string, std::string>{"--walk --why", "questions of their own"},
                                        {"--values x.npz", "goes with --walk or --why"},
                                        {"--walk --values x.npz --against " + kGrain, "two references"},
                                        {"--chart x.png", "goes with --walk"},
                                        {"--input image=x.npy", "go with --walk"},
                                        {"--why --seed 4", "wants outputs"},
                                        {"--walk --values " + kInputs, "bears the name of a value"},
                                        {"--walk --keep much", "--keep"}}) {
    const Result r = tool("parity " + kGrain + " " + arguments);
    CAPTURE(arguments);
    INFO(r.err);
    CHECK((r.code == 2 || r.code == 3));
    CHECK(has(r.err, said));
  }
}

TEST_CASE("bench runs on real inputs, over lists, side by side and under load") {
  const Folder f;
  const std::string quick = "bench " + kGrain + " --threads 1 --seconds 0.1";
  const Json real = json_of(quick + " --image " + (kDemo / "grain/test/board_000.png").string());
  CHECK(real["inputs"] == "board_000.png");
  CHECK(real["environment"]["version"].is_string());
  CHECK(real["first_run_seconds"].get<double>() > 0);
  CHECK(real["peak_memory_bytes"].get<double>() > 1e6);
  CHECK(real["weight_bytes"].get<double>() > 1e6);
  CHECK(json_of(quick + " --cases " + (kDemo / "grain").string())["inputs"].get<std::string>().find("the first case") == 0);
  CHECK(json_of("profile " + kGrain + " --runs 3 --threads 1 --input " + kInputs)["inputs"] == "1 array given");

  const std::string chart = (f.path / "batch.svg").string();
  const Json swept = json_of(quick + " --batch 1,2..8 --chart " + chart);
  REQUIRE(swept["points"].size() == 4);
  CHECK(swept["swept"] == "batch");
  CHECK(swept["points"][3]["value"] == 8);
  CHECK(swept["points"][3]["latency_seconds"]["median"].get<double>() > swept["points"][0]["latency_seconds"]["median"].get<double>());
  CHECK(fs::file_size(chart) > 5000);
  CHECK(json_of("bench " + kGrain + " --seconds 0.1 --threads 1,2")["points"][1]["threads"] == 2);

  const Json both = json_of(quick + " --also isa=scalar --rounds 5");
  REQUIRE(both["contenders"].size() == 2);
  CHECK(both["contenders"][1]["speed_high"].get<double>() < 1);
  CHECK(json_of(quick + " --rounds 5 " + kGrain)["contenders"].size() == 2);

  const Json load = json_of(quick + " --rate 50,100 --arrivals even --chart " + (f.path / "load.svg").string());
  REQUIRE(load["rates"].size() == 2);
  CHECK(load["rates"][0]["requests"] == 5);
  for (const char* part : {"waiting_seconds", "service_seconds", "total_seconds"}) CHECK(load["rates"][1][part]["p99"].is_number());
  CHECK(json_of(quick + " --hold 1000")["highest"]["rate"].get<double>() > 10);
  const Result text = tool(quick + " --rate 50");
  CHECK(has(text.out, "poisson arrivals"));
}

TEST_CASE("bench: what does not go together, and lists that are none, are said") {
  for (const auto& [arguments, said] : {std::pair<std::string, std::string>{"--batch 1,2 --threads 1,2", "one at a time"},
                                        {"--batch 1,2 --rate 5", "ask one"},
                                        {"--batch 1,x", "'x' is no whole number"},
                                        {"--batch 8..2", "ends below its begin"},
                                        {"--batch 0", "no whole number of at least 1"},
                                        {"--rate 0", "no number of requests"},
                                        {"--arrivals even", "goes with --rate"},
                                        {"--chart x.png", "a list of sizes, or rates"},
                                        {"--also thread=1", "did you mean 'threads'"},
                                        {"--image a.png --input image=b.npy", "give one"},
                                        {"--rate 5 --keep", "single figure"}}) {
    const Result r = tool("bench " + kGrain + " " + arguments);
    CAPTURE(arguments);
    INFO(r.err);
    CHECK(r.code == 2);
    CHECK(has(r.err, said));
  }
}

TEST_CASE("inspect lists nodes and values, filtered, of broken models too") {
  const Json j = json_of("inspect " + kGrain + " --nodes --values --weights");
  CHECK(j["node_list"].size() == j["nodes"].get<size_t>());
  const Json pool = json_of("inspect " + kGrain + " --nodes --op gemm --weights");
  REQUIRE(pool["node_list"].size() == 1);
  CHECK(pool["node_list"][0]["inputs"][1]["weight"]["histogram"].size() == 24);
  CHECK(pool["node_list"][0]["step"].is_number());
  const Json some = json_of("inspect " + kGrain + " --values --name stem");
  CHECK(some["value_list"].size() > 3);
  for (const Json& v : some["value_list"]) CHECK(has(v["name"].get<std::string>(), "stem"));
  const Result text = tool("inspect " + kGrain + " --nodes --name HEAD");
  CHECK(text.code == 0);
  CHECK(has(text.out, "Softmax"));
  const Result none = tool("inspect " + kGrain + " --nodes --op Sofmax");
  CHECK(none.code == 2);
  CHECK(has(none.err, "did you mean 'Softmax'"));
  CHECK(tool("inspect " + kGrain + " --op Conv").code == 2);
}

TEST_CASE("report writes one page with the tool's own facts, and says what it left out") {
  const Folder f;
  const std::string page = (f.path / "page.html").string();
  const Json facts = json_of("report " + kGrain + " -o " + page + " --seconds 0.05 --threads 1");
  const std::string html = slurp(page);
  CHECK(html.starts_with("<!doctype html>"));
  CHECK(html.size() < 3'000'000);
  CHECK_FALSE(has(html, "{{"));
  CHECK_FALSE(has(html, "src=\"http"));
  for (const char* part : {"inspect", "bench", "profile", "parity", "walk", "layout"}) CHECK(facts.contains(part));
  CHECK(facts["layout"]["nodes"].size() == facts["inspect"]["node_list"].size());
  const Json less =
      json_of("report " + kGrain + " -o " + page + " --without bench --without profile --without walk --without parity --without graph");
  CHECK_FALSE(less.contains("bench"));
  const Result over = tool("report " + kGrain + " -o " + kGrain);
  CHECK(over.code == 2);
  CHECK(has(over.err, "itself, which this command reads"));
  CHECK(tool("report " + kGrain + " --without soup").code == 2);
  write(f.path / "v.json", "no json");
  CHECK(tool("report " + kGrain + " -o " + page + " --without bench --without profile --without walk --variants " +
             (f.path / "v.json").string())
            .code == 3);
}

TEST_CASE("bundle holds what helps, and nothing of whose machine it is") {
  const Folder f;
  const std::string bundle = (f.path / "b.zip").string(), inside = (f.path / "in").string(),
                    model = (f.path / "secret_project/grain.onnx").string();
  fs::create_directories(f.path / "secret_project");
  fs::copy(kGrain, model);
  const Json j = json_of("bundle " + model + " -o " + bundle + " --without-bench --failing 'parity " + model + " --values none.npz'");
  CHECK(j["entries"].size() == 6);  // the failing command left a log
  REQUIRE(std::system(("python3 -m zipfile -e " + bundle + " " + inside).c_str()) == 0);
  std::string all;
  for (const auto& e : fs::directory_iterator(inside)) all += slurp(e.path());
  CHECK(has(all, "goes with --walk or --why"));
  CHECK(has(all, "[exit code 2]"));
  CHECK(has(all, "\"hash\""));
  CHECK_FALSE(has(all, "secret_project"));
  CHECK_FALSE(has(all, f.path.string()));
  char host[256] = "";
  gethostname(host, sizeof host - 1);
  if (std::strlen(host) >= 3) CHECK_FALSE(has(all, host));
  // Of a model that does not load, what there is.
  write(f.path / "broken.onnx", "no model");
  const Result broken = tool("bundle " + (f.path / "broken.onnx").string() + " -o " + bundle + " --without-bench");
  CHECK(broken.code == 3);
  CHECK(has(broken.err, "broken.onnx"));
  CHECK(fs::exists(bundle));
  CHECK(tool("bundle " + model + " -o " + bundle + " --failing 'bundle x'").code == 2);
  CHECK(tool("bundle " + model + " -o " + bundle + " --failing \"parity 'x\"").code == 2);
}

TEST_CASE("help has words, manual pages and completion, and says what there is") {
  const Result words = tool("help words");
  CHECK(words.code == 0);
  CHECK(has(words.out, "lane: "));
  CHECK_FALSE(has(words.out, "**"));
  CHECK(has(tool("help man parity").out, ".SH OPTIONS"));
  CHECK(has(tool("help man lathe").out, "\\fBlathe\\-parity\\fR(1)"));
  for (const char* shell : {"bash", "zsh", "fish"}) {
    const Result r = tool(std::string("help completion ") + shell);
    CHECK(r.code == 0);
    CHECK(has(r.out, "to-double"));
  }
  CHECK(has(tool("help bench").out, "Examples:"));
  CHECK(has(tool("help").out, "Prove:"));
  const Result wrong = tool("help man parrity");
  CHECK(wrong.code == 2);
  CHECK(has(wrong.err, "did you mean 'parity'"));
  CHECK(tool("help completion tcsh").code == 2);
}

TEST_CASE("names in charts are drawn and never run") {
  const Folder f;
  // gnuplot runs what stands between backquotes.
  const std::string name = "grain`touch ran`.onnx";
  fs::copy(kGrain, f.path / name);
  for (const std::string& command : {"bench '" + name + "' --batch 1,2 --seconds 0.05", "bench '" + name + "' --rate 50 --seconds 0.1",
                                     "profile '" + name + "' --runs 2", "parity '" + name + "' --walk --seed 1"}) {
    CAPTURE(command);
    const int status = std::system(("cd " + f.path.string() + " && " + LATHE_TOOL + " " + command + " --chart c.svg >out 2>err").c_str());
    CHECK(WEXITSTATUS(status) == 0);
    CHECK(fs::exists(f.path / "c.svg"));
    fs::remove(f.path / "c.svg");
  }
  CHECK_FALSE(fs::exists(f.path / "ran"));
}
