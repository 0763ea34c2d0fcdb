// Elements and slices by their places: GatherElements, GatherND, ScatterElements and ScatterND.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <functional>
#include <map>

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

enum class Join : uint8_t { none, add, multiply, most, least };

class ElementsKernel : public StepKernel {
 public:
  Location data, indices, updates, output;
  bool gives_output = false;
  bool scatters = false, slices = false, wide = true;  // wide: indices are i64
  std::string where;
  Join joins = Join::none;
  DType type = DType::f32;
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

  void run(const StepContext& c) const override {
    if (scatters) {
      copy_to_change(c, gives_output, pointer<const char>(c, data), pointer<char>(c, output), static_cast<int64_t>(whole),
                     [&](std::vector<StateChanges::Run>& runs) { changed(c, runs); });
      do_part(c, 0, rows);  // in order: of two updates of one place the last stays
      return;
    }
    c.workers.each(tasks, [&](int64_t task, int) { do_part(c, rows * task / tasks, rows * (task + 1) / tasks); });
  }

 private:
  // What a scatter writes.
  void changed(const StepContext& c, std::vector<StateChanges::Run>& runs) const {
    const auto put = [&](int64_t at, int64_t count) {
      at *= bytes, count *= bytes;
      if (!runs.empty() && runs.back().at + runs.back().bytes == at) runs.back().bytes += count;
      else runs.push_back({at, count});
    };
    wide ? each_place(pointer<const int64_t>(c, indices), put) : each_place(pointer<const int32_t>(c, indices), put);
  }
  template <typename Index, typename F>
  void each_place(const Index* places, F&& f) const {
    for (int64_t row = 0; row < rows; ++row) {
      if (slices) {
        const auto depth = static_cast<int64_t>(sizes.size());
        int64_t at = batch_rows >= rows ? 0 : row / batch_rows * batch_stride;
        for (int64_t k = 0; k < depth; ++k) {
          const int64_t given = places[row * depth + k], size = sizes[static_cast<size_t>(k)];
          if (given < -size || given >= size) return;  // the scatter says so
          at += (given + (given < 0 ? size : 0)) * tuple_strides[static_cast<size_t>(k)];
        }
        f(at, slice);
        continue;
      }
      const int64_t length = shape.back(), last = static_cast<int64_t>(shape.size()) - 1, pitch = strides[static_cast<size_t>(axis)];
      for (int64_t i = 0; i < length; ++i) {
        const int64_t given = places[row * length + i];
        if (given < -axis_size || given >= axis_size) return;
        f(first_of(row) + (axis == last ? 0 : i) + placed(given) * pitch, 1);
      }
    }
  }
  // Of elements: where a row's begin but for their places along the axis; a place from the front.
  int64_t first_of(int64_t row) const {
    int64_t base = 0;
    for (int64_t d = static_cast<int64_t>(shape.size()) - 2; d >= 0; --d) {
      if (d != axis) base += row % shape[static_cast<size_t>(d)] * strides[static_cast<size_t>(d)];
      row /= shape[static_cast<size_t>(d)];
    }
    return base;
  }
  int64_t placed(int64_t at) const { return at + (at < 0 ? axis_size : 0); }
  void do_part(const StepContext& c, int64_t begin, int64_t end) const {
    switch (joins) {
      case Join::none: return moved(c, begin, end);
      case Join::add: return joined(c, begin, end, [](auto x, auto y) { return wrapping(x, y, std::plus<>()); });
      case Join::multiply: return joined(c, begin, end, [](auto x, auto y) { return wrapping(x, y, std::multiplies<>()); });
      case Join::most: return joined(c, begin, end, [](auto x, auto y) { return std::max(x, y); });
      case Join::least: return joined(c, begin, end, [](auto x, auto y) { return std::min(x, y); });
    }
  }
  // Whole numbers wrap.
  template <typename T, typename F>
  static T wrapping(T x, T y, F f) {
    if constexpr (std::is_floating_point_v<T>) return f(x, y);
    else return static_cast<T>(f(static_cast<std::make_unsigned_t<T>>(x), static_cast<std::make_unsigned_t<T>>(y)));
  }

