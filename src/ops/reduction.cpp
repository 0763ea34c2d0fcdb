// Reductions: the Reduce* family, ArgMax, ArgMin, TopK.
#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// Axes come as an attribute, or as input 1 from some version on. Nothing: input not known while compiling.
std::optional<std::vector<int64_t>> infer_axes(const InferContext& c, bool from_input) {
  if (!from_input) return c.node().integers("axes");
  if (!c.has(1)) return std::vector<int64_t>();
  return c.integers(1);
}

void infer_reduce(InferContext& c, bool from_input) {
  need(
      c, 0, [](DType d) { return numeric(d) || d == DType::boolean; }, "a number");
  const auto axes = infer_axes(c, from_input);
  const bool keep = c.node().integer("keepdims", 1) != 0;
  if (!c.dims(0)) return c.set(0, c.dtype(0), std::nullopt);
  if (!axes) {
    c.set(0, c.dtype(0), keep ? std::optional<Dims>(Dims(c.rank(0))) : std::nullopt);
    return;
  }
  if (axes->empty() && from_input && c.node().integer("noop_with_empty_axes", 0)) return same_as_first(c);
  std::vector<bool> reduced(c.rank(0), axes->empty());
  for (int64_t a : wrap_axes(*axes, c.rank(0))) reduced[a] = true;
  Dims out;
  for (size_t i = 0; i < reduced.size(); ++i) {
    if (!reduced[i]) out.push_back((*c.dims(0))[i]);
    else if (keep) out.emplace_back(1);
  }
  c.set(0, c.dtype(0), out);
}

// start, step(acc, element), finish(acc, count)
struct Reducer {
  double start;
  double (*step)(double, double);
  double (*finish)(double, double);
};

double nan_max(double a, double b) { return std::isnan(a) || a > b ? a : b; }
double nan_min(double a, double b) { return std::isnan(a) || a < b ? a : b; }
double same(double a, double) { return a; }

// The log of a sum of exponentials needs its maximum first.
double log_sum_exp(const std::vector<double>& v) {
  double top = -INFINITY, sum = 0;
  for (double e : v) top = nan_max(top, e);
  if (std::isinf(top)) return top;
  for (double e : v) sum += std::exp(e - top);
  return top + std::log(sum);
}

OpDef reduce(std::string name, int since, int axes_input_since, Reducer r, bool log_sum = false) {
  const bool from_input = since >= axes_input_since;
  return def(
      name, since, 1, from_input ? 2 : 1, Trait::reduction, [from_input](InferContext& c) { infer_reduce(c, from_input); },
      [from_input, r, log_sum, name](const EvalContext& c) -> std::vector<Tensor> {
        const Tensor& x = c.in(0);
        const auto given = from_input ? (c.has(1) ? integers(c.in(1)) : std::vector<int64_t>()) : c.node.integers("axes");
        // With no axes and noop_with_empty_axes nothing is joined, but each element goes through the op's function.
        const bool alone = given.empty() && from_input && c.node.integer("noop_with_empty_axes", 0) != 0;
        std::vector<bool> reduced(x.rank(), given.empty() && !alone);
        for (int64_t a : wrap_axes(given, x.rank())) reduced[a] = true;
        Shape kept, shape, inner;
        std::vector<int64_t> kept_strides, inner_strides;
        const auto strides = strides_of(x.shape());
        for (int i = 0; i < x.rank(); ++i) {
          (reduced[i] ? inner : kept).push_back(x.shape()[i]);
          (reduced[i] ? inner_strides : kept_strides).push_back(strides[i]);
          if (!reduced[i]) shape.push_back(x.shape()[i]);
          else if (c.node.integer("keepdims", 1)) shape.push_back(1);
        }
        const auto outer = strided_index(kept, kept_strides), inside = strided_index(inner, inner_strides);
        const double n = static_cast<double>(inside.size());
        // Sums and products of integers stay exact in their own type.
        if (!is_float(x.dtype()) && (name == "ReduceSum" || name == "ReduceProd" || name == "ReduceMax" || name == "ReduceMin" ||
                                     name == "ReduceSumSquare" || name == "ReduceL1")) {
          return with_wide(x.dtype(), [&](auto zero) -> std::vector<Tensor> {
            using T = decltype(zero);
            const auto v = widen<T>(x);
            std::vector<T> out;
            for (int64_t o : outer) {
              const bool max = name == "ReduceMax", min = name == "ReduceMin";
              if ((max || min) && inside.empty()) fail(Category::shape, "cannot take the {} of no elements", max ? "maximum" : "minimum");
              uint64_t acc = name == "ReduceProd" ? 1 : 0;
              T best = inside.empty() ? T{0} : v[o + inside[0]];
              for (int64_t i : inside) {
                const T e = v[o + i];
                const auto u = static_cast<uint64_t>(e);
                best = max ? std::max(best, e) : std::min(best, e);
                if (name == "ReduceProd") acc *= u;
                else acc += name == "ReduceSumSquare" ? u * u : name == "ReduceL1" && std::is_signed_v<T> && e < T{0} ? -u : u;
              }
              out.push_back(max || min ? best : static_cast<T>(acc));
            }
            return {narrow<T>(x.dtype(), shape, out)};
          });
        }
        const auto v = widen<double>(x);
        std::vector<double> out;
        std::vector<double> group(inside.size());
        for (int64_t o : outer) {
          if (log_sum) {
            for (size_t i = 0; i < inside.size(); ++i) group[i] = v[o + inside[i]];
            out.push_back(log_sum_exp(group));
            continue;
          }
          double acc = r.start;
          for (int64_t i : inside) acc = r.step(acc, v[o + i]);
          out.push_back(r.finish(acc, n));
        }
        return {narrow<double>(x.dtype(), shape, out)};
      });
}

