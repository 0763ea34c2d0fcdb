// Sheets for watching: what is watched, and what is done about it.
#include <nlohmann/json.hpp>
#include <sstream>

#include "lathe/watch.hpp"
#include "sheets/keys.hpp"

namespace lathe {
namespace {

using sheets::Keys;
using sheets::Sheet;

std::string json_of(const toml::node& n) {
  std::ostringstream out;
  n.visit([&](const auto& v) {
    using T = std::decay_t<decltype(v)>;
    if constexpr (toml::is_table<T> || toml::is_array<T>) out << toml::json_formatter(v);
    else if constexpr (toml::is_string<T>) out << nlohmann::json(*v).dump();
    else if constexpr (toml::is_boolean<T>) out << (*v ? "true" : "false");
    else if constexpr (toml::is_number<T>) out << nlohmann::json(*v).dump();
    else out << "null";
  });
  return out.str();
}

// The description of the outputs has keys of its own, the same as in metadata; the others say what is kept of the boxes.
void read_detect(const Sheet& sheet, const toml::table& t, WatchOptions& o) {
  const Keys k{sheet,
               t,
               "[detect]",
               {"form", "outputs", "box", "relative", "scores", "objectness", "y_first", "box_values", "background", "anchors",
                "least_score", "suppress", "overlap", "softness", "most_boxes"}};
  for (const auto& [key, node] : t) {
    const std::string name(key.str());
    if (name == "least_score" || name == "suppress" || name == "overlap" || name == "softness" || name == "most_boxes") continue;
    try {
      set_form_key(o.form, name, json_of(node));
    } catch (const Error& e) {
      sheet.wrong(node, e.what());
    }
  }
  k.real("least_score", o.detect.least_score, 0, 1);
  k.real("overlap", o.detect.suppress.most_overlap, 0, 1);
  k.real("softness", o.detect.suppress.softness, 0.001, 1000);
  k.whole("most_boxes", o.detect.suppress.most, 1, 1000000);
  const std::string how = k.word("suppress", "class", {"class", "all", "soft", "none"});
  o.detect.suppress.how = how == "all"    ? Suppression::across_classes
                          : how == "soft" ? Suppression::soft
                          : how == "none" ? Suppression::none
                                          : Suppression::by_class;
  o.detect.suppress.least_score = o.detect.least_score;
}

class Rules {
 public:
  explicit Rules(const Sheet& sheet) : sheet_(sheet) {}

  RuledActions rule(const toml::table& t) const {
    RuledActions r;
    const Keys k{
        sheet_,
        t,
        "[[rule]]",
        {"name", "class", "score", "larger_than_percent", "region", "at_least", "frames", "gone_seconds", "hold_seconds", "then", "over"}};
    k.text("name", r.rule.name);
    if (r.rule.name.empty()) fail(Category::format, "{}: [[rule]] has no 'name'", sheet_.place(t.source()));
    if (const toml::node* n = k.get("class"); n && n->is_string()) k.text("class", r.rule.classes.emplace_back());
    else r.rule.classes = k.texts("class");
    k.real("score", r.rule.least_score, 0, 1);
    double percent = 0;
    k.real("larger_than_percent", percent, 0, 100);
    r.rule.larger_than = percent / 100;
    if (const toml::node* n = k.get("region")) {
      const std::vector<float> v = k.numbers("region");
      if (v.size() != 4) k.expected(*n, "region", "[left, top, width, height], in shares of the picture");
      const auto exact = [&](size_t i) { return *n->as_array()->get(i)->value<double>(); };
      r.rule.x = exact(0), r.rule.y = exact(1), r.rule.width = exact(2), r.rule.height = exact(3);
    }
    k.whole("at_least", r.rule.at_least, 1, 1000000);
    if (const toml::node* n = k.get("frames")) {
      const std::vector<float> v = k.numbers("frames");
      if (v.size() != 2 || v[0] < 1 || v[1] < v[0] || v[0] != std::floor(v[0]) || v[1] != std::floor(v[1]))
        k.expected(*n, "frames", "[3, 5], for three of the last five");
      r.rule.frames = static_cast<int64_t>(v[0]), r.rule.of_last = static_cast<int64_t>(v[1]);
    }
    k.real("gone_seconds", r.rule.gone, 0, 1e9);
    k.real("hold_seconds", r.rule.hold, 0, 1e9);
    r.then = actions(k, "then");
    r.over = actions(k, "over");
    if (r.then.empty() && r.over.empty())
      fail(Category::format, "{}: rule '{}' does nothing: 'then' or 'over' says what", sheet_.place(t.source()), r.rule.name);
    return r;
  }

