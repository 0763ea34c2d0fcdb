// Pooling: MaxPool, AveragePool and their global forms.
#include <cmath>
#include <limits>

#include "ops/support.hpp"
#include "ops/window.hpp"

namespace lathe::ops {
namespace {

bool poolable(DType d) { return standard_float(d) || d == DType::i8 || d == DType::u8; }

void infer_pool(InferContext& c) {
  need(c, 0, poolable, "a floating type, i8 or u8");
  if (!c.dims(0)) {
    c.set(0, c.dtype(0), std::nullopt);
    return c.set(1, DType::i64, std::nullopt);
  }
  const Dims& x = *c.dims(0);
  c.require(x.size() >= 3, Category::shape,
            fmt::format("input is {}, expected batch, channel and at least one spatial axis", to_string(x)));
  c.require(c.node().find<std::vector<int64_t>>("kernel_shape"), Category::value, "attribute kernel_shape is missing");
  Dims out{x[0], x[1]};
  const Dims spatial = window_dims(c.node(), std::span<const Dim>(x).subspan(2));
  out.insert(out.end(), spatial.begin(), spatial.end());
  c.set(0, c.dtype(0), out);
  c.set(1, DType::i64, out);
}

// Calls f(output position, source offset inside the plane or -1 in the padding) for every tap of every position.
template <typename Start, typename See, typename End>
void slide(const Window& w, std::span<const int64_t> in, Start start, See see, End end) {
  std::vector<std::vector<int64_t>> tables;
  for (int a = 0; a < w.axes(); ++a) tables.push_back(window_table(w, a, in[a]));
  const auto out_strides = strides_of(w.out), tap_strides = strides_of(w.kernel);
  const int64_t positions = element_count(w.out), taps = w.taps();
  for (int64_t p = 0; p < positions; ++p) {
    start(p);
    for (int64_t t = 0; t < taps; ++t) {
      int64_t at = 0;
      for (int a = 0; a < w.axes() && at >= 0; ++a) {
        const int64_t s = tables[a][p / out_strides[a] % w.out[a] * w.kernel[a] + t / tap_strides[a] % w.kernel[a]];
        at = s < 0 ? -1 : at * in[a] + s;
      }
      see(p, t, at);
    }
    end(p);
  }
}

double tap_count(const Window& w) {
  double taps = 1;
  for (int64_t k : w.kernel) taps *= static_cast<double>(k);
  return taps;
}

struct Pool {
  Shape in, out;
  Window window;
  int64_t planes, in_size, out_size;
  Pool(const Node& node, const Shape& x) : in(x.begin() + 2, x.end()) {
    window = read_window(node, in);
    planes = x[0] * x[1];
    in_size = element_count(in);
    out_size = element_count(window.out);
    out = {x[0], x[1]};
    out.insert(out.end(), window.out.begin(), window.out.end());
    check_plain_size(element_count(out));
    // A window far larger than the picture looks at padding for hours: so many taps for each element that could be made are enough.
    constexpr double kTaps = 64;
    const double looks = static_cast<double>(planes) * static_cast<double>(out_size) * tap_count(window) / kTaps;
    check_plain_size(looks < 1e18 ? static_cast<int64_t>(looks) : std::numeric_limits<int64_t>::max());
  }
};

std::vector<Tensor> max_pool(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 3) fail(Category::shape, "input is {}, expected batch, channel and at least one spatial axis", to_string(x.shape()));
  const Pool pool(c.node, x.shape());
  const auto v = widen<double>(x);  // 8-bit integers are exact in double
  std::vector<double> y(pool.planes * pool.out_size);
  std::vector<int64_t> where(y.size());
  const bool columns = c.node.integer("storage_order", 0) != 0;
  const auto in_strides = strides_of(pool.in);
  for (int64_t plane = 0; plane < pool.planes; ++plane) {
    double best = 0;
    int64_t at_best = -1;
    const double* src = v.data() + plane * pool.in_size;
    slide(
        pool.window, pool.in, [&](int64_t) { best = -INFINITY, at_best = -1; },
        [&](int64_t, int64_t, int64_t at) {
          if (at >= 0 && (at_best < 0 || src[at] > best || (std::isnan(src[at]) && !std::isnan(best)))) best = src[at], at_best = at;
        },
        [&](int64_t p) {
          y[plane * pool.out_size + p] = best;
          int64_t index = at_best;
          if (columns && at_best >= 0) {  // the first axis runs fastest
            index = 0;
            for (int a = static_cast<int>(pool.in.size()) - 1; a >= 0; --a)
              index = index * pool.in[a] + at_best / in_strides[a] % pool.in[a];
          }
          where[plane * pool.out_size + p] = plane * pool.in_size + index;
        });
  }
  std::vector<Tensor> out{narrow<double>(x.dtype(), pool.out, y)};
  if (c.output_count > 1) out.push_back(narrow<int64_t>(DType::i64, pool.out, where));
  return out;
}

std::vector<Tensor> average_pool(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 3) fail(Category::shape, "input is {}, expected batch, channel and at least one spatial axis", to_string(x.shape()));
  const Pool pool(c.node, x.shape());
  const bool count_padding = c.node.integer("count_include_pad", 0) != 0;
  const auto v = widen<double>(x);
  std::vector<double> y(pool.planes * pool.out_size);
  // Taps past the padded end (ceil mode) never count.
  const auto counted = average_pool_counts(pool.window, pool.in, count_padding);
  for (int64_t plane = 0; plane < pool.planes; ++plane) {
    const double* src = v.data() + plane * pool.in_size;
    double sum = 0;
    slide(
        pool.window, pool.in, [&](int64_t) { sum = 0; }, [&](int64_t, int64_t, int64_t at) { sum += at >= 0 ? src[at] : 0; },
        [&](int64_t p) { y[plane * pool.out_size + p] = sum / static_cast<double>(counted[p]); });
  }
  return {narrow<double>(x.dtype(), pool.out, y)};
}

