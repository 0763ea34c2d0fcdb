// Random ops. With a seed the same numbers come out every time; without, new ones each run.
#include <algorithm>
#include <bit>
#include <cmath>
#include <random>

#include "base/memory.hpp"
#include "ops/support.hpp"
#include "tensor/numbers.hpp"

namespace lathe::ops {
namespace {

std::mt19937_64 generator(const Node& n) {
  if (const auto* seed = n.find<float>("seed")) return std::mt19937_64(std::bit_cast<uint32_t>(*seed));
  std::random_device device;
  return std::mt19937_64((uint64_t{device()} << 32) | device());
}

// [0, 1) with 53 bits: the same on every machine, unlike the library's distributions.
double uniform(std::mt19937_64& g) { return static_cast<double>(g() >> 11) * 0x1p-53; }
double normal(std::mt19937_64& g) { return std::sqrt(-2 * std::log(1 - uniform(g))) * std::cos(2 * M_PI * uniform(g)); }

DType wanted_type(const Node& n, DType otherwise) {
  const auto* number = n.find<int64_t>("dtype");
  const DType d = number ? dtype_of_number(*number) : otherwise;
  if (number && d == DType::undefined) fail(Category::type, "attribute dtype is {}, not an element type", *number);
  return d;
}

using Draw = std::function<double(const Node&, std::mt19937_64&)>;

double draw_normal(const Node& n, std::mt19937_64& g) { return n.real("mean", 0) + n.real("scale", 1) * normal(g); }
double draw_uniform(const Node& n, std::mt19937_64& g) {
  const double low = n.real("low", 0), high = n.real("high", 1);
  return low + (high - low) * uniform(g);
}

Tensor filled(const Node& n, DType dtype, const Shape& shape, const Draw& draw) {
  if (!standard_float(dtype)) fail(Category::type, "random numbers of {} are not defined", to_string(dtype));
  if (!checked_product(shape)) fail(Category::shape, "shape {} is negative or overflows", to_string(shape));
  check_plain_size(element_count(shape));
  auto g = generator(n);
  std::vector<double> v(element_count(shape));
  for (double& e : v) e = draw(n, g);
  Tensor t = narrow<double>(dtype, shape, v);
  if (n.op.find("Uniform") != std::string::npos) {  // rounding must not reach the open end
    auto rounded = widen<double>(t);
    const double high = n.real("high", 1);
    const double below = std::max<double>(
        n.real("low", 0), dtype == DType::f32 ? std::nextafter(static_cast<float>(high), -INFINITY) : high - std::fabs(high) * 0.01);
    bool changed = false;
    for (double& e : rounded) {
      if (e >= high && dtype != DType::f64) e = below, changed = true;
    }
    if (changed) t = narrow<double>(dtype, shape, rounded);
  }
  return t;
}

}  // namespace

void add_random(std::vector<OpDef>& out) {
  const auto add = [&](OpDef d) {
    d.pure = false;
    out.push_back(std::move(d));
  };
  for (const auto& [name, draw] : {std::pair<const char*, Draw>{"RandomNormal", draw_normal}, {"RandomUniform", draw_uniform}}) {
    add(def(
        name, 1, 0, 0, Trait::opaque,
        [](InferContext& c) {
          const auto* shape = c.node().find<std::vector<int64_t>>("shape");
          c.require(shape && checked_product(*shape), Category::value, "attribute shape is missing, negative or too large");
          c.set(0, wanted_type(c.node(), DType::f32), to_dims(*shape));
        },
        [draw = draw](const EvalContext& c) -> std::vector<Tensor> {
          return {filled(c.node, wanted_type(c.node, DType::f32), c.node.integers("shape"), draw)};
        }));
    add(def(
        std::string(name) + "Like", 1, 1, 1, Trait::opaque, [](InferContext& c) { c.set(0, wanted_type(c.node(), c.dtype(0)), c.dims(0)); },
        [draw = draw](const EvalContext& c) -> std::vector<Tensor> {
          return {filled(c.node, wanted_type(c.node, c.in(0).dtype()), c.in(0).shape(), draw)};
        }));
  }
  add(def(
      "Bernoulli", 15, 1, 1, Trait::opaque, [](InferContext& c) { c.set(0, wanted_type(c.node(), c.dtype(0)), c.dims(0)); },
      [](const EvalContext& c) -> std::vector<Tensor> {
        auto g = generator(c.node);
        auto p = widen<double>(c.in(0));
        for (double& e : p) {
          if (!(e >= 0 && e <= 1)) fail(Category::value, "a probability is {}, expected 0 to 1", e);
          e = uniform(g) < e ? 1 : 0;
        }
        return {narrow<double>(wanted_type(c.node, c.in(0).dtype()), c.in(0).shape(), p)};
      }));
  add(def(
      "Multinomial", 7, 1, 1, Trait::opaque,
      [](InferContext& c) {
        c.set(0, wanted_type(c.node(), DType::i32),
              Dims{c.rank(0) == 2 ? (*c.dims(0))[0] : Dim(), Dim(c.node().integer("sample_size", 1))});
      },
      [](const EvalContext& c) -> std::vector<Tensor> {
        if (c.in(0).rank() != 2 || c.in(0).shape()[1] < 1)
          fail(Category::shape, "input is {}, expected batch x classes of log probabilities", to_string(c.in(0).shape()));
        const int64_t batch = c.in(0).shape()[0], classes = c.in(0).shape()[1], samples = c.node.integer("sample_size", 1);
        if (samples < 0) fail(Category::value, "sample_size is {}", samples);
        check_plain_size(batch * samples);
        auto g = generator(c.node);
        const auto logs = widen<double>(c.in(0));
        std::vector<int64_t> picks;
        for (int64_t b = 0; b < batch; ++b) {
          const double* row = logs.data() + b * classes;
          const double top = *std::max_element(row, row + classes);
          std::vector<double> until;
          double sum = 0;
          for (int64_t k = 0; k < classes; ++k) until.push_back(sum += std::exp(row[k] - top));
          for (int64_t s = 0; s < samples; ++s)
            picks.push_back(std::min<int64_t>(classes - 1, std::upper_bound(until.begin(), until.end(), uniform(g) * sum) - until.begin()));
        }
        return {narrow<int64_t>(wanted_type(c.node, DType::i32), Shape{batch, samples}, picks)};
      }));
}

}  // namespace lathe::ops
