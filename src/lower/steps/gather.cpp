// Gather: entries of one axis by indices, which are looked at before anything is read.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

class GatherKernel : public StepKernel {
 public:
  Location data, indices, output;
  Location places;   // scratch: the indices of single elements, from the front and short, looked at once for all rows
  bool wide = true;  // i64 indices, else i32
  int64_t outer = 0, axis_size = 0, inner_bytes = 0, count = 0, element_bytes = 1;
  std::string where;

  int64_t index(const StepContext& c, int64_t i) const {
    const int64_t v = wide ? pointer<const int64_t>(c, indices)[i] : pointer<const int32_t>(c, indices)[i];
    return v < 0 ? v + axis_size : v;
  }

  void run(const StepContext& c) const override {
    auto* at_once = single() ? pointer<int32_t>(c, places) : nullptr;
    for (int64_t i = 0; i < count; ++i) {
      const int64_t at = index(c, i);
      if (at_once) at_once[i] = static_cast<int32_t>(at);
      if (at < 0 || at >= axis_size)
        throw Error(
            {{Category::value, where, fmt::format("index {} is outside an axis of {} elements", at < 0 ? at - axis_size : at, axis_size)}});
    }
    const char* from = pointer<const char>(c, data);
    char* to = pointer<char>(c, output);
    const int64_t total = outer * count, each = std::max<int64_t>(64, 16384 / std::max<int64_t>(1, inner_bytes));
    c.workers.each((total + each - 1) / each, [&](int64_t task, int) {
      const int64_t begin = task * each, end = std::min(total, (task + 1) * each);
      // Single elements are moved as what they are: a call for each would take longer than the move.
      switch (single() ? inner_bytes : 0) {
        case 1: return part(c, begin, end, reinterpret_cast<const uint8_t*>(from), reinterpret_cast<uint8_t*>(to));
        case 2: return part(c, begin, end, reinterpret_cast<const uint16_t*>(from), reinterpret_cast<uint16_t*>(to));
        case 4: return part(c, begin, end, reinterpret_cast<const uint32_t*>(from), reinterpret_cast<uint32_t*>(to));
        case 8: return part(c, begin, end, reinterpret_cast<const uint64_t*>(from), reinterpret_cast<uint64_t*>(to));
        default: break;
      }
      for (int64_t r = begin; r < end; ++r) {
        std::memcpy(to + r * inner_bytes, from + (r / count * axis_size + index(c, r % count)) * inner_bytes, inner_bytes);
      }
    });
  }

  bool single() const { return inner_bytes == element_bytes && axis_size <= INT32_MAX; }

 private:
  template <typename T>
  void part(const StepContext& c, int64_t begin, int64_t end, const T* from, T* to) const {
    const auto* at = pointer<const int32_t>(c, places);
    for (int64_t r = begin; r < end;) {
      const int64_t o = r / count, first = r - o * count, some = std::min(end, (o + 1) * count) - r;
      const T* row = from + o * axis_size;
      for (int64_t i = 0; i < some; ++i) to[r + i] = row[at[first + i]];
      r += some;
    }
  }
};

struct GatherMatch : Match {
  using Match::Match;
  Shape shape;
  int64_t axis = 0;
  int bytes = 0;                // of an element
  std::optional<int64_t> only;  // one known entry of the outermost axis: a part of the data as it is
  int64_t entry_bytes() const { return product(shape, axis + 1, shape.size()) * bytes; }
};

class GatherFamily : public StepFamily {
 public:
  std::string_view name() const override { return "gather"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (n.op != "Gather" || !n.domain.empty() || !view.is_static(n.outputs[0]) || !view.is_static(n.inputs[0]) ||
        !view.is_static(n.inputs[1]))
      return nullptr;
    const DType indices = view.dtype(n.inputs[1]);
    if (copy_bytes(view.dtype(n.inputs[0])) == 0 || (indices != DType::i64 && indices != DType::i32)) return nullptr;
    auto m = std::make_unique<GatherMatch>(view, group, StepKind::copy);
    m->shape = view.shape(n.inputs[0]);
    m->axis = ops::wrap_axis(n.integer("axis", 0), static_cast<int64_t>(m->shape.size()));
    m->bytes = copy_bytes(view.dtype(n.inputs[0]));
    if (view.is_constant(n.inputs[1]) && element_count(view.shape(n.inputs[1])) == 1 && product(m->shape, 0, m->axis) == 1) {
      const int64_t entry = integers(view.constant(n.inputs[1]))[0], at = entry < 0 ? entry + m->shape[m->axis] : entry;
      if (at >= 0 && at < m->shape[m->axis]) m->only = at;
    }
    const int64_t runs = product(m->shape, 0, m->axis) * element_count(view.shape(n.inputs[1]));
    m->work.bytes = 2 * static_cast<double>(runs) * static_cast<int>(m->entry_bytes());
    return m;
  }

  void lower(PlanBuilder& b, const Match& match, const Problem&, const Recipe&) const override {
    const auto& m = static_cast<const GatherMatch&>(match);
    const Node& n = m.node();
    if (m.only) {
      const Location from = b.contiguous(n.inputs[0], Layout::natural);
      return b.alias(n.outputs[0], {from.buffer, from.offset + static_cast<size_t>(*m.only * m.entry_bytes()), Layout::natural});
    }
    auto k = std::make_unique<GatherKernel>();
    k->data = b.contiguous(n.inputs[0], Layout::natural);
    k->indices = b.contiguous(n.inputs[1], Layout::natural);
    k->wide = b.dtype(n.inputs[1]) == DType::i64;
    k->outer = product(m.shape, 0, m.axis);
    k->axis_size = m.shape[m.axis];
    k->inner_bytes = m.entry_bytes();
    k->element_bytes = m.bytes;
    k->count = element_count(b.shape(n.inputs[1]));
    k->where = label(b.graph(), n);
    k->output = b.define(n.outputs[0], Layout::natural);
    Step step = begin_step(b, m);
    step.text = fmt::format("{} runs of {} bytes", k->outer * k->count, k->inner_bytes);
    step.can_fail = true;  // indices are looked at
    step.reads = {k->data.buffer, k->indices.buffer};
    step.writes = {k->output.buffer};
    if (k->single()) {
      k->places = {b.scratch(static_cast<size_t>(std::max<int64_t>(1, k->count)) * sizeof(int32_t))};
      step.scratch = {k->places.buffer};
    }
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& gathers() {
  static const GatherFamily family;
  return family;
}

}  // namespace lathe::lower
