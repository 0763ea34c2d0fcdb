// Patterns that exporters leave behind, written out in elementary ops: each becomes the standard's own op for it.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "ops/internal_attributes.hpp"
#include "passes/patterns.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {
namespace {

using Attributes = std::map<std::string, Attribute>;

// ---- activations ----

// u = x * factor, as a product or a quotient with a constant.
std::optional<ValueId> scaled(const Rewriter& r, ValueId u, double factor, std::vector<int>& inside) {
  if (const int m = r.maker(u, "Mul"); m >= 0) {
    inside.push_back(m);
    return r.beside(m, factor);
  }
  if (const int d = r.maker(u, "Div"); d >= 0 && r.is_scalar(r.node(d).inputs[1], 1 / factor)) {
    inside.push_back(d);
    return r.node(d).inputs[0];
  }
  return std::nullopt;
}

// The factors of a product, through nested ones that nobody else reads, down to `stop`; constants of one element join `scale`.
void factors(const Rewriter& r, ValueId v, ValueId stop, int depth, std::vector<ValueId>& out, double& scale, std::vector<int>& inside) {
  const int m = v == stop || depth == 0 ? -1 : r.maker(v, "Mul");
  if (m >= 0 && (inside.empty() || r.readers(v) == 1)) {
    inside.push_back(m);
    for (ValueId in : r.node(m).inputs) factors(r, in, stop, depth - 1, out, scale, inside);
    return;
  }
  if (const int d = v == stop || depth == 0 ? -1 : r.maker(v, "Div"); d >= 0 && r.readers(v) == 1) {
    if (const auto by = r.scalar(r.node(d).inputs[1]); by && *by != 0) {
      inside.push_back(d);
      scale /= *by;
      return factors(r, r.node(d).inputs[0], stop, depth - 1, out, scale, inside);
    }
  }
  if (const auto c = r.scalar(v)) scale *= *c;
  else out.push_back(v);
}

// x of x^3, as a power or as products.
std::optional<ValueId> cubed(const Rewriter& r, ValueId v, std::vector<int>& inside) {
  if (const int p = r.maker(v, "Pow"); p >= 0 && r.is_scalar(r.node(p).inputs[1], 3)) {
    inside.push_back(p);
    return r.node(p).inputs[0];
  }
  double scale = 1;
  std::vector<ValueId> of;
  const int m = r.maker(v, "Mul");
  if (m < 0) return std::nullopt;
  factors(r, v, kAbsent, 2, of, scale, inside);
  if (of.size() == 3 && scale == 1 && of[0] == of[1] && of[1] == of[2]) return of[0];
  return std::nullopt;
}

// What stands under 1 + erf(x / sqrt 2), or 1 + tanh(sqrt(2 / pi) (x + 0.044715 x^3)).
struct Bell {
  ValueId x = kAbsent, sum = kAbsent;
  bool tanh = false;
  std::vector<int> inside;
};

std::optional<Bell> bell(const Rewriter& r, ValueId v) {
  const int add = r.maker(v, "Add");
  if (add < 0) return std::nullopt;
  const auto inner = r.beside(add, 1);
  if (!inner) return std::nullopt;
  Bell b;
  b.sum = v;
  b.inside = {add};
  if (const int erf = r.maker(*inner, "Erf"); erf >= 0) {
    b.inside.push_back(erf);
    const auto x = scaled(r, r.node(erf).inputs[0], std::sqrt(0.5), b.inside);
    if (!x) return std::nullopt;
    b.x = *x;
    return b;
  }
  const int tanh = r.maker(*inner, "Tanh");
  if (tanh < 0) return std::nullopt;
  b.inside.push_back(tanh);
  const auto w = scaled(r, r.node(tanh).inputs[0], std::sqrt(2 / std::acos(-1.0)), b.inside);
  const int sum = w ? r.maker(*w, "Add") : -1;
  if (sum < 0) return std::nullopt;
  b.inside.push_back(sum);
  for (int side = 0; side < 2; ++side) {
    std::vector<int> path;
    const auto cube = scaled(r, r.node(sum).inputs[side], 0.044715, path);
    const auto x = cube ? cubed(r, *cube, path) : std::nullopt;
    if (!x || *x != r.node(sum).inputs[1 - side]) continue;
    b.inside.insert(b.inside.end(), path.begin(), path.end());
    b.x = *x;
    b.tanh = true;
    return b;
  }
  return std::nullopt;
}

bool gelu(Rewriter& r, int n) {
  const Node& node = r.node(n);
  if (node.op != "Mul") return false;
  // First without a floor, to find the bell; then down to its x.
  std::vector<ValueId> parts;
  std::vector<int> inside;
  double scale = 1;
  factors(r, node.outputs[0], kAbsent, 3, parts, scale, inside);
  for (ValueId part : parts) {
    const auto b = bell(r, part);
    if (!b) continue;
    std::vector<ValueId> of;
    std::vector<int> path;
    double half = 1;
    factors(r, node.outputs[0], b->x, 3, of, half, path);
    if (of.size() != 2 || std::fabs(half - 0.5) > 1e-4) return false;
    if (!((of[0] == b->x && of[1] == b->sum) || (of[1] == b->x && of[0] == b->sum))) return false;
    path.insert(path.end(), b->inside.begin(), b->inside.end());
    Attributes a;
    if (b->tanh) a["approximate"].data = std::string("tanh");
    return r.become(n, "Gelu", 20, {b->x}, std::move(a), path);
  }
  return false;
}

// x * clamp(x + 3, 0, 6) / 6, x * HardSigmoid(x; 1/6, 1/2), x * tanh(softplus(x)).
bool gated(Rewriter& r, int n) {
  const Node& node = r.node(n);
  if (node.op != "Mul" && node.op != "Div") return false;
  std::vector<ValueId> of;
  std::vector<int> inside;
  double scale = 1;
  if (node.op == "Div") {
    const auto by = r.scalar(node.inputs[1]);
    if (!by || *by == 0 || r.maker(node.inputs[0], "Mul") < 0 || r.readers(node.inputs[0]) != 1) return false;
    scale = 1 / *by;
    inside.push_back(n);
    factors(r, node.inputs[0], kAbsent, 2, of, scale, inside);
  } else {
    factors(r, node.outputs[0], kAbsent, 3, of, scale, inside);
  }
  if (of.size() != 2) return false;
  for (int side = 0; side < 2; ++side) {
    const ValueId x = of[side], gate = of[1 - side];
    if (const int h = r.maker(gate, "HardSigmoid"); h >= 0 && r.node(h).inputs[0] == x && scale == 1) {
      if (std::fabs(r.node(h).real("alpha", 0.2f) - 1.0f / 6) > 1e-5f || r.node(h).real("beta", 0.5f) != 0.5f) continue;
      inside.push_back(h);
      return r.become(n, "HardSwish", 14, {x}, {}, inside);
    }
    if (const int t = r.maker(gate, "Tanh"); t >= 0 && scale == 1) {
      const int s = r.maker(r.node(t).inputs[0], "Softplus");
      if (s < 0 || r.node(s).inputs[0] != x) continue;
      inside.insert(inside.end(), {t, s});
      return r.become(n, "Mish", 18, {x}, {}, inside);
    }
    if (const int c = r.maker(gate, "Clip"); c >= 0 && std::fabs(scale - 1.0 / 6) < 1e-5) {
      const Node& clip = r.node(c);
      const bool bounds = clip.inputs.size() == 3
                              ? r.scalar(clip.inputs[1]) == 0.0 && r.scalar(clip.inputs[2]) == 6.0
                              : r.graph().version_of(clip) < 11 && clip.real("min", -1) == 0 && clip.real("max", 0) == 6;
      const int add = r.maker(clip.inputs[0], "Add");
      if (!bounds || add < 0 || r.beside(add, 3) != x) continue;
      inside.insert(inside.end(), {c, add});
      return r.become(n, "HardSwish", 14, {x}, {}, inside);
    }
  }
  return false;
}

// ---- normalisation ----

// centred / sqrt(mean(centred^2) + epsilon) over the last axes; centred is x - mean(x), or x itself.
struct Normed {
  ValueId x = kAbsent;
  bool centred = false;
  double epsilon = 0;
  int64_t axis = 0;
  Shape over;  // sizes of the normalised axes
  std::vector<int> inside;
};

// The root of variance + epsilon: v = sqrt(s) or s^0.5.
std::optional<ValueId> root(const Rewriter& r, ValueId v, double power, std::vector<int>& inside) {
  if (const int p = r.maker(v, "Pow"); p >= 0 && r.is_scalar(r.node(p).inputs[1], power)) {
    inside.push_back(p);
    return r.node(p).inputs[0];
  }
  if (power < 0) {
    ValueId under = kAbsent;
    if (const int i = r.maker(v, "Reciprocal"); i >= 0) inside.push_back(i), under = r.node(i).inputs[0];
    else if (const int d = r.maker(v, "Div"); d >= 0 && r.is_scalar(r.node(d).inputs[0], 1))
      inside.push_back(d), under = r.node(d).inputs[1];
    return under == kAbsent ? std::nullopt : root(r, under, 0.5, inside);
  }
  if (const int s = r.maker(v, "Sqrt"); s >= 0) {
    inside.push_back(s);
    return r.node(s).inputs[0];
  }
  return std::nullopt;
}

std::optional<Normed> normed(const Rewriter& r, ValueId v) {
  for (const char* op : {"Div", "Mul"}) {
    const int n = r.maker(v, op);
    if (n < 0 || r.node(n).inputs.size() != 2) continue;
    for (int side = 0; side < (op[0] == 'D' ? 1 : 2); ++side) {
      Normed out;
      out.inside = {n};
      const ValueId c = r.node(n).inputs[side];
      const auto under = root(r, r.node(n).inputs[1 - side], op[0] == 'D' ? 0.5 : -0.5, out.inside);
      const int add = under ? r.maker(*under, "Add") : -1;
      if (add < 0) continue;
      ValueId variance = kAbsent;
      for (int i = 0; i < 2; ++i) {
        if (const auto e = r.scalar(r.node(add).inputs[i])) out.epsilon = *e, variance = r.node(add).inputs[1 - i];
      }
      const int mean = variance == kAbsent ? -1 : r.maker(variance, "ReduceMean");
      if (mean < 0 || r.node(mean).integer("keepdims", 1) != 1) continue;
      const ValueId square = r.node(mean).inputs[0];
      bool of_c = false;
      if (const int p = r.maker(square, "Pow"); p >= 0) {
        of_c = r.node(p).inputs[0] == c && r.is_scalar(r.node(p).inputs[1], 2);
        out.inside.push_back(p);
      } else if (const int m = r.maker(square, "Mul"); m >= 0) {
        of_c = r.node(m).inputs[0] == c && r.node(m).inputs[1] == c;
        out.inside.push_back(m);
      }
      const auto axes = r.axes(mean);
      const auto shape = r.shape(c);
      if (!of_c || !axes || !shape || axes->back() + 1 != static_cast<int64_t>(shape->size())) continue;
      for (size_t i = 1; i < axes->size(); ++i) of_c = of_c && (*axes)[i] == (*axes)[i - 1] + 1;
      if (!of_c) continue;
      out.axis = axes->front();
      out.over = Shape(shape->begin() + out.axis, shape->end());
      out.inside.insert(out.inside.end(), {add, mean});
      out.x = c;
      if (const int sub = r.maker(c, "Sub"); sub >= 0) {
        const int centre = r.maker(r.node(sub).inputs[1], "ReduceMean");
        if (centre >= 0 && r.node(centre).inputs[0] == r.node(sub).inputs[0] && r.node(centre).integer("keepdims", 1) == 1 &&
            r.axes(centre) == axes) {
          out.centred = true;
          out.x = r.node(sub).inputs[0];
          out.inside.insert(out.inside.end(), {sub, centre});
        }
      }
      return out;
    }
  }
  return std::nullopt;
}

// A constant with one element for each of the normalised ones, in their shape.
std::optional<Tensor> along(const Rewriter& r, ValueId v, const Shape& over) {
  const Tensor* t = r.constant(v);
  if (!t || t->dtype() != DType::f32) return std::nullopt;
  Shape s = t->shape();
  while (s.size() > over.size() && s.front() == 1) s.erase(s.begin());
  if (s != over) return std::nullopt;
  return t->reshaped(over);
}

bool normalisation(Rewriter& r, int n) {
  const Node& node = r.node(n);
  if (node.inputs.size() != 2 || r.graph().values[node.outputs[0]].dtype != DType::f32) return false;
  // scale * normed + shift; or scale * normed, when no shift follows that this pass will find.
  const auto product = [&](ValueId v, Normed& of, Tensor& scale, std::vector<int>& inside) {
    const int m = r.maker(v, "Mul");
    if (m < 0) return false;
    for (int side = 0; side < 2; ++side) {
      const auto found = normed(r, r.node(m).inputs[side]);
      if (!found) continue;
      const auto s = along(r, r.node(m).inputs[1 - side], found->over);
      if (!s) continue;
      of = *found;
      scale = *s;
      inside = found->inside;
      inside.push_back(m);
      return true;
    }
    return false;
  };
  Normed of;
  Tensor scale, shift;
  std::vector<int> inside;
  if (node.op == "Add") {
    bool found = false;
    for (int side = 0; side < 2 && !found; ++side) {
      if (!product(node.inputs[side], of, scale, inside) || !of.centred) continue;
      const auto s = along(r, node.inputs[1 - side], of.over);
      if (!s) continue;
      shift = *s;
      found = true;
    }
    if (!found) return false;
  } else if (node.op == "Mul") {
    if (!product(node.outputs[0], of, scale, inside)) return false;
  } else {
    return false;
  }
  const std::string name = r.graph().values[node.outputs[0]].name;
  std::vector<ValueId> inputs{of.x, r.add_constant(name + ".scale", scale)};
  if (!shift.empty()) inputs.push_back(r.add_constant(name + ".shift", shift));
  Attributes a;
  a["axis"].data = of.axis;
  a["epsilon"].data = static_cast<float>(of.epsilon);
  inside.push_back(n);
  return r.become(n, of.centred ? "LayerNormalization" : "RMSNormalization", of.centred ? 17 : 23, std::move(inputs), std::move(a), inside);
}

// exp(x - max x) / sum of it.
bool softmax(Rewriter& r, int n) {
  const Node& node = r.node(n);
  if (node.op != "Div") return false;
  const int e = r.maker(node.inputs[0], "Exp"), sum = r.maker(node.inputs[1], "ReduceSum");
  if (e < 0 || sum < 0 || r.node(sum).inputs[0] != node.inputs[0] || r.node(sum).integer("keepdims", 1) != 1) return false;
  const int sub = r.maker(r.node(e).inputs[0], "Sub");
  const int top = sub < 0 ? -1 : r.maker(r.node(sub).inputs[1], "ReduceMax");
  if (top < 0 || r.node(top).inputs[0] != r.node(sub).inputs[0] || r.node(top).integer("keepdims", 1) != 1) return false;
  const auto axes = r.axes(sum);
  if (!axes || axes->size() != 1 || r.axes(top) != axes) return false;
  Attributes a;
  a["axis"].data = axes->front();
  return r.become(n, "Softmax", 13, {r.node(sub).inputs[0]}, std::move(a), {e, sum, sub, top, n});
}

// ---- attention ----

}  // namespace

