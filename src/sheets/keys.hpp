// Job sheets: TOML files of which every key is checked, and every fault has its line.
#pragma once

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <filesystem>
#include <string>
#include <vector>

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "base/text.hpp"
#include "lathe/pictures.hpp"

namespace lathe::sheets {

namespace fs = std::filesystem;

// A file that was read, and where things stand in it.
struct Sheet {
  fs::path file;
  toml::table table;

  // Throws Error: resource (it cannot be read), format (it is no TOML: with line and column).
  explicit Sheet(fs::path path) : file(std::move(path)) {
    const std::string text = read_file(file);
    try {
      table = toml::parse(text, file.string());
    } catch (const toml::parse_error& e) {
      fail(Category::format, "{}: {}", place(e.source()), e.description());
    }
  }
  std::string place(const toml::source_region& r) const { return fmt::format("{}:{}:{}", file.string(), r.begin.line, r.begin.column); }
  [[noreturn]] void wrong(const toml::node& n, const std::string& what) const { fail(Category::format, "{}: {}", place(n.source()), what); }
};

// The keys of one table: those that are there are known, and have the right type.
struct Keys {
  const Sheet& sheet;
  const toml::table& table_;
  std::string name;

  Keys(const Sheet& r, const toml::table& t, std::string n, std::vector<std::string> known) : sheet(r), table_(t), name(std::move(n)) {
    for (const auto& [key, node] : t) {
      const std::string k(key.str());
      if (std::ranges::find(known, k) != known.end()) continue;
      const std::string hint = did_you_mean(k, known);
      const toml::source_region at = key.source().begin.line > 0 ? key.source() : node.source();
      fail(Category::format, "{}: {} has no key '{}'{}", r.place(at), name, k,
           hint.empty() ? fmt::format("; its keys are {}", fmt::join(known, ", ")) : hint);
    }
  }
  const toml::node* get(const char* key) const { return table_.get(key); }
  [[noreturn]] void expected(const toml::node& n, const char* key, const std::string& what) const {
    sheet.wrong(n, fmt::format("'{}' of {} is {}", key, name, what));
  }
  void text(const char* key, std::string& out) const {
    const toml::node* n = get(key);
    if (!n) return;
    const auto v = n->value<std::string>();
    if (!v || !n->is_string()) expected(*n, key, "a text in quotes");
    out = *v;
  }
  std::string word(const char* key, const std::string& otherwise, const std::vector<std::string>& words) const {
    std::string v = otherwise;
    text(key, v);
    if (std::ranges::find(words, v) == words.end() && get(key))
      expected(*get(key), key, fmt::format("one of {}, not '{}'{}", fmt::join(words, ", "), v, did_you_mean(v, words)));
    return v;
  }
  fs::path path(const char* key, bool must = false) const {
    std::string v;
    text(key, v);
    if (v.empty()) {
      if (must) fail(Category::format, "{}: {} has no '{}'", sheet.place(table_.source()), name, key);
      return {};
    }
    return fs::path(v).is_absolute() ? fs::path(v) : sheet.file.parent_path() / v;
  }
  void whole(const char* key, int64_t& out, int64_t least, int64_t most) const {
    const toml::node* n = get(key);
    if (!n) return;
    const auto v = n->is_integer() ? n->value<int64_t>() : std::nullopt;
    if (!v || *v < least || *v > most) expected(*n, key, fmt::format("a whole number from {} to {}", least, most));
    out = *v;
  }
  void real(const char* key, double& out, double least, double most) const {
    const toml::node* n = get(key);
    if (!n) return;
    const auto v = n->is_number() ? n->value<double>() : std::nullopt;
    if (!v || !(*v >= least && *v <= most)) expected(*n, key, fmt::format("a number from {:g} to {:g}", least, most));
    out = *v;
  }
  void flag(const char* key, bool& out) const {
    const toml::node* n = get(key);
    if (!n) return;
    if (!n->is_boolean()) expected(*n, key, "true or false");
    out = *n->value<bool>();
  }
  std::vector<float> numbers(const char* key) const {
    std::vector<float> out;
    const toml::node* n = get(key);
    if (!n) return out;
    if (n->is_number()) return {static_cast<float>(*n->value<double>())};
    if (!n->is_array()) expected(*n, key, "a number, or a list of one a channel");
    for (const toml::node& e : *n->as_array()) {
      if (!e.is_number()) expected(e, key, "a number, or a list of one a channel");
      out.push_back(static_cast<float>(*e.value<double>()));
    }
    return out;
  }
  std::vector<std::string> texts(const char* key) const {
    std::vector<std::string> out;
    const toml::node* n = get(key);
    if (!n) return out;
    if (!n->is_array()) expected(*n, key, "a list of texts");
    for (const toml::node& e : *n->as_array()) {
      if (!e.is_string()) expected(e, key, "a list of texts");
      out.push_back(*e.value<std::string>());
    }
    return out;
  }
  const toml::table* table(const char* key) const {
    const toml::node* n = get(key);
    if (!n) return nullptr;
    if (!n->is_table()) expected(*n, key, fmt::format("a table: [{}]", key));
    return n->as_table();
  }
};

// What is done to pictures, and the classes' names: the table [pictures], the same on every sheet.
inline std::vector<std::string> read_pictures(const Sheet& sheet, const toml::table& t, PictureSettings& out) {
  const Keys k{sheet, t, "[pictures]", {"size", "fit", "mean", "scale", "bgr", "antialias", "labels"}};
  if (const toml::node* n = k.get("size")) {
    const toml::array* a = n->as_array();
    const auto number = [&](size_t i) { return a->get(i)->is_integer() ? *a->get(i)->value<int64_t>() : 0; };
    if (!a || a->size() != 2 || number(0) < 1 || number(1) < 1 || number(0) > 65536 || number(1) > 65536)
      k.expected(*n, "size", "[height, width] in pixels");
    out.height = number(0), out.width = number(1);
  }
  if (k.get("fit")) out.fit = parse_fit(k.word("fit", "stretch", {"stretch", "pad", "crop", "keep"}));
  out.mean = k.numbers("mean");
  out.scale = k.numbers("scale");
  k.flag("bgr", out.bgr);
  k.flag("antialias", out.antialias);
  return k.texts("labels");
}

}  // namespace lathe::sheets
