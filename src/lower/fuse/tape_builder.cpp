#include "lower/fuse/tape_builder.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <map>

#include "lower/fuse/tape_ops.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {

using kernels::TapeOp;

kernels::TapeType TapeSource::type(const GraphView& view) const {
  return tape_type(value != kAbsent ? view.dtype(value) : constant.dtype());
}

Location TapeSource::locate(PlanBuilder& builder) const {
  return value != kAbsent ? builder.locate(value) : Location{builder.constant_buffer(constant)};
}

namespace {

constexpr size_t kMaxSteps = 64;

// Steps over virtual registers: sources first come, temporaries after.
class TapeMaker {
 public:
  explicit TapeMaker(const Graph& g) : graph_(g) {}

  int source(ValueId v) {
    const auto it = registers_.find(v);
    if (it != registers_.end()) return it->second;
    sources_.push_back({v, {}});
    kinds_.push_back(static_cast<int>(sources_.size()) - 1);
    return registers_[v] = static_cast<int>(kinds_.size()) - 1;
  }
  int source(Tensor t) {
    sources_.push_back({kAbsent, std::move(t)});
    kinds_.push_back(static_cast<int>(sources_.size()) - 1);
    return static_cast<int>(kinds_.size()) - 1;
  }
  int scalar(float v) { return source(Tensor::from<float>({}, {v})); }
  int put(TapeOp op, int a, int b = -1, int c = -1, float p = 0, float q = 0) {
    kinds_.push_back(-1);
    steps_.push_back({op, static_cast<int>(kinds_.size()) - 1, {a, b, c}, p, q});
    return steps_.back().out;
  }

  void node(const Node& n) {
    const auto in = [&](size_t i) { return source(n.inputs[i]); };
    int out = -1;
    if (const auto u = unary_tape_op(n.op)) {
      TapeOp op = *u;
      float p = 0, q = 0;
      if (n.op == "IsInf") p = static_cast<float>(n.integer("detect_negative", 1)), q = static_cast<float>(n.integer("detect_positive", 1));
      if (n.op == "LeakyRelu") p = n.real("alpha", 0.01f);
      if (n.op == "Elu" || n.op == "Celu" || n.op == "ThresholdedRelu") p = n.real("alpha", 1);
      if (n.op == "Selu") p = n.real("alpha", 1.67326319217681884765625f), q = n.real("gamma", 1.05070102214813232421875f);
      if (n.op == "Shrink") p = n.real("lambd", 0.5f), q = n.real("bias", 0);
      if (n.op == "HardSigmoid") p = n.real("alpha", 0.2f), q = n.real("beta", 0.5f);
      if (n.op == "Gelu" && n.text("approximate", "none") == "tanh") op = TapeOp::gelu_tanh;
      out = put(op, in(0), -1, -1, p, q);
    } else if (const auto b = binary_tape_op(n.op)) {
      const TapeOp op = n.op == "BitShift" && n.text("direction", "") == "RIGHT" ? TapeOp::shift_right : *b;
      out = put(op, in(0), in(1), -1, n.op == "Mod" ? static_cast<float>(n.integer("fmod", 0)) : 0);
    } else if (const auto v = variadic_tape_op(n.op)) {
      // A sum for a mean is taken of operands made smaller by a power of two, so that it stays in range where the mean does.
      const bool mean = n.op == "Mean" && n.inputs.size() > 1;
      const float shrink = std::ldexp(1.0f, -static_cast<int>(std::bit_width(n.inputs.size() - 1)));
      const auto operand = [&](size_t i) { return mean ? put(TapeOp::mul, in(i), scalar(shrink)) : in(i); };
      out = operand(0);
      for (size_t i = 1; i < n.inputs.size(); ++i) out = put(*v, out, operand(i));
      if (mean) out = put(TapeOp::div, out, scalar(static_cast<float>(n.inputs.size()) * shrink));
      if (n.inputs.size() == 1) out = put(TapeOp::copy, out);
    } else if (n.op == "Where") {
      out = put(TapeOp::where, in(0), in(1), in(2));
    } else if (n.op == "Cast") {
      const DType from = graph_.values[n.inputs[0]].dtype, to = graph_.values[n.outputs[0]].dtype;
      if (to == DType::boolean && from != DType::boolean) out = put(TapeOp::logical_not, put(TapeOp::logical_not, in(0)));
      else out = put(to == DType::f16 ? TapeOp::round_f16 : to == DType::bf16 ? TapeOp::round_bf16 : TapeOp::copy, in(0));
    } else if (n.op == "Clip") {
      out = clip(n);
    } else if (n.op == "DequantizeLinear") {
      const Quantisation q = *quantisation(graph_, n);
      out = in(0);
      if (q.scale.size() == 1) out = put(TapeOp::dequantise, out, -1, -1, q.zero.as<float>()[0], q.scale.as<float>()[0]);
      else if (std::ranges::any_of(q.zero.as<float>(), [](float z) { return z != 0; })) out = put(TapeOp::sub, out, source(q.zero));
      if (q.scale.size() != 1) out = put(TapeOp::mul, out, source(q.scale));
    } else if (n.op == "QuantizeLinear") {
      const Quantisation q = *quantisation(graph_, n);
      const bool one = q.scale.size() == 1;
      out = put(q.is_signed ? TapeOp::quantise_i8 : TapeOp::quantise_u8, one ? in(0) : put(TapeOp::div, in(0), source(q.scale)), -1, -1,
                q.zero.as<float>()[0], one ? q.scale.as<float>()[0] : 1);
    } else {  // BatchNormalization with constant parameters: x * scale + shift along axis 1
      const auto p = [&](size_t i) { return widen<double>(*graph_.values[n.inputs[i]].constant); };
      const auto gamma = p(1), beta = p(2), mean = p(3), variance = p(4);
      const size_t rank = known_shape(graph_.values[n.inputs[0]].dims)->size();
      std::vector<double> scale(gamma.size()), shift(gamma.size());
      for (size_t c = 0; c < gamma.size(); ++c) {
        scale[c] = gamma[c] / std::sqrt(variance[c] + n.real("epsilon", 1e-5f));
        shift[c] = beta[c] - mean[c] * scale[c];
      }
      Shape shape(rank, 1);
      shape[1] = static_cast<int64_t>(gamma.size());
      out = put(TapeOp::add, put(TapeOp::mul, in(0), source(narrow<double>(DType::f32, shape, scale))),
                source(narrow<double>(DType::f32, shape, shift)));
    }
    registers_[n.outputs[0]] = out;
  }