  // What stands there is not looked at: any type of so many bytes.
  void moved(const StepContext& c, int64_t begin, int64_t end) const {
    const auto put = [](auto, auto y) { return y; };
    switch (bytes) {
      case 1: return by_index<uint8_t>(c, begin, end, put);
      case 2: return by_index<uint16_t>(c, begin, end, put);
      case 4: return by_index<uint32_t>(c, begin, end, put);
      default: return by_index<uint64_t>(c, begin, end, put);
    }
  }
  template <typename F>
  void joined(const StepContext& c, int64_t begin, int64_t end, F join) const {
    switch (type) {
      case DType::f32: return by_index<float>(c, begin, end, join);
      case DType::f64: return by_index<double>(c, begin, end, join);
      case DType::i32: return by_index<int32_t>(c, begin, end, join);
      default: return by_index<int64_t>(c, begin, end, join);
    }
  }
  template <typename T, typename F>
  void by_index(const StepContext& c, int64_t begin, int64_t end, F join) const {
    const auto run_on = [&](const auto* at) { slices ? do_slices<T>(c, at, begin, end, join) : do_elements<T>(c, at, begin, end, join); };
    wide ? run_on(pointer<const int64_t>(c, indices)) : run_on(pointer<const int32_t>(c, indices));
  }

  // A row: the last axis of the indices. All of a row's places are looked at before the first of them is gone to.
  template <typename T, typename Index, typename F>
  void do_elements(const StepContext& c, const Index* places, int64_t begin, int64_t end, F join) const {
    const int64_t length = shape.back(), last = static_cast<int64_t>(shape.size()) - 1;
    const int64_t step = axis == last ? 0 : 1, pitch = strides[static_cast<size_t>(axis)], size = axis_size;
    const T* from = pointer<const T>(c, scatters ? updates : data);
    T* to = pointer<T>(c, output);
    for (int64_t row = begin; row < end; ++row) {
      const int64_t base = first_of(row);
      const Index* at = places + row * length;
      Index least = at[0], most = at[0];
      for (int64_t i = 1; i < length; ++i) least = std::min(least, at[i]), most = std::max(most, at[i]);
      place(least, size, where), place(most, size, where);
      const auto there = [&](int64_t i) { return base + i * step + placed(at[i]) * pitch; };
      if (scatters) {
        for (int64_t i = 0; i < length; ++i) {
          T& e = to[there(i)];
          e = join(e, from[row * length + i]);
        }
      } else {
        T* result = to + row * length;
        for (int64_t i = 0; i < length; ++i) result[i] = from[there(i)];
      }
    }
  }

  template <typename T, typename Index, typename F>
  void do_slices(const StepContext& c, const Index* places, int64_t begin, int64_t end, F join) const {
    const auto depth = static_cast<int64_t>(sizes.size());
    const auto bytes_of_slice = static_cast<size_t>(slice) * sizeof(T);
    const T* from = pointer<const T>(c, scatters ? updates : data);
    T* to = pointer<T>(c, output);
    for (int64_t row = begin; row < end; ++row) {
      int64_t at = batch_rows >= rows ? 0 : row / batch_rows * batch_stride;
      const Index* tuple = places + row * depth;
      for (int64_t k = 0; k < depth; ++k) {
        const int64_t size = sizes[static_cast<size_t>(k)], given = tuple[k], i = given + (given < 0 ? size : 0);
        if (i < 0 || i >= size) place(given, size, where);  // says so
        at += i * tuple_strides[static_cast<size_t>(k)];
      }
      if (!scatters) {
        if (slice == 1) to[row] = from[at];
        else std::memcpy(to + row * slice, from + at, bytes_of_slice);
      } else if (joins == Join::none) {
        std::memcpy(to + at, from + row * slice, bytes_of_slice);
      } else {
        T* e = to + at;
        const T* update = from + row * slice;
        for (int64_t i = 0; i < slice; ++i) e[i] = join(e[i], update[i]);
      }
    }
  }
};

// What becomes of an element that is there and an update of it.
std::optional<Join> join_of(const Node& n) {
  static const std::map<std::string_view, Join> kJoins{
      {"none", Join::none}, {"add", Join::add}, {"mul", Join::multiply}, {"max", Join::most}, {"min", Join::least}};
  const auto it = kJoins.find(n.text("reduction", "none"));
  return it == kJoins.end() ? std::nullopt : std::optional(it->second);
}

class ElementsFamily : public StepFamily {
 public:
  std::string_view name() const override { return "elements"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const bool scatters = n.op == "ScatterElements" || n.op == "ScatterND" || n.op == "Scatter";
    if (!n.domain.empty() || (!scatters && n.op != "GatherElements" && n.op != "GatherND")) return nullptr;
    const auto joins = scatters ? join_of(n) : Join::none;
    const DType d = view.dtype(n.inputs[0]);
    if (!joins || (*joins != Join::none && d != DType::f32 && d != DType::f64 && d != DType::i32 && d != DType::i64)) return nullptr;
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
    k->joins = k->scatters ? join_of(n).value_or(Join::none) : Join::none;
    k->type = b.dtype(n.inputs[0]);
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
    k->gives_output = std::ranges::find(b.graph().outputs, m.result()) != b.graph().outputs.end();
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
