// lathe logbook
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <set>

#include "base/files.hpp"
#include "drawing.hpp"
#include "keep.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct LogbookFlags {
  KeepFlags keep;
  LogFilter filter;
  int64_t show = 0, entry = 0;
  bool here = false;
  std::string against, write, chart, figure, json;
};

// What an entry is mostly looked at for.
std::string main_figure(const LogEntry& e) {
  for (const char* name : {"latency", "accuracy", "error", "cosine", "file_bytes"}) {
    if (e.figures.contains(name)) return name;
  }
  return e.figures.empty() || e.kind == "compare" ? "" : e.figures.begin()->first;
}

std::string figure_text(const Figure& f) {
  const auto one = [&](double v) {
    if (f.unit == "s") return seconds_text(v);
    if (f.unit == "bytes") return bytes_text(v);
    if (f.unit == "share") return fmt::format("{:.1f} %", 100 * v);
    return fmt::format("{:.6g}{}", v, f.unit.empty() ? "" : " " + f.unit);
  };
  return f.low && f.high ? fmt::format("{} ({} to {})", one(f.value), one(*f.low), one(*f.high)) : one(f.value);
}

Json entry_json(const LogEntry& e) {
  Json j{{"id", e.id},     {"at", e.at},           {"kind", e.kind},       {"model", e.model},
         {"hash", e.hash}, {"machine", e.machine}, {"version", e.version}, {"options", e.options}};
  j["figures"] = Json::object();
  for (const auto& [name, f] : e.figures) {
    j["figures"][name] = {{"value", f.value},
                          {"low", f.low ? Json(*f.low) : Json(nullptr)},
                          {"high", f.high ? Json(*f.high) : Json(nullptr)},
                          {"unit", f.unit}};
    if (!f.samples.empty()) j["figures"][name]["samples"] = f.samples;
  }
  if (!e.details.empty()) j["details"] = Json::parse(e.details, nullptr, false);
  return j;
}

std::string quoted(const std::string& text) {
  if (text.find_first_of(",\"\n") == std::string::npos) return text;
  std::string out = "\"";
  for (char c : text) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

std::string csv(const std::vector<LogEntry>& entries) {
  std::string out = "id,at,kind,model,hash,machine,version,options,figure,value,low,high,unit\n";
  const auto number = [](const std::optional<double>& v) { return v ? fmt::format("{:.17g}", *v) : ""; };
  for (const LogEntry& e : entries) {
    for (const auto& [name, f] : e.figures)
      out += fmt::format("{},{},{},{},{},{},{},{},{},{:.17g},{},{},{}\n", e.id, e.at, e.kind, quoted(e.model), e.hash, quoted(e.machine),
                         e.version, quoted(e.options), quoted(name), f.value, number(f.low), number(f.high), f.unit);
  }
  return out;
}

// One line a set of options: what is alike is joined.
void draw_history(const LogbookFlags& o, const std::vector<LogEntry>& entries) {
  std::map<std::string, std::vector<const LogEntry*>> lines;
  std::string unit, figure = o.figure;
  for (auto e = entries.rbegin(); e != entries.rend(); ++e) {
    if (figure.empty()) figure = main_figure(*e);
    if (!e->figures.contains(figure)) continue;
    unit = e->figures.at(figure).unit;
    lines[fmt::format("{}, {}", e->model, e->options)].push_back(&*e);
  }
  if (lines.empty()) throw UsageError(fmt::format("--chart: no entry has a figure '{}'", figure));
  const double factor = unit == "s" ? 1e3 : unit == "share" ? 100 : 1;
  const std::string shown = unit == "s" ? "ms" : unit == "share" ? "%" : unit;
  std::string data, plots;
  size_t n = 0;
  for (const auto& [name, line] : lines) {
    data += fmt::format("$d{} << EOD\n", n);
    for (const LogEntry* e : line) {
      const Figure& f = e->figures.at(figure);
      data += fmt::format("{} {:.9g} {:.9g} {:.9g}\n", e->id, factor * f.value, factor * f.low.value_or(f.value),
                          factor * f.high.value_or(f.value));
    }
    data += "EOD\n";
    const std::string& colour = kColours[n % kColours.size()];
    plots += fmt::format(
        "{}$d{} using 1:2:3:4 with yerrorbars lc rgb \"{}\" pt 7 ps 0.8 notitle, $d{} using 1:2 with lines lw 2 lc rgb "
        "\"{}\" title \"{}\"",
        n ? ", " : "", n, colour, n, colour, chart_label(name));
    ++n;
  }
  std::string script = fmt::format(
      "set terminal {} size 1200,640 font \"DejaVu Sans,12\"\nset output \"{{out}}\"\nset title \"{} of what was kept in {}\" noenhanced\n"
      "set xlabel \"entry\"\nset ylabel \"{}{}\" noenhanced\nset key noenhanced above\nset grid ytics lc rgb \"#dddddd\"\nset border 3\n"
      "set tics nomirror\nset xtics 1\nset offsets 0.5, 0.5, graph 0.1, 0\nset yrange [0:*]\n{}plot {}\n",
      chart_terminal(o.chart), chart_label(figure), chart_label(fs::path(o.keep.file()).filename().string()), chart_label(figure),
      shown.empty() ? "" : ", " + chart_label(shown), data, plots);
  draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), o.chart);
}

