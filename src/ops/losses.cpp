// Losses that appear in exported graphs.
#include <cmath>

#include "ops/support.hpp"

namespace lathe::ops {
namespace {

enum class Reduction { none, sum, mean };

Reduction reduction_of(const Node& n) {
  const std::string r = n.text("reduction", "mean");
  if (r == "none") return Reduction::none;
  if (r == "sum") return Reduction::sum;
  if (r == "mean") return Reduction::mean;
  fail(Category::value, "reduction is '{}', expected none, sum or mean", r);
}

// -weight[target] * log_p[target] for every position of N x C x d1 x ...; the mean is over the weights that counted.
Tensor likelihood_loss(const EvalContext& c, const Tensor& like, const std::vector<double>& log_p, const Shape& s) {
  const Tensor& target = c.in(1);
  if (s.size() < 2) fail(Category::shape, "input is {}, expected at least batch and class", to_string(s));
  Shape expected{s[0]};
  expected.insert(expected.end(), s.begin() + 2, s.end());
  if (target.shape() != expected) fail(Category::shape, "the target is {}, expected {}", to_string(target.shape()), to_string(expected));
  const int64_t classes = s[1], inner = element_count(std::span<const int64_t>(s).subspan(2));
  const auto picks = integers(target);
  const auto weights = c.has(2) ? widen<double>(c.in(2)) : std::vector<double>(classes, 1);
  if (static_cast<int64_t>(weights.size()) != classes) fail(Category::shape, "there are {} weights, expected {}", weights.size(), classes);
  const auto* ignore = c.node.find<int64_t>("ignore_index");
  std::vector<double> loss(picks.size(), 0);
  double sum = 0, counted = 0;
  for (size_t i = 0; i < picks.size(); ++i) {
    const int64_t k = picks[i];
    if (ignore && k == *ignore) continue;
    if (k < 0 || k >= classes) fail(Category::value, "target {} is outside {} classes", k, classes);
    const int64_t n = static_cast<int64_t>(i) / inner, at = static_cast<int64_t>(i) % inner;
    loss[i] = -weights[k] * log_p[(n * classes + k) * inner + at];
    sum += loss[i];
    counted += weights[k];
  }
  const Reduction r = reduction_of(c.node);
  if (r == Reduction::none) return narrow<double>(like.dtype(), expected, loss);
  return narrow<double>(like.dtype(), Shape{}, std::vector<double>{r == Reduction::sum ? sum : sum / counted});
}

void infer_loss(InferContext& c) {
  need(c, 0, standard_float, "a floating type");
  need(
      c, 1, [](DType d) { return d == DType::i32 || d == DType::i64; }, "i32 or i64");
  c.set(0, c.dtype(0), reduction_of(c.node()) == Reduction::none ? c.dims(1) : std::optional<Dims>(Dims{}));
  c.set(1, c.dtype(0), c.dims(0));
}

std::vector<Tensor> softmax_cross_entropy(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 2) fail(Category::shape, "scores are {}, expected at least batch and class", to_string(x.shape()));
  auto v = widen<double>(x);
  const int64_t classes = x.shape()[1], inner = element_count(std::span<const int64_t>(x.shape()).subspan(2));
  for (int64_t n = 0; n < x.shape()[0]; ++n) {
    for (int64_t i = 0; i < inner; ++i) {
      double* p = v.data() + n * classes * inner + i;
      double top = -INFINITY, sum = 0;
      for (int64_t k = 0; k < classes; ++k) top = std::max(top, p[k * inner]);
      for (int64_t k = 0; k < classes; ++k) sum += std::exp(p[k * inner] - top);
      for (int64_t k = 0; k < classes; ++k) p[k * inner] -= top + std::log(sum);
    }
  }
  std::vector<Tensor> out{likelihood_loss(c, x, v, x.shape())};
  if (c.output_count > 1) out.push_back(narrow<double>(x.dtype(), x.shape(), v));
  return out;
}

}  // namespace

void add_losses(std::vector<OpDef>& out) {
  out.push_back(def("NegativeLogLikelihoodLoss", 12, 2, 3, Trait::opaque, infer_loss, [](const EvalContext& c) -> std::vector<Tensor> {
    return {likelihood_loss(c, c.in(0), widen<double>(c.in(0)), c.in(0).shape())};
  }));
  out.push_back(def("SoftmaxCrossEntropyLoss", 12, 2, 3, Trait::opaque, infer_loss, softmax_cross_entropy, 2));
}

}  // namespace lathe::ops
