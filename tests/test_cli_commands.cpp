// What holds for every command alike: JSON and text of the same facts, results that cannot be written, typing errors, files that are no
// models, help.
#include <algorithm>
#include <set>

#include "tool.hpp"

using namespace test;

namespace {

struct Command {
  std::string name, good;  // arguments that work; @ stands for a folder of its own
  bool takes_model = true;
  bool steady = false;  // no times in its text: the same twice
};

const Command kCommands[]{
    {"machine", "machine --no-measure", false, true},
    {"inspect", "inspect " + kGrain, true, true},
    {"explain", "explain " + kGrain + " --threads 1"},
    {"profile", "profile " + kGrain + " --runs 3 --threads 1"},
    {"run", "run " + kGrain + " --seed 1", true, true},
    {"parity", "parity " + kGrain + " --against-plain", true, true},
    {"vet", "vet " + kGrain, true, true},
    {"turn", "turn " + kGrain + " --bind batch=2 -o @/turned.onnx", true, true},
    {"judge", "judge " + kGrain + " --data " + (kDemo / "grain/truth.csv").string() + " --beside " + (kDemo / "grain/test").string()},
    {"narrow", "narrow " + kGrain + " -o @/narrow.onnx", true, true},
    {"compare", "compare @/quick.toml", false},
    {"watch", "watch " + kGrain + " " + (kDemo / "grain/calibration").string()},
    {"generate", "generate " + (kDemo / "notes/notes.onnx").string() + " --prompt Spindle", false, false},
    {"logbook", "logbook --logbook @/book.sqlite", false, true},
    {"bench", "bench " + kGrain + " --seconds 0.02 --warmup 0"},
    {"report", "report " + kGrain + " -o @/page.html --seconds 0.02 --without walk --without graph --threads 1"},
    {"bundle", "bundle " + kGrain + " -o @/bundle.zip --without-bench", true, false},
    {"ship", "ship " + kGrain + " -o @/shipped.lathe"},
    {"sweep", "sweep Relu --sizes 64 --rounds 3", false},
    {"tune", "tune " + kGrain + " --seconds 1.5 --threads 1 --logbook @/book.sqlite"},
};

// With what the command reads put there first.
std::string in_folder(std::string text, const fs::path& folder) {
  if (text.find("@/quick.toml") != std::string::npos)
    write(folder / "quick.toml", "[measure]\nseconds = 0.05\nrounds = 3\n[[variant]]\nname = \"f32\"\nmodel = \"" + kGrain + "\"\n");
  if (text.find("@/book.sqlite") != std::string::npos && !fs::exists(folder / "book.sqlite"))
    CHECK(tool("bench " + kGrain + " --seconds 0.02 --warmup 0 --logbook " + (folder / "book.sqlite").string()).code == 0);
  for (size_t at; (at = text.find('@')) != std::string::npos;) text.replace(at, 1, folder.string());
  return text;
}

// Every key, with the path to it; of a list its first entry stands for all.
void keys_of(const Json& j, const std::string& path, std::set<std::string>& keys) {
  if (j.is_array() && !j.empty()) keys_of(j[0], path + "[]", keys);
  if (!j.is_object()) return;
  for (const auto& [key, value] : j.items()) {
    keys.insert(path + "." + key);
    keys_of(value, path + "." + key, keys);
  }
}
std::set<std::string> keys_of(const Json& j) {
  std::set<std::string> keys;
  keys_of(j, "", keys);
  return keys;
}

std::set<std::string> options_of(const std::string& help) {
  std::set<std::string> options;
  for (const std::string& line : lines_of(help)) {
    const size_t at = line.find("--");
    if (at == std::string::npos || line.find_first_not_of(' ') == std::string::npos || line[line.find_first_not_of(' ')] != '-') continue;
    options.insert(line.substr(at, line.find_first_of(" ,:=", at) - at));
  }
  return options;
}

}  // namespace

TEST_CASE("every command: JSON alone where it is asked for, the same facts in a file beside the text") {
  for (const Command& c : kCommands) {
    Folder f;
    CAPTURE(c.name);
    const std::string good = in_folder(c.good, f.path), file = (f.path / "facts.json").string();
    const Result alone = tool(good + " --json -");
    INFO(alone.err);
    REQUIRE(alone.code == 0);
    REQUIRE(Json::accept(alone.out));
    CHECK(alone.err.empty());                  // progress is for terminals
    for (int again = 0; again < 2; ++again) {  // a file of the same kind may be written over
      const Result beside = tool(good + " --json " + file);
      CHECK(beside.code == 0);
      CHECK_FALSE(beside.out.empty());
      CHECK_FALSE(Json::accept(beside.out));
      const std::string held = slurp(file);
      REQUIRE(Json::accept(held));
      CHECK(keys_of(Json::parse(held)) == keys_of(Json::parse(alone.out)));
      for (const std::string& line : lines_of(beside.out)) {
        CHECK_FALSE(has(line, "\t"));
        CHECK_FALSE(line.ends_with(" "));
        CHECK_FALSE(has(line, "nan"));
      }
    }
    for (const auto& e : fs::recursive_directory_iterator(f.path)) CHECK_FALSE(has(e.path().string(), ".part"));
  }
}

