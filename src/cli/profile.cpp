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

// A step, by the place that it has in the model: "7", "7.body.2".
struct Placed {
  std::string place;
  const StepProfile* step = nullptr;
};

std::string place_of(const Profile& p, int inner, size_t step) {
  if (inner < 0) return std::to_string(step + 1);
  const InnerProfile& around = p.inner[static_cast<size_t>(inner)];
  return fmt::format("{}.{}.{}", place_of(p, around.parent, around.step), around.body, step + 1);
}

// What a bar is called: number, kind, and the first node.
std::string name_of(const Placed& placed, size_t most) {
  const StepInfo& s = placed.step->step;
  std::string nodes = s.nodes.empty() ? "" : s.nodes.front();
  if (s.nodes.size() > 1) nodes += fmt::format(" + {}", s.nodes.size() - 1);
  if (nodes.size() > most) nodes = nodes.substr(0, most / 2 - 1) + ".." + nodes.substr(nodes.size() - (most / 2 - 1));
  return fmt::format("{} {}: {}", placed.place, s.kind, nodes);
}

// Those inside control flow too.
std::vector<Placed> all_steps(const Profile& p) {
  std::vector<Placed> out;
  for (size_t i = 0; i < p.steps.size(); ++i) out.push_back({place_of(p, -1, i), &p.steps[i]});
  for (size_t k = 0; k < p.inner.size(); ++k) {
    for (size_t i = 0; i < p.inner[k].steps.size(); ++i) out.push_back({place_of(p, static_cast<int>(k), i), &p.inner[k].steps[i]});
  }
  return out;
}

std::vector<Placed> longest(const Profile& p, size_t most) {
  std::vector<Placed> order = all_steps(p);
  std::ranges::stable_sort(order, std::greater<>(), [](const Placed& s) { return s.step->latency.median; });
  order.resize(std::min(order.size(), most));
  return order;
}

// Bars of the longest steps: the part that the machine's limit explains filled, the rest outlined.
void draw(const ProfileFlags& o, const Profile& p) {
  // More bars than this cannot be told apart on one picture.
  std::vector<Placed> order = longest(p, static_cast<size_t>(std::min(o.top, 48)));
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
      chart_terminal(o.chart), title, order.size(), all_steps(p).size(), p.timed.runs, o.profile.cold ? ", cold caches" : "",
      1.3 * (order.empty() ? 1 : order.back().step->latency.median * 1e6), static_cast<double>(order.size()) - 0.3);
  std::string tics;
  script += "$steps << END\n";
  for (size_t i = 0; i < order.size(); ++i) {
    const StepProfile& s = *order[i].step;
    const std::string name = chart_label(name_of(order[i], 34));
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

Json step_latency_json(const Latency& l) { return {{"min", l.min}, {"median", l.median}, {"p90", l.p90}}; }

// Steps with, in those of control flow, the steps inside.
Json steps_json(const Profile& p, int around) {
  const std::vector<StepProfile>& steps = around < 0 ? p.steps : p.inner[static_cast<size_t>(around)].steps;
  Json out = Json::array();
  for (size_t i = 0; i < steps.size(); ++i) {
    const StepProfile& s = steps[i];
    Json j{{"step", i + 1},
           {"kind", s.step.kind},
           {"op", s.step.op},
           {"nodes", s.step.nodes},
           {"output", s.step.output},
           {"layout", s.step.layout},
           {"recipe", s.step.recipe},
           {"flops", s.step.flops},
           {"bytes", s.step.bytes},
           {"seconds", step_latency_json(s.latency)},
           {"share", s.share},
           {"gflops", s.gflops},
           {"gbytes_per_second", s.gbytes},
           {"arithmetic", s.step.arithmetic},
           {"products", s.step.products},
           {"peak_gflops", s.peak_gflops},
           {"limit_seconds", s.limit_seconds},
           {"limit", s.by_arithmetic ? "arithmetic" : "bandwidth"},
           {"share_of_limit", s.of_limit}};
    for (size_t k = 0; k < p.inner.size(); ++k) {
      const InnerProfile& inner = p.inner[k];
      if (inner.parent != around || inner.step != i) continue;
      Json shapes = Json::array();
      for (const Shape& shape : inner.inputs) shapes.push_back(shape);
      j["inside"].push_back(
          {{"body", inner.body}, {"runs", inner.runs}, {"inputs", shapes}, {"steps", steps_json(p, static_cast<int>(k))}});
    }
    out.push_back(std::move(j));
  }
  return out;
}

}  // namespace

Command add_profile(CLI::App& app) {
  auto o = std::make_shared<ProfileFlags>();
  o->model.add_to(app);
  o->model.add_pins(app);
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
    o->model.held = o->profile.held;
    const auto inputs = o->feed.make(o->model, program, options, o->seed);
    const std::vector<Shape> shapes = shapes_of(inputs);
    if (!o->model.pins.empty()) o->model.check_pins(options, program.describe(shapes));
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
    const Json steps = steps_json(p, -1);
    Json ops = Json::array();
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
                       {"run_seconds", step_latency_json(p.run)},
                       {"timed_run_seconds", step_latency_json(p.timed)},
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
               seconds_text(p.run.min), seconds_text(p.run.p90), p.flops / p.run.median / 1e9, 100 * p.arithmetic_seconds / p.run.median);
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
                 op.seconds > 0 ? fmt::format("{:.0f} %", 100 * op.limit_seconds / op.seconds) : ""});
    }
    fmt::print("By op at the head of the step\n{}\n", by_op.text());
    const auto order = longest(p, static_cast<size_t>(o->top));
    Table by_step("lrrrrrl", {"step", "median", "share", "GFLOP/s", "GB/s", "of limit", "limited by"});
    for (const Placed& placed : order) {
      const StepProfile& s = *placed.step;
      const auto [gflops, gbytes] = rates(s.step.flops, s.step.bytes, s.latency.median);
      const bool taken = !s.step.conditional || s.latency.median > 0;
      by_step.row({name_of(placed, 44), taken ? seconds_text(s.latency.median) : "", fmt::format("{:.1f} %", 100 * s.share), gflops, gbytes,
                   taken ? fmt::format("{:.0f} %", 100 * s.of_limit) : "",
                   !taken            ? "its branch was not taken"
                   : s.by_arithmetic ? "arithmetic"
                                     : "bandwidth"});
    }
    fmt::print("{} of {} steps, longest first\n{}", order.size(), all_steps(p).size(), by_step.text());
    for (size_t k = 0; k < p.inner.size(); ++k) {
      const InnerProfile& inner = p.inner[k];
      fmt::print("  {}{}.*: inside step {}, {:.4g} run{} of it each time; a part of that step's time\n",
                 place_of(p, inner.parent, inner.step), "." + inner.body, place_of(p, inner.parent, inner.step), inner.runs,
                 inner.runs == 1 ? "" : "s");
    }
    if (!o->chart.empty()) fmt::print("  chart: {}\n", o->chart);
    if (!o->timeline.empty()) fmt::print("  timeline: {}\n", o->timeline);
    kept();
    return static_cast<int>(kGood);
  };
}

}  // namespace lathe::cli
