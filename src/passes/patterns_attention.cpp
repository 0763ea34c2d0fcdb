// Attention written out in products, a softmax and what scales, caps and hides scores.
#include <algorithm>
#include <cmath>

#include "base/fail.hpp"
#include "ops/internal_attributes.hpp"
#include "passes/patterns.hpp"

namespace lathe::passes {
namespace {

using Attributes = std::map<std::string, Attribute>;

std::vector<int64_t> order(const Rewriter& r, int n) { return r.node(n).integers("perm"); }

// v of transposed [batch, rows, heads, width] that is a reshape of [batch, rows, heads * width]: that value.
ValueId flat(const Rewriter& r, ValueId v, const std::vector<int64_t>& perm, std::vector<int>& inside) {
  const int t = r.maker(v, "Transpose");
  if (t < 0 || order(r, t) != perm) return kAbsent;
  const int s = r.maker(r.node(t).inputs[0], "Reshape");
  if (s < 0) return kAbsent;
  const auto whole = r.shape(r.node(s).inputs[0]), split = r.shape(r.node(s).outputs[0]);
  if (!whole || !split || whole->size() != 3 || split->size() != 4 || (*whole)[0] != (*split)[0] || (*whole)[1] != (*split)[1])
    return kAbsent;
  inside.insert(inside.end(), {t, s});
  return r.node(s).inputs[0];
}

// `v` without the constants that it is multiplied or divided by; they go into `scale`.
ValueId unscaled(const Rewriter& r, ValueId v, double& scale, std::vector<int>& inside) {
  constexpr int kMost = 3;
  for (int depth = 0; depth < kMost; ++depth) {
    const int d = r.maker(v, "Div"), m = r.maker(v, "Mul");
    if (d >= 0) {
      const auto by = r.scalar(r.node(d).inputs[1]);
      if (!by || *by == 0) return v;
      scale /= *by;
      inside.push_back(d);
      v = r.node(d).inputs[0];
    } else if (m >= 0) {
      const size_t side = r.scalar(r.node(m).inputs[1]) ? 1 : 0;
      const auto by = r.scalar(r.node(m).inputs[side]);
      if (!by) return v;
      scale *= *by;
      inside.push_back(m);
      v = r.node(m).inputs[1 - side];
    } else {
      return v;
    }
  }
  return v;
}

// Queries, keys and values of rank 3 have batch and heads in one axis.
bool joins_heads(const Shape& four, const Shape& three) {
  return four.size() == 4 && three.size() == 3 && four[0] * four[1] == three[0] && four[2] == three[1] && four[3] == three[2];
}

// Windows of a picture stand with its batch in one axis: [batch, windows, heads, rows, keys] as [batch * windows, heads, rows, keys].
bool joins_windows(const Shape& five, const Shape& four) {
  return five.size() == 5 && four.size() == 4 && five[0] * five[1] == four[0] && std::equal(five.begin() + 2, five.end(), four.begin() + 1);
}

// What a softmax is taken of: cap(scale q k') + masks.
struct Scores {
  int product = -1;
  double scale = 1, cap = 0;
  std::vector<ValueId> masks;
  std::optional<Shape> four;  // its shape with batch and heads apart, where it stands so
  std::vector<int> inside;
};
bool find_scores(const Rewriter& r, ValueId v, Scores& s, int depth) {
  constexpr int kDeepest = 6;
  if (depth > kDeepest) return false;
  if (const int add = r.maker(v, "Add"); add >= 0) {
    for (const size_t side : {0, 1}) {
      Scores below = s;
      if (!find_scores(r, r.node(add).inputs[side], below, depth + 1)) continue;
      s = std::move(below);
      s.masks.push_back(r.node(add).inputs[1 - side]);
      s.inside.push_back(add);
      return true;
    }
    return false;
  }
  if (const int turn = r.maker(v, "Reshape"); turn >= 0) {
    const auto from = r.shape(r.node(turn).inputs[0]), to = r.shape(v);
    if (!from || !to) return false;
    if (joins_heads(*from, *to) || joins_heads(*to, *from)) s.four = from->size() == 4 ? from : to;
    else if (!joins_windows(*from, *to) && !joins_windows(*to, *from)) return false;
    s.inside.push_back(turn);
    return find_scores(r, r.node(turn).inputs[0], s, depth + 1);
  }
  v = unscaled(r, v, s.scale, s.inside);
  if (const int t = r.maker(v, "Tanh"); t >= 0) {  // c tanh(x / c)
    if (!(s.scale > 0)) return false;
    s.cap = s.scale;
    s.inside.push_back(t);
    v = unscaled(r, r.node(t).inputs[0], s.scale, s.inside);
  }
  s.product = r.maker(v, "MatMul");
  return s.product >= 0;
}

struct AttentionForm {
  Rewriter& r;
  int last;  // the product with the values
  std::vector<int> inside{};
  int64_t batch = 0, heads = 0, rows = 0, width = 0, keys = 0, value_width = 0;

