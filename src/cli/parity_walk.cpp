// lathe parity: where values part, why, and where the digits go.
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <set>

#include "drawing.hpp"
#include "parity.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

std::string error_text(double error) { return error == 0 ? "0" : std::isfinite(error) ? fmt::format("{:.1e}", error) : "inf"; }

// An error on a scale of powers of ten, from 1e-9 to 1.
std::string bar(double error) {
  constexpr double kLow = -9, kHigh = 0;
  constexpr int kWidth = 27;
  if (error <= 0) return "";
  const double at = std::isfinite(error) ? (std::log10(error) - kLow) / (kHigh - kLow) : 1;
  return std::string(static_cast<size_t>(std::clamp(static_cast<int>(std::lround(at * kWidth)), 1, kWidth)), '#');
}

std::string shortened_name(const std::string& name, size_t most) {
  return name.size() <= most ? name : name.substr(0, most / 2 - 1) + ".." + name.substr(name.size() - (most - most / 2 - 1));
}

WalkOptions walk_options(const ParityOptions& o, const CompileOptions& options, Progress& progress) {
  WalkOptions w;
  w.tolerances = o.tolerances();
  w.compile = options;
  w.run = o.model.run_options();
  if (!o.keep.empty()) w.keep_bytes = parse_bytes(o.keep, "--keep");
  w.progress = [&](const std::string& what) { progress.show(what); };
  return w;
}

// The inputs in the model's order.
std::vector<Tensor> inputs_of(const Graph& graph, const CompileOptions& options, const Case& c) {
  Graph open = graph;
  open_defaults(open, options.given);
  std::vector<Tensor> out;
  const auto by_name = [&](const std::string& name) { return std::ranges::find(c.inputs, name, &NamedTensor::name); };
  const bool all =
      std::ranges::all_of(open.inputs, [&](ValueId v) { return by_name(open.values[static_cast<size_t>(v)].name) != c.inputs.end(); });
  if (!all && c.inputs.size() != open.inputs.size())
    throw UsageError(fmt::format("case {} has {} inputs, the model takes {}", c.name, c.inputs.size(), open.inputs.size()));
  for (size_t i = 0; i < open.inputs.size(); ++i)
    out.push_back(all ? by_name(open.values[static_cast<size_t>(open.inputs[i])].name)->tensor : c.inputs[i].tensor);
  return out;
}

Json check_json(const ValueCheck& c) {
  Json j{{"value", c.name}, {"node", c.node}, {"op", c.op}, {"step", c.step < 0 ? Json(nullptr) : Json(c.step + 1)}, {"depth", c.depth}};
  if (c.comparison.dtype == DType::undefined) {
    j["compared"] = false;
    return j;
  }
  j["error"] = finite_json(c.error);
  j["comparison"] = comparison_json(c.comparison);
  return j;
}

Json walk_json(const Walk& w) {
  Json j{{"against", w.against},
         {"verdict", w.verdict},
         {"parting", to_string(w.parting)},
         {"first_out_of_tolerance", w.first < 0 ? Json(nullptr) : Json(w.values[static_cast<size_t>(w.first)].name)},
         {"jump", w.jump < 0 ? Json(nullptr) : Json(w.values[static_cast<size_t>(w.jump)].name)},
         {"only_fused", w.only_fused},
         {"values_compared", w.compared},
         {"values_made", w.values_made},
         {"runs", w.runs},
         {"plain_runs", w.plain_runs},
         {"references_unknown", w.missing},
         {"values", Json::array()},
         {"inside", Json::array()}};
  for (const ValueCheck& c : w.values) j["values"].push_back(check_json(c));
  for (const ValueCheck& c : w.inside) j["inside"].push_back(check_json(c));
  if (w.within)
    j["within"] = {{"node", w.within->node},
                   {"op", w.within->op},
                   {"body", w.within->body},
                   {"run", w.within->run + 1},
                   {"walk", walk_json(*w.within->walk)}};
  return j;
}

