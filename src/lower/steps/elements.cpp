// Elements and slices by their places: GatherElements, GatherND, ScatterElements and ScatterND without arithmetic.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/fail.hpp"
#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

// Places counted from the end come from the front.
int64_t place(int64_t at, int64_t size, const std::string& where) {
  const int64_t i = at < 0 ? at + size : at;
  if (i < 0 || i >= size) throw Error({{Category::value, where, fmt::format("index {} is outside an axis of {} elements", at, size)}});
  return i;
}

class ElementsKernel : public StepKernel {
 public:
  Location data, indices, updates, output;
  bool scatters = false, slices = false, wide = true;  // wide: indices are i64
  std::string where;
  int bytes = 4;     // of an element
  size_t whole = 0;  // bytes of the data
  // Elements: `shape` is that of the indices, `strides` those of the data.
  Shape shape;
  std::vector<int64_t> strides;
  int64_t axis = 0, axis_size = 1;
  // Slices: `rows` tuples of `sizes.size()` places, each of a slice of `slice` elements; `batch_rows` of them lie in one batch.
  std::vector<int64_t> sizes, tuple_strides;
  int64_t rows = 0, slice = 1, batch_rows = 1, batch_stride = 0;
  int64_t tasks = 1;

  int64_t index(const StepContext& c, int64_t i) const {
    return wide ? pointer<const int64_t>(c, indices)[i] : pointer<const int32_t>(c, indices)[i];
  }

  void run(const StepContext& c) const override {
    if (scatters) {
      std::memcpy(pointer<char>(c, output), pointer<const char>(c, data), whole);
      do_part(c, 0, rows);  // in order: of two updates of one place the last stays
      return;
    }
    c.workers.each(tasks, [&](int64_t task, int) { do_part(c, rows * task / tasks, rows * (task + 1) / tasks); });
  }

 private:
  void do_part(const StepContext& c, int64_t begin, int64_t end) const {
    if (slices) return do_slices(c, begin, end);
    switch (bytes) {
      case 1: return do_elements<uint8_t>(c, begin, end);
      case 2: return do_elements<uint16_t>(c, begin, end);
      case 4: return do_elements<uint32_t>(c, begin, end);
      default: return do_elements<uint64_t>(c, begin, end);
    }
  }

  template <typename T>
  void do_elements(const StepContext& c, int64_t begin, int64_t end) const {
    wide ? do_elements<T>(c, pointer<const int64_t>(c, indices), begin, end)
         : do_elements<T>(c, pointer<const int32_t>(c, indices), begin, end);
  }

  // A row: the last axis of the indices. All of a row's places are looked at before the first of them is gone to.
  template <typename T, typename Index>
  void do_elements(const StepContext& c, const Index* places, int64_t begin, int64_t end) const {
    const int64_t length = shape.back(), last = static_cast<int64_t>(shape.size()) - 1;
    const int64_t step = axis == last ? 0 : 1, pitch = strides[static_cast<size_t>(axis)], size = axis_size;
    const T* from = pointer<const T>(c, scatters ? updates : data);
    T* to = pointer<T>(c, output);
    for (int64_t row = begin; row < end; ++row) {
      int64_t base = 0, rest = row;
      for (int64_t d = last - 1; d >= 0; --d) {
        if (d != axis) base += rest % shape[static_cast<size_t>(d)] * strides[static_cast<size_t>(d)];
        rest /= shape[static_cast<size_t>(d)];
      }
      const Index* at = places + row * length;
      Index least = at[0], most = at[0];
      for (int64_t i = 1; i < length; ++i) least = std::min(least, at[i]), most = std::max(most, at[i]);
      place(least, size, where), place(most, size, where);
      const auto there = [&](int64_t i) {
        const int64_t p = at[i];
        return base + i * step + (p + (p < 0 ? size : 0)) * pitch;
      };
      if (scatters) {
        for (int64_t i = 0; i < length; ++i) to[there(i)] = from[row * length + i];
      } else {
        T* result = to + row * length;
        for (int64_t i = 0; i < length; ++i) result[i] = from[there(i)];
      }
    }
  }

  void do_slices(const StepContext& c, int64_t begin, int64_t end) const {
    const auto depth = static_cast<int64_t>(sizes.size());
    const auto bytes_of_slice = static_cast<size_t>(slice * bytes);
    const char* from = pointer<const char>(c, scatters ? updates : data);
    char* to = pointer<char>(c, output);
    for (int64_t row = begin; row < end; ++row) {
      int64_t at = row / batch_rows * batch_stride;
      for (int64_t k = 0; k < depth; ++k)
        at += place(index(c, row * depth + k), sizes[static_cast<size_t>(k)], where) * tuple_strides[static_cast<size_t>(k)];
      if (scatters) std::memcpy(to + at * bytes, from + static_cast<size_t>(row) * bytes_of_slice, bytes_of_slice);
      else std::memcpy(to + static_cast<size_t>(row) * bytes_of_slice, from + at * bytes, bytes_of_slice);
    }
  }
};

