// lathe bundle: what somebody who helps needs to see, and nothing of whose machine it is.
#include <fcntl.h>
#include <pwd.h>
#include <sys/wait.h>
#include <unistd.h>
#include <zip.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <memory>

#include "bench.hpp"
#include "base/files.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct BundleFlags {
  ModelOptions model;
  std::string out, failing;
  bool without_bench = false;
};

// Texts that tell whose machine it is, with what stands in their place; the longest first.
class Scrubber {
 public:
  explicit Scrubber(const fs::path& model) {
    std::error_code ec;
    const auto add = [&](std::string text, const char* instead) {
      while (text.size() > 1 && text.ends_with('/')) text.pop_back();
      // Too short a text stands in too many words.
      if (text.size() >= 3 && text != "/" && text != "root") marks_.emplace_back(std::move(text), instead);
    };
    add(fs::absolute(model, ec).parent_path().string(), "<folder>");
    add(fs::weakly_canonical(model, ec).parent_path().string(), "<folder>");
    add(fs::current_path(ec).string(), "<here>");
    add(fs::temp_directory_path(ec).string(), "<temporary>");
    if (const char* home = std::getenv("HOME")) add(home, "<home>");
    std::array<char, 256> host{};
    if (gethostname(host.data(), host.size() - 1) == 0) add(host.data(), "<host>");
    if (const passwd* who = getpwuid(getuid())) {
      add(who->pw_name, "<user>");
      add(who->pw_dir, "<home>");
    }
    for (const char* name : {"USER", "LOGNAME"}) {
      if (const char* user = std::getenv(name)) add(user, "<user>");
    }
    add(fs::path(model).parent_path().string(), "<folder>");
    std::ranges::stable_sort(marks_, [](const auto& a, const auto& b) { return a.first.size() > b.first.size(); });
  }
  std::string operator()(std::string text) const {
    for (const auto& [mark, instead] : marks_) {
      for (size_t at = text.find(mark); at != std::string::npos; at = text.find(mark, at + instead.size()))
        text.replace(at, mark.size(), instead);
    }
    return text;
  }

 private:
  std::vector<std::pair<std::string, std::string>> marks_;
};

struct Entry {
  std::string name, what, text;
};

// Runs this tool with these words; what it printed, and how it ended.
std::string output_of(const std::vector<std::string>& words, double seconds) {
  std::array<int, 2> pipe{};
  if (::pipe(pipe.data()) != 0) throw Error(Category::resource, "no pipe can be made");
  std::vector<std::string> all{"/proc/self/exe"};
  all.insert(all.end(), words.begin(), words.end());
  std::vector<char*> argv;
  for (std::string& w : all) argv.push_back(w.data());
  argv.push_back(nullptr);
  const pid_t child = ::fork();
  if (child == 0) {
    ::dup2(pipe[1], 1);
    ::dup2(pipe[1], 2);
    ::close(pipe[0]);
    const int nothing = ::open("/dev/null", O_RDONLY);
    if (nothing >= 0) ::dup2(nothing, 0);
    ::alarm(static_cast<unsigned>(std::max(1.0, seconds)));
    ::execv("/proc/self/exe", argv.data());
    std::_Exit(127);
  }
  ::close(pipe[1]);
  std::string text;
  std::array<char, 4096> piece{};
  constexpr size_t kMost = 1 << 20;
  ssize_t n = 0;
  while ((n = ::read(pipe[0], piece.data(), piece.size())) > 0) {
    if (text.size() < kMost) text.append(piece.data(), static_cast<size_t>(n));
  }
  ::close(pipe[0]);
  int status = 0;
  if (child > 0) ::waitpid(child, &status, 0);
  text += WIFEXITED(status) ? fmt::format("\n[exit code {}]\n", WEXITSTATUS(status))
                            : fmt::format("\n[ended by signal {}]\n", WTERMSIG(status));
  return text;
}

// Words as a shell parts them, quotes included.
std::vector<std::string> words_of(const std::string& command) {
  std::vector<std::string> out;
  std::string word;
  char quote = 0;
  bool any = false;
  for (char c : command) {
    if (quote != 0) {
      if (c == quote) quote = 0;
      else word += c;
    } else if (c == '\'' || c == '"') {
      quote = c;
      any = true;
    } else if (c == ' ') {
      if (any || !word.empty()) out.push_back(word);
      word.clear();
      any = false;
    } else {
      word += c;
    }
  }
  if (quote != 0) throw UsageError("--failing: a quote is not closed");
  if (any || !word.empty()) out.push_back(word);
  if (!out.empty() && out[0] == "lathe") out.erase(out.begin());
  if (out.empty()) throw UsageError("--failing: expected a command, such as \"parity grain.onnx --walk\"");
  if (out[0] == "bundle") throw UsageError("--failing: a bundle cannot hold a bundle");
  return out;
}

void write_zip(const std::string& target, const std::vector<Entry>& entries) {
  const std::string part = fmt::format("{}.{}.part", target, ::getpid());
  int code = 0;
  std::unique_ptr<zip_t, void (*)(zip_t*)> archive(zip_open(part.c_str(), ZIP_CREATE | ZIP_TRUNCATE, &code), zip_discard);
  if (!archive) throw Error(Category::resource, fmt::format("{}: cannot be written", target));
  for (const Entry& e : entries) {
    zip_source_t* source = zip_source_buffer(archive.get(), e.text.data(), e.text.size(), 0);
    if (source == nullptr || zip_file_add(archive.get(), e.name.c_str(), source, ZIP_FL_ENC_UTF_8) < 0) {
      zip_source_free(source);
      throw Error(Category::resource, fmt::format("{}: {} cannot be added: {}", target, e.name, zip_strerror(archive.get())));
    }
  }
  if (zip_close(archive.get()) != 0) {
    const std::string why = zip_strerror(archive.get());
    std::error_code ec;
    fs::remove(part, ec);
    throw Error(Category::resource, fmt::format("{}: cannot be written: {}", target, why));
  }
  (void)archive.release();
  std::error_code ec;
  fs::rename(part, target, ec);
  if (ec) {
    fs::remove(part, ec);
    throw Error(Category::resource, fmt::format("{}: cannot be written", target));
  }
}

}  // namespace

