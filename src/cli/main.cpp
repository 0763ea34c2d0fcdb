// The lathe command-line tool.
#include <algorithm>
#include <filesystem>
#include <iostream>

#include "ranks.hpp"
#include "help.hpp"
#include "logging.hpp"
#include "settings.hpp"
#include "base/text.hpp"

namespace lathe::cli {
namespace {

// What to say of the first word that looks like an option, is none, and is much like one; "" when there is none.
std::string misspelt_option(const CLI::App& app, int argc, char** argv) {
  std::vector<std::string> known;
  for (const CLI::Option* o : app.get_options()) {
    for (const std::string& name : o->get_lnames()) known.push_back("--" + name);
  }
  for (int i = 2; i < argc; ++i) {
    const std::string word = std::string(argv[i]).substr(0, std::string_view(argv[i]).find('='));
    if (word.size() > 2 && word.starts_with("-") && std::ranges::find(known, word) == known.end()) {
      if (const std::string hint = did_you_mean(word, known); !hint.empty()) return fmt::format("there is no option '{}'{}", word, hint);
    }
  }
  return "";
}

// Help whose descriptions end before the edge of a usual window.
class Help : public CLI::Formatter {
  std::string make_option_desc(const CLI::Option* option) const override {
    return fmt::format("{}", fmt::join(wrapped(CLI::Formatter::make_option_desc(option), 110 - get_column_width()), "\n"));
  }
};

// The option that raises a limit a run or compilation met.
std::string raised_by(const Error& e) {
  const std::string_view what = e.what();
  const auto tells = [&](std::string_view words) { return what.find(words) != std::string_view::npos; };
  if (e.category() == Category::cancelled) return "; --time-limit raises it (0: no limit)";
  if (e.category() != Category::resource || !tells("limit")) return "";
  if (tells("trips")) return "; --trip-limit raises it";
  if (tells("elements") || tells("arena")) return "; --memory-limit raises it";
  return "";
}

// Of "PATH: no such file": the nearest name in that folder.
std::string near_file(const std::string& what) {
  const size_t end = what.find(": no such file");
  if (end == std::string::npos || end == 0) return "";
  const size_t colon = what.rfind(": ", end - 1);
  const std::filesystem::path path =
      what.substr(colon == std::string::npos ? 0 : colon + 2, end - (colon == std::string::npos ? 0 : colon + 2));
  constexpr size_t kMost = 10000;  // names that are looked at
  std::vector<std::string> names;
  std::error_code ec;
  const std::filesystem::path folder = path.parent_path().empty() ? "." : path.parent_path();
  for (std::filesystem::directory_iterator at(folder, ec), last; !ec && at != last && names.size() < kMost; at.increment(ec))
    names.push_back(at->path().filename().string());
  return did_you_mean(path.filename().string(), names);
}

int run(int argc, char** argv, CallLog& log) {
  CLI::App app{"Mellow Lathe: loads exported ONNX models, fuses them, runs them on CPU threads, checks their numbers and times them.",
               "lathe"};
  app.formatter(std::make_shared<Help>());
  app.set_version_flag("--version", "lathe " LATHE_VERSION);
  app.require_subcommand(1);
  std::vector<std::pair<CLI::App*, Command>> commands;
  constexpr std::pair<const char*, Command (*)(CLI::App&)> kMakers[]{
      {"inspect", add_inspect}, {"explain", add_explain}, {"report", add_report},   {"machine", add_machine},   {"turn", add_turn},
      {"narrow", add_narrow},   {"run", add_run},         {"watch", add_watch},     {"generate", add_generate}, {"vet", add_vet},
      {"parity", add_parity},   {"judge", add_judge},     {"bench", add_bench},     {"profile", add_profile},   {"sweep", add_sweep},
      {"compare", add_compare}, {"tune", add_tune},       {"logbook", add_logbook}, {"bundle", add_bundle},     {"ship", add_ship}};
  for (const CommandHelp& help : command_helps()) {
    const auto* maker = std::ranges::find_if(kMakers, [&](const auto& m) { return std::string_view(m.first) == help.name; });
    CLI::App* sub = app.add_subcommand(help.name, help.what);
    commands.emplace_back(sub, maker->second(*sub));
    log.add_to(*sub);
  }
  dress(app);
  // After the commands were made: they would take it for theirs.
  app.footer(
      "lathe COMMAND --help tells a command's options and two calls of it; lathe help words, what our words mean.\n"
      "A first look: lathe inspect grain.onnx; lathe run grain.onnx --image board.png; lathe report grain.onnx\n"
      "\n"
      "Exit codes: 0 good; 1 the check failed; 2 wrong usage; 3 the model or the data is at fault; 4 resources.");
  if (argc > 1 && std::string_view(argv[1]) == "help") {
    std::vector<std::string> topic(argv + 2, argv + argc);
    if (std::ranges::find_if(topic, [](const std::string& t) { return t == "--help" || t == "-h"; }) != topic.end()) topic.clear();
    fmt::print("{}", help_text(app, topic));
    return kGood;
  }
  const auto known = [&](const std::string& name) {
    return std::any_of(commands.begin(), commands.end(), [&](const auto& c) { return c.first->get_name() == name; });
  };
  if (argc > 1 && argv[1][0] != '-' && !known(argv[1])) {
    std::vector<std::string> names;
    for (const auto& [sub, command] : commands) names.push_back(sub->get_name());
    std::cerr << fmt::format("lathe: there is no command '{}'; the commands are {}{}\n", argv[1], fmt::join(names, ", "),
                             did_you_mean(argv[1], names));
    return kUsage;
  }
  std::vector<std::string> words(argv + 1, argv + argc), set;
  for (const auto& [sub, command] : commands) {
    if (argc > 1 && sub->get_name() == argv[1]) set = settings_words(app, *sub, std::span(argv + 2, argv + argc));
  }
  words.insert(std::ranges::find(words, "--"), set.begin(), set.end());
  std::ranges::reverse(words);
  try {
    app.parse(words);
  } catch (const CLI::ParseError& e) {
    if (e.get_exit_code() == 0) return app.exit(e);  // --help, --version
    CLI::App* chosen = &app;
    for (auto& [sub, command] : commands) {
      if (argc > 1 && sub->get_name() == argv[1]) chosen = sub;
    }
    const std::string misspelt = misspelt_option(*chosen, argc, argv);
    if (!set.empty()) std::cerr << fmt::format("lathe: {} gives: {}\n", settings_file(), fmt::join(set, " "));
    std::cerr << "lathe: " << (misspelt.empty() ? e.what() : misspelt) << "\nSee 'lathe" << (chosen == &app ? "" : " " + chosen->get_name())
              << " --help'.\n";
    return kUsage;
  }
  for (auto& [sub, command] : commands) {
    if (!sub->parsed()) continue;
    log.begin(argc, argv);
    return command();
  }
  return kUsage;
}

}  // namespace
}  // namespace lathe::cli

int main(int argc, char** argv) {
  using namespace lathe::cli;
  CallLog log;
  const auto say = [&](const std::string& what) {
    std::cerr << "lathe: " << rank_prefix() << what << "\n";
    log.failed(what);
  };
  const int code = [&]() -> int {
    try {
      const int code = run(argc, argv, log);
      // Results that did not reach their file are no results: a full disk behind a redirection must show.
      if (std::fflush(stdout) != 0 || !std::cout.flush()) {
        say("standard output cannot be written");
        return kResource;
      }
      return code;
    } catch (const UsageError& e) {
      say(e.what() + near_file(e.what()));
      return kUsage;
    } catch (const lathe::Error& e) {
      say(e.what() + raised_by(e) + near_file(e.what()));
      const bool resource = e.category() == lathe::Category::resource || e.category() == lathe::Category::cancelled;
      return resource ? kResource : kModelFault;
    } catch (const std::bad_alloc&) {
      say("out of memory");
      return kResource;
    } catch (const std::exception& e) {
      say(std::ferror(stdout) ? "standard output cannot be written" : e.what());
      return kResource;
    }
  }();
  log.ended(code);
  return code;
}