// Values to list: all, or so many spread over the depth, with those around the place.
std::vector<size_t> listed(const Walk& w, size_t most) {
  std::set<size_t> some;
  const auto n = w.values.size();
  if (n <= most) {
    for (size_t i = 0; i < n; ++i) some.insert(i);
  } else {
    for (const int at : {w.jump, w.first}) {
      if (at < 0) continue;
      for (int i = std::max(0, at - 3); i <= std::min(static_cast<int>(n) - 1, at + 2); ++i) some.insert(static_cast<size_t>(i));
    }
    for (size_t k = 0; some.size() < most && k < most; ++k) some.insert(k * (n - 1) / (most - 1));
    some.insert(n - 1);
  }
  // A row that says one is left out may as well be that one.
  for (size_t i = 1; i + 1 < n; ++i) {
    if (some.contains(i - 1) && some.contains(i + 1)) some.insert(i);
  }
  return {some.begin(), some.end()};
}

// Dots of error against depth, on a scale of powers of ten.
void draw_walk(const ParityOptions& o, const Walk& w) {
  std::string points[3];
  double least = 1e-9;
  int deepest = 1;
  for (size_t i = 0; i < w.values.size(); ++i) {
    const ValueCheck& c = w.values[i];
    deepest = std::max(deepest, c.depth);
    const double shown = std::clamp(std::isfinite(c.error) ? c.error : 10.0, 1e-9, 10.0);
    least = std::min(least, shown);
    points[static_cast<int>(i) == w.jump ? 2 : c.comparison.pass ? 0 : 1] += fmt::format("{} {:.3g}\n", c.depth, shown);
  }
  std::string script = fmt::format(
      "set terminal {} size 1280,800 font 'sans,12' background rgb '#ffffff'\nset output '{{out}}'\n"
      "set title \"{}: error of each value against {}\" font 'sans,15' noenhanced\n"
      "set xlabel \"depth: nodes on the longest path from an input\"\nset ylabel \"error: root mean square, relative\"\n"
      "set logscale y\nset format y '10^{{%T}}'\nset yrange [1e-9:10]\nset xrange [0:{}]\n"
      "set border 3 lc rgb '#555555'\nset tics nomirror\nset grid ytics lc rgb '#dddddd'\nset key top left noenhanced\n",
      chart_terminal(o.chart), chart_label(fs::path(o.model.model).filename().string()), chart_label(w.against), deepest + 1);
  const char* names[]{"within tolerance", "out of tolerance", "the error jumps here"};
  const std::string colours[]{kColours[0], kColours[1], kColours[3]};
  std::string plot;
  for (int k = 0; k < 3; ++k) {
    if (points[k].empty()) continue;
    script += fmt::format("$p{} << END\n{}END\n", k, points[k]);
    plot += fmt::format("{}$p{} using 1:2 with points pt {} ps {} lc rgb '{}' title '{}'", plot.empty() ? "" : ", ", k, k == 2 ? 9 : 7,
                        k == 2 ? 2.4 : 1.1, colours[k], names[k]);
  }
  if (const int at = w.jump >= 0 ? w.jump : w.first; at >= 0) {
    const ValueCheck& c = w.values[static_cast<size_t>(at)];
    const bool right = c.depth > deepest / 2;
    script +=
        fmt::format("set label \"{}\" at {},{:.3g} {} offset {},0.8 noenhanced font 'sans,11'\n", chart_label(shortened_name(c.node, 60)),
                    c.depth, std::clamp(std::isfinite(c.error) ? c.error : 10.0, 1e-9, 10.0), right ? "right" : "left", right ? -1.5 : 1.5);
  }
  script += "plot " + plot + "\n";
  draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), o.chart);
}

std::string verdict_of(const Walk& w, size_t i) {
  const ValueCheck& c = w.values[i];
  std::string text = c.comparison.pass ? "" : "DIFFERS";
  if (static_cast<int>(i) == w.first) text += " first";
  if (static_cast<int>(i) == w.jump) text += text.empty() ? "jumps here" : ", jumps here";
  return text;
}