Command add_bundle(CLI::App& app) {
  auto o = std::make_shared<BundleFlags>();
  o->model.add_to(app);
  app.add_option("-o,--bundle", o->out, "The bundle (the model's name with .zip)")->type_name("FILE.zip");
  app.add_option("--failing", o->failing, "Run this command of the tool, and put in what it says: \"vet grain.onnx\"")
      ->type_name("COMMAND");
  app.add_flag("--without-bench", o->without_bench, "No short benchmark");
  app.footer(
      "A zip of text: the machine's facts, the model's structure, a short benchmark, the failing command's output.\nWeights are left out "
      "but "
      "for shapes, hashes and ranges; so are the names of user and host, and paths.");
  return [o] {
    const fs::path model = o->model.model;
    if (o->out.empty()) o->out = model.stem().string() + ".zip";
    check_target("--json", o->model.json, {"JSON"}, std::vector<std::string>{o->model.model});
    check_target("--bundle", o->out, {"an npz or zip archive"}, std::vector<std::string>{o->model.model});
    const std::vector<std::string> failing = o->failing.empty() ? std::vector<std::string>() : words_of(o->failing);
    const Scrubber scrub(model);
    const auto text_of = [&](const Json& j) { return scrub(j.dump(1, ' ', false, Json::error_handler_t::replace)) + "\n"; };
    Progress progress;
    std::vector<Entry> entries;
    entries.push_back({"environment.json", "processor, cores, limits, system, versions", text_of(environment_json(environment()))});
    const std::vector<std::string> words = o->model.words();
    const auto with = [&](std::initializer_list<std::string> more) {
      std::vector<std::string> w = words;
      w.insert(w.end(), more);
      return w;
    };
    int code = kGood;
    std::vector<std::string> faults;
    // What cannot be made is told in the bundle: it is for models that do not work.
    const auto add = [&](const char* file, const char* what, const char* doing, const std::function<std::string()>& make) {
      progress.show(doing);
      try {
        entries.push_back({file, what, make()});
      } catch (const std::exception& e) {
        entries.push_back({file, std::string(what) + " (could not be made)", scrub(e.what()) + "\n"});
        faults.push_back(fmt::format("{}: {}", file, e.what()));
        code = kModelFault;
      }
    };
    const bool archive = is_program_archive(model);
    add("model.json", "the structure: nodes, values, attributes, steps; of weights shapes, hashes and ranges", "reading the model", [&] {
      return text_of(facts_of(add_inspect, archive ? words : with({"--nodes", "--values", "--weights"})));
    });
    if (!archive) add("faults.json", "what vet finds wrong", "vetting", [&] { return text_of(facts_of(add_vet, {o->model.model})); });
    if (!o->without_bench)
      add("bench.json", "a short benchmark on random data", "a short benchmark", [&] {
        return text_of(facts_of(add_bench, with({"--seconds", "0.5"})));
      });
    if (!failing.empty()) {
      const std::string log = fmt::format("{}.{}.log", o->out, ::getpid());
      add("failing.txt", "the failing command and what it said", "running the failing command", [&] {
        std::vector<std::string> logged = failing;
        // One that names a log keeps it.
        const bool own = std::ranges::any_of(failing, [](const std::string& w) { return w == "--log" || w.starts_with("--log="); });
        if (!own) logged.insert(logged.end(), {"--log", log, "--log-level", "debug"});
        return scrub(fmt::format("$ lathe {}\n{}", fmt::join(failing, " "), output_of(logged, 600)));
      });
      std::error_code ec;
      if (fs::exists(log, ec)) {
        add("failing.log", "its log: what was loaded, changed and compiled", "reading its log", [&] { return scrub(read_file(log)); });
        fs::remove(log, ec);
      }
    }
    progress.show("");
    std::string readme = fmt::format("A bundle of lathe {} about {}.\n\n", LATHE_VERSION, model.filename().string());
    for (const Entry& e : entries) readme += fmt::format("{:<18} {}\n", e.name, e.what);
    readme +=
        "\nLeft out: the weights' numbers, the inputs, names of user and host, paths (<here>, <home>, <folder>, <temporary> stand for "
        "them).\n"
        "Names of nodes and values, and metadata, are in it as the model has them.\n";
    entries.insert(entries.begin(), {"README.txt", "this", readme});
    write_zip(o->out, entries);
    Json j{{"model", model.filename().string()}, {"bundle", o->out}, {"entries", Json::array()}};
    Table table("lrl", {"file", "bytes", ""});
    for (const Entry& e : entries) {
      j["entries"].push_back({{"name", e.name}, {"bytes", e.text.size()}, {"what", e.what}});
      table.row({e.name, std::to_string(e.text.size()), e.what});
    }
    write_json(o->model.json, j);
    for (const std::string& fault : faults) fmt::print(stderr, "lathe: {}\n", fault);
    if (for_people(o->model.json))
      fmt::print("{}\n{}  left out: the weights' numbers, the inputs, names of user and host, paths\n", o->out, table.text());
    return code;
  };
}

}  // namespace lathe::cli
