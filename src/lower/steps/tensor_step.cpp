#include "lower/steps/tensor_step.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cstring>
#include <utility>

#include "lathe/op.hpp"
#include "ops/internal_ops.hpp"
#include "ops/operands.hpp"

namespace lathe::lower {
namespace {

// Of a part: the node of the model in it that makes the output.
std::string label_of_maker(const Graph& graph, const Node& node, size_t output) {
  if (!ops::is_part(node)) return label(graph, node);
  const auto& body = *node.find<std::shared_ptr<Graph>>("body");
  const auto makes = [&](const Node& n) { return std::ranges::find(n.outputs, body->outputs.at(output)) != n.outputs.end(); };
  const auto maker = std::ranges::find_if(body->nodes, makes);
  return maker == body->nodes.end() ? label(graph, node) : label(*body, *maker);
}

}  // namespace

void TensorKernel::bind(PlanBuilder& b, Step& step, const Node& n) {
  graph = b.shared_graph();
  node = &n;
  step.reads_tensors = true;
  const auto source = [&](ValueId v) {
    Source s;
    s.value = v;
    if (v == kAbsent) return s;
    if (b.is_constant(v)) {
      s.constant = b.constant(v);
      b.keep_original(v);
    } else if (b.is_static(v)) {
      s.location = b.contiguous(v, Layout::natural);
      step.reads.push_back(s.location.buffer);
    } else {
      s.dynamic = true;
    }
    return s;
  };
  for (ValueId v : n.inputs) sources_.push_back(source(v));
  for (const Capture& c : n.captures) captures_.push_back(source(c.value));
  for (ValueId v : n.outputs) {
    Target t;
    t.value = v;
    if (v != kAbsent) {
      t.dynamic = !b.is_static(v);
      step.keeps |= t.dynamic;
      if (!t.dynamic) {
        t.location = b.define(v, Layout::natural);
        step.writes.push_back(t.location.buffer);
      }
    }
    targets_.push_back(t);
  }
}

void TensorKernel::run(const StepContext& c) const {
  const std::vector<Tensor> inputs = fetch(c, sources_), captured = fetch(c, captures_);
  std::vector<Tensor> before(targets_.size());
  for (size_t i = 0; i < targets_.size(); ++i) {
    if (targets_[i].dynamic) before[i] = std::exchange(c.tensors[targets_[i].value], Tensor());
  }
  auto results = make(c, inputs, captured, before);
  for (size_t i = 0; i < targets_.size(); ++i) {
    const Target& t = targets_[i];
    if (t.value == kAbsent) continue;
    if (i >= results.size())
      throw Error(
          {{Category::internal, label(*graph, *node), fmt::format("gave {} outputs, expected {}", results.size(), targets_.size())}});
    Tensor& r = results[i];
    if (t.dynamic) {
      // A view of an input would not outlive the input's memory in the arena.
      c.tensors[t.value] = r.owned() ? std::move(r) : r.clone();
      continue;
    }
    const Value& v = graph->values[t.value];
    // What the values decide agrees with inference (evaluate_node looks); what the model itself declares may be wrong.
    if (r.shape() != *known_shape(v.dims) || r.dtype() != v.dtype) {
      throw Error({{Category::shape, label_of_maker(*graph, *node, i),
                    fmt::format("gives {} of {} for '{}', the model declares {} of {}", to_string(r.dtype()), to_string(r.shape()), v.name,
                                to_string(v.dtype), to_string(*v.dims))}});
    }
    if (r.byte_size() > 0) std::memcpy(pointer<void>(c, t.location), r.data(), r.byte_size());
  }
}

void TensorKernel::check(std::span<const Tensor> inputs) const {
  const auto version = static_cast<int>(graph->version_of(*node));
  const OpDef* def = find_op(node->domain, node->op, version);
  if (def == nullptr || def->statement == nullptr) return;
  try {
    ops::check_statement(*def->statement, InferContext(*node, version, inputs));
  } catch (const Error& e) {
    throw Error({{e.category(), label(*graph, *node), e.what()}});
  }
}

void add_tensor_step(PlanBuilder& b, const Match& m, std::unique_ptr<TensorKernel> kernel, const char* text) {
  Step step = begin_step(b, m);
  step.can_fail = true;
  step.text = text;
  kernel->bind(b, step, m.node());
  step.kernel = std::move(kernel);
  b.add(std::move(step));
}

Tensor TensorKernel::memory(DType dtype, const Shape& shape, Tensor& before) {
  if (!before.empty() && !before.composite() && before.owned() && before.holders() == 1 && before.dtype() == dtype &&
      before.shape() == shape) {
    std::atomic_thread_fence(std::memory_order_acquire);  // whoever let go of it last has read it before
    return std::move(before);
  }
  return Tensor(dtype, shape);
}

std::vector<Tensor> TensorKernel::fetch(const StepContext& c, const std::vector<Source>& from) const {
  std::vector<Tensor> out;
  for (const Source& s : from) {
    if (s.value == kAbsent) out.emplace_back();
    else if (s.constant) out.push_back(*s.constant);
    else if (s.dynamic) out.push_back(c.tensors[s.value]);
    else
      out.push_back(Tensor::borrow(graph->values[s.value].dtype, *known_shape(graph->values[s.value].dims), pointer<void>(c, s.location)));
  }
  return out;
}

}  // namespace lathe::lower
