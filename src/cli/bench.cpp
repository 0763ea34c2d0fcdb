// lathe bench
#include <limits>

#include "keep.hpp"

namespace lathe::cli {
namespace {

struct Options {
  ModelOptions model;
  BenchOptions bench;
  bool versus_unfused = false;
  int rounds = 40;
  uint64_t seed = 1;
  std::string prefer, against;
  KeepFlags keep;
};

Json latency_json(const Latency& l) {
  return {{"runs", l.runs}, {"min", l.min}, {"mean", l.mean}, {"median", l.median},
          {"p90", l.p90},   {"p99", l.p99}, {"max", l.max},   {"standard_deviation", l.deviation}};
}

int versus(const Options& o, const Graph& graph, const CompileOptions& options, const Program& fused, const std::vector<Shape>& shapes,
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

LogEntry entry_of(const Options& o, const BenchResult& r, const std::string& options, double per_second, const Json& details) {
  LogEntry e = entry_for("bench", o.model.model, options, details);
  e.figures["latency"] = {r.latency.median, r.latency.min, r.latency.p90, "s", r.samples};
  e.figures["p99"] = {r.latency.p99, {}, {}, "s", {}};
  e.figures["items_per_second"] = {per_second, {}, {}, "items/s", {}};
  e.figures["peak_gflops"] = {r.peak_gflops, {}, {}, "GFLOP/s", {}};
  if (r.flops > 0) e.figures["share_of_peak"] = {r.share, {}, {}, "share", {}};
  return e;
}

// Whether this is slower than what was kept.
int against_kept(const Options& o, LogEntry now, Json& j) {
  const Logbook book(o.keep.file());
  now.id = std::numeric_limits<int64_t>::max();  // it has none yet, and is later than all
  const LogEntry before = earlier_entry(book, now, o.against);
  const Change c = as_usage([&] { return compare_entries(before, now); });
  j["against"] = change_json(before, now, c);
  j["against"]["after"] = nullptr;
  if (for_people(o.model.json)) fmt::print("  against entry {} of {}: {}\n", before.id, before.at, c.why);
  return c.kind == Change::Kind::slower ? kCheckFailed : kGood;
}

}  // namespace

Command add_bench(CLI::App& app) {
  auto o = std::make_shared<Options>();
  o->model.add_to(app);
  app.add_option("--lanes", o->bench.lanes, "Lanes running side by side, each with --threads threads (1)")
      ->check(CLI::Range(1, 256))
      ->type_name("N");
  app.add_option("--prefer", o->prefer, "Try lanes and threads on this machine and take the best: latency or throughput")
      ->check(CLI::IsMember({"latency", "throughput"}))
      ->type_name("WHAT");
  app.add_option("--seconds", o->bench.min_seconds, "Measure at least this long (1)")->check(CLI::Range(0.01, 3600.0))->type_name("S");
  app.add_option("--warmup", o->bench.warmup_seconds, "Run this long before measuring (0.2)")
      ->check(CLI::Range(0.0, 600.0))
      ->type_name("S");
  app.add_flag("--versus-unfused", o->versus_unfused, "Interleave fused and unfused runs and print the ratio");
  app.add_option("--rounds", o->rounds, "With --versus-unfused: rounds (40)")->check(CLI::Range(3, 100000))->type_name("N");
  app.add_option("--seed", o->seed, "Seed of the random inputs (1)")->type_name("N");
  app.add_option("--against", o->against,
                 "Slower than what the logbook holds (an entry's id, or LAST for the latest that is like it), or only noise? Exit code 1 "
                 "when slower")
      ->type_name("LAST|ID");
  o->keep.add_to(app);
  o->model.add_limits(app);
  return [o] {
    o->bench.run = o->model.run_options();
    Graph graph = o->model.load_graph();
    CompileOptions options = o->model.compile_options(graph);
    if (o->model.archived() && (o->versus_unfused || !o->prefer.empty()))
      throw UsageError(fmt::format("{}: is compiled already; --versus-unfused and --prefer want the model itself", o->model.model));
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
      choice = choose_lanes(compile_for, random_inputs(first, o->model.shapes_for(first, options), o->seed),
                            o->prefer == "latency" ? Prefer::latency : Prefer::throughput,
                            options.threads > 0 ? options.threads : usable_cores());
      progress.show("");
      options.threads = choice.threads;
      o->bench.lanes = choice.lanes;
    }
    Program program = o->versus_unfused ? o->model.make_program(graph, options) : o->model.make_program(std::move(graph), options);
    const auto shapes = o->model.shapes_for(program, options);
    const auto inputs = random_inputs(program, shapes, o->seed);
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
           {"gflops", counted ? Json(r.gflops) : Json(nullptr)},
           {"peak_gflops", r.peak_gflops},
           {"share_of_peak", counted ? Json(r.share) : Json(nullptr)},
           {"spread", r.spread},
           {"peak_drift", r.peak_drift},
           {"noisy", r.noisy}};
    if (!choice.tried.empty()) {
      Json tried = Json::array();
      for (const LaneCandidate& c : choice.tried)
        tried.push_back(
            {{"lanes", c.lanes}, {"threads", c.threads}, {"latency_seconds", c.latency}, {"runs_per_second", c.runs_per_second}});
      j["choice"] = {{"prefer", o->prefer}, {"lanes", choice.lanes}, {"threads", choice.threads}, {"why", choice.why}, {"tried", tried}};
    }
    const auto kept = [&]() -> int {
      if (!o->keep.on() && o->against.empty()) return kGood;
      LogEntry e = entry_of(*o, r, options_text(program, shapes, o->bench.lanes), per_second, j);
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
    fmt::print("{}  ({}; {} lane{} x {} thread{}, {})\n", o->model.model, at, o->bench.lanes, o->bench.lanes == 1 ? "" : "s", threads,
               threads == 1 ? "" : "s", program.options().isa);
    Table table("lr");
    const Latency& l = r.latency;
    table.row({"runs", fmt::format("{} in {:.2f} s", l.runs, r.seconds)});
    for (const auto& [name, value] : {std::pair{"min", l.min},
                                      {"mean", l.mean},
                                      {"median", l.median},
                                      {"p90", l.p90},
                                      {"p99", l.p99},
                                      {"max", l.max},
                                      {"standard deviation", l.deviation}})
      table.row({name, seconds_text(value)});
    table.row({"throughput", fmt::format("{:.1f} items/s", per_second)});
    const std::string least = r.not_counted > 0 ? "at least " : "";
    table.row(
        {"arithmetic", counted ? fmt::format("{}{}FLOP a run", least, count_text(r.flops) + (r.flops < 1000 ? " " : "")) : "not counted"});
    if (counted) table.row({"rate", fmt::format("{}{:.1f} GFLOP/s", least, r.gflops)});
    table.row({"measured peak", fmt::format("{:.1f} GFLOP/s", r.peak_gflops)});
    if (counted) table.row({"share of peak", fmt::format("{}{:.1f} %", least, 100 * r.share)});
    fmt::print("{}", table.text());
    if (l.runs < 5)
      fmt::print(
          "  {} run{} of {} each: what takes so long is not repeated until percentiles mean something; --seconds N measures longer.\n",
          l.runs, l.runs == 1 ? "" : "s", seconds_text(l.median));
    if (edition.plain > 0) fmt::print("  {}", plain_text(edition, plainly));
    if (r.not_counted > 0)
      fmt::print("  The arithmetic of {} step{} is not counted: control flow, plain evaluation, or kernels of yours.\n", r.not_counted,
                 r.not_counted == 1 ? "" : "s");
    if (r.noisy)
      fmt::print(
          "  This machine was too noisy to trust absolute times: spread {:.0f} % of the median, peak moved by {:.0f} %. Compare "
          "interleaved runs, or try again.\n",
          100 * r.spread, 100 * r.peak_drift);
    const int code = kept();
    write_json(o->model.json, j);
    return code;
  };
}

}  // namespace lathe::cli