  // As [batch, heads, length, width]: what a Reshape has joined, or a view of it.
  ValueId apart(ValueId v, int64_t length, int64_t wide) {
    const auto shape = r.shape(v);
    if (!shape || shape->size() == 4) return v;
    const Shape four{batch, heads, length, wide};
    if (const int s = r.maker(v, "Reshape"); s >= 0 && r.shape(r.node(s).inputs[0]) == four) {
      inside.push_back(s);
      return r.node(s).inputs[0];
    }
    return reshaped(v, four);
  }
  ValueId reshaped(ValueId v, const Shape& to) {
    const ValueId shape = r.add_constant(r.graph().values[v].name + ".shape", Tensor::from<int64_t>({std::ssize(to)}, std::span(to)));
    return r.before(last, "Reshape", 14, {v, shape}, {}, r.dtype(v), Dims(to.begin(), to.end()));
  }

  // All that is added to the scores in one, as attention takes it; kAbsent: nothing is; nothing: it does not.
  std::optional<ValueId> mask_of(const std::vector<ValueId>& masks) {
    const Shape whole{batch, heads, rows, keys};
    ValueId all = kAbsent;
    Shape so_far;
    for (ValueId m : masks) {
      auto shape = r.shape(m);
      if (!shape || shape->empty() || shape->size() > 5 || r.dtype(m) != DType::f32) return std::nullopt;
      if (shape->size() == 5) {  // of windows, the same for each picture: of one picture that is a mask for each window
        if ((*shape)[0] != 1 || ((*shape)[1] != batch && (*shape)[1] != 1)) return std::nullopt;
        shape->erase(shape->begin());
        m = reshaped(m, *shape);
      }
      if (shape->size() == 3 && (*shape)[0] == batch * heads && batch > 1) {
        shape = Shape{batch, heads, (*shape)[1], (*shape)[2]};
        m = reshaped(m, *shape);
      }
      for (size_t i = 0; i < shape->size(); ++i) {
        const int64_t of = whole[4 - shape->size() + i];
        if ((*shape)[i] != of && (*shape)[i] != 1) return std::nullopt;
      }
      if (all == kAbsent) {
        all = m, so_far = *shape;
        continue;
      }
      Shape both(std::max(so_far.size(), shape->size()), 1);
      for (const Shape& one : {so_far, *shape}) {
        for (size_t i = 0; i < one.size(); ++i) {
          int64_t& size = both[both.size() - one.size() + i];
          size = std::max(size, one[i]);
        }
      }
      all = r.before(last, "Add", 14, {all, m}, {}, DType::f32, Dims(both.begin(), both.end()));
      so_far = both;
    }
    if (all != kAbsent && so_far.back() != keys) return std::nullopt;
    return all;
  }