int64_t number_of(const std::string& text, const std::string& option) {
  const int64_t id = parse_size(text, option);
  if (id < 1) throw UsageError(fmt::format("{}: entries are numbered from 1", option));
  return id;
}

int compare_two(const LogbookFlags& o, const Logbook& book) {
  const LogEntry after = book.get(o.entry);
  const LogEntry before = earlier_entry(book, after, o.against);
  const Change c = as_usage([&] { return compare_entries(before, after, o.figure.empty() ? "latency" : o.figure); });
  write_json(o.json, change_json(before, after, c));
  if (for_people(o.json)) fmt::print("entry {} against {}: {}\n", after.id, before.id, change_text(c));
  return c.kind == Change::Kind::slower ? kCheckFailed : kGood;
}

int logbook(const LogbookFlags& o) {
  const std::string file = o.keep.file();
  if (!fs::exists(file))
    throw Error(Category::value, fmt::format("{}: there is no logbook yet; --keep of bench and others begins one", file));
  check_target("--write", o.write, {"CSV", "JSON"}, std::vector<std::string>{file});
  check_target("--json", o.json, {"JSON"}, std::vector<std::string>{file});
  if (!o.chart.empty()) {
    check_picture_name(o.chart, "--chart");
    check_target("--chart", o.chart, {picture_kind(o.chart)}, std::vector<std::string>{file});
  }
  const Logbook book(file);
  if ((o.entry > 0) == o.against.empty()) throw UsageError("--entry and --against go together: which entry, against which");
  if (o.entry > 0) return compare_two(o, book);
  if (o.show > 0) {
    const LogEntry e = book.get(o.show);
    write_json(o.json, entry_json(e));
    if (!for_people(o.json)) return kGood;
    Table head("ll");
    for (const auto& [name, text] : {std::pair{"at", e.at},
                                     {"kind", e.kind},
                                     {"model", e.model},
                                     {"hash", e.hash},
                                     {"options", e.options},
                                     {"machine", e.machine},
                                     {"version", e.version}})
      head.row({name, text});
    fmt::print("entry {}\n{}\n", e.id, head.text());
    Table figures("lrr", {"figure", "value", "runs kept"});
    for (const auto& [name, f] : e.figures) figures.row({name, figure_text(f), f.samples.empty() ? "" : std::to_string(f.samples.size())});
    fmt::print("{}", figures.text());
    return kGood;
  }
  const std::vector<LogEntry> entries = book.list(o.filter);
  if (!o.write.empty()) {
    Json all = Json::array();
    for (const LogEntry& e : entries) all.push_back(entry_json(book.get(e.id)));
    write_file(o.write, o.write.ends_with(".csv") ? csv(entries) : all.dump(2) + "\n");
  }
  if (!o.chart.empty()) draw_history(o, entries);
  Json list = Json::array();
  for (const LogEntry& e : entries) list.push_back(entry_json(e));
  write_json(o.json, {{"logbook", file}, {"entries", list}});
  if (!for_people(o.json)) return kGood;
  Table table("rllllr", {"entry", "at", "kind", "model", "options", "main figure"});
  for (const LogEntry& e : entries) {
    const std::string name = main_figure(e);
    table.row({std::to_string(e.id), e.at, e.kind, e.model, e.options,
               name.empty() ? "" : fmt::format("{} {}", name, figure_text(e.figures.at(name)))});
  }
  fmt::print("{}: {} entr{}, the latest first\n{}", file, entries.size(), entries.size() == 1 ? "y" : "ies", table.text());
  std::set<std::string> machines;
  for (const LogEntry& e : entries) machines.insert(e.machine);
  if (machines.size() > 1) fmt::print("  from {} machines; --here lists those of this one\n", machines.size());
  if (!o.write.empty()) fmt::print("  written: {}\n", o.write);
  if (!o.chart.empty()) fmt::print("  chart: {}\n", o.chart);
  return kGood;
}

}  // namespace

