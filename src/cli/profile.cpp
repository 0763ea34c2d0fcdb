// lathe profile
#include <algorithm>

#include "base/files.hpp"
#include "drawing.hpp"
#include "feed.hpp"
#include "keep.hpp"

namespace lathe::cli {
namespace {

struct ProfileFlags {
  ModelOptions model;
  FeedFlags feed;
  ProfileOptions profile;
  std::string chart, timeline;
  int top = 25;
  uint64_t seed = 1;
  KeepFlags keep;
};

// What a bar is called: number, kind, and the first node.
std::string name_of(const Profile& p, size_t step, size_t most) {
  const StepInfo& s = p.steps[step].step;
  std::string nodes = s.nodes.empty() ? "" : s.nodes.front();
  if (s.nodes.size() > 1) nodes += fmt::format(" + {}", s.nodes.size() - 1);
  if (nodes.size() > most) nodes = nodes.substr(0, most / 2 - 1) + ".." + nodes.substr(nodes.size() - (most / 2 - 1));
  return fmt::format("{} {}: {}", step + 1, s.kind, nodes);
}

std::vector<size_t> longest(const Profile& p, size_t most) {
  std::vector<size_t> order(p.steps.size());
  for (size_t i = 0; i < order.size(); ++i) order[i] = i;
  std::stable_sort(order.begin(), order.end(), [&](size_t a, size_t b) { return p.steps[a].latency.median > p.steps[b].latency.median; });
  order.resize(std::min(order.size(), most));
  return order;
}

// Bars of the longest steps: the part that the machine's limit explains filled, the rest outlined.
void draw(const ProfileFlags& o, const Profile& p) {
  // More bars than this cannot be told apart on one picture.
  std::vector<size_t> order = longest(p, static_cast<size_t>(std::min(o.top, 48)));
  std::reverse(order.begin(), order.end());
  std::string title = chart_label(std::filesystem::path(o.model.model).filename().string());
  if (title.size() > 60) title = title.substr(0, 29) + ".." + title.substr(title.size() - 29);
  std::string script = fmt::format(
      "set terminal {} size 1280,800 font 'sans,12' background rgb '#ffffff'\nset output '{{out}}'\n"
      "set title \"{}: the {} longest of {} steps, median of {} runs{}\" font 'sans,15' noenhanced\nset xlabel \"microseconds\"\nset "
      "xrange [0:{:.6g}]\n"
      "set border 3 lc rgb '#555555'\nset tics nomirror noenhanced\nset grid xtics lc rgb '#dddddd'\nset key bottom right noenhanced\nset "
      "ytics font 'sans,10'\n"
      "set style fill solid 1.0 noborder\nset lmargin 46\nset yrange [-0.7:{}]\n",
      chart_terminal(o.chart), title, order.size(), p.steps.size(), p.timed.runs, o.profile.cold ? ", cold caches" : "",
      1.3 * (order.empty() ? 1 : p.steps[order.back()].latency.median * 1e6), static_cast<double>(order.size()) - 0.3);
  std::string tics;
  script += "$steps << END\n";
  for (size_t i = 0; i < order.size(); ++i) {
    const StepProfile& s = p.steps[order[i]];
    const std::string name = chart_label(name_of(p, order[i], 34));
    tics += fmt::format("{}\"{}\" {}", i ? ", " : "", name, i);
    script += fmt::format("{} {:.6g} {:.6g} \"{:.1f} %, {:.0f} % of the limit\"\n", i, s.latency.median * 1e6,
                          std::min(s.limit_seconds, s.latency.median) * 1e6, 100 * s.share, 100 * s.of_limit);
  }
  script += "END\nset ytics (" + tics + ")\n";
  // Boxes lie on their side: from 0 to the value, 0.7 high.
  script += fmt::format(
      "plot $steps using 2:1:(0):2:($1-0.35):($1+0.35) with boxxyerror lc rgb '#c9d3de' title 'time', "
      "$steps using 3:1:(0):3:($1-0.35):($1+0.35) with boxxyerror lc rgb '{}' title 'least time by the limit of this machine', "
      "$steps using 2:1:4 with labels left offset 0.6,0 font 'sans,9' tc rgb '#333333' notitle\n",
      kColours[0]);
  draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), o.chart);
}

Json latency_json(const Latency& l) { return {{"min", l.min}, {"median", l.median}, {"p90", l.p90}}; }

}  // namespace

