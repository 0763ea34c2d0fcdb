#include <algorithm>
#include <bit>
#include <cmath>

#include "base/fail.hpp"
#include "lathe/parity.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// Distance in representable values of the dtype. f32 and f64 by their bits; narrow formats by their codes.
double ulp_distance(double a, double b, DType dtype) {
  if (a == b) return 0;
  if (!std::isfinite(a) || !std::isfinite(b)) return INFINITY;
  const auto ordered = [&](double v) -> double {
    if (dtype == DType::f64) {
      const auto bits = std::bit_cast<int64_t>(v);
      return static_cast<double>(bits < 0 ? std::numeric_limits<int64_t>::min() - bits : bits);
    }
    if (dtype == DType::f32) {
      const auto bits = std::bit_cast<int32_t>(static_cast<float>(v));
      return bits < 0 ? static_cast<double>(std::numeric_limits<int32_t>::min()) - bits : bits;
    }
    const uint32_t code = encode_narrow(dtype, std::fabs(v));
    return v < 0 ? -static_cast<double>(code) : code;
  };
  return std::fabs(ordered(a) - ordered(b));
}

Shape index_of(int64_t at, const Shape& shape) {
  Shape index(shape.size());
  for (int d = static_cast<int>(shape.size()) - 1; d >= 0; --d) {
    index[d] = at % shape[d];
    at /= shape[d];
  }
  return index;
}

template <typename T>
void compare_exact(Comparison& c, const std::vector<T>& a, const std::vector<T>& b, auto print) {
  for (size_t i = 0; i < a.size(); ++i) {
    if (a[i] == b[i]) continue;
    if (c.out_of_tolerance++ == 0) {
      c.worst = index_of(static_cast<int64_t>(i), c.shape);
      c.got = print(a[i]);
      c.expected = print(b[i]);
    }
  }
}

void compare_floats(Comparison& c, const std::vector<double>& a, const std::vector<double>& b, const Tolerance& t) {
  double dot = 0, aa = 0, bb = 0, off = 0, worst = -1;
  int64_t at = 0;
  for (size_t i = 0; i < a.size(); ++i) {
    const double x = a[i], y = b[i];
    double excess = 0;  // error in tolerances
    if (std::isnan(x) || std::isnan(y) || std::isinf(x) || std::isinf(y)) {
      excess = (std::isnan(x) && std::isnan(y)) || x == y ? 0 : INFINITY;
      if (excess > 0) c.max_ulp = off = INFINITY;
    } else {
      const double error = std::fabs(x - y), allowed = t.absolute + t.relative * std::fabs(y), ulp = ulp_distance(x, y, c.dtype);
      c.max_absolute = std::max(c.max_absolute, error);
      if (y != 0) c.max_relative = std::max(c.max_relative, error / std::fabs(y));
      c.max_ulp = std::max(c.max_ulp, ulp);
      excess = error == 0 ? 0 : allowed > 0 ? error / allowed : INFINITY;
      if (excess > 1 && t.ulp > 0 && ulp <= static_cast<double>(t.ulp)) excess = 1;
      dot += x * y;
      aa += x * x;
      bb += y * y;
      off += error * error;
    }
    if (excess > 1) ++c.out_of_tolerance;
    if (excess > worst) {
      worst = excess;
      at = static_cast<int64_t>(i);
    }
  }
  c.error = off == 0 ? 0 : std::sqrt(off / bb);
  c.cosine = aa == 0 && bb == 0 ? 1 : aa == 0 || bb == 0 ? 0 : dot / std::sqrt(aa) / std::sqrt(bb);
  if (!a.empty()) {
    c.worst = index_of(at, c.shape);
    c.got = fmt::format("{:.9g}", a[at]);
    c.expected = fmt::format("{:.9g}", b[at]);
  }
}

}  // namespace

Tolerance default_tolerance(DType dtype) {
  switch (dtype) {
    case DType::f32:
    case DType::c64: return {1e-6, 1e-3, 0};
    case DType::f64:
    case DType::c128: return {1e-9, 1e-7, 0};
    case DType::f16: return {1e-3, 1e-2, 0};
    case DType::bf16: return {1e-2, 3e-2, 0};
    case DType::f8e4m3fn:
    case DType::f8e4m3fnuz:
    case DType::f8e5m2:
    case DType::f8e8m0:
    case DType::f8e5m2fnuz: return {0.1, 0.15, 0};
    default: return {};
  }
}