class ElementsFamily : public StepFamily {
 public:
  std::string_view name() const override { return "elements"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const bool scatters = n.op == "ScatterElements" || n.op == "ScatterND" || n.op == "Scatter";
    if (!n.domain.empty() || (!scatters && n.op != "GatherElements" && n.op != "GatherND")) return nullptr;
    if (scatters && n.text("reduction", "none") != "none") return nullptr;
    if (!std::ranges::all_of(n.inputs, [&](ValueId v) { return view.is_static(v); }) || !view.is_static(n.outputs[0])) return nullptr;
    const DType at = view.dtype(n.inputs[1]);
    if (copy_bytes(view.dtype(n.inputs[0])) == 0 || copy_bytes(view.dtype(n.inputs[0])) > 8 || (at != DType::i64 && at != DType::i32))
      return nullptr;
    if (view.shape(n.inputs[0]).empty() || element_count(view.shape(n.inputs[1])) == 0 || element_count(view.shape(n.inputs[0])) == 0)
      return nullptr;
    auto m = std::make_unique<Match>(view, group, StepKind::copy);
    const double moved = static_cast<double>(element_count(view.shape(scatters ? n.inputs[2] : n.outputs[0])));
    m->work.bytes = 2 * moved * copy_bytes(view.dtype(n.inputs[0])) + 8.0 * static_cast<double>(element_count(view.shape(n.inputs[1])));
    if (scatters) m->work.bytes += 2.0 * static_cast<double>(element_count(view.shape(n.inputs[0]))) * copy_bytes(view.dtype(n.inputs[0]));
    return m;
  }

  void candidates(const Match& m, const Problem& p, RecipeSpace& space) const override {
    const int64_t results = element_count(m.view->shape(m.result()));
    space.knob("tasks", p.machine.threads > 1 ? std::clamp<int64_t>(results / 16384, 1, p.machine.threads * 4) : 1, 1, 1024);
  }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe& recipe) const override {
    const Node& n = m.node();
    auto k = std::make_unique<ElementsKernel>();
    Step step = begin_step(b, m);
    step.can_fail = true;
    const Shape data = b.shape(n.inputs[0]), at = b.shape(n.inputs[1]);
    k->scatters = n.inputs.size() > 2;
    k->slices = n.op.ends_with("ND");
    k->wide = b.dtype(n.inputs[1]) == DType::i64;
    k->where = label(b.graph(), n);
    k->bytes = copy_bytes(b.dtype(n.inputs[0]));
    k->whole = static_cast<size_t>(element_count(data) * k->bytes);
    k->tasks = recipe.at("tasks");
    k->strides = ops::strides_of(data);
    if (k->slices) {
      const auto depth = static_cast<size_t>(at.back()), batch = static_cast<size_t>(n.integer("batch_dims", 0));
      k->rows = element_count(at) / at.back();
      k->batch_rows = product(at, batch, at.size() - 1);
      k->batch_stride = product(data, batch, data.size());
      for (size_t d = batch; d < batch + depth; ++d) k->sizes.push_back(data[d]), k->tuple_strides.push_back(k->strides[d]);
      k->slice = product(data, batch + depth, data.size());
    } else {
      k->shape = at;
      k->axis = ops::wrap_axis(n.integer("axis", 0), static_cast<int64_t>(data.size()));
      k->axis_size = data[static_cast<size_t>(k->axis)];
      k->rows = element_count(at) / at.back();
    }
    k->data = b.contiguous(n.inputs[0], Layout::natural);
    k->indices = b.contiguous(n.inputs[1], Layout::natural);
    step.reads = {k->data.buffer, k->indices.buffer};
    if (k->scatters) {
      k->updates = b.contiguous(n.inputs[2], Layout::natural);
      step.reads.push_back(k->updates.buffer);
    }
    k->output = b.define(m.result(), Layout::natural);
    step.writes = {k->output.buffer};
    step.text =
        fmt::format("{} of {} {}", k->rows, k->slices ? k->slice : at.back(), k->slices ? "elements in one piece" : "elements one by one");
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& elements() {
  static const ElementsFamily family;
  return family;
}

}  // namespace lathe::lower
