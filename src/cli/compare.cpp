// lathe compare
#include <algorithm>
#include <cmath>
#include <filesystem>

#include "base/files.hpp"
#include "drawing.hpp"
#include "keep.hpp"
#include "ranks.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct CompareFlags {
  KeepFlags keep;
  std::string sheet, example, write, chart, json;
  RanksFlags ranks;
};

Json interval_json(const Interval& i) { return {{"value", i.value}, {"low", i.low}, {"high", i.high}}; }

Json variants_json(const CompareFlags& o, const JobSheet& sheet, const JobResult& r) {
  Json j{{"sheet", o.sheet}, {"title", sheet.title}, {"seconds", sheet.seconds}, {"rounds", sheet.rounds}, {"good", r.good()}};
  j["no_accuracy"] = r.no_accuracy.empty() ? Json(nullptr) : Json(r.no_accuracy);
  for (size_t i = 0; i < r.variants.size(); ++i) {
    const VariantResult& v = r.variants[i];
    const Variant& asked = sheet.variants[i];
    Json one{{"name", v.name}, {"model", asked.model.string()}, {"threads", asked.threads}, {"lanes", asked.lanes}};
    if (!v.failed.empty()) {
      one["failed"] = v.failed;
      j["variants"].push_back(one);
      continue;
    }
    one["file_bytes"] = v.file_bytes;
    one["memory_bytes"] = v.memory_bytes;
    one["planned_bytes"] = v.planned_bytes;
    one["load_seconds"] = v.load_seconds;
    one["items_judged"] = v.items;
    one["accuracy"] = v.accuracy ? interval_json(*v.accuracy) : Json(nullptr);
    if (v.against_first)
      one["against_first"] = {{"difference", interval_json(v.against_first->difference)},
                              {"p", v.against_first->p},
                              {"significant", v.against_first->significant()}};
    if (v.error) one["mean_absolute_error"] = interval_json(*v.error);
    if (v.error_against_first) one["error_against_first"] = interval_json(*v.error_against_first);
    one["parity"] = v.parity ? Json(*v.parity) : Json(nullptr);
    if (!v.parity_why_not.empty()) one["parity_not_checked"] = v.parity_why_not;
    one["latency_seconds"] = {{"runs", v.latency.runs}, {"median", v.latency.median}, {"p90", v.latency.p90}, {"p99", v.latency.p99}};
    one["items_per_second"] = v.items_per_second;
    one["speed"] = interval_json(v.speed);
    one["unbeaten"] = v.unbeaten;
    one["kept_wide"] = v.kept_wide;
    one["broken_limits"] = v.broken;
    one["notes"] = v.notes;
    j["variants"].push_back(one);
  }
  return j;
}

// The table's cells, for every form it is written in.
struct Cells {
  std::vector<std::string> head;
  std::vector<std::vector<std::string>> rows;
};

std::string points(const PairedShares& s) {
  const auto one = [](double v) { return fmt::format("{:+.1f}", 100 * v + 0.0); };
  return fmt::format("{} ({} to {}){}", one(s.difference.value), one(s.difference.low), one(s.difference.high),
                     s.significant() ? " *" : "");
}

Cells cells_of(const JobResult& r) {
  Cells c;
  const bool judged = r.labelled > 0;
  c.head = {"variant", "file", "memory", "load"};
  if (judged && r.values) c.head.insert(c.head.end(), {"mean error", "to the first"});
  else if (judged) c.head.insert(c.head.end(), {"right", "95 %", "points to the first"});
  c.head.insert(c.head.end(), {"parity", "median", "p90", "p99", "items/s", "speed", "95 %"});
  for (const VariantResult& v : r.variants) {
    if (!v.failed.empty()) continue;
    std::vector<std::string> row{(v.unbeaten ? "> " : "  ") + v.name, bytes_text(static_cast<double>(v.file_bytes)),
                                 bytes_text(static_cast<double>(v.memory_bytes)), seconds_text(v.load_seconds)};
    if (judged && r.values) {
      row.push_back(v.error ? fmt::format("{:.4g}", v.error->value) : "");
      row.push_back(v.error_against_first ? fmt::format("{:+.2g} ({:+.2g} to {:+.2g})", v.error_against_first->value,
                                                        v.error_against_first->low, v.error_against_first->high)
                                          : "");
    } else if (judged) {
      row.push_back(v.accuracy ? fmt::format("{:.1f} %", 100 * v.accuracy->value) : "");
      row.push_back(v.accuracy ? fmt::format("{:.1f} to {:.1f}", 100 * v.accuracy->low, 100 * v.accuracy->high) : "");
      row.push_back(v.against_first ? points(*v.against_first) : "");
    }
    row.insert(row.end(), {v.parity ? fmt::format("{:.1e}", *v.parity) : "none", seconds_text(v.latency.median),
                           seconds_text(v.latency.p90), seconds_text(v.latency.p99), fmt::format("{:.4g}", v.items_per_second),
                           v.speed.value > 0 ? fmt::format("{:.2f}x", v.speed.value) : "",
                           v.speed.value > 0 ? fmt::format("{:.2f} to {:.2f}", v.speed.low, v.speed.high) : ""});
    c.rows.push_back(std::move(row));
  }
  return c;
}

