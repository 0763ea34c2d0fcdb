// Attention without the matrix of scores: blocks of keys pass over blocks of rows, and the softmax is carried along. Rotary embeddings.
#include <algorithm>
#include <cmath>
#include <limits>

#include "kernels/attention.hpp"
#include "kernels/copy.hpp"
#include "kernels/dense.hpp"
#include "lower/lowering.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

constexpr int64_t kKeys = 256;  // a block: its scores and both its packed operands stay in L2
constexpr int64_t kScores = kernels::kNearStride;
static_assert(kKeys <= kScores);
// Fewer rows of queries take the keys as they stand.
constexpr int64_t kFewRows = 8;

class AttentionKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  kernels::Soften soften = nullptr;
  kernels::Dots dots = nullptr;
  kernels::Mix mix = nullptr;
  // A state: keys and values of before, then those of now, put into one place each, which is what is attended to.
  struct Joined {
    kernels::CopyPlan plan;
    Place from, to;
  };
  std::vector<Joined> joined;
  int64_t past = 0;
  int64_t batch = 0, heads = 0, group = 1, length = 0, keys = 0, width = 0, value_width = 0, panel = 0, block_rows = 0;
  // Elements from one batch entry, head and row to the next.
  int64_t q_batch = 0, q_head = 0, q_row = 0, k_batch = 0, k_head = 0, k_row = 0, v_batch = 0, v_head = 0, v_row = 0, y_batch = 0,
          y_head = 0, y_row = 0;
  float scale = 1, blind = 0;
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
  bool few() const { return length < kFewRows; }

  void run(const StepContext& c) const override {
    for (const Joined& j : joined) {
      c.workers.each(j.plan.tasks, [&](int64_t task, int) {
        kernels::run_copy(j.plan, pointer<const char>(c, j.from), pointer<char>(c, j.to), task, task + 1);
      });
    }
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
    const int64_t last = causal ? std::min(keys, past + first + rows) : keys;  // keys that any row sees
    for (int64_t at = 0; at < last || at == 0; at += kKeys) {
      const int64_t n = std::min(kKeys, keys - at), panels = key_panels(n);
      if (!few()) {
        kernels::pack_panels(ks + at * k_row, 1, k_row, width, n, panel, packed_keys, 0, panels);
        for (int64_t i = 0; i < panels * panel * width; ++i) packed_keys[i] *= scale;
        kernels::pack_panels(vs + at * v_row, v_row, 1, n, value_width, panel, packed_values, 0, key_panels(value_width));
      }
      // Blocks of equal height: a last one of a row or two would be summed in another order than among many, and where it falls hangs on
      // the number of threads.
      const int64_t blocks = (rows + block_rows - 1) / block_rows;
      for (int64_t block = 0; block < blocks; ++block) {
        const int64_t r = rows * block / blocks, count = rows * (block + 1) / blocks - r;
        kernels::SoftenArguments s;
        if (causal) {
          s.visible = past + first + r + 1 - at;
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
        if (few()) dots({qs + r * q_row, q_row, count, ks + at * k_row, k_row, n, width, scale, scores, kScores});
        else dense(d);
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
        if (few()) {
          mix({scores, kScores, count, vs + at * v_row, v_row, n, value_width, out + r * y_row, y_row});
          continue;
        }
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
    kernels::settle({out, y_row, value_width, rows, total, blind});
  }
};

// Pairs of elements turned by the angle of their position.
class RotaryKernel : public StepKernel {
 public:
  Place x, cosines, sines, positions, y;
  bool flat = false, interleaved = false, placed = false, wraps = false;
  int64_t batch = 0, heads = 0, length = 0, width = 0, half = 0, rows = 0;
  std::string where;

  void run(const StepContext& c) const override {
    constexpr int64_t kEach = 16;
    const int64_t places = batch * length;
    for (int64_t i = 0; placed && i < places; ++i) {
      const int64_t row = position(c, i);
      if (row < 0 || row >= rows)
        throw Error({{Category::value, where, fmt::format("position {} is outside a cache of {} rows", row, rows)}});
    }
    c.workers.each((places + kEach - 1) / kEach, [&](int64_t task, int) {
      for (int64_t i = task * kEach; i < std::min(places, (task + 1) * kEach); ++i) turn(c, i / length, i % length);
    });
  }

  int64_t position(const StepContext& c, int64_t i) const {
    const int64_t row = pointer<const int64_t>(c, positions)[i];
    return wraps && row < 0 ? row + rows : row;
  }

  void turn(const StepContext& c, int64_t b, int64_t t) const {
    const int64_t row = placed ? position(c, b * length + t) : b * length + t;
    const float *cosine = pointer<const float>(c, cosines) + row * half, *sine = pointer<const float>(c, sines) + row * half;
    for (int64_t h = 0; h < heads; ++h) {
      const int64_t at = flat ? ((b * length + t) * heads + h) * width : ((b * heads + h) * length + t) * width;
      const float* from = pointer<const float>(c, x) + at;
      float* to = pointer<float>(c, y) + at;
      if (interleaved) {
        for (int64_t i = 0; i < half; ++i) {
          to[2 * i] = cosine[i] * from[2 * i] - sine[i] * from[2 * i + 1];
          to[2 * i + 1] = sine[i] * from[2 * i] + cosine[i] * from[2 * i + 1];
        }
      } else {
        for (int64_t i = 0; i < half; ++i) to[i] = cosine[i] * from[i] - sine[i] * from[half + i];
        for (int64_t i = 0; i < half; ++i) to[half + i] = sine[i] * from[i] + cosine[i] * from[half + i];
      }
      std::copy(from + 2 * half, from + width, to + 2 * half);
    }
  }
};

}  // namespace

bool lower_rotary(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Node& n = l.graph().nodes[group.nodes[0]];
  if (n.op != "RotaryEmbedding" || !n.domain.empty() || n.inputs.size() < 3 || !l.is_static(n.outputs[0])) return false;
  for (size_t i = 0; i < 3; ++i) {
    if (!l.is_static(n.inputs[i]) || l.dtype(n.inputs[i]) != DType::f32) return false;
  }
  auto kernel = std::make_unique<RotaryKernel>();
  RotaryKernel& k = *kernel;
  const Shape s = l.shape(n.inputs[0]), cs = l.shape(n.inputs[1]), ss = l.shape(n.inputs[2]);
  const int64_t heads = n.integer("num_heads", 0);
  k.flat = s.size() == 3;
  // What does not fit together is told by plain evaluation.
  if ((s.size() != 4 && !(k.flat && heads > 0)) || (k.flat && s[2] % heads != 0) || cs != ss || cs.empty()) return false;
  k.batch = s[0], k.length = k.flat ? s[1] : s[2], k.heads = k.flat ? heads : s[1], k.width = k.flat ? s[2] / heads : s[3];
  const int64_t asked = n.integer("rotary_embedding_dim", 0), turned = asked == 0 ? k.width : asked;
  if (turned < 0 || turned > k.width || turned % 2 != 0 || cs.back() != turned / 2 || turned == 0) return false;
  k.half = turned / 2;
  k.rows = element_count(cs) / k.half;
  k.interleaved = n.integer("interleaved", 0) != 0;
  k.wraps = n.integer(ops::kWrapPositions, 0) != 0;
  k.placed = n.inputs.size() > 3 && n.inputs[3] != kAbsent;
  Step step;
  if (k.placed) {
    const ValueId p = n.inputs[3];
    if (!l.is_static(p) || l.dtype(p) != DType::i64 || element_count(l.shape(p)) != k.batch * k.length) return false;
    k.positions = l.place(p, Layout::natural);
    step.reads.push_back(k.positions.buffer);
    step.can_fail = true;
  } else if (k.rows != k.batch * k.length) {
    return false;
  }
  k.x = l.place(n.inputs[0], Layout::natural);
  k.cosines = l.place(n.inputs[1], Layout::natural);
  k.sines = l.place(n.inputs[2], Layout::natural);
  k.y = l.define(n.outputs[0], Layout::natural);
  for (const Place& p : {k.x, k.cosines, k.sines}) step.reads.push_back(p.buffer);
  step.writes = {k.y.buffer};
  step.kind = "rotary";
  step.nodes = l.names(group);
  step.flops = 3.0 * static_cast<double>(element_count(s));
  step.bytes = 8.0 * static_cast<double>(element_count(s));
  step.recipe = fmt::format("{} of {} columns turned{}{}", turned, k.width, k.interleaved ? ", neighbours" : ", halves",
                            k.placed ? ", positions given" : "");
  k.where = label(l.graph(), n);
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

bool lower_attention(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  if (n.op != "Attention" || !n.domain.empty() || n.inputs.size() < 3) return false;
  // A cap on the scores, their inspection, or keys that do not count go by plain evaluation.
  const auto given = [](const std::vector<ValueId>& list, size_t i) { return i < list.size() && list[i] != kAbsent; };
  if (given(n.inputs, 6) || given(n.outputs, 3) || given(n.inputs, 4) != given(n.inputs, 5)) return false;
  const bool state = given(n.inputs, 4), kept = state || given(n.outputs, 1) || given(n.outputs, 2);
  for (size_t i = 0; i < 3; ++i) {
    if (state && i > 0 && (!l.is_static(n.inputs[3 + i]) || l.dtype(n.inputs[3 + i]) != DType::f32)) return false;
    if (given(n.outputs, i) && !l.is_static(n.outputs[i])) return false;
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
  const auto strides = [](const Shape& s, const std::vector<int64_t>& at, int64_t heads, int64_t& batch, int64_t& head, int64_t& row) {
    batch = at[0];
    head = s.size() == 4 ? at[1] : s[2] / heads;
    row = at[s.size() - 2];
  };
  const bool flat = qs.size() == 3;
  const int64_t q_heads = flat ? n.integer("q_num_heads", 1) : qs[1], kv_heads = flat ? n.integer("kv_num_heads", 1) : ks[1];
  a.batch = qs[0];
  a.heads = q_heads;
  if (kv_heads < 1 || q_heads % kv_heads != 0) return false;
  a.group = q_heads / kv_heads;
  a.length = flat ? qs[1] : qs[2];
  a.keys = flat ? ks[1] : ks[2];
  a.width = flat ? qs[2] / q_heads : qs[3];
  a.value_width = flat ? vs[2] / kv_heads : vs[3];
  if (flat ? vs[1] != a.keys || ks[2] != a.width * kv_heads : vs[1] != kv_heads || vs[2] != a.keys || ks[3] != a.width) return false;
  const int64_t fresh = a.keys;
  if (state) {
    const Shape pk = l.shape(n.inputs[4]), pv = l.shape(n.inputs[5]);
    if (pk.size() != 4 || pk != Shape{a.batch, kv_heads, pk[2], a.width} || pv != Shape{a.batch, kv_heads, pk[2], a.value_width})
      return false;
    a.past = pk[2];
    a.keys += a.past;
  }
  const Shape ys = l.shape(n.outputs[0]);
  strides(ys, logical_strides(ys, Layout::natural), q_heads, a.y_batch, a.y_head, a.y_row);
  a.scale = n.find<float>("scale") ? n.real("scale", 1) : 1 / std::sqrt(static_cast<float>(a.width));
  a.causal = n.integer("is_causal", 0) != 0;
  if (n.integer(ops::kUnseenRowsNan, 0) != 0) a.blind = std::numeric_limits<float>::quiet_NaN();
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
  a.dots = kernels::dots(isa);
  a.mix = kernels::mix(isa);
  a.panel = kernels::panel_width(isa);
  a.block_rows = 5 * kernels::max_rows(isa);
  const int64_t all = a.batch * a.heads, threads = l.options().threads;
  a.pieces = all >= threads * 2 ? 1 : std::clamp<int64_t>(threads * 2 / all, 1, std::max<int64_t>(1, a.length / a.block_rows));
  a.slots = threads > 1 ? std::min<int64_t>(all * a.pieces, threads * 4) : 1;
  for (size_t i = 0; i < 3; ++i) {
    Place& to = i == 0 ? a.q : i == 1 ? a.k : a.v;
    to = l.place_with_gaps(n.inputs[i], Layout::natural);
    step.reads.push_back(to.buffer);
  }
  strides(qs, strides_at(a.q, qs), q_heads, a.q_batch, a.q_head, a.q_row);
  strides(ks, strides_at(a.k, ks), kv_heads, a.k_batch, a.k_head, a.k_row);
  strides(vs, strides_at(a.v, vs), kv_heads, a.v_batch, a.v_head, a.v_row);
  a.y = l.define(n.outputs[0], Layout::natural);
  step.writes = {a.y.buffer};
  for (size_t i = 1; kept && i < 3; ++i) {
    Place& at = i == 1 ? a.k : a.v;
    int64_t &batch_stride = i == 1 ? a.k_batch : a.v_batch, &head = i == 1 ? a.k_head : a.v_head, &row = i == 1 ? a.k_row : a.v_row;
    const int64_t w = i == 1 ? a.width : a.value_width;
    const Shape whole{a.batch, kv_heads, a.keys, w};
    const auto strides_of = logical_strides(whole, Layout::natural);
    Place to;
    if (given(n.outputs, i)) {
      to = l.define(n.outputs[i], Layout::natural);
      step.writes.push_back(to.buffer);
    } else {
      to = {l.scratch(static_cast<size_t>(element_count(whole)) * sizeof(float))};
      step.scratch.push_back(to.buffer);
    }
    Place after = to;
    after.offset += static_cast<size_t>(a.past * w) * sizeof(float);
    if (a.past > 0) {
      const Place before = l.place(n.inputs[3 + i], Layout::natural);
      step.reads.push_back(before.buffer);
      const Shape part{a.batch, kv_heads, a.past, w};
      a.joined.push_back({kernels::plan_copy(4, part, logical_strides(part, Layout::natural), strides_of), before, to});
    }
    a.joined.push_back({kernels::plan_copy(4, {a.batch, kv_heads, fresh, w}, {batch_stride, head, row, 1}, strides_of), at, after});
    at = to;
    batch_stride = strides_of[0], head = strides_of[1], row = strides_of[2];
  }
  a.room = {l.scratch(static_cast<size_t>(a.slots * a.slot_floats()) * sizeof(float))};
  step.scratch.push_back(a.room.buffer);
  step.kind = "attention";
  step.nodes = l.names(group);
  step.flops = 2.0 * static_cast<double>(all * a.length) * static_cast<double>(a.keys) * static_cast<double>(a.width + a.value_width);
  step.bytes = 4.0 * static_cast<double>(element_count(qs) + element_count(ks) + element_count(vs) + element_count(l.shape(n.outputs[0])));
  step.recipe = fmt::format("{} heads, {} rows x {} keys of {}, blocks of {} keys{}{}", all, a.length, a.keys, a.width, kKeys,
                            a.causal ? ", causal" : "", a.has_mask ? ", masked" : "");
  if (state) step.recipe += fmt::format(", {} of them from before", a.past);
  if (a.few()) step.recipe += ", keys as they stand";
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
