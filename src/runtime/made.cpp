#include "runtime/made.hpp"

#include <algorithm>
#include <cstring>

#include "base/fail.hpp"
#include "lower/plan/copies.hpp"

namespace lathe {
namespace {

using lower::Location;

class Shown : public MadeValue {
 public:
  Shown(const lower::Plan& plan, const lower::StepContext& context, size_t buffers, size_t step, ValueId v)
      : plan_(plan),
        context_(context),
        buffers_(buffers),
        step_(step),
        v_(v),
        value_(plan.graph->values[static_cast<size_t>(v)]),
        location_(plan.locations[static_cast<size_t>(v)]) {}

  size_t step() const override { return step_; }
  const std::string& name() const override { return value_.name; }
  DType dtype() const override { return dynamic() ? context_.tensors[v_].dtype() : value_.dtype; }

  Tensor read() const override {
    if (dynamic()) return context_.tensors[v_].clone();
    Tensor out(value_.dtype, *known_shape(value_.dims));
    copy(out, false);
    return out;
  }

  void write(const Tensor& t) override {
    const Shape shape = dynamic() ? context_.tensors[v_].shape() : *known_shape(value_.dims);
    if (t.composite() || t.dtype() != dtype())
      fail(Category::type, "value '{}' is {}, cannot be written as {}", name(), to_string(dtype()), to_string(t.dtype()));
    if (t.shape() != shape)
      fail(Category::shape, "value '{}' is {}, cannot be written as {}", name(), to_string(shape), to_string(t.shape()));
    if (dynamic()) {
      context_.tensors[v_] = t.clone();
    } else {
      Tensor same = t;
      copy(same, true);
    }
  }

 private:
  bool dynamic() const { return plan_.dynamic[static_cast<size_t>(v_)]; }

  void copy(Tensor& other, bool in) const {
    const Shape& shape = other.shape();
    if (other.byte_size() == 0) return;
    const std::vector<int64_t> here = lower::strides_at(location_, shape), natural = lower::logical_strides(shape, lower::Layout::natural);
    const int bytes = lower::copy_bytes(value_.dtype);
    if (bytes == 0 || here == natural) {
      // Packed elements are never strided: what copies them would have to take bytes apart.
      std::byte* at = lower::pointer<std::byte>(context_, location_);
      if (in) std::memcpy(at, other.data(), other.byte_size());
      else std::memcpy(other.data(), at, other.byte_size());
      return;
    }
    std::vector<std::byte*> buffers(context_.buffers, context_.buffers + buffers_);
    Location there;
    there.buffer = static_cast<lower::BufferId>(buffers.size());
    buffers.push_back(static_cast<std::byte*>(const_cast<void*>(static_cast<const void*>(other.data()))));
    lower::CopyKernel kernel;
    kernel.parts.push_back(in ? lower::copy_part(bytes, shape, natural, here, there, 0, location_)
                              : lower::copy_part(bytes, shape, here, natural, location_, 0, there));
    kernel.run({buffers.data(), context_.tensors, context_.workers, nullptr});
  }

  const lower::Plan& plan_;
  const lower::StepContext& context_;
  size_t buffers_, step_;
  ValueId v_;
  const Value& value_;
  const Location& location_;
};

}  // namespace

MadeValues::MadeValues(const lower::Plan& plan) : plan_(plan), by_step_(plan.steps.size()) {
  const Graph& g = *plan.graph;
  std::vector<std::vector<int>> steps_of(g.nodes.size());
  for (size_t s = 0; s < plan.steps.size(); ++s) {
    for (int n : plan.steps[s].members) steps_of[static_cast<size_t>(n)].push_back(static_cast<int>(s));
  }
  // By value: the step after which it is whole. Nodes without a step are views, or a Concat whose parts are made in its memory.
  std::vector<int> made(g.values.size(), -1);
  for (size_t n = 0; n < g.nodes.size(); ++n) {
    int from_inputs = -1;
    for (ValueId v : g.nodes[n].inputs) {
      if (v != kAbsent) from_inputs = std::max(from_inputs, made[static_cast<size_t>(v)]);
    }
    for (ValueId v : g.nodes[n].outputs) {
      if (v == kAbsent) continue;
      int step = -1;
      for (int s : steps_of[n]) {
        const auto& writes = plan.steps[static_cast<size_t>(s)].writes;
        if (plan.dynamic[static_cast<size_t>(v)] ||
            std::ranges::find(writes, plan.locations[static_cast<size_t>(v)].buffer) != writes.end())
          step = s;
      }
      made[static_cast<size_t>(v)] = step >= 0 ? step : from_inputs;
    }
  }
  for (size_t v = 0; v < g.values.size(); ++v) {
    if (made[v] < 0 || g.values[v].constant) continue;
    if (!plan.dynamic[v]) {
      const lower::BufferId b = plan.locations[v].buffer;
      if (b == lower::kNoBuffer) continue;
      const auto kind = plan.buffers[static_cast<size_t>(b)].kind;
      if (kind != lower::Buffer::Kind::arena && kind != lower::Buffer::Kind::output) continue;
    }
    by_step_[static_cast<size_t>(made[v])].push_back(static_cast<ValueId>(v));
  }
}

void MadeValues::show(size_t step, const lower::StepContext& context, size_t buffers, const std::function<void(MadeValue&)>& look) const {
  for (ValueId v : by_step_[step]) {
    Shown value(plan_, context, buffers, step, v);
    look(value);
  }
}

}  // namespace lathe