std::string markdown(const JobSheet& sheet, const JobResult& r) {
  const Cells c = cells_of(r);
  std::string out = fmt::format("# {}\n\n", sheet.title.empty() ? "Variants side by side" : sheet.title);
  const auto line = [&](const std::vector<std::string>& cells) {
    out += "|";
    for (std::string cell : cells) {
      cell.erase(0, std::min(cell.find_first_not_of(' '), cell.size()));
      for (size_t at = cell.find('|'); at != std::string::npos; at = cell.find('|', at + 2)) cell.insert(at, "\\");
      out += fmt::format(" {} |", cell);
    }
    out += "\n";
  };
  line(c.head);
  out += "|";
  for (size_t i = 0; i < c.head.size(); ++i) out += i == 0 ? " :- |" : " -: |";
  out += "\n";
  for (const auto& row : c.rows) line(row);
  for (const VariantResult& v : r.variants) {
    if (!v.failed.empty()) out += fmt::format("\n- {}: could not be built: {}", v.name, v.failed);
    for (const std::string& b : v.broken) out += fmt::format("\n- {}: {}", v.name, b);
  }
  return out + "\n";
}

std::string csv(const JobResult& r) {
  std::string out =
      "variant,file_bytes,memory_bytes,load_s,right,right_low,right_high,difference,difference_low,difference_high,mean_error,parity,"
      "median_s,p90_s,p99_s,items_per_s,speed,speed_low,speed_high,unbeaten,failed\n";
  const auto cell = [](std::string t) {
    if (t.find_first_of(",\"\n") == std::string::npos) return t;
    for (size_t at = t.find('"'); at != std::string::npos; at = t.find('"', at + 2)) t.insert(at, "\"");
    return "\"" + t + "\"";
  };
  const auto number = [](bool is, double v) { return is ? fmt::format("{:.9g}", v) : std::string(); };
  for (const VariantResult& v : r.variants) {
    const bool ran = v.failed.empty();
    const Interval right = v.accuracy.value_or(Interval()), d = v.against_first ? v.against_first->difference : Interval();
    const bool j = v.accuracy.has_value(), a = v.against_first.has_value();
    out += fmt::format("{},{},{},{},{},{},{},{},{},{},{},{},{},{},{},{},{},{},{},{},{}\n", cell(v.name), v.file_bytes, v.memory_bytes,
                       number(ran, v.load_seconds), number(j, right.value), number(j, right.low), number(j, right.high), number(a, d.value),
                       number(a, d.low), number(a, d.high), number(v.error.has_value(), v.error ? v.error->value : 0),
                       number(v.parity.has_value(), v.parity.value_or(0)), number(ran, v.latency.median), number(ran, v.latency.p90),
                       number(ran, v.latency.p99), number(ran, v.items_per_second), number(ran, v.speed.value), number(ran, v.speed.low),
                       number(ran, v.speed.high), v.unbeaten ? "yes" : "no", cell(v.failed));
  }
  return out;
}

