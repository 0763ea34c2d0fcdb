#include "runtime/bodies.hpp"

#include <algorithm>

#include "base/fail.hpp"

namespace lathe::lower {
namespace {

std::shared_ptr<const CompiledBody> compiled(const ControlSite& site, const Graph& body, std::span<const Tensor> inputs,
                                             std::span<const std::pair<ValueId, Tensor>> outer, const CompileOptions& around) {
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
    const auto capture = std::ranges::find(site.node->captures, g.values[v].name, &Capture::name);
    if (!open_input(g.values[v], tensor)) return nullptr;
    if (site.constant[static_cast<size_t>(capture - site.node->captures.begin())]) {
      g.values[v].dims = Dims(tensor.shape().begin(), tensor.shape().end());
      g.values[v].constant = tensor;
    } else {
      captured.push_back(v);
      g.inputs.push_back(v);
    }
  }
  CompileOptions options = around;
  options.shapes.clear();  // these name the model's own inputs and outputs
  options.dims.clear();
  options.outputs.clear();
  options.given.clear();
  try {
    return std::make_shared<CompiledBody>(CompiledBody{compile(std::move(g), options), std::move(captured)});
  } catch (const Error&) {
    return nullptr;  // plain evaluation tells what is wrong, if this is ever run
  }
}

}  // namespace

std::vector<Tensor> CompiledBody::arguments(std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer) const {
  std::vector<Tensor> all(inputs.begin(), inputs.end());
  for (ValueId v : captured) all.push_back(std::ranges::find(outer, v, &std::pair<ValueId, Tensor>::first)->second);
  return all;
}

bool CompiledBody::steady(const Node& node, const Plan& plan) const {
  if (node.op == "If") return true;
  // Loop: trip and condition come in before what is carried, the condition goes out before it.
  const size_t in = node.op == "Loop" ? 2 : 0, out = node.op == "Loop" ? 1 : 0;
  const size_t scanned = node.op == "Scan" ? static_cast<size_t>(node.integer("num_scan_inputs", 0)) : 0;
  const size_t own = plan.input_shapes.size() - captured.size();
  for (size_t i = 0; in + i + scanned < own; ++i) {
    if (out + i >= plan.output_shapes.size() || plan.output_shapes[out + i] != plan.input_shapes[in + i]) return false;
  }
  return true;
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
  return made_[body.get()] = compiled(site, *body, inputs, outer, options);
}

void CompiledBodies::give_up(const Graph& body) {
  const std::lock_guard lock(mutex_);
  made_[&body] = nullptr;
}

}  // namespace lathe::lower
