// lathe explain
#include "drawing.hpp"
#include "feed.hpp"
#include "base/files.hpp"

namespace lathe::cli {
namespace {

void print_passes(const std::vector<PassReport>& passes) {
  for (const PassReport& p : passes) {
    if (p.changes.empty()) continue;
    fmt::print("  {}\n", p.pass);
    for (const auto& c : p.changes) {
      bool first = true;
      for (const auto& line : wrapped(c, 110)) fmt::print("    {}{}\n", first ? "" : "  ", line), first = false;
    }
  }
}

}  // namespace

namespace {

struct ExplainFlags {
  ModelOptions model;
  FeedFlags feed;
  std::string draw, detail, focus, sensitivity;
  int depth = 0, around = 3, runs = 30;
  bool timed = false;
};

}  // namespace

Command add_explain(CLI::App& app) {
  auto o = std::make_shared<ExplainFlags>();
  o->model.add_to(app);
  o->model.add_pins(app);
  o->model.add_states(app);
  app.add_option("--draw", o->draw, "Draw nodes and the steps around them (needs graphviz); .dot writes the graph as text")
      ->type_name("FILE.svg|png|dot");
  app.add_option("--detail", o->detail, "What the drawing shows: nodes, steps or modules (by the size of the graph)")
      ->check(CLI::IsMember({"nodes", "steps", "modules"}))
      ->type_name("WHAT");
  app.add_option("--sensitivity", o->sensitivity, "Shade the drawing by what narrow's --sensitivity or parity's --budget wrote as JSON")
      ->type_name("FILE.json");
  app.add_option("--depth", o->depth, "Of modules: parts of node names that make one (as many as tell most of them apart)")
      ->check(CLI::Range(1, 20))
      ->type_name("N");
  app.add_option("--focus", o->focus, "Draw only what lies near the nodes whose name contains this")->type_name("TEXT");
  app.add_option("--around", o->around, "How many boxes away from the focus still are near (3)")
      ->check(CLI::Range(0, 1000))
      ->type_name("N");
  app.add_flag("--timed", o->timed, "Run the model too and put each step's time beside its least time");
  app.add_option("--runs", o->runs, "With --timed: runs (30)")->check(CLI::Range(1, 1000000))->type_name("N");
  o->feed.add_to(app, {});
  return [o] {
    const bool dot = o->draw.ends_with(".dot");
    if (!o->draw.empty() && !dot) check_picture_name(o->draw, "--draw");
    o->model.check_target("--draw", o->draw, {dot ? std::string_view("text") : picture_kind(o->draw)});
    if (!o->sensitivity.empty() && o->draw.empty()) throw UsageError("--sensitivity shades a drawing: give --draw FILE.svg");
    std::map<std::string, double> sensitivity;
    if (!o->sensitivity.empty()) sensitivity = read_sensitivity(o->sensitivity);
    Graph graph = o->model.load_graph();
    CompileOptions options = o->model.compile_options(graph);
    o->feed.read(o->model, graph, options);
    const Program program = o->model.make_program(std::move(graph), options);
    // Random inputs of some kinds cannot be made, and only runs need any.
    const auto inputs = o->timed || o->feed.any() ? o->feed.make(o->model, program, options, 1) : std::vector<Tensor>();
    const std::vector<Shape> shapes = inputs.empty() ? o->model.shapes_for(program, options) : shapes_of(inputs);
    const EditionInfo edition = program.describe(shapes);
    o->model.check_pins(options, edition);
    const int threads = program.options().threads;
    Progress progress;
    progress.show("probing the machine");
    const Roofline roofline(program.options().isa, threads);
    std::optional<Profile> timed;
    if (o->timed) {
      Lane lane(program);
      ProfileOptions po;
      po.runs = o->runs;
      po.progress = [&](const std::string& what) { progress.show(what); };
      timed = profile(lane, inputs, roofline, po);
    }
    progress.show("");
    double least = 0;
    Json steps = Json::array();
    for (size_t i = 0; i < edition.steps.size(); ++i) {
      const StepInfo& s = edition.steps[i];
      bool arithmetic = false;
      const double limit = roofline.seconds(s, &arithmetic);
      if (!s.conditional) least += limit;  // no run takes all of the others
      Json j{{"step", i + 1},
             {"kind", s.kind},
             {"op", s.op},
             {"nodes", s.nodes},
             {"why", s.why},
             {"why_not_more", s.why_not},
             {"conditional", s.conditional},
             {"recipe", s.recipe},
             {"chosen", s.chosen},
             {"chosen_by", s.chosen_by.empty() ? "estimate" : s.chosen_by},
             {"tuned_gain", s.chosen_by == "tuned" ? Json(s.gain) : Json()},
             {"refused", s.refused},
             {"output", s.output},
             {"layout", s.layout},
             {"flops", s.flops},
             {"bytes", s.bytes},
             {"limit_seconds", limit},
             {"limit", arithmetic ? "arithmetic" : "bandwidth"}};
      if (timed) {
        j["seconds"] = timed->steps[i].latency.median;
        j["share"] = timed->steps[i].share;
        j["share_of_limit"] = timed->steps[i].of_limit;
      }
      steps.push_back(std::move(j));
    }
    Json layouts = Json::array();
    for (const StepInfo& s : edition.steps) {
      if (s.kind == "layout") layouts.push_back({{"what", s.nodes.front()}, {"to", s.layout}, {"why", s.why}, {"bytes", s.bytes}});
    }
    Json passes = Json::array();
    for (const PassReport& p : program.passes()) passes.push_back({{"pass", p.pass}, {"changes", p.changes}});
    Json shaped = Json::array();
    for (const PassReport& p : edition.passes) shaped.push_back({{"pass", p.pass}, {"changes", p.changes}});
    write_json(o->model.json, {{"model", o->model.model},
                               {"threads", threads},
                               {"isa", program.options().isa},
                               {"nodes", edition.nodes.size()},
                               {"flops", edition.flops},
                               {"least_seconds", least},
                               {"plain", plain_json(edition)},
                               {"arena_bytes", edition.arena_bytes},
                               {"arena_bound_bytes", edition.arena_bound},
                               {"peak_gflops", roofline.peak_gflops()},
                               {"passes", passes},
                               {"passes_for_shapes", shaped},
                               {"layout_changes", layouts},
                               {"steps", steps}});
    if (!o->draw.empty()) {
      DrawingOptions d;
      if (!o->detail.empty()) d.detail = o->detail == "nodes" ? Detail::nodes : o->detail == "steps" ? Detail::steps : Detail::modules;
      d.depth = o->depth;
      d.focus = o->focus;
      d.around = o->around;
      d.title = fmt::format("{}: {} nodes in {} steps", o->model.model, edition.nodes.size(), edition.steps.size());
      if (timed) d.profile = &*timed;
      if (!o->sensitivity.empty()) d.sensitivity = &sensitivity;
      std::string text;
      try {
        text = drawing(edition, d);
      } catch (const Error& e) {
        if (e.category() == Category::value) throw UsageError(fmt::format("--focus: {}", e.what()));
        throw;
      }
      if (dot) write_file(o->draw, text);
      else draw_with("dot", "graphviz", {o->draw.ends_with(".png") ? "-Tpng" : "-Tsvg", "-o{out}", "{script}"}, text, o->draw);
    }
    if (!for_people(o->model.json)) return static_cast<int>(kGood);

    const size_t left = edition.nodes.size(), made = edition.steps.size();
    fmt::print("{}: {} node{} after the passes, {} step{}, {} thread{}, {}\n", o->model.model, left, left == 1 ? "" : "s", made,
               made == 1 ? "" : "s", threads, threads == 1 ? "" : "s", program.options().isa);
    fmt::print("  limits probed now: {:.1f} GFLOP/s, copying {:.1f} GB/s in the first cache, {:.1f} GB/s in memory; least time {} a run\n",
               roofline.peak_gflops(), roofline.bandwidth(16 << 10), roofline.bandwidth(128 << 20), seconds_text(least));
    if (!o->model.recipes.empty()) fmt::print("  {}\n", tuned_text(edition, o->model.recipes));
    if (edition.plain > 0) fmt::print("  {}", plain_text(edition, timed ? std::optional(plain_share(*timed)) : std::nullopt));
    fmt::print("  arena {}, lower bound {}\n\nPasses\n", bytes_text(static_cast<double>(edition.arena_bytes)),
               bytes_text(static_cast<double>(edition.arena_bound)));
    print_passes(program.passes());
    if (std::ranges::any_of(edition.passes, [](const PassReport& p) { return !p.changes.empty(); })) {
      fmt::print("\nPasses for these shapes\n");
      print_passes(edition.passes);
    }
    fmt::print("\nSteps (least: by arithmetic or by bandwidth, whichever is longer)\n");
    for (size_t i = 0; i < edition.steps.size(); ++i) {
      const StepInfo& s = edition.steps[i];
      bool arithmetic = false;
      const double limit = roofline.seconds(s, &arithmetic);
      std::string head = fmt::format("{:>4}  {}", i + 1, s.kind);
      if (!s.output.empty()) head += fmt::format(" -> {}{}", s.output, s.layout == "channels-last" ? ", channels-last" : "");
      fmt::print("{}\n", head);
      const auto say = [&](const char* what, const std::string& text) {
        if (text.empty()) return;
        bool first = true;
        for (const auto& line : wrapped(text, 104)) fmt::print("      {:<9} {}\n", first ? what : "", line), first = false;
      };
      std::string nodes;
      for (const auto& n : s.nodes) nodes += (nodes.empty() ? "" : ", ") + n;
      say("nodes", nodes);
      say("recipe", s.recipe);
      if (s.chosen_by == "tuned") say("tuned", fmt::format("{}; {:.2f} times as fast as untuned when it was found", s.chosen, s.gain));
      if (s.chosen_by == "pinned") say("pinned", s.chosen);
      if (s.chosen_by == "learned") say("learned", s.chosen);
      if (!s.refused.empty()) say("not used", s.refused);
      say("why", s.why);
      say("no more", s.why_not);
      std::string cost = fmt::format("{}{}, at least {}; least {} by {}", count_text(s.flops), s.flops < 1000 ? " FLOP" : "FLOP",
                                     bytes_text(s.bytes), seconds_text(limit), arithmetic ? "arithmetic" : "bandwidth");
      if (timed)
        cost += fmt::format("; took {} ({:.1f} % of the run, {:.0f} % of the limit)", seconds_text(timed->steps[i].latency.median),
                            100 * timed->steps[i].share, 100 * timed->steps[i].of_limit);
      say("cost", cost);
    }
    if (!layouts.empty()) {
      fmt::print("\nChanges of layout: {}\n", layouts.size());
      for (const auto& l : layouts)
        fmt::print("  {} to {}: {}\n", l["what"].get<std::string>(), l["to"].get<std::string>(), l["why"].get<std::string>());
    } else {
      fmt::print("\nNo value changes its layout.\n");
    }
    if (!o->draw.empty()) fmt::print("\ndrawing: {}\n", o->draw);
    return static_cast<int>(kGood);
  };
}

}  // namespace lathe::cli