  std::optional<BuiltTape> finish(ValueId result) {
    // Registers to slots: sources keep theirs, temporaries share by lifetime.
    if (steps_.empty() || steps_.size() > kMaxSteps) return std::nullopt;
    std::vector<int> last(kinds_.size(), -1), slot(kinds_.size(), -1);
    for (size_t s = 0; s < steps_.size(); ++s) {
      for (int r : steps_[s].in) {
        if (r >= 0) last[r] = static_cast<int>(s);
      }
    }
    if (registers_.at(result) != steps_.back().out) return std::nullopt;
    BuiltTape out;
    for (size_t r = 0; r < kinds_.size(); ++r) slot[r] = kinds_[r];
    const int inputs = static_cast<int>(sources_.size());
    std::vector<int> free;
    int slots = inputs;
    for (size_t s = 0; s < steps_.size(); ++s) {
      const Virtual& v = steps_[s];
      // The output may take an input's slot: strips are read before they are written, element by element.
      for (int i = 0; i < 3; ++i) {
        const int r = v.in[i];
        const bool repeated = (i > 0 && v.in[0] == r) || (i > 1 && v.in[1] == r);
        if (r >= 0 && kinds_[r] < 0 && last[r] == static_cast<int>(s) && !repeated) free.push_back(slot[r]);
      }
      if (free.empty()) {
        slot[v.out] = slots++;
      } else {
        slot[v.out] = free.back();
        free.pop_back();
      }
      const auto at = [&](int r) { return static_cast<uint8_t>(r < 0 ? 0 : slot[r]); };
      out.tape.steps.push_back({v.op, at(v.out), at(v.in[0]), at(v.in[1]), at(v.in[2]), v.p, v.q});
    }
    if (slots > kernels::kMaxSlots) return std::nullopt;
    out.tape.inputs = inputs;
    out.tape.slots = slots;
    out.tape.result = out.tape.steps.back().out;
    out.tape.parts = parts(out.tape);
    out.sources = std::move(sources_);
    return out;
  }

