// Einsum and Det.
#include <algorithm>
#include <cmath>
#include <map>

#include "base/memory.hpp"
#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// An equation with letters given to every axis: -1 - k stands for the k-th axis of the ellipsis, counted from its end.
struct Equation {
  std::vector<std::vector<int>> inputs;
  std::vector<int> output;
};

std::vector<int> labels(const std::string& term, int ellipsis_rank) {
  std::vector<int> out;
  for (size_t i = 0; i < term.size(); ++i) {
    if (term.compare(i, 3, "...") == 0) {
      for (int k = ellipsis_rank - 1; k >= 0; --k) out.push_back(-1 - k);
      i += 2;
    } else if (std::isalpha(static_cast<unsigned char>(term[i]))) {
      out.push_back(term[i]);
    } else {
      fail(Category::value, "equation holds '{}'; letters, commas, '->' and '...' may stand in it", std::string(1, term[i]));
    }
  }
  return out;
}

Equation parse(const std::string& text, const std::vector<int>& ranks) {
  std::string e;
  for (char c : text) {
    if (c != ' ') e += c;
  }
  const size_t arrow = e.find("->");
  const std::string left = e.substr(0, arrow);
  std::vector<std::string> terms(1);
  for (char c : left) {
    if (c == ',') terms.emplace_back();
    else terms.back() += c;
  }
  if (terms.size() != ranks.size())
    fail(Category::value, "equation '{}' has {} terms, the node {} inputs", text, terms.size(), ranks.size());
  Equation q;
  int widest = 0;
  std::map<int, int> uses;
  for (size_t i = 0; i < terms.size(); ++i) {
    const size_t dots = terms[i].find("...");
    const int named = static_cast<int>(terms[i].size()) - (dots == std::string::npos ? 0 : 3), rest = ranks[i] - named;
    if (rest < 0 || (rest > 0 && dots == std::string::npos))
      fail(Category::shape, "term '{}' does not fit an input of rank {}", terms[i], ranks[i]);
    q.inputs.push_back(labels(terms[i], rest));
    widest = std::max(widest, rest);
    for (int l : q.inputs.back()) {
      if (l > 0) ++uses[l];
    }
  }
  if (arrow != std::string::npos) {
    q.output = labels(e.substr(arrow + 2), widest);
  } else {  // the ellipsis, then letters that stand once, in order
    for (int k = widest - 1; k >= 0; --k) q.output.push_back(-1 - k);
    for (const auto& [l, n] : uses) {
      if (n == 1) q.output.push_back(l);
    }
  }
  for (size_t i = 0; i < q.output.size(); ++i) {
    const int l = q.output[i];
    if (std::find(q.output.begin(), q.output.begin() + static_cast<int64_t>(i), l) != q.output.begin() + static_cast<int64_t>(i) ||
        (l > 0 && !uses.contains(l)))
      fail(Category::value, "the result of '{}' names an axis twice, or one that no term has", text);
  }
  return q;
}

// Size of every label; ellipsis axes of size 1 broadcast.
template <typename D>
std::map<int, D> sizes(const Equation& q, const std::vector<std::vector<D>>& shapes, auto same, auto is_one) {
  std::map<int, D> out;
  for (size_t i = 0; i < shapes.size(); ++i) {
    for (size_t a = 0; a < shapes[i].size(); ++a) {
      const auto [it, fresh] = out.try_emplace(q.inputs[i][a], shapes[i][a]);
      if (fresh || same(it->second, shapes[i][a])) continue;
      if (is_one(it->second)) it->second = shapes[i][a];
      else if (!is_one(shapes[i][a])) fail(Category::shape, "an axis of the equation has two sizes");
    }
  }
  return out;
}

template <typename T>
struct Operand {
  std::vector<T> v;
  std::vector<int> axes;
};

// One operand less: joined over all its labels, summed over those that nobody needs any more.
template <typename T>
Operand<T> contract(const Operand<T>& a, const Operand<T>* b, const std::vector<int>& keep, const std::map<int, int64_t>& size,
                    const std::vector<Shape>& shapes) {
  std::vector<int> sum;
  const auto collect = [&](const Operand<T>& o) {
    for (int l : o.axes) {
      if (std::find(keep.begin(), keep.end(), l) == keep.end() && std::find(sum.begin(), sum.end(), l) == sum.end()) sum.push_back(l);
    }
  };
  collect(a);
  if (b) collect(*b);
  const auto strides = [&](const Operand<T>& o, const Shape& shape, const std::vector<int>& over) {
    const auto own = strides_of(shape);
    std::vector<int64_t> s;
    for (int l : over) {
      int64_t step = 0;  // a repeated label walks the diagonal
      for (size_t i = 0; i < o.axes.size(); ++i) {
        if (o.axes[i] == l && shape[i] != 1) step += own[i];
      }
      s.push_back(step);
    }
    return s;
  };
  Shape outer, inner;
  for (int l : keep) outer.push_back(size.at(l));
  for (int l : sum) inner.push_back(size.at(l));
  check_plain_size(element_count(outer));
  const auto ao = strided_index(outer, strides(a, shapes[0], keep)), ai = strided_index(inner, strides(a, shapes[0], sum));
  const auto bo = b ? strided_index(outer, strides(*b, shapes[1], keep)) : std::vector<int64_t>();
  const auto bi = b ? strided_index(inner, strides(*b, shapes[1], sum)) : std::vector<int64_t>();
  Operand<T> out{std::vector<T>(ao.size(), 0), keep};
  for (size_t o = 0; o < ao.size(); ++o) {
    T total = 0;
    for (size_t i = 0; i < ai.size(); ++i) {
      const T x = a.v[ao[o] + ai[i]];
      total = static_cast<T>(total + (b ? static_cast<T>(x * b->v[bo[o] + bi[i]]) : x));
    }
    out.v[o] = total;
  }
  return out;
}

