#include <algorithm>
#include <numeric>

#include "ops/internal_attributes.hpp"
#include "passes/patterns.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {

std::optional<Part> part_of(const Rewriter& r, ValueId v) {
  if (const int n = r.maker(v, "Slice"); n >= 0) {
    const Node& slice = r.node(n);
    const auto shape = r.shape(slice.inputs[0]);
    if (!shape || shape->empty() || slice.inputs.size() < 3) return std::nullopt;
    const auto at = [&](size_t i) {
      return slice.inputs.size() > i && slice.inputs[i] != kAbsent ? r.integers(slice.inputs[i]) : std::nullopt;
    };
    const auto starts = at(1), ends = at(2), axes = at(3), steps = at(4);
    const int64_t rank = static_cast<int64_t>(shape->size()), width = shape->back();
    if (!starts || !ends || starts->size() != 1 || ends->size() != 1) return std::nullopt;
    const int64_t axis = axes && axes->size() == 1 ? (*axes)[0] : 0;
    if ((axis != -1 && axis != rank - 1) || (slice.inputs.size() > 4 && (!steps || *steps != std::vector<int64_t>{1}))) return std::nullopt;
    const auto wrapped = [&](int64_t i) { return std::clamp<int64_t>(i < 0 ? i + width : i, 0, width); };
    return Part{slice.inputs[0], wrapped((*starts)[0]), wrapped((*ends)[0]), n};
  }
  if (const int n = r.producer(v); n >= 0 && r.node(n).op == "Split" && r.node(n).domain.empty()) {
    const Node& split = r.node(n);
    const auto shape = r.shape(split.inputs[0]);
    const int64_t axis = split.integer("axis", 0);
    if (!shape || (axis != -1 && axis + 1 != static_cast<int64_t>(shape->size()))) return std::nullopt;
    int64_t from = 0;
    for (ValueId out : split.outputs) {
      const auto part = r.shape(out);
      if (!part) return std::nullopt;
      if (out == v) return Part{split.inputs[0], from, from + part->back(), n};
      from += part->back();
    }
  }
  return std::nullopt;
}