void infer_global(InferContext& c) {
  need(c, 0, standard_float, "a floating type");
  if (!c.dims(0)) return c.set(0, c.dtype(0), std::nullopt);
  Dims out = *c.dims(0);
  c.require(out.size() >= 2, Category::shape, fmt::format("input is {}, expected at least batch and channel", to_string(out)));
  for (size_t i = 2; i < out.size(); ++i) out[i] = Dim(1);
  c.set(0, c.dtype(0), out);
}

std::vector<Tensor> global_pool(const EvalContext& c, bool average) {
  const Tensor& x = c.in(0);
  Shape shape = x.shape();
  if (shape.size() < 2) fail(Category::shape, "input is {}, expected at least batch and channel", to_string(shape));
  const int64_t planes = shape[0] * shape[1], size = planes ? x.size() / planes : 0;
  std::fill(shape.begin() + 2, shape.end(), 1);
  const auto v = widen<double>(x);
  std::vector<double> y(planes);
  for (int64_t p = 0; p < planes; ++p) {
    double acc = average ? 0 : -INFINITY;
    for (int64_t i = 0; i < size; ++i) {
      const double e = v[p * size + i];
      acc = average ? acc + e : std::isnan(e) || e > acc ? e : acc;
    }
    y[p] = average ? acc / static_cast<double>(size) : acc;
  }
  return {narrow<double>(x.dtype(), shape, y)};
}

std::vector<Tensor> lp_pool(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 3) fail(Category::shape, "input is {}, expected batch, channel and at least one spatial axis", to_string(x.shape()));
  const Pool pool(c.node, x.shape());
  const double p = c.version < 2 ? c.node.real("p", 2) : static_cast<double>(c.node.integer("p", 2));
  const auto v = widen<double>(x);
  std::vector<double> y(pool.planes * pool.out_size, 0);
  for (int64_t plane = 0; plane < pool.planes; ++plane) {
    slide(
        pool.window, pool.in, [](int64_t) {},
        [&](int64_t at, int64_t, int64_t from) {
          if (from >= 0) y[plane * pool.out_size + at] += std::pow(std::fabs(v[plane * pool.in_size + from]), p);
        },
        [&](int64_t at) { y[plane * pool.out_size + at] = std::pow(y[plane * pool.out_size + at], 1 / p); });
  }
  return {narrow<double>(x.dtype(), pool.out, y)};
}

std::vector<Tensor> global_lp_pool(const EvalContext& c) {
  const Tensor& x = c.in(0);
  Shape shape = x.shape();
  if (shape.size() < 2) fail(Category::shape, "input is {}, expected at least batch and channel", to_string(shape));
  const double p = c.version < 2 ? c.node.real("p", 2) : static_cast<double>(c.node.integer("p", 2));
  const int64_t planes = shape[0] * shape[1], size = planes ? x.size() / planes : 0;
  std::fill(shape.begin() + 2, shape.end(), 1);
  const auto v = widen<double>(x);
  std::vector<double> y(planes, 0);
  for (int64_t i = 0; i < planes * size; ++i) y[i / size] += std::pow(std::fabs(v[i]), p);
  for (double& e : y) e = std::pow(e, 1 / p);
  return {narrow<double>(x.dtype(), shape, y)};
}

}  // namespace

std::vector<int64_t> average_pool_counts(const Window& w, std::span<const int64_t> in, bool count_padding) {
  std::vector<int64_t> counts(element_count(w.out), 1);
  const auto strides = strides_of(w.out);
  for (int a = 0; a < w.axes(); ++a) {
    std::vector<int64_t> axis(w.out[a]);
    for (int64_t o = 0; o < w.out[a]; ++o) {
      for (int64_t k = 0; k < w.kernel[a]; ++k) {
        const int64_t at = o * w.strides[a] + k * w.dilations[a] - w.pads_begin[a];
        axis[o] += count_padding ? at < in[a] + w.pads_end[a] : at >= 0 && at < in[a];
      }
    }
    for (size_t p = 0; p < counts.size(); ++p) counts[p] *= axis[p / strides[a] % w.out[a]];
  }
  return counts;
}

void add_pooling(std::vector<OpDef>& out) {
  out.push_back(def("MaxPool", 1, 1, 1, Trait::reduction, infer_pool, max_pool, 2));
  for (const int since : {1, 2}) {  // p was a float in version 1
    out.push_back(def("LpPool", since, 1, 1, Trait::reduction, infer_pool, lp_pool));
    out.push_back(def("GlobalLpPool", since, 1, 1, Trait::reduction, infer_global, global_lp_pool));
  }
  out.push_back(def("AveragePool", 1, 1, 1, Trait::reduction, infer_pool, average_pool));
  out.push_back(
      def("GlobalAveragePool", 1, 1, 1, Trait::reduction, infer_global, [](const EvalContext& c) { return global_pool(c, true); }));
  out.push_back(def("GlobalMaxPool", 1, 1, 1, Trait::reduction, infer_global, [](const EvalContext& c) { return global_pool(c, false); }));
}

}  // namespace lathe::ops
