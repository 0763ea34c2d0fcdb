// Where the digits go: what each step adds to the error of the result; and how far a result is from the exact one.
#include <algorithm>
#include <cmath>
#include <set>

#include "base/fail.hpp"
#include "lathe/divergence.hpp"
#include "parity/net.hpp"
#include "parity/unrounded.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// What an injected error comes to at the outputs is read off differences that later steps' own rounding must not drown.
constexpr double kInjected = 1e-3;

double worst_error(const Outputs& got, const std::vector<Tensor>& exact) {
  double worst = 0;
  for (size_t i = 0; i < exact.size(); ++i) {
    if (!exact[i].empty()) worst = std::max(worst, parting::error_of(got[i], exact[i]));
  }
  return worst;
}

// exact + times * (got - exact), as the type that the program holds.
Tensor magnified(const Tensor& got, const Tensor& exact, double times) {
  const auto a = widen<double>(got), b = widen<double>(exact);
  std::vector<double> out(a.size());
  for (size_t i = 0; i < a.size(); ++i) out[i] = b[i] + times * (a[i] - b[i]);
  return narrow<double>(got.dtype(), got.shape(), out);
}

bool usable(const Tensor& got, const Tensor& exact) {
  return !got.composite() && is_float(got.dtype()) && is_float(exact.dtype()) && got.shape() == exact.shape();
}

// Number of the program's step that holds a node, by the node's name.
int step_of(const EditionInfo& edition, const std::string& node) {
  for (const NodeInfo& n : edition.nodes) {
    if (n.step >= 0 && (n.label == node || std::ranges::find(n.merged, node) != n.merged.end())) return n.step;
  }
  return -1;
}

// One run after another of a program that rounds nowhere but where it is told to, on the exact values.
class Budgeting {
 public:
  Budgeting(const parting::Net& net, const parting::Unrounded& model, const CompileOptions& options, const WalkOptions& asked)
      : net_(net),
        model_(model),
        options_(asked),
        outputs_(net.graph().outputs.size()),
        program_(compile(looked_at(), options)),
        lane_(program_) {}

  const Program& program() const { return program_; }

  // Names that a run makes and the exact model has.
  std::set<std::string> names(std::span<const Tensor> inputs, const parting::Exact& exact) {
    std::set<std::string> named;
    const Outputs first = run(inputs, [&](MadeValue& v) {
      const std::string name = net_.model_name(v.name());
      if (is_float(v.dtype()) && exact.has(name)) named.insert(name);
    });
    for (size_t i = 0; i < outputs_; ++i) {
      if (exact.has(first.name(i))) named.insert(first.name(i));
    }
    return named;
  }

  // Every step on exact values: its own error; by step.
  std::map<int64_t, StepError> own_errors(std::span<const Tensor> inputs, const std::map<std::string, Tensor>& right) {
    std::map<int64_t, StepError> steps;
    for (size_t i = 0; i < inputs.size(); ++i) {
      const std::string& name = net_.name(net_.graph().inputs[i]);
      if (!model_.rounding.contains(name)) continue;
      StepError& step = steps[-1 - static_cast<int64_t>(i)];
      step.value = name;
      step.op = "QuantizeLinear";
      step.node = name;
      step.own = parting::error_of(rounded(name, inputs[i]), inputs[i]);
    }
    run(inputs, [&](MadeValue& v) {
      const std::string name = net_.model_name(v.name());
      const auto it = right.find(name);
      if (it == right.end()) return;
      const Tensor made = v.read();
      if (!usable(made, it->second)) return;
      const Tensor t = rounded(name, made);
      const double own = parting::error_of(t, it->second);
      const Tensor here = parting::as_type(it->second, t.dtype());
      // A view of what was just written is exact already: its error is not another one.
      if (!identical(made, here)) off_.insert(v.name());
      auto [step, fresh] = steps.try_emplace(static_cast<int64_t>(v.step()));
      if (fresh || own > step->second.own) {
        const ValueId id = net_.find(name);
        step->second.step = static_cast<int>(v.step());
        step->second.value = name;
        step->second.own = own;
        if (id != kAbsent && net_.maker(id) >= 0) {
          const Node& node = net_.graph().nodes[static_cast<size_t>(net_.maker(id))];
          step->second.node = label(net_.graph(), node);
          step->second.op = node.op;
        }
      }
      v.write(here);
    });
    return steps;
  }

  // A step's own error alone, magnified, followed to the outputs.
  double at_outputs(int64_t at, const StepError& step, std::span<const Tensor> inputs, const std::map<std::string, Tensor>& right,
                    const std::vector<Tensor>& wanted) {
    if (at < 0) {
      std::vector<Tensor> other(inputs.begin(), inputs.end());
      Tensor& in = other[static_cast<size_t>(-1 - at)];
      in = rounded(step.value, in);
      return worst_error(run(other, {}), wanted);
    }
    const double times = std::max(1.0, kInjected / step.own);
    const Outputs out = run(inputs, [&](MadeValue& v) {
      const auto step_here = static_cast<int64_t>(v.step());
      if (step_here > at || (step_here == at && !off_.contains(v.name()))) return;
      const std::string name = net_.model_name(v.name());
      const auto it = right.find(name);
      if (it == right.end()) return;
      const Tensor t = v.read();
      if (!usable(t, it->second)) return;
      v.write(step_here < at ? parting::as_type(it->second, t.dtype()) : magnified(rounded(name, t), it->second, times));
    });
    return worst_error(out, wanted) / times;
  }