Tolerance tolerance_for(DType dtype, const std::optional<Tolerance>& asked) {
  const Tolerance usual = default_tolerance(dtype);
  if (!asked) return usual;
  Tolerance t = *asked;
  if (t.absolute < 0) t.absolute = usual.absolute;
  if (t.relative < 0) t.relative = usual.relative;
  return t;
}

std::optional<Tolerance> Tolerances::of(const std::string& name, DType dtype) const {
  if (const auto it = by_name.find(name); it != by_name.end()) return it->second;
  if (const auto it = by_dtype.find(dtype); it != by_dtype.end()) return it->second;
  return all;
}

Comparison compare(const std::string& name, const Tensor& got, const Tensor& expected, const std::optional<Tolerance>& tolerance) {
  Comparison c;
  c.name = name;
  c.dtype = expected.dtype();
  c.shape = expected.shape();
  if (got.kind() != expected.kind() || got.items().size() != expected.items().size()) {
    c.reason = fmt::format("a {} of {} items, expected a {} of {}", to_string(got.kind()), got.items().size(), to_string(expected.kind()),
                           expected.items().size());
    return c;
  }
  if (expected.composite()) {  // as good as its worst item
    c.pass = true;
    for (size_t i = 0; i < expected.items().size(); ++i) {
      Comparison item = compare(fmt::format("{}[{}]", name, i), got.items()[i], expected.items()[i], tolerance);
      c.max_absolute = std::max(c.max_absolute, item.max_absolute);
      c.max_relative = std::max(c.max_relative, item.max_relative);
      c.max_ulp = std::max(c.max_ulp, item.max_ulp);
      c.cosine = std::min(c.cosine, item.cosine);
      c.error = std::max(c.error, item.error);
      c.out_of_tolerance += item.out_of_tolerance;
      if (c.pass && !item.pass) {
        c.pass = false;
        c.reason = fmt::format("item {}: {}", i, item.reason);
        c.worst = item.worst;
        c.got = item.got;
        c.expected = item.expected;
      }
    }
    return c;
  }
  if (got.dtype() != expected.dtype()) {
    c.reason = fmt::format("dtype {}, expected {}", to_string(got.dtype()), to_string(expected.dtype()));
    return c;
  }
  if (got.shape() != expected.shape()) {
    c.reason = fmt::format("shape {}, expected {}", to_string(got.shape()), to_string(expected.shape()));
    return c;
  }
  if (c.dtype == DType::string) {
    const auto a = got.as<std::string>(), b = expected.as<std::string>();
    compare_exact<std::string>(c, {a.begin(), a.end()}, {b.begin(), b.end()}, [](const std::string& s) { return "'" + s + "'"; });
  } else if (is_complex(c.dtype)) {
    // Real and imaginary parts as one longer tensor of floats.
    const DType part = c.dtype == DType::c64 ? DType::f32 : DType::f64;
    const auto flat = [&](const Tensor& t) { return widen<double>(Tensor::borrow(part, {t.size() * 2}, const_cast<void*>(t.data()))); };
    const Shape shape = c.shape;
    c.shape.push_back(2);
    compare_floats(c, flat(got), flat(expected), tolerance_for(c.dtype, tolerance));
    c.shape = shape;
  } else if (is_float(c.dtype)) {
    compare_floats(c, widen<double>(got), widen<double>(expected), tolerance_for(c.dtype, tolerance));
  } else if (tolerance && c.dtype != DType::boolean) {
    compare_floats(c, widen<double>(got), widen<double>(expected), tolerance_for(c.dtype, tolerance));
    c.max_ulp = 0;
  } else {
    compare_exact(c, widen<int64_t>(got), widen<int64_t>(expected), [](int64_t v) { return std::to_string(v); });
    const auto a = widen<double>(got), b = widen<double>(expected);
    for (size_t i = 0; i < a.size(); ++i) c.max_absolute = std::max(c.max_absolute, std::fabs(a[i] - b[i]));
  }
  if (!is_float(c.dtype) && !is_complex(c.dtype) && c.error == 0)
    c.error = static_cast<double>(c.out_of_tolerance) / static_cast<double>(std::max<int64_t>(1, expected.size()));
  c.pass = c.out_of_tolerance == 0;
  if (!c.pass) {
    c.reason = fmt::format("{} of {} elements out of tolerance, worst at [{}]: got {}, expected {}", c.out_of_tolerance, expected.size(),
                           fmt::join(c.worst, ", "), c.got, c.expected);
  }
  return c;
}

}  // namespace lathe