void print_values(const ParityOptions& o, const Walk& w) {
  Table table("rrlllrl", {"depth", "step", "value", "op", "shape", "error", "1e-9                   1e0"});
  size_t before = 0;
  for (size_t i : listed(w, static_cast<size_t>(o.top))) {
    if (i > before + 1) table.row({"", "", fmt::format("({} more)", i - before - 1), "", "", "", ""});
    before = i;
    const ValueCheck& c = w.values[i];
    const std::string verdict = verdict_of(w, i);
    table.row({std::to_string(c.depth), c.step < 0 ? "" : std::to_string(c.step + 1), shortened_name(c.name, 34), c.op,
               to_string(c.comparison.shape), error_text(c.error), bar(c.error) + (verdict.empty() ? "" : "  " + verdict)});
  }
  fmt::print("{}", table.text(""));
  if (w.inside.size() > 1) {
    const int at = w.jump >= 0 ? w.jump : w.first;
    const ValueCheck& c = w.values[static_cast<size_t>(at)];
    fmt::print("\nInside{}: its nodes one by one, on the references of what it reads\n",
               c.step < 0 ? " '" + c.name + "'" : fmt::format(" step {}", c.step + 1));
    Table inner("lllr", {"node", "value", "op", "error"});
    for (const ValueCheck& i : w.inside)
      inner.row({shortened_name(i.node, 50), shortened_name(i.name, 34), i.op,
                 i.comparison.dtype == DType::undefined ? "no reference" : error_text(i.error)});
    fmt::print("{}", inner.text());
  }
  if (!w.missing.empty())
    fmt::print("  {} reference{} bear{} the name of no value here: {}{}\n", w.missing.size(), w.missing.size() == 1 ? "" : "s",
               w.missing.size() == 1 ? "s" : "", fmt::join(std::span(w.missing).first(std::min<size_t>(w.missing.size(), 5)), ", "),
               w.missing.size() > 5 ? ", ..." : "");
  fmt::print("{} of {} values compared, {} run{} of the program{}\n", w.compared, w.values_made, w.runs, w.runs == 1 ? "" : "s",
             w.plain_runs > 0 ? fmt::format(", {} of plain evaluation", w.plain_runs) : "");
  if (w.within) {
    fmt::print("\nInside {}: run {} of its '{}', on the exact values that it is given\n", w.within->node, w.within->run + 1,
               w.within->body);
    print_values(o, *w.within->walk);
  }
}

void print_walk(const ParityOptions& o, const Walk& w, const std::string& fed) {
  fmt::print("{}: values of the compiled program against {}; inputs: {}\n", o.model.model, w.against, fed);
  print_values(o, w);
  fmt::print("{}: {}\n", verdict_text(w.first < 0 ? "PARITY" : "PARITY FAILED", w.first < 0), w.verdict);
}

std::string values_markdown(const ParityOptions& o, const Walk& w) {
  std::string md = "| depth | step | value | node | error | verdict |\n|---:|---:|---|---|---:|---|\n";
  for (size_t i : listed(w, static_cast<size_t>(std::max(o.top, 60)))) {
    const ValueCheck& c = w.values[i];
    md += fmt::format("| {} | {} | `{}` | {} | {} | {} |\n", c.depth, c.step < 0 ? "" : std::to_string(c.step + 1), cell(c.name),
                      cell(c.node), error_text(c.error), verdict_of(w, i));
  }
  if (w.within)
    md += fmt::format("\nInside {}: run {} of its `{}`, on the exact values that it is given.\n\n{}", cell(w.within->node),
                      w.within->run + 1, cell(w.within->body), values_markdown(o, *w.within->walk));
  return md;
}

std::string walk_markdown(const ParityOptions& o, const Walk& w, const std::string& fed) {
  return fmt::format("Values of the compiled program against {}; inputs: {}.\n\n**{}**: {}\n\n{}", w.against, fed,
                     w.first < 0 ? "Parity" : "Parity failed", w.verdict, values_markdown(o, w));
}

Walk walk_as_asked(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const std::vector<Tensor>& inputs,
                   const std::vector<NamedTensor>& values) {
  Progress progress;
  WalkOptions w = walk_options(o, options, progress);
  if (!o.values.empty()) return walk(graph, inputs, values, w);
  if (!o.against.empty()) {
    const Graph other = load(o.against, o.model.load_options());
    w.compile.dims.clear();
    w.compile.shapes.clear();
    return walk(graph, inputs, other, w);
  }
  return walk(graph, inputs, w);
}