  // Keys as [batch, heads, keys, width], of what the scores' product reads; kAbsent: they do not stand so anywhere.
  ValueId keys_of(ValueId kt, double& scale) {
    if (r.shape(kt)->size() == 3) {
      if (const int t = r.maker(kt, "Transpose"); t >= 0 && order(r, t) == std::vector<int64_t>{0, 2, 1}) {
        inside.push_back(t);
        return apart(unscaled(r, r.node(t).inputs[0], scale, inside), keys, width);
      }
      const int s = r.maker(kt, "Reshape");
      if (s < 0 || r.shape(r.node(s).inputs[0]) != Shape{batch, heads, width, keys}) return kAbsent;
      inside.push_back(s);
      kt = unscaled(r, r.node(s).inputs[0], scale, inside);
    }
    const int t = r.maker(kt, "Transpose");
    if (t < 0) return kAbsent;
    inside.push_back(t);
    const ValueId from = r.node(t).inputs[0];
    if (order(r, t) == std::vector<int64_t>{0, 1, 3, 2}) return unscaled(r, from, scale, inside);
    if (order(r, t) != std::vector<int64_t>{0, 2, 3, 1}) return kAbsent;
    Attributes perm;
    perm["perm"].data = std::vector<int64_t>{0, 2, 1, 3};
    return r.before(last, "Transpose", 13, {from}, std::move(perm), DType::f32, Dims{batch, heads, keys, width});
  }
};

}  // namespace

// Scores that a Where replaces by a number so low that nothing is left of them in the softmax: a mask is added instead, which attention
// takes. Where a row has nothing but such numbers both give equal weights: beside 1e30 the scores vanish.
bool hidden_scores(Rewriter& r, int n) {
  if (r.node(n).op != "Softmax") return false;
  const int w = r.maker(r.node(n).inputs[0], "Where");
  if (w < 0 || r.readers(r.node(w).outputs[0]) != 1 || r.dtype(r.node(w).outputs[0]) != DType::f32) return false;
  const auto in = r.node(w).inputs;
  constexpr double kNothing = -9999, kLow = -1e30;
  for (const size_t hidden : {size_t{2}, size_t{1}}) {
    const auto low = r.scalar(in[hidden]);
    const ValueId scores = in[3 - hidden];
    const auto &dims = r.graph_dims(in[0]), &whole = r.graph_dims(scores);
    if (!low || *low > kNothing || r.constant(scores) || !dims || !whole || dims->size() > whole->size()) continue;
    // A product's, perhaps scaled.
    ValueId at = scores;
    for (int depth = 0; depth < 3 && r.maker(at, "MatMul") < 0; ++depth) {
      const int scaled = std::max({r.maker(at, "Mul"), r.maker(at, "Div"), r.maker(at, "Add")});
      if (scaled < 0) return false;
      const auto& by = r.node(scaled).inputs;
      at = r.scalar(by[1]) || r.maker(by[0], "MatMul") >= 0 ? by[0] : by[1];
    }
    if (r.maker(at, "MatMul") < 0) return false;
    const std::string name = r.graph().values[r.node(w).outputs[0]].name;
    const Dims mask_dims = *dims;
    const ValueId gone =
                      r.add_constant(name + ".hidden", Tensor::from<float>({}, {std::isinf(*low) ? -INFINITY : static_cast<float>(kLow)})),
                  seen = r.add_constant(name + ".seen", Tensor::from<float>({}, {0}));
    const ValueId mask = r.before(w, "Where", 16, {in[0], hidden == 1 ? gone : seen, hidden == 1 ? seen : gone}, {}, DType::f32, mask_dims);
    return r.become(w, "Add", 14, {scores, mask}, {}, {});
  }
  return false;
}

bool attention(Rewriter& r, int n) {
  // With the heads joined again behind it: Reshape(Transpose(product)); else the product itself, when nothing of that kind follows.
  const Node& node = r.node(n);
  int last = n, turn = -1;
  if (node.op == "Reshape") {
    turn = r.maker(node.inputs[0], "Transpose");
    if (turn < 0 || order(r, turn) != std::vector<int64_t>{0, 2, 1, 3} || r.readers(node.inputs[0]) != 1) return false;
    last = r.maker(r.node(turn).inputs[0], "MatMul");
    if (last < 0 || r.readers(r.node(turn).inputs[0]) != 1) return false;
  } else if (node.op != "MatMul") {
    return false;
  }
  AttentionForm f{r, last};
  f.inside.push_back(last);
  Attributes a;
  // Weights that are no numbers, of rows whose every key is hidden, may be replaced by zeros.
  ValueId weights = r.node(last).inputs[0];
  int sharers = 1;
  if (const int w = r.maker(weights, "Where"); w >= 0) {
    const int no_number = r.maker(r.node(w).inputs[0], "IsNaN");
    if (no_number < 0 || r.readers(weights) != 1 || r.node(no_number).inputs[0] != r.node(w).inputs[2] ||
        r.scalar(r.node(w).inputs[1]) != 0.0)
      return false;
    weights = r.node(w).inputs[2];
    f.inside.insert(f.inside.end(), {w, no_number});
    a[ops::kNanWeightsZero].data = int64_t{1};
    sharers = 2;
  }
  const int soft = r.maker(weights, "Softmax");
  if (soft < 0 || r.readers(weights) != sharers) return false;
  f.inside.push_back(soft);
  const auto shape = r.shape(weights);
  const auto axis = r.node(soft).integer("axis", -1);
  if (!shape || (shape->size() != 4 && shape->size() != 3) || (axis != -1 && axis != std::ssize(*shape) - 1) ||
      r.graph().version_of(r.node(soft)) < 13)
    return false;
  Scores scores;
  if (!find_scores(r, r.node(soft).inputs[0], scores, 0) || r.readers(r.node(scores.product).outputs[0]) != 1) return false;
  f.inside.insert(f.inside.end(), scores.inside.begin(), scores.inside.end());
  f.inside.push_back(scores.product);
  double scale = scores.scale;
  const ValueId q = unscaled(r, r.node(scores.product).inputs[0], scale, f.inside),
                kt = unscaled(r, r.node(scores.product).inputs[1], scale, f.inside), v = r.node(last).inputs[1];
  const auto qs = r.shape(q), ks = r.shape(kt), vs = r.shape(v);
  if (!qs || !ks || !vs || qs->size() != shape->size() || ks->size() != shape->size() || vs->size() != shape->size()) return false;
  const bool joined = shape->size() == 3;
  const Shape rest_q(qs->end() - 2, qs->end()), rest_k(ks->end() - 2, ks->end()), rest_v(vs->end() - 2, vs->end());
  f.rows = rest_q[0], f.width = rest_q[1], f.keys = rest_k[1], f.value_width = rest_v[1];
  if (rest_k[0] != f.width || rest_v[0] != f.keys || !std::equal(qs->begin(), qs->end() - 2, ks->begin()) ||
      !std::equal(qs->begin(), qs->end() - 2, vs->begin()) || r.dtype(q) != DType::f32)
    return false;
  f.batch = (*qs)[0], f.heads = joined ? 1 : (*qs)[1];
  if (joined) {
    // Which of it is batch and which are heads, the scores may say, or where the values come from.
    const int s = r.maker(v, "Reshape");
    const auto before = s >= 0 ? r.shape(r.node(s).inputs[0]) : std::nullopt;
    const Shape* four = scores.four ? &*scores.four : before && joins_heads(*before, *vs) ? &*before : nullptr;
    if (four) f.batch = (*four)[0], f.heads = (*four)[1];
  }
  const auto mask = f.mask_of(scores.masks);
  if (!mask) return false;
  // A row that sees no key: softmax of nothing but -infinity is NaN, where the op itself gives zeros.
  if (*mask != kAbsent && sharers == 1) a[ops::kUnseenRowsNan].data = int64_t{1};
  if (scores.cap > 0) a[ops::kCapped].data = static_cast<float>(scores.cap);
  if (turn >= 0) {
    const auto out = r.shape(node.outputs[0]);
    std::vector<int> path;
    const ValueId fq = flat(r, q, {0, 2, 1, 3}, path), fk = flat(r, kt, {0, 2, 3, 1}, path), fv = flat(r, v, {0, 2, 1, 3}, path);
    if (out && *out == Shape{f.batch, f.rows, f.heads * f.value_width} && fq != kAbsent && fk != kAbsent && fv != kAbsent) {
      f.inside.insert(f.inside.end(), path.begin(), path.end());
      f.inside.insert(f.inside.end(), {turn, n});
      a["scale"].data = static_cast<float>(scale);
      a["q_num_heads"].data = f.heads;
      a["kv_num_heads"].data = f.heads;
      std::vector<ValueId> in{fq, fk, fv};
      if (*mask != kAbsent) in.push_back(*mask);
      return r.become(n, "Attention", 23, std::move(in), std::move(a), f.inside);
    }
  }
  ValueId k = f.keys_of(kt, scale);
  if (k == kAbsent) return false;
  a["scale"].data = static_cast<float>(scale);
  ValueId values = f.apart(v, f.keys, f.value_width);
  // Heads of keys and values that were said once for each head of a group.
  std::vector<int> path;
  if (const ValueId fk = before_repetition(r, k, path), fv = before_repetition(r, values, path); fk != kAbsent && fv != kAbsent) {
    if (r.shape(fk)->at(1) == r.shape(fv)->at(1)) {
      k = fk, values = fv;
      f.inside.insert(f.inside.end(), path.begin(), path.end());
    }
  }
  std::vector<ValueId> in{f.apart(q, f.rows, f.width), k, values};
  if (*mask != kAbsent) in.push_back(*mask);
  if (!joined) return r.become(last, "Attention", 23, std::move(in), std::move(a), f.inside);
  const ValueId apart =
      r.before(last, "Attention", 23, std::move(in), std::move(a), DType::f32, Dims{f.batch, f.heads, f.rows, f.value_width});
  const Shape whole{f.batch * f.heads, f.rows, f.value_width};
  const ValueId to = r.add_constant(r.graph().values[apart].name + ".shape", Tensor::from<int64_t>({3}, std::span(whole)));
  return r.become(last, "Reshape", 14, {apart, to}, {}, f.inside);
}

}  // namespace lathe::passes
