// RNN, GRU and LSTM.
#include <fmt/format.h>

#include <algorithm>
#include <string>

#include "lower/recipe/step_family.hpp"
#include "lower/steps/recurrent_kernel.hpp"
#include "ops/recurrent.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

using kernels::GateOp;
// Both list the standard's functions in its order.
static_assert(static_cast<int>(ops::Curve::softplus) == static_cast<int>(kernels::GateCurve::softplus) &&
              static_cast<int>(ops::Curve::hard_sigmoid) == static_cast<int>(kernels::GateCurve::hard_sigmoid));

// Weights [direction][gate][depth] of one input, put into panels a part of the gates at a time; the original goes once all of it is there.
class Panels {
 public:
  Panels(PlanBuilder& b, Step& step, ValueId v, int64_t width) : b_(b), step_(step), v_(v), shape_(b.shape(v)), width_(width) {}

  // Gates (rows) [first, first + rows) of a direction, as the columns of a matrix.
  Location part(int64_t direction, int64_t first, int64_t rows) {
    const int64_t depth = shape_[2], from = (direction * shape_[1] + first) * depth, count = kernels::packed_size(depth, rows, width_);
    const auto make = [&] {
      const Tensor t = b_.constant(v_);
      auto to = floats(count);
      kernels::pack_panels(t.as<float>().data() + from, 1, depth, depth, rows, width_, to.get(), 0, (rows + width_ - 1) / width_);
      made_.push_back({from, rows, to});
      covered_ += rows * depth;
      return entry_of(to, count);
    };
    const Location at{
        b_.packed({v_, PackForm::recurrent, {width_, direction, first, rows}}, static_cast<size_t>(count) * sizeof(float), make)};
    step_.reads.push_back(at.buffer);
    bytes_ += static_cast<double>(count) * sizeof(float);
    return at;
  }

  void finish() {
    if (covered_ != element_count(shape_)) return;
    b_.release_after_packing(v_, [shape = shape_, made = made_, width = width_] {
      Tensor back(DType::f32, shape);
      for (const Made& m : made)
        kernels::unpack_panels(m.panels.get(), shape[2], m.rows, width, back.as<float>().data() + m.from, 1, shape[2]);
      return back;
    });
  }
  double bytes() const { return bytes_; }

 private:
  struct Made {
    int64_t from, rows;
    std::shared_ptr<float> panels;
  };
  PlanBuilder& b_;
  Step& step_;
  ValueId v_;
  Shape shape_;
  int64_t width_, covered_ = 0;
  double bytes_ = 0;
  std::vector<Made> made_;
};

struct RecurrentMatch : Match {
  using Match::Match;
  bool lstm = false, gru = false;
  int64_t steps = 0, batch = 0, in = 0, hidden = 0, gates = 1, directions = 1;
  bool has(size_t i) const { return given(node().inputs, i); }
  bool after() const { return gru && node().integer("linear_before_reset", 0) != 0; }
  bool lengths = false;  // sequences end earlier than others
  bool made = false;     // a run brings weights
};