// Values by name: an npz, or a folder of npy and pb files named after the values ('/' written as '_' or as folders).
std::vector<NamedTensor> read_values(const std::string& path, const Graph& graph) {
  if (!fs::is_directory(path)) {
    auto all = read_tensors(path, "--values");
    if (all.size() == 1 && all[0].name.empty())
      throw UsageError(fmt::format(
          "--values: {} is one array without a name; expected an npz of values by name, or a folder of files named after them", path));
    return all;
  }
  std::map<std::string, std::string> written;  // as file names are, without the suffix; the value
  for (const Value& v : graph.values) {
    std::string safe = v.name;
    std::replace_if(
        safe.begin(), safe.end(), [](unsigned char c) { return c == '/' || c == ':' || c < 32; }, '_');
    written.emplace(safe, v.name);
  }
  std::vector<NamedTensor> out;
  for (const auto& entry : fs::recursive_directory_iterator(path)) {
    const std::string kind = entry.path().extension().string();
    if (!entry.is_regular_file() || (kind != ".npy" && kind != ".pb")) continue;
    NamedTensor t = std::move(read_tensors(entry.path().string(), "--values").at(0));
    const std::string stem = entry.path().stem().string(), whole = fs::relative(entry.path(), path).replace_extension().string();
    const auto it = written.find(stem);
    t.name = graph.find_value(whole) != kAbsent ? whole : it != written.end() ? it->second : t.name.empty() ? stem : t.name;
    out.push_back(std::move(t));
  }
  if (out.empty()) throw UsageError(fmt::format("--values: {} holds no .npy or .pb file", path));
  return out;
}

// The picture made into an input in the other ways that there are.
std::vector<std::pair<std::string, std::vector<Tensor>>> otherwise_made(const ParityOptions& o, const Program& program,
                                                                        const CompileOptions& options) {
  std::vector<std::pair<std::string, std::vector<Tensor>>> out;
  if (o.feed.image.empty()) return out;
  const Shape shape = o.feed.pictures.shape_for(o.model, program, options, o.feed.image);
  const PictureOptions now = picture_options(o.feed.pictures.settings(), program, shape);
  const auto picture = read_picture(o.feed.image);
  const std::pair<Fit, const char*> fits[]{{Fit::stretch, "stretched"}, {Fit::pad, "padded"}, {Fit::crop, "cropped"}};
  const auto word = [&](Fit f) { return std::ranges::find(fits, f, &std::pair<Fit, const char*>::first)->second; };
  for (const auto& [fit, words] : fits) {
    for (const bool antialias : {now.antialias, !now.antialias}) {
      if (fit == now.fit && antialias == now.antialias) continue;
      PictureOptions other = now;
      other.fit = fit;
      other.antialias = antialias;
      std::string what = fit == now.fit ? "" : fmt::format("the picture {} instead of {}", words, word(now.fit));
      if (antialias != now.antialias)
        what += fmt::format("{}{} antialiasing", what.empty() ? "the picture resized " : " ", antialias ? "with" : "without");
      out.emplace_back(what, std::vector<Tensor>{picture_to_tensor(picture, other)});
    }
  }
  return out;
}

}  // namespace

std::string cell(const std::string& name) {
  std::string out;
  for (char c : name) {
    if (c == '|') out += "\\|";
    else if (c == '`') out += '\'';
    else out += static_cast<unsigned char>(c) < 32 ? ' ' : c;
  }
  return out;
}

Json finite_json(double v) { return std::isfinite(v) ? Json(v) : Json(std::isnan(v) ? "nan" : "inf"); }

Finding find_where(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const Case& reference, const std::string& fed,
                   bool quiet) {
  const auto inputs = inputs_of(graph, options, reference);
  const auto values = o.values.empty() ? std::vector<NamedTensor>() : read_values(o.values, graph);
  const Walk w = walk_as_asked(o, graph, options, inputs, values);
  Finding f;
  f.code = w.first < 0 ? kGood : kCheckFailed;
  f.json = walk_json(w);
  f.markdown = walk_markdown(o, w, fed);
  if (!o.chart.empty()) draw_walk(o, w);
  if (!quiet) {
    print_walk(o, w, fed);
    if (!o.chart.empty()) fmt::print("  chart: {}\n", o.chart);
    if (w.first >= 0 && !o.values.empty()) fmt::print("  --why tries what usually goes wrong there\n");
  }
  return f;
}

