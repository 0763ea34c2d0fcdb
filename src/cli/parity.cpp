// lathe parity
#include <filesystem>
#include <fstream>

#include "common.hpp"
#include "base/text.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
  ModelOptions model;
  std::string suite, filter, exceptions, inputs, outputs, cases;
  bool against_plain = false, all_isas = false, verbose = false;
  uint64_t seed = 1;
  std::optional<double> absolute, relative;
  std::optional<int64_t> ulp;

  std::optional<Tolerance> tolerance() const {
    if (!absolute && !relative && !ulp) return std::nullopt;
    return Tolerance{absolute.value_or(Tolerance::kByDType), relative.value_or(Tolerance::kByDType), ulp.value_or(0)};
  }
};

Json comparison_json(const Comparison& c) {
  const auto finite = [](double v) -> Json { return std::isfinite(v) ? Json(v) : Json(v > 0 ? "inf" : "nan"); };
  return {{"output", c.name},
          {"dtype", to_string(c.dtype)},
          {"shape", c.shape},
          {"pass", c.pass},
          {"reason", c.reason},
          {"max_absolute", finite(c.max_absolute)},
          {"max_relative", finite(c.max_relative)},
          {"max_ulp", finite(c.max_ulp)},
          {"cosine", finite(c.cosine)},
          {"out_of_tolerance", c.out_of_tolerance},
          {"worst_index", c.worst},
          {"got", c.got},
          {"expected", c.expected}};
}

