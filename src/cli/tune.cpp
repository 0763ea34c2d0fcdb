// lathe tune
#include <cmath>
#include <csignal>
#include <filesystem>

#include "common.hpp"
#include "drawing.hpp"
#include "feed.hpp"
#include "keep.hpp"

namespace lathe::cli {
namespace {

struct TuneFlags {
  ModelOptions model;
  FeedFlags feed;
  KeepFlags keep;
  TuneOptions tune;
  std::string write, chart, curve;
  std::vector<std::string> pins;
  uint64_t data_seed = 1;
  int top = 20;
  bool list = false, unkept = false, anew = false;
};

// Set by Ctrl-C: what was found until then is confirmed and kept.
std::stop_source* stopping = nullptr;
void stop_now(int) {
  if (stopping) stopping->request_stop();
  std::signal(SIGINT, SIG_DFL);  // a second one ends the process
}
class StopOnInterrupt {
 public:
  StopOnInterrupt() {
    stopping = &source_;
    std::signal(SIGINT, stop_now);
  }
  ~StopOnInterrupt() {
    std::signal(SIGINT, SIG_DFL);
    stopping = nullptr;
  }
  StopOnInterrupt(const StopOnInterrupt&) = delete;
  std::stop_token token() const { return source_.get_token(); }

 private:
  std::stop_source source_;
};

// What the recipe says otherwise than the estimate's: "winograd" for another family, "row_tasks 8 -> 12" for knobs.
std::string difference(const std::string& untuned, const std::string& recipe) {
  const std::vector<std::string> a = split(untuned, ' '), b = split(recipe, ' ');
  if (a.empty() || b.empty()) return recipe;
  if (a[0] != b[0]) return fmt::format("{} (was {})", b[0].substr(0, b[0].find('/')), a[0].substr(0, a[0].find('/')));
  std::string text;
  for (size_t i = 1; i < a.size() && i < b.size(); ++i) {
    if (a[i] == b[i]) continue;
    const size_t at = a[i].find('=');
    text +=
        fmt::format("{}{} {} -> {}", text.empty() ? "" : ", ", a[i].substr(0, at), a[i].substr(at + 1), b[i].substr(b[i].find('=') + 1));
  }
  return text;
}

std::string gain_text(double gain, double low, double high) { return fmt::format("{:.2f} ({:.2f} to {:.2f})", gain, low, high); }

std::string name_of(const std::vector<std::string>& nodes) {
  if (nodes.empty()) return "";
  std::string name = nodes.front();
  if (name.size() > 28) name = ".." + name.substr(name.size() - 26);
  return nodes.size() > 1 ? fmt::format("{} +{}", name, nodes.size() - 1) : name;
}

struct Listed {
  StepInfo step;
  int steps = 0;
  std::vector<std::string> nodes;  // of all these steps
};

// Those with anything to choose, in the order of their first steps: what --list numbers from 1.
std::vector<Listed> problems_of(const EditionInfo& e) {
  std::vector<Listed> problems;
  for (const StepInfo& s : e.steps) {
    if (s.problem.empty() || s.chosen.empty()) continue;
    const auto it = std::ranges::find(problems, s.problem, [](const Listed& l) { return l.step.problem; });
    if (it == problems.end()) problems.push_back({s, 1, s.nodes});
    else ++it->steps, it->nodes.insert(it->nodes.end(), s.nodes.begin(), s.nodes.end());
  }
  std::erase_if(problems, [](const Listed& l) {
    return l.step.families.size() < 2 && std::ranges::all_of(l.step.families, [](const FamilyInfo& f) { return f.knobs.empty(); });
  });
  return problems;
}

// "3:row_tasks" or "3:row_tasks=1,2,4"; or by the name of a node, "Conv_7:row_tasks".
struct Turned {
  Listed problem;
  std::string knob;
  std::vector<int64_t> values;
};
Turned parse_knob(const std::string& text, const std::string& option, const std::vector<Listed>& problems) {
  const size_t equal = text.find('='), colon = text.rfind(':', equal);
  if (colon == std::string::npos || (equal != std::string::npos && equal < colon))
    throw UsageError(fmt::format("{} {}: expected a problem's number and a knob, like 3:row_tasks; --list shows them", option, text));
  const std::string which = text.substr(0, colon);
  int64_t n = 0;
  if (which.find_first_not_of("0123456789") == std::string::npos) {
    n = parse_size(which, option);
  } else {
    const auto named = std::ranges::find_if(problems, [&](const Listed& l) {
      return std::ranges::any_of(l.nodes, [&](const std::string& label) { return label.substr(0, label.rfind(" (")) == which; });
    });
    if (named == problems.end())
      throw UsageError(fmt::format("{} {}: no problem has a node named '{}'; --list shows them", option, text, which));
    n = named - problems.begin() + 1;
  }
  if (n < 1 || n > std::ssize(problems))
    throw UsageError(fmt::format("{} {}: there are problems 1 to {}; --list shows them", option, text, problems.size()));
  Turned t{problems[static_cast<size_t>(n - 1)], text.substr(colon + 1, equal == std::string::npos ? equal : equal - colon - 1), {}};
  if (equal == std::string::npos) return t;
  for (const std::string& v : split(text.substr(equal + 1), ',')) t.values.push_back(parse_size(v, option));
  return t;
}

int list_problems(const TuneFlags& o, const Program& program, const std::vector<Shape>& shapes) {
  const EditionInfo e = program.describe(shapes);
  const std::vector<Listed> problems = problems_of(e);
  Json list = Json::array();
  for (const Listed& l : problems) {
    Json families = Json::array();
    for (const FamilyInfo& f : l.step.families) {
      Json knobs = Json::array();
      for (const KnobInfo& k : f.knobs)
        knobs.push_back({{"name", k.name},
                         {"estimate", k.first},
                         {"least", k.least},
                         {"most", k.most},
                         {"step", k.step},
                         {"reorders_sums", k.reorders_sums}});
      families.push_back({{"family", f.family}, {"version", f.version}, {"knobs", knobs}});
    }
    list.push_back({{"problem", l.step.problem},
                    {"op", l.step.op},
                    {"nodes", l.step.nodes},
                    {"steps", l.steps},
                    {"recipe", l.step.chosen},
                    {"chosen_by", l.step.chosen_by},
                    {"families", families}});
  }
  write_json(o.model.json,
             {{"model", o.model.model}, {"threads", program.options().threads}, {"isa", program.options().isa}, {"problems", list}});
  if (!for_people(o.model.json)) return kGood;
  fmt::print("{}: {} problems in {} steps, {} thread{}, {}\n", o.model.model, problems.size(), e.steps.size(), program.options().threads,
             program.options().threads == 1 ? "" : "s", program.options().isa);
  int n = 0;
  for (const Listed& l : problems) {
    fmt::print("\n{:>4}  {} of {}{}, {} step{}\n", ++n, l.step.op, l.step.output, l.step.layout == "channels-last" ? ", channels-last" : "",
               l.steps, l.steps == 1 ? "" : "s");
    fmt::print("      {} ({})\n", l.step.chosen, l.step.chosen_by);
    for (const FamilyInfo& f : l.step.families) {
      Table table("lrrrl", {f.family, "estimate", "least", "most", ""});
      for (const KnobInfo& k : f.knobs) {
        std::string more = k.step > 1 ? fmt::format("in steps of {}", k.step) : "";
        if (k.reorders_sums) more += fmt::format("{}reorders sums", more.empty() ? "" : ", ");
        table.row({k.name, std::to_string(k.first), std::to_string(k.least), std::to_string(k.most), more});
      }
      fmt::print("{}", table.text("        "));
    }
  }
  return kGood;
}

// Recipes with knobs as they were asked for, the rest as the program has it.
Recipes pinned(const TuneFlags& o, const Graph& graph, const CompileOptions& options, const Program& program,
               const std::vector<Shape>& shapes) {
  const std::vector<Listed> problems = problems_of(program.describe(shapes));
  Recipes recipes;
  for (const std::string& text : o.pins) {
    const Turned t = parse_knob(text, "--pin", problems);
    if (t.values.size() != 1) throw UsageError(fmt::format("--pin {}: expected one value, like 3:row_tasks=4", text));
    const TunedRecipe* before = recipes.find(t.problem.step.problem, program.options().isa, program.options().threads);
    std::vector<std::string> words = split(before ? before->recipe : t.problem.step.chosen, ' ');
    const auto word = std::ranges::find_if(words, [&](const std::string& w) { return w.starts_with(t.knob + "="); });
    if (word == words.end()) throw UsageError(fmt::format("--pin {}: {} has no knob '{}'; --list shows them", text, words[0], t.knob));
    *word = fmt::format("{}={}", t.knob, t.values[0]);
    recipes.add({t.problem.step.problem, program.options().isa, program.options().threads, fmt::format("{}", fmt::join(words, " "))});
  }
  CompileOptions with = options;
  with.recipes = std::make_shared<Recipes>(recipes);
  for (const StepInfo& s : o.model.make_program(graph, with).describe(shapes).steps) {
    if (!s.refused.empty()) throw UsageError(fmt::format("--pin: {}", s.refused));
  }
  return recipes;
}

int tell_curve(const TuneFlags& o, const KnobCurve& c) {
  Json points = Json::array();
  for (const KnobCurve::Timing& t : c.points) {
    Json j{{"value", t.value}, {"timed", t.refused.empty()}};
    if (t.refused.empty()) j["seconds"] = t.seconds, j["ratio"] = t.ratio, j["low"] = t.low, j["high"] = t.high;
    else j["reason"] = t.refused;
    points.push_back(std::move(j));
  }
  write_json(o.model.json, {{"model", o.model.model},
                            {"problem", c.problem},
                            {"op", c.op},
                            {"recipe", c.recipe},
                            {"knob", c.knob},
                            {"estimate", c.estimate},
                            {"estimate_seconds", c.seconds},
                            {"points", points}});
  if (!o.chart.empty()) {
    std::string script = fmt::format(
        "set terminal {} size 1280,800 font 'sans,13' background rgb '#ffffff'\nset output '{{out}}'\n"
        "set title \"{}: {} of {}\" font 'sans,16' noenhanced\nset xlabel \"{}\" noenhanced\nset ylabel 'time, the estimate = 1'\n"
        "set grid lc rgb '#d8d8d8'\nset border 3 lc rgb '#555555'\nset tics nomirror\nset key top right\n{}$c << END\n",
        chart_terminal(o.chart), chart_label(std::filesystem::path(o.model.model).filename().string()), chart_label(c.knob),
        chart_label(c.op), chart_label(c.knob), c.points.size() > 2 && c.points.front().value > 0 ? "set logscale x 2\n" : "");
    for (const KnobCurve::Timing& t : c.points) {
      if (t.refused.empty()) script += fmt::format("{} {:.4f} {:.4f} {:.4f}\n", t.value, t.ratio, t.low, t.high);
    }
    script += fmt::format(
        "END\n$e << END\n{} 1\nEND\nplot $c using 1:2:3:4 with yerrorlines pt 7 lw 2 lc rgb '{}' title 'measured, 95 % interval', $e using "
        "1:2 with points pt 6 ps 3 lw 3 lc rgb '{}' title 'what the estimate takes'\n",
        c.estimate, kColours[0], kColours[1]);
    draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), o.chart);
  }
  if (!for_people(o.model.json)) return kGood;
  fmt::print("{}, {}: {}\n  by the estimate {} ({} = {})\n\n", o.model.model, c.op, c.knob, seconds_text(c.seconds), c.knob, c.estimate);
  Table table("rrrl", {c.knob, "time", "of the estimate's (95 %)", ""});
  for (const KnobCurve::Timing& t : c.points) {
    if (t.refused.empty())
      table.row({std::to_string(t.value), seconds_text(t.seconds), gain_text(t.ratio, t.low, t.high),
                 std::string(static_cast<size_t>(std::clamp(std::lround(20 * t.ratio), 1L, 60L)), '#') +
                     (t.value == c.estimate ? "  estimate" : "")});
    else table.row({std::to_string(t.value), "", "", t.refused});
  }
  fmt::print("{}", table.text());
  return kGood;
}

