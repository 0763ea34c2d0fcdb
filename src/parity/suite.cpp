#include <algorithm>
#include <random>

#include "base/fail.hpp"
#include "kernels/isa.hpp"
#include "lathe/op.hpp"
#include "lathe/parity.hpp"
#include "tensor/widen.hpp"

namespace lathe {

namespace fs = std::filesystem;

namespace {

// The standard's packaged cases store bfloat16 tensors as u16 bits, their models declare bf16.
Tensor as_declared(const Tensor& t, DType declared) {
  if (declared != DType::bf16 || t.dtype() != DType::u16) return t;
  Tensor same = t;
  return Tensor::share(DType::bf16, t.shape(), std::make_shared<Tensor>(t), same.data());
}

}  // namespace

std::vector<Case> read_cases(const fs::path& folder, const Graph* model) {
  const auto type = [&](const std::vector<ValueId>* list, int k) {
    return list && k < static_cast<int>(list->size()) ? type_of(model->values[(*list)[k]]) : Type();
  };
  std::vector<Case> cases;
  for (int set = 0;; ++set) {
    const fs::path dir = folder / fmt::format("test_data_set_{}", set);
    if (!fs::is_directory(dir)) break;
    Case c;
    c.name = dir.filename().string();
    for (const bool in : {true, false}) {
      const auto* declared = !model ? nullptr : in ? &model->inputs : &model->outputs;
      for (int k = 0; fs::exists(dir / fmt::format("{}_{}.pb", in ? "input" : "output", k)); ++k) {
        NamedTensor t = read_tensor_pb(dir / fmt::format("{}_{}.pb", in ? "input" : "output", k), type(declared, k));
        if (in) t.tensor = as_declared(t.tensor, type(declared, k).dtype);
        (in ? c.inputs : c.outputs).push_back(std::move(t));
      }
    }
    if (c.outputs.empty()) fail(Category::format, "{}: holds no output_0.pb to compare with", dir.string());
    cases.push_back(std::move(c));
  }
  return cases;
}

Case read_npz_case(const fs::path& inputs, const fs::path& outputs) {
  return {inputs.filename().string(), read_npz(inputs), read_npz(outputs)};
}

std::vector<Tensor> arrange_inputs(const Program& program, const Case& c) {
  const auto& ports = program.inputs();
  std::vector<Tensor> out(ports.size());
  std::vector<std::string> names;
  for (const Port& p : ports) names.push_back("'" + p.name + "'");
  const auto find = [&](const std::string& name) {
    return std::find_if(c.inputs.begin(), c.inputs.end(), [&](const NamedTensor& t) { return t.name == name; });
  };
  const bool by_name = std::all_of(ports.begin(), ports.end(), [&](const Port& p) { return find(p.name) != c.inputs.end(); });
  if (!by_name && c.inputs.size() != ports.size()) {
    fail(Category::value, "case {} has {} inputs, the model takes {}: {}", c.name, c.inputs.size(), ports.size(), fmt::join(names, ", "));
  }
  for (size_t i = 0; i < ports.size(); ++i)
    out[i] = as_declared(by_name ? find(ports[i].name)->tensor : c.inputs[i].tensor, ports[i].dtype);
  return out;
}

CaseResult check_outputs(const Program& program, const Outputs& got, const Case& c, const Tolerances& tolerances) {
  CaseResult result{c.name, true, {}};
  const auto& ports = program.outputs();
  const bool by_name = std::any_of(c.outputs.begin(), c.outputs.end(), [&](const NamedTensor& t) {
    return std::any_of(ports.begin(), ports.end(), [&](const Port& p) { return p.name == t.name; });
  });
  for (size_t i = 0; i < c.outputs.size(); ++i) {
    const NamedTensor& expected = c.outputs[i];
    size_t at = i;
    if (by_name) {
      at = std::find_if(ports.begin(), ports.end(), [&](const Port& p) { return p.name == expected.name; }) - ports.begin();
    }
    Comparison comparison;
    if (at >= got.size()) {
      comparison.name = expected.name;
      comparison.reason = fmt::format("the model has no output '{}'", expected.name);
    } else {
      comparison =
          compare(ports[at].name, got[at], as_declared(expected.tensor, got[at].dtype()), tolerances.of(ports[at].name, got[at].dtype()));
    }
    result.pass = result.pass && comparison.pass;
    result.outputs.push_back(std::move(comparison));
  }
  return result;
}

CaseResult check_case(Lane& lane, const Case& c, const Tolerances& tolerances, const RunOptions& run) {
  const Program& program = lane.program();
  const Outputs got = lane.run(std::span<const Tensor>(arrange_inputs(program, c)), run);
  return check_outputs(program, got, c, tolerances);
}

std::vector<Tensor> random_inputs(const Program& program, const std::vector<Shape>& shapes, uint64_t seed) {
  std::mt19937_64 random(seed);
  std::vector<Tensor> out;
  for (size_t i = 0; i < shapes.size(); ++i) {
    const Port& port = program.inputs()[i];
    const DType dtype = port.dtype;
    const int64_t n = element_count(shapes[i]);
    if (port.composite)
      fail(Category::unsupported, "input '{}' is {}: random ones mean nothing, give it a value", port.name, to_string(*port.composite));
    if (dtype == DType::string) fail(Category::unsupported, "input '{}' is strings: random ones mean nothing, give it a value", port.name);
    std::vector<double> v(n);
    std::uniform_real_distribution<double> real(-1, 1);
    std::uniform_int_distribution<int> small(0, dtype == DType::boolean ? 1 : 7);
    for (double& e : v) e = is_float(dtype) ? real(random) : small(random);
    out.push_back(narrow<double>(dtype, shapes[i], v));
  }
  return out;
}

namespace {

// Whether results differ from run to run.
bool draws(const Graph& g) {
  return std::ranges::any_of(g.nodes, [&](const Node& n) {
    const OpDef* d = find_op(n.domain, n.op, g.version_of(n));
    bool found = d != nullptr && !d->pure;
    n.each_subgraph([&](const auto& sub) { found = found || draws(*sub); });
    return found;
  });
}

SuiteEntry run_folder(const fs::path& folder, const std::string& name, const SuiteOptions& options) {
  SuiteEntry entry{name, Verdict::passed, ""};
  try {
    Graph graph = load(folder / "model.onnx");
    const std::vector<Case> cases = read_cases(folder, &graph);
    if (cases.empty()) fail(Category::format, "{}: no test_data_set_0", folder.string());
    // Inputs with a value of their own that the cases give another.
    std::vector<std::string> given;
    for (const Default& d : graph.defaults) {
      const std::string& name = graph.values[d.value].name;
      const auto named = [&](const NamedTensor& t) { return t.name == name; };
      if (std::ranges::all_of(cases, [&](const Case& c) { return std::ranges::any_of(c.inputs, named); })) given.push_back(name);
    }
    // A few packaged models declare another shape than their case has (CastLike's second input): the case is right.
    for (size_t i = 0; i < graph.inputs.size() && i < cases[0].inputs.size(); ++i) {
      Value& v = graph.values[graph.inputs[i]];
      const Tensor& t = cases[0].inputs[i].tensor;
      const auto declared = known_shape(v.dims);
      if (declared && *declared != t.shape() && v.name == cases[0].inputs[i].name) v.dims = Dims(t.shape().begin(), t.shape().end());
    }
    std::vector<std::string> isas = options.isas;
    if (isas.empty()) isas.emplace_back(kernels::name(kernels::best()));
    struct Path {
      std::string name;
      CompileOptions compile;
    };
    std::vector<Path> paths;
    if (options.plain) {
      paths.push_back({"plain", {}});
      paths.back().compile.plain = true;
      paths.back().compile.threads = 1;
    }
    for (const std::string& isa : isas) {
      for (int threads : options.threads) {
        Path p{fmt::format("{}, {} thread{}", isa, threads, threads == 1 ? "" : "s"), {}};
        p.compile.isa = isa;
        p.compile.threads = threads;
        paths.push_back(std::move(p));
      }
    }
    const bool random = draws(graph);
    for (const Path& path : paths) {
      CompileOptions options_here = path.compile;
      options_here.given = given;
      Lane lane(compile(graph, options_here));
      for (const Case& c : cases) {
        CaseResult r = check_case(lane, c, options.tolerance);
        if (random) {
          for (Comparison& o : r.outputs) {
            // compare() counts elements out of tolerance only once dtype and shape agree.
            o.pass = o.pass || o.out_of_tolerance > 0;
          }
          r.pass = std::ranges::all_of(r.outputs, &Comparison::pass);
          entry.reason = "random: dtype and shape compared";
        }
        if (r.pass) continue;
        const auto bad = std::find_if(r.outputs.begin(), r.outputs.end(), [](const Comparison& o) { return !o.pass; });
        entry.verdict = Verdict::failed;
        entry.reason = fmt::format("{} [{}]: output '{}': {}", c.name, path.name, bad->name, bad->reason);
        return entry;
      }
    }
  } catch (const Error& e) {
    // Only when nothing but missing support stands in the way.
    const bool unsupported =
        std::all_of(e.faults().begin(), e.faults().end(), [](const Fault& f) { return f.category == Category::unsupported; });
    entry.verdict = unsupported ? Verdict::skipped : Verdict::failed;
    std::string text = e.what();
    std::replace(text.begin(), text.end(), '\n', ' ');
    entry.reason = std::move(text);
  }
  return entry;
}

}  // namespace

std::vector<SuiteEntry> run_suite(const fs::path& root, const SuiteOptions& options) {
  if (!fs::is_directory(root)) fail(Category::value, "{}: no such folder", root.string());
  std::vector<fs::path> folders;
  for (const auto& e : fs::recursive_directory_iterator(root, fs::directory_options::skip_permission_denied)) {
    if (e.path().filename() == "model.onnx" && fs::is_directory(e.path().parent_path() / "test_data_set_0") &&
        e.path().string().find(options.filter) != std::string::npos) {
      folders.push_back(e.path().parent_path());
    }
  }
  std::sort(folders.begin(), folders.end());
  if (folders.empty()) fail(Category::value, "{}: no folder below it holds model.onnx and test_data_set_0", root.string());
  std::vector<SuiteEntry> entries;
  for (const auto& folder : folders) {
    entries.push_back(run_folder(folder, folder.lexically_relative(root).string(), options));
    SuiteEntry& e = entries.back();
    if (!options.exceptions.empty()) {
      const auto it = options.exceptions.find(e.name);
      if (it == options.exceptions.end() && e.verdict == Verdict::skipped) {
        e.verdict = Verdict::failed;
      } else if (it != options.exceptions.end() && e.verdict == Verdict::passed) {
        e.verdict = Verdict::failed;
        e.reason = fmt::format("is listed as an exception ({}), but passes", it->second);
      } else if (it != options.exceptions.end()) {
        e.verdict = Verdict::excluded;
        e.reason = it->second;
      }
    }
    if (options.progress) options.progress(entries.back(), entries.size(), folders.size());
  }
  return entries;
}

}  // namespace lathe
