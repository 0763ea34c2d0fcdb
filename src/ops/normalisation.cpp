// Normalisations and softmax. Plain evaluation in double, two passes for variances.
#include <cmath>

#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// Tensor seen as outer x middle x inner around [first, last).
struct Blocks {
  int64_t outer = 1, middle = 1, inner = 1;
  Blocks(const Shape& s, int64_t first, int64_t last) {
    for (int64_t i = 0; i < static_cast<int64_t>(s.size()); ++i) (i < first ? outer : i < last ? middle : inner) *= s[i];
  }
};

// Softmax up to version 12 flattens from the axis on; from 13 it works along the one axis.
OpDef softmax(std::string name, int since, bool log) {
  const bool flattens = since < 13;
  return def(
      std::move(name), since, 1, 1, Trait::reduction,
      [flattens](InferContext& c) {
        need(c, 0, standard_float, "a floating type");
        if (c.rank(0) >= 0) {
          const int64_t rank = std::max(c.rank(0), flattens ? 1 : 0);
          const int64_t axis = c.node().integer("axis", flattens ? 1 : -1);
          // The flattening form takes axis == rank too: every element is its own row.
          c.require(axis >= -rank && (axis < rank || (flattens && axis <= rank)), Category::value,
                    fmt::format("axis {} is outside a tensor of rank {}", axis, rank));
        }
        same_as_first(c);
      },
      [flattens, log](const EvalContext& c) -> std::vector<Tensor> {
        const Tensor& x = c.in(0);
        int64_t axis = c.node.integer("axis", flattens ? 1 : -1);
        if (!(flattens && axis == x.rank())) axis = wrap_axis(axis, x.rank());
        const Blocks b(x.shape(), axis, flattens ? x.rank() : axis + 1);
        auto v = widen<double>(x);
        for (int64_t o = 0; o < b.outer && !v.empty(); ++o) {
          for (int64_t i = 0; i < b.inner; ++i) {
            double* p = v.data() + o * b.middle * b.inner + i;
            double top = -INFINITY, sum = 0;
            for (int64_t k = 0; k < b.middle; ++k) top = std::isnan(p[k * b.inner]) ? NAN : std::max(top, p[k * b.inner]);
            for (int64_t k = 0; k < b.middle; ++k) sum += std::exp(p[k * b.inner] - top);
            for (int64_t k = 0; k < b.middle; ++k) {
              double& e = p[k * b.inner];
              e = log ? e - top - std::log(sum) : std::exp(e - top) / sum;
            }
          }
        }
        return {narrow<double>(x.dtype(), x.shape(), v)};
      });
}

void check_channels(const EvalContext& c, size_t input, int64_t channels) {
  if (c.in(input).size() != channels)
    fail(Category::shape, "input {} has shape {}, expected {} (one a channel)", input, to_string(c.in(input).shape()), channels);
}

// y = (x - mean) / sqrt(variance + epsilon) * scale + bias, a channel (axis 1) at a time. In training mode the batch's
// own statistics are used, and running ones come out as outputs 1 and 2.
std::vector<Tensor> batch_normalisation(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const Shape& s = x.shape();
  const int64_t channels = s.size() > 1 ? s[1] : 1;
  for (size_t i = 1; i < 5; ++i) check_channels(c, i, channels);
  const Blocks b(s, 1, std::min<int64_t>(2, x.rank()));
  auto v = widen<double>(x);
  const auto scale = widen<double>(c.in(1)), bias = widen<double>(c.in(2));
  auto mean = widen<double>(c.in(3)), variance = widen<double>(c.in(4));
  auto running_mean = mean, running_variance = variance;
  const double epsilon = c.node.real("epsilon", 1e-5f);
  const bool training = c.version >= 14 && c.node.integer("training_mode", 0) != 0;
  const auto each = [&](int64_t channel, auto f) {
    for (int64_t o = 0; o < b.outer; ++o) {
      for (int64_t i = 0; i < b.inner; ++i) f(v[(o * channels + channel) * b.inner + i]);
    }
  };
  for (int64_t ch = 0; ch < channels; ++ch) {
    if (training) {
      const double n = static_cast<double>(b.outer * b.inner), momentum = c.node.real("momentum", 0.9f);
      double sum = 0, squares = 0;
      each(ch, [&](double& e) { sum += e; });
      mean[ch] = sum / n;
      each(ch, [&](double& e) { squares += (e - mean[ch]) * (e - mean[ch]); });
      variance[ch] = squares / n;
      running_mean[ch] = running_mean[ch] * momentum + mean[ch] * (1 - momentum);
      running_variance[ch] = running_variance[ch] * momentum + variance[ch] * (1 - momentum);
    }
    const double factor = scale[ch] / std::sqrt(variance[ch] + epsilon);
    each(ch, [&](double& e) { e = (e - mean[ch]) * factor + bias[ch]; });
  }
  std::vector<Tensor> out{narrow<double>(x.dtype(), s, v)};
  if (c.output_count > 1) out.push_back(narrow<double>(c.in(3).dtype(), c.in(3).shape(), running_mean));
  if (c.output_count > 2) out.push_back(narrow<double>(c.in(4).dtype(), c.in(4).shape(), running_variance));
  return out;
}

