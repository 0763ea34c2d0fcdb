// Ops that make tensors from attributes or shapes, and the ones that pass their input through.
#include <algorithm>
#include <cmath>
#include <random>

#include "base/memory.hpp"
#include "ops/support.hpp"
#include "tensor/numbers.hpp"

namespace lathe::ops {
namespace {

// The one attribute that holds a Constant's value.
Tensor constant_value(const Node& n) {
  if (const auto* t = n.find<Tensor>("value")) return *t;
  if (const auto* v = n.find<float>("value_float")) return Tensor::from<float>({}, {*v});
  if (const auto* v = n.find<int64_t>("value_int")) return Tensor::from<int64_t>({}, {*v});
  if (const auto* v = n.find<std::string>("value_string")) return Tensor::from<std::string>({}, {*v});
  if (const auto* v = n.find<std::vector<float>>("value_floats")) return Tensor::from<float>({int64_t(v->size())}, *v);
  if (const auto* v = n.find<std::vector<int64_t>>("value_ints")) return Tensor::from<int64_t>({int64_t(v->size())}, *v);
  if (const auto* v = n.find<std::vector<std::string>>("value_strings")) return Tensor::from<std::string>({int64_t(v->size())}, *v);
  if (const auto* s = n.find<SparseTensor>("sparse_value")) return dense(*s);
  fail(Category::value, "no attribute holds a value (value, value_float, value_int, ...)");
}

Tensor fill_value(const Node& n) {
  const auto* t = n.find<Tensor>("value");
  if (!t) return Tensor::from<float>({}, {0.0f});
  if (t->size() != 1) fail(Category::shape, "value has {} elements, expected 1", t->size());
  return *t;
}

std::vector<Tensor> constant_of_shape(const EvalContext& c) {
  const Tensor value = fill_value(c.node);
  const Shape shape = integers(c.in(0));
  check_plain_size(element_count(shape));
  const std::vector<int64_t> from(element_count(shape), 0);
  return {take(value, shape, from)};
}

template <typename T>
int64_t range_length(T start, T limit, T delta) {
  if (delta == T{0}) fail(Category::value, "delta is 0");
  const double n = std::ceil((static_cast<double>(limit) - static_cast<double>(start)) / static_cast<double>(delta));
  if (!(n < 1e12)) fail(Category::resource, "a range of {} elements is absurd", n);
  if (!(n > 0)) return 0;
  check_plain_size(static_cast<int64_t>(n));
  return static_cast<int64_t>(n);
}

std::vector<Tensor> range(const EvalContext& c) {
  for (size_t i = 0; i < 3; ++i) {
    if (c.in(i).size() != 1) fail(Category::shape, "input {} has shape {}, expected a scalar", i, to_string(c.in(i).shape()));
  }
  return with_wide(c.in(0).dtype(), [&](auto zero) -> std::vector<Tensor> {
    using T = decltype(zero);
    const T start = widen<T>(c.in(0))[0], delta = widen<T>(c.in(2))[0];
    std::vector<T> v(range_length(start, widen<T>(c.in(1))[0], delta));
    for (size_t i = 0; i < v.size(); ++i) {
      if constexpr (std::is_floating_point_v<T>) v[i] = start + static_cast<T>(i) * delta;
      else v[i] = static_cast<T>(static_cast<uint64_t>(start) + i * static_cast<uint64_t>(delta));  // wraps
    }
    return {narrow<T>(c.in(0).dtype(), Shape{static_cast<int64_t>(v.size())}, v)};
  });
}

// First and last axis of Shape's output; the whole shape before version 15.
std::pair<int64_t, int64_t> shape_span(const Node& n, int64_t rank) {
  const auto clamp = [&](int64_t v) { return std::clamp<int64_t>(v < 0 ? v + rank : v, 0, rank); };
  const int64_t start = clamp(n.integer("start", 0)), end = clamp(n.integer("end", rank));
  return {start, std::max(start, end)};
}

// From 12 on the ratio is an input and training_mode another; before, inference only.
std::vector<Tensor> dropout(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const bool training = c.has(2) && widen<int64_t>(c.in(2)).at(0) != 0;
  const double ratio = c.has(1) ? widen<double>(c.in(1)).at(0) : c.node.real("ratio", 0.5f);
  std::vector<int64_t> mask(x.size(), 1);
  Tensor y = x;
  if (training && ratio > 0) {
    // The Mersenne twister with 53-bit doubles, as the standard's own cases were made with.
    std::mt19937 random(static_cast<uint32_t>(c.node.integer("seed", 0)));
    const auto uniform = [&] {
      const double high = random() >> 5, low = random() >> 6;
      return (high * 67108864.0 + low) / 9007199254740992.0;
    };
    auto v = widen<double>(x);
    for (size_t i = 0; i < v.size(); ++i) {
      mask[i] = uniform() >= ratio;
      v[i] = mask[i] ? v[i] / (1 - ratio) : 0;
    }
    y = narrow<double>(x.dtype(), x.shape(), v);
  }
  std::vector<Tensor> out{y};
  // The mask was of the input's type before version 10.
  if (c.output_count > 1) out.push_back(narrow<int64_t>(c.version < 10 ? x.dtype() : DType::boolean, x.shape(), mask));
  return out;
}

}  // namespace

void add_creation(std::vector<OpDef>& out) {
  out.push_back(def(
      "Constant", 1, 0, 0, Trait::opaque,
      [](InferContext& c) {
        const Tensor t = constant_value(c.node());
        c.set(0, t.dtype(), to_dims(t.shape()));
      },
      [](const EvalContext& c) -> std::vector<Tensor> { return {constant_value(c.node)}; }));
  out.push_back(def(
      "ConstantOfShape", 9, 1, 1, Trait::opaque,
      [](InferContext& c) {
        const DType d = fill_value(c.node()).dtype();
        if (const auto s = c.integers(0)) {
          c.require(checked_product(*s).has_value(), Category::shape, fmt::format("shape {} is negative or overflows", to_string(*s)));
          return c.set(0, d, to_dims(*s));
        }
        if (const auto s = c.sizes(0)) return c.set(0, d, *s);
        const auto& n = c.dims(0);
        c.set(0, d, n && n->size() == 1 && (*n)[0].known() ? std::optional<Dims>(unknown_dims((*n)[0].value)) : std::nullopt);
      },
      constant_of_shape));
  out.push_back(def(
      "Range", 11, 3, 3, Trait::opaque,
      [](InferContext& c) {
        need(c, 0, numeric, "a number");
        Dim n;
        if (c.constant(0) && c.constant(1) && c.constant(2) && is_int(c.dtype(0))) {
          n = Dim(range_length((*c.integers(0)).at(0), (*c.integers(1)).at(0), (*c.integers(2)).at(0)));
        }
        c.set(0, c.dtype(0), Dims{n});
      },
      range));
  out.push_back(def(
      "Shape", 1, 1, 1, Trait::opaque,
      [](InferContext& c) {
        if (c.rank(0) < 0) return c.set(0, DType::i64, Dims(1));
        const auto [start, end] = shape_span(c.node(), c.rank(0));
        c.set(0, DType::i64, Dims{Dim(end - start)});
      },
      [](const EvalContext& c) -> std::vector<Tensor> {
        const Shape& s = c.in(0).shape();
        const auto [start, end] = shape_span(c.node, static_cast<int64_t>(s.size()));
        return {Tensor::from<int64_t>({end - start}, std::span<const int64_t>(s).subspan(start, end - start))};
      }));
  out.push_back(def(
      "Size", 1, 1, 1, Trait::opaque, [](InferContext& c) { c.set(0, DType::i64, Dims{}); },
      [](const EvalContext& c) -> std::vector<Tensor> { return {Tensor::from<int64_t>({}, {c.in(0).size()})}; }));
  OpDef identity = def(
      "Identity", 1, 1, 1, Trait::view, [](InferContext& c) { c.set_type(0, c.type(0)); },
      [](const EvalContext& c) -> std::vector<Tensor> { return {c.in(0)}; });
  identity.composites = true;
  out.push_back(std::move(identity));
  out.push_back(def(
      "EyeLike", 9, 1, 1, Trait::opaque,
      [](InferContext& c) {
        const auto* d = c.node().find<int64_t>("dtype");
        if (c.dims(0)) c.require(c.rank(0) == 2, Category::shape, fmt::format("input is {}, expected a matrix", to_string(*c.dims(0))));
        c.set(0, d ? dtype_of_number(*d) : c.dtype(0), c.dims(0));
      },
      [](const EvalContext& c) -> std::vector<Tensor> {
        const Shape& s = c.in(0).shape();
        if (s.size() != 2) fail(Category::shape, "input is {}, expected a matrix", to_string(s));
        const auto* d = c.node.find<int64_t>("dtype");
        const int64_t k = std::clamp<int64_t>(c.node.integer("k", 0), -s[0], s[1]);
        std::vector<double> v(element_count(s), 0);
        for (int64_t i = 0; i < s[0]; ++i) {
          if (i >= -k && i < s[1] - k) v[i * s[1] + i + k] = 1;
        }
        return {narrow<double>(d ? dtype_of_number(*d) : c.in(0).dtype(), s, v)};
      }));
  const auto infer_dropout = [](InferContext& c) {
    need(c, 0, standard_float, "a floating type");
    same_as_first(c);
    c.set(1, c.version() < 10 ? c.dtype(0) : DType::boolean, c.dims(0));
  };
  out.push_back(def(
      "Dropout", 1, 1, 1, Trait::view, infer_dropout,
      [](const EvalContext& c) {
        if (!c.node.integer("is_test", 0))
          fail(Category::unsupported, "training mode (is_test 0) of version {} is not supported", c.version);
        return dropout(c);
      },
      2));
  out.push_back(def("Dropout", 7, 1, 1, Trait::view, infer_dropout, dropout, 2));
  out.push_back(def("Dropout", 12, 1, 3, Trait::view, infer_dropout, dropout, 2));
}

}  // namespace lathe::ops