void draw(const TuneFlags& o, const TuneResult& r) {
  std::string script = fmt::format(
      "set terminal {} size 1280,800 font 'sans,13' background rgb '#ffffff'\nset output '{{out}}'\n"
      "set title \"{}: speed of the whole net, against the recipes tried\" font 'sans,16' noenhanced\n"
      "set xlabel 'recipes measured'\nset ylabel 'times as fast as untuned'\nset grid lc rgb '#d8d8d8'\nset border 3 lc rgb '#555555'\n"
      "set tics nomirror\nset key bottom right\nset yrange [{:.3f}:*]\n$c << END\n0 1\n",
      chart_terminal(o.chart), chart_label(std::filesystem::path(o.model.model).filename().string()), std::min(0.98, r.low - 0.02));
  for (const TuneResult::Moment& m : r.curve) script += fmt::format("{} {:.4f}\n", m.trials, m.gain);
  const int last = r.curve.empty() ? 0 : r.curve.back().trials;
  script += fmt::format("END\n$e << END\n{} {:.4f} {:.4f} {:.4f}\nEND\n", last, r.gain, r.low, r.high);
  script += fmt::format(
      "plot $c using 1:2 with steps lw 2 lc rgb '{}' title 'best so far, unconfirmed', $e using 1:2:3:4 with yerrorbars pt 7 ps 1.4 lw 2 "
      "lc rgb '{}' "
      "title 'confirmed at the end, 95 % interval'\n",
      kColours[0], kColours[1]);
  draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), o.chart);
}