std::vector<Tensor> instance_normalisation(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 3) fail(Category::shape, "input is {}, expected batch, channel and at least one spatial axis", to_string(x.shape()));
  const int64_t channels = x.shape()[1];
  check_channels(c, 1, channels);
  check_channels(c, 2, channels);
  const Blocks b(x.shape(), 2, x.rank());
  auto v = widen<double>(x);
  const auto scale = widen<double>(c.in(1)), bias = widen<double>(c.in(2));
  const double epsilon = c.node.real("epsilon", 1e-5f);
  for (int64_t o = 0; o < b.outer; ++o) {
    double *p = v.data() + o * b.middle, sum = 0, squares = 0;
    for (int64_t i = 0; i < b.middle; ++i) sum += p[i];
    const double mean = sum / static_cast<double>(b.middle);
    for (int64_t i = 0; i < b.middle; ++i) squares += (p[i] - mean) * (p[i] - mean);
    const double factor = scale[o % channels] / std::sqrt(squares / static_cast<double>(b.middle) + epsilon);
    for (int64_t i = 0; i < b.middle; ++i) p[i] = (p[i] - mean) * factor + bias[o % channels];
  }
  return {narrow<double>(x.dtype(), x.shape(), v)};
}

void infer_layer_normalisation(InferContext& c) {
  need(c, 0, standard_float, "a floating type");
  need_same(c, 0, 1);
  same_as_first(c);
  const DType stash = c.node().integer("stash_type", 1) == 1 ? DType::f32 : c.dtype(0);
  std::optional<Dims> statistics = c.dims(0);
  if (statistics) {
    const int64_t axis = wrap_axis(c.node().integer("axis", -1), c.rank(0));
    for (size_t i = axis; i < statistics->size(); ++i) (*statistics)[i] = Dim(1);
  }
  c.set(1, stash, statistics);
  c.set(2, stash, statistics);
}

std::vector<Tensor> layer_normalisation(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(c.node.integer("axis", -1), x.rank());
  const Blocks b(x.shape(), axis, x.rank());
  auto v = widen<double>(x);
  // Both broadcast to X as a whole: one a row is allowed too.
  const auto scale = widen_to<double>(c.in(1), x.shape());
  const auto bias = c.has(2) ? widen_to<double>(c.in(2), x.shape()) : std::vector<double>(v.size(), 0);
  const double epsilon = c.node.real("epsilon", 1e-5f);
  std::vector<double> means(b.outer), inverses(b.outer);
  for (int64_t o = 0; o < b.outer; ++o) {
    double *p = v.data() + o * b.middle, sum = 0, squares = 0;
    for (int64_t i = 0; i < b.middle; ++i) sum += p[i];
    means[o] = sum / static_cast<double>(b.middle);
    for (int64_t i = 0; i < b.middle; ++i) squares += (p[i] - means[o]) * (p[i] - means[o]);
    inverses[o] = 1 / std::sqrt(squares / static_cast<double>(b.middle) + epsilon);
    for (int64_t i = 0; i < b.middle; ++i) p[i] = (p[i] - means[o]) * inverses[o] * scale[o * b.middle + i] + bias[o * b.middle + i];
  }
  Shape statistics = x.shape();
  std::fill(statistics.begin() + axis, statistics.end(), 1);
  const DType stash = c.node.integer("stash_type", 1) == 1 ? DType::f32 : x.dtype();
  std::vector<Tensor> out{narrow<double>(x.dtype(), x.shape(), v)};
  if (c.output_count > 1) out.push_back(narrow<double>(stash, statistics, means));
  if (c.output_count > 2) out.push_back(narrow<double>(stash, statistics, inverses));
  return out;
}