namespace {

using Attributes = std::map<std::string, Attribute>;

// Cosines or sines of the angles, once for both halves of the columns.
struct Angles {
  Tensor table;           // [positions, half], with `ids` or by place; or
  ValueId of = kAbsent;   // the angles themselves, [batch, length, half]
  ValueId ids = kAbsent;  // [batch, length]
  std::vector<int> inside;
};

// The left half of a table whose right half says the same.
std::optional<Tensor> once(const Tensor& t, int64_t width) {
  if (t.dtype() != DType::f32 || width < 2 || t.size() % width != 0) return std::nullopt;
  const int64_t rows = t.size() / width, half = width / 2;
  const auto in = t.as<float>();
  Tensor out(DType::f32, {rows, half});
  for (int64_t i = 0; i < rows; ++i) {
    if (!std::equal(&in[i * width], &in[i * width] + half, &in[i * width] + half)) return std::nullopt;
    std::copy_n(&in[i * width], half, &out.as<float>()[i * half]);
  }
  return out;
}

std::optional<Angles> angles(const Rewriter& r, ValueId v, const char* function, const Shape& x) {
  const int64_t length = x[2], width = x[3];
  Angles a;
  if (const Tensor* t = r.constant(v)) {
    Shape s = t->shape();
    while (s.size() > 2 && s.front() == 1) s.erase(s.begin());
    if (s != Shape{length, width}) return std::nullopt;
    const auto table = once(*t, width);
    if (!table) return std::nullopt;
    a.table = *table;
    return a;
  }
  // Said for all heads: [batch, 1, length, width].
  const int u = r.maker(v, "Unsqueeze");
  const auto axes = u < 0 || r.node(u).inputs.size() < 2 ? std::nullopt : r.integers(r.node(u).inputs[1]);
  if (!axes || *axes != std::vector<int64_t>{1}) return std::nullopt;
  a.inside = {u};
  const ValueId flat = r.node(u).inputs[0];
  if (const int g = r.maker(flat, "Gather"); g >= 0 && r.node(g).integer("axis", 0) == 0) {
    const Tensor* t = r.constant(r.node(g).inputs[0]);
    const auto ids = r.shape(r.node(g).inputs[1]);
    if (!t || t->rank() != 2 || t->shape()[1] != width || !ids || *ids != Shape{x[0], length}) return std::nullopt;
    if (r.dtype(r.node(g).inputs[1]) != DType::i64) return std::nullopt;
    const auto table = once(*t, width);
    if (!table) return std::nullopt;
    a.table = *table;
    a.ids = r.node(g).inputs[1];
    a.inside.push_back(g);
    return a;
  }
  if (const int f = r.maker(flat, function); f >= 0) {
    const int joined = r.maker(r.node(f).inputs[0], "Concat");
    if (joined < 0 || r.node(joined).inputs.size() != 2 || r.node(joined).inputs[0] != r.node(joined).inputs[1]) return std::nullopt;
    const auto s = r.shape(r.node(joined).inputs[0]);
    const int64_t axis = r.node(joined).integer("axis", 0);
    if (!s || *s != Shape{x[0], length, width / 2} || (axis != -1 && axis != 2)) return std::nullopt;
    a.of = r.node(joined).inputs[0];
    a.inside.insert(a.inside.end(), {f, joined});
    return a;
  }
  return std::nullopt;
}

// A constant with one number for each channel, [channels, 1, 1]; or one for all.
std::optional<Tensor> by_channel(const Rewriter& r, ValueId v, const Shape& x) {
  const Tensor* t = r.constant(v);
  if (!t || t->dtype() != DType::f32) return std::nullopt;
  Shape s = t->shape();
  if (s.size() > x.size()) return std::nullopt;
  while (s.size() < x.size()) s.insert(s.begin(), 1);
  for (size_t i = 0; i < s.size(); ++i) {
    if (s[i] != 1 && (i != 1 || s[i] != x[1])) return std::nullopt;
  }
  Tensor out(DType::f32, {x[1]});
  for (int64_t i = 0; i < x[1]; ++i) out.as<float>()[i] = t->as<float>()[t->size() == 1 ? 0 : i];
  return out;
}

}  // namespace

