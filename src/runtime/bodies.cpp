#include "runtime/bodies.hpp"

#include <algorithm>

#include "base/fail.hpp"
#include "base/log.hpp"
#include "ops/arithmetic.hpp"
#include "ops/internal_attributes.hpp"
#include "runtime/program_impl.hpp"

namespace lathe::lower {
namespace {

size_t captured_as(const Node& node, const std::string& name) {
  return static_cast<size_t>(std::ranges::find(node.captures, name, &Capture::name) - node.captures.begin());
}

// Names of captures for whose numbers it is compiled.
std::vector<std::string> deciding(const Node& node) {
  std::vector<std::string> names;
  for (int64_t i : node.integers(ops::kDeciding)) names.push_back(node.captures.at(static_cast<size_t>(i)).name);
  return names;
}
bool among(const std::vector<std::string>& names, const std::string& name) { return std::ranges::find(names, name) != names.end(); }

std::shared_ptr<const CompiledBody> compiled(const ControlSite& site, const Graph& body, std::span<const Tensor> inputs,
                                             std::span<const std::pair<ValueId, Tensor>> outer, const CompileOptions& around,
                                             const std::vector<bool>& open) {
  const auto open_input = [](Value& v, const Tensor& t) {
    v.dtype = t.dtype();
    v.dims.reset();  // what is declared may hold for one trip only
    return !t.empty() && !t.composite();
  };
  const auto whole = deep_copy(body);
  Graph& g = *whole;
  for (size_t i = 0; i < inputs.size(); ++i) {
    if (!open_input(g.values[g.inputs[i]], inputs[i])) return nullptr;
  }
  std::vector<ValueId> captured;
  for (const auto& [v, tensor] : outer) {
    if (!open_input(g.values[v], tensor)) return nullptr;
    if (site.constant[captured_as(*site.node, g.values[v].name)]) {
      g.values[v].dims = Dims(tensor.shape().begin(), tensor.shape().end());
      g.values[v].constant = tensor;
    } else {
      captured.push_back(v);
      g.inputs.push_back(v);
    }
  }
  std::vector<ProgramImpl::Binding> bindings(g.inputs.size(), ProgramImpl::Binding::sizes);
  for (size_t i = 0; i < open.size(); ++i) {
    if (open[i]) bindings[i] = ProgramImpl::Binding::open;
  }
  const auto numbers = deciding(*site.node);
  for (size_t i = 0; i < captured.size(); ++i) {
    if (among(numbers, g.values[captured[i]].name)) bindings[inputs.size() + i] = ProgramImpl::Binding::numbers;
  }
  CompileOptions options = around;
  options.shapes.clear();  // these name the model's own inputs and outputs
  options.dims.clear();
  options.outputs.clear();
  options.given.clear();
  try {
    Program program(std::make_shared<ProgramImpl>(std::move(g), options, std::move(bindings)));
    return std::make_shared<CompiledBody>(CompiledBody{std::move(program), std::move(captured)});
  } catch (const Error& e) {
    log_line(LogLevel::warning, "a subgraph of {} goes node by node, which is slow: {}", label(body, *site.node), e.what());
    return nullptr;  // plain evaluation tells what is wrong, if this is ever run
  }
}

}  // namespace

std::vector<Tensor> CompiledBody::arguments(std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer) const {
  std::vector<Tensor> all(inputs.begin(), inputs.end());
  for (ValueId v : captured) all.push_back(std::ranges::find(outer, v, &std::pair<ValueId, Tensor>::first)->second);
  return all;
}

std::vector<size_t> CompiledBody::changing(const Node& node, const Plan& plan) const {
  if (node.op != "Loop" && node.op != "Scan") return {};
  std::vector<size_t> which;
  // Loop: trip and condition come in before what is carried, the condition goes out before it.
  const size_t in = node.op == "Loop" ? 2 : 0, out = node.op == "Loop" ? 1 : 0;
  const size_t scanned = node.op == "Scan" ? static_cast<size_t>(node.integer("num_scan_inputs", 0)) : 0;
  const size_t own = plan.input_shapes.size() - captured.size();
  for (size_t i = 0; in + i + scanned < own; ++i) {
    if (plan.dynamic[static_cast<size_t>(plan.graph->inputs[in + i])]) continue;
    if (out + i >= plan.output_shapes.size() || plan.output_shapes[out + i] != plan.input_shapes[in + i]) which.push_back(in + i);
  }
  return which;
}

CompiledBodies& CompiledBodies::of(const ControlSite& site) {
  std::call_once(site.once, [&] { site.compiled = std::make_shared<CompiledBodies>(); });
  return *site.compiled;
}

std::shared_ptr<const CompiledBody> CompiledBodies::get(const ControlSite& site, const std::shared_ptr<Graph>& body,
                                                        std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer,
                                                        const CompileOptions& options) {
  const std::lock_guard lock(mutex_);
  const auto it = made_.find(body.get());
  if (it != made_.end()) return it->second;
  return made_[body.get()] = compiled(site, *body, inputs, outer, options, {});
}

void CompiledBodies::open(const ControlSite& site, const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs,
                          std::span<const std::pair<ValueId, Tensor>> outer, const CompileOptions& options,
                          const std::vector<size_t>& which) {
  const std::lock_guard lock(mutex_);
  std::vector<bool>& open = open_[body.get()];
  const std::vector<bool> before = open;
  open.resize(inputs.size());
  log_line(LogLevel::info, "a subgraph of {}: what it carries changes its sizes; compiled again with these open", label(*body, *site.node));
  for (size_t i : which) open[i] = true;
  if (open != before) made_[body.get()] = compiled(site, *body, inputs, outer, options, open);
}

bool CompiledBodies::pays(const ControlSite& site, const Graph& body, std::span<const std::pair<ValueId, Tensor>> outer) {
  constexpr double kLeast = 1e5;  // operations that take about as long, plainly, as compiling a small graph does
  constexpr size_t kRemembered = 4096;
  const auto numbers = deciding(*site.node);
  std::vector<Shape> sizes;
  for (const auto& [v, tensor] : outer) {
    sizes.push_back(tensor.composite() || tensor.empty() ? Shape() : tensor.shape());
    if (among(numbers, body.values[static_cast<size_t>(v)].name)) append_numbers(sizes.back(), tensor);
  }
  const std::lock_guard lock(mutex_);
  const auto key = std::pair(&body, std::move(sizes));
  if (const auto it = pays_.find(key); it != pays_.end()) return it->second;
  if (pays_.size() >= kRemembered) pays_.clear();
  Graph g = body;
  for (const auto& [v, tensor] : outer) {
    Value& value = g.values[static_cast<size_t>(v)];
    if (tensor.composite() || tensor.empty()) continue;
    value.dtype = tensor.dtype();
    value.dims = Dims(tensor.shape().begin(), tensor.shape().end());
    if (site.constant[captured_as(*site.node, value.name)] || among(numbers, value.name)) value.constant = tensor;
  }
  double work = 0;
  try {
    infer(g);
    for (const Node& n : g.nodes) {
      const auto counted = ops::arithmetic(g, n);
      double made = 0;
      for (ValueId v : n.outputs) {
        const auto shape = v == kAbsent ? std::nullopt : known_shape(g.values[static_cast<size_t>(v)].dims);
        if (shape) made += static_cast<double>(element_count(*shape));
      }
      const bool unknown = !counted && !find_op(n.domain, n.op, g.version_of(n))->composites;
      work += unknown && made == 0 ? kLeast : std::max(counted.value_or(0), made);
    }
  } catch (const Error&) {
    work = 0;  // plain evaluation tells what is wrong
  }
  return pays_[key] = work >= kLeast;
}

void CompiledBodies::give_up(const Graph& body) {
  const std::lock_guard lock(mutex_);
  log_line(LogLevel::warning, "a subgraph was given up as a program: it goes node by node, which is slow");
  made_[&body] = nullptr;
}

}  // namespace lathe::lower
