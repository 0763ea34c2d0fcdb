// lathe parity
#include <filesystem>
#include <fstream>

#include "drawing.hpp"
#include "parity.hpp"
#include "base/files.hpp"
#include "base/text.hpp"

namespace lathe::cli {

Json comparison_json(const Comparison& c) {
  return {{"output", c.name},
          {"dtype", to_string(c.dtype)},
          {"shape", c.shape},
          {"pass", c.pass},
          {"reason", c.reason},
          {"max_absolute", finite_json(c.max_absolute)},
          {"max_relative", finite_json(c.max_relative)},
          {"max_ulp", finite_json(c.max_ulp)},
          {"cosine", finite_json(c.cosine)},
          {"error", finite_json(c.error)},
          {"out_of_tolerance", c.out_of_tolerance},
          {"worst_index", c.worst},
          {"got", c.got},
          {"expected", c.expected}};
}

Tolerances ParityOptions::tolerances() const {
  Tolerances t = tolerance_file.empty() ? Tolerances() : read_tolerances(tolerance_file);
  if (const auto all = tolerance()) t.all = all;
  return t;
}

namespace {

namespace fs = std::filesystem;

// Shown in a table: at most so many characters.
std::string cut_to(const std::string& text, size_t most) { return text.size() <= most ? text : text.substr(0, most - 2) + ".."; }

Finding report(const ParityOptions& o, const std::vector<CaseResult>& results, const std::string& what, bool quiet,
               const std::vector<std::pair<std::string, std::string>>& skipped = {}) {
  Finding f;
  f.json = Json{{"model", o.model.model}, {"compared", what}, {"cases", Json::array()}};
  const Tolerances tolerances = o.tolerances();
  bool pass = true;
  // ULP and relative error say nothing of numbers near zero: they are shown where the error relative to the whole is worth a look.
  Table table("lllrrrl", {"case", "output", "shape", "max abs", "max rel", "error", "verdict"});
  std::vector<std::string> faults;
  f.markdown =
      fmt::format("{}.\n\n| case | output | shape | max abs | max rel | error | verdict |\n|---|---|---|---:|---:|---:|---|\n", what);
  for (const CaseResult& r : results) {
    pass = pass && r.pass;
    Json entry{{"case", r.name}, {"pass", r.pass}, {"outputs", Json::array()}};
    for (const Comparison& c : r.outputs) {
      entry["outputs"].push_back(comparison_json(c));
      // A relative error whose absolute one is within tolerance is one of a number near zero.
      const Tolerance t = tolerance_for(c.dtype, tolerances.of(c.name, c.dtype));
      const bool near_zero = c.pass && c.max_relative > t.relative;
      const std::vector<std::string> row{r.name,
                                         cut_to(c.name, 28),
                                         to_string(c.shape),
                                         fmt::format("{:.3g}", c.max_absolute),
                                         fmt::format("{:.3g}{}", c.max_relative, near_zero ? " *" : ""),
                                         fmt::format("{:.1e}", c.error),
                                         c.pass ? "agrees" : "DIFFERS"};
      table.row(row);
      f.markdown += "|";
      for (const std::string& text : row) f.markdown += fmt::format(" {} |", cell(text));
      f.markdown += "\n";
      if (near_zero) faults.push_back("");
      if (!c.pass) faults.push_back(fmt::format("{}, '{}': {}", r.name, c.name, c.reason));
    }
    f.json["cases"].push_back(std::move(entry));
  }
  for (const auto& [name, why] : skipped) {
    table.row({name, "", "", "", "", "", "skipped"});
    faults.push_back(fmt::format("{}: skipped: {}", name, why));
    f.json["skipped"].push_back({{"case", name}, {"reason", why}});
  }
  pass = pass && !results.empty();
  f.json["pass"] = pass;
  f.code = pass ? kGood : kCheckFailed;
  for (const std::string& fault : faults) {
    if (!fault.empty()) f.markdown += fmt::format("\n{}\n", fault);
  }
  if (quiet) return f;
  fmt::print("{}\n{}", what, table.text(""));
  const bool starred = std::erase_if(faults, [](const std::string& s) { return s.empty(); }) > 0;
  for (const std::string& fault : faults) {
    for (const std::string& line : wrapped(fault, 100)) fmt::print("  {}\n", line);
  }
  if (starred) fmt::print("  * of numbers near zero: what is allowed absolutely is larger than they are\n");
  const Tolerance t = tolerance_for(DType::f32, tolerances.of("", DType::f32));
  fmt::print("tolerance for f32: {:g} absolute + {:g} relative{}{}\n", t.absolute, t.relative,
             t.ulp ? fmt::format(", or {} ulp", t.ulp) : "", o.tolerance_file.empty() ? "" : "; others in " + o.tolerance_file);
  const std::string verdict =
      results.empty()   ? "PARITY FAILED: every case was skipped"
      : !pass           ? "PARITY FAILED"
      : skipped.empty() ? "PARITY: every output agrees"
                        : fmt::format("PARITY: every output agrees; {} case{} skipped", skipped.size(), skipped.size() == 1 ? "" : "s");
  fmt::print("{}{}\n", verdict_text(verdict, pass), pass || results.empty() ? "" : "; --walk and --why tell where and why");
  return f;
}

// Every array must name an input or output of the model.
void check_names(const char* option, const std::string& file, const std::vector<NamedTensor>& arrays, const Graph& graph, bool in) {
  std::vector<std::string> known;
  for (ValueId v : in ? graph.inputs : graph.outputs) known.push_back(graph.values[v].name);
  for (const Default& d : graph.defaults) {
    if (in) known.push_back(graph.values[d.value].name);
  }
  for (const NamedTensor& t : arrays) {
    if (std::ranges::find(known, t.name) != known.end()) continue;
    throw UsageError(fmt::format("{} {}: array '{}' names no {} of the model; they are {}{}", option, file, t.name, in ? "input" : "output",
                                 fmt::join(known, ", "), did_you_mean(t.name, known)));
  }
}

// Why an archive cannot run a case: it holds no program for the case's shapes. "" when it can.
std::string not_held(const ParityOptions& o, const Program& program, const Case& c) {
  std::vector<Shape> shapes;
  std::string text;
  for (const Tensor& t : arrange_inputs(program, c)) {
    shapes.push_back(t.shape());
    text += (text.empty() ? "" : ", ") + to_string(t.shape());
  }
  const ArchiveInfo info = archive_info(o.model.model);
  bool held = std::ranges::find(info.editions, shapes) != info.editions.end();
  if (!held && info.carries_graph) {
    held = true;
    for (size_t i = 0; i < shapes.size(); ++i) held = held && (program.inputs()[i].composite || fits(shapes[i], program.inputs()[i].dims));
  }
  return held ? "" : fmt::format("its shapes are {}, the archive has no program for them", text);
}

// Lines of an entry's name and why it cannot pass; '#' starts a comment.
std::map<std::string, std::string> read_exceptions(const std::string& path) {
  std::ifstream in(path);
  if (!in) throw UsageError(fmt::format("--except: '{}' cannot be read", path));
  std::map<std::string, std::string> out;
  std::string line;
  while (std::getline(in, line)) {
    if (line.empty() || line[0] == '#') continue;
    const size_t space = line.find_first_of(" \t"), reason = space == std::string::npos ? space : line.find_first_not_of(" \t", space);
    if (reason == std::string::npos) throw UsageError(fmt::format("--except: '{}': line '{}' gives no reason after the name", path, line));
    out[line.substr(0, space)] = line.substr(reason);
  }
  if (out.empty()) throw UsageError(fmt::format("--except: '{}' names nothing", path));
  return out;
}

std::string_view verdict_name(Verdict v) {
  constexpr std::string_view kNames[]{"passed", "failed", "skipped", "excluded"};
  return kNames[static_cast<size_t>(v)];
}

int run_suite_command(const ParityOptions& o) {
  SuiteOptions s;
  s.filter = o.filter;
  if (!o.exceptions.empty()) s.exceptions = read_exceptions(o.exceptions);
  s.tolerance = o.tolerance();
  if (o.all_isas) s.isas = machine_info().isas;
  else if (!o.model.isa.empty()) s.isas = {o.model.isa};
  if (o.model.threads > 0) s.threads = {o.model.threads};
  Progress progress;
  s.progress = [&](const SuiteEntry& e, size_t done, size_t total) {
    if (for_people(o.model.json)) {
      if (e.verdict == Verdict::failed) {
        progress.show("");
        fmt::print("FAILED   {}: {}\n", e.name, e.reason);
      } else if (o.verbose) {
        progress.show("");
        fmt::print("{:<8} {}{}\n", verdict_name(e.verdict), e.name, e.reason.empty() ? "" : ": " + e.reason);
      }
    }
    progress.show(fmt::format("{} of {}  {}", done, total, e.name));
  };
  const auto entries = run_suite(o.suite, s);
  int counts[4] = {};
  Json j{{"suite", o.suite}, {"entries", Json::array()}};
  for (const SuiteEntry& e : entries) {
    ++counts[static_cast<int>(e.verdict)];
    j["entries"].push_back({{"name", e.name}, {"verdict", verdict_name(e.verdict)}, {"reason", e.reason}});
  }
  j["passed"] = counts[0];
  j["failed"] = counts[1];
  j["skipped"] = counts[2];
  j["excluded"] = counts[3];
  write_json(o.model.json, j);
  progress.show("");
  if (for_people(o.model.json)) fmt::print("{} passed, {} failed, {} skipped, {} excluded\n", counts[0], counts[1], counts[2], counts[3]);
  return counts[1] ? kCheckFailed : kGood;
}

// The case that a walk, a hunt or a budget runs on: arrays given, else the first case, else random data.
struct Fed {
  Case c;
  std::string text;
};
Fed first_case(const ParityOptions& o, const Graph& graph, CompileOptions& options) {
  const bool array = !o.feed.inputs.empty() || !o.feed.image.empty();
  std::vector<NamedTensor> expected;
  if (!o.outputs.empty()) {
    expected = read_npz(o.outputs);
    check_names("--npz-outputs", o.outputs, expected, graph, false);
  }
  if (!o.inputs.empty()) {
    Case c{fs::path(o.inputs).filename().string(), read_npz(o.inputs), expected};
    check_names("--npz-inputs", o.inputs, c.inputs, graph, true);
    for (const Default& d : graph.defaults) {
      const std::string& name = graph.values[static_cast<size_t>(d.value)].name;
      if (std::ranges::any_of(c.inputs, [&](const NamedTensor& t) { return t.name == name; })) options.given.push_back(name);
    }
    return {std::move(c), o.inputs};
  }
  if (!array) {
    const fs::path folder = o.cases.empty() ? fs::path(o.model.model).parent_path() : fs::path(o.cases);
    auto cases = o.cases.empty() && o.seed_given ? std::vector<Case>() : read_cases(folder, &graph);
    if (!o.cases.empty() && cases.empty()) throw UsageError(fmt::format("--cases: {} holds no test_data_set_0", o.cases));
    if (!cases.empty()) {
      // What is given by place gets its name.
      for (size_t i = 0; i < cases[0].inputs.size() && i < graph.inputs.size(); ++i) {
        if (graph.find_value(cases[0].inputs[i].name) == kAbsent)
          cases[0].inputs[i].name = graph.values[static_cast<size_t>(graph.inputs[i])].name;
      }
      if (!expected.empty()) cases[0].outputs = expected;
      return {cases[0], cases[0].name};
    }
  }
  FeedFlags feed = o.feed;
  feed.read(o.model, graph, options);
  const Program program = o.model.make_program(graph, options);
  const auto inputs = feed.make(o.model, program, options, o.seed);
  Case c{"the inputs given", {}, std::move(expected)};
  for (size_t i = 0; i < inputs.size(); ++i) c.inputs.push_back({program.inputs()[i].name, inputs[i]});
  return {std::move(c), feed.text(o.seed)};
}

Finding check_cases(const ParityOptions& o, Graph graph, CompileOptions options, bool quiet) {
  // Cases bring their own shapes: leave the batch open unless it was asked for.
  if (o.model.batch == 0 && o.model.dims.empty()) options.dims.clear();
  std::vector<Case> cases;
  if (!o.inputs.empty()) {
    cases.push_back(read_npz_case(o.inputs, o.outputs));
    check_names("--npz-inputs", o.inputs, cases[0].inputs, graph, true);
    check_names("--npz-outputs", o.outputs, cases[0].outputs, graph, false);
  } else {
    cases = read_cases(o.cases.empty() ? fs::path(o.model.model).parent_path() : fs::path(o.cases), &graph);
  }
  if (cases.empty())
    throw Error(Category::value,
                fmt::format("{}: holds no test_data_set_0; give --cases DIR, --npz-inputs and --npz-outputs, or --against-plain",
                            o.cases.empty() ? "the model's folder" : o.cases));
  // Initializers that are inputs too, and that every case gives a value.
  for (const Default& d : graph.defaults) {
    const std::string& name = graph.values[d.value].name;
    const auto named = [&](const NamedTensor& t) { return t.name == name; };
    if (std::ranges::all_of(cases, [&](const Case& c) { return std::ranges::any_of(c.inputs, named); })) options.given.push_back(name);
  }
  Lane lane(o.model.make_program(std::move(graph), options), o.model.threads);
  RunProgress slow("running");
  const Tolerances tolerances = o.tolerances();
  std::vector<CaseResult> results;
  std::vector<std::pair<std::string, std::string>> skipped;
  for (const Case& c : cases) {
    if (const std::string why = o.model.archived() ? not_held(o, lane.program(), c) : ""; !why.empty()) {
      skipped.emplace_back(c.name, why);
      continue;
    }
    results.push_back(check_case(lane, c, tolerances, slow.on(o.model.run_options())));
  }
  return report(o, results, "compiled against reference outputs", quiet, skipped);
}

Finding check_plain(const ParityOptions& o, const Graph& graph, const CompileOptions& options, bool quiet) {
  CompileOptions plain_options = options;
  plain_options.plain = true;
  const Program compiled = o.model.make_program(graph, options), plain = o.model.make_program(graph, plain_options);
  const auto inputs = random_inputs(compiled, o.model.shapes_for(compiled, options), o.seed);
  Lane a(compiled, o.model.threads), b(plain, 1);
  RunProgress slow("running");
  const RunOptions run = slow.on(o.model.run_options());
  const Outputs got = a.run(std::span<const Tensor>(inputs), run), expected = b.run(std::span<const Tensor>(inputs), run);
  const Tolerances tolerances = o.tolerances();
  CaseResult r{fmt::format("seed {}", o.seed), true, {}};
  for (size_t i = 0; i < got.size(); ++i) {
    r.outputs.push_back(compare(got.name(i), got[i], expected[i], tolerances.of(got.name(i), got[i].dtype())));
    r.pass = r.pass && r.outputs.back().pass;
  }
  return report(o, {r}, "compiled against plain evaluation", quiet);
}

// What is asked of one model.
Finding look_at(const ParityOptions& o, bool quiet) {
  Graph graph = o.model.load_graph();
  CompileOptions options = o.model.compile_options(graph);
  const bool lab = o.walk || o.why || o.budget || o.to_double;
  if ((o.against_plain || lab) && o.model.archived())
    throw UsageError(fmt::format("{}: {} holds no nodes to evaluate plainly; check the model itself",
                                 o.against_plain ? "--against-plain"
                                 : o.walk        ? "--walk"
                                 : o.why         ? "--why"
                                 : o.budget      ? "--budget"
                                                 : "--to-double",
                                 o.model.model));
  if (o.against_plain) return check_plain(o, graph, options, quiet);
  if (!lab) return check_cases(o, std::move(graph), options, quiet);
  const Fed fed = first_case(o, graph, options);
  // Sizes are those of the inputs.
  if (o.model.batch == 0 && o.model.dims.empty()) options.dims.clear();
  Finding f;
  if (o.why) {
    if (fed.c.outputs.empty())
      throw UsageError(
          "--why wants outputs that the model should have given: --cases DIR, or --npz-outputs FILE with --npz-inputs, --input or --image");
    f = find_why(o, graph, options, fed.c, fed.text, quiet);
  } else if (o.walk) {
    f = find_where(o, graph, options, fed.c, fed.text, quiet);
  } else if (o.budget) {
    f = find_budget(o, graph, options, fed.c, fed.text, quiet);
  } else {
    f = find_distances(o, graph, options, fed.c, fed.text, quiet);
  }
  Json whole{{"model", o.model.model}, {"inputs", fed.text}};
  whole.update(f.json);
  whole["pass"] = f.code == kGood;
  f.json = std::move(whole);
  return f;
}

// The models of a folder, as they are asked for by name.
std::vector<std::string> models_in(const std::string& path) {
  if (!fs::is_directory(path)) return {path};
  std::vector<std::string> out;
  for (const auto& entry : fs::recursive_directory_iterator(path)) {
    if (entry.is_regular_file() && entry.path().extension() == ".onnx") out.push_back(entry.path().string());
  }
  std::ranges::sort(out);
  if (out.empty()) throw UsageError(fmt::format("{}: holds no .onnx file", path));
  return out;
}

int look_at_all(ParityOptions& o, const std::vector<std::string>& models) {
  const bool people = for_people(o.model.json), many = models.size() > 1;
  Json all{{"models", Json::array()}};
  std::string markdown = "# Parity\n";
  Table table("lll", {"model", "verdict", ""});
  int code = kGood;
  for (const std::string& model : models) {
    o.model.model = model;
    o.model.archive.reset();
    Finding f;
    std::string verdict, what;
    if (many && people) fmt::print("{}== {}\n", model == models.front() ? "" : "\n", model);
    try {
      f = look_at(o, !people);
      verdict = f.code == kGood ? "agrees" : "DIFFERS";
    } catch (const Error& e) {
      if (!many || e.category() == Category::cancelled) throw;
      f.code = e.category() == Category::resource ? kResource : kModelFault;
      f.json = {{"model", model}, {"error", e.what()}};
      f.markdown = fmt::format("{}\n", e.what());
      verdict = "cannot be checked";
      what = e.what();
      if (people) fmt::print("{}\n", e.what());
    }
    code = std::max(code, f.code);
    markdown += fmt::format("\n## `{}`\n\n{}", fs::path(model).filename().string(), f.markdown);
    table.row({model, verdict, cut_to(what, 60)});
    if (many) all["models"].push_back(std::move(f.json));
    else all = std::move(f.json);
  }
  if (many) all["pass"] = code == kGood;
  write_json(o.model.json, all);
  if (!o.markdown.empty()) write_file(o.markdown, markdown);
  if (many && people) fmt::print("\n{}", table.text(""));
  if (!o.markdown.empty() && people) fmt::print("  report: {}\n", o.markdown);
  return code;
}

}  // namespace

Command add_parity(CLI::App& app) {
  constexpr const char* kLaboratory = "Where, why, how much";
  auto o = std::make_shared<ParityOptions>();
  o->model.add_to(app, false);
  app.add_option("MORE", o->more, "More models, or folders of them")->type_name("");
  app.add_option("--cases", o->cases, "Folder with test_data_set_N/input_K.pb and output_K.pb (the model's own folder)")->type_name("DIR");
  app.add_option("--npz-inputs", o->inputs, "Inputs of one case, by name")->type_name("FILE");
  app.add_option("--npz-outputs", o->outputs, "Outputs expected of them, by name")->type_name("FILE");
  app.add_flag("--against-plain", o->against_plain, "Compare the compiled program with plain evaluation on random inputs");
  app.add_flag("--walk", o->walk, "Where they part: every value that the program makes, in order, against plain evaluation in double")
      ->group(kLaboratory);
  app.add_option("--values", o->values,
                 "With --walk and --why: reference values by name instead, some are enough: an npz, or a folder of npy and pb")
      ->type_name("FILE|DIR")
      ->group(kLaboratory);
  app.add_option("--against", o->against,
                 "With --walk: the values of this model instead, matched by name or place. With --budget: the model before it was narrowed")
      ->type_name("MODEL")
      ->group(kLaboratory);
  app.add_flag("--why", o->why, "Why the outputs differ from the reference: the usual mistakes, tried one by one")->group(kLaboratory);
  app.add_option("--hunt-seconds", o->hunt_seconds, "With --why: begin no further trial after this time (30)")
      ->check(zero_or_more())
      ->type_name("S")
      ->group(kLaboratory);
  app.add_flag("--budget", o->budget, "Where the digits go: what each step adds to the error of the result")->group(kLaboratory);
  app.add_flag("--to-double", o->to_double,
               "Whether the outputs are as good as their types can be: their distance to the double result, beside "
               "that of plain evaluation")
      ->group(kLaboratory);
  app.add_option("--keep", o->keep, "With --walk: references kept at a time; more are found by bisection (a quarter of the memory)")
      ->type_name("SIZE")
      ->group(kLaboratory);
  app.add_option("--top", o->top, "Rows to list (24)")->check(CLI::Range(4, 1000000))->type_name("N")->group(kLaboratory);
  app.add_option("--chart", o->chart, "With --walk: draw error against depth (needs gnuplot)")
      ->type_name("FILE.png|svg")
      ->group(kLaboratory);
  app.add_option("--markdown", o->markdown, "Write the report as Markdown")->type_name("FILE");
  o->feed.add_to(app, {.cases = false, .image = true, .seed = false});
  auto* seed = app.add_option("--seed", o->seed, "Seed of the random inputs (1)")->type_name("N");
  app.add_option("--suite", o->suite, "Check every folder below DIR that holds model.onnx and cases; plain and compiled")->type_name("DIR");
  app.add_option("--filter", o->filter, "With --suite: only folders whose path holds TEXT")->type_name("TEXT");
  app.add_option(
         "--except", o->exceptions,
         "With --suite: FILE of entries that cannot pass, each with its reason; any other skip fails, and so does one of them that passes")
      ->type_name("FILE");
  app.add_flag("--all-isas", o->all_isas, "With --suite: under every instruction set of this machine");
  app.add_flag("--verbose", o->verbose, "With --suite: also name what passed and what was skipped, and why");
  app.add_option("--absolute", o->absolute, "Absolute tolerance (by dtype; f32: 1e-6)")->check(zero_or_more())->type_name("X");
  app.add_option("--relative", o->relative, "Relative tolerance (by dtype; f32: 1e-3)")->check(zero_or_more())->type_name("X");
  app.add_option("--ulp", o->ulp, "Accept elements within N representable steps, whatever the rest")->check(zero_or_more())->type_name("N");
  app.add_option("--tolerances", o->tolerance_file, "Tolerances by dtype and by output, from a TOML file")->type_name("FILE");
  o->model.add_limits(app);
  app.footer(
      "An element agrees when |got - expected| <= absolute + relative * |expected|. NaN agrees with NaN only.\n'error' is the root mean "
      "square of the difference over that of what is expected.\nExit code 1 when anything disagrees.");
  return [o, seed] {
    o->seed_given = seed->count() > 0;
    const bool lab = o->walk || o->why || o->budget || o->to_double;
    if (o->against_plain + o->walk + o->why + o->budget + o->to_double > 1)
      throw UsageError("--against-plain, --walk, --why, --budget and --to-double are questions of their own: give one");
    if (o->against_plain && (!o->cases.empty() || !o->inputs.empty()))
      throw UsageError("--against-plain makes its own inputs: leave out --cases, --npz-inputs and --npz-outputs");
    if (!o->cases.empty() && !o->inputs.empty()) throw UsageError("--cases and --npz-inputs are two ways to say the same: give one");
    const bool fed = !o->feed.inputs.empty() || !o->feed.image.empty();
    if (fed && !lab) throw UsageError("--input and --image go with --walk, --why, --budget or --to-double");
    if (fed && (!o->cases.empty() || !o->inputs.empty()))
      throw UsageError("--input, --image, --cases and --npz-inputs are ways to say the same: give one");
    if (!o->values.empty() && !o->walk && !o->why) throw UsageError("--values goes with --walk or --why");
    if (!o->values.empty() && !o->against.empty()) throw UsageError("--values and --against are two references: give one");
    if (!o->against.empty() && !o->walk && !o->budget)
      throw UsageError("--against goes with --walk or --budget; 'lathe judge' compares accuracy");
    if (!o->chart.empty()) {
      if (!o->walk) throw UsageError("--chart goes with --walk");
      check_picture_name(o->chart, "--chart");
    }
    std::vector<std::string> read{o->model.model, o->inputs, o->outputs, o->exceptions, o->values, o->against, o->tolerance_file};
    read.insert(read.end(), o->feed.inputs.begin(), o->feed.inputs.end());
    read.insert(read.end(), o->more.begin(), o->more.end());
    check_target("--json", o->model.json, {"JSON"}, read);
    check_target("--markdown", o->markdown, {"Markdown"}, read);
    if (!o->chart.empty()) check_target("--chart", o->chart, {picture_kind(o->chart)}, read);
    if (!o->tolerance_file.empty()) (void)o->tolerances();  // before any work
    if (!o->suite.empty()) {
      if (!o->model.model.empty()) throw UsageError("--suite takes no MODEL");
      return run_suite_command(*o);
    }
    if (o->model.model.empty()) throw UsageError("MODEL is missing (or --suite DIR); see 'lathe parity --help'");
    if (!lab && o->inputs.empty() != o->outputs.empty()) throw UsageError("--npz-inputs and --npz-outputs go together");
    std::vector<std::string> models = models_in(o->model.model);
    for (const std::string& path : o->more) {
      for (const std::string& m : models_in(path)) models.push_back(m);
    }
    return look_at_all(*o, models);
  };
}

}  // namespace lathe::cli