bool rotary(Rewriter& r, int n) {
  const Node& node = r.node(n);
  if (node.op != "Add" || r.dtype(node.outputs[0]) != DType::f32) return false;
  for (int side = 0; side < 2; ++side) {
    const int straight = r.maker(node.inputs[side], "Mul"), turned = r.maker(node.inputs[1 - side], "Mul");
    if (straight < 0 || turned < 0) continue;
    for (int j = 0; j < 2; ++j) {
      const int joined = r.maker(r.node(turned).inputs[j], "Concat");
      if (joined < 0 || r.node(joined).inputs.size() != 2) continue;
      const int negative = r.maker(r.node(joined).inputs[0], "Neg");
      const auto low = part_of(r, r.node(joined).inputs[1]);
      const auto high = negative < 0 ? std::nullopt : part_of(r, r.node(negative).inputs[0]);
      if (!low || !high || low->x != high->x) continue;
      const ValueId x = low->x;
      const auto shape = r.shape(x);
      const int64_t axis = r.node(joined).integer("axis", 0);
      if (!shape || shape->size() != 4 || (axis != -1 && axis != 3) || (*shape)[3] % 2 != 0) continue;
      const int64_t half = (*shape)[3] / 2;
      if (low->from != 0 || low->to != half || high->from != half || high->to != 2 * half) continue;
      const int by = r.node(straight).inputs[0] == x ? 1 : r.node(straight).inputs[1] == x ? 0 : -1;
      if (by < 0 || r.shape(node.outputs[0]) != shape) continue;
      const auto cosine = angles(r, r.node(straight).inputs[by], "Cos", *shape),
                 sine = angles(r, r.node(turned).inputs[1 - j], "Sin", *shape);
      if (!cosine || !sine || cosine->of != sine->of || cosine->ids != sine->ids) continue;
      std::vector<int> inside{straight, turned, joined, negative, low->node, high->node, n};
      for (const auto* a : {&*cosine, &*sine}) inside.insert(inside.end(), a->inside.begin(), a->inside.end());
      std::vector<ValueId> inputs{x};
      if (cosine->of != kAbsent) {
        for (const char* f : {"Cos", "Sin"}) inputs.push_back(r.before(n, f, 7, {cosine->of}, {}, DType::f32, *r.graph_dims(cosine->of)));
      } else {
        if (cosine->table.shape() != sine->table.shape()) continue;
        const std::string name = r.graph().values[node.outputs[0]].name;
        const int64_t batch = (*shape)[0], length = (*shape)[2];
        // Without positions the op wants a table for each entry of the batch.
        const bool by_place = cosine->ids == kAbsent && batch == 1;
        const auto table = [&](const Tensor& t) { return by_place ? t.reshaped({1, length, half}) : t; };
        inputs.push_back(r.add_constant(name + ".cos", table(cosine->table)));
        inputs.push_back(r.add_constant(name + ".sin", table(sine->table)));
        if (cosine->ids != kAbsent) {
          inputs.push_back(cosine->ids);
        } else if (batch > 1) {
          Tensor places(DType::i64, {batch, length});
          for (int64_t i = 0; i < batch * length; ++i) places.as<int64_t>()[i] = i % length;
          inputs.push_back(r.add_constant(name + ".places", places));
        }
      }
      Attributes a;
      if (cosine->ids != kAbsent) a[ops::kWrapPositions].data = int64_t{1};
      if (r.become(n, "RotaryEmbedding", 23, std::move(inputs), std::move(a), inside)) return true;
    }
  }
  return false;
}

bool blocks(Rewriter& r, int n) {
  const Node& node = r.node(n);
  if (node.op != "Reshape") return false;
  const int turn = r.maker(node.inputs[0], "Transpose");
  const int split = turn < 0 ? -1 : r.maker(r.node(turn).inputs[0], "Reshape");
  if (split < 0) return false;
  const ValueId x = r.node(split).inputs[0];
  const auto in = r.shape(x), out = r.shape(node.outputs[0]), apart = r.shape(r.node(split).outputs[0]);
  if (!in || !out || !apart || in->size() != 4 || out->size() != 4 || apart->size() != 6 || (*in)[0] != (*out)[0]) return false;
  const auto perm = r.node(turn).integers("perm");
  Attributes a;
  const char* op = "DepthToSpace";
  int64_t b = 0;
  if (element_count(*in) == 0) return false;
  if ((*out)[1] > 0 && (*out)[2] > (*in)[2] && (*out)[2] % (*in)[2] == 0) {
    b = (*out)[2] / (*in)[2];
    const int64_t depth = (*out)[1];
    if (*out != Shape{(*in)[0], depth, (*in)[2] * b, (*in)[3] * b} || (*in)[1] != depth * b * b) return false;
    if (*apart == Shape{(*in)[0], depth, b, b, (*in)[2], (*in)[3]} && perm == std::vector<int64_t>{0, 1, 4, 2, 5, 3})
      a["mode"].data = std::string("CRD");
    else if (!(*apart == Shape{(*in)[0], b, b, depth, (*in)[2], (*in)[3]} && perm == std::vector<int64_t>{0, 3, 4, 1, 5, 2})) return false;
  } else if ((*out)[2] > 0 && (*in)[2] > (*out)[2] && (*in)[2] % (*out)[2] == 0) {
    op = "SpaceToDepth";
    b = (*in)[2] / (*out)[2];
    if (*out != Shape{(*in)[0], (*in)[1] * b * b, (*in)[2] / b, (*in)[3] / b} || (*in)[3] % b != 0 ||
        *apart != Shape{(*in)[0], (*in)[1], (*in)[2] / b, b, (*in)[3] / b, b} || perm != std::vector<int64_t>{0, 3, 5, 1, 2, 4})
      return false;
  } else {
    return false;
  }
  a["blocksize"].data = b;
  return r.become(n, op, 13, {x}, std::move(a), {turn, split, n});
}