Json result_json(const TuneFlags& o, const Program& program, const TuneResult& r) {
  Json problems = Json::array(), curve = Json::array();
  for (const TunedProblem& p : r.problems) {
    problems.push_back({{"problem", p.problem},
                        {"op", p.op},
                        {"nodes", p.nodes},
                        {"steps", p.steps},
                        {"share", p.share},
                        {"before_seconds", p.before},
                        {"after_seconds", p.after},
                        {"untuned", p.untuned},
                        {"recipe", p.recipe},
                        {"gained", p.recipe != p.untuned},
                        {"gain", p.gain},
                        {"low", p.low},
                        {"high", p.high},
                        {"trials", p.trials},
                        {"points", p.points}});
  }
  for (const TuneResult::Moment& m : r.curve) curve.push_back({{"trials", m.trials}, {"seconds", m.seconds}, {"gain", m.gain}});
  return {{"model", o.model.model},
          {"inputs", o.feed.text(o.data_seed)},
          {"threads", program.options().threads},
          {"isa", program.options().isa},
          {"machine", machine_fingerprint()},
          {"seconds", r.seconds},
          {"stopped", r.stopped},
          {"rounds", r.rounds},
          {"trials", r.trials.size()},
          {"wrong", r.wrong},
          {"not_runnable", r.not_runnable},
          {"crashed", r.crashed},
          {"states", states_json(program)},
          {"held", o.tune.held},
          {"before_seconds", r.before},
          {"after_seconds", r.after},
          {"gain", r.gain},
          {"low", r.low},
          {"high", r.high},
          {"model_rank_correlation", std::isnan(r.model_quality) ? Json() : Json(r.model_quality)},
          {"stolen", r.stolen},
          {"curve", curve},
          {"problems", problems}};
}

