// Attention without the matrix of scores: blocks of keys pass over blocks of rows, and the softmax is carried along.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "lower/steps/attention_kernel.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

struct AttentionMatch : Match {
  using Match::Match;
  Shape qs, ks, vs;
  int64_t batch = 0, heads = 0, kv_heads = 0, length = 0, fresh = 0, past = 0, width = 0, value_width = 0;
  bool state = false;         // keys and values of before are given
  bool kept = false;          // all keys and values are put together first
  std::vector<int64_t> held;  // states of the lane that they are put behind instead
  int64_t keys() const { return past + fresh; }
};

// Elements from one batch entry, head and row to the next, of [batch, heads, rows, width] or [batch, rows, heads * width].
struct HeadStrides {
  int64_t batch, head, row;
};
HeadStrides head_strides(const Shape& s, const std::vector<int64_t>& strides, int64_t heads) {
  return {strides[0], s.size() == 4 ? strides[1] : s[2] / heads, strides[s.size() - 2]};
}

class AttentionFamily : public StepFamily {
 public:
  std::string_view name() const override { return "attention"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (n.op != "Attention" || !n.domain.empty() || n.inputs.size() < 3) return nullptr;
    // Inspection of the scores, or keys that do not count, go by plain evaluation.
    if (given(n.inputs, 6) || given(n.outputs, 3) || given(n.inputs, 4) != given(n.inputs, 5)) return nullptr;
    if (n.integer("softmax_precision", 1) != 1) return nullptr;  // f32
    auto m = std::make_unique<AttentionMatch>(view, group, StepKind::attention);
    m->held = n.integers(ops::kHeld);
    m->state = given(n.inputs, 4);
    m->kept = m->state || given(n.outputs, 1) || given(n.outputs, 2);
    for (size_t i = 0; i < 3; ++i) {
      if (!view.is_f32(n.inputs[i]) || (m->state && i > 0 && !view.is_f32(n.inputs[3 + i]))) return nullptr;
      if (given(n.outputs, i) && !view.is_static(n.outputs[i])) return nullptr;
    }
    if (!view.is_static(n.outputs[0]) || !fits(*m)) return nullptr;
    if (given(n.inputs, 3)) {
      const ValueId mask = n.inputs[3];
      const bool long_mask = !m->held.empty() && !view.is_static(mask);
      if (long_mask && view.dtype(mask) != DType::f32 && view.dtype(mask) != DType::boolean) return nullptr;
      if (!m->held.empty() && !long_mask) return nullptr;  // as long as the states are: nobody knows it now
      if (!long_mask) {
        if (!view.is_static(mask) || (view.dtype(mask) != DType::f32 && view.dtype(mask) != DType::boolean)) return nullptr;
        const Shape ms = view.shape(mask);
        if (ms.empty() || ms.size() > 4 || ms.back() != m->keys()) return nullptr;
      }
    }
    m->work.flops = 2.0 * static_cast<double>(m->batch * m->heads * m->length) * static_cast<double>(m->keys()) *
                    static_cast<double>(m->width + m->value_width);
    m->work.bytes = 4.0 * static_cast<double>(element_count(m->qs) + element_count(m->ks) + element_count(m->vs) +
                                              element_count(view.shape(n.outputs[0])));
    // Keys and values from before, and what they are put together to.
    for (size_t i : {4, 5}) {
      if (given(n.inputs, i) && view.is_static(n.inputs[i]))
        m->work.bytes += 4.0 * static_cast<double>(element_count(view.shape(n.inputs[i])));
    }
    for (size_t i : {1, 2}) {
      if (given(n.outputs, i) && view.is_static(n.outputs[i]))
        m->work.bytes += 4.0 * static_cast<double>(element_count(view.shape(n.outputs[i])));
    }
    return m;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const AttentionMatch&>(match);
    const int64_t all = m.batch * m.heads, threads = p.machine.threads, tile = kernels::max_rows(p.machine.isa), block = 5 * tile;
    const int64_t pieces = all >= threads * 2 ? 1 : std::clamp<int64_t>(threads * 2 / all, 1, std::max<int64_t>(1, m.length / block));
    space.knob("key_block", 256, 32, 640, 16, true);
    space.knob("block_rows", block, tile, 64 * tile, tile);
    space.knob("pieces", pieces, 1, std::max<int64_t>(1, m.length / block));
    space.knob("slots", threads > 1 ? std::min<int64_t>(all * pieces, threads * 4) : 1, 1, all);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const AttentionMatch&>(match);
    const Node& n = m.node();
    auto kernel = std::make_unique<AttentionKernel>();
    AttentionKernel& a = *kernel;
    Step step = begin_step(b, m);
    a.batch = m.batch, a.heads = m.heads, a.group = m.heads / m.kv_heads, a.length = m.length;
    a.past = m.past, a.keys = m.keys(), a.width = m.width, a.value_width = m.value_width;
    a.scale = n.find<float>("scale") ? n.real("scale", 1) : 1 / std::sqrt(static_cast<float>(a.width));
    a.causal = n.integer("is_causal", 0) != 0;
    if (n.integer(ops::kUnseenRowsNan, 0) != 0) a.blind = std::numeric_limits<float>::quiet_NaN();
    if (given(n.inputs, 3) && !m.held.empty()) {
      a.has_mask = true;
      a.long_mask = n.inputs[3];
      a.mask_is_bool = b.dtype(a.long_mask) == DType::boolean;
      a.mask_name = b.graph().values[a.long_mask].name;
    } else if (given(n.inputs, 3)) {
      bind_mask(b, m, a, step);
    }
    a.nan_weights_zero = n.integer(ops::kNanWeightsZero, 0) != 0;
    const float after = n.real("softcap", 0), cap = n.real(ops::kCapped, after);
    if (cap > 0) {
      a.hides_first = after > 0;
      a.capping.emplace();
      a.capping->inputs = 1;
      a.capping->steps = {{kernels::TapeOp::dequantise, 1, 0, 0, 0, 0, 1 / cap},
                          {kernels::TapeOp::tanh, 2, 1, 0, 0, 0, 0},
                          {kernels::TapeOp::dequantise, 3, 2, 0, 0, 0, cap}};
      a.capping->result = 3;
    }
    const kernels::Isa isa = p.machine.isa;
    a.dense = kernels::dense(isa);
    a.soften = kernels::soften(isa);
    a.dots = kernels::dots(isa);
    a.mix = kernels::mix(isa);
    a.panel = kernels::panel_width(isa);
    a.key_block = recipe.at("key_block"), a.block_rows = recipe.at("block_rows");
    a.pieces = recipe.at("pieces"), a.slots = recipe.at("slots");
    for (size_t i = 0; i < 3; ++i) {
      Location& to = i == 0 ? a.q : i == 1 ? a.k : a.v;
      to = b.strided(n.inputs[i], Layout::natural);
      step.reads.push_back(to.buffer);
    }
    const Shape ys = b.shape(n.outputs[0]);
    const HeadStrides q = head_strides(m.qs, strides_at(a.q, m.qs), m.heads), k = head_strides(m.ks, strides_at(a.k, m.ks), m.kv_heads),
                      v = head_strides(m.vs, strides_at(a.v, m.vs), m.kv_heads),
                      y = head_strides(ys, logical_strides(ys, Layout::natural), m.heads);
    a.q_batch = q.batch, a.q_head = q.head, a.q_row = q.row;
    a.k_batch = k.batch, a.k_head = k.head, a.k_row = k.row;
    a.v_batch = v.batch, a.v_head = v.head, a.v_row = v.row;
    a.y_batch = y.batch, a.y_head = y.head, a.y_row = y.row;
    a.y = b.define(n.outputs[0], Layout::natural);
    step.writes = {a.y.buffer};
    if (m.kept) bind_state(b, m, a, step);
    if (!m.held.empty()) a.held_keys = m.held[0], a.held_values = m.held[1], a.kv_heads = m.kv_heads, a.fresh = m.fresh;
    if (m.held.size() > 2 && m.held[2] != 0) {
      a.rounding.emplace();
      a.rounding->inputs = 1;
      a.rounding->steps.push_back({m.held[2] == 1 ? kernels::TapeOp::round_f16 : kernels::TapeOp::round_bf16, 1, 0, 0, 0, 0, 0});
      a.rounding->result = 1;
    }
    a.run_tape = kernels::run_tape(p.machine.isa);
    a.scratch = {b.scratch(static_cast<size_t>(a.slots * a.slot_floats()) * sizeof(float))};
    step.scratch.push_back(a.scratch.buffer);
    step.text = fmt::format("{} heads, {} rows x {} keys of {}, blocks of {} keys{}{}", m.batch * m.heads, a.length, a.keys, a.width,
                            a.key_block, a.causal ? ", causal" : "", a.has_mask ? ", masked" : "");
    if (a.capping) step.text += ", capped";
    if (m.state) step.text += fmt::format(", {} of them from before", a.past);
    step.keeps = !m.held.empty();
    if (step.keeps) step.text += ", behind those the lane holds";
    if (a.few()) step.text += ", keys as they stand";
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  // Sizes of the operands to one another. What does not fit together, plain evaluation reports.
  static bool fits(AttentionMatch& m) {
    const Node& n = m.node();
    const GraphView& view = *m.view;
    m.qs = view.shape(n.inputs[0]), m.ks = view.shape(n.inputs[1]), m.vs = view.shape(n.inputs[2]);
    const auto &qs = m.qs, &ks = m.ks, &vs = m.vs;
    if (element_count(qs) == 0 || element_count(ks) == 0 || element_count(vs) == 0) return false;
    if (ks.size() != qs.size() || vs.size() != qs.size() || (qs.size() != 3 && qs.size() != 4) || ks[0] != qs[0] || vs[0] != qs[0])
      return false;
    const bool flat = qs.size() == 3;
    m.batch = qs[0];
    m.heads = flat ? n.integer("q_num_heads", 1) : qs[1], m.kv_heads = flat ? n.integer("kv_num_heads", 1) : ks[1];
    if (m.kv_heads < 1 || m.heads < 1 || m.heads % m.kv_heads != 0) return false;
    m.length = flat ? qs[1] : qs[2], m.fresh = flat ? ks[1] : ks[2];
    m.width = flat ? qs[2] / m.heads : qs[3], m.value_width = flat ? vs[2] / m.kv_heads : vs[3];
    if (flat ? vs[1] != m.fresh || ks[2] != m.width * m.kv_heads : vs[1] != m.kv_heads || vs[2] != m.fresh || ks[3] != m.width)
      return false;
    if (!m.state) return true;
    const Shape pk = view.shape(n.inputs[4]), pv = view.shape(n.inputs[5]);
    if (pk.size() != 4 || pk != Shape{m.batch, m.kv_heads, pk[2], m.width} || pv != Shape{m.batch, m.kv_heads, pk[2], m.value_width})
      return false;
    m.past = pk[2];
    return true;
  }

  static void bind_mask(PlanBuilder& b, const AttentionMatch& m, AttentionKernel& a, Step& step) {
    const ValueId mask = m.node().inputs[3];
    const auto at = operand_strides(b.shape(mask), Layout::natural, Shape{a.batch, a.heads, a.length, a.keys});
    a.has_mask = true;
    a.mask_is_bool = b.dtype(mask) == DType::boolean;
    a.mask_batch = at[0], a.mask_head = at[1], a.mask_row = at[2];
    a.mask = b.contiguous(mask, Layout::natural);
    step.reads.push_back(a.mask.buffer);
  }

  // Keys and values of before and of now go into one buffer each, an output's or scratch, and are read there.
  static void bind_state(PlanBuilder& b, const AttentionMatch& m, AttentionKernel& a, Step& step) {
    const Node& n = m.node();
    for (size_t i = 1; i < 3; ++i) {
      Location& at = i == 1 ? a.k : a.v;
      int64_t &batch = i == 1 ? a.k_batch : a.v_batch, &head = i == 1 ? a.k_head : a.v_head, &row = i == 1 ? a.k_row : a.v_row;
      const int64_t w = i == 1 ? a.width : a.value_width;
      const Shape whole{a.batch, m.kv_heads, a.keys, w};
      const auto strides = logical_strides(whole, Layout::natural);
      Location to;
      if (given(n.outputs, i)) {
        to = b.define(n.outputs[i], Layout::natural);
        step.writes.push_back(to.buffer);
      } else {
        to = {b.scratch(static_cast<size_t>(element_count(whole)) * sizeof(float))};
        step.scratch.push_back(to.buffer);
      }
      Location after = to;
      after.offset += static_cast<size_t>(a.past * w) * sizeof(float);
      if (a.past > 0) {
        const Location before = b.contiguous(n.inputs[3 + i], Layout::natural);
        step.reads.push_back(before.buffer);
        const Shape part{a.batch, m.kv_heads, a.past, w};
        a.joined.push_back({kernels::plan_copy(4, part, logical_strides(part, Layout::natural), strides), before, to});
      }
      a.joined.push_back({kernels::plan_copy(4, {a.batch, m.kv_heads, m.fresh, w}, {batch, head, row, 1}, strides), at, after});
      at = to;
      batch = strides[0], head = strides[1], row = strides[2];
    }
  }
};

}  // namespace

const StepFamily& attention() {
  static const AttentionFamily family;
  return family;
}

}  // namespace lathe::lower
