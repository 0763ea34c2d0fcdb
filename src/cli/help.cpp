#include "help.hpp"

#include <algorithm>

#include "base/text.hpp"

namespace lathe {
extern const std::string_view kWords;  // docs/words.md, built in
}

namespace lathe::cli {
namespace {

// Names of options that a person types, with what they take and what they do.
struct OptionHelp {
  std::vector<std::string> names;
  std::string takes, what;
  std::vector<std::string> choices;
  bool file = false;
};

std::vector<OptionHelp> options_of(const CLI::App& app) {
  std::vector<OptionHelp> out;
  for (const CLI::Option* o : app.get_options()) {
    OptionHelp h;
    for (const std::string& s : o->get_snames()) h.names.push_back("-" + s);
    for (const std::string& l : o->get_lnames()) h.names.push_back("--" + l);
    if (h.names.empty()) continue;
    if (o->get_items_expected_max() > 0) h.takes = o->get_type_name();
    h.what = o->get_description();
    // "NAME:{a,b}" is a choice.
    if (const size_t open = h.takes.find('{'), close = h.takes.find('}'); open != std::string::npos && close != std::string::npos)
      h.choices = split(h.takes.substr(open + 1, close - open - 1), ',');
    const std::string kind = h.takes.substr(0, h.takes.find(':'));
    h.file = kind.find("FILE") != std::string::npos || kind.find("DIR") != std::string::npos || kind.find("PATH") != std::string::npos ||
             kind.find("MODEL") != std::string::npos;
    out.push_back(std::move(h));
  }
  return out;
}

std::vector<CLI::App*> commands_of(CLI::App& root) {
  return root.get_subcommands([](CLI::App*) { return true; });
}

std::string roff(const std::string& text) {
  std::string out;
  for (char c : text) {
    if (c == '\\') out += "\\\\";
    else if (c == '-') out += "\\-";
    else if ((c == '.' || c == '\'') && (out.empty() || out.back() == '\n')) out += std::string("\\&") + c;
    else out += c;
  }
  return out;
}

constexpr const char* kExitStatus =
    ".SH EXIT STATUS\n0 good; 1 the check failed; 2 wrong usage; 3 the model or the data is at fault; 4 resources.\n";

std::string man_page(const CLI::App& sub) {
  std::string name = sub.get_name();
  const auto help = std::ranges::find_if(command_helps(), [&](const CommandHelp& h) { return name == h.name; });
  std::string out = fmt::format(
      ".TH \"LATHE\\-{}\" 1 \"\" \"lathe {}\" \"Mellow Lathe\"\n.SH NAME\nlathe\\-{} \\- {}\n.SH SYNOPSIS\n.B lathe "
      "{}\n[\\fIoptions\\fR]\n",
      roff(name), LATHE_VERSION, roff(name), roff(sub.get_description()), roff(name));
  out += ".SH OPTIONS\n";
  for (const OptionHelp& o : options_of(sub))
    out += fmt::format(".TP\n\\fB{}\\fR {}\n{}\n", roff(fmt::format("{}", fmt::join(o.names, ", "))), roff(o.takes), roff(o.what));
  if (help != command_helps().end()) {
    out += ".SH EXAMPLES\n.nf\n";
    for (const char* e : help->examples) out += roff(e) + "\n";
    out += ".fi\n";
  }
  out += kExitStatus;
  return out;
}

// Of the tool itself: its commands, each of which has a page.
std::string overview_page(CLI::App& root) {
  std::string out = fmt::format(
      ".TH \"LATHE\" 1 \"\" \"lathe {}\" \"Mellow Lathe\"\n.SH NAME\nlathe \\- {}\n.SH SYNOPSIS\n.B lathe "
      "\\fIcommand\\fR\n[\\fIoptions\\fR]\n.SH COMMANDS\n",
      LATHE_VERSION, roff(root.get_description()));
  for (const CLI::App* sub : commands_of(root))
    out += fmt::format(".TP\n\\fB{}\\fR(1)\n{}\n", roff("lathe-" + sub->get_name()), roff(sub->get_description()));
  return out + kExitStatus;
}

std::string quoted_for_shell(const std::string& text) {
  std::string out = "'";
  for (char c : text) out += c == '\'' ? std::string("'\\''") : std::string(1, c == '\n' ? ' ' : c);
  return out + "'";
}

std::string bash_completion(CLI::App& root) {
  std::string names, cases;
  for (const CLI::App* sub : commands_of(root)) {
    names += sub->get_name() + " ";
    std::string options, values;
    for (const OptionHelp& o : options_of(*sub)) {
      for (const std::string& n : o.names) options += n + " ";
      if (!o.choices.empty())
        values += fmt::format("        {}) COMPREPLY=($(compgen -W \"{}\" -- \"$word\")); return ;;\n", fmt::join(o.names, "|"),
                              fmt::join(o.choices, " "));
    }
    cases += fmt::format("    {})\n      case \"$before\" in\n{}      esac\n      words=\"{}\" ;;\n", sub->get_name(), values, options);
  }
  return fmt::format(
      "# Completion of lathe for bash.\n_lathe() {{\n  local word=\"${{COMP_WORDS[COMP_CWORD]}}\" before=\"${{COMP_WORDS[COMP_CWORD-1]}}\" "
      "words=\"\"\n"
      "  if [ \"$COMP_CWORD\" -eq 1 ]; then COMPREPLY=($(compgen -W \"{}\" -- \"$word\")); return; fi\n"
      "  case \"${{COMP_WORDS[1]}}\" in\n{}  esac\n"
      "  case \"$word\" in\n    -*) COMPREPLY=($(compgen -W \"$words\" -- \"$word\")) ;;\n    *) COMPREPLY=($(compgen -f -- \"$word\")) "
      ";;\n  esac\n}}\n"
      "complete -o filenames -F _lathe lathe\n",
      names, cases);
}

std::string zsh_completion(CLI::App& root) {
  std::string names, cases;
  const auto plain = [](std::string text) {
    std::string out;
    for (char c : text) {
      if (c == '[' || c == ']' || c == ':' || c == '\'' || c == '"' || c == '`' || c == '$' || c == '\\') continue;
      out += c == '\n' ? ' ' : c;
    }
    return out;
  };
  for (const CLI::App* sub : commands_of(root)) {
    names += fmt::format("    '{}:{}'\n", sub->get_name(), plain(sub->get_description()));
    std::string options;
    for (const OptionHelp& o : options_of(*sub)) {
      for (const std::string& n : o.names) {
        options += fmt::format(" \\\n        '{}[{}]", n, plain(o.what));
        if (!o.choices.empty()) options += fmt::format(":value:({})", fmt::join(o.choices, " "));
        else if (!o.takes.empty()) options += o.file ? ":file:_files" : ":value: ";
        options += "'";
      }
    }
    cases += fmt::format("    {}) _arguments{} \\\n        '*:file:_files' ;;\n", sub->get_name(), options);
  }
  return fmt::format(
      "#compdef lathe\n# Completion of lathe for zsh.\n_lathe() {{\n  local -a commands\n  commands=(\n{}  )\n  if (( CURRENT == 2 )); "
      "then _describe command commands; return; fi\n"
      "  local command=$words[2]\n  shift words\n  (( CURRENT-- ))\n  case $command in\n{}  esac\n}}\n_lathe \"$@\"\n",
      names, cases);
}

std::string fish_completion(CLI::App& root) {
  std::string out = "# Completion of lathe for fish.\n";
  for (const CLI::App* sub : commands_of(root)) {
    out +=
        fmt::format("complete -c lathe -n __fish_use_subcommand -a {} -d {}\n", sub->get_name(), quoted_for_shell(sub->get_description()));
    for (const OptionHelp& o : options_of(*sub)) {
      out += fmt::format("complete -c lathe -n '__fish_seen_subcommand_from {}'", sub->get_name());
      for (const std::string& n : o.names) out += n.starts_with("--") ? " -l " + n.substr(2) : " -s " + n.substr(1);
      if (!o.takes.empty()) out += o.choices.empty() ? " -r" : fmt::format(" -x -a '{}'", fmt::join(o.choices, " "));
      out += fmt::format(" -d {}\n", quoted_for_shell(o.what));
    }
  }
  return out;
}

std::string words_text() {
  std::string out;
  for (const std::string& line : split(std::string(kWords), '\n')) {
    std::string plain = line;
    for (const char* mark : {"**", "`"}) {
      for (size_t at = plain.find(mark); at != std::string::npos; at = plain.find(mark)) plain.erase(at, std::string_view(mark).size());
    }
    if (plain.starts_with("# ")) plain = plain.substr(2);
    out += plain + "\n";
  }
  while (out.ends_with("\n\n")) out.pop_back();
  return out;
}

}  // namespace

const std::vector<CommandHelp>& command_helps() {
  static const std::vector<CommandHelp> all{
      {"inspect",
       "Look",
       "A model: inputs, outputs, size, arithmetic, operators; its nodes and values; the compiled form",
       {"lathe inspect grain.onnx --steps", "lathe inspect grain.onnx --nodes --op Conv --weights"}},
      {"explain",
       "Look",
       "Why the compiled form is what it is: passes, steps, layouts, least times; as a drawing",
       {"lathe explain grain.onnx", "lathe explain grain.onnx --draw grain.svg --timed"}},
      {"report",
       "Look",
       "All of it as one page that opens in a browser: charts, the graph, parity, history",
       {"lathe report grain.onnx -o grain.html", "lathe report grain.onnx -o grain.html --logbook book.sqlite"}},
      {"machine",
       "Look",
       "This machine: instruction sets, caches, and its measured limits",
       {"lathe machine", "lathe machine --json limits.json"}},
      {"turn",
       "Shape",
       "Shape a model and save it: cut, fix sizes, freeze, rename, preprocessing inside, newer opset",
       {"lathe turn grain.onnx -o b8.onnx --bind batch=8", "lathe turn grain.onnx -o features.onnx --output pooled"}},
      {"narrow",
       "Shape",
       "Keep a model in fewer bits: f16, bf16, 8 or 4; with what each layer loses",
       {"lathe narrow grain.onnx -o g8.onnx --weights i8", "lathe narrow grain.onnx -o b8.onnx --activations u8 --calibrate calibration"}},
      {"run",
       "Run",
       "Run a model on arrays, pictures or random data; write or read off the results",
       {"lathe run grain.onnx --image board.png", "lathe run grain.onnx --input image=x.npy --save out"}},
      {"watch",
       "Run",
       "Pictures, streams and cameras through a model: boxes, masks, labels, drawn and kept; rules that act",
       {"lathe watch knots.onnx scans --annotated seen", "lathe watch gate.toml"}},
      {"generate",
       "Run",
       "Continue a text or a sequence, token by token: what the model keeps stays inside",
       {"lathe generate notes.onnx --prompt 'Spindle 2'", "lathe generate notes.onnx --prompt 'Board' --temperature 0.8 --seed 3"}},
      {"vet",
       "Prove",
       "Everything that is wrong with a model, in one pass, with what to do about it",
       {"lathe vet grain.onnx", "lathe vet grain.onnx --json faults.json"}},
      {"parity",
       "Prove",
       "Outputs against references; where they part, why, and where the digits go",
       {"lathe parity grain.onnx --walk", "lathe parity grain.onnx --npz-inputs in.npz --npz-outputs out.npz --why"}},
      {"judge",
       "Prove",
       "Accuracy on labelled data, with its uncertainty; two models compared item by item",
       {"lathe judge grain.onnx --data truth.csv --beside test", "lathe judge knots.onnx --as boxes --data boxes.csv --beside scans"}},
      {"bench",
       "Measure",
       "Latency and throughput against this machine's limits; sizes, models side by side, load",
       {"lathe bench grain.onnx --batch 1..64 --chart batch.png", "lathe bench grain.onnx --lanes 2 --hold 5"}},
      {"profile",
       "Measure",
       "Where the time goes: by step and by op, against this machine's limit; chart and timeline",
       {"lathe profile grain.onnx", "lathe profile grain.onnx --chart p.png --timeline t.json"}},
      {"sweep",
       "Measure",
       "Single kernels over many sizes: implementations side by side, checked, timed, charted",
       {"lathe sweep Exp --sizes 2^10..2^22", "lathe sweep MatMul --sizes 256x256x256 --chart m.png"}},
      {"tune",
       "Measure",
       "Searches for faster recipes of each step on this machine, checks and confirms them, and keeps them",
       {"lathe tune grain.onnx --seconds 20", "lathe tune grain.onnx --list"}},
      {"compare",
       "Measure",
       "Ways to ship a model side by side, from a job sheet: size, memory, accuracy, parity, speed",
       {"lathe compare variants.toml", "lathe compare variants.toml --chart variants.svg"}},
      {"logbook",
       "Measure",
       "What was measured and kept: list, show, export, history as a chart, slower or only noise",
       {"lathe logbook --logbook book.sqlite", "lathe logbook --model grain --chart history.png"}},
      {"bundle",
       "Prove",
       "What somebody who helps needs to see, as one zip: structure, machine, what a command said; no weights",
       {"lathe bundle grain.onnx -o bundle.zip", "lathe bundle grain.onnx -o bundle.zip --failing \"run grain.onnx\""}},
      {"ship",
       "Ship",
       "Save the compiled program as one file that loads in milliseconds",
       {"lathe ship grain.onnx -o grain.lathe", "lathe ship grain.onnx -o grain.lathe --also image=8,3,64,64"}},
  };
  return all;
}

void dress(CLI::App& root) {
  for (CLI::App* sub : commands_of(root)) {
    const auto help = std::ranges::find_if(command_helps(), [&](const CommandHelp& h) { return sub->get_name() == h.name; });
    if (help == command_helps().end()) continue;
    sub->group(help->stage);
    std::string footer = sub->get_footer();
    if (!footer.empty()) footer += "\n\n";
    footer += "Examples:\n";
    for (const char* e : help->examples) footer += fmt::format("  {}\n", e);
    footer.pop_back();
    sub->footer(footer);
  }
}

std::string help_text(CLI::App& root, const std::vector<std::string>& topic) {
  std::vector<std::string> names;
  for (const CLI::App* sub : commands_of(root)) names.push_back(sub->get_name());
  const auto command = [&](const std::string& name) -> CLI::App& {
    for (CLI::App* sub : commands_of(root)) {
      if (sub->get_name() == name) return *sub;
    }
    throw UsageError(
        fmt::format("help: there is no command '{}'; the commands are {}{}", name, fmt::join(names, ", "), did_you_mean(name, names)));
  };
  if (topic.empty()) return root.help();
  if (topic[0] == "words") return words_text();
  if (topic[0] == "man") {
    if (topic.size() != 2) throw UsageError("help man: expected one command's name, or lathe");
    if (topic[1] == "lathe") return overview_page(root);
    return man_page(command(topic[1]));
  }
  if (topic[0] == "completion") {
    const std::vector<std::string> shells{"bash", "zsh", "fish"};
    if (topic.size() != 2 || std::ranges::find(shells, topic[1]) == shells.end())
      throw UsageError(fmt::format("help completion: expected one of {}", fmt::join(shells, ", ")));
    return topic[1] == "bash" ? bash_completion(root) : topic[1] == "zsh" ? zsh_completion(root) : fish_completion(root);
  }
  if (topic.size() > 1) throw UsageError("help: expected one topic: words, a command's name, man COMMAND, or completion SHELL");
  std::string text = command(topic[0]).help("lathe " + topic[0]);
  return text;
}

}  // namespace lathe::cli