std::vector<Tensor> einsum(const EvalContext& c) {
  std::vector<int> ranks;
  std::vector<Shape> shapes;
  for (const Tensor& t : c.inputs) {
    ranks.push_back(t.rank());
    shapes.push_back(t.shape());
    if (t.dtype() != c.in(0).dtype()) fail(Category::type, "inputs differ: {} and {}", to_string(c.in(0).dtype()), to_string(t.dtype()));
  }
  const Equation q = parse(c.node.text("equation", ""), ranks);
  const auto size = sizes<int64_t>(q, shapes, std::equal_to<>(), [](int64_t d) { return d == 1; });
  return with_wide(c.in(0).dtype(), [&](auto zero) -> std::vector<Tensor> {
    using T = decltype(zero);
    // From left to right, dropping labels as soon as neither the rest nor the result has them.
    Operand<T> acc{widen<T>(c.in(0)), q.inputs[0]};
    Shape acc_shape = shapes[0];
    if (c.inputs.size() == 1) acc = contract<T>(acc, nullptr, q.output, size, {acc_shape});
    for (size_t i = 1; i < c.inputs.size(); ++i) {
      std::vector<int> keep = q.output;
      if (i + 1 < c.inputs.size()) {
        keep.clear();
        const auto needed = [&](int l) {
          const auto in = [&](const std::vector<int>& list) { return std::find(list.begin(), list.end(), l) != list.end(); };
          return in(q.output) || std::any_of(q.inputs.begin() + static_cast<int64_t>(i) + 1, q.inputs.end(), in);
        };
        const std::vector<int>* both[] = {&acc.axes, &q.inputs[i]};
        for (const auto* axes : both) {
          for (int l : *axes) {
            if (needed(l) && std::find(keep.begin(), keep.end(), l) == keep.end()) keep.push_back(l);
          }
        }
      }
      const Operand<T> other{widen<T>(c.in(i)), q.inputs[i]};
      acc = contract<T>(acc, &other, keep, size, {acc_shape, shapes[i]});
      acc_shape.clear();
      for (int l : keep) acc_shape.push_back(size.at(l));
    }
    Shape shape;
    for (int l : q.output) shape.push_back(size.at(l));
    return {narrow<T>(c.in(0).dtype(), shape, acc.v)};
  });
}

void infer_einsum(InferContext& c) {
  need(c, 0, numeric, "a number");
  std::vector<int> ranks;
  std::vector<Dims> shapes;
  for (int i = 0; i < c.input_count(); ++i) {
    need_same(c, 0, i);
    if (!c.dims(i)) return c.set(0, c.dtype(0), std::nullopt);
    ranks.push_back(c.rank(i));
    shapes.push_back(*c.dims(i));
  }
  const Equation q = parse(c.node().text("equation", ""), ranks);
  std::map<int, Dim> size;
  for (size_t i = 0; i < shapes.size(); ++i) {
    for (size_t a = 0; a < shapes[i].size(); ++a) {
      const Dim& d = shapes[i][a];
      const auto [it, fresh] = size.try_emplace(q.inputs[i][a], d);
      Dim& have = it->second;
      if (fresh || have == d || d.value == 1) continue;
      if (have.value == 1) have = d;
      else if (have.known() && d.known())
        c.fail(Category::shape, fmt::format("an axis of the equation has two sizes, {} and {}", have.value, d.value));
      else if (d.known()) have = d;
    }
  }
  Dims out;
  for (int l : q.output) out.push_back(size.at(l));
  c.set(0, c.dtype(0), out);
}

// By elimination with the largest pivot of each column.
std::vector<Tensor> determinant(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 2 || x.shape().back() != x.shape()[x.rank() - 2])
    fail(Category::shape, "input is {}, expected square matrices", to_string(x.shape()));
  const int64_t n = x.shape().back();
  auto v = widen<double>(x);
  const Shape shape(x.shape().begin(), x.shape().end() - 2);
  std::vector<double> out;
  for (int64_t m = 0; m < element_count(shape); ++m) {
    double* a = v.data() + m * n * n;
    double det = 1;
    for (int64_t k = 0; k < n; ++k) {
      int64_t pivot = k;
      for (int64_t i = k + 1; i < n; ++i) {
        if (std::fabs(a[i * n + k]) > std::fabs(a[pivot * n + k])) pivot = i;
      }
      if (pivot != k) {
        std::swap_ranges(a + k * n, a + (k + 1) * n, a + pivot * n);
        det = -det;
      }
      det *= a[k * n + k];
      if (a[k * n + k] == 0) break;
      for (int64_t i = k + 1; i < n; ++i) {
        const double f = a[i * n + k] / a[k * n + k];
        for (int64_t j = k; j < n; ++j) a[i * n + j] -= f * a[k * n + j];
      }
    }
    out.push_back(det);
  }
  return {narrow<double>(x.dtype(), shape, out)};
}

}  // namespace

void add_linear_algebra(std::vector<OpDef>& out) {
  out.push_back(def("Einsum", 12, 1, -1, Trait::contraction, infer_einsum, einsum));
  out.push_back(def(
      "Det", 11, 1, 1, Trait::opaque,
      [](InferContext& c) {
        need(c, 0, standard_float, "a floating type");
        std::optional<Dims> dims = c.dims(0);
        if (dims) {
          c.require(dims->size() >= 2, Category::shape, "expected square matrices");
          dims->resize(dims->size() - 2);
        }
        c.set(0, c.dtype(0), dims);
      },
      determinant));
}

}  // namespace lathe::ops