 private:
  // Values that are rounded are outputs too, so that steps end there.
  Graph looked_at() const {
    Graph g = net_.graph();
    for (const auto& [name, rounding] : model_.rounding) {
      const ValueId v = net_.find(name);
      if (net_.maker(v) >= 0 && std::ranges::find(g.outputs, v) == g.outputs.end()) g.outputs.push_back(v);
    }
    return g;
  }

  Outputs run(std::span<const Tensor> inputs, std::function<void(MadeValue&)> look) {
    RunOptions r = options_.run;
    r.made = std::move(look);
    return lane_.run(inputs, r);
  }

  // What the model makes of a value before others read it.
  Tensor rounded(const std::string& name, const Tensor& t) const {
    const auto it = model_.rounding.find(name);
    return it == model_.rounding.end() ? t : evaluate_plain(it->second, std::vector<Tensor>{t}, options_.compile.limits)[0];
  }

  const parting::Net& net_;
  const parting::Unrounded& model_;
  const WalkOptions& options_;
  size_t outputs_;
  Program program_;
  Lane lane_;
  std::set<std::string> off_;
};

}  // namespace

ErrorBudget error_budget(const Graph& model, std::span<const Tensor> inputs, const WalkOptions& options, const Graph* exact_model) {
  CompileOptions compile_options = options.compile, exact_options = options.compile;
  const parting::Net written(model, compile_options);
  parting::refuse_random(written.graph());
  const auto tell = [&](const std::string& what) {
    if (options.progress) options.progress(what);
  };
  const parting::Unrounded unrounded = parting::unrounded(written.graph());
  const parting::Net net(unrounded.graph, compile_options);
  Budgeting budgeting(net, unrounded, compile_options, options);

  const parting::Net exact_net(exact_model ? *exact_model : unrounded.graph, exact_options);
  parting::Exact exact(exact_net.graph(), inputs, options.run, compile_options.limits);
  const std::set<std::string> named = budgeting.names(inputs, exact);
  const std::vector<std::string> names(named.begin(), named.end());
  tell(fmt::format("plain evaluation in double of {} values", names.size()));
  const std::map<std::string, Tensor> right = exact.values(names);
  // As it is, with all that it rounds.
  const Program program = unrounded.rounding.empty() ? budgeting.program() : compile(written.graph(), compile_options);
  const Outputs out = Lane(program).run(inputs, options.run);
  std::vector<Tensor> wanted;
  for (size_t i = 0; i < out.size(); ++i) {
    const auto it = right.find(out.name(i));
    wanted.push_back(it == right.end() ? Tensor() : it->second);
  }
  if (std::ranges::all_of(wanted, &Tensor::empty))
    fail(Category::value, "no output of the exact model bears the name of one of this model's: {}", fmt::join(names, ", "));

  ErrorBudget budget;
  budget.total = worst_error(out, wanted);
  tell("every step on exact values");
  auto steps = budgeting.own_errors(inputs, right);
  size_t done = 0;
  double squares = 0;
  for (auto& [at, step] : steps) {
    tell(fmt::format("step {} of {}: its own error at the outputs", ++done, steps.size()));
    if (step.own == 0 || !std::isfinite(step.own)) continue;
    step.at_output = budgeting.at_outputs(at, step, inputs, right, wanted);
    if (std::isfinite(step.at_output)) squares += step.at_output * step.at_output;
  }
  std::vector<Shape> shapes;
  for (const Tensor& t : inputs) shapes.push_back(t.shape());
  const EditionInfo edition = program.describe(shapes);
  for (auto& [at, step] : steps) {
    step.share = squares > 0 && std::isfinite(step.at_output) ? step.at_output * step.at_output / squares : 0;
    // Without its roundings the program has other steps than as it is.
    if (!unrounded.rounding.empty()) step.step = step_of(edition, step.node);
    budget.steps.push_back(std::move(step));
  }
  std::ranges::stable_sort(budget.steps, [](const StepError& a, const StepError& b) { return a.share > b.share; });
  budget.expected = std::sqrt(squares);
  budget.steps_in_all = static_cast<int>(edition.steps.size());
  return budget;
}

std::vector<Distance> distances_to_double(const Graph& model, std::span<const Tensor> inputs, const WalkOptions& options, double allowed) {
  CompileOptions compile_options = options.compile;
  const parting::Net net(model, compile_options);
  parting::refuse_random(net.graph());
  Lane lane(compile(net.graph(), compile_options));
  const Outputs compiled = lane.run(inputs, options.run);
  if (options.progress) options.progress("plain evaluation in the model's own types");
  const parting::Watched watched(options.run, compile_options.limits);
  const auto plain = evaluate_plain(net.graph(), inputs, watched.limits());
  std::vector<std::string> names;
  for (size_t i = 0; i < compiled.size(); ++i) names.push_back(compiled.name(i));
  if (options.progress) options.progress("plain evaluation in double");
  parting::Exact exact(net.graph(), inputs, options.run, compile_options.limits);
  const auto right = exact.values(names);
  std::vector<Distance> out;
  for (size_t i = 0; i < names.size(); ++i) {
    Distance d;
    d.output = names[i];
    d.compiled = parting::error_of(compiled[i], right.at(names[i]));
    d.plain = parting::error_of(plain[i], right.at(names[i]));
    d.pass = d.compiled <= std::max(allowed * d.plain, parting::floor_of(compiled[i].dtype()));
    out.push_back(d);
  }
  return out;
}

}  // namespace lathe