void infer_arg(InferContext& c) {
  need(c, 0, numeric, "a number");
  if (!c.dims(0)) return c.set(0, DType::i64, std::nullopt);
  Dims out = *c.dims(0);
  const int64_t axis = wrap_axis(c.node().integer("axis", 0), c.rank(0));
  if (c.node().integer("keepdims", 1)) out[axis] = Dim(1);
  else out.erase(out.begin() + axis);
  c.set(0, DType::i64, out);
}

std::vector<Tensor> arg_extreme(const EvalContext& c, bool max) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(c.node.integer("axis", 0), x.rank()), n = x.shape()[axis];
  if (n == 0) fail(Category::shape, "axis {} has no elements", axis);
  const bool last = c.node.integer("select_last_index", 0) != 0;
  Shape shape = x.shape();
  shape[axis] = 1;
  const int64_t inner = strides_of(x.shape())[axis], outer = x.size() / (n * std::max<int64_t>(inner, 1));
  std::vector<int64_t> out(element_count(shape));
  with_wide(x.dtype(), [&](auto zero) {
    using T = decltype(zero);
    const auto v = widen<T>(x);
    for (int64_t o = 0; o < outer; ++o) {
      for (int64_t i = 0; i < inner; ++i) {
        const T* p = v.data() + o * n * inner + i;
        int64_t best = 0;
        for (int64_t k = 1; k < n; ++k) {
          const T a = p[k * inner], b = p[best * inner];
          if (max ? a > b || (last && a == b) : a < b || (last && a == b)) best = k;
        }
        out[o * inner + i] = best;
      }
    }
    return 0;
  });
  if (!c.node.integer("keepdims", 1)) shape.erase(shape.begin() + axis);
  return {narrow<int64_t>(DType::i64, shape, out)};
}

void infer_top_k(InferContext& c, bool k_is_input) {
  need(c, 0, numeric, "a number");
  std::optional<Dims> out = c.dims(0);
  if (out) {
    const int64_t axis = wrap_axis(c.node().integer("axis", -1), c.rank(0));
    Dim k;
    if (!k_is_input) k = Dim(c.node().integer("k", -1));
    else if (const auto v = c.integers(1); v && !v->empty()) {
      c.require((*v)[0] >= 0, Category::value, fmt::format("input 1 (K) is {}, expected 0 or more", (*v)[0]));
      k = Dim((*v)[0]);
    }
    if (!k_is_input) c.require(k.known(), Category::value, "attribute 'k' is missing; it must be 0 or more");
    if (k.known() && (*out)[axis].known())
      c.require(k.value <= (*out)[axis].value, Category::value,
                fmt::format("k is {}, axis {} has {} elements", k.value, axis, (*out)[axis].value));
    (*out)[axis] = k;
  }
  c.set(0, c.dtype(0), out);
  c.set(1, DType::i64, out);
}