// One at the first largest element of each row, zero elsewhere. Up to 12 a row is everything from the axis on.
std::vector<Tensor> hardmax(const EvalContext& c, bool flattens) {
  const Tensor& x = c.in(0);
  int64_t axis = c.node.integer("axis", flattens ? 1 : -1);
  if (!(flattens && axis == x.rank())) axis = wrap_axis(axis, x.rank());
  const Blocks b(x.shape(), axis, flattens ? x.rank() : axis + 1);
  const auto v = widen<double>(x);
  std::vector<double> y(v.size(), 0);
  for (int64_t o = 0; o < b.outer; ++o) {
    for (int64_t i = 0; i < b.inner; ++i) {
      const int64_t first = o * b.middle * b.inner + i;
      int64_t best = 0;
      for (int64_t k = 1; k < b.middle; ++k) {
        if (v[first + k * b.inner] > v[first + best * b.inner]) best = k;
      }
      if (b.middle > 0) y[first + best * b.inner] = 1;
    }
  }
  return {narrow<double>(x.dtype(), x.shape(), y)};
}

// Rows along an axis divided by their length: the sum of magnitudes (p = 1) or the root of the sum of squares (p = 2).
std::vector<Tensor> lp_normalisation(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(c.node.integer("axis", -1), x.rank()), p = c.node.integer("p", 2);
  if (p != 1 && p != 2) fail(Category::value, "p is {}, expected 1 or 2", p);
  const Blocks b(x.shape(), axis, axis + 1);
  auto v = widen<double>(x);
  for (int64_t o = 0; o < b.outer; ++o) {
    for (int64_t i = 0; i < b.inner; ++i) {
      double* row = v.data() + o * b.middle * b.inner + i;
      double sum = 0;
      for (int64_t k = 0; k < b.middle; ++k) sum += p == 1 ? std::fabs(row[k * b.inner]) : row[k * b.inner] * row[k * b.inner];
      const double length = p == 1 ? sum : std::sqrt(sum);
      for (int64_t k = 0; k < b.middle; ++k) row[k * b.inner] = length == 0 ? 0 : row[k * b.inner] / length;
    }
  }
  return {narrow<double>(x.dtype(), x.shape(), v)};
}

// (x - mean) / deviation over the given axes together.
std::vector<Tensor> mean_variance(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const auto axes = wrap_axes(c.node.integers("axes", {0, 2, 3}), x.rank());
  Shape kept = x.shape();
  for (int64_t a : axes) kept[a] = 1;
  const auto group = strided_index(x.shape(), broadcast_strides(kept, x.shape()));
  auto v = widen<double>(x);
  const double n = static_cast<double>(x.size()) / static_cast<double>(std::max<int64_t>(1, element_count(kept)));
  std::vector<double> mean(element_count(kept), 0), variance(mean.size(), 0);
  for (size_t i = 0; i < v.size(); ++i) mean[group[i]] += v[i] / n;
  for (size_t i = 0; i < v.size(); ++i) variance[group[i]] += (v[i] - mean[group[i]]) * (v[i] - mean[group[i]]) / n;
  for (size_t i = 0; i < v.size(); ++i) v[i] = (v[i] - mean[group[i]]) / (std::sqrt(variance[group[i]]) + 1e-9);
  return {narrow<double>(x.dtype(), x.shape(), v)};
}

// Channels in groups, each normalised as one. Scale and bias: one a group (18 to 20), one a channel (from 21 on).
std::vector<Tensor> group_normalisation(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 2) fail(Category::shape, "input is {}, expected at least batch and channel", to_string(x.shape()));
  const int64_t channels = x.shape()[1], groups = c.node.integer("num_groups", 0);
  if (groups < 1 || channels % groups != 0) fail(Category::value, "num_groups is {}, which does not divide {} channels", groups, channels);
  const int64_t per = c.version < 21 ? groups : channels;
  check_channels(c, 1, per);
  check_channels(c, 2, per);
  const auto scale = widen<double>(c.in(1)), bias = widen<double>(c.in(2));
  auto v = widen<double>(x);
  const int64_t inner = element_count(std::span<const int64_t>(x.shape()).subspan(2)), size = channels / groups * inner;
  const double epsilon = c.node.real("epsilon", 1e-5f);
  for (int64_t g = 0; g < x.shape()[0] * groups; ++g) {
    double *p = v.data() + g * size, sum = 0, squares = 0;
    for (int64_t i = 0; i < size; ++i) sum += p[i];
    const double mean = sum / static_cast<double>(size);
    for (int64_t i = 0; i < size; ++i) squares += (p[i] - mean) * (p[i] - mean);
    const double inverse = 1 / std::sqrt(squares / static_cast<double>(size) + epsilon);
    for (int64_t i = 0; i < size; ++i) {
      const int64_t k = c.version < 21 ? g % groups : g % groups * (channels / groups) + i / inner;
      p[i] = (p[i] - mean) * inverse * scale[k] + bias[k];
    }
  }
  return {narrow<double>(x.dtype(), x.shape(), v)};
}

