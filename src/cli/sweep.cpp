// lathe sweep
#include <cmath>
#include <cstdio>
#include <sstream>

#include "common.hpp"
#include "drawing.hpp"
#include "base/files.hpp"

namespace lathe::cli {
namespace {

struct SweepFlags {
  SweepRequest request;
  SweepOptions sweep;
  std::vector<std::string> libraries, attributes, pins;
  std::string shapes, dtype = "f32", weights, json, csv, chart;
};

// "name=3", "name=0.5", "name=text", "name=1,2,3".
Attribute::Data attribute_value(const std::string& text) {
  const auto number = [](const std::string& t, auto parse) {
    size_t used = 0;
    try {
      const auto v = parse(t, &used);
      if (used == t.size()) return std::optional(v);
    } catch (const std::exception&) {
    }
    return decltype(std::optional(parse(t, &used))){};
  };
  const auto whole = [](const std::string& t, size_t* used) { return static_cast<int64_t>(std::stoll(t, used)); };
  const auto real = [](const std::string& t, size_t* used) { return std::stof(t, used); };
  if (const auto i = number(text, whole)) return *i;
  if (const auto f = number(text, real)) return *f;
  if (text.find(',') != std::string::npos) {
    std::vector<int64_t> list;
    std::string part;
    for (std::istringstream in(text); std::getline(in, part, ',');) {
      const auto i = number(part, whole);
      if (!i) return text;
      list.push_back(*i);
    }
    return list;
  }
  return text;
}

// One line a case and implementation.
std::string csv_text(const SweepFlags& o, const std::vector<SweepRow>& rows) {
  std::string out =
      "op,size,size_value,threads,implementation,flops,bytes,median_seconds,min_to_p90_seconds,gflops,gbytes_per_second,limit_seconds,"
      "limit,share_of_limit,check\n";
  for (const SweepRow& row : rows) {
    for (const SweepResult& r : row.results) {
      out += fmt::format("{},{},{:.0f},{},{},{:.0f},{:.0f},", o.request.op, row.name, row.size, o.sweep.threads, r.implementation,
                         row.flops, row.bytes);
      if (r.skipped.empty())
        out += fmt::format("{:.9g},{:.9g},{:.6g},{:.6g},", r.latency.median, r.latency.p90 - r.latency.min, r.gflops, r.gbytes);
      else out += ",,,,";
      out += fmt::format("{:.9g},{},", row.limit_seconds, row.by_arithmetic ? "arithmetic" : "bandwidth");
      out += r.skipped.empty() ? fmt::format("{:.4f},passed\n", r.share) : fmt::format(",{}\n", r.wrong ? "wrong" : "not done");
    }
  }
  return out;
}

Json json_of(const SweepFlags& o, const std::vector<SweepRow>& rows) {
  Json list = Json::array();
  for (const SweepRow& row : rows) {
    Json results = Json::array();
    for (const SweepResult& r : row.results) {
      Json j{{"implementation", r.implementation}, {"timed", r.skipped.empty()}};
      if (!r.skipped.empty()) j["reason"] = r.skipped;
      if (!r.check.name.empty())
        j["check"] = {{"pass", r.check.pass}, {"max_absolute", r.check.max_absolute}, {"max_relative", r.check.max_relative}};
      if (r.skipped.empty()) {
        j["seconds"] = {{"min", r.latency.min}, {"median", r.latency.median}, {"p90", r.latency.p90}};
        j["gflops"] = r.gflops;
        j["gbytes_per_second"] = r.gbytes;
        j["share_of_limit"] = r.share;
      }
      if (!r.recipe.empty()) j["recipe"] = r.recipe;
      results.push_back(std::move(j));
    }
    list.push_back({{"size", row.name},
                    {"size_value", row.size},
                    {"flops", row.flops},
                    {"bytes", row.bytes},
                    {"checked", row.checked},
                    {"peak_gflops", row.peak_gflops},
                    {"bandwidth_gbytes_per_second", row.bandwidth},
                    {"limit", row.by_arithmetic ? "arithmetic" : "bandwidth"},
                    {"limit_seconds", row.limit_seconds},
                    {"implementations", results}});
  }
  return {{"op", o.request.op},       {"dtype", o.dtype},     {"threads", o.sweep.threads},
          {"rounds", o.sweep.rounds}, {"cold", o.sweep.cold}, {"cases", std::move(list)}};
}

// Sizes along a logarithmic axis, one line an implementation, the limit drawn.
void draw(const SweepFlags& o, const std::vector<SweepRow>& rows) {
  // One kind of rate for all: what limits most of them.
  const bool arithmetic = 2 * std::ranges::count_if(rows, [](const SweepRow& row) { return row.by_arithmetic; }) > std::ssize(rows);
  std::vector<std::string> names;
  for (const SweepRow& row : rows) {
    for (const SweepResult& r : row.results) {
      if (r.skipped.empty() && std::ranges::find(names, r.implementation) == names.end()) names.push_back(r.implementation);
    }
  }
  if (names.empty()) throw UsageError("--chart: nothing was timed");
  std::vector<const SweepRow*> order;
  for (const SweepRow& row : rows) order.push_back(&row);
  std::ranges::stable_sort(order, [](const SweepRow* a, const SweepRow* b) { return a->size < b->size; });
  const auto rate = [&](const SweepRow& row, double seconds) { return (arithmetic ? row.flops : row.bytes) / seconds / 1e9; };
  std::string script =
      fmt::format("set terminal {} size 1280,800 font 'sans,13' background rgb '#ffffff'\nset output '{{out}}'\n", chart_terminal(o.chart));
  script += fmt::format(
      "set title \"{} ({}, {} thread{}{})\" font 'sans,16' noenhanced\nset logscale x {}\nset logscale y 10\nset xlabel \"{}\"\nset ylabel "
      "\"{}\"\nset grid xtics ytics lc rgb '#d8d8d8'\nset border 3 lc rgb '#555555'\nset tics nomirror\nset lmargin 10\nset key outside "
      "right top "
      "noenhanced\nset format x {}\n",
      o.request.op, o.dtype, o.sweep.threads, o.sweep.threads == 1 ? "" : "s", o.sweep.cold ? ", cold caches" : "", arithmetic ? 10 : 2,
      arithmetic ? "arithmetic of the case, FLOP" : "elements", arithmetic ? "GFLOP/s" : "GB/s", arithmetic ? "'10^{%L}'" : "'2^{%L}'");
  const auto block = [&](size_t index, const auto& value) {
    script += fmt::format("$d{} << END\n", index);
    for (const SweepRow* row : order) {
      const std::optional<double> v = value(*row);
      if (v) script += fmt::format("{:.9g} {:.9g}\n", row->size, *v);
    }
    script += "END\n";
  };
  block(0, [&](const SweepRow& row) { return std::optional(rate(row, row.limit_seconds)); });
  for (size_t i = 0; i < names.size(); ++i) {
    block(i + 1, [&](const SweepRow& row) -> std::optional<double> {
      for (const SweepResult& r : row.results) {
        if (r.implementation == names[i] && r.skipped.empty()) return rate(row, r.latency.median);
      }
      return std::nullopt;
    });
  }
  script += "plot $d0 with lines lw 2 dt 2 lc rgb '#888888' title 'limit of this machine'";
  for (size_t i = 0; i < names.size(); ++i)
    script += fmt::format(", $d{} with linespoints lw 2 pt {} ps 1.1 lc rgb '{}' title '{}'", i + 1, i + 4, kColours[i % kColours.size()],
                          names[i]);
  script += "\n";
  draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), o.chart);
}