// Speed against accuracy; without accuracy, bars of speed.
void draw_chart(const CompareFlags& o, const JobSheet& sheet, const JobResult& r) {
  std::string data, points, bars;
  int n = 0;
  for (const VariantResult& v : r.variants) {
    if (!v.failed.empty()) continue;
    bars += fmt::format("{} {:.9g} \"{}\"\n", n, v.items_per_second, chart_label(v.name));
    if (v.accuracy || v.error) {
      const Interval right = v.accuracy ? *v.accuracy : *v.error;
      const double f = v.accuracy ? 100 : 1;
      data += fmt::format("$d{} << EOD\n{:.9g} {:.9g} {:.9g} {:.9g}\nEOD\n", n, v.items_per_second, f * right.value, f * right.low,
                          f * right.high);
      points += fmt::format("{}$d{} using 1:2:3:4 with yerrorbars lc rgb \"{}\" pt {} ps {} lw 1.5 title \"{}{}\"",
                            points.empty() ? "" : ", ", n, kColours[static_cast<size_t>(n) % kColours.size()], v.unbeaten ? 7 : 6,
                            v.unbeaten ? 2.2 : 1.6, chart_label(v.name), v.unbeaten ? " (unbeaten)" : "");
    }
    ++n;
  }
  std::string script = fmt::format(
      "set terminal {} size 1200,720 font \"DejaVu Sans,13\"\nset output \"{{out}}\"\nset title \"{}\" noenhanced\nset border 3\n"
      "set tics nomirror\nset grid lc rgb \"#dddddd\"\nset key noenhanced outside right top Left reverse samplen 1\n",
      chart_terminal(o.chart), chart_label(sheet.title.empty() ? "Variants side by side" : sheet.title));
  if (points.empty())
    script += fmt::format(
        "$b << EOD\n{}EOD\nset style fill solid\nset boxwidth 0.6\nset yrange [0:*]\nset ylabel \"items a second\"\n"
        "plot $b using 1:2:xtic(3) with boxes lc rgb \"{}\" notitle\n",
        bars, kColours[0]);
  else
    script += fmt::format("{}set xlabel \"items a second\"\nset ylabel \"{}\"\nset xrange [0:*]\nset yrange [*:{}]\nplot {}\n", data,
                          r.values ? "mean absolute error, with its 95 % interval" : "right, %, with its 95 % interval",
                          r.values ? "*" : "100", points);
  draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), o.chart);
}

void print(const JobSheet& sheet, const JobResult& r) {
  if (!sheet.title.empty()) fmt::print("{}\n", sheet.title);
  const Cells c = cells_of(r);
  if (!c.rows.empty()) {
    // What it is, then how fast: side by side they would be wider than windows are.
    const auto split = std::ranges::find(c.head, "median") - c.head.begin();
    const auto part = [&](int64_t from, int64_t to) {
      const auto cells = [&](const std::vector<std::string>& row) {
        std::vector<std::string> out{row[0]};
        out.insert(out.end(), row.begin() + from, row.begin() + to);
        return out;
      };
      Table table("l" + std::string(static_cast<size_t>(to - from), 'r'), cells(c.head));
      for (const auto& row : c.rows) table.row(cells(row));
      return table.text();
    };
    fmt::print("{}\n{}", part(1, split), part(split, static_cast<int64_t>(c.head.size())));
    const bool marked = std::ranges::any_of(r.variants, [](const VariantResult& v) { return v.unbeaten; });
    if (marked) fmt::print("  > no other variant is both faster and {}\n", r.values ? "nearer" : "right more often");
    if (std::ranges::any_of(r.variants, [](const VariantResult& v) { return v.against_first && v.against_first->significant(); }))
      fmt::print("  * more than chance (exact test, p < 0.05)\n");
    fmt::print("  timed by turns: {} rounds, {:g} s each in all; speed is items a second against the first, round by round\n", sheet.rounds,
               sheet.seconds);
    if (r.labelled > 0) fmt::print("  judged on {} items\n", r.labelled);
  }
  if (!r.no_accuracy.empty()) fmt::print("  no accuracy: {}\n", r.no_accuracy);
  for (const VariantResult& v : r.variants) {
    if (!v.failed.empty()) fmt::print("  {}: {}: {}\n", v.name, verdict_text("could not be built", false), v.failed);
    if (!v.kept_wide.empty()) fmt::print("  {}: {} kept wide: {}\n", v.name, v.kept_wide.size(), fmt::join(v.kept_wide, ", "));
    if (!v.parity_why_not.empty()) fmt::print("  {}: parity not checked: {}\n", v.name, v.parity_why_not);
    for (const std::string& n : v.notes) fmt::print("  {}: {}\n", v.name, n);
    for (const std::string& b : v.broken) fmt::print("  {}: {}: {}\n", v.name, verdict_text("does not hold", false), b);
  }
}