 private:
  std::vector<Action> actions(const Keys& of, const char* key) const {
    std::vector<Action> out;
    const toml::node* n = of.get(key);
    if (!n) return out;
    const toml::array* list = n->as_array();
    if (!list) of.expected(*n, key, "a list of actions: [{ print = true }]");
    for (const toml::node& e : *list) {
      if (!e.is_table()) of.expected(e, key, "a list of actions: [{ print = true }]");
      const Keys k{
          sheet_, *e.as_table(), fmt::format("'{}'", key), {"print", "line", "command", "actuator", "on_failure", "limit_seconds"}};
      Action a;
      k.flag("print", a.print);
      a.line = k.path("line");
      a.actuator = k.path("actuator");
      a.command = k.texts("command");
      if (const toml::node* c = k.get("command"); c && (a.command.empty() || a.command[0].empty()))
        k.expected(*c, "command", "a program and its arguments, a list of texts");
      const int given = int{a.print} + !a.line.empty() + !a.actuator.empty() + !a.command.empty();
      if (given != 1)
        sheet_.wrong(e, "an action is one of print = true, line = \"FILE\", actuator = \"FILE\", command = [\"PROGRAM\", ...]");
      a.go_on = k.word("on_failure", "stop", {"stop", "go on"}) == "go on";
      k.real("limit_seconds", a.limit, 0.01, 86400);
      out.push_back(std::move(a));
    }
    return out;
  }
  const Sheet& sheet_;
};

}  // namespace

WatchSheet read_watch_sheet(const std::filesystem::path& file) {
  const Sheet sheet(file);
  WatchSheet s;
  const Keys top{sheet,
                 sheet.table,
                 "the sheet",
                 {"model", "from", "sees", "multiple", "white", "lanes", "threads", "batch", "when_behind", "tile", "overlap", "strict",
                  "pictures", "detect", "camera", "rule"}};
  s.model = top.path("model");
  for (const std::string& p : top.texts("from"))
    s.sources.push_back(p == "-" || std::filesystem::path(p).is_absolute() ? std::filesystem::path(p) : file.parent_path() / p);
  WatchOptions& o = s.options;
  if (top.get("sees")) {
    const std::string w = top.word("sees", "", {"labels", "boxes", "masks", "pictures"});
    o.sees = w == "labels" ? Sees::labels : w == "boxes" ? Sees::boxes : w == "masks" ? Sees::masks : Sees::pictures;
  }
  top.whole("multiple", o.multiple, 1, 65536);
  if (top.get("white")) {
    double white = 1;
    top.real("white", white, 1e-6, 1e9);
    o.white = white;
  }
  int64_t lanes = o.lanes, threads = o.threads;
  top.whole("lanes", lanes, 1, 256);
  top.whole("threads", threads, 1, 1024);
  o.lanes = static_cast<int>(lanes), o.threads = static_cast<int>(threads);
  top.whole("batch", o.batch, 1, 4096);
  o.drop_when_behind = top.word("when_behind", "wait", {"wait", "drop"}) == "drop";
  top.whole("tile", o.tile, 8, 65536);
  top.whole("overlap", o.overlap, 0, 32768);
  top.flag("strict", o.strict);
  if (const auto* p = top.table("pictures")) o.labels = sheets::read_pictures(sheet, *p, o.pictures);
  if (const auto* d = top.table("detect")) read_detect(sheet, *d, o);
  if (const auto* c = top.table("camera")) {
    const Keys k{sheet, *c, "[camera]", {"rate", "frames", "late_percent", "missing_percent", "seed", "real_time"}};
    s.use_camera = true;
    k.real("rate", s.camera.rate, 0.001, 10000);
    k.whole("frames", s.camera.frames, 1, int64_t{1} << 40);
    double late = 0, missing = 0;
    k.real("late_percent", late, 0, 99.9);
    k.real("missing_percent", missing, 0, 99.9);
    s.camera.late = late / 100, s.camera.missing = missing / 100;
    int64_t seed = 1;
    k.whole("seed", seed, 0, int64_t{1} << 53);
    s.camera.seed = static_cast<uint64_t>(seed);
    k.flag("real_time", s.camera.real_time);
  }
  if (const toml::node* rules = sheet.table.get("rule")) {
    const toml::array* list = rules->as_array();
    if (!list || list->empty()) sheet.wrong(*rules, "'rule' is written [[rule]], once for each");
    for (const toml::node& n : *list) {
      if (!n.is_table()) sheet.wrong(n, "'rule' is written [[rule]], once for each");
      s.rules.push_back(Rules(sheet).rule(*n.as_table()));
    }
  }
  return s;
}

}  // namespace lathe