 private:
  // Where the tape can be cut behind bytes, as early as that goes; nothing when too little would come after.
  std::shared_ptr<const kernels::TapeParts> parts(const kernels::Tape& whole) const {
    constexpr size_t kFewest = 3;
    const auto quantises = [](TapeOp op) { return op == TapeOp::quantise_u8 || op == TapeOp::quantise_i8; };
    for (size_t cut = 0; cut + kFewest < steps_.size(); ++cut) {
      if (!quantises(steps_[cut].op)) continue;
      auto p = std::make_shared<kernels::TapeParts>();
      std::map<int, int> slot{{steps_[cut].out, 0}};
      bool closed = true;
      for (size_t s = cut + 1; s < steps_.size(); ++s) {
        for (int r : steps_[s].in) {
          if (r < 0 || slot.contains(r)) continue;
          if (kinds_[r] >= 0) {
            p->operands.push_back(static_cast<uint8_t>(kinds_[r]));
            slot[r] = static_cast<int>(p->operands.size());
          } else if (std::none_of(steps_.begin() + static_cast<ptrdiff_t>(cut) + 1, steps_.begin() + static_cast<ptrdiff_t>(s),
                                  [&](const Virtual& v) { return v.out == r; })) {
            closed = false;
          }
        }
      }
      if (!closed) continue;
      int slots = static_cast<int>(p->operands.size()) + 1;
      p->after.inputs = slots;
      for (size_t s = cut + 1; s < steps_.size(); ++s) {
        const Virtual& v = steps_[s];
        const auto at = [&](int r) { return static_cast<uint8_t>(r < 0 ? 0 : slot.at(r)); };
        const uint8_t a = at(v.in[0]), b = at(v.in[1]), c = at(v.in[2]);
        slot[v.out] = slots++;
        p->after.steps.push_back({v.op, at(v.out), a, b, c, v.p, v.q});
      }
      if (slots > kernels::kMaxSlots) continue;
      p->after.slots = slots;
      p->after.result = p->after.steps.back().out;
      p->before.inputs = whole.inputs, p->before.slots = whole.slots;
      p->before.steps.assign(whole.steps.begin(), whole.steps.begin() + static_cast<ptrdiff_t>(cut) + 1);
      p->before.result = p->before.steps.back().out;
      p->between = steps_[cut].op == TapeOp::quantise_u8 ? kernels::TapeType::u8 : kernels::TapeType::i8;
      return p;
    }
    return nullptr;
  }

  struct Virtual {
    TapeOp op;
    int out;
    int in[3];
    float p, q;
  };

  int clip(const Node& n) {
    int x = source(n.inputs[0]);
    // Bounds of other types are not always floats.
    const bool by_attributes = compute_of(graph_, n) == kernels::TapeType::f32 || graph_.version_of(n) < 11;
    if (const auto bounds = by_attributes ? clip_bounds(graph_, n) : std::nullopt)
      return put(TapeOp::clip, x, -1, -1, bounds->first, bounds->second);
    const int start = x;
    if (n.inputs.size() > 1 && n.inputs[1] != kAbsent) x = put(TapeOp::max, x, source(n.inputs[1]));
    if (n.inputs.size() > 2 && n.inputs[2] != kAbsent) x = put(TapeOp::min, x, source(n.inputs[2]));
    if (x == start) x = put(TapeOp::copy, x);
    return x;
  }

  const Graph& graph_;
  std::vector<TapeSource> sources_;
  std::vector<int> kinds_;  // per register: index of its source, or -1
  std::map<ValueId, int> registers_;
  std::vector<Virtual> steps_;
};

}  // namespace

std::optional<BuiltTape> build_tape(const Graph& graph, std::span<const int> nodes, ValueId head) {
  TapeMaker maker(graph);
  if (head != kAbsent) maker.source(head);
  // Of what is made in integers or doubles, nothing else is computed in floats.
  for (int n : nodes.first(nodes.size() - 1)) {
    if (ends_tape(graph, graph.nodes[n])) return std::nullopt;
  }
  const kernels::TapeType compute = compute_of(graph, graph.nodes[nodes.front()]);
  for (int n : nodes) {
    if (compute_of(graph, graph.nodes[n]) != compute) return std::nullopt;
    maker.node(graph.nodes[n]);
  }
  auto built = maker.finish(graph.nodes[nodes.back()].outputs[0]);
  if (built) built->tape.compute = compute;
  return built;
}

}  // namespace lathe::lower