LogEntry earlier_entry(const Logbook& book, const LogEntry& of, const std::string& which) {
  if (which != "LAST") return book.get(number_of(which, "--against"));
  LogFilter f{.kind = of.kind, .machine = of.machine, .options = of.options, .before = of.id};
  for (const LogEntry& e : book.list(f)) {
    if (e.model == of.model) return book.get(e.id);
  }
  throw Error(Category::value, fmt::format("{}: holds no earlier {} of '{}' with these options on this machine to compare with",
                                           book.path().string(), of.kind, of.model));
}

std::string change_text(const Change& c) {
  const size_t word = c.why.find_first_of(" ,:;");
  if (c.kind == Change::Kind::noise || word == std::string::npos) return c.why;
  return verdict_text(c.why.substr(0, word), c.kind == Change::Kind::faster) + c.why.substr(word);
}

Json change_json(const LogEntry& before, const LogEntry& after, const Change& c) {
  return {{"before", before.id},
          {"after", after.id},
          {"ratio", c.ratio},
          {"low", c.low},
          {"high", c.high},
          {"machine", c.machine},
          {"verdict", c.kind == Change::Kind::slower   ? "slower"
                      : c.kind == Change::Kind::faster ? "faster"
                                                       : "noise"},
          {"why", c.why}};
}

Command add_logbook(CLI::App& app) {
  auto o = std::make_shared<LogbookFlags>();
  app.add_option("--logbook", o->keep.logbook,
                 "The logbook (LATHE_LOGBOOK in the environment, the settings file, or one in your data folder)")
      ->type_name("FILE");
  app.add_option("--kind", o->filter.kind, "Only bench, profile, judge, narrow or compare")
      ->check(CLI::IsMember({"bench", "profile", "judge", "narrow", "compare"}))
      ->type_name("KIND");
  app.add_option("--model", o->filter.model, "Only models whose file name holds this")->type_name("TEXT");
  app.add_option("--last", o->filter.last, "Only so many of the latest (20; 0: all)")->check(zero_or_more())->type_name("N");
  o->filter.last = 20;
  app.add_flag("--here", o->here, "Only entries of this machine");
  app.add_option("--show", o->show, "One entry with all its figures")->check(CLI::Range(int64_t{1}, int64_t{1} << 62))->type_name("ID");
  app.add_option("--entry", o->entry, "Of --against: which entry is looked at")
      ->check(CLI::Range(int64_t{1}, int64_t{1} << 62))
      ->type_name("ID");
  app.add_option("--against", o->against,
                 "Slower than an earlier entry (its id, or LAST for the one before that is like it), or only noise?")
      ->type_name("LAST|ID");
  app.add_option("--figure", o->figure, "Of --against and --chart: the figure (latency, or what the entries are kept for)")
      ->type_name("NAME");
  app.add_option("--write", o->write, "Write the entries listed")->type_name("FILE.csv|json");
  app.add_option("--chart", o->chart, "Draw the history of the entries listed (needs gnuplot)")->type_name("FILE.png|svg");
  add_json_option(app, o->json);
  app.footer("Exit codes of --against: 0 faster or only noise, 1 slower.");
  return [o] {
    if (o->here) o->filter.machine = machine_fingerprint();
    return logbook(*o);
  };
}

}  // namespace lathe::cli
