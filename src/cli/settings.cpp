#include "settings.hpp"

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <optional>

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

#include "base/text.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

[[noreturn]] void wrong(const std::string& file, const toml::source_region& at, const std::string& what) {
  throw Error(Category::format, fmt::format("{}:{}: {}", file, at.begin.line, what));
}

std::optional<toml::table> read_settings(const std::string& file) {
  if (file.empty() || !fs::exists(file)) return std::nullopt;
  try {
    return toml::parse_file(file);
  } catch (const toml::parse_error& e) {
    wrong(file, e.source(), std::string(e.description()));
  }
}

std::string logbook_of(const std::string& file, const toml::table& t) {
  const toml::node* node = t.get("logbook");
  if (!node) return "";
  if (!node->is_string()) wrong(file, node->source(), "'logbook' is a path in quotes");
  const fs::path path = *node->value<std::string>();
  return path.is_absolute() ? path.string() : (fs::path(file).parent_path() / path).string();
}

std::vector<std::string> names_of(const CLI::App& command) {
  std::vector<std::string> out;
  for (const CLI::Option* o : command.get_options()) {
    for (const std::string& name : o->get_lnames()) {
      if (name != "help") out.push_back(name);
    }
  }
  return out;
}

// `time_limit` is as good as `time-limit`.
std::string option_name(std::string key) {
  std::ranges::replace(key, '_', '-');
  return key;
}

const CLI::Option* option_of(const CLI::App& command, const std::string& key) {
  const std::vector<const CLI::Option*> all = command.get_options();
  const auto it = std::ranges::find_if(all, [&](const CLI::Option* o) {
    const auto& names = o->get_lnames();
    return key != "help" && std::ranges::find(names, key) != names.end();
  });
  return it == all.end() ? nullptr : *it;
}

// Whether the command line says something about it, by any of its names.
bool is_given(const CLI::Option& option, std::span<char* const> words) {
  return std::ranges::any_of(words, [&](const char* word) {
    const std::string_view w(word);
    for (const std::string& name : option.get_lnames()) {
      if (w == "--" + name || w.starts_with("--" + name + "=")) return true;
    }
    return std::ranges::any_of(option.get_snames(),
                               [&](const std::string& name) { return w.starts_with("-" + name) && !w.starts_with("--"); });
  });
}

// The option's words for a value.
void add_words(std::vector<std::string>& out, const CLI::Option& option, const std::string& key, const toml::node& node,
               const std::string& file) {
  if (option.get_items_expected_max() == 0) {
    if (!node.is_boolean()) wrong(file, node.source(), fmt::format("'{}' is true or false", key));
    if (*node.value<bool>()) out.push_back("--" + key);
    return;
  }
  if (const toml::array* list = node.as_array()) {
    for (const toml::node& entry : *list) add_words(out, option, key, entry, file);
    return;
  }
  std::string value;
  if (const auto* text = node.as_string()) value = text->get();
  else if (const auto* whole = node.as_integer()) value = std::to_string(whole->get());
  else if (const auto* real = node.as_floating_point()) value = fmt::format("{}", real->get());
  else wrong(file, node.source(), fmt::format("'{}' takes a number or a text in quotes, as on the command line", key));
  out.insert(out.end(), {"--" + key, value});
}

}  // namespace

std::string user_folder(const char* variable, const char* below_home) {
  if (const char* set = std::getenv(variable); set && *set) return set;
  const char* home = std::getenv("HOME");
  return home && *home ? (fs::path(home) / below_home).string() : "";
}

std::string settings_file() {
  const std::string folder = user_folder("XDG_CONFIG_HOME", ".config");
  return folder.empty() ? "" : (fs::path(folder) / "mellow-lathe" / "settings.toml").string();
}

std::string named_logbook() {
  const std::string file = settings_file();
  const auto t = read_settings(file);
  return t ? logbook_of(file, *t) : "";
}

std::vector<std::string> settings_words(const CLI::App& root, const CLI::App& command, std::span<char* const> given) {
  const std::string file = settings_file();
  const auto t = read_settings(file);
  std::vector<std::string> out;
  if (!t) return out;
  (void)logbook_of(file, *t);
  const auto commands = root.get_subcommands([](const CLI::App*) { return true; });
  std::vector<std::string> known{"logbook", "every"};
  for (const CLI::App* c : commands) known.push_back(c->get_name());
  // What [every] may hold: options of any command.
  std::vector<std::string> any;
  for (const CLI::App* c : commands) {
    for (std::string& name : names_of(*c)) any.push_back(std::move(name));
  }
  const auto own_table = [&](const std::string& name) { return t->get_as<toml::table>(name); };
  const auto take = [&](const std::string& name, const toml::table& table, bool every) {
    const auto other = std::ranges::find(commands, name, [](const CLI::App* c) { return c->get_name(); });
    const std::vector<std::string> options = every ? any : names_of(**other);
    for (const auto& [k, node] : table) {
      const std::string key = option_name(std::string(k.str()));
      if (std::ranges::find(options, key) == options.end()) {
        const std::string hint = did_you_mean(key, options);
        wrong(file, k.source(),
              every ? fmt::format("no command has an option '{}'{}", key, hint)
                    : fmt::format("lathe {} has no option '{}'{}", name, key,
                                  hint.empty() ? fmt::format("; lathe {} --help lists them", name) : hint));
      }
      // Looked at whatever command this is, so that a mistake does not wait.
      const CLI::App* with =
          every ? *std::ranges::find_if(commands, [&](const CLI::App* c) { return option_of(*c, key) != nullptr; }) : *other;
      std::vector<std::string> words;
      add_words(words, *option_of(*with, key), key, node, file);
      const CLI::Option* option = option_of(command, key);
      if (!option || (!every && name != command.get_name()) || is_given(*option, given)) continue;
      // What the command's own table says goes before what holds for every one.
      if (const toml::table* own = every ? own_table(command.get_name()) : nullptr) {
        if (std::ranges::any_of(*own, [&](const auto& entry) { return option_name(std::string(entry.first.str())) == key; })) continue;
      }
      out.insert(out.end(), words.begin(), words.end());
    }
  };
  for (const auto& [k, node] : *t) {
    const std::string key(k.str());
    if (std::ranges::find(known, key) == known.end()) {
      const std::string hint = did_you_mean(key, known);
      wrong(file, k.source(),
            fmt::format(
                "there is no setting '{}'{}", key,
                hint.empty() ? "; the settings are 'logbook' and tables of options: [every], [bench] and those of other commands" : hint));
    }
    if (key == "logbook") continue;
    const toml::table* table = node.as_table();
    if (!table) wrong(file, k.source(), fmt::format("'{}' is a table of options: [{}]", key, key));
    take(key, *table, key == "every");
  }
  return out;
}

}  // namespace lathe::cli