void print_result(const TuneFlags& o, const Program& program, const TuneResult& r) {
  const auto gained = std::ranges::count_if(r.problems, [](const TunedProblem& p) { return p.recipe != p.untuned; });
  fmt::print("{}, {} thread{}, {}: {} recipes tried in {:.0f} s{}\n", o.model.model, program.options().threads,
             program.options().threads == 1 ? "" : "s", program.options().isa, r.trials.size(), r.seconds, r.stopped ? ", stopped" : "");
  if (gained == 0)
    fmt::print("  a run takes {}: nothing faster was found for its {} problems\n", seconds_text(r.before), r.problems.size());
  else
    fmt::print("  a run took {}, takes {}: {} times as fast; {} of {} problems gained\n", seconds_text(r.before), seconds_text(r.after),
               gain_text(r.gain, r.low, r.high), gained, r.problems.size());
  if (!std::isnan(r.model_quality))
    fmt::print("  what the cost model said of problems it had not seen, against what was measured: rank correlation {:.2f}\n",
               r.model_quality);
  if (r.wrong > 0)
    fmt::print("  {} recipe{} gave wrong results and {} left\n", r.wrong, r.wrong == 1 ? "" : "s", r.wrong == 1 ? "was" : "were");
  if (r.crashed > 0)
    fmt::print("  {} recipe{} crashed and {} left\n", r.crashed, r.crashed == 1 ? "" : "s", r.crashed == 1 ? "was" : "were");
  if (!program.states().empty()) fmt::print("  states: {}; {} positions held when a run begins\n", states_text(program), o.tune.held);
  if (r.stolen > 0.05)
    fmt::print(
        "  other guests of this machine took {:.0f} % of its cores meanwhile: gains are intervals of runs by turns, times are not to be "
        "trusted\n",
        100 * r.stolen);
  fmt::print("\n");
  Table table("llrrrrll", {"op", "first of its steps", "steps", "share", "tried", "before", "gain (95 %)", "what changed"});
  size_t n = 0;
  for (const TunedProblem& p : r.problems) {
    if (n++ == static_cast<size_t>(o.top)) break;
    const bool changed = p.recipe != p.untuned;
    table.row({p.op, name_of(p.nodes), std::to_string(p.steps), fmt::format("{:.1f} %", 100 * p.share), std::to_string(p.trials),
               seconds_text(p.before), changed ? gain_text(p.gain, p.low, p.high) : "", changed ? difference(p.untuned, p.recipe) : ""});
  }
  fmt::print("{}", table.text());
  if (r.problems.size() > static_cast<size_t>(o.top))
    fmt::print("  and {} shorter ones; --top shows more\n", r.problems.size() - static_cast<size_t>(o.top));
}

}  // namespace

