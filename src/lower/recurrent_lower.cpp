// RNN, GRU and LSTM: one product for the inputs of all steps, then step by step a product with the state and the gates.
#include <algorithm>
#include <cstring>

#include "base/memory.hpp"
#include "kernels/dense.hpp"
#include "kernels/gates.hpp"
#include "lower/lowering.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

using kernels::GateOp;

// Weights of one direction, packed. `state` are the gates that use h as it is; `late` GRU's candidate, which uses r * h.
struct Direction {
  Place input, state, late;
  std::vector<float> input_bias, state_bias, peephole;
  bool backwards = false;
};

class RecurrentKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  kernels::Gates gates = nullptr;
  int64_t steps = 0, batch = 0, in = 0, hidden = 0, gate_count = 0, width = 0;
  GateOp op = GateOp::rnn;
  bool late = false;  // GRU: the candidate's product waits for the reset gate
  std::vector<Direction> directions;
  Place x, h0, c0, y, last_h, last_c;
  bool has_h0 = false, has_c0 = false, has_y = false, has_last_h = false, has_last_c = false;
  BufferId room = kNoBuffer;
  int64_t block_bytes = 0;  // of packed weights, how many are passed over together

  // Floats of scratch: gates of all inputs, gates of the state, r * h, the candidate, h, the next h, c.
  size_t room_floats() const {
    return static_cast<size_t>(steps * batch * gate_count * hidden + batch * gate_count * hidden + 5 * batch * hidden);
  }

  void multiply(const StepContext& c, const float* a, int64_t rows, int64_t depth, const Place& packed, int64_t columns, const float* bias,
                float* out, int64_t ldc) const {
    const int64_t panels = (columns + width - 1) / width;
    // A step of a small layer is over before another thread has woken.
    const bool shared = c.workers.size() > 1 && rows * depth * columns > 200'000;
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
      d.k_block = 576;
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
    const int64_t all = gate_count * hidden, cells = batch * hidden, count = static_cast<int64_t>(directions.size());
    auto* gx = reinterpret_cast<float*>(c.buffers[room]);
    float *gh = gx + steps * batch * all, *rh = gh + batch * all, *candidate = rh + cells, *h = candidate + cells, *next = h + cells,
          *state = next + cells;
    for (int64_t d = 0; d < count; ++d) {
      const Direction& w = directions[d];
      multiply(c, pointer<const float>(c, x), steps * batch, in, w.input, all, w.input_bias.data(), gx, all);
      const auto start = [&](bool has, const Place& place, float* to) {
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
        g.peephole = w.peephole.empty() ? nullptr : w.peephole.data();
        const auto each_row = [&](GateOp what, float* out) {
          g.op = what;
          for (int64_t b = 0; b < batch; ++b) {
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
        if (has_y) std::memcpy(pointer<float>(c, y) + (t * count + d) * cells, h, static_cast<size_t>(cells) * sizeof(float));
      }
      if (has_last_h) std::memcpy(pointer<float>(c, last_h) + d * cells, h, static_cast<size_t>(cells) * sizeof(float));
      if (has_last_c) std::memcpy(pointer<float>(c, last_c) + d * cells, state, static_cast<size_t>(cells) * sizeof(float));
    }
  }
};

// Weights [direction][gate][depth] of one input, put into panels a part of the gates at a time; the original goes once all of it is there.
class Panels {
 public:
  Panels(Lowering& l, Step& step, ValueId v, int64_t width) : l_(l), step_(step), v_(v), shape_(l.shape(v)), width_(width) {}

  // Gates (rows) [first, first + rows) of a direction, as the columns of a matrix.
  Place part(int64_t direction, int64_t first, int64_t rows) {
    const int64_t depth = shape_[2], from = (direction * shape_[1] + first) * depth, count = kernels::packed_size(depth, rows, width_);
    const auto make = [&] {
      const Tensor t = l_.constant(v_);
      auto to = floats(count);
      kernels::pack_panels(t.as<float>().data() + from, 1, depth, depth, rows, width_, to.get(), 0, (rows + width_ - 1) / width_);
      made_.push_back({from, rows, to});
      covered_ += rows * depth;
      return entry_of(to, count);
    };
    const Place at{
        l_.derived({v_, PackForm::recurrent, {width_, direction, first, rows}}, static_cast<size_t>(count) * sizeof(float), make)};
    step_.reads.push_back(at.buffer);
    bytes_ += static_cast<double>(count) * sizeof(float);
    return at;
  }

  void finish() {
    if (covered_ != element_count(shape_)) return;
    l_.release_after_packing(v_, [shape = shape_, made = made_, width = width_] {
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
  Lowering& l_;
  Step& step_;
  ValueId v_;
  Shape shape_;
  int64_t width_, covered_ = 0;
  double bytes_ = 0;
  std::vector<Made> made_;
};

}  // namespace

bool lower_recurrent(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  const bool lstm = n.op == "LSTM", gru = n.op == "GRU";
  if (!n.domain.empty() || (!lstm && !gru && n.op != "RNN")) return false;
  // What exporters write; the rest goes by plain evaluation: other activations, clipping, sequences of different lengths.
  for (const char* rare : {"activations", "clip", "layout", "input_forget"}) {
    if (n.attributes.contains(rare) && !(n.find<int64_t>(rare) && n.integer(rare, 0) == 0)) {
      const auto* names = n.find<std::vector<std::string>>(rare);
      const std::vector<std::string> usual = lstm  ? std::vector<std::string>{"Sigmoid", "Tanh", "Tanh"}
                                             : gru ? std::vector<std::string>{"Sigmoid", "Tanh"}
                                                   : std::vector<std::string>{"Tanh"};
      if (!names) return false;
      for (size_t i = 0; i < names->size(); ++i) {
        if ((*names)[i] != usual[i % usual.size()]) return false;
      }
    }
  }
  const auto given = [&](size_t i) { return i < n.inputs.size() && n.inputs[i] != kAbsent; };
  const auto constant = [&](size_t i) { return !given(i) || (l.is_constant(n.inputs[i]) && l.dtype(n.inputs[i]) == DType::f32); };
  if (!l.is_static(n.inputs[0]) || l.dtype(n.inputs[0]) != DType::f32 || !constant(1) || !constant(2) || !constant(3) || !constant(7))
    return false;
  for (size_t i : {5, 6}) {
    if (given(i) && !l.is_static(n.inputs[i])) return false;
  }
  for (ValueId v : n.outputs) {
    if (v != kAbsent && !l.is_static(v)) return false;
  }
  auto k = std::make_unique<RecurrentKernel>();
  const Shape xs = l.shape(n.inputs[0]), rs = l.shape(n.inputs[2]);
  k->steps = xs[0], k->batch = xs[1], k->in = xs[2], k->hidden = rs[2];
  k->gate_count = lstm ? 4 : gru ? 3 : 1;
  if (k->steps * k->batch * k->in * k->hidden == 0) return false;
  if (given(4)) {
    if (!l.is_constant(n.inputs[4])) return false;
    const auto lengths = integers(l.constant(n.inputs[4]));
    if (!std::ranges::all_of(lengths, [&](int64_t s) { return s == k->steps; })) return false;
  }
  const bool after = gru && n.integer("linear_before_reset", 0) != 0;
  k->late = gru && !after;
  k->op = lstm ? GateOp::lstm : !gru ? GateOp::rnn : after ? GateOp::gru_after : GateOp::gru;
  k->dense = kernels::dense(l.options().isa);
  k->gates = kernels::gates(l.options().isa);
  k->width = kernels::panel_width(l.options().isa);
  k->block_bytes = l.options().block_bytes;
  const Tensor b = given(3) ? l.constant(n.inputs[3]) : Tensor(), p = given(7) ? l.constant(n.inputs[7]) : Tensor();
  for (size_t i : {3, 4, 7}) {
    if (given(i)) l.weights().keep_raw(n.inputs[i]);  // small; other editions read them again
  }
  const int64_t all = k->gate_count * k->hidden, h = k->hidden;
  const std::string direction = n.text("direction", "forward");
  Step step;
  Panels input(l, step, n.inputs[1], k->width), state(l, step, n.inputs[2], k->width);
  for (int64_t d = 0; d < rs[0]; ++d) {
    Direction to;
    to.backwards = direction == "reverse" || d == 1;
    to.input = input.part(d, 0, all);
    to.state = state.part(d, 0, k->late ? 2 * h : all);
    if (k->late) to.late = state.part(d, 2 * h, h);
    to.input_bias.assign(all, 0);
    if (!b.empty()) {
      const float *wb = b.as<float>().data() + d * 2 * all, *rb = wb + all;
      // The state's bias joins the input's, but for a candidate that is scaled by the reset gate.
      for (int64_t i = 0; i < all; ++i) to.input_bias[i] = wb[i] + (after && i >= 2 * h ? 0.0f : rb[i]);
      if (after) {
        to.state_bias.assign(all, 0);
        std::copy_n(rb + 2 * h, h, to.state_bias.begin() + 2 * h);
      }
    }
    if (!p.empty()) to.peephole.assign(p.as<float>().data() + d * 3 * h, p.as<float>().data() + (d + 1) * 3 * h);
    k->directions.push_back(std::move(to));
  }
  if (n.inputs[1] != n.inputs[2]) {
    input.finish();
    state.finish();
  }
  step.kind = "recurrent";
  step.nodes = l.names(group);
  step.recipe = fmt::format("{} steps of batch {}, {} -> {}, {} direction{}", k->steps, k->batch, k->in, h, rs[0], rs[0] == 1 ? "" : "s");
  step.flops = 2.0 * static_cast<double>(rs[0] * k->steps * k->batch * all) * static_cast<double>(k->in + h);
  step.bytes = input.bytes() + state.bytes() + 4.0 * static_cast<double>(element_count(xs));
  const auto in = [&](size_t i, Place& place) {
    if (!given(i)) return false;
    place = l.place(n.inputs[i], Layout::natural);
    step.reads.push_back(place.buffer);
    return true;
  };
  in(0, k->x);
  k->has_h0 = in(5, k->h0);
  k->has_c0 = lstm && in(6, k->c0);
  const auto out = [&](size_t i, Place& place) {
    if (i >= n.outputs.size() || n.outputs[i] == kAbsent) return false;
    place = l.define(n.outputs[i], Layout::natural);
    step.writes.push_back(place.buffer);
    return true;
  };
  k->has_y = out(0, k->y);
  k->has_last_h = out(1, k->last_h);
  k->has_last_c = lstm && out(2, k->last_c);
  k->room = l.scratch(k->room_floats() * sizeof(float));
  step.scratch = {k->room};
  step.kernel = std::move(k);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
