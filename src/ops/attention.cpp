// Attention and rotary position embedding. Source: the standard's pages (23, 24); formulas below quote them.
#include <algorithm>
#include <cmath>

#include "ops/internal_attributes.hpp"
#include "ops/movement.hpp"
#include "ops/operands.hpp"
#include "ops/support.hpp"
#include "tensor/numbers.hpp"

namespace lathe::ops {
namespace {

// Q, K or V as batch x heads x length x width, from that form or from batch x length x (heads * width).
struct Heads {
  std::vector<double> v;
  int64_t batch, heads, length, width;
  const double* row(int64_t b, int64_t h, int64_t t) const { return v.data() + ((b * heads + h) * length + t) * width; }
};

Heads heads_of(const Tensor& t, int64_t heads, const char* name) {
  Heads out{widen<double>(t), 0, 0, 0, 0};
  if (t.rank() == 4) {
    out.batch = t.shape()[0], out.heads = t.shape()[1], out.length = t.shape()[2], out.width = t.shape()[3];
    return out;
  }
  if (t.rank() != 3) fail(Category::shape, "{} has shape {}, expected rank 3 or 4", name, to_string(t.shape()));
  if (heads < 1 || t.shape()[2] % heads != 0)
    fail(Category::value, "{} has {} columns, which {} heads do not share evenly", name, t.shape()[2], heads);
  out.batch = t.shape()[0], out.heads = heads, out.length = t.shape()[1], out.width = t.shape()[2] / heads;
  std::vector<double> moved(out.v.size());
  for (int64_t b = 0; b < out.batch; ++b) {
    for (int64_t s = 0; s < out.length; ++s) {
      for (int64_t h = 0; h < heads; ++h)
        std::copy_n(out.v.data() + ((b * out.length + s) * heads + h) * out.width, out.width,
                    moved.data() + ((b * heads + h) * out.length + s) * out.width);
    }
  }
  out.v = std::move(moved);
  return out;
}

// Past keys or values in front of the present ones.
Heads with_past(const Tensor& past, Heads now) {
  Heads old = heads_of(past, now.heads, "past");
  if (old.batch != now.batch || old.heads != now.heads || old.width != now.width)
    fail(Category::shape, "past is {}, which does not continue {} x {} x {} x {}", to_string(past.shape()), now.batch, now.heads,
         now.length, now.width);
  Heads all{{}, now.batch, now.heads, old.length + now.length, now.width};
  for (int64_t i = 0; i < now.batch * now.heads; ++i) {
    all.v.insert(all.v.end(), old.v.begin() + i * old.length * old.width, old.v.begin() + (i + 1) * old.length * old.width);
    all.v.insert(all.v.end(), now.v.begin() + i * now.length * now.width, now.v.begin() + (i + 1) * now.length * now.width);
  }
  return all;
}

// How Q, K, V, the mask, the kept keys and values, and the lengths must fit together.
void check_operands(const InferContext& c, bool flat) {
  const Dims &q = *c.dims(0), &k = *c.dims(1), &v = *c.dims(2);
  const int64_t qh = c.node().integer("q_num_heads", 0), kh = c.node().integer("kv_num_heads", 0);
  if (flat) c.require(qh > 0 && kh > 0, Category::value, "q_num_heads and kv_num_heads must be given for inputs of rank 3");
  const auto clash = [](const Dim& a, const Dim& b) { return a.known() && b.known() && a.value != b.value; };
  const auto part = [&](const Dim& d, int64_t heads, const char* name) {
    if (!d.known()) return Dim();
    c.require(d.value % heads == 0, Category::value,
              fmt::format("{} has {} columns, which {} heads do not share evenly", name, d.value, heads));
    return Dim(d.value / heads);
  };
  const size_t rows = flat ? 1 : 2;
  const Dim q_heads = flat ? Dim(qh) : q[1], k_heads = flat ? Dim(kh) : k[1], v_heads = flat ? Dim(kh) : v[1];
  const Dim qw = flat ? part(q[2], qh, "Q") : q[3], kw = flat ? part(k[2], kh, "K") : k[3], vw = flat ? part(v[2], kh, "V") : v[3];
  const bool groups = !q_heads.known() || !k_heads.known() || (k_heads.value > 0 ? q_heads.value % k_heads.value == 0 : q_heads.value == 0);
  c.require(!clash(q[0], k[0]) && !clash(q[0], v[0]) && !clash(k_heads, v_heads) && !clash(k[rows], v[rows]) && !clash(qw, kw) && groups,
            Category::shape, fmt::format("Q {}, K {} and V {} do not fit one another", to_string(q), to_string(k), to_string(v)));
  const auto expect = [&](int i, const char* name, const Dims& wanted) {
    const auto& dims = c.dims(i);
    if (!dims) return;
    bool fits = dims->size() == wanted.size();
    for (size_t d = 0; fits && d < wanted.size(); ++d) fits = !clash((*dims)[d], wanted[d]);
    c.require(fits, Category::shape, fmt::format("input {} ({}) has shape {}, expected {}", i, name, to_string(*dims), to_string(wanted)));
  };
  c.require(c.has(4) == c.has(5), Category::value, "inputs 4 (past_key) and 5 (past_value) go together");
  Dim past(int64_t{0});
  if (c.has(4)) {
    past = c.rank(4) == 4 ? (*c.dims(4))[2] : Dim();
    if (!past.known() && c.rank(5) == 4) past = (*c.dims(5))[2];
    expect(4, "past_key", {q[0], k_heads, past, kw});
    expect(5, "past_value", {q[0], v_heads, past, vw});
  }
  const Dim keys = sum(past, k[rows]);
  if (const auto& mask = c.dims(3)) {
    const Dims whole{q[0], q_heads, q[rows], keys};
    bool fits = mask->size() <= 4;
    for (size_t i = 0; fits && i < mask->size(); ++i) {
      const Dim &m = (*mask)[i], &w = whole[4 - mask->size() + i];
      // 24: one shorter than the keys leaves the rest of them out.
      const bool shorter = c.version() >= 24 && i + 1 == mask->size() && m.known() && w.known() && m.value <= w.value;
      fits = m.value == 1 || shorter || !clash(m, w);
    }
    c.require(
        fits, Category::shape,
        fmt::format("input 3 (attn_mask) has shape {}, which does not broadcast to the scores of {}", to_string(*mask), to_string(whole)));
  }
  if (c.dtype(3) != DType::undefined)
    c.require(c.dtype(3) == DType::boolean || standard_float(c.dtype(3)), Category::type,
              fmt::format("input 3 (attn_mask) is {}, expected bool or a floating type", to_string(c.dtype(3))));
  if (c.has(6)) {
    need(
        c, 6, [](DType d) { return d == DType::i64; }, "i64");
    expect(6, "nonpad_kv_seqlen", {q[0]});
  }
}

void infer_attention(InferContext& c) {
  for (int i : {0, 1, 2, 4, 5}) need(c, i, standard_float, "a floating type");
  need_same(c, 0, 1);
  const bool flat = c.rank(0) == 3;
  const auto unknown = [&] {
    c.set(0, c.dtype(0), c.rank(0) >= 0 ? std::optional<Dims>(Dims(c.rank(0))) : std::nullopt);
    c.set(1, c.dtype(1), Dims(4));
    c.set(2, c.dtype(2), Dims(4));
    c.set(3, c.dtype(0), Dims(4));
  };
  if (c.rank(0) < 0 || c.rank(1) < 0 || c.rank(2) < 0) return unknown();
  c.require(c.rank(0) == c.rank(1) && c.rank(0) == c.rank(2) && (c.rank(0) == 3 || c.rank(0) == 4), Category::shape,
            fmt::format("Q, K and V have ranks {}, {} and {}, expected 3 or 4 for all", c.rank(0), c.rank(1), c.rank(2)));
  const Dims &q = *c.dims(0), &k = *c.dims(1), &v = *c.dims(2);
  check_operands(c, flat);
  const int64_t qh = c.node().integer("q_num_heads", 0), kh = c.node().integer("kv_num_heads", 0);
  if (flat && (qh < 1 || kh < 1)) c.fail(Category::value, "q_num_heads and kv_num_heads must be given for inputs of rank 3");
  const auto part = [](const Dim& d, int64_t n) { return d.known() ? Dim(d.value / n) : Dim(); };
  const Dim heads = flat ? Dim(qh) : q[1], kv_heads = flat ? Dim(kh) : k[1], length = q[flat ? 1 : 2];
  const Dim kw = flat ? part(k[2], kh) : k[3], vw = flat ? part(v[2], kh) : v[3];
  Dim total = k[flat ? 1 : 2];
  if (c.has(4)) {
    const Dim past = c.rank(4) == 4 ? (*c.dims(4))[2] : Dim();
    total = sum(total, past);
  }
  if (flat) c.set(0, c.dtype(0), Dims{q[0], length, product(vw, Dim(qh))});
  else c.set(0, c.dtype(0), Dims{q[0], heads, length, vw});
  c.set(1, c.dtype(1), Dims{q[0], kv_heads, total, kw});
  c.set(2, c.dtype(2), Dims{q[0], kv_heads, total, vw});
  c.set(3, c.dtype(0), Dims{q[0], heads, length, total});
}

// softmax(cap(scale * Q K' + mask)) V, head by head; K and V heads are shared by groups of Q heads.
std::vector<Tensor> attention(const EvalContext& c) {
  const bool flat = c.in(0).rank() == 3;
  const Heads q = heads_of(c.in(0), c.node.integer("q_num_heads", 0), "Q");
  Heads k = heads_of(c.in(1), c.node.integer("kv_num_heads", 0), "K"), v = heads_of(c.in(2), c.node.integer("kv_num_heads", 0), "V");
  int64_t past = 0;
  if (c.has(4) != c.has(5)) fail(Category::value, "past_key and past_value go together");
  if (c.has(4)) {
    past = c.in(4).shape().at(2);
    k = with_past(c.in(4), std::move(k));
    v = with_past(c.in(5), std::move(v));
  }
  if (k.batch != q.batch || v.batch != q.batch || k.heads != v.heads || k.length != v.length || k.width != q.width || k.heads < 1 ||
      q.heads % k.heads != 0)
    fail(Category::shape, "Q {}, K {} and V {} do not fit one another", to_string(c.in(0).shape()), to_string(c.in(1).shape()),
         to_string(c.in(2).shape()));
  const int64_t group = q.heads / k.heads;
  const double scale = c.node.find<float>("scale") ? c.node.real("scale", 1) : 1 / std::sqrt(static_cast<double>(q.width));
  const double cap = c.node.real("softcap", 0), capped = c.node.real(kCapped, 0);
  const bool no_nan = c.node.integer(kNanWeightsZero, 0) != 0;
  const bool causal = c.node.integer("is_causal", 0) != 0;
  const double unseen = c.node.integer(kUnseenRowsNan, 0) != 0 ? NAN : 0;
  const int64_t stage = c.node.integer("qk_matmul_output_mode", 0);
  const Shape scores_shape{q.batch, q.heads, q.length, k.length};
  std::vector<double> mask;
  bool masked_by_bool = false;
  if (c.has(3)) {
    Tensor m = c.in(3);
    // A mask shorter than the keys leaves the rest out (24).
    if (m.rank() > 0 && m.shape().back() < k.length && m.shape().back() != 1) {
      Shape rest = m.shape();
      rest.back() = k.length - rest.back();
      const bool flag = m.dtype() == DType::boolean;
      const Tensor fill = narrow<double>(m.dtype(), rest, std::vector<double>(element_count(rest), flag ? 0 : -INFINITY));
      const Tensor parts[] = {m, fill};
      m = join(parts, -1);
    }
    masked_by_bool = m.dtype() == DType::boolean;
    mask = widen_to<double>(m, scores_shape);
  }
  std::vector<int64_t> valid;
  if (c.has(6)) valid = integers(c.in(6));  // 24: how many keys count, by batch entry
  std::vector<double> y(q.batch * q.heads * q.length * v.width, 0), kept(c.output_count > 3 ? element_count(scores_shape) : 0);
  std::vector<double> row(k.length);
  for (int64_t b = 0; b < q.batch; ++b) {
    for (int64_t h = 0; h < q.heads; ++h) {
      for (int64_t t = 0; t < q.length; ++t) {
        const int64_t at = ((b * q.heads + h) * q.length + t) * k.length;
        const auto keep = [&](int64_t when) {
          if (!kept.empty() && stage == when) std::copy(row.begin(), row.end(), kept.begin() + at);
        };
        for (int64_t s = 0; s < k.length; ++s) {
          double sum = 0;
          const double *a = q.row(b, h, t), *e = k.row(b, h / group, s);
          for (int64_t i = 0; i < q.width; ++i) sum += a[i] * e[i];
          row[s] = sum * scale;
          if (capped > 0) row[s] = capped * std::tanh(row[s] / capped);
        }
        keep(0);
        for (int64_t s = 0; s < k.length; ++s) {
          if (!mask.empty()) row[s] = masked_by_bool ? (mask[at + s] != 0 ? row[s] : -INFINITY) : row[s] + mask[at + s];
          if (causal && s > t + past) row[s] = -INFINITY;
          if (!valid.empty() && s >= valid.at(b)) row[s] = -INFINITY;
        }
        keep(1);
        if (cap > 0) {
          for (double& e : row) e = cap * std::tanh(e / cap);
        }
        keep(2);
        double top = -INFINITY, sum = 0;
        for (double e : row) top = std::max(top, e);
        // A row that sees no key gives zeros; one with a NaN gives NaN.
        const bool blind = std::ranges::all_of(row, [](double e) { return e == -INFINITY; });
        for (double& e : row) {
          e = blind ? unseen : std::exp(e - top);
          sum += e;
        }
        for (double& e : row) {
          e = blind ? unseen : e / sum;
          if (no_nan && std::isnan(e)) e = 0;
        }
        keep(3);
        double* to = y.data() + (flat ? ((b * q.length + t) * q.heads + h) * v.width : ((b * q.heads + h) * q.length + t) * v.width);
        for (int64_t s = 0; s < k.length; ++s) {
          const double* e = v.row(b, h / group, s);
          for (int64_t i = 0; i < v.width; ++i) to[i] += row[s] * e[i];
        }
      }
    }
  }
  const DType d = c.in(0).dtype();
  const Shape out_shape = flat ? Shape{q.batch, q.length, q.heads * v.width} : Shape{q.batch, q.heads, q.length, v.width};
  std::vector<Tensor> out{narrow<double>(d, out_shape, y)};
  if (c.output_count > 1) out.push_back(narrow<double>(c.in(1).dtype(), Shape{k.batch, k.heads, k.length, k.width}, k.v));
  if (c.output_count > 2) out.push_back(narrow<double>(c.in(2).dtype(), Shape{v.batch, v.heads, v.length, v.width}, v.v));
  if (c.output_count > 3) out.push_back(narrow<double>(d, scores_shape, kept));
  return out;
}

void infer_rotary(InferContext& c) {
  for (int i = 0; i < 3; ++i) need(c, i, standard_float, "a floating type");
  need_same(c, 0, 1);
  need_same(c, 0, 2);
  if (c.has(3))
    need(
        c, 3, [](DType d) { return d == DType::i64; }, "i64");
  same_as_first(c);
  const int64_t heads = c.node().integer("num_heads", 0), asked = c.node().integer("rotary_embedding_dim", 0);
  c.require(asked >= 0 && asked % 2 == 0, Category::value,
            fmt::format("attribute 'rotary_embedding_dim' is {}, expected an even number", asked));
  if (!c.dims(0)) return;
  const Dims& x = *c.dims(0);
  const bool flat = x.size() == 3;
  c.require(x.size() == 4 || (flat && heads > 0), Category::shape,
            fmt::format("input 0 (X) has shape {}, expected rank 4, or rank 3 and num_heads", to_string(x)));
  Dim width = x[flat ? 2 : 3];
  if (flat && width.known()) {
    c.require(width.value % heads == 0, Category::value, fmt::format("{} columns are not shared evenly by {} heads", width.value, heads));
    width = Dim(width.value / heads);
  }
  const Dim turned = asked > 0 ? Dim(asked) : width;
  if (turned.known() && width.known())
    c.require(turned.value <= width.value && turned.value % 2 == 0, Category::value,
              fmt::format("{} of {} columns cannot be turned in pairs", turned.value, width.value));
  const Dim half = turned.known() ? Dim(turned.value / 2) : Dim();
  const bool placed = c.has(3);
  const auto expect = [&](int i, const char* name, const Dims& wanted) { expect_dims(c, i, name, wanted); };
  const Dim length = x[flat ? 1 : 2];
  for (int i = 1; i < 3; ++i) {
    const char* name = i == 1 ? "cos_cache" : "sin_cache";
    if (placed) expect(i, name, {c.rank(1) == 2 ? (*c.dims(1))[0] : Dim(), half});
    else expect(i, name, {x[0], length, half});
  }
  if (placed) expect(3, "position_ids", {x[0], length});
}

// Pairs of elements turned by an angle that grows with the position: halves of the width, or neighbours when interleaved.
std::vector<Tensor> rotary(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t heads = c.node.integer("num_heads", 0);
  if (x.rank() != 4 && !(x.rank() == 3 && heads > 0))
    fail(Category::shape, "X is {}, expected rank 4, or rank 3 and num_heads", to_string(x.shape()));
  const bool flat = x.rank() == 3;
  const int64_t batch = x.shape()[0], length = flat ? x.shape()[1] : x.shape()[2], count = flat ? heads : x.shape()[1];
  if (flat && x.shape()[2] % heads != 0) fail(Category::value, "{} columns are not shared evenly by {} heads", x.shape()[2], heads);
  const int64_t width = flat ? x.shape()[2] / heads : x.shape()[3];
  const int64_t asked = c.node.integer("rotary_embedding_dim", 0), turned = asked == 0 ? width : asked;
  if (turned < 0 || turned > width || turned % 2 != 0)
    fail(Category::value, "rotary_embedding_dim is {}, expected an even number up to {}", turned, width);
  const int64_t half = turned / 2;
  const bool interleaved = c.node.integer("interleaved", 0) != 0, wraps = c.node.integer(kWrapPositions, 0) != 0;
  const auto cosines = widen<double>(c.in(1)), sines = widen<double>(c.in(2));
  std::vector<int64_t> positions;
  if (c.has(3)) {
    positions = integers(c.in(3));
    if (static_cast<int64_t>(positions.size()) != batch * length)
      fail(Category::shape, "position_ids has {} entries, expected {}", positions.size(), batch * length);
  }
  const int64_t rows = static_cast<int64_t>(cosines.size()) / std::max<int64_t>(1, half);
  if (cosines.size() != sines.size() || c.in(1).rank() < 1 || c.in(1).shape().back() != half || (!c.has(3) && rows != batch * length))
    fail(Category::shape, "the caches are {} and {}, expected rows of {}", to_string(c.in(1).shape()), to_string(c.in(2).shape()), half);
  auto v = widen<double>(x);
  const auto source = v;
  for (int64_t b = 0; b < batch; ++b) {
    for (int64_t t = 0; t < length; ++t) {
      int64_t row = c.has(3) ? positions[b * length + t] : b * length + t;
      if (wraps && row < 0) row += rows;
      if (row < 0 || row >= rows) fail(Category::value, "position {} is outside a cache of {} rows", row, rows);
      for (int64_t h = 0; h < count; ++h) {
        const int64_t at = flat ? ((b * length + t) * count + h) * width : ((b * count + h) * length + t) * width;
        for (int64_t i = 0; i < half; ++i) {
          const int64_t first = at + (interleaved ? 2 * i : i), second = at + (interleaved ? 2 * i + 1 : half + i);
          const double cosine = cosines[row * half + i], sine = sines[row * half + i];
          v[first] = cosine * source[first] - sine * source[second];
          v[second] = sine * source[first] + cosine * source[second];
        }
      }
    }
  }
  return {narrow<double>(x.dtype(), x.shape(), v)};
}

}  // namespace

void add_attention(std::vector<OpDef>& out) {
  OpDef d = def("Attention", 23, 3, 7, Trait::opaque, infer_attention, attention, 4);
  out.push_back(d);
  out.push_back(def("RotaryEmbedding", 23, 3, 4, Trait::opaque, infer_rotary, rotary));
}

}  // namespace lathe::ops