Command add_tune(CLI::App& app) {
  auto o = std::make_shared<TuneFlags>();
  o->model.add_to(app);
  o->model.add_limits(app);
  o->model.add_states(app);
  app.add_option("--held", o->tune.held, "Positions that states hold when a run begins (0); what a run adds is taken back")
      ->check(zero_or_more())
      ->type_name("N");
  app.add_option("--seconds", o->tune.seconds, "Time for search and confirmation, beside plain evaluation once (60)")
      ->check(CLI::Range(0.1, 1e6))
      ->type_name("S");
  app.add_option("--trials", o->tune.trials, "Recipes to measure, at most (0: as many as the time allows)")
      ->check(zero_or_more())
      ->type_name("N");
  app.add_flag("--same-bits", o->tune.keep_order, "Only what leaves the order of sums alone: results keep their bits");
  app.add_flag("--apart", o->tune.apart, "Try each recipe in a process of its own first: one that crashes is left, and the search goes on");
  app.add_flag("--anew", o->anew, "Begin from the estimates, not from what the logbook holds");
  app.add_flag("--list", o->list, "Only list the problems, with the families that can do them and their knobs");
  app.add_option("--curve", o->curve, "Turn one knob of a problem that --list numbers, and time each value beside the estimate's")
      ->type_name("N:KNOB[=V,V,..]");
  app.add_option("--pin", o->pins, "Write a recipe with this knob as it is said, without a search (repeatable; goes with -o)")
      ->type_name("N:KNOB=V")
      ->allow_extra_args(false);
  app.add_option("-o,--write", o->write, "Also write the recipes to a file, for --recipes")->type_name("FILE.json");
  app.add_option("--chart", o->chart, "Draw the gain against the recipes tried (needs gnuplot)")->type_name("FILE.png|svg");
  app.add_option("--top", o->top, "Problems to show, longest first (20)")->check(CLI::Range(1, 1000000))->type_name("N");
  o->feed.add_to(app, {.seed = false});
  app.add_option("--seed", o->data_seed, "Seed of random data for inputs that get no value (1)")->type_name("N");
  app.add_option("--search-seed", o->tune.seed, "Seed of the search (1)")->type_name("N");
  app.add_flag("--unkept", o->unkept, "Keep nothing in the logbook");
  app.add_option("--logbook", o->keep.logbook,
                 "The logbook (LATHE_LOGBOOK in the environment, the settings file, or one in your data folder)")
      ->type_name("FILE");
  return [o] {
    if (!o->chart.empty()) check_picture_name(o->chart, "--chart");
    o->model.check_target("--chart", o->chart, {o->chart.empty() ? "" : picture_kind(o->chart)});
    o->model.check_target("--write", o->write, {"JSON"});
    Graph graph = o->model.load_graph();
    if (o->model.archived())
      throw UsageError(
          fmt::format("{}: is compiled already; tune the model it was made from, then ship that with --recipes", o->model.model));
    CompileOptions options = o->model.compile_options(graph);
    if (!options.recipes) options.recipes = std::make_shared<Recipes>();
    if (o->tune.held > 0 && options.states.empty()) throw UsageError("--held goes with --states");
    o->model.held = o->tune.held;
    o->feed.read(o->model, graph, options);
    const Program program = o->model.make_program(graph, options);
    const auto inputs = o->feed.make(o->model, program, options, o->data_seed);
    if (o->list) return list_problems(*o, program, shapes_of(inputs));
    const std::string machine = machine_fingerprint();
    Progress progress;
    const StopOnInterrupt interrupt;
    o->tune.stop = interrupt.token();
    o->tune.progress = [&](const TuneProgress& p) {
      progress.show(
          fmt::format("{}: {:.0f} of {:.0f} s, {} recipes tried, {:.2f} times as fast so far", p.what, p.seconds, p.of, p.trials, p.gain));
    };
    if (!o->pins.empty()) {
      if (o->write.empty()) throw UsageError("--pin goes with --write FILE.json, for --recipes");
      const Recipes recipes = pinned(*o, graph, options, program, shapes_of(inputs));
      write_recipes(o->write, recipes, machine);
      write_json(o->model.json, {{"model", o->model.model}, {"recipes", recipes.size()}, {"file", o->write}});
      if (for_people(o->model.json)) fmt::print("{} recipe{} written to {}\n", recipes.size(), recipes.size() == 1 ? "" : "s", o->write);
      return static_cast<int>(kGood);
    }
    if (!o->curve.empty()) {
      const Turned t = parse_knob(o->curve, "--curve", problems_of(program.describe(shapes_of(inputs))));
      o->tune.progress = [&](const TuneProgress& p) { progress.show(p.what); };
      const KnobCurve c = as_usage([&] { return knob_curve(graph, options, inputs, t.problem.step.problem, t.knob, t.values, o->tune); });
      progress.show("");
      return tell_curve(*o, c);
    }
    std::filesystem::path file;
    if (!o->unkept) {
      file = o->keep.file();
      if (o->keep.logbook.empty() && !file.parent_path().empty()) {
        std::error_code ec;
        std::filesystem::create_directories(file.parent_path(), ec);
      }
      const Logbook book(file);  // before any work: it may be none, or not to be written
      o->tune.history = book.trials(machine);
      if (!o->anew) o->tune.known = book.recipes(machine);
    }
    if (!o->anew && options.recipes) {
      for (const TunedRecipe& r : options.recipes->all()) o->tune.known.add(r);
    }
    const TuneResult r = tune(graph, options, inputs, o->tune);
    progress.show("");
    if (!o->unkept) Logbook(file).keep_tuned(machine, r.recipes, r.trials);
    if (!o->write.empty()) write_recipes(o->write, r.recipes, machine);
    if (!o->chart.empty()) draw(*o, r);
    write_json(o->model.json, result_json(*o, program, r));
    if (!for_people(o->model.json)) return static_cast<int>(kGood);
    print_result(*o, program, r);
    if (!o->unkept)
      fmt::print("\n  kept in {}; 'lathe bench {} --recipes {}' follows them\n", file.string(), o->model.model,
                 o->keep.logbook.empty() ? "LOGBOOK" : o->keep.logbook);
    if (!o->write.empty()) fmt::print("  {} recipes written to {}\n", r.recipes.size(), o->write);
    return static_cast<int>(kGood);
  };
}

}  // namespace lathe::cli