Report recognise(Graph& graph) {
  Report all{"recognise patterns", {}};
  const auto sweep = [&](std::initializer_list<bool (*)(Rewriter&, int)> patterns) {
    Rewriter r(graph, all.pass);
    for (int n = 0; n < static_cast<int>(graph.nodes.size()); ++n) {
      if (!graph.nodes[n].domain.empty() || graph.nodes[n].outputs.empty() || graph.nodes[n].outputs[0] == kAbsent) continue;
      if (graph.values[graph.nodes[n].outputs[0]].dtype == DType::f64) continue;  // these are written out (written_out.cpp)
      for (const auto pattern : patterns) {
        if (pattern(r, n)) break;
      }
    }
    Report report = r.finish();
    const bool changed = !report.changes.empty();
    all.changes.insert(all.changes.end(), report.changes.begin(), report.changes.end());
    if (changed) remove_dead(graph);
  };
  Report cells = recurrent_cells(graph);
  if (!cells.changes.empty()) remove_dead(graph);
  all.changes = std::move(cells.changes);
  // Longer forms first: a scaled normalisation before one without a shift, the joined attention before the bare one.
  sweep({softmax, gelu, gated, [](Rewriter& r, int n) { return r.node(n).op == "Add" && normalisation(r, n); }});
  sweep({[](Rewriter& r, int n) { return r.node(n).op == "Mul" && normalisation(r, n); }, group_normalisation, rotary, blocks});
  sweep({hidden_scores});
  sweep({[](Rewriter& r, int n) { return r.node(n).op == "Reshape" && attention(r, n); }});
  sweep({[](Rewriter& r, int n) { return r.node(n).op == "MatMul" && attention(r, n); }});
  return all;
}

}  // namespace lathe::passes
