// Elementwise nodes of one shape as a tape: one pass over memory.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "kernels/tape_rows.hpp"
#include "lower/fuse/row_tape.hpp"
#include "lower/fuse/tape_builder.hpp"
#include "lower/fuse/tape_ops.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {
namespace {

// Short rows are done many at a time: a call of the tape for each would cost more than its work. Operands that do not run on from row to
// row (one a channel, one a row, parts of something wider) are copied out for so many rows, and so is a result that does not.
struct ShortRows {
  int64_t at_once = 0;         // rows a call; 0: one
  int64_t tiles = 0;           // calls for each index of the outer dims
  std::vector<bool> copied;    // by operand; the last is the result's
  std::vector<int64_t> place;  // of each copied one in a task's scratch, in bytes
  int64_t bytes = 0;           // of that
  Location scratch;
};

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
  ShortRows shorts;
  std::optional<RowTape> blocks;  // where a row and the dim around it are still short: rows of the inner dim, whatever is around them

  int64_t offset(size_t operand, int64_t row, int64_t from) const {
    const auto& s = strides[operand];
    return row_offset(std::span(dims).first(dims.size() - 1), s, row) + from * s.back();
  }

  void run(const StepContext& c) const override {
    if (shorts.at_once > 0) return run_short(c);
    if (blocks) return run_blocks(c);
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

 private:
  void run_blocks(const StepContext& c) const {
    const int64_t inner = dims.back(), bytes = inner * bytes_of(out_type);
    c.workers.each((rows + rows_a_task - 1) / rows_a_task, [&](int64_t task, int) {
      const int64_t first = task * rows_a_task, last = std::min(rows, first + rows_a_task);
      blocks->run_rows(c, first, last, inner, pointer<char>(c, out) + first * bytes, out_type, false);
    });
  }

  // rows: tiles of all outer indices here.
  void run_short(const StepContext& c) const {
    const size_t last_dim = dims.size() - 1, row_dim = dims.size() - 2, result = locations.size();
    const int64_t inner = dims[last_dim];
    c.workers.each((rows + rows_a_task - 1) / rows_a_task, [&](int64_t task, int) {
      kernels::TapeOperand operands[kernels::kMaxSlots];
      const char* held[kernels::kMaxSlots] = {};  // what the copies were made of
      char* copies = pointer<char>(c, shorts.scratch) + task * shorts.bytes;
      for (int64_t tile = task * rows_a_task; tile < std::min(rows, (task + 1) * rows_a_task); ++tile) {
        const int64_t outer = tile / shorts.tiles, first = tile % shorts.tiles * shorts.at_once,
                      count = std::min(shorts.at_once, dims[row_dim] - first);
        const auto start = [&](size_t i) {
          return (row_offset(std::span(dims).first(row_dim), strides[i], outer) + first * strides[i][row_dim]) * bytes_of(type(i));
        };
        for (size_t i = 0; i < result; ++i) {
          const char* from = pointer<const char>(c, locations[i]) + start(i);
          if (!shorts.copied[i]) {
            operands[i] = {from, strides[i][last_dim], types[i]};
            continue;
          }
          char* to = copies + shorts.place[i];
          // Rows that are all alike are copied once, for the longest tile.
          if (strides[i][row_dim] != 0 || held[i] != from)
            kernels::copy_rows({from, strides[i][last_dim], types[i]}, strides[i][row_dim],
                               strides[i][row_dim] == 0 ? shorts.at_once : count, inner, to);
          held[i] = from;
          operands[i] = {to, 1, types[i]};
        }
        char* to = pointer<char>(c, out) + start(result);
        if (!shorts.copied[result]) {
          run_tape(tape, operands, to, out_type, count * inner);
          continue;
        }
        char* made = copies + shorts.place[result];
        run_tape(tape, operands, made, out_type, count * inner);
        const int64_t bytes = inner * bytes_of(out_type), pitch = strides[result][row_dim] * bytes_of(out_type);
        for (int64_t r = 0; r < count; ++r) std::memcpy(to + r * pitch, made + r * bytes, static_cast<size_t>(bytes));
      }
    });
  }

  kernels::TapeType type(size_t i) const { return i < types.size() ? types[i] : out_type; }
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
    if (!in_blocks(k, recipe.at("task_elements"))) join_short_rows(b, k, recipe.at("task_elements"), step);
    const auto in = k.tape.compute;
    step.text = fmt::format("tape of {} over {} rows of {}{}{}", k.tape.steps.size(),
                            element_count(shape) / std::max<int64_t>(1, k.dims.back()), k.dims.back(),
                            k.shorts.at_once > 0 ? fmt::format(", {} a call", k.shorts.at_once)
                            : k.blocks           ? ", many a call"
                                                 : "",
                            in == kernels::TapeType::f32   ? ""
                            : in == kernels::TapeType::f64 ? ", in f64"
                            : in == kernels::TapeType::i64 ? ", in i64"
                                                           : ", in i32");
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  // Where rows of one dim would not fill a call, and the result is one run.
  static bool in_blocks(TapeKernel& k, int64_t task_elements) {
    constexpr int64_t kFilled = 256;
    if (k.dims.size() < 3 || k.rows == 0 || k.dims.back() * k.dims[k.dims.size() - 2] >= kFilled) return false;
    int64_t next = 1;
    for (size_t d = k.dims.size(); d-- > 0; next *= k.dims[d]) {
      if (k.strides.back()[d] != next) return false;
    }
    RowTape t{k.run_tape, k.tape, k.locations, k.types, {k.dims.begin(), k.dims.end() - 1}, {k.strides.begin(), k.strides.end() - 1}};
    k.rows = next / k.dims.back();
    k.rows_a_task = std::max<int64_t>(1, task_elements / k.dims.back());
    k.chunks = 1;
    k.blocks = std::move(t);
    return true;
  }

  static void join_short_rows(PlanBuilder& b, TapeKernel& k, int64_t task_elements, Step& step) {
    constexpr int64_t kShort = 256, kLong = 2048, kMostCopied = 6;  // elements of a row, of a call; operands
    if (k.dims.size() < 2 || k.rows == 0) return;
    const size_t row_dim = k.dims.size() - 2;
    const int64_t inner = k.dims.back(), rows = k.dims[row_dim];
    if (inner >= kShort || rows < 4) return;
    ShortRows s;
    s.at_once = std::min(rows, kLong / inner);
    for (size_t i = 0; i < k.strides.size(); ++i) {
      const bool runs_on = k.strides[i][row_dim] == inner * k.strides[i].back();
      s.copied.push_back(!runs_on);
      s.place.push_back(s.bytes);
      const int64_t bytes = bytes_of(i < k.types.size() ? k.types[i] : k.out_type);
      if (!runs_on) s.bytes += (s.at_once * inner * bytes + 63) / 64 * 64;
    }
    if (std::ranges::count(s.copied, true) > kMostCopied || (s.copied.back() && k.strides.back().back() != 1)) return;
    s.tiles = (rows + s.at_once - 1) / s.at_once;
    k.rows = k.rows / rows * s.tiles;
    k.rows_a_task = std::max<int64_t>(1, task_elements / (s.at_once * inner));
    k.chunks = 1;
    const int64_t tasks = (k.rows + k.rows_a_task - 1) / k.rows_a_task;
    s.scratch = {b.scratch(static_cast<size_t>(std::max<int64_t>(64, tasks * s.bytes)))};
    step.scratch.push_back(s.scratch.buffer);
    k.shorts = std::move(s);
  }

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
