// lathe bench
#include <algorithm>
#include <cmath>
#include <limits>

#include "bench.hpp"
#include "base/clock.hpp"
#include "drawing.hpp"

namespace lathe::cli {

Json latency_json(const Latency& l) {
  return {{"runs", l.runs},     {"min", l.min}, {"mean", l.mean},
          {"median", l.median}, {"p90", l.p90}, {"p99", l.p99},
          {"p999", l.p999},     {"max", l.max}, {"standard_deviation", l.deviation}};
}

Json environment_json(const Environment& e) {
  return {{"cpu", e.machine.cpu},
          {"cores", e.machine.cores},
          {"usable_cores", e.machine.usable},
          {"affinity", e.affinity},
          {"core_limit", e.core_limit > 0 ? Json(e.core_limit) : Json(nullptr)},
          {"memory_bytes", e.machine.memory_bytes},
          {"memory_limit_bytes", e.memory_limit > 0 ? Json(e.memory_limit) : Json(nullptr)},
          {"governor", e.governor.empty() ? Json(nullptr) : Json(e.governor)},
          {"turbo", e.turbo ? Json(*e.turbo) : Json(nullptr)},
          {"page_bytes", e.page_bytes},
          {"huge_pages", e.huge_pages.empty() ? Json(nullptr) : Json(e.huge_pages)},
          {"load", e.load},
          {"system", e.system},
          {"version", e.version},
          {"compiler", e.compiler},
          {"isas", e.machine.isas}};
}

double StolenWatch::share() const {
  const auto now = stolen_seconds();
  if (!before_ || !now) return 0;
  const double seconds = since(start_);
  return (*now - *before_) / (seconds * std::max(1, machine_info().cores));
}

std::string environment_text(const Environment& e, double stolen) {
  std::string where =
      fmt::format("{}, {} of {} core{}{}", e.machine.cpu, e.machine.usable, e.machine.cores, e.machine.cores == 1 ? "" : "s",
                  e.core_limit > 0 ? fmt::format(" (limited to {:.3g})", e.core_limit) : "");
  std::string how = fmt::format("lathe {}, {}, {}", e.version, e.compiler, e.system);
  if (!e.governor.empty()) how += ", governor " + e.governor;
  if (e.turbo) how += *e.turbo ? ", turbo on" : ", turbo off";
  how += fmt::format(", load {:.1f}", e.load);
  if (stolen > 0.001) how += fmt::format(", {:.1f} % of the time stolen by other guests", 100 * stolen);
  return fmt::format("  on {}\n  {}\n", where, how);
}

namespace {

int versus(const BenchFlags& o, const Graph& graph, const CompileOptions& options, const Program& fused, const std::vector<Shape>& shapes,
           const std::vector<Tensor>& inputs) {
  CompileOptions apart = options;
  apart.fuse = false;
  const Program unfused = compile(graph, apart);
  const int threads = fused.options().threads;
  Lane a(fused, threads), b(unfused, threads);
  const RunOptions run = o.model.run_options();
  Progress progress;
  progress.show("interleaving fused and unfused runs");
  const std::span<const Tensor> in(inputs);
  const Interleaved r = interleave([&] { a.run(in, run); }, [&] { b.run(in, run); }, o.rounds);
  progress.show("");
  const size_t steps_a = fused.describe(shapes).steps.size(), steps_b = unfused.describe(shapes).steps.size();
  Json j{{"model", o.model.model},     {"threads", threads},           {"isa", fused.options().isa}, {"rounds", o.rounds},
         {"fused", latency_json(r.a)}, {"unfused", latency_json(r.b)}, {"fused_steps", steps_a},     {"unfused_steps", steps_b},
         {"ratio", r.ratio},           {"ratio_p10", r.low},           {"ratio_p90", r.high}};
  write_json(o.model.json, j);
  if (!for_people(o.model.json)) return kGood;
  Table table("lrrrr", {"", "steps", "min", "median", "p90"});
  table.row({"fused", std::to_string(steps_a), seconds_text(r.a.min), seconds_text(r.a.median), seconds_text(r.a.p90)});
  table.row({"unfused", std::to_string(steps_b), seconds_text(r.b.min), seconds_text(r.b.median), seconds_text(r.b.p90)});
  fmt::print("{}, {} thread{}, {}, {} interleaved rounds\n{}", o.model.model, threads, threads == 1 ? "" : "s", fused.options().isa,
             o.rounds, table.text());
  fmt::print("  fused is {:.2f} times as fast (median of rounds; 10 % to 90 %: {:.2f} to {:.2f})\n", r.ratio, r.low, r.high);
  return kGood;
}

LogEntry entry_of(const BenchFlags& o, const BenchResult& r, const std::string& options, double per_second, const Json& details) {
  LogEntry e = entry_for("bench", o.model.model, options, details);
  e.figures["latency"] = {r.latency.median, r.latency.min, r.latency.p90, "s", r.samples};
  e.figures["p99"] = {r.latency.p99, {}, {}, "s", {}};
  e.figures["items_per_second"] = {per_second, {}, {}, "items/s", {}};
  e.figures["peak_gflops"] = {r.peak_gflops, {}, {}, "GFLOP/s", {}};
  if (r.flops > 0) e.figures["share_of_peak"] = {r.share, {}, {}, "share", {}};
  return e;
}

// How the runs' times are spread: some rows of bars. Those far out share the last row.
std::string histogram(const BenchResult& r) {
  if (r.samples.size() < 20) return "";
  std::vector<double> v = r.samples;
  std::ranges::sort(v);
  const double low = v.front(), high = std::max(v[v.size() * 98 / 100], low * 1.02);
  constexpr size_t kRows = 8;
  // A long tail leaves one bar of all: rows that grow show both.
  const bool growing = high > 3 * low;
  const auto edge = [&](size_t row) {
    const double share = static_cast<double>(row) / kRows;
    return growing ? low * std::pow(high / low, share) : low + (high - low) * share;
  };
  std::vector<size_t> counts(kRows, 0);
  for (double x : v) {
    size_t row = 0;
    while (row + 1 < kRows && x >= edge(row + 1)) ++row;
    ++counts[row];
  }
  const size_t most = *std::ranges::max_element(counts);
  std::string out;
  for (size_t i = 0; i < kRows; ++i) {
    out += fmt::format("  {:>10}{} |{:<40} {:4.1f} %\n", seconds_text(edge(i)), i + 1 == kRows ? "+" : " ",
                       std::string(counts[i] * 40 / most, '#'), 100.0 * static_cast<double>(counts[i]) / static_cast<double>(v.size()));
  }
  return out;
}

// What to make of the noise, and what to do about it.
std::string noise_text(const BenchResult& r, const Environment& e) {
  if (!r.noisy && r.steady) return "";
  std::string out = "  ";
  if (r.noisy)
    out += fmt::format("This machine was too noisy to trust absolute times: spread {:.0f} % of the median, peak moved by {:.0f} %. ",
                       100 * r.spread, 100 * r.peak_drift);
  if (!r.steady) out += "Medians did not stand still while it warmed up. ";
  std::vector<std::string> advice;
  if (r.stolen > 0.02) advice.push_back(fmt::format("other guests took {:.0f} % of the time: measure when they are quiet", 100 * r.stolen));
  if (e.load > e.machine.usable + 0.5)
    advice.push_back(fmt::format("the load is {:.1f} on {} cores: stop what else runs", e.load, e.machine.usable));
  if (!e.governor.empty() && e.governor != "performance")
    advice.push_back(fmt::format("the governor is '{}': set it to performance", e.governor));
  if (e.core_limit > 0 && e.core_limit < e.machine.usable)
    advice.push_back(fmt::format("a control group leaves {:.3g} cores: --threads {} at most", e.core_limit,
                                 std::max(1, static_cast<int>(e.core_limit))));
  advice.emplace_back("compare by turns (two models, or --also), which falls on both alike");
  for (size_t i = 0; i < advice.size(); ++i) out += (i > 0 ? "; " : "What helps: ") + advice[i];
  std::string wrapped_out;
  for (const std::string& line : wrapped(out.substr(2), 108)) wrapped_out += "  " + line + "\n";
  return wrapped_out;
}

// Whether this is slower than what was kept.
int against_kept(const BenchFlags& o, LogEntry now, Json& j) {
  const Logbook book(o.keep.file());
  now.id = std::numeric_limits<int64_t>::max();  // it has none yet, and is later than all
  const LogEntry before = earlier_entry(book, now, o.against);
  const Change c = as_usage([&] { return compare_entries(before, now); });
  j["against"] = change_json(before, now, c);
  j["against"]["after"] = nullptr;
  if (for_people(o.model.json)) fmt::print("  against entry {} of {}: {}\n", before.id, before.at, change_text(c));
  return c.kind == Change::Kind::slower ? kCheckFailed : kGood;
}

}  // namespace

Command add_bench(CLI::App& app) {
  auto o = std::make_shared<BenchFlags>();
  o->model.add_to(app);
  o->model.add_pins(app);
  o->model.add_states(app);
  app.add_option("--held", o->bench.held, "Positions that states hold when a run begins (0); what a run adds is taken back")
      ->check(zero_or_more())
      ->type_name("N");
  // Lists, here: their values are tried by turns.
  app.remove_option(app.get_option("--batch"));
  app.remove_option(app.get_option("--threads"));
  app.add_option("MORE", o->more, "More models: timed by turns with the first")->type_name("");
  app.add_option("--batch", o->batches,
                 "Size of the inputs' leading dim where the model leaves it open (1); a list or a range tries one after another")
      ->type_name("N,N..N");
  app.add_option("--threads", o->threads, "Threads (all cores this process may use); a list or a range likewise")->type_name("N,N..N");
  app.add_option("--lanes", o->lanes, "Lanes running side by side, each with --threads threads (1); a list or a range likewise")
      ->type_name("N,N..N");
  app.add_option("--also", o->also, "Also with these options, by turns: 'threads=1', 'isa=avx2', 'batch=8 direct' (repeatable)")
      ->type_name("OPTIONS")
      ->allow_extra_args(false);
  app.add_option("--rate", o->rates, "Under load: requests a second that arrive whether or not a lane is free; several with commas")
      ->type_name("R,R..");
  app.add_option("--hold", o->hold_ms, "Under load: the highest rate that keeps 99 of 100 requests below MS milliseconds")
      ->check(CLI::Range(1e-3, 1e7))
      ->type_name("MS");
  auto* arrivals = app.add_option("--arrivals", o->arrivals, "With --rate and --hold: poisson or even (poisson)")
                       ->check(CLI::IsMember({"poisson", "even"}));
  app.add_option("--chart", o->chart, "Of a list, or of rates: draw it (needs gnuplot)")->type_name("FILE.png|svg");
  app.add_option("--prefer", o->prefer, "Try lanes and threads on this machine and take the best: latency or throughput")
      ->check(CLI::IsMember({"latency", "throughput"}))
      ->type_name("WHAT");
  app.add_option("--seconds", o->bench.min_seconds, "Measure at least this long (1)")->check(CLI::Range(0.01, 3600.0))->type_name("S");
  app.add_option("--warmup", o->bench.warmup_seconds, "Warm up for so long at most; it ends when medians stand still (2)")
      ->check(CLI::Range(0.0, 600.0))
      ->type_name("S");
  app.add_flag("--versus-unfused", o->versus_unfused, "Interleave fused and unfused runs and print the ratio");
  app.add_option("--rounds", o->rounds, "With --versus-unfused and several models: rounds (40)")
      ->check(CLI::Range(3, 100000))
      ->type_name("N");
  o->feed.add_to(app, {.seed = false});
  app.add_option("--seed", o->seed, "Seed of random data for inputs that get no value (1)")->type_name("N");
  app.add_option("--against", o->against,
                 "Slower than what the logbook holds (an entry's id, or LAST for the latest that is like it), or only noise? Exit code 1 "
                 "when slower")
      ->type_name("LAST|ID");
  o->keep.add_to(app);
  o->model.add_limits(app);
  return [o, arrivals] {
    o->bench.run = o->model.run_options();
    const auto swept = swept_by(*o);
    const bool load = !o->rates.empty() || o->hold_ms > 0, several = !o->more.empty() || !o->also.empty();
    if (load + several + swept.has_value() + o->versus_unfused + !o->prefer.empty() > 1)
      throw UsageError(
          "--rate or --hold, several models or --also, a list of sizes, --versus-unfused and --prefer are questions of their own: ask one");
    if (arrivals->count() > 0 && !load) throw UsageError("--arrivals goes with --rate or --hold");
    if ((load || several || swept) && (o->keep.keep || !o->against.empty()))
      throw UsageError("--keep and --against are of a single figure: leave out the lists, --rate and further models");
    if (!o->chart.empty()) {
      if (!load && !swept) throw UsageError("--chart draws a list of sizes, or rates: give --batch 1..64, or --rate 100,200");
      check_picture_name(o->chart, "--chart");
      o->model.check_target("--chart", o->chart, {picture_kind(o->chart)});
    }
    if (load) return bench_load(*o);
    if (several) return bench_side_by_side(*o);
    if (swept) return bench_sweep(*o, *swept);
    const auto loading = Clock::now();
    Graph graph = o->model.load_graph();
    const double load_seconds = since(loading);
    CompileOptions options = o->model.compile_options(graph);
    o->feed.read(o->model, graph, options);
    if (o->model.archived() && (o->versus_unfused || !o->prefer.empty()))
      throw UsageError(fmt::format("{}: is compiled already; --versus-unfused and --prefer want the model itself", o->model.model));
    o->model.held = o->bench.held;
    LaneChoice choice;
    if (!o->prefer.empty()) {
      if (o->versus_unfused || o->bench.lanes != 1)
        throw UsageError("--prefer picks the lanes itself: leave out --lanes and --versus-unfused");
      Progress progress;
      progress.show("trying lanes and threads");
      const auto compile_for = [&](int threads) {
        CompileOptions with = options;
        with.threads = threads;
        return compile(graph, with);
      };
      const Program first = compile_for(1);
      choice = choose_lanes(compile_for, o->feed.make(o->model, first, options, o->seed),
                            o->prefer == "latency" ? Prefer::latency : Prefer::throughput,
                            options.threads > 0 ? options.threads : usable_cores());
      progress.show("");
      options.threads = choice.threads;
      o->bench.lanes = choice.lanes;
    }
    const auto compiling = Clock::now();
    Program program = o->versus_unfused ? o->model.make_program(graph, options) : o->model.make_program(std::move(graph), options);
    const auto inputs = o->feed.make(o->model, program, options, o->seed);
    const std::vector<Shape> shapes = shapes_of(inputs);
    o->model.check_pins(options, program.describe(shapes));
    const double compile_seconds = since(compiling);
    if (o->versus_unfused) return versus(*o, graph, options, program, shapes, inputs);
    const int threads = program.options().threads;
    o->bench.max_seconds = std::max(10.0, 3 * o->bench.min_seconds);
    Progress progress;
    progress.show("measuring");
    RunProgress slow("measuring");
    if (o->bench.lanes == 1) o->bench.run = slow.on(o->bench.run);
    const BenchResult r = bench(program, threads, inputs, o->bench);
    progress.show("");
    const EditionInfo edition = program.describe(shapes);
    // A second look at what takes minutes would take as long again.
    const auto plainly = r.latency.median < 5 ? plain_share(program, edition, inputs, o->bench.run) : std::nullopt;
    const int64_t items = shapes.empty() || shapes[0].empty() ? 1 : shapes[0][0];
    const double per_second = r.runs_per_second * static_cast<double>(items);
    // A model whose arithmetic nobody knows has no rate; one where only a part is known has at least that.
    const bool counted = r.flops > 0;
    const Environment env = environment();
    Json shape_list = Json::object();
    for (size_t i = 0; i < shapes.size(); ++i) shape_list[program.inputs()[i].name] = shapes[i];
    Json j{{"model", o->model.model},
           {"shapes", shape_list},
           {"threads", threads},
           {"lanes", o->bench.lanes},
           {"isa", program.options().isa},
           {"latency_seconds", latency_json(r.latency)},
           {"measured_seconds", r.seconds},
           {"items_per_run", items},
           {"items_per_second", per_second},
           {"flops_per_run", counted ? Json(r.flops) : Json(nullptr)},
           {"steps_not_counted", r.not_counted},
           {"plain", plain_json(edition, plainly)},
           {"tuned", tuned_json(edition, o->model.recipes)},
           {"states", states_json(program)},
           {"why_copied", program.why_copied()},
           {"held", o->bench.held},
           {"gflops", counted ? Json(r.gflops) : Json(nullptr)},
           {"peak_gflops", r.peak_gflops},
           {"peak_int8_gops", r.int8_gops > 0 ? Json(r.int8_gops) : Json(nullptr)},
           {"peak_bf16_gflops", r.bf16_gflops > 0 ? Json(r.bf16_gflops) : Json(nullptr)},
           {"share_of_peak", counted ? Json(r.share) : Json(nullptr)},
           {"spread", r.spread},
           {"peak_drift", r.peak_drift},
           {"noisy", r.noisy},
           {"inputs", o->feed.text(o->seed)},
           {"samples_seconds", r.samples},
           {"load_seconds", load_seconds},
           {"compile_seconds", compile_seconds},
           {"first_run_seconds", r.first_seconds},
           {"warmup_runs", r.warmup_runs},
           {"steady", r.steady},
           {"weight_bytes", r.weight_bytes},
           {"read_bytes_per_second", r.read_bandwidth > 0 ? Json(r.read_bandwidth) : Json(nullptr)},
           {"share_of_reading", r.read_bandwidth > 0 ? Json(r.share_of_reading) : Json(nullptr)},
           {"peak_memory_bytes", r.peak_memory},
           {"joules_per_run", r.joules > 0 ? Json(r.joules) : Json(nullptr)},
           {"stolen_share", r.stolen},
           {"environment", environment_json(env)}};
    if (!choice.tried.empty()) {
      Json tried = Json::array();
      for (const LaneCandidate& c : choice.tried)
        tried.push_back(
            {{"lanes", c.lanes}, {"threads", c.threads}, {"latency_seconds", c.latency}, {"runs_per_second", c.runs_per_second}});
      j["choice"] = {{"prefer", o->prefer}, {"lanes", choice.lanes}, {"threads", choice.threads}, {"why", choice.why}, {"tried", tried}};
    }
    const auto kept = [&]() -> int {
      if (!o->keep.on() && o->against.empty()) return kGood;
      Json details = j;
      details.erase("samples_seconds");  // the figure holds them
      LogEntry e = entry_of(*o, r, options_text(program, shapes, o->bench.lanes), per_second, details);
      const int code = o->against.empty() ? int{kGood} : against_kept(*o, e, j);
      // Asked for against alone, it is looked at and not kept.
      if (o->against.empty() || o->keep.keep) keep_entry(o->keep, e, for_people(o->model.json));
      return code;
    };
    if (!for_people(o->model.json)) {
      const int code = kept();
      write_json(o->model.json, j);
      return code;
    }
    if (!choice.tried.empty()) {
      Table tried("lrr", {"tried", "latency", "runs/s"});
      for (const LaneCandidate& c : choice.tried)
        tried.row({fmt::format("{} lane{} x {} thread{}{}", c.lanes, c.lanes == 1 ? "" : "s", c.threads, c.threads == 1 ? "" : "s",
                               c.lanes == choice.lanes && c.threads == choice.threads ? "  <" : ""),
                   seconds_text(c.latency), fmt::format("{:.1f}", c.runs_per_second)});
      fmt::print("{}  for {}: {}\n\n", tried.text(), o->prefer, choice.why);
    }
    std::string at;
    for (size_t i = 0; i < shapes.size(); ++i) at += fmt::format("{}{} {}", i ? ", " : "", program.inputs()[i].name, to_string(shapes[i]));
    fmt::print("{}  ({}; {} lane{} x {} thread{}, {}; inputs: {})\n", o->model.model, at, o->bench.lanes, o->bench.lanes == 1 ? "" : "s",
               threads, threads == 1 ? "" : "s", program.options().isa, o->feed.text(o->seed));
    Table table("ll");
    const Latency& l = r.latency;
    table.row({"runs", fmt::format("{} in {:.2f} s", l.runs, r.seconds)});
    for (const auto& [name, value] : {std::pair{"min", l.min},
                                      {"mean", l.mean},
                                      {"median", l.median},
                                      {"p90", l.p90},
                                      {"p99", l.p99},
                                      {"p99.9", l.runs >= 1000 ? l.p999 : 0},
                                      {"max", l.max},
                                      {"standard deviation", l.deviation}})
      if (value > 0) table.row({name, seconds_text(value)});
    table.row({"throughput", fmt::format("{:.1f} items/s", per_second)});
    const std::string least = r.not_counted > 0 ? "at least " : "";
    table.row(
        {"arithmetic", counted ? fmt::format("{}{}FLOP a run", least, count_text(r.flops) + (r.flops < 1000 ? " " : "")) : "not counted"});
    if (counted) table.row({"rate", fmt::format("{}{:.1f} GFLOP/s", least, r.gflops)});
    std::string peak = fmt::format("{:.1f} GFLOP/s", r.peak_gflops);
    if (r.int8_gops > 0) peak += fmt::format(" of f32, {:.1f} GOP/s of int8", r.int8_gops);
    if (r.bf16_gflops > 0) peak += fmt::format("{}, {:.1f} GFLOP/s of bf16", r.int8_gops > 0 ? "" : " of f32", r.bf16_gflops);
    table.row({"measured peak", peak});
    if (counted) table.row({"share of peak", fmt::format("{}{:.1f} %", least, 100 * r.share)});
    if (r.read_bandwidth > 0)
      table.row({"weights", fmt::format("{} a run: {:.1f} % of what {:.1f} GB/s of reading allow", bytes_text(r.weight_bytes),
                                        100 * r.share_of_reading, r.read_bandwidth / 1e9)});
    if (!program.states().empty())
      table.row({"states",
                 fmt::format("{}{}", states_text(program), o->bench.held > 0 ? fmt::format("; {} positions held", o->bench.held) : "")});
    table.row({"load, compile", fmt::format("{}, {}", seconds_text(load_seconds), seconds_text(compile_seconds))});
    table.row({"first run", fmt::format("{}; {} runs until medians stood still{}", seconds_text(r.first_seconds), r.warmup_runs,
                                        r.steady ? "" : " (they did not)")});
    table.row({"memory", fmt::format("{} at most", bytes_text(static_cast<double>(r.peak_memory)))});
    if (r.joules > 0) table.row({"energy", fmt::format("{:.3g} J a run, of the processor's packages", r.joules)});
    fmt::print("{}{}", table.text(), histogram(r));
    if (l.runs < 5)
      fmt::print(
          "  {} run{} of {} each: what takes so long is not repeated until percentiles mean something; --seconds N measures longer.\n",
          l.runs, l.runs == 1 ? "" : "s", seconds_text(l.median));
    if (!o->model.recipes.empty()) fmt::print("  {}\n", tuned_text(edition, o->model.recipes));
    if (edition.plain > 0) fmt::print("  {}", plain_text(edition, plainly));
    if (r.not_counted > 0)
      fmt::print("  The arithmetic of {} step{} is not counted: control flow, branches, plain evaluation, or kernels of yours.\n",
                 r.not_counted, r.not_counted == 1 ? "" : "s");
    fmt::print("{}{}", noise_text(r, env), environment_text(env, r.stolen));
    const int code = kept();
    write_json(o->model.json, j);
    return code;
  };
}

}  // namespace lathe::cli