Finding find_why(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const Case& reference, const std::string& fed,
                 bool quiet) {
  HuntOptions h;
  h.tolerances = o.tolerances();
  h.compile = options;
  h.seconds = o.hunt_seconds;
  h.run = o.model.run_options();
  Progress progress;
  h.progress = [&](const std::string& what) { progress.show(what); };
  std::optional<Walk> walked;
  if (!o.values.empty()) walked = walk_as_asked(o, graph, options, inputs_of(graph, options, reference), read_values(o.values, graph));
  h.otherwise = otherwise_made(o, o.model.make_program(graph, options), options);
  const Hunt hunted = hunt(graph, reference, h, walked ? &*walked : nullptr);
  progress.show("");
  Finding f;
  f.code = hunted.agrees ? kGood : kCheckFailed;
  // Within tolerance, and yet farther than rounding explains: worth a look, no failure.
  bool within = hunted.agrees;
  if (!hunted.agrees && hunted.verified.empty()) {
    try {
      Lane lane(o.model.make_program(graph, options), o.model.threads);
      within = check_case(lane, reference, o.tolerances(), o.model.run_options()).pass;
    } catch (const Error&) {  // as they are the inputs do not fit
    }
    if (within) f.code = kGood;
  }
  const auto suspect = [](const Suspect& s) {
    return Json{{"what", s.what}, {"where", s.where}, {"change", s.change}, {"agrees", s.agrees}, {"error", finite_json(s.error)}};
  };
  f.json = {{"agrees", hunted.agrees},
            {"within_tolerance", within},
            {"error", finite_json(hunted.error)},
            {"tried", hunted.tried},
            {"complete", hunted.complete},
            {"verified", Json::array()},
            {"nearest", hunted.nearest ? suspect(*hunted.nearest) : Json(nullptr)}};
  for (const Suspect& s : hunted.verified) f.json["verified"].push_back(suspect(s));
  if (walked) f.json["walk"] = walk_json(*walked);
  std::string text;
  if (hunted.agrees) {
    text = fmt::format("the outputs agree as the model is (error {}): there is nothing to look for\n", error_text(hunted.error));
  } else if (!hunted.verified.empty()) {
    for (size_t i = 0; i < hunted.verified.size(); ++i) {
      const Suspect& s = hunted.verified[i];
      text += fmt::format("{}{}\n  with this every output agrees: error {} instead of {}\n", i > 0 ? "or " : "", s.what,
                          error_text(s.error), error_text(hunted.error));
    }
  } else {
    text = within
               ? fmt::format(
                     "the outputs are within tolerance, but farther off than rounding explains; none of the {} changes tried explains it",
                     hunted.tried)
               : fmt::format("none of {} changes tried makes the outputs agree", hunted.tried);
    text += fmt::format(
        " (error {}){}\n", error_text(hunted.error),
        hunted.complete ? "" : fmt::format("; {:g} s were up before all were tried, --hunt-seconds gives more", o.hunt_seconds));
    if (hunted.nearest)
      text += fmt::format("  nearest, but not within tolerance: {} (error {})\n", hunted.nearest->what, error_text(hunted.nearest->error));
    if (o.values.empty() && !within) text += "  with --values, values between inputs and outputs, the place can be found first\n";
  }
  f.markdown = fmt::format("Outputs against the reference of {}; inputs: {}.\n\n{}\n", reference.name, fed, text);
  if (!quiet) {
    if (walked) print_walk(o, *walked, fed), fmt::print("\n");
    fmt::print("{}: why the outputs differ from the reference ({} changes tried, each by running it)\n{}", o.model.model, hunted.tried,
               text);
  }
  return f;
}

