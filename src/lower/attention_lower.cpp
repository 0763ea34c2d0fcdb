// Attention without the matrix of scores: blocks of keys pass over blocks of rows, and the softmax is carried along.
#include <algorithm>
#include <cmath>

#include "kernels/attention.hpp"
#include "kernels/dense.hpp"
#include "lower/lowering.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

constexpr int64_t kKeys = 256;  // a block: its scores and both its packed operands stay in L2
constexpr int64_t kScores = kernels::kNearStride;
static_assert(kKeys <= kScores);

class AttentionKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  kernels::Soften soften = nullptr;
  int64_t batch = 0, heads = 0, group = 1, length = 0, keys = 0, width = 0, value_width = 0, panel = 0, block_rows = 0;
  // Elements from one batch entry, head and row to the next.
  int64_t q_batch = 0, q_head = 0, q_row = 0, k_batch = 0, k_head = 0, k_row = 0, v_batch = 0, v_head = 0, v_row = 0, y_batch = 0,
          y_head = 0, y_row = 0;
  float scale = 1;
  bool causal = false, has_mask = false, mask_is_bool = false;
  int64_t mask_batch = 0, mask_head = 0, mask_row = 0;
  Place q, k, v, y, mask, room;
  int64_t pieces = 1;  // of the rows of a head, when there are few heads
  int64_t slots = 1;

  int64_t key_panels(int64_t n) const { return (n + panel - 1) / panel; }
  // Floats of scratch a slot takes: packed keys, packed values, scores, tops and totals.
  int64_t slot_floats() const {
    return key_panels(kKeys) * panel * width + key_panels(value_width) * panel * kKeys + block_rows * kScores + 2 * piece_rows() + 64;
  }
  int64_t piece_rows() const { return (length + pieces - 1) / pieces; }

  void run(const StepContext& c) const override {
    const int64_t tasks = batch * heads * pieces;
    c.workers.each(slots, [&](int64_t slot, int) {
      for (int64_t t = tasks * slot / slots; t < tasks * (slot + 1) / slots; ++t) piece(c, slot, t);
    });
  }

  void piece(const StepContext& c, int64_t slot, int64_t task) const {
    const int64_t b = task / pieces / heads, h = task / pieces % heads, p = task % pieces;
    const int64_t first = length * p / pieces, rows = length * (p + 1) / pieces - first;
    float* packed_keys = pointer<float>(c, room) + slot * slot_floats();
    float* packed_values = packed_keys + key_panels(kKeys) * panel * width;
    float* scores = packed_values + key_panels(value_width) * panel * kKeys;
    float *top = scores + block_rows * kScores, *total = top + piece_rows();
    const float* qs = pointer<const float>(c, q) + b * q_batch + h * q_head + first * q_row;
    const float* ks = pointer<const float>(c, k) + b * k_batch + h / group * k_head;
    const float* vs = pointer<const float>(c, v) + b * v_batch + h / group * v_head;
    float* out = pointer<float>(c, y) + b * y_batch + h * y_head + first * y_row;
    const int64_t last = causal ? std::min(keys, first + rows) : keys;  // keys that any row sees
    for (int64_t at = 0; at < last || at == 0; at += kKeys) {
      const int64_t n = std::min(kKeys, keys - at), panels = key_panels(n);
      kernels::pack_panels(ks + at * k_row, 1, k_row, width, n, panel, packed_keys, 0, panels);
      for (int64_t i = 0; i < panels * panel * width; ++i) packed_keys[i] *= scale;
      kernels::pack_panels(vs + at * v_row, v_row, 1, n, value_width, panel, packed_values, 0, key_panels(value_width));
      for (int64_t r = 0; r < rows; r += block_rows) {
        const int64_t count = std::min(block_rows, rows - r);
        kernels::SoftenArguments s;
        if (causal) {
          s.visible = first + r + 1 - at;
          // All of this block lies ahead of all of these rows.
          if (s.visible + count - 1 <= 0 && at > 0) continue;
        }
        kernels::DenseArguments d;
        d.a = qs + r * q_row;
        d.lda = q_row;
        d.run = width;
        d.row_end = count;
        d.panel_end = panels;
        d.columns = n;
        d.b = packed_keys;
        d.c = scores;
        d.ldc = kScores;
        dense(d);
        s.scores = scores;
        s.stride = kScores;
        s.rows = count;
        s.columns = n;
        s.top = top + r;
        s.total = total + r;
        s.out = out + r * y_row;
        s.out_stride = y_row;
        s.width = value_width;
        s.first = at == 0;
        if (has_mask) {
          const int64_t offset = b * mask_batch + h * mask_head + (first + r) * mask_row + at;
          if (mask_is_bool) s.keep = pointer<const uint8_t>(c, mask) + offset;
          else s.mask = pointer<const float>(c, mask) + offset;
          s.mask_stride = mask_row;
        }
        soften(s);
        d = {};
        d.a = scores;
        d.lda = kScores;
        d.run = n;
        d.row_end = count;
        d.panel_end = key_panels(value_width);
        d.columns = value_width;
        d.b = packed_values;
        d.c = out + r * y_row;
        d.ldc = y_row;
        d.epilogue.residual = d.c;  // what the keys before gave
        d.epilogue.residual_stride = y_row;
        dense(d);
      }
    }
    kernels::settle({out, y_row, value_width, rows, total});
  }
};

}  // namespace

