// RNN, GRU and LSTM: one product for the inputs of all steps, then step by step a product with the state and the gates.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <string>
#include <optional>

#include "base/memory.hpp"
#include "kernels/dense.hpp"
#include "kernels/gates.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/recurrent.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

using kernels::GateOp;
// Both list the standard's functions in its order.
static_assert(static_cast<int>(ops::Curve::softplus) == static_cast<int>(kernels::GateCurve::softplus) &&
              static_cast<int>(ops::Curve::hard_sigmoid) == static_cast<int>(kernels::GateCurve::hard_sigmoid));

// Weights of one direction, packed. `state` are the gates that use h as it is; `late` GRU's candidate, which uses r * h.
struct Direction {
  Location input, state, late;
  std::vector<float> input_bias, state_bias, peephole;
  std::array<kernels::GateFunction, 3> functions;
  bool backwards = false;
};

class RecurrentKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  kernels::Gates gates = nullptr;
  int64_t steps = 0, batch = 0, in = 0, hidden = 0, gate_count = 0, width = 0;
  GateOp op = GateOp::rnn;
  bool late = false;  // GRU: the candidate's product waits for the reset gate
  float clip = 0;
  bool coupled = false;
  std::optional<Location> lengths;  // of each sequence, when they are not all of all steps
  std::string where;
  std::vector<Direction> directions;
  Location x, h0, c0, y, last_h, last_c;
  bool has_h0 = false, has_c0 = false, has_y = false, has_last_h = false, has_last_c = false;
  BufferId scratch = kNoBuffer;
  int64_t k_block = 0, block_bytes = 0;  // of packed weights, how many are passed over together
  double least_shared = 0;               // multiply-adds of a product that is worth sharing out

  // Floats of scratch: gates of all inputs, gates of the state, r * h, the candidate, h, the next h, c.
  size_t scratch_floats() const {
    return static_cast<size_t>(steps * batch * gate_count * hidden + batch * gate_count * hidden + 5 * batch * hidden);
  }

  void multiply(const StepContext& c, const float* a, int64_t rows, int64_t depth, const Location& packed, int64_t columns,
                const float* bias, float* out, int64_t ldc) const {
    const int64_t panels = (columns + width - 1) / width;
    // A step of a small layer is over before another thread has woken.
    const bool shared = c.workers.size() > 1 && static_cast<double>(rows * depth * columns) > least_shared;
    const int64_t row_pieces = shared && rows >= 64 ? std::min<int64_t>(rows / 16, c.workers.size() * 4) : 1;
    const int64_t panel_pieces = shared && row_pieces == 1 ? std::min<int64_t>(panels, c.workers.size()) : 1;
    const auto piece = [&](int64_t p) {
      kernels::DenseArguments d;
      d.a = a;
      d.lda = depth;
      d.run = depth;
      d.row_begin = rows * (p / panel_pieces) / row_pieces;
      d.row_end = rows * (p / panel_pieces + 1) / row_pieces;
      d.all_rows = rows;
      d.panel_begin = panels * (p % panel_pieces) / panel_pieces;
      d.panel_end = panels * (p % panel_pieces + 1) / panel_pieces;
      d.columns = columns;
      d.k_block = k_block;
      d.panel_block = std::max<int64_t>(1, block_bytes / (std::min<int64_t>(depth, d.k_block) * width * 4));
      d.b = pointer<const float>(c, packed);
      d.c = out;
      d.ldc = ldc;
      d.epilogue.bias = bias;
      dense(d);
    };
    if (row_pieces * panel_pieces == 1) return piece(0);
    c.workers.each(row_pieces * panel_pieces, [&](int64_t p, int) { piece(p); });
  }

  void run(const StepContext& c) const override {
    const int32_t* until = lengths ? pointer<const int32_t>(c, *lengths) : nullptr;
    for (int64_t b = 0; until && b < batch; ++b) {
      if (until[b] < 0 || until[b] > steps)
        throw Error({{Category::value, where, fmt::format("sequence length {} is outside 0..{}", until[b], steps)}});
    }
    const int64_t all = gate_count * hidden, cells = batch * hidden, count = static_cast<int64_t>(directions.size());
    auto* gx = reinterpret_cast<float*>(c.buffers[scratch]);
    float *gh = gx + steps * batch * all, *rh = gh + batch * all, *candidate = rh + cells, *h = candidate + cells, *next = h + cells,
          *state = next + cells;
    for (int64_t d = 0; d < count; ++d) {
      const Direction& w = directions[d];
      multiply(c, pointer<const float>(c, x), steps * batch, in, w.input, all, w.input_bias.data(), gx, all);
      const auto start = [&](bool has, const Location& place, float* to) {
        if (has) std::memcpy(to, pointer<const float>(c, place) + d * cells, static_cast<size_t>(cells) * sizeof(float));
        else std::memset(to, 0, static_cast<size_t>(cells) * sizeof(float));
      };
      start(has_h0, h0, h);
      if (op == GateOp::lstm) start(has_c0, c0, state);
      for (int64_t s = 0; s < steps; ++s) {
        const int64_t t = w.backwards ? steps - 1 - s : s;
        multiply(c, h, batch, hidden, w.state, late ? 2 * hidden : all, w.state_bias.empty() ? nullptr : w.state_bias.data(), gh, all);
        kernels::GateArguments g;
        g.hidden = hidden;
        g.clip = clip;
        g.coupled = coupled;
        std::ranges::copy(w.functions, g.functions);
        g.peephole = w.peephole.empty() ? nullptr : w.peephole.data();
        const auto each_row = [&](GateOp what, float* out) {
          g.op = what;
          for (int64_t b = 0; b < batch; ++b) {
            if (until && t >= until[b]) {  // not begun yet, or over: the state stays
              std::memcpy(out + b * hidden, h + b * hidden, static_cast<size_t>(hidden) * sizeof(float));
              continue;
            }
            g.x = gx + (t * batch + b) * all;
            g.r = gh + b * all;
            g.candidate = candidate + b * hidden;
            g.before = h + b * hidden;
            g.cell = state + b * hidden;
            g.out = out + b * hidden;
            gates(g);
          }
        };
        if (late) {
          each_row(GateOp::reset, rh);
          multiply(c, rh, batch, hidden, w.late, hidden, nullptr, candidate, hidden);
        }
        each_row(op, next);
        std::swap(h, next);
        if (!has_y) continue;
        float* to = pointer<float>(c, y) + (t * count + d) * cells;
        std::memcpy(to, h, static_cast<size_t>(cells) * sizeof(float));
        for (int64_t b = 0; until && b < batch; ++b) {
          if (t >= until[b]) std::memset(to + b * hidden, 0, static_cast<size_t>(hidden) * sizeof(float));
        }
      }
      if (has_last_h) std::memcpy(pointer<float>(c, last_h) + d * cells, h, static_cast<size_t>(cells) * sizeof(float));
      if (has_last_c) std::memcpy(pointer<float>(c, last_c) + d * cells, state, static_cast<size_t>(cells) * sizeof(float));
    }
  }
};

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
    const auto constant = [&](size_t i) { return !m->has(i) || (view.is_constant(n.inputs[i]) && view.dtype(n.inputs[i]) == DType::f32); };
    if (!view.is_static(n.inputs[0]) || !constant(1) || !constant(2) || !constant(3) || !constant(7)) return nullptr;
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

  void candidates(const Match&, const Problem& p, RecipeSpace& space) const override {
    space.knob("k_block", kDepthBlock, 64, kDepthBlock, 16, true);
    space.knob("block_bytes", p.machine.block_bytes, 1 << 14, 1 << 26);
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
    k->least_shared = 2 * p.machine.rates.fork * p.machine.rates.flops;
    bind_weights(b, m, *k, step);
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
    k->scratch = b.scratch(k->scratch_floats() * sizeof(float));
    step.scratch = {k->scratch};
    step.text = fmt::format("{} steps of batch {}, {} -> {}, {} direction{}", m.steps, m.batch, m.in, m.hidden, m.directions,
                            m.directions == 1 ? "" : "s");
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

 private:
  static void bind_weights(PlanBuilder& b, const RecurrentMatch& m, RecurrentKernel& k, Step& step) {
    const Node& n = m.node();
    const Tensor bias = m.has(3) ? b.constant(n.inputs[3]) : Tensor(), peephole = m.has(7) ? b.constant(n.inputs[7]) : Tensor();
    for (size_t i : {3, 4, 7}) {
      if (m.has(i)) b.keep_original(n.inputs[i]);  // small; other editions read them again
    }
    const int64_t all = m.gates * m.hidden, h = m.hidden;
    const std::string direction = n.text("direction", "forward");
    Panels input(b, step, n.inputs[1], k.width), state(b, step, n.inputs[2], k.width);
    const auto functions = ops::recurrent_functions(n, m.directions);
    const size_t each = functions.size() / static_cast<size_t>(m.directions);
    for (int64_t d = 0; d < m.directions; ++d) {
      Direction to;
      for (size_t i = 0; i < each; ++i) {
        const ops::RecurrentFunction& f = functions[static_cast<size_t>(d) * each + i];
        to.functions[i] = {static_cast<kernels::GateCurve>(f.curve), static_cast<float>(f.alpha), static_cast<float>(f.beta)};
      }
      to.backwards = direction == "reverse" || d == 1;
      to.input = input.part(d, 0, all);
      to.state = state.part(d, 0, k.late ? 2 * h : all);
      if (k.late) to.late = state.part(d, 2 * h, h);
      to.input_bias.assign(all, 0);
      if (!bias.empty()) {
        const float *wb = bias.as<float>().data() + d * 2 * all, *rb = wb + all;
        // The state's bias joins the input's, but for a candidate that is scaled by the reset gate.
        for (int64_t i = 0; i < all; ++i) to.input_bias[i] = wb[i] + (m.after() && i >= 2 * h ? 0.0f : rb[i]);
        if (m.after()) {
          to.state_bias.assign(all, 0);
          std::copy_n(rb + 2 * h, h, to.state_bias.begin() + 2 * h);
        }
      }
      if (!peephole.empty()) to.peephole.assign(peephole.as<float>().data() + d * 3 * h, peephole.as<float>().data() + (d + 1) * 3 * h);
      k.directions.push_back(std::move(to));
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
