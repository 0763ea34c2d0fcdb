// Where the digits go: what each step adds to the error of the result; and how far a result is from the exact one.
#include <algorithm>
#include <cmath>
#include <set>

#include "base/fail.hpp"
#include "lathe/divergence.hpp"
#include "parity/net.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// What an injected error comes to at the outputs is read off differences that later steps' own rounding must not drown.
constexpr double kInjected = 1e-3;

double worst_error(const Outputs& got, const std::vector<Tensor>& exact) {
  double worst = 0;
  for (size_t i = 0; i < got.size(); ++i) {
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

}  // namespace

ErrorBudget error_budget(const Graph& model, std::span<const Tensor> inputs, const WalkOptions& options, const Graph* exact_model) {
  CompileOptions compile_options = options.compile, exact_options = options.compile;
  const parting::Net net(model, compile_options);
  parting::refuse_random(net.graph());
  const auto tell = [&](const std::string& what) {
    if (options.progress) options.progress(what);
  };
  const Program program = compile(net.graph(), compile_options);
  Lane lane(program);
  RunOptions look = options.run;

  const parting::Net exact_net(exact_model ? *exact_model : model, exact_options);
  parting::Exact exact(exact_net.graph(), inputs, options.run, compile_options.limits);
  std::set<std::string> named;
  look.made = [&](MadeValue& v) {
    const std::string name = net.model_name(v.name());
    if (is_float(v.dtype()) && exact.has(name)) named.insert(name);
  };
  const Outputs first = lane.run(inputs, look);
  std::vector<Tensor> got;
  for (size_t i = 0; i < first.size(); ++i) {
    got.push_back(first[i]);
    if (exact.has(first.name(i))) named.insert(first.name(i));
  }
  const std::vector<std::string> names(named.begin(), named.end());
  tell(fmt::format("plain evaluation in double of {} values", names.size()));
  const std::map<std::string, Tensor> right = exact.values(names);
  std::vector<Tensor> wanted;
  for (size_t i = 0; i < first.size(); ++i) {
    const auto it = right.find(first.name(i));
    wanted.push_back(it == right.end() ? Tensor() : it->second);
  }
  if (std::ranges::all_of(wanted, &Tensor::empty))
    fail(Category::value, "no output of the exact model bears the name of one of this model's: {}", fmt::join(names, ", "));

  ErrorBudget budget;
  budget.total = worst_error(first, wanted);
  // Every step on exact values: its own error.
  tell("every step on exact values");
  std::map<size_t, StepError> steps;
  std::set<std::string> off;
  look.made = [&](MadeValue& v) {
    const auto it = right.find(net.model_name(v.name()));
    if (it == right.end()) return;
    const Tensor t = v.read();
    if (!usable(t, it->second)) return;
    const double own = parting::error_of(t, it->second);
    const Tensor here = parting::as_type(it->second, t.dtype());
    // A view of what was just written is exact already: its error is not another one.
    if (!identical(t, here)) off.insert(v.name());
    auto [step, fresh] = steps.try_emplace(v.step());
    if (fresh || own > step->second.own) {
      const ValueId id = net.find(net.model_name(v.name()));
      step->second.step = static_cast<int>(v.step());
      step->second.value = v.name();
      step->second.own = own;
      if (id != kAbsent && net.maker(id) >= 0) {
        const Node& node = net.graph().nodes[static_cast<size_t>(net.maker(id))];
        step->second.node = label(net.graph(), node);
        step->second.op = node.op;
      }
    }
    v.write(here);
  };
  lane.run(inputs, look);

  // Each step's own error alone, magnified, followed to the outputs.
  size_t done = 0;
  double squares = 0;
  for (auto& [at, step] : steps) {
    tell(fmt::format("step {} of {}: its own error at the outputs", ++done, steps.size()));
    if (step.own == 0 || !std::isfinite(step.own)) continue;
    const double times = std::max(1.0, kInjected / step.own);
    look.made = [&, at = at](MadeValue& v) {
      if (v.step() > at || (v.step() == at && !off.contains(v.name()))) return;
      const auto it = right.find(net.model_name(v.name()));
      if (it == right.end()) return;
      const Tensor t = v.read();
      if (!usable(t, it->second)) return;
      v.write(v.step() < at ? parting::as_type(it->second, t.dtype()) : magnified(t, it->second, times));
    };
    step.at_output = worst_error(lane.run(inputs, look), wanted) / times;
    if (std::isfinite(step.at_output)) squares += step.at_output * step.at_output;
  }
  for (auto& [at, step] : steps) {
    step.share = squares > 0 && std::isfinite(step.at_output) ? step.at_output * step.at_output / squares : 0;
    budget.steps.push_back(std::move(step));
  }
  std::ranges::stable_sort(budget.steps, [](const StepError& a, const StepError& b) { return a.share > b.share; });
  budget.expected = std::sqrt(squares);
  std::vector<Shape> shapes;
  for (const Tensor& t : inputs) shapes.push_back(t.shape());
  budget.steps_in_all = static_cast<int>(program.describe(shapes).steps.size());
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