std::vector<Tensor> top_k(const EvalContext& c, bool k_is_input) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(c.node.integer("axis", -1), x.rank()), n = x.shape()[axis];
  if (k_is_input && c.in(1).size() != 1) fail(Category::shape, "K has shape {}, expected one element", to_string(c.in(1).shape()));
  const int64_t k = k_is_input ? integers(c.in(1))[0] : c.node.integer("k", -1);
  if (k < 0 || k > n) fail(Category::value, "k is {}, axis {} has {} elements", k, axis, n);
  const bool largest = c.node.integer("largest", 1) != 0;
  Shape shape = x.shape();
  shape[axis] = k;
  const int64_t inner = strides_of(x.shape())[axis], outer = n == 0 ? 0 : x.size() / std::max<int64_t>(1, n * inner);
  return with_wide(x.dtype(), [&](auto zero) -> std::vector<Tensor> {
    using T = decltype(zero);
    const auto v = widen<T>(x);
    std::vector<T> values(element_count(shape));
    std::vector<int64_t> where(values.size());
    std::vector<int64_t> order(n);
    for (int64_t o = 0; o < outer; ++o) {
      for (int64_t i = 0; i < inner; ++i) {
        const T* p = v.data() + o * n * inner + i;
        std::iota(order.begin(), order.end(), 0);
        // Equal elements come in the order of their indices. NaN counts as larger than everything.
        const auto above = [](T a, T b) {
          if constexpr (std::is_floating_point_v<T>) return !std::isnan(b) && (std::isnan(a) || a > b);
          else return a > b;
        };
        std::partial_sort(order.begin(), order.begin() + k, order.end(), [&](int64_t a, int64_t b) {
          const T x1 = p[a * inner], y1 = p[b * inner];
          if (largest ? above(x1, y1) : above(y1, x1)) return true;
          if (largest ? above(y1, x1) : above(x1, y1)) return false;
          return a < b;
        });
        for (int64_t j = 0; j < k; ++j) {
          values[(o * k + j) * inner + i] = p[order[j] * inner];
          where[(o * k + j) * inner + i] = order[j];
        }
      }
    }
    return {narrow<T>(x.dtype(), shape, values), narrow<int64_t>(DType::i64, shape, where)};
  });
}

}  // namespace

void add_reductions(std::vector<OpDef>& out) {
  const auto both = [&](const char* name, int axes_input_since, Reducer r, bool log_sum = false) {
    out.push_back(reduce(name, 1, axes_input_since, r, log_sum));
    out.push_back(reduce(name, axes_input_since, axes_input_since, r, log_sum));
  };
  const auto add = [](double a, double e) { return a + e; };
  both("ReduceSum", 13, {0, add, same});
  both("ReduceMean", 18, {0, add, [](double a, double n) { return a / n; }});
  both("ReduceMax", 18, {-INFINITY, nan_max, same});
  both("ReduceMin", 18, {INFINITY, nan_min, same});
  both("ReduceProd", 18, {1, [](double a, double e) { return a * e; }, same});
  both("ReduceL1", 18, {0, [](double a, double e) { return a + std::fabs(e); }, same});
  both("ReduceL2", 18, {0, [](double a, double e) { return a + e * e; }, [](double a, double) { return std::sqrt(a); }});
  both("ReduceSumSquare", 18, {0, [](double a, double e) { return a + e * e; }, same});
  both("ReduceLogSum", 18, {0, add, [](double a, double) { return std::log(a); }});
  both("ReduceLogSumExp", 18, {0, add, same}, true);
  out.push_back(def("ArgMax", 1, 1, 1, Trait::reduction, infer_arg, [](const EvalContext& c) { return arg_extreme(c, true); }));
  out.push_back(def("ArgMin", 1, 1, 1, Trait::reduction, infer_arg, [](const EvalContext& c) { return arg_extreme(c, false); }));
  out.push_back(def(
      "TopK", 1, 1, 1, Trait::reduction, [](InferContext& c) { infer_top_k(c, false); },
      [](const EvalContext& c) { return top_k(c, false); }, 2));
  out.push_back(def(
      "TopK", 10, 2, 2, Trait::reduction, [](InferContext& c) { infer_top_k(c, true); },
      [](const EvalContext& c) { return top_k(c, true); }, 2));
}

}  // namespace lathe::ops