class RecurrentFamily : public StepFamily {
 public:
  std::string_view name() const override { return "recurrent"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const bool lstm = n.op == "LSTM", gru = n.op == "GRU";
    if (!n.domain.empty() || (!lstm && !gru && n.op != "RNN")) return nullptr;
    auto m = std::make_unique<RecurrentMatch>(view, group, StepKind::recurrent);
    m->lstm = lstm, m->gru = gru;
    if (n.integer("layout", 0) != 0) return nullptr;  // the steps come first by now, where a pass knew the ranks
    if (!view.is_static(n.inputs[0])) return nullptr;
    for (size_t i : {1, 2, 3, 7}) {
      if (!m->has(i)) continue;
      if (!view.is_static(n.inputs[i]) || view.dtype(n.inputs[i]) != DType::f32) return nullptr;
      m->made |= !view.is_constant(n.inputs[i]);
    }
    for (size_t i : {5, 6}) {
      if (m->has(i) && !view.is_static(n.inputs[i])) return nullptr;
    }
    if (!std::ranges::all_of(n.outputs, [&](ValueId v) { return v == kAbsent || view.is_static(v); })) return nullptr;
    const Shape xs = view.shape(n.inputs[0]), rs = view.shape(n.inputs[2]);
    m->steps = xs[0], m->batch = xs[1], m->in = xs[2], m->hidden = rs[2], m->directions = rs[0];
    m->gates = lstm ? 4 : gru ? 3 : 1;
    if (m->steps * m->batch * m->in * m->hidden == 0) return nullptr;
    if (m->has(4)) {
      if (!view.is_static(n.inputs[4]) || view.dtype(n.inputs[4]) != DType::i32) return nullptr;
      const bool known = view.is_constant(n.inputs[4]);
      m->lengths = !known || !std::ranges::all_of(integers(view.constant(n.inputs[4])), [&](int64_t s) { return s == m->steps; });
    }
    m->work.flops = 2.0 * static_cast<double>(rs[0] * m->steps * m->batch * m->gates * m->hidden) * static_cast<double>(m->in + m->hidden);
    m->work.bytes = 4.0 * static_cast<double>(element_count(xs));
    return m;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const RecurrentMatch&>(match);
    const int64_t threads = p.machine.threads, tile = kernels::max_rows(p.machine.isa), rows = m.steps * m.batch;
    space.knob("k_block", kDepthBlock, 64, kDepthBlock, 16, true);
    space.knob("block_bytes", p.machine.block_bytes, 1 << 14, 1 << 26);
    const auto inputs = 2.0 * static_cast<double>(rows * m.in) * static_cast<double>(m.gates * m.hidden);
    const bool share = threads > 1 && worth_sharing(p.machine.rates, inputs);
    int64_t row_tasks = share ? std::clamp<int64_t>(rows / tile, 1, threads * 4) : 1;
    while (!keeps_order(rows, row_tasks, tile)) --row_tasks;
    space.knob("row_tasks", row_tasks, 1, std::max<int64_t>(1, rows));
    // Two directions on two or three threads go side by side: nothing to wait for in between.
    const bool beside = m.directions == 2 && (threads == 2 || threads == 3) && worth_sharing(p.machine.rates, m.work.flops);
    space.knob("direction_tasks", beside ? 2 : 1, 1, m.directions);
    const int64_t width = kernels::panel_width(p.machine.isa);
    const bool whole = m.hidden % width == 0;
    const int64_t panels = whole ? m.hidden / width : (m.gates * m.hidden + width - 1) / width;
    // Few sequences: a step takes as long as to read the weights. Two forks where units are no whole panels.
    const auto weights = static_cast<double>(m.gates * m.hidden * m.hidden) / (whole ? 1 : 2);
    const bool cut =
        threads > 1 && !beside && worth_sharing(p.machine.rates, Work{2 * weights * static_cast<double>(m.batch), 4 * weights});
    space.knob("unit_tasks", cut ? std::min(panels, threads) : 1, 1, panels);
  }
  std::string fault(const Match& match, const Problem& p, const Recipe& r) const override {
    const auto& m = static_cast<const RecurrentMatch&>(match);
    if (r.at("direction_tasks") > 1 && r.at("unit_tasks") > 1) return "directions side by side take no tasks of units";
    return keeps_order(m.steps * m.batch, r.at("row_tasks"), kernels::max_rows(p.machine.isa)) ? "" : "tasks of one or two rows";
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const RecurrentMatch&>(match);
    const Node& n = m.node();
    auto k = std::make_unique<RecurrentKernel>();
    Step step = begin_step(b, m);
    k->steps = m.steps, k->batch = m.batch, k->in = m.in, k->hidden = m.hidden, k->gate_count = m.gates;
    k->late = m.gru && !m.after();
    k->clip = n.real("clip", 0);
    k->coupled = m.lstm && n.integer("input_forget", 0) != 0;
    if (m.lengths) {
      k->lengths = b.contiguous(n.inputs[4], Layout::natural);
      k->where = label(b.graph(), n);
      step.reads.push_back(k->lengths->buffer);
      step.can_fail = true;
    }
    k->op = m.lstm ? GateOp::lstm : !m.gru ? GateOp::rnn : m.after() ? GateOp::gru_after : GateOp::gru;
    k->dense = kernels::dense(p.machine.isa);
    k->gates = kernels::gates(p.machine.isa);
    k->width = kernels::panel_width(p.machine.isa);
    k->k_block = recipe.at("k_block"), k->block_bytes = recipe.at("block_bytes");
    k->row_tasks = recipe.at("row_tasks"), k->direction_tasks = recipe.at("direction_tasks"), k->unit_tasks = recipe.at("unit_tasks");
    bind_directions(m, *k);
    if (m.made) bind_made(b, m, *k, step);
    else bind_weights(b, m, *k, step);
    const auto in = [&](size_t i, Location& location) {
      if (!m.has(i)) return false;
      location = b.contiguous(n.inputs[i], Layout::natural);
      step.reads.push_back(location.buffer);
      return true;
    };
    in(0, k->x);
    k->has_h0 = in(5, k->h0);
    k->has_c0 = m.lstm && in(6, k->c0);
    const auto out = [&](size_t i, Location& location) {
      if (!given(n.outputs, i)) return false;
      location = b.define(n.outputs[i], Layout::natural);
      step.writes.push_back(location.buffer);
      return true;
    };
    k->has_y = out(0, k->y);
    k->has_last_h = out(1, k->last_h);
    k->has_last_c = m.lstm && out(2, k->last_c);
    k->scratch = b.scratch(static_cast<size_t>(k->scratch_floats()) * sizeof(float));
    step.scratch.push_back(k->scratch);
    step.text = fmt::format("{} steps of batch {}, {} -> {}, {} direction{}, tasks {}x{}, of a step {}", m.steps, m.batch, m.in, m.hidden,
                            m.directions, m.directions == 1 ? "" : "s", k->direction_tasks, k->row_tasks, k->unit_tasks);
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

 private:
  // What of them is no weights.
  static void bind_directions(const RecurrentMatch& m, RecurrentKernel& k) {
    const std::string direction = m.node().text("direction", "forward");
    const auto functions = ops::recurrent_functions(m.node(), m.directions);
    const size_t each = functions.size() / static_cast<size_t>(m.directions);
    for (int64_t d = 0; d < m.directions; ++d) {
      Direction to;
      for (size_t i = 0; i < each; ++i) {
        const ops::RecurrentFunction& f = functions[static_cast<size_t>(d) * each + i];
        to.functions[i] = {static_cast<kernels::GateCurve>(f.curve), static_cast<float>(f.alpha), static_cast<float>(f.beta)};
      }
      to.backwards = direction == "reverse" || d == 1;
      k.directions.push_back(std::move(to));
    }
  }

  static void bind_made(PlanBuilder& b, const RecurrentMatch& m, RecurrentKernel& k, Step& step) {
    RecurrentKernel::Made made;
    const auto take = [&](size_t i, Location& to) {
      if (!m.has(i)) return false;
      to = b.contiguous(m.node().inputs[i], Layout::natural);
      step.reads.push_back(to.buffer);
      step.bytes += 4.0 * static_cast<double>(element_count(b.shape(m.node().inputs[i])));
      return true;
    };
    take(1, made.input);
    take(2, made.state);
    made.has_bias = take(3, made.bias);
    made.has_peephole = take(7, made.peephole);
    const auto sizes = k.panel_floats();
    constexpr size_t kBehind = 64;  // that products may fetch
    made.panels = b.scratch(static_cast<size_t>(m.directions * (sizes[0] + sizes[1] + sizes[2])) * sizeof(float) + kBehind);
    step.scratch.push_back(made.panels);
    k.made = made;
  }

  static void bind_weights(PlanBuilder& b, const RecurrentMatch& m, RecurrentKernel& k, Step& step) {
    const Node& n = m.node();
    const Tensor bias = m.has(3) ? b.constant(n.inputs[3]) : Tensor(), peephole = m.has(7) ? b.constant(n.inputs[7]) : Tensor();
    for (size_t i : {3, 4, 7}) {
      if (m.has(i)) b.keep_original(n.inputs[i]);  // small; other editions read them again
    }
    const int64_t all = m.gates * m.hidden, h = m.hidden;
    Panels input(b, step, n.inputs[1], k.width), state(b, step, n.inputs[2], k.width);
    for (int64_t d = 0; d < m.directions; ++d) {
      Direction& to = k.directions[static_cast<size_t>(d)];
      to.input = input.part(d, 0, all);
      to.state = state.part(d, 0, k.late ? 2 * h : all);
      if (k.late) to.late = state.part(d, 2 * h, h);
      k.take_biases(to, bias.empty() ? nullptr : bias.as<float>().data() + d * 2 * all);
      if (!peephole.empty()) to.peephole.assign(peephole.as<float>().data() + d * 3 * h, peephole.as<float>().data() + (d + 1) * 3 * h);
    }
    if (n.inputs[1] != n.inputs[2]) {
      input.finish();
      state.finish();
    }
    step.bytes += input.bytes() + state.bytes();
  }
};

}  // namespace

const StepFamily& recurrent() {
  static const RecurrentFamily family;
  return family;
}

}  // namespace lathe::lower
