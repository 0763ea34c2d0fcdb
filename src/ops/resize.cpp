// Resize (and its ancestor Upsample): nearest, linear and cubic interpolation, one axis after another.
// Source: the standard's Resize page; coordinate formulas are its own.
#include "ops/resize.hpp"

#include <algorithm>
#include <cmath>

#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"

namespace lathe::ops {
namespace {

struct Plan {
  Shape out;
  std::vector<double> scales;
  std::vector<double> roi;  // start per axis, then end per axis
};

// Where scales and sizes sit among the inputs, by version: 7/9 Upsample (attribute / input 1), 10 (X, scales),
// 11 on (X, roi, scales, sizes).
struct Sources {
  std::optional<std::vector<double>> scales;
  std::optional<std::vector<int64_t>> sizes;
  std::vector<double> roi;
};

Plan make_plan(const Node& node, const Shape& in, const Sources& s) {
  const int64_t rank = static_cast<int64_t>(in.size());
  std::vector<int64_t> axes = node.integers("axes");
  if (axes.empty()) {
    for (int64_t i = 0; i < rank; ++i) axes.push_back(i);
  }
  axes = wrap_axes(axes, rank);
  Plan p{in, std::vector<double>(rank, 1), std::vector<double>(2 * rank, 0)};
  for (int64_t i = 0; i < rank; ++i) p.roi[rank + i] = 1;
  if (!s.roi.empty()) {
    if (s.roi.size() != 2 * axes.size()) fail(Category::value, "roi has {} entries, expected {}", s.roi.size(), 2 * axes.size());
    for (size_t i = 0; i < axes.size(); ++i) {
      p.roi[axes[i]] = s.roi[i];
      p.roi[rank + axes[i]] = s.roi[axes.size() + i];
    }
  }
  const bool have_scales = s.scales && !s.scales->empty(), have_sizes = s.sizes && !s.sizes->empty();
  if (have_scales == have_sizes) fail(Category::value, "exactly one of scales and sizes must be given");
  if ((have_scales ? s.scales->size() : s.sizes->size()) != axes.size())
    fail(Category::value, "scales or sizes has {} entries, expected {}", have_scales ? s.scales->size() : s.sizes->size(), axes.size());
  const bool crop = node.text("coordinate_transformation_mode", "half_pixel") == "tf_crop_and_resize";
  std::vector<int64_t> sizes = have_sizes ? *s.sizes : std::vector<int64_t>();
  const std::string policy = node.text("keep_aspect_ratio_policy", "stretch");
  if (have_sizes && policy != "stretch") {
    double ratio = policy == "not_larger" ? INFINITY : 0;
    for (size_t i = 0; i < axes.size(); ++i) {
      const double r = static_cast<double>(sizes[i]) / static_cast<double>(in[axes[i]]);
      ratio = policy == "not_larger" ? std::min(ratio, r) : std::max(ratio, r);
    }
    for (size_t i = 0; i < axes.size(); ++i) {
      sizes[i] = static_cast<int64_t>(std::floor(ratio * static_cast<double>(in[axes[i]]) + 0.5));
      p.scales[axes[i]] = ratio;
    }
  }
  for (size_t i = 0; i < axes.size(); ++i) {
    const int64_t a = axes[i];
    const double extent = crop ? static_cast<double>(in[a]) * (p.roi[rank + a] - p.roi[a]) : static_cast<double>(in[a]);
    if (have_scales) {
      if (!((*s.scales)[i] > 0)) fail(Category::value, "scale {} is not positive", (*s.scales)[i]);
      p.scales[a] = (*s.scales)[i];
      const double size = std::floor(extent * p.scales[a] + 1e-9);
      if (!(size < 1e12)) fail(Category::shape, "the resized axis {} would have {} elements", a, size);
      p.out[a] = static_cast<int64_t>(size);
    } else {
      if (sizes[i] < 0) fail(Category::value, "size {} is negative", sizes[i]);
      p.out[a] = sizes[i];
      if (policy == "stretch") p.scales[a] = in[a] == 0 ? 1 : static_cast<double>(sizes[i]) / static_cast<double>(in[a]);
    }
    if (in[a] == 0 && p.out[a] > 0) fail(Category::shape, "cannot resize axis {} of size 0", a);
  }
  element_count(p.out);
  return p;
}

double source_coordinate(const std::string& mode, double x, double scale, int64_t in, int64_t out, double start, double end) {
  const double n = static_cast<double>(in), m = static_cast<double>(out);
  if (mode == "half_pixel") return (x + 0.5) / scale - 0.5;
  if (mode == "half_pixel_symmetric") {
    const double adjustment = m / (scale * n), center = n / 2;
    return center * (1 - adjustment) + (x + 0.5) / scale - 0.5;
  }
  if (mode == "pytorch_half_pixel") return out > 1 ? (x + 0.5) / scale - 0.5 : 0;
  if (mode == "align_corners") return out == 1 ? 0 : x * (n - 1) / (scale * n - 1);  // the resized length is not rounded here
  if (mode == "asymmetric") return x / scale;
  if (mode == "tf_half_pixel_for_nn") return (x + 0.5) / scale;
  if (mode == "tf_crop_and_resize")
    return out > 1 ? start * (n - 1) + x * (end - start) * (n - 1) / (m - 1) : 0.5 * (start + end) * (n - 1);
  fail(Category::value, "coordinate_transformation_mode '{}' is not known", mode);
}

int64_t nearest(const std::string& mode, double x) {
  if (mode == "round_prefer_floor") return static_cast<int64_t>(std::ceil(x - 0.5));
  if (mode == "round_prefer_ceil") return static_cast<int64_t>(std::floor(x + 0.5));
  if (mode == "floor") return static_cast<int64_t>(std::floor(x));
  if (mode == "ceil") return static_cast<int64_t>(std::ceil(x));
  fail(Category::value, "nearest_mode '{}' is not known", mode);
}

double cubic(double x, double a) {
  x = std::fabs(x);
  if (x <= 1) return ((a + 2) * x - (a + 3)) * x * x + 1;
  if (x < 2) return (((x - 5) * x + 8) * x - 4) * a;
  return 0;
}

struct Axis {  // weights and sources of one output index
  std::vector<int64_t> at;
  std::vector<double> weight;
  bool outside = false;
};

Axis make_axis(const Node& node, const std::string& mode, const std::string& coordinates, const std::string& rounding, int64_t o,
               double scale, int64_t in, int64_t out, double start, double end) {
  const double x = source_coordinate(coordinates, static_cast<double>(o), scale, in, out, start, end);
  if (!(std::fabs(x) < 1e15)) fail(Category::value, "a scale of {} reaches absurdly far", scale);
  Axis axis;
  axis.outside = coordinates == "tf_crop_and_resize" && (x < 0 || x > static_cast<double>(in - 1));
  if (mode == "nearest") {
    axis.at = {std::clamp<int64_t>(nearest(rounding, x), 0, in - 1)};
    axis.weight = {1};
    return axis;
  }
  const bool is_cubic = mode == "cubic", exclude = node.integer("exclude_outside", 0) != 0;
  const double a = node.real("cubic_coeff_a", -0.75f);
  // Downsampling with antialias widens the kernel by the inverse scale.
  const double stretch = node.integer("antialias", 0) && scale < 1 ? scale : 1;
  const double reach = (is_cubic ? 2 : 1) / stretch;
  if (!(reach < 1e8)) fail(Category::value, "a scale of {} reaches absurdly far", scale);
  double sum = 0;
  for (int64_t i = static_cast<int64_t>(std::floor(x - reach)) + 1; static_cast<double>(i) < x + reach; ++i) {
    const double d = (static_cast<double>(i) - x) * stretch;
    double w = is_cubic ? cubic(d, a) : std::max(0.0, 1 - std::fabs(d));
    if (exclude && (i < 0 || i >= in)) w = 0;
    if (w == 0) continue;
    axis.at.push_back(std::clamp<int64_t>(i, 0, in - 1));
    axis.weight.push_back(w);
    sum += w;
  }
  if (exclude || stretch < 1) {
    for (double& w : axis.weight) w /= sum;
  }
  return axis;
}

std::vector<Tensor> resize(const Node& node, const Tensor& x, const Plan& plan, const std::string& default_coordinates,
                           const std::string& default_rounding) {
  const std::string mode = node.text("mode", "nearest"), coordinates = node.text("coordinate_transformation_mode", default_coordinates);
  const std::string rounding = node.text("nearest_mode", default_rounding);
  if (mode != "nearest" && mode != "linear" && mode != "cubic") fail(Category::value, "mode '{}' is not known", mode);
  const double outside = node.real("extrapolation_value", 0);
  check_plain_size(element_count(plan.out));
  auto v = widen<double>(x);
  Shape shape = x.shape();
  const int64_t rank = static_cast<int64_t>(shape.size());
  for (int64_t a = 0; a < rank; ++a) {
    if (plan.out[a] == shape[a] && plan.scales[a] == 1 && coordinates != "tf_crop_and_resize") continue;
    const int64_t in = shape[a], out = plan.out[a];
    const int64_t inner = element_count(std::span<const int64_t>(shape).subspan(a + 1)),
                  outer = element_count(std::span<const int64_t>(shape).first(a));
    Shape between = shape;
    between[a] = out;
    check_plain_size(element_count(between));  // may be more than what is left in the end
    std::vector<double> next(outer * out * inner);
    for (int64_t o = 0; o < out && !next.empty(); ++o) {
      const Axis axis = make_axis(node, mode, coordinates, rounding, o, plan.scales[a], in, out, plan.roi[a], plan.roi[rank + a]);
      for (int64_t r = 0; r < outer; ++r) {
        double* dst = next.data() + (r * out + o) * inner;
        if (axis.outside) {
          std::fill_n(dst, inner, outside);
          continue;
        }
        for (size_t t = 0; t < axis.at.size(); ++t) {
          const double* src = v.data() + (r * in + axis.at[t]) * inner;
          for (int64_t i = 0; i < inner; ++i) dst[i] += axis.weight[t] * src[i];
        }
      }
    }
    v = std::move(next);
    shape[a] = out;
  }
  const bool is_signed = x.dtype() == DType::i8;
  if (mode != "nearest" && (is_signed || x.dtype() == DType::u8)) {
    const ByteSums s = byte_sums(node);
    for (double& y : v) {
      y = s.rounds ? std::nearbyint((y - s.zero) * s.factor) + s.out_zero : std::trunc(y + std::copysign(0x1p-10, y));
      y = std::clamp(y, is_signed ? -128.0 : 0.0, is_signed ? 127.0 : 255.0);
    }
  }
  return {narrow<double>(x.dtype(), shape, v)};
}

enum class Form { upsample7, upsample9, resize10, resize11 };

Sources sources(const EvalContext& c, Form form) {
  Sources s;
  const auto doubles = [&](size_t i) -> std::optional<std::vector<double>> {
    if (!c.has(i) || c.in(i).size() == 0) return std::nullopt;
    return widen<double>(c.in(i));
  };
  if (form == Form::upsample7) {
    if (const auto* f = c.node.find<std::vector<float>>("scales")) s.scales = std::vector<double>(f->begin(), f->end());
  } else if (form != Form::resize11) {
    s.scales = doubles(1);
  } else {
    s.scales = doubles(2);
    if (c.has(3) && c.in(3).size() > 0) s.sizes = integers(c.in(3));
    if (const auto roi = doubles(1)) s.roi = *roi;
  }
  return s;
}

OpDef make(std::string name, int since, Form form, int min_inputs, int max_inputs) {
  return def(
      std::move(name), since, min_inputs, max_inputs, Trait::movement,
      [form](InferContext& c) {
        const auto shape = known_shape(c.dims(0));
        std::vector<Tensor> inputs;
        for (int i = 0; i < c.input_count(); ++i) {
          const Tensor* t = c.constant(i);
          if (i > 0 && c.has(i) && !t) {  // sizes are only known at run time
            return c.set(0, c.dtype(0), c.dims(0) ? std::optional<Dims>(Dims(c.rank(0))) : std::nullopt);
          }
          inputs.push_back(t ? *t : Tensor());
        }
        const Sources s = sources({c.node(), c.version(), inputs, 1}, form);
        if (shape) return c.set(0, c.dtype(0), to_dims(make_plan(c.node(), *shape, s).out));
        if (!c.dims(0)) return c.set(0, c.dtype(0), std::nullopt);
        // Axes with scale 1 keep their dims; the others that are known are worked out alone.
        Dims out = *c.dims(0);
        Shape probe;
        for (const Dim& d : out) probe.push_back(d.known() ? d.value : 1);
        const Plan p = make_plan(c.node(), probe, s);
        for (size_t i = 0; i < out.size(); ++i) {
          const bool fixed = s.sizes && c.node().text("keep_aspect_ratio_policy", "stretch") == "stretch";
          if (out[i].known() || fixed) out[i] = Dim(p.out[i]);
          else if (p.scales[i] != 1) out[i] = Dim();
        }
        c.set(0, c.dtype(0), out);
      },
      [form](const EvalContext& c) {
        const bool old = form != Form::resize11;
        return resize(c.node, c.in(0), make_plan(c.node, c.in(0).shape(), sources(c, form)), old ? "asymmetric" : "half_pixel",
                      old ? "floor" : "round_prefer_floor");
      });
}

}  // namespace

ByteSums byte_sums(const Node& node) {
  const auto* scaling = node.find<std::vector<float>>(kScaling);
  if (!scaling) return {};
  if (scaling->size() != 4 || !((*scaling)[1] > 0) || !((*scaling)[3] > 0))
    fail(Category::value, "attribute '{}' must be a zero point and a scale above 0, twice", kScaling);
  const std::vector<float>& s = *scaling;
  return {true, s[0], static_cast<double>(s[1]) / s[3], s[2]};
}

std::optional<ResizePlan> resize_plan(const Node& node, int version, const Shape& in, std::span<const Tensor> constants) {
  const Form form = node.op == "Upsample" ? (version < 9 ? Form::upsample7 : Form::upsample9)
                    : version < 11        ? Form::resize10
                                          : Form::resize11;
  for (size_t i = 1; i < node.inputs.size(); ++i) {
    if (node.inputs[i] != kAbsent && (i >= constants.size() || constants[i].empty())) return std::nullopt;
  }
  const bool old = form != Form::resize11;
  const std::string mode = node.text("mode", "nearest"),
                    coordinates = node.text("coordinate_transformation_mode", old ? "asymmetric" : "half_pixel");
  const bool crop = coordinates == "tf_crop_and_resize";
  const std::string rounding = node.text("nearest_mode", old ? "floor" : "round_prefer_floor");
  const Plan plan = make_plan(node, in, sources({node, version, constants, 1}, form));
  ResizePlan out{plan.out, {}, mode == "nearest"};
  const int64_t rank = static_cast<int64_t>(in.size());
  for (int64_t a = 0; a < rank; ++a) {
    ResizeAxis axis;
    axis.same = plan.out[a] == in[a] && plan.scales[a] == 1 && !(crop && (plan.roi[a] != 0 || plan.roi[rank + a] != 1));
    if (!axis.same) {
      std::vector<Axis> positions;
      for (int64_t o = 0; o < plan.out[a]; ++o) {
        positions.push_back(
            make_axis(node, mode, coordinates, rounding, o, plan.scales[a], in[a], plan.out[a], plan.roi[a], plan.roi[rank + a]));
        axis.taps = std::max(axis.taps, static_cast<int64_t>(positions.back().at.size()));
      }
      if (std::ranges::any_of(positions, &Axis::outside)) return std::nullopt;
      for (const Axis& p : positions) {
        for (int64_t t = 0; t < axis.taps; ++t) {  // filled up with taps that weigh nothing
          const bool there = t < static_cast<int64_t>(p.at.size());
          axis.at.push_back(there ? p.at[t] : p.at.empty() ? 0 : p.at.back());
          axis.weights.push_back(there ? p.weight[t] : 0);
        }
      }
    }
    out.axes.push_back(std::move(axis));
  }
  return out;
}

void add_resize(std::vector<OpDef>& out) {
  out.push_back(make("Upsample", 7, Form::upsample7, 1, 1));
  out.push_back(make("Upsample", 9, Form::upsample9, 2, 2));
  out.push_back(make("Resize", 10, Form::resize10, 2, 2));
  out.push_back(make("Resize", 11, Form::resize11, 1, 4));
}

}  // namespace lathe::ops