// What arithmetic is counted in.
const char* unit(const SweepFlags& o) {
  return o.request.op.starts_with("QLinear") || o.request.op.ends_with("Integer") ? "GOP/s" : "GFLOP/s";
}

std::string rate_text(const SweepFlags& o, const SweepRow& row, const SweepResult& r) {
  return row.by_arithmetic ? fmt::format("{:.1f} {}", r.gflops, unit(o)) : fmt::format("{:.2f} GB/s", r.gbytes);
}

}  // namespace

Command add_sweep(CLI::App& app) {
  auto o = std::make_shared<SweepFlags>();
  o->sweep.threads = 0;
  app.add_option("op", o->request.op,
                 "Op of the standard, as MatMul, Conv, Exp, Softmax, Transpose, MaxPool, Attention, LSTM; elementwise ones joined by '+'")
      ->required()
      ->type_name("OP");
  app.add_option("--sizes", o->request.sizes,
                 "Sizes: elements (4096, 2^10..2^24), products MxNxK or B*MxNxK, windows 'NxCxHxW FxKHxKW s2 p1 d1 g1', attention BxHxLxD, "
                 "recurrent TxBxIxH")
      ->type_name("SIZE...");
  app.add_option("--shapes", o->shapes, "A file of sizes, one a line ('#' begins a comment); see bench/shapes")->type_name("FILE");
  app.add_option("--dtype", o->dtype, "Element type of what is fed (f32)")->type_name("TYPE");
  app.add_option("--weights", o->weights, "MatMul: f16 or bf16 weights under f32 arithmetic")->type_name("TYPE");
  app.add_option("--row", o->request.row, "Row length of softmax, normalisations and reductions (1024)")
      ->check(CLI::Range(int64_t{1}, int64_t{1} << 30))
      ->type_name("N");
  app.add_option("--attribute", o->attributes, "NAME=VALUE of the op: integer, float, text, or integers with commas")->type_name("N=V");
  app.add_option("--threads", o->sweep.threads, "Threads (one a usable core)")->check(CLI::Range(1, 1024))->type_name("N");
  app.add_option("--rounds", o->sweep.rounds, "Rounds: each visits the probes and every implementation (15)")
      ->check(CLI::Range(3, 100000))
      ->type_name("N");
  app.add_option("--with", o->sweep.with,
                 "Implementations: instruction sets, unfused, direct (without Winograd), plain, or those of --kernels (default: all but "
                 "direct and plain)")
      ->type_name("NAME...")
      ->delimiter(',');
  app.add_option("--kernels", o->libraries, "Library of other implementations (lathe_register_implementations)")->type_name("FILE.so");
  app.add_option("--pin", o->pins,
                 "Turn a knob by hand, KNOB=VALUE (repeatable): 'pinned' beside the others; explain and tune --list show knobs")
      ->type_name("KNOB=N")
      ->allow_extra_args(false);
  app.add_flag("--cold", o->sweep.cold, "Empty the caches before every call");
  app.add_option("--csv", o->csv, "Write a table, one line a case and implementation")->type_name("FILE");
  app.add_option("--chart", o->chart, "Draw sizes against rates, with this machine's limit (needs gnuplot)")->type_name("FILE.png|svg");
  add_json_option(app, o->json);
  return [o] {
    const auto parse = [](const std::string& text, const char* option) {
      const auto d = parse_dtype(text);
      if (!d) throw UsageError(fmt::format("{} {}: there is no such element type", option, text));
      return *d;
    };
    o->request.dtype = parse(o->dtype, "--dtype");
    if (!o->weights.empty()) o->request.weights = parse(o->weights, "--weights");
    for (const std::string& a : o->attributes) {
      const auto [name, value] = split_pair(a, "--attribute");
      o->request.attributes[name] = attribute_value(value);
    }
    if (!o->shapes.empty()) {
      for (std::string& s : read_sizes(o->shapes)) o->request.sizes.push_back(std::move(s));
    }
    if (o->request.sizes.empty()) throw UsageError("nothing to sweep: give --sizes or --shapes");
    for (const std::string& pin : o->pins) {
      o->sweep.pins.push_back(as_usage([&] { return read_pin(pin); }));
      if (!o->sweep.pins.back().node.empty()) throw UsageError(fmt::format("--pin {}: a sweep has no nodes to name; give KNOB=VALUE", pin));
    }
    for (const std::string& l : o->libraries) load_implementations(l);
    if (o->sweep.threads == 0) o->sweep.threads = usable_cores();
    if (!o->chart.empty()) check_picture_name(o->chart, "--chart");
    std::vector<std::string> read = o->libraries;
    read.push_back(o->shapes);
    check_target("--chart", o->chart, {picture_kind(o->chart)}, read);
    check_target("--csv", o->csv, {"text"}, read);
    check_target("--json", o->json, {"JSON"}, read);
    const std::vector<SweepCase> cases = as_usage([&] { return sweep_cases(o->request); });
    Progress progress;
    std::vector<SweepRow> rows;
    for (size_t i = 0; i < cases.size(); ++i) {
      o->sweep.progress = [&](const std::string& what) { progress.show(fmt::format("[{}/{}] {}", i + 1, cases.size(), what)); };
      rows.push_back(as_usage([&] { return sweep(cases[i], o->sweep); }));
    }
    progress.show("");
    write_json(o->json, json_of(*o, rows));
    if (!o->csv.empty()) write_file(o->csv, csv_text(*o, rows));
    if (!o->chart.empty()) draw(*o, rows);
    bool wrong = false;
    for (const SweepRow& row : rows) {
      for (const SweepResult& r : row.results) wrong = wrong || r.wrong;
    }
    if (!for_people(o->json)) return static_cast<int>(wrong ? kCheckFailed : kGood);
    fmt::print("{}, {}{}, {} thread{}, {} interleaved rounds{}; every implementation checked against plain evaluation first\n",
               o->request.op, o->dtype, o->weights.empty() ? "" : ", " + o->weights + " weights", o->sweep.threads,
               o->sweep.threads == 1 ? "" : "s", o->sweep.rounds, o->sweep.cold ? ", cold caches" : "");
    Table table("llrrrrl", {"size", "implementation", "median", "min-p90", "rate", "of limit", "limit"});
    std::map<std::string, std::pair<double, int>> logs;
    for (const SweepRow& row : rows) {
      bool first = true;
      for (const SweepResult& r : row.results) {
        const std::string limit =
            row.by_arithmetic ? fmt::format("{:.1f} {}", row.peak_gflops, unit(*o)) : fmt::format("{:.2f} GB/s", row.bandwidth);
        if (!r.skipped.empty()) table.row({first ? row.name : "", r.implementation, "-", "", r.wrong ? "WRONG" : "-", "", r.skipped});
        else
          table.row({first ? row.name : "", r.implementation, seconds_text(r.latency.median),
                     fmt::format("{:.0f} %", 100 * (r.latency.p90 - r.latency.min) / r.latency.median), rate_text(*o, row, r),
                     fmt::format("{:.1f} %", 100 * r.share), first ? limit : ""});
        first = false;
        if (r.skipped.empty() && !row.results.empty() && row.results[0].skipped.empty()) {
          auto& [sum, count] = logs[r.implementation];
          sum += std::log(r.latency.median / row.results[0].latency.median);
          ++count;
        }
      }
    }
    fmt::print("{}", table.text());
    if (!rows.empty()) {
      const std::string& base = rows[0].results[0].implementation;
      for (size_t i = 1; i < rows[0].results.size(); ++i) {
        const std::string& name = rows[0].results[i].implementation;
        const auto it = logs.find(name);
        if (it == logs.end()) continue;
        const auto& [sum, count] = it->second;
        fmt::print("  {} is {:.2f} times as fast as {}{}\n", base, std::exp(sum / count), name,
                   count > 1 ? fmt::format(" (geometric mean of {} sizes)", count) : "");
      }
    }
    if (!o->chart.empty()) fmt::print("  chart: {}\n", o->chart);
    return static_cast<int>(wrong ? kCheckFailed : kGood);
  };
}

}  // namespace lathe::cli
