// lathe bench --rate, --hold: requests that arrive whether or not a lane is free.
#include <algorithm>
#include <filesystem>

#include "bench.hpp"
#include "drawing.hpp"

namespace lathe::cli {
namespace {

Json arrival_json(const ArrivalResult& r) {
  return {{"rate", r.rate},
          {"offered", r.offered},
          {"served", r.served},
          {"requests", r.requests},
          {"unserved", r.unserved},
          {"waiting_seconds", latency_json(r.waiting)},
          {"service_seconds", latency_json(r.service)},
          {"total_seconds", latency_json(r.total)},
          {"busy", r.busy},
          {"longest_line", r.longest},
          {"kept_up", r.kept_up}};
}

std::vector<double> rates_in(const std::string& text) {
  std::vector<double> out;
  for (const std::string& part : split(text, ',')) {
    char* end = nullptr;
    const double v = std::strtod(part.c_str(), &end);
    if (part.empty() || *end != '\0' || !(v > 0) || v > 1e7)
      throw UsageError(fmt::format("--rate: '{}' is no number of requests a second; expected numbers above 0 with commas", part));
    out.push_back(v);
  }
  if (out.size() > 64) throw UsageError("--rate: give at most 64 rates");
  return out;
}

void draw_rates(const BenchFlags& flags, std::vector<ArrivalResult> results) {
  std::ranges::sort(results, {}, &ArrivalResult::rate);
  std::string points;
  for (const ArrivalResult& r : results)
    points += fmt::format("{:.6g} {:.6g} {:.6g} {:.6g}\n", r.rate, r.total.median * 1e3, r.total.p99 * 1e3, r.waiting.p99 * 1e3);
  const std::string name = chart_label(std::filesystem::path(flags.model.model).filename().string());
  std::string script = fmt::format(
      "set terminal {} size 1280,800 font 'sans,12' background rgb '#ffffff'\nset output '{{out}}'\n"
      "set title \"{}: time to the answer under load, {} lane{}, {} arrivals\" font 'sans,15' noenhanced\n"
      "set xlabel \"requests a second\"\nset ylabel \"milliseconds\"\nset logscale y\nset border 3 lc rgb '#555555'\nset tics nomirror\n"
      "set grid ytics lc rgb '#dddddd'\nset key top left noenhanced\n$p << END\n{}END\n"
      "plot $p using 1:3 with linespoints lw 2 pt 7 lc rgb '{}' title '99 of 100 below', $p using 1:2 with linespoints lw 2 pt 5 lc rgb "
      "'{}' "
      "title 'median', $p using 1:4 with linespoints lw 1 dt 2 pt 6 lc rgb '{}' title 'waiting, 99 of 100 below'{}\n",
      chart_terminal(flags.chart), name, flags.bench.lanes, flags.bench.lanes == 1 ? "" : "s", flags.arrivals, points, kColours[1],
      kColours[0], kColours[3],
      flags.hold_ms > 0 ? fmt::format(", {:.6g} with lines dt 3 lc rgb '#888888' title 'the limit'", flags.hold_ms) : "");
  draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), flags.chart);
}

}  // namespace

