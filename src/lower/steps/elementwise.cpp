// Elementwise nodes of one shape as a tape: one pass over memory.
#include <fmt/format.h>

#include <algorithm>

#include "lower/fuse/tape_builder.hpp"
#include "lower/fuse/tape_ops.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {
namespace {

class TapeKernel : public StepKernel {
 public:
  kernels::RunTape run_tape = nullptr;
  kernels::Tape tape;
  Location out;
  kernels::TapeType out_type = kernels::TapeType::f32;
  std::vector<Location> locations;
  std::vector<kernels::TapeType> types;
  std::vector<int64_t> dims;                  // outer dims, then the inner one
  std::vector<std::vector<int64_t>> strides;  // per operand, per dim; the last is the result's
  int64_t rows = 1, chunks = 1, chunk = 0, rows_a_task = 1;

  int64_t offset(size_t operand, int64_t row, int64_t from) const {
    const auto& s = strides[operand];
    return row_offset(std::span(dims).first(dims.size() - 1), s, row) + from * s.back();
  }

  void run(const StepContext& c) const override {
    const int64_t inner = dims.back();
    const int64_t row_tasks = (rows + rows_a_task - 1) / rows_a_task;
    c.workers.each(row_tasks * chunks, [&](int64_t task, int) {
      const int64_t first = task / chunks * rows_a_task, last = std::min(rows, first + rows_a_task);
      const int64_t from = task % chunks * chunk, count = std::min(chunk, inner - from);
      kernels::TapeOperand operands[kernels::kMaxSlots];
      for (int64_t row = first; row < last; ++row) {
        for (size_t i = 0; i < locations.size(); ++i)
          operands[i] = {pointer<const char>(c, locations[i]) + offset(i, row, from) * bytes_of(types[i]), strides[i].back(), types[i]};
        run_tape(tape, operands, pointer<char>(c, out) + offset(locations.size(), row, from) * bytes_of(out_type), out_type, count);
      }
    });
  }
};

struct ElementwiseMatch : Match {
  using Match::Match;
  BuiltTape built;
};

class ElementwiseFamily : public StepFamily {
 public:
  std::string_view name() const override { return "elementwise"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (group.role != Anchor::none) return nullptr;
    if (!std::ranges::all_of(group.nodes, [&](int n) { return tapeable(view.graph(), view.node(n)); })) return nullptr;
    auto built = build_tape(view.graph(), group.nodes);
    if (!built) return nullptr;
    auto m = std::make_unique<ElementwiseMatch>(view, group, StepKind::tape);
    const auto total = static_cast<double>(element_count(view.shape(m->result())));
    m->work.flops = total * static_cast<double>(built->tape.steps.size());
    m->work.bytes = total * static_cast<double>(bytes_of(tape_type(view.dtype(m->result()))));
    for (const TapeSource& s : built->sources)
      m->work.bytes += static_cast<double>(element_count(s.shape(view))) * static_cast<double>(bytes_of(s.type(view)));
    m->built = std::move(*built);
    return m;
  }

  LayoutDemand layouts(const Match&) const override { return {Order::shared, Order::shared, Order::shared}; }

  void candidates(const Match&, const Problem&, RecipeSpace& space) const override {
    space.knob("task_elements", 16384, 256, 1 << 22);  // well above what it costs to hand one out
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ElementwiseMatch&>(match);
    const ValueId out = m.result();
    const Shape shape = b.shape(out);
    const Layout layout = b.preferred(out);
    auto kernel = std::make_unique<TapeKernel>();
    TapeKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.tape = m.built.tape;
    k.run_tape = kernels::run_tape_in(m.built.tape.compute, p.machine.isa);
    k.out_type = tape_type(b.dtype(out));
    const auto order = physical_order(static_cast<int>(shape.size()), layout);
    std::vector<std::vector<int64_t>> strides;
    for (const TapeSource& s : m.built.sources) {
      const Shape operand = s.shape(b.view());
      Location at = s.locate(b);
      // A whole operand in the other layout would be gathered element by element: convert it once instead.
      if (s.value != kAbsent && operand == shape && (at.layout != layout || contiguous_run(at, operand) < kShortRun))
        at = b.contiguous(s.value, layout);
      k.locations.push_back(at);
      k.types.push_back(s.type(b.view()));
      strides.push_back(permuted(operand_strides(operand, at, shape), order));
      step.reads.push_back(at.buffer);
      if (step.in_place == kNoBuffer && s.value != kAbsent && operand == shape && at.layout == layout && at.offset == 0 &&
          at.contiguous() && k.out_type == k.types.back())
        step.in_place = at.buffer;
    }
    // Another operand may see the same memory at other indices (a view of it): then in place would be wrong.
    if (std::ranges::count(step.reads, step.in_place) > 1) step.in_place = kNoBuffer;
    k.out = b.define_strided(out, layout, kShortRun);
    step.writes.push_back(k.out.buffer);
    if (b.is_part(out)) step.in_place = kNoBuffer;
    strides.push_back(permuted(strides_at(k.out, shape), order));
    k.dims = permuted(shape, order);
    k.strides = std::move(strides);
    join_dims(k.dims, k.strides);
    if (k.dims.empty()) {
      k.dims = {1};
      for (auto& s : k.strides) s = {0};
    }
    share_out(k, element_count(shape), p.machine.threads, recipe.at("task_elements"));
    const auto in = k.tape.compute;
    step.text = fmt::format("tape of {} over {} rows of {}{}", k.tape.steps.size(), k.rows, k.dims.back(),
                            in == kernels::TapeType::f32   ? ""
                            : in == kernels::TapeType::f64 ? ", in f64"
                            : in == kernels::TapeType::i64 ? ", in i64"
                                                           : ", in i32");
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static void share_out(TapeKernel& k, int64_t total, int threads, int64_t task_elements) {
    const int64_t inner = k.dims.back();
    k.rows = inner ? total / inner : 0;
    k.chunk = k.rows >= threads ? std::max<int64_t>(1, inner) : std::min(std::max<int64_t>(1, inner), task_elements);
    k.chunks = (inner + k.chunk - 1) / k.chunk;
    k.rows_a_task = std::max<int64_t>(1, task_elements / std::max<int64_t>(1, k.chunk));
    if (total == 0) k.rows = k.chunks = 0;
  }
};

}  // namespace

const StepFamily& elementwise() {
  static const ElementwiseFamily family;
  return family;
}

}  // namespace lathe::lower