int report(const Options& o, const std::vector<CaseResult>& results, const std::string& what,
           const std::vector<std::pair<std::string, std::string>>& skipped = {}) {
  Json j{{"model", o.model.model}, {"compared", what}, {"cases", Json::array()}};
  bool pass = true;
  Table table("lllrrrrlrrl", {"case", "output", "shape", "max abs", "max rel", "ulp", "cosine", "worst at", "got", "expected", "verdict"});
  for (const CaseResult& r : results) {
    pass = pass && r.pass;
    Json entry{{"case", r.name}, {"pass", r.pass}, {"outputs", Json::array()}};
    for (const Comparison& c : r.outputs) {
      entry["outputs"].push_back(comparison_json(c));
      table.row({r.name, c.name, to_string(c.shape), fmt::format("{:.3g}", c.max_absolute), fmt::format("{:.3g}", c.max_relative),
                 fmt::format("{:.0f}", c.max_ulp), fmt::format("{:.9f}", c.cosine), fmt::format("[{}]", fmt::join(c.worst, ",")), c.got,
                 c.expected, c.pass ? "agrees" : "DIFFERS: " + c.reason});
    }
    j["cases"].push_back(std::move(entry));
  }
  for (const auto& [name, why] : skipped) {
    table.row({name, "", "", "", "", "", "", "", "", "", "skipped: " + why});
    j["skipped"].push_back({{"case", name}, {"reason", why}});
  }
  pass = pass && !results.empty();
  j["pass"] = pass;
  write_json(o.model.json, j);
  if (for_people(o.model.json)) {
    fmt::print("{}\n{}", what, table.text(""));
    const Tolerance t = tolerance_for(DType::f32, o.tolerance());
    fmt::print("tolerance{}: {:g} absolute + {:g} relative{}\n", o.absolute && o.relative ? "" : " for f32", t.absolute, t.relative,
               t.ulp ? fmt::format(", or {} ulp", t.ulp) : "");
    fmt::print("{}\n", results.empty() ? "PARITY FAILED: every case was skipped"
                       : !pass         ? "PARITY FAILED"
                       : skipped.empty()
                           ? "PARITY: every output agrees"
                           : fmt::format("PARITY: every output agrees; {} case{} skipped", skipped.size(), skipped.size() == 1 ? "" : "s"));
  }
  return pass ? kGood : kCheckFailed;
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
std::string not_held(const Options& o, const Program& program, const Case& c) {
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

int run_suite_command(const Options& o) {
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

}  // namespace

Command add_parity(CLI::App& app) {
  auto o = std::make_shared<Options>();
  o->model.add_to(app, false);
  app.add_option("--cases", o->cases, "Folder with test_data_set_N/input_K.pb and output_K.pb (the model's own folder)")->type_name("DIR");
  app.add_option("--npz-inputs", o->inputs, "Inputs of one case, by name")->type_name("FILE");
  app.add_option("--npz-outputs", o->outputs, "Outputs expected of them, by name")->type_name("FILE");
  app.add_flag("--against-plain", o->against_plain, "Compare the compiled program with plain evaluation on random inputs");
  app.add_option("--seed", o->seed, "Seed of the random inputs (1)")->type_name("N");
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
  o->model.add_limits(app);
  app.footer(
      "An element agrees when |got - expected| <= absolute + relative * |expected|. NaN agrees with NaN only.\nExit code 1 when anything "
      "disagrees.");
  return [o] {
    if (o->against_plain && (!o->cases.empty() || !o->inputs.empty()))
      throw UsageError("--against-plain makes its own inputs: leave out --cases, --npz-inputs and --npz-outputs");
    if (!o->cases.empty() && !o->inputs.empty()) throw UsageError("--cases and --npz-inputs are two ways to say the same: give one");
    std::vector<std::string> read{o->model.model, o->inputs, o->outputs, o->exceptions};
    check_target("--json", o->model.json, {"JSON"}, read);
    if (!o->suite.empty()) {
      if (!o->model.model.empty()) throw UsageError("--suite takes no MODEL");
      return run_suite_command(*o);
    }
    if (o->model.model.empty()) throw UsageError("MODEL is missing (or --suite DIR); see 'lathe parity --help'");
    if (o->inputs.empty() != o->outputs.empty()) throw UsageError("--npz-inputs and --npz-outputs go together");
    Graph graph = o->model.load_graph();
    CompileOptions options = o->model.compile_options(graph);
    std::vector<CaseResult> results;
    if (o->against_plain && o->model.archived())
      throw UsageError(fmt::format("--against-plain: {} holds no nodes to evaluate plainly; check the model itself", o->model.model));
    if (o->against_plain) {
      CompileOptions plain_options = options;
      plain_options.plain = true;
      const Program compiled = o->model.make_program(graph, options), plain = o->model.make_program(graph, plain_options);
      const auto inputs = random_inputs(compiled, o->model.shapes_for(compiled, options), o->seed);
      Lane a(compiled, o->model.threads), b(plain, 1);
      RunProgress slow("running");
      const RunOptions run = slow.on(o->model.run_options());
      const Outputs got = a.run(std::span<const Tensor>(inputs), run), expected = b.run(std::span<const Tensor>(inputs), run);
      CaseResult r{fmt::format("seed {}", o->seed), true, {}};
      for (size_t i = 0; i < got.size(); ++i) {
        r.outputs.push_back(compare(got.name(i), got[i], expected[i], o->tolerance()));
        r.pass = r.pass && r.outputs.back().pass;
      }
      return report(*o, {r}, "compiled against plain evaluation");
    }
    // Cases bring their own shapes: leave the batch open unless it was asked for.
    if (o->model.batch == 0 && o->model.dims.empty()) options.dims.clear();
    std::vector<Case> cases;
    if (!o->inputs.empty()) {
      cases.push_back(read_npz_case(o->inputs, o->outputs));
      check_names("--npz-inputs", o->inputs, cases[0].inputs, graph, true);
      check_names("--npz-outputs", o->outputs, cases[0].outputs, graph, false);
    } else cases = read_cases(o->cases.empty() ? fs::path(o->model.model).parent_path() : fs::path(o->cases), &graph);
    if (cases.empty())
      throw Error(Category::value,
                  fmt::format("{}: holds no test_data_set_0; give --cases DIR, --npz-inputs and --npz-outputs, or --against-plain",
                              o->cases.empty() ? "the model's folder" : o->cases));
    // Initializers that are inputs too, and that every case gives a value.
    for (const Default& d : graph.defaults) {
      const std::string& name = graph.values[d.value].name;
      const auto named = [&](const NamedTensor& t) { return t.name == name; };
      if (std::ranges::all_of(cases, [&](const Case& c) { return std::ranges::any_of(c.inputs, named); })) options.given.push_back(name);
    }
    Lane lane(o->model.make_program(std::move(graph), options), o->model.threads);
    RunProgress slow("running");
    std::vector<std::pair<std::string, std::string>> skipped;
    for (const Case& c : cases) {
      if (const std::string why = o->model.archived() ? not_held(*o, lane.program(), c) : ""; !why.empty()) {
        skipped.emplace_back(c.name, why);
        continue;
      }
      results.push_back(check_case(lane, c, o->tolerance(), slow.on(o->model.run_options())));
    }
    return report(*o, results, "compiled against reference outputs", skipped);
  };
}

}  // namespace lathe::cli