// x / sqrt(mean(x^2) + epsilon) * scale over the axes from `axis` on.
std::vector<Tensor> rms_normalisation(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(c.node.integer("axis", -1), x.rank());
  const Blocks b(x.shape(), axis, x.rank());
  auto v = widen<double>(x);
  const auto scale = widen_to<double>(c.in(1), x.shape());
  const double epsilon = c.node.real("epsilon", 1e-5f);
  for (int64_t o = 0; o < b.outer; ++o) {
    double *p = v.data() + o * b.middle, squares = 0;
    for (int64_t i = 0; i < b.middle; ++i) squares += p[i] * p[i];
    const double inverse = 1 / std::sqrt(squares / static_cast<double>(b.middle) + epsilon);
    for (int64_t i = 0; i < b.middle; ++i) p[i] = p[i] * inverse * scale[o * b.middle + i];
  }
  return {narrow<double>(c.in(1).dtype(), x.shape(), v)};
}

}  // namespace

void add_normalisations(std::vector<OpDef>& out) {
  const auto infer_float = [](InferContext& c) {
    need(c, 0, standard_float, "a floating type");
    same_as_first(c);
  };
  for (const int since : {1, 13})
    out.push_back(
        def("Hardmax", since, 1, 1, Trait::reduction, infer_float, [since](const EvalContext& c) { return hardmax(c, since < 13); }));
  out.push_back(def("LpNormalization", 1, 1, 1, Trait::reduction, infer_float, lp_normalisation));
  out.push_back(def("MeanVarianceNormalization", 9, 1, 1, Trait::reduction, infer_float, mean_variance));
  for (const int since : {18, 21})
    out.push_back(def("GroupNormalization", since, 3, 3, Trait::reduction, infer_float, group_normalisation));
  out.push_back(def(
      "RMSNormalization", 23, 2, 2, Trait::reduction,
      [](InferContext& c) {
        need(c, 0, standard_float, "a floating type");
        c.set(0, c.dtype(1), c.dims(0));
      },
      rms_normalisation));
  out.push_back(softmax("Softmax", 1, false));
  out.push_back(softmax("Softmax", 13, false));
  out.push_back(softmax("LogSoftmax", 1, true));
  out.push_back(softmax("LogSoftmax", 13, true));
  // Versions differ in their outputs (up to 5 before 14, 3 from then on) and in training_mode.
  const auto infer_batch = [](InferContext& c) {
    need(c, 0, standard_float, "a floating type");
    if (const auto& x = c.dims(0); x && x->size() > 1) {
      for (int i = 1; i < 5; ++i) {
        const auto& d = c.dims(i);
        if (d && d->size() == 1 && (*d)[0].known() && (*x)[1].known() && (*d)[0].value != (*x)[1].value) {
          c.fail(Category::shape, fmt::format("input {} has {} elements, X has {} channels", i, (*d)[0].value, (*x)[1].value));
        }
      }
    }
    same_as_first(c);
    c.set(1, c.dtype(3), c.dims(3));
    c.set(2, c.dtype(4), c.dims(4));
  };
  OpDef old = def(
      "BatchNormalization", 1, 5, 5, Trait::elementwise, infer_batch,
      [](const EvalContext& c) {
        if (!c.node.integer("is_test", 0))
          fail(Category::unsupported, "training mode (is_test 0) of version {} is not supported", c.version);
        return batch_normalisation(c);
      },
      5);
  out.push_back(std::move(old));
  out.push_back(def("BatchNormalization", 7, 5, 5, Trait::elementwise, infer_batch, batch_normalisation, 5));
  out.push_back(def("BatchNormalization", 14, 5, 5, Trait::elementwise, infer_batch, batch_normalisation, 3));
  out.push_back(def(
      "InstanceNormalization", 1, 3, 3, Trait::reduction,
      [](InferContext& c) {
        need(c, 0, standard_float, "a floating type");
        same_as_first(c);
      },
      instance_normalisation));
  out.push_back(def("LayerNormalization", 17, 2, 3, Trait::reduction, infer_layer_normalisation, layer_normalisation, 3));
}

}  // namespace lathe::ops