Finding find_budget(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const Case& reference,
                    const std::string& fed, bool quiet) {
  Progress progress;
  const auto inputs = inputs_of(graph, options, reference);
  const WalkOptions w = walk_options(o, options, progress);
  std::optional<Graph> exact;
  if (!o.against.empty()) exact = load(o.against, o.model.load_options());
  const ErrorBudget b = error_budget(graph, inputs, w, exact ? &*exact : nullptr);
  progress.show("");
  Finding f;
  f.json = {{"error", finite_json(b.total)},
            {"error_if_independent", finite_json(b.expected)},
            {"steps_in_all", b.steps_in_all},
            {"steps", Json::array()}};
  f.markdown = fmt::format(
      "Error of the worst output against plain evaluation in double{}: {}; inputs: {}.\n\n"
      "| step | node | own error | at the output | share |\n|---:|---|---:|---:|---:|\n",
      exact ? " of " + o.against : "", error_text(b.total), fed);
  Table table("rllrrrl", {"step", "op", "value", "own error", "at the output", "share", ""});
  for (size_t i = 0; i < b.steps.size(); ++i) {
    const StepError& s = b.steps[i];
    const std::string number = s.step < 0 ? "" : std::to_string(s.step + 1);
    f.json["steps"].push_back({{"step", s.step < 0 ? Json(nullptr) : Json(s.step + 1)},
                               {"node", s.node},
                               {"op", s.op},
                               {"value", s.value},
                               {"own", finite_json(s.own)},
                               {"at_output", finite_json(s.at_output)},
                               {"share", s.share}});
    f.markdown +=
        fmt::format("| {} | {} | {} | {} | {:.1f} % |\n", number, cell(s.node), error_text(s.own), error_text(s.at_output), 100 * s.share);
    if (i < static_cast<size_t>(o.top))
      table.row({number, s.op, shortened_name(s.value, 40), error_text(s.own), error_text(s.at_output),
                 fmt::format("{:.1f} %", 100 * s.share), std::string(static_cast<size_t>(std::lround(20 * s.share)), '#')});
  }
  if (!quiet) {
    fmt::print("{}: where the digits go; inputs: {}\n{}", o.model.model, fed, table.text(""));
    fmt::print("{} of {} steps, largest share first. Own error: of a step on exact values. At the output: what it alone comes to there.\n",
               std::min<size_t>(b.steps.size(), static_cast<size_t>(o.top)), b.steps_in_all);
    fmt::print("the worst output is {} from the double result{}; errors independent of one another would come to {}\n", error_text(b.total),
               exact ? " of " + o.against : "", error_text(b.expected));
  }
  return f;
}

Finding find_distances(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const Case& reference,
                       const std::string& fed, bool quiet) {
  Progress progress;
  const WalkOptions w = walk_options(o, options, progress);
  const auto distances = distances_to_double(graph, inputs_of(graph, options, reference), w);
  progress.show("");
  Finding f;
  f.json = {{"outputs", Json::array()}};
  f.markdown =
      fmt::format("Distance to the double result; inputs: {}.\n\n| output | compiled | plain | verdict |\n|---|---:|---:|---|\n", fed);
  Table table("lrrrl", {"output", "compiled", "plain", "ratio", "verdict"});
  for (const Distance& d : distances) {
    if (!d.pass) f.code = kCheckFailed;
    f.json["outputs"].push_back(
        {{"output", d.output}, {"compiled", finite_json(d.compiled)}, {"plain", finite_json(d.plain)}, {"pass", d.pass}});
    const char* verdict = d.pass ? "as good as it can be" : "FARTHER";
    f.markdown += fmt::format("| `{}` | {} | {} | {} |\n", cell(d.output), error_text(d.compiled), error_text(d.plain), verdict);
    table.row(
        {d.output, error_text(d.compiled), error_text(d.plain), d.plain > 0 ? fmt::format("{:.2f}", d.compiled / d.plain) : "", verdict});
  }
  if (!quiet) {
    fmt::print("{}: distance of the outputs to the double result, compiled and by plain evaluation; inputs: {}\n{}", o.model.model, fed,
               table.text(""));
    fmt::print("An output may be 8 times as far as plain evaluation, which sums in double and rounds once a node, or {:.0e} in f32.\n{}\n",
               1e-6, verdict_text(f.code == kGood ? "PARITY: as good as the model's types can be" : "PARITY FAILED", f.code == kGood));
  }
  return f;
}

}  // namespace lathe::cli