Command add_profile(CLI::App& app) {
  auto o = std::make_shared<ProfileFlags>();
  o->model.add_to(app);
  o->model.add_states(app);
  app.add_option("--held", o->profile.held, "Positions that states hold when a run begins (0); what a run adds is taken back")
      ->check(zero_or_more())
      ->type_name("N");
  app.add_option("--runs", o->profile.runs, "Runs with the clock read after every step, and as many without (50)")
      ->check(CLI::Range(1, 1000000))
      ->type_name("N");
  app.add_flag("--cold", o->profile.cold, "Empty the caches before every run");
  app.add_option("--top", o->top, "Steps to list, longest first (25)")->check(CLI::Range(1, 1000000))->type_name("N");
  app.add_option("--chart", o->chart, "Draw the longest steps as bars (needs gnuplot)")->type_name("FILE.png|svg");
  app.add_option("--timeline", o->timeline, "Write steps and workers over time, in the Trace Event format")->type_name("FILE.json");
  o->feed.add_to(app, {.seed = false});
  app.add_option("--seed", o->seed, "Seed of random data for inputs that get no value (1)")->type_name("N");
  o->keep.add_to(app);
  return [o] {
    if (!o->chart.empty()) check_picture_name(o->chart, "--chart");
    o->model.check_target("--chart", o->chart, {picture_kind(o->chart)});
    o->model.check_target("--timeline", o->timeline, {"JSON"});
    Graph graph = o->model.load_graph();
    CompileOptions options = o->model.compile_options(graph);
    o->feed.read(o->model, graph, options);
    const Program program = o->model.make_program(std::move(graph), options);
    const auto inputs = o->feed.make(o->model, program, options, o->seed);
    const std::vector<Shape> shapes = shapes_of(inputs);
    const int threads = program.options().threads;
    Progress progress;
    progress.show("probing the machine");
    const Roofline roofline(program.options().isa, threads);
    Lane lane(program);
    RunProgress slow("running");
    o->profile.run = slow.on(o->model.run_options());
    o->profile.progress = [&](const std::string& what) { progress.show(what); };
    const Profile p = profile(lane, inputs, roofline, o->profile);
    progress.show("");
    const EditionInfo edition = program.describe(shapes);
    const double plainly = plain_share(p);
    Json steps = Json::array(), ops = Json::array();
    for (size_t i = 0; i < p.steps.size(); ++i) {
      const StepProfile& s = p.steps[i];
      steps.push_back({{"step", i + 1},
                       {"kind", s.step.kind},
                       {"op", s.step.op},
                       {"nodes", s.step.nodes},
                       {"output", s.step.output},
                       {"layout", s.step.layout},
                       {"recipe", s.step.recipe},
                       {"flops", s.step.flops},
                       {"bytes", s.step.bytes},
                       {"seconds", latency_json(s.latency)},
                       {"share", s.share},
                       {"gflops", s.gflops},
                       {"gbytes_per_second", s.gbytes},
                       {"limit_seconds", s.limit_seconds},
                       {"limit", s.by_arithmetic ? "arithmetic" : "bandwidth"},
                       {"share_of_limit", s.of_limit}});
    }
    for (const OpProfile& op : p.ops)
      ops.push_back({{"op", op.op},
                     {"steps", op.steps},
                     {"seconds", op.seconds},
                     {"share", op.share},
                     {"flops", op.flops},
                     {"bytes", op.bytes},
                     {"limit_seconds", op.limit_seconds}});
    Json bandwidth = Json::array(), begun = Json::array(), spells = Json::array();
    for (double bytes = 1 << 14; bytes <= 1 << 28; bytes *= 4)
      bandwidth.push_back({{"bytes", bytes}, {"bytes_per_second", 1e9 * roofline.bandwidth(bytes)}});
    for (size_t i = 0; i < p.timeline.size(); ++i)
      begun.push_back({{"step", i + 1}, {"begin", p.timeline[i].begin}, {"seconds", p.timeline[i].seconds}});
    for (const Spell& s : p.spells)
      spells.push_back({{"worker", s.worker}, {"begin", s.begin}, {"seconds", s.seconds}, {"tasks", s.tasks}});
    const Json details{{"model", o->model.model},
                       {"inputs", o->feed.text(o->seed)},
                       {"threads", threads},
                       {"isa", program.options().isa},
                       {"runs", p.timed.runs},
                       {"cold", o->profile.cold},
                       {"run_seconds", latency_json(p.run)},
                       {"timed_run_seconds", latency_json(p.timed)},
                       {"overhead_of_timing", p.overhead},
                       {"flops", p.flops},
                       {"plain", plain_json(edition, plainly)},
                       {"tuned", tuned_json(edition, o->model.recipes)},
                       {"peak_gflops", roofline.peak_gflops()},
                       {"bandwidth", bandwidth},
                       {"timeline", {{"seconds", p.timeline_seconds}, {"steps", begun}, {"workers", spells}}},
                       {"ops", ops},
                       {"steps", steps}};
    write_json(o->model.json, details);
    const auto kept = [&] {
      if (!o->keep.on()) return;
      LogEntry e = entry_for("profile", o->model.model, options_text(program, edition.inputs, 1), details);
      e.figures["latency"] = {p.run.median, p.run.min, p.run.p90, "s", {}};
      e.figures["peak_gflops"] = {roofline.peak_gflops(), {}, {}, "GFLOP/s", {}};
      for (const OpProfile& op : p.ops) e.figures["share of " + op.op] = {op.share, {}, {}, "share", {}};
      keep_entry(o->keep, e, for_people(o->model.json));
    };
    if (!o->timeline.empty()) write_file(o->timeline, timeline_json(p, std::filesystem::path(o->model.model).filename().string()));
    if (!o->chart.empty()) draw(*o, p);
    if (!for_people(o->model.json)) return kept(), static_cast<int>(kGood);
    fmt::print("{}, {} thread{}, {}, {} runs{}\n", o->model.model, threads, threads == 1 ? "" : "s", program.options().isa, p.timed.runs,
               o->profile.cold ? ", caches emptied before each" : "");
    fmt::print("  a run takes {} in the median ({} to {} at 90 %), {:.1f} GFLOP/s: {:.1f} % of the peak\n", seconds_text(p.run.median),
               seconds_text(p.run.min), seconds_text(p.run.p90), p.flops / p.run.median / 1e9,
               100 * p.flops / p.run.median / 1e9 / roofline.peak_gflops());
    fmt::print("  reading the clock after every step changes that by {:+.1f} %\n", 100 * p.overhead);
    if (!o->model.recipes.empty()) fmt::print("  {}\n", tuned_text(edition, o->model.recipes));
    if (edition.plain > 0) fmt::print("  {}", plain_text(edition, plainly));
    if (!program.states().empty()) fmt::print("  states: {}; {} positions held when a run begins\n", states_text(program), o->profile.held);
    fmt::print("\n");
    const auto rates = [](double flops, double bytes, double seconds) {
      return std::pair{flops > 0 ? fmt::format("{:.1f}", flops / seconds / 1e9) : "",
                       bytes > 0 ? fmt::format("{:.1f}", bytes / seconds / 1e9) : ""};
    };
    Table by_op("lrrrrrr", {"op", "steps", "time", "share", "GFLOP/s", "GB/s", "of limit"});
    for (const OpProfile& op : p.ops) {
      const auto [gflops, gbytes] = rates(op.flops, op.bytes, op.seconds);
      by_op.row({op.op, std::to_string(op.steps), seconds_text(op.seconds), fmt::format("{:.1f} %", 100 * op.share), gflops, gbytes,
                 fmt::format("{:.0f} %", 100 * op.limit_seconds / op.seconds)});
    }
    fmt::print("By op at the head of the step\n{}\n", by_op.text());
    const auto order = longest(p, static_cast<size_t>(o->top));
    Table by_step("lrrrrrl", {"step", "median", "share", "GFLOP/s", "GB/s", "of limit", "limited by"});
    for (size_t i : order) {
      const StepProfile& s = p.steps[i];
      const auto [gflops, gbytes] = rates(s.step.flops, s.step.bytes, s.latency.median);
      by_step.row({name_of(p, i, 44), seconds_text(s.latency.median), fmt::format("{:.1f} %", 100 * s.share), gflops, gbytes,
                   fmt::format("{:.0f} %", 100 * s.of_limit), s.by_arithmetic ? "arithmetic" : "bandwidth"});
    }
    fmt::print("{} of {} steps, longest first\n{}", order.size(), p.steps.size(), by_step.text());
    if (!o->chart.empty()) fmt::print("  chart: {}\n", o->chart);
    if (!o->timeline.empty()) fmt::print("  timeline: {}\n", o->timeline);
    kept();
    return static_cast<int>(kGood);
  };
}

}  // namespace lathe::cli