bool lower_attention(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  if (n.op != "Attention" || !n.domain.empty() || n.inputs.size() < 3) return false;
  // A state of its own, a cap on the scores or their inspection go by plain evaluation.
  for (size_t i = 4; i < n.inputs.size(); ++i) {
    if (n.inputs[i] != kAbsent) return false;
  }
  for (size_t i = 1; i < n.outputs.size(); ++i) {
    if (n.outputs[i] != kAbsent) return false;
  }
  if (n.real("softcap", 0) != 0 || n.attributes.contains("softmax_precision")) return false;
  for (size_t i = 0; i < 3; ++i) {
    if (!l.is_static(n.inputs[i]) || l.dtype(n.inputs[i]) != DType::f32) return false;
  }
  if (!l.is_static(n.outputs[0])) return false;
  auto kernel = std::make_unique<AttentionKernel>();
  AttentionKernel& a = *kernel;
  const Shape qs = l.shape(n.inputs[0]), ks = l.shape(n.inputs[1]), vs = l.shape(n.inputs[2]);
  if (element_count(qs) == 0 || element_count(ks) == 0 || element_count(vs) == 0) return false;
  // What does not fit together is told by plain evaluation.
  if (ks.size() != qs.size() || vs.size() != qs.size() || (qs.size() != 3 && qs.size() != 4) || ks[0] != qs[0] || vs[0] != qs[0])
    return false;
  const auto strides = [](const Shape& s, int64_t heads, int64_t& batch, int64_t& head, int64_t& row) {
    if (s.size() == 4) {
      row = s[3];
      head = s[2] * row;
      batch = s[1] * head;
    } else {
      row = s[2];
      head = row / heads;
      batch = s[1] * row;
    }
  };
  const bool flat = qs.size() == 3;
  const int64_t q_heads = flat ? n.integer("q_num_heads", 1) : qs[1], kv_heads = flat ? n.integer("kv_num_heads", 1) : ks[1];
  strides(qs, q_heads, a.q_batch, a.q_head, a.q_row);
  strides(ks, kv_heads, a.k_batch, a.k_head, a.k_row);
  strides(vs, kv_heads, a.v_batch, a.v_head, a.v_row);
  a.batch = qs[0];
  a.heads = q_heads;
  if (kv_heads < 1 || q_heads % kv_heads != 0) return false;
  a.group = q_heads / kv_heads;
  a.length = flat ? qs[1] : qs[2];
  a.keys = flat ? ks[1] : ks[2];
  a.width = flat ? qs[2] / q_heads : qs[3];
  a.value_width = flat ? vs[2] / kv_heads : vs[3];
  if (flat ? vs[1] != a.keys || ks[2] != a.width * kv_heads : vs[1] != kv_heads || vs[2] != a.keys || ks[3] != a.width) return false;
  strides(l.shape(n.outputs[0]), q_heads, a.y_batch, a.y_head, a.y_row);
  a.scale = n.find<float>("scale") ? n.real("scale", 1) : 1 / std::sqrt(static_cast<float>(a.width));
  a.causal = n.integer("is_causal", 0) != 0;
  Step step;
  if (n.inputs.size() > 3 && n.inputs[3] != kAbsent) {
    const ValueId m = n.inputs[3];
    if (!l.is_static(m) || (l.dtype(m) != DType::f32 && l.dtype(m) != DType::boolean)) return false;
    const Shape ms = l.shape(m), whole{a.batch, a.heads, a.length, a.keys};
    if (ms.empty() || ms.size() > 4 || ms.back() != a.keys) return false;
    const auto at = operand_strides(ms, Layout::natural, whole);
    a.has_mask = true;
    a.mask_is_bool = l.dtype(m) == DType::boolean;
    a.mask_batch = at[0], a.mask_head = at[1], a.mask_row = at[2];
    a.mask = l.place(m, Layout::natural);
    step.reads.push_back(a.mask.buffer);
  }
  const kernels::Isa isa = l.options().isa;
  a.dense = kernels::dense(isa);
  a.soften = kernels::soften(isa);
  a.panel = kernels::panel_width(isa);
  a.block_rows = 4 * kernels::max_rows(isa);
  const int64_t all = a.batch * a.heads, threads = l.options().threads;
  a.pieces = all >= threads * 2 ? 1 : std::clamp<int64_t>(threads * 2 / all, 1, std::max<int64_t>(1, a.length / a.block_rows));
  a.slots = threads > 1 ? std::min<int64_t>(all * a.pieces, threads * 4) : 1;
  for (size_t i = 0; i < 3; ++i) {
    Place& to = i == 0 ? a.q : i == 1 ? a.k : a.v;
    to = l.place(n.inputs[i], Layout::natural);
    step.reads.push_back(to.buffer);
  }
  a.y = l.define(n.outputs[0], Layout::natural);
  step.writes = {a.y.buffer};
  a.room = {l.scratch(static_cast<size_t>(a.slots * a.slot_floats()) * sizeof(float))};
  step.scratch = {a.room.buffer};
  step.kind = "attention";
  step.nodes = l.names(group);
  step.flops = 2.0 * static_cast<double>(all * a.length) * static_cast<double>(a.keys) * static_cast<double>(a.width + a.value_width);
  step.bytes = 4.0 * static_cast<double>(element_count(qs) + element_count(ks) + element_count(vs) + element_count(l.shape(n.outputs[0])));
  step.recipe = fmt::format("{} heads, {} rows x {} keys of {}, blocks of {} keys{}{}", all, a.length, a.keys, a.width, kKeys,
                            a.causal ? ", causal" : "", a.has_mask ? ", masked" : "");
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