TEST_CASE("every command: results that cannot be written are no success") {
  for (const Command& c : kCommands) {
    Folder f;
    CAPTURE(c.name);
    const std::string good = in_folder(c.good, f.path);
    const Result folder = tool(good + " --json " + f.path.string());
    INFO(folder.err);
    CHECK(folder.code == 2);
    CHECK(has(folder.err, "is a folder; name a file"));
    CHECK(folder.out.empty());  // told before the work
    const Result nowhere = tool(good + " --json " + (f.path / "none/facts.json").string());
    INFO(nowhere.err);
    CHECK(nowhere.code == 4);
    CHECK(has(nowhere.err, "none/facts.json"));
    if (!fs::exists("/dev/full")) continue;
    const Result full = tool(good + " --json /dev/full");
    CHECK(full.code == 4);
    CHECK(has(full.err, "/dev/full"));
    const fs::path said = f.path / "said";
    for (const char* out : {">/dev/full", ">&-"}) {
      const int status = std::system((std::string(LATHE_TOOL) + " " + good + " " + out + " 2>" + said.string()).c_str());
      CHECK(WEXITSTATUS(status) == 4);
      CHECK(slurp(said) == "lathe: standard output cannot be written\n");
    }
    // A reader that has seen enough is no reason to crash.
    const int piped = std::system((std::string(LATHE_TOOL) + " " + good + " 2>" + said.string() + " | head -c 1 >/dev/null").c_str());
    CHECK(WEXITSTATUS(piped) == 0);
    CHECK_FALSE(has(slurp(said), "terminate"));
  }
}

TEST_CASE("every command: each option is explained, and misspelt it is wrong usage with the right word beside it") {
  for (const Command& c : kCommands) {
    CAPTURE(c.name);
    const Result help = tool(c.name + " --help");
    CHECK(help.code == 0);
    CHECK(help.err.empty());
    CHECK(has(help.out, "lathe " + c.name));
    const auto lines = lines_of(help.out);
    for (size_t i = 0; i < lines.size(); ++i) {
      CHECK(lines[i].size() <= 120);
      // A description follows, on this line or, behind a long name, on the next.
      if (!lines[i].starts_with("  -")) continue;
      const bool here = lines[i].size() > 30 && lines[i].find_first_not_of(' ', 30) != std::string::npos;
      const bool below = i + 1 < lines.size() && lines[i + 1].starts_with("          ");
      INFO(lines[i]);
      CHECK((here || below));
    }
    const auto options = options_of(help.out);
    CHECK(options.contains("--json"));
    CHECK(options.contains("--help"));
    for (const std::string& option : options) {
      if (option.size() < 7) continue;
      std::string wrong = option;
      std::swap(wrong[4], wrong[5]);
      if (wrong[4] == wrong[5]) wrong.erase(4, 1);
      if (options.contains(wrong)) continue;
      const Result r = tool(c.name + " " + wrong);
      INFO(option, ": ", r.err);
      CHECK(r.code == 2);
      CHECK(r.out.empty());
      CHECK(has(r.err, "there is no option '" + wrong + "'; did you mean '" + option + "'?"));
    }
  }
}

TEST_CASE("every command: files that are no models are the file's fault, and said to be what they are") {
  Folder f;
  const std::string dir = f.path.string();
  write(f.path / "empty.onnx", "");
  write(f.path / "text.onnx", "board,species\n1,oak\n");
  write(f.path / "picture.onnx", slurp(fs::directory_iterator(kDemo / "grain/test")->path()));
  write(f.path / "zeros.onnx", std::string(5000, '\0'));
  write(f.path / "archive.zip", "PK\x03\x04 and so on");
  const std::string whole = slurp(kGrain);
  for (const size_t bytes : {1, 7, 100, 4096, 100000}) write(f.path / ("cut_" + std::to_string(bytes) + ".onnx"), whole.substr(0, bytes));
  std::string damaged = whole;
  for (size_t i = 0; i < 2000; i += 37) damaged[i] = static_cast<char>(damaged[i] ^ 0x55);
  write(f.path / "damaged.onnx", damaged);
  std::vector<std::string> files{"none.onnx"};
  for (const auto& e : fs::directory_iterator(f.path)) files.push_back(e.path().filename().string());
  std::sort(files.begin(), files.end());
  for (const Command& c : kCommands) {
    if (!c.takes_model) continue;
    CAPTURE(c.name);
    for (const std::string& name : files) {
      std::string arguments = in_folder(c.good, f.path);
      arguments.replace(arguments.find(kGrain), kGrain.size(), dir + "/" + name);
      const Result r = tool(arguments);
      INFO(name, ": ", r.code, ": ", r.err, r.out);
      // vet's business is to find faults: what it finds is its result.
      CHECK((c.name == "vet" ? r.code == 1 || r.code == 3 : r.code == 3));
      CHECK(has(r.err + r.out, name));
      CHECK_FALSE(has(r.err, "internal"));
    }
    CHECK_FALSE(fs::exists(f.path / "turned.onnx"));
    CHECK_FALSE(fs::exists(f.path / "shipped.lathe"));
    // A folder is no model either, and an archive none that can be shaped. (Of a folder parity takes the models in it.)
    if (c.name == "parity") continue;
    std::string arguments = in_folder(c.good, f.path);
    arguments.replace(arguments.find(kGrain), kGrain.size(), dir);
    const Result r = tool(arguments);
    INFO(r.err);
    CHECK(r.code == (c.name == "vet" ? 1 : 3));
    CHECK(has(r.err + r.out, "folder"));
  }
}