LogEntry entry_of(const CompareFlags& o, const JobSheet& sheet, const JobResult& r, const Json& json) {
  LogEntry e = entry_for("compare", o.sheet, fmt::format("{} variants", sheet.variants.size()), json);
  for (const VariantResult& v : r.variants) {
    if (!v.failed.empty()) continue;
    if (v.accuracy) e.figures[v.name + ": right"] = {v.accuracy->value, v.accuracy->low, v.accuracy->high, "share"};
    e.figures[v.name + ": items_per_second"] = {v.items_per_second, {}, {}, "items/s"};
    e.figures[v.name + ": latency"] = {v.latency.median, v.latency.min, v.latency.p90, "s"};
    if (v.speed.value > 0) e.figures[v.name + ": speed"] = {v.speed.value, v.speed.low, v.speed.high, "x"};
  }
  return e;
}

int compare(const CompareFlags& o) {
  if (!o.example.empty()) {
    if (!o.sheet.empty()) throw UsageError("--example writes a sheet for a model: there is none to run then");
    // Paths in a sheet are seen from its folder.
    const fs::path folder = o.write.empty() ? fs::path() : fs::absolute(o.write).parent_path();
    const fs::path seen = folder.empty() ? fs::path(o.example) : fs::proximate(fs::absolute(o.example), folder);
    const std::string text = example_job_sheet(seen, load_model(o.example));
    if (o.write.empty()) fmt::print("{}", text);
    else check_target("--write", o.write, {"TOML"}, std::vector<std::string>{o.example}), write_file(o.write, text);
    return kGood;
  }
  if (o.sheet.empty()) throw UsageError("which job sheet? 'lathe compare --example MODEL' writes one to begin with");
  for (const auto& [option, path] : {std::pair{"--json", o.json}, {"--write", o.write}})
    check_target(option, path, {"JSON", "CSV", "Markdown"}, std::vector<std::string>{o.sheet});
  if (!o.write.empty() && !o.write.ends_with(".csv") && !o.write.ends_with(".md"))
    throw UsageError(fmt::format("--write {}: expected a name ending in .csv or .md", o.write));
  if (!o.chart.empty()) {
    check_picture_name(o.chart, "--chart");
    check_target("--chart", o.chart, {picture_kind(o.chart)}, std::vector<std::string>{o.sheet});
  }
  const JobSheet sheet = read_job_sheet(o.sheet);
  for (const Variant& v : sheet.variants) {
    if (!v.keep_as.empty()) check_target("'keep_as'", v.keep_as.string(), {kModelFile}, std::vector<std::string>{v.model.string()});
  }
  Progress progress;
  const RanksScope ranks(o.ranks);
  const JobResult r = run_job_sheet(
      sheet,
      [&](const std::string& what) {
        if (ranks.reports()) progress.show(what);
      },
      ranks.ranks());
  progress.show("");
  if (!ranks.reports()) return kGood;
  const Json json = variants_json(o, sheet, r);
  write_json(o.json, json);
  if (!o.write.empty()) write_file(o.write, o.write.ends_with(".csv") ? csv(r) : markdown(sheet, r));
  const bool any = std::ranges::any_of(r.variants, [](const VariantResult& v) { return v.failed.empty(); });
  if (!o.chart.empty() && any) draw_chart(o, sheet, r);
  const bool people = for_people(o.json);
  if (people) print(sheet, r);
  keep_entry(o.keep, entry_of(o, sheet, r, json), people);
  if (people && !o.chart.empty() && any) fmt::print("  chart: {}\n", o.chart);
  return r.good() ? kGood : kCheckFailed;
}

}  // namespace

Command add_compare(CLI::App& app) {
  auto o = std::make_shared<CompareFlags>();
  app.add_option("SHEET", o->sheet, "Job sheet (TOML; docs/job-sheet.md)");
  app.add_option("--example", o->example, "Write a commented job sheet for this model, to --write or standard output")->type_name("MODEL");
  app.add_option("--write", o->write, "Write the table as CSV or Markdown; of --example, the sheet")->type_name("FILE.csv|md");
  app.add_option("--chart", o->chart, "Draw speed against accuracy (needs gnuplot)")->type_name("FILE.png|svg");
  o->keep.add_to(app);
  o->ranks.add_to(app, false);
  add_json_option(app, o->json);
  app.footer("Exit codes: 1 when a variant could not be built or does not hold the sheet's limits.");
  return [o] { return compare(*o); };
}

}  // namespace lathe::cli
