// The lathe command-line tool.
#include <iostream>

#include "common.hpp"
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

int run(int argc, char** argv) {
  CLI::App app{"Mellow Lathe: loads exported ONNX models, fuses them, runs them on CPU threads, checks their numbers and times them.",
               "lathe"};
  app.formatter(std::make_shared<Help>());
  app.set_version_flag("--version", "lathe " LATHE_VERSION);
  app.require_subcommand(1);
  app.footer(
      "A first walk through a model:\n"
      "  lathe inspect grain.onnx                     what it is\n"
      "  lathe vet grain.onnx                         whether anything is wrong with it\n"
      "  lathe turn grain.onnx --bind batch=8 -o b8.onnx   the same model for batches of eight\n"
      "  lathe inspect grain.onnx --steps             what the compiler made of it\n"
      "  lathe explain grain.onnx --draw grain.svg    why these steps, and a drawing of them\n"
      "  lathe profile grain.onnx                     where the time goes\n"
      "  lathe run grain.onnx --image board.png       what it says about a picture\n"
      "  lathe narrow grain.onnx -o g8.onnx --weights i8   the same model with weights of a byte\n"
      "  lathe judge grain.onnx --data boards.csv     how often it is right, and how sure that is\n"
      "  lathe parity grain.onnx                      whether its numbers are right\n"
      "  lathe bench grain.onnx                       how fast it is, against this machine's limit\n"
      "  lathe ship grain.onnx -o grain.lathe         the compiled program as one file; run, bench and profile take it too\n"
      "  lathe compare sheet.toml                     ways to ship it, side by side: size, accuracy, speed\n"
      "  lathe watch knots.onnx scans/                what it sees in pictures, streams and cameras; rules that act\n"
      "  lathe logbook                                what was measured and kept, and how it changed\n"
      "  lathe sweep Exp --sizes 2^10..2^22           how fast one op is, size by size\n"
      "\n"
      "Exit codes: 0 good; 1 the check failed; 2 wrong usage; 3 the model or the data is at fault; 4 resources.");
  std::vector<std::pair<CLI::App*, Command>> commands;
  const auto add = [&](const char* name, const char* what, Command (*make)(CLI::App&)) {
    CLI::App* sub = app.add_subcommand(name, what);
    commands.emplace_back(sub, make(*sub));
  };
  add("machine", "This machine: instruction sets, caches, and its measured limits", add_machine);
  add("inspect", "A model: inputs, outputs, size, arithmetic, operators; with --steps, the compiled form", add_inspect);
  add("explain", "Why the compiled form is what it is: passes, steps, layouts, least times; as a drawing", add_explain);
  add("profile", "Where the time goes: by step and by op, against this machine's limit; chart and timeline", add_profile);
  add("run", "Run a model on arrays, pictures or random data; write or read off the results", add_run);
  add("narrow", "Keep a model's weights in fewer bits: f16, bf16, 8 or 4; with what each layer loses", add_narrow);
  add("judge", "Accuracy on labelled data, with its uncertainty; two models compared item by item", add_judge);
  add("parity", "Check a model's outputs against reference outputs, or compiled against plain", add_parity);
  add("vet", "Everything that is wrong with a model, in one pass, with what to do about it", add_vet);
  add("turn", "Shape a model and save it: cut, fix sizes, freeze, rename, preprocessing inside, newer opset", add_turn);
  add("bench", "Latency and throughput, as a share of this machine's measured peak", add_bench);
  add("compare", "Ways to ship a model side by side, from a job sheet: size, memory, accuracy, parity, speed", add_compare);
  add("watch", "Pictures, streams and cameras through a model: boxes, masks, labels, drawn and kept; rules that act", add_watch);
  add("logbook", "What was measured and kept: list, show, export, history as a chart, slower or only noise", add_logbook);
  add("ship", "Save the compiled program as one file that loads in milliseconds", add_ship);
  add("sweep", "Single kernels over many sizes: implementations side by side, checked, timed, charted", add_sweep);
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
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    if (e.get_exit_code() == 0) return app.exit(e);  // --help, --version
    CLI::App* chosen = &app;
    for (auto& [sub, command] : commands) {
      if (argc > 1 && sub->get_name() == argv[1]) chosen = sub;
    }
    const std::string misspelt = misspelt_option(*chosen, argc, argv);
    std::cerr << "lathe: " << (misspelt.empty() ? e.what() : misspelt) << "\nSee 'lathe" << (chosen == &app ? "" : " " + chosen->get_name())
              << " --help'.\n";
    return kUsage;
  }
  for (auto& [sub, command] : commands) {
    if (sub->parsed()) return command();
  }
  return kUsage;
}

}  // namespace
}  // namespace lathe::cli

int main(int argc, char** argv) {
  using namespace lathe::cli;
  try {
    const int code = run(argc, argv);
    // Results that did not reach their file are no results: a full disk behind a redirection must show.
    if (std::fflush(stdout) != 0 || !std::cout.flush()) {
      std::cerr << "lathe: standard output cannot be written\n";
      return kResource;
    }
    return code;
  } catch (const UsageError& e) {
    std::cerr << "lathe: " << e.what() << "\n";
    return kUsage;
  } catch (const lathe::Error& e) {
    std::cerr << "lathe: " << e.what() << raised_by(e) << "\n";
    const bool resource = e.category() == lathe::Category::resource || e.category() == lathe::Category::cancelled;
    return resource ? kResource : kModelFault;
  } catch (const std::bad_alloc&) {
    std::cerr << "lathe: out of memory\n";
    return kResource;
  } catch (const std::exception& e) {
    std::cerr << "lathe: " << (std::ferror(stdout) ? "standard output cannot be written" : e.what()) << "\n";
    return kResource;
  }
}