TEST_CASE("every command says the same twice, whatever the number of cores it may use") {
  for (const Command& c : kCommands) {
    if (!c.steady) continue;
    Folder f;
    CAPTURE(c.name);
    const std::string good = in_folder(c.good, f.path);
    const Result first = tool(good + " --json -"), second = tool(good + " --json -");
    CHECK(first.out == second.out);
    CHECK(tool(good).out == tool(good).out);
  }
}

TEST_CASE("every command line of the README does what it says, on the demo model") {
  Folder f;
  for (const auto& e : fs::directory_iterator(kDemo / "grain")) {
    if (e.is_regular_file() || has(e.path().filename().string(), "test_data_set"))
      fs::copy(e.path(), f.path / e.path().filename(), fs::copy_options::recursive);
  }
  fs::copy(fs::directory_iterator(kDemo / "grain/test")->path(), f.path / "board.png");
  for (const char* folder : {"test", "calibration"}) fs::copy(kDemo / "grain" / folder, f.path / folder);
  fs::copy(kDemo / "knots/knots.onnx", f.path / "knots.onnx");
  fs::copy(kDemo / "knots/boxes.csv", f.path / "boxes.csv");
  fs::copy(kDemo / "knots/test", f.path / "scans");
  fs::copy(kDemo / "sanding/sanding.onnx", f.path / "sanding.onnx");
  fs::copy(kDemo / "sanding/sand.toml", f.path / "sand.toml");
  fs::copy(kDemo / "notes/notes.onnx", f.path / "notes.onnx");
  fs::copy(kDemo / "sanding/rounds.toml", f.path / "rounds.toml");
  for (const char* folder : {"jobcard", "chatter"}) fs::copy(kDemo / folder, f.path / folder, fs::copy_options::recursive);
  fs::copy(kDemo / "sanding/scratched", f.path / "scratched");
  std::string gate = slurp(kDemo / "knots/gate.toml");
  gate.replace(gate.find("\"test\""), 6, "\"scans\"");
  gate.replace(gate.find("frames = 120"), 12, "frames = 10");
  write(f.path / "gate.toml", gate);
  // The demo's sheet, quicker.
  std::string sheet = slurp(kDemo / "grain/variants.toml");
  sheet.replace(sheet.find("seconds = 1.5"), 13, "seconds = 0.1");
  write(f.path / "variants.toml", sheet);
  fs::create_directories(f.path / "suite/grain");
  fs::copy(kGrain, f.path / "suite/grain/model.onnx");
  fs::copy(f.path / "test_data_set_0", f.path / "suite/grain/test_data_set_0", fs::copy_options::recursive);
  write_npy(f.path / "x.npy", random_tensor({1, 3, 64, 64}, 1));
  const std::string text = slurp(kDemo.parent_path() / "README.md");
  int found = 0;
  for (std::string line : lines_of(text.substr(text.find("## The tool"), text.find("## The library") - text.find("## The tool")))) {
    if (!line.starts_with("    lathe ")) continue;
    std::string command = line.substr(10, line.find("  ", 10) - 10);
    const auto replace = [&](const std::string& what, const std::string& by) {
      if (const size_t at = command.find(what); at != std::string::npos) command.replace(at, what.size(), by);
    };
    replace("DIR", "suite");
    replace("2^24", "2^11");
    if (command == "machine") command += " --no-measure";
    ++found;
    const std::string log = (f.path / "log").string();
    const int status =
        std::system(("cd " + f.path.string() + " && " + LATHE_TOOL + " " + command + " >" + log + " 2>&1 </dev/null").c_str());
    INFO(command, ": ", slurp(log));
    CHECK(WEXITSTATUS(status) == 0);
    CHECK(fs::file_size(log) > 0);
  }
  CHECK(found > 12);
  for (const char* made : {"b8.onnx", "out", "g8.onnx", "grain.svg", "p.png", "t.json", "grain.lathe", "e.png", "seen", "sanded", "notes.lathe"}) {
    CAPTURE(std::string(made));
    CHECK(fs::exists(f.path / made));
  }
  // A mean without the scale that the metadata puts behind it would be half the preprocessing: the message holds the rest of the line.
  const std::string half = "turn " + kGrain + " -o " + (f.path / "half.onnx").string() + " --picture image --mean 158.1,122.4,86.7";
  const Result r = tool(half);
  CHECK(r.code == 2);
  const size_t at = r.err.find("--scale");
  REQUIRE(at != std::string::npos);
  CHECK(tool(half + " " + r.err.substr(at, r.err.find('\n', at) - at)).code == 0);
}