int bench_load(BenchFlags& flags) {
  const std::vector<double> rates = flags.rates.empty() ? std::vector<double>() : rates_in(flags.rates);
  Graph graph = flags.model.load_graph();
  CompileOptions options = flags.model.compile_options(graph);
  flags.feed.read(flags.model, graph, options);
  // Lanes side by side have a core each, unless it is said otherwise.
  if (flags.model.threads == 0 && flags.bench.lanes > 1 && !flags.model.archived())
    options.threads = std::max(1, usable_cores() / flags.bench.lanes);
  const Program program = flags.model.make_program(std::move(graph), options);
  const auto inputs = flags.feed.make(flags.model, program, options, flags.seed);
  if (!flags.model.pins.empty()) flags.model.check_pins(options, program.describe(shapes_of(inputs)));
  const int threads = program.options().threads;
  ArrivalOptions o;
  o.arrivals = flags.arrivals == "even" ? Arrivals::even : Arrivals::poisson;
  o.lanes = flags.bench.lanes;
  o.seconds = flags.bench.min_seconds;
  o.drain_seconds = std::max(1.0, o.seconds);
  o.seed = flags.seed;
  o.run = flags.model.run_options();
  Progress progress;
  std::vector<ArrivalResult> results;
  std::optional<HighestRate> highest;
  const StolenWatch stolen;
  if (flags.hold_ms > 0) {
    o.progress = [&](double share) { progress.show(fmt::format("looking for the highest rate: {:.0f} %", 100 * share)); };
    highest = highest_rate(program, threads, inputs, flags.hold_ms / 1e3, o);
    results = highest->tried;
  }
  for (size_t i = 0; i < rates.size(); ++i) {
    o.progress = [&](double share) {
      progress.show(fmt::format("{:g} requests a second ({} of {}): {:.0f} %", rates[i], i + 1, rates.size(), 100 * share));
    };
    results.push_back(under_load(program, threads, inputs, rates[i], o));
  }
  progress.show("");
  std::ranges::stable_sort(results, {}, &ArrivalResult::rate);
  const Environment env = environment();
  const double share = stolen.share();
  Json j{{"model", flags.model.model},
         {"inputs", flags.feed.text(flags.seed)},
         {"lanes", o.lanes},
         {"threads", threads},
         {"isa", program.options().isa},
         {"arrivals", flags.arrivals},
         {"seconds", o.seconds},
         {"rates", Json::array()}};
  Table table("rrrrrrrrrl", {"rate", "served", "service", "waiting", "wait p99", "median", "p99", "p99.9", "busy", ""});
  for (const ArrivalResult& r : results) {
    j["rates"].push_back(arrival_json(r));
    std::string note = r.unserved > 0 ? fmt::format("{} of {} never served", r.unserved, r.requests) : r.kept_up ? "" : "the line grew";
    if (highest && r.rate == highest->rate) note += (note.empty() ? "" : ", ") + fmt::format("<- holds {:g} ms", flags.hold_ms);
    table.row({fmt::format("{:.1f}/s", r.rate), fmt::format("{:.1f}/s", r.served), seconds_text(r.service.median),
               seconds_text(r.waiting.median), seconds_text(r.waiting.p99), seconds_text(r.total.median), seconds_text(r.total.p99),
               r.requests >= 1000 ? seconds_text(r.total.p999) : "", fmt::format("{:.0f} %", 100 * r.busy), note});
  }
  if (highest) j["highest"] = {{"limit_seconds", highest->limit}, {"rate", highest->rate}};
  j["environment"] = environment_json(env);
  j["stolen_share"] = share;
  write_json(flags.model.json, j);
  if (!flags.chart.empty()) draw_rates(flags, results);
  if (!for_people(flags.model.json)) return kGood;
  fmt::print("{}: {} arrivals at {} lane{} x {} thread{}, {}; inputs: {}\n{}", flags.model.model, flags.arrivals, o.lanes,
             o.lanes == 1 ? "" : "s", threads, threads == 1 ? "" : "s", program.options().isa, flags.feed.text(flags.seed), table.text());
  fmt::print("  waiting: from arrival until a lane took it; service: from then to the answer; median and percentiles: both together\n");
  if (highest) {
    if (highest->rate > 0) fmt::print("  at most {:.1f} requests a second keep 99 of 100 below {:g} ms\n", highest->rate, flags.hold_ms);
    else
      fmt::print("  no rate keeps 99 of 100 below {:g} ms: {}\n", flags.hold_ms,
                 results.empty() ? "a request alone takes longer" : "not even the lowest one tried");
  }
  if (!flags.chart.empty()) fmt::print("  chart: {}\n", flags.chart);
  fmt::print("{}", environment_text(env, share));
  return kGood;
}

}  // namespace lathe::cli