bool group_normalisation(Rewriter& r, int n) {
  const Node& node = r.node(n);
  if (node.op != "Add") return false;
  for (int side = 0; side < 2; ++side) {
    const int mul = r.maker(node.inputs[side], "Mul");
    for (int j = 0; mul >= 0 && j < 2; ++j) {
      const int back = r.maker(r.node(mul).inputs[j], "Reshape");
      const int norm = back < 0 ? -1 : r.maker(r.node(back).inputs[0], "InstanceNormalization");
      const int split = norm < 0 ? -1 : r.maker(r.node(norm).inputs[0], "Reshape");
      if (split < 0) continue;
      const ValueId x = r.node(split).inputs[0];
      const auto shape = r.shape(x), made = r.shape(node.outputs[0]), grouped = r.shape(r.node(split).outputs[0]);
      if (!shape || shape->size() < 3 || element_count(*shape) == 0 || made != shape || r.shape(r.node(back).outputs[0]) != shape ||
          !grouped || grouped->size() < 3)
        continue;
      const int64_t groups = (*grouped)[1];
      if ((*grouped)[0] != (*shape)[0] || groups < 1 || (*shape)[1] % groups != 0 || r.dtype(x) != DType::f32) continue;
      // The instances' own scale and shift must do nothing.
      const auto all = [&](ValueId v, float wanted) {
        const Tensor* t = r.constant(v);
        return t && t->dtype() == DType::f32 && std::ranges::all_of(t->as<float>(), [&](float f) { return f == wanted; });
      };
      if (!all(r.node(norm).inputs[1], 1) || !all(r.node(norm).inputs[2], 0)) continue;
      const auto scale = by_channel(r, r.node(mul).inputs[1 - j], *shape), shift = by_channel(r, node.inputs[1 - side], *shape);
      if (!scale || !shift) continue;
      Attributes a;
      a["num_groups"].data = groups;
      a["epsilon"].data = r.node(norm).real("epsilon", 1e-5f);
      const std::string name = r.graph().values[node.outputs[0]].name;
      const ValueId s = r.add_constant(name + ".scale", *scale), b = r.add_constant(name + ".shift", *shift);
      if (r.become(n, "GroupNormalization", 21, {x, s, b}, std::move(a), {mul, back, norm, split, n})) return true;
    }
  }
  return false;
}

ValueId before_repetition(const Rewriter& r, ValueId v, std::vector<int>& inside) {
  const int joined = r.maker(v, "Reshape");
  const int said = joined < 0 ? -1 : r.maker(r.node(joined).inputs[0], "Expand");
  if (said < 0) return kAbsent;
  const ValueId apart = r.node(said).inputs[0];
  int lifted = r.maker(apart, "Unsqueeze");
  if (lifted < 0) lifted = r.maker(apart, "Reshape");
  if (lifted < 0) return kAbsent;
  const ValueId base = r.node(lifted).inputs[0];
  const auto whole = r.shape(v), five = r.shape(r.node(said).outputs[0]), one = r.shape(apart), few = r.shape(base);
  if (!whole || !five || !one || !few || whole->size() != 4 || few->size() != 4 || five->size() != 5) return kAbsent;
  const auto& f = *few;
  if (*one != Shape{f[0], f[1], 1, f[2], f[3]} || *five != Shape{f[0], f[1], (*five)[2], f[2], f[3]} ||
      *whole != Shape{f[0], f[1] * (*five)[2], f[2], f[3]})
    return kAbsent;
  inside.insert(inside.end(), {joined, said, lifted});
  return base;
}

}  // namespace lathe::passes
