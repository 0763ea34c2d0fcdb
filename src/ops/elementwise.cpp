// Elementwise ops: unary functions, arithmetic, comparison, logic, selection, casts.
// Source: the standard's operator pages; formulas below quote them.
#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstring>
#include <limits>

#include "ops/support.hpp"
#include "tensor/numbers.hpp"

namespace lathe::ops {
namespace {

using F1 = std::function<double(double)>;

Tensor map_float(const Tensor& x, const F1& f) {
  auto v = widen<double>(x);
  for (double& e : v) e = f(e);
  return narrow<double>(x.dtype(), x.shape(), v);
}

// y = f(x) in double; the maker reads attributes once.
OpDef unary_float(std::string name, int since, std::function<F1(const Node&)> make) {
  return def(
      std::move(name), since, 1, 1, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, standard_float, "a floating type");
        same_as_first(c);
      },
      [make](const EvalContext& c) -> std::vector<Tensor> { return {map_float(c.in(0), make(c.node))}; });
}

OpDef unary_float(std::string name, int since, double (*f)(double)) {
  return unary_float(std::move(name), since, [f](const Node&) -> F1 { return f; });
}

// Ops that integers have too: f for floats, g for integers.
OpDef unary_numeric(std::string name, int since, double (*f)(double), int64_t (*g)(int64_t)) {
  return def(
      std::move(name), since, 1, 1, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, numeric, "a number");
        same_as_first(c);
      },
      [f, g](const EvalContext& c) -> std::vector<Tensor> {
        const Tensor& x = c.in(0);
        if (is_float(x.dtype())) return {map_float(x, f)};
        auto v = widen<int64_t>(x);
        // Values of u64 beyond int64 look negative here; they are as large as the largest as far as g goes.
        constexpr int64_t kMost = std::numeric_limits<int64_t>::max();
        const bool beyond = x.dtype() == DType::u64;
        for (int64_t& e : v) e = !beyond || e >= 0 ? g(e) : g(kMost) == kMost ? e : g(kMost);
        return {narrow<int64_t>(x.dtype(), x.shape(), v)};
      });
}

double relu(double x) { return x < 0 ? 0 : x; }  // NaN stays
double sigmoid(double x) { return x >= 0 ? 1 / (1 + std::exp(-x)) : std::exp(x) / (1 + std::exp(x)); }
double softplus(double x) { return x > 0 ? x + std::log1p(std::exp(-x)) : std::log1p(std::exp(x)); }
double clamp(double x, double low, double high) { return x < low ? low : x > high ? high : x; }
double sign(double x) { return std::isnan(x) ? x : (x > 0) - (x < 0); }

void infer_broadcast(InferContext& c, DType result) {
  std::optional<Dims> dims = c.dims(0);
  for (int i = 1; i < c.input_count(); ++i) {
    if (!dims || !c.dims(i)) dims = std::nullopt;
    else {
      try {
        dims = broadcast(*dims, *c.dims(i));
      } catch (const Error& e) {
        c.fail(Category::shape, e.what());
      }
    }
  }
  c.set(0, result, dims);
}

// Any number of inputs of one dtype, folded left to right.
template <typename Fold>
std::vector<Tensor> fold_inputs(const EvalContext& c, Fold fold) {
  Shape shape = c.in(0).shape();
  for (size_t i = 1; i < c.inputs.size(); ++i) {
    if (c.in(i).dtype() != c.in(0).dtype())
      fail(Category::type, "inputs 0 and {} differ: {} and {}", i, to_string(c.in(0).dtype()), to_string(c.in(i).dtype()));
    shape = broadcast(shape, c.in(i).shape());
  }
  return with_wide(c.in(0).dtype(), [&](auto zero) -> std::vector<Tensor> {
    using T = decltype(zero);
    auto acc = widen_to<T>(c.in(0), shape);
    for (size_t i = 1; i < c.inputs.size(); ++i) {
      const auto other = widen_to<T>(c.in(i), shape);
      for (size_t k = 0; k < acc.size(); ++k) acc[k] = fold(acc[k], other[k]);
    }
    return {narrow<T>(c.in(0).dtype(), shape, acc)};
  });
}

// Integer arithmetic wraps; signed overflow goes through unsigned.
template <typename T>
T wrapping(T a, T b, auto op) {
  if constexpr (std::is_floating_point_v<T>) return op(a, b);
  else return static_cast<T>(op(static_cast<uint64_t>(a), static_cast<uint64_t>(b)));
}

constexpr auto kAdd = [](auto a, auto b) { return wrapping(a, b, std::plus<>()); };
constexpr auto kSub = [](auto a, auto b) { return wrapping(a, b, std::minus<>()); };
constexpr auto kMul = [](auto a, auto b) { return wrapping(a, b, std::multiplies<>()); };
constexpr auto kDiv = [](auto a, auto b) -> decltype(a) {
  if constexpr (std::is_integral_v<decltype(a)>) {
    if (b == 0) fail(Category::value, "integer division by zero");
    if constexpr (std::is_signed_v<decltype(a)>) {
      if (b == -1) return static_cast<decltype(a)>(-static_cast<uint64_t>(a));
    }
  }
  return a / b;
};
constexpr auto kMax = [](auto a, auto b) -> decltype(a) {
  if constexpr (std::is_floating_point_v<decltype(a)>) return std::isnan(a) || a > b ? a : b;
  else return std::max(a, b);
};
constexpr auto kMin = [](auto a, auto b) -> decltype(a) {
  if constexpr (std::is_floating_point_v<decltype(a)>) return std::isnan(a) || a < b ? a : b;
  else return std::min(a, b);
};
constexpr auto kMod = [](auto a, auto b) -> decltype(a) {  // the sign follows the divisor
  if constexpr (std::is_floating_point_v<decltype(a)>) return std::fmod(a, b);
  else {
    if (b == 0) fail(Category::value, "integer remainder by zero");
    if constexpr (std::is_signed_v<decltype(a)>) {
      if (b == -1) return 0;
      const auto r = a % b;
      return r != 0 && (r < 0) != (b < 0) ? r + b : r;
    } else return a % b;
  }
};
constexpr auto kFmod = [](auto a, auto b) -> decltype(a) {  // the sign follows the dividend
  if constexpr (std::is_floating_point_v<decltype(a)>) return std::fmod(a, b);
  else {
    if (b == 0) fail(Category::value, "integer remainder by zero");
    if constexpr (std::is_signed_v<decltype(a)>) return b == -1 ? 0 : a % b;
    else return a % b;
  }
};

OpDef arithmetic(std::string name, int since, auto op, bool variadic = false) {
  return def(
      std::move(name), since, variadic ? 1 : 2, variadic ? -1 : 2, Trait::elementwise,
      [](InferContext& c) {
        for (int i = 0; i < c.input_count(); ++i) {
          need(c, i, numeric, "a number");
          need_same(c, 0, i);
        }
        infer_broadcast(c, c.dtype(0));
      },
      [op](const EvalContext& c) { return fold_inputs(c, op); });
}

template <typename T>
T integer_power(T base, int64_t exponent) {
  if (exponent < 0) {
    if (base == 1) return 1;
    if constexpr (std::is_signed_v<T>) {
      if (base == T(-1)) return exponent % 2 ? T(-1) : T(1);
    }
    return 0;
  }
  uint64_t result = 1, b = static_cast<uint64_t>(base);
  for (; exponent > 0; exponent >>= 1, b *= b) {
    if (exponent & 1) result *= b;
  }
  return static_cast<T>(result);
}

std::vector<Tensor> power(const EvalContext& c) {
  const Tensor &x = c.in(0), &y = c.in(1);
  const Shape shape = broadcast(x.shape(), y.shape());
  if (is_float(x.dtype()) || is_float(y.dtype())) {
    auto a = widen_to<double>(x, shape);
    const auto b = widen_to<double>(y, shape);
    for (size_t i = 0; i < a.size(); ++i) a[i] = std::pow(a[i], b[i]);
    return {narrow<double>(x.dtype(), shape, a)};
  }
  return with_wide(x.dtype(), [&](auto zero) -> std::vector<Tensor> {
    using T = decltype(zero);
    auto a = widen_to<T>(x, shape);
    const auto b = widen_to<int64_t>(y, shape);
    for (size_t i = 0; i < a.size(); ++i) a[i] = integer_power(a[i], b[i]);
    return {narrow<T>(x.dtype(), shape, a)};
  });
}

// Two inputs of one dtype to bool.
OpDef comparison(std::string name, int since, auto op, bool strings = false) {
  return def(
      std::move(name), since, 2, 2, Trait::elementwise,
      [](InferContext& c) {
        need_same(c, 0, 1);
        infer_broadcast(c, DType::boolean);
      },
      [op, strings](const EvalContext& c) -> std::vector<Tensor> {
        const Tensor &x = c.in(0), &y = c.in(1);
        if (x.dtype() != y.dtype()) fail(Category::type, "inputs differ: {} and {}", to_string(x.dtype()), to_string(y.dtype()));
        const Shape shape = broadcast(x.shape(), y.shape());
        Tensor out(DType::boolean, shape);
        auto* p = out.as<bool>().data();
        if (strings && x.dtype() == DType::string) {
          const auto i = strided_index(shape, broadcast_strides(x.shape(), shape)),
                     j = strided_index(shape, broadcast_strides(y.shape(), shape));
          for (size_t k = 0; k < i.size(); ++k) p[k] = op(x.as<std::string>()[i[k]], y.as<std::string>()[j[k]]);
          return {out};
        }
        with_wide(x.dtype(), [&](auto zero) {
          using T = decltype(zero);
          const auto a = widen_to<T>(x, shape), b = widen_to<T>(y, shape);
          for (size_t k = 0; k < a.size(); ++k) p[k] = op(a[k], b[k]);
          return 0;
        });
        return {out};
      });
}

OpDef logic(std::string name, bool (*op)(bool, bool)) {
  return def(
      std::move(name), 7, 2, 2, Trait::elementwise,
      [](InferContext& c) {
        for (int i = 0; i < 2; ++i)
          need(
              c, i, [](DType d) { return d == DType::boolean; }, "bool");
        infer_broadcast(c, DType::boolean);
      },
      [op](const EvalContext& c) -> std::vector<Tensor> {
        const Shape shape = broadcast(c.in(0).shape(), c.in(1).shape());
        auto a = widen_to<int64_t>(c.in(0), shape);
        const auto b = widen_to<int64_t>(c.in(1), shape);
        for (size_t i = 0; i < a.size(); ++i) a[i] = op(a[i], b[i]);
        return {narrow<int64_t>(DType::boolean, shape, a)};
      });
}

std::vector<Tensor> where(const EvalContext& c) {
  const Tensor &x = c.in(1), &y = c.in(2);
  if (x.dtype() != y.dtype()) fail(Category::type, "inputs 1 and 2 differ: {} and {}", to_string(x.dtype()), to_string(y.dtype()));
  const Shape shape = broadcast(broadcast(c.in(0).shape(), x.shape()), y.shape());
  const auto pick = widen_to<int64_t>(c.in(0), shape);
  const auto i = strided_index(shape, broadcast_strides(x.shape(), shape)), j = strided_index(shape, broadcast_strides(y.shape(), shape));
  std::vector<int64_t> from(pick.size());
  for (size_t k = 0; k < pick.size(); ++k) from[k] = pick[k] ? i[k] : -1;
  Tensor out = take(x, shape, from);
  if (x.dtype() == DType::string) {
    for (size_t k = 0; k < pick.size(); ++k) {
      if (!pick[k]) out.as<std::string>()[k] = y.as<std::string>()[j[k]];
    }
    return {out};
  }
  const size_t bytes = bit_width(x.dtype()) / 8;
  for (size_t k = 0; k < pick.size(); ++k) {
    if (!pick[k]) std::memcpy(static_cast<char*>(out.data()) + k * bytes, static_cast<const char*>(y.data()) + j[k] * bytes, bytes);
  }
  return {out};
}

// Bits of two integers of one dtype.
OpDef bitwise(std::string name, int since, auto op) {
  return def(
      std::move(name), since, 2, 2, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, is_int, "an integer");
        need_same(c, 0, 1);
        infer_broadcast(c, c.dtype(0));
      },
      [op](const EvalContext& c) {
        if (!is_int(c.in(0).dtype())) fail(Category::type, "bits of {} are not defined", to_string(c.in(0).dtype()));
        const bool left = c.node.text("direction", "LEFT") == "LEFT";
        return fold_inputs(c, [&](auto a, auto b) -> decltype(a) {
          if constexpr (std::is_floating_point_v<decltype(a)>) return a;
          else return static_cast<decltype(a)>(op(static_cast<uint64_t>(a), static_cast<uint64_t>(b), left));
        });
      });
}

std::vector<Tensor> shrink(const EvalContext& c) {
  const double lambda = c.node.real("lambd", 0.5f), bias = c.node.real("bias", 0);
  auto v = widen<double>(c.in(0));
  for (double& e : v) e = e < -lambda ? e + bias : e > lambda ? e - bias : 0;
  return {narrow<double>(c.in(0).dtype(), c.in(0).shape(), v)};
}

std::string number_to_string(double v, DType dtype) {
  if (std::isnan(v)) return "NaN";
  if (std::isinf(v)) return v < 0 ? "-INF" : "INF";
  char text[64];
  const auto r = dtype == DType::f64 ? std::to_chars(text, text + 64, v) : std::to_chars(text, text + 64, static_cast<float>(v));
  std::string s(text, r.ptr);
  return s.find_first_of(".e") == std::string::npos ? s + ".0" : s;
}

double string_to_number(const std::string& text) {
  char* end = nullptr;
  const double v = std::strtod(text.c_str(), &end);  // reads NaN, INF and exponents as the standard asks
  if (text.empty() || *end != '\0') fail(Category::value, "cannot cast string '{}' to a number", text);
  return v;
}

// To the next power of two above or below, as a cast to exponents alone asks for.
Tensor to_powers(const Tensor& x, const std::string& round_mode) {
  auto v = widen<double>(x);
  for (double& e : v) {
    if (!(e > 0) || !std::isfinite(e) || round_mode == "nearest") continue;
    const double below = std::ldexp(1.0, std::ilogb(e));
    e = round_mode == "down" || below == e ? below : 2 * below;
  }
  return narrow<double>(DType::f64, x.shape(), v);
}

Tensor cast(const Tensor& given, DType to, bool saturate, const std::string& round_mode) {
  if (given.dtype() == to) return given;
  const Tensor x = to == DType::f8e8m0 && given.dtype() != DType::string ? to_powers(given, round_mode) : given;
  if (x.dtype() == DType::string) {
    std::vector<double> v;
    for (const auto& s : x.as<std::string>()) v.push_back(string_to_number(s));
    if (to == DType::i64 || to == DType::u64) {  // exact beyond 2^53
      std::vector<int64_t> whole;
      for (const auto& s : x.as<std::string>()) {
        int64_t n = 0;
        const auto r = std::from_chars(s.data(), s.data() + s.size(), n);
        whole.push_back(r.ec == std::errc() && r.ptr == s.data() + s.size() ? n : static_cast<int64_t>(string_to_number(s)));
      }
      return narrow<int64_t>(to, x.shape(), whole);
    }
    return narrow<double>(to, x.shape(), v);
  }
  if (to == DType::string) {
    Tensor out(DType::string, x.shape());
    auto s = out.as<std::string>();
    if (is_float(x.dtype())) {
      const auto v = widen<double>(x);
      for (size_t i = 0; i < v.size(); ++i) s[i] = number_to_string(v[i], x.dtype());
    } else if (x.dtype() == DType::u64) {
      const auto v = widen<uint64_t>(x);
      for (size_t i = 0; i < v.size(); ++i) s[i] = std::to_string(v[i]);
    } else {
      const auto v = widen<int64_t>(x);
      for (size_t i = 0; i < v.size(); ++i) s[i] = x.dtype() == DType::boolean ? (v[i] ? "True" : "False") : std::to_string(v[i]);
    }
    return out;
  }
  return with_wide(x.dtype(), [&](auto zero) {
    using T = decltype(zero);
    const auto v = widen<T>(x);
    return narrow<T>(to, x.shape(), std::span<const T>(v), saturate);
  });
}

}  // namespace

void add_elementwise(std::vector<OpDef>& out) {
  const auto simple = [&](const char* name, int since, double (*f)(double)) { out.push_back(unary_float(name, since, f)); };
  simple("Sigmoid", 1, sigmoid);
  simple("Tanh", 1, std::tanh);
  simple("Softplus", 1, softplus);
  simple("Softsign", 1, [](double x) { return x / (1 + std::fabs(x)); });
  simple("Erf", 9, std::erf);
  simple("Exp", 1, std::exp);
  simple("Log", 1, std::log);
  simple("Sqrt", 1, std::sqrt);
  simple("Reciprocal", 1, [](double x) { return 1 / x; });
  simple("Floor", 1, std::floor);
  simple("Ceil", 1, std::ceil);
  simple("Round", 11, std::nearbyint);  // ties to even
  simple("Sin", 7, std::sin);
  simple("Cos", 7, std::cos);
  simple("Tan", 7, std::tan);
  simple("Asin", 7, std::asin);
  simple("Acos", 7, std::acos);
  simple("Atan", 7, std::atan);
  simple("Sinh", 9, std::sinh);
  simple("Cosh", 9, std::cosh);
  simple("Asinh", 9, std::asinh);
  simple("Acosh", 9, std::acosh);
  simple("Atanh", 9, std::atanh);
  simple("HardSwish", 14, [](double x) { return x * clamp(x / 6 + 0.5, 0, 1); });
  simple("Mish", 18, [](double x) { return x * std::tanh(softplus(x)); });
  out.push_back(unary_numeric("Abs", 1, std::fabs, [](int64_t x) { return static_cast<int64_t>(x < 0 ? -static_cast<uint64_t>(x) : x); }));
  out.push_back(unary_numeric(
      "Neg", 1, [](double x) { return -x; }, [](int64_t x) { return static_cast<int64_t>(-static_cast<uint64_t>(x)); }));
  out.push_back(unary_numeric("Relu", 1, relu, [](int64_t x) { return std::max<int64_t>(x, 0); }));
  out.push_back(unary_numeric("Sign", 9, sign, [](int64_t x) -> int64_t { return (x > 0) - (x < 0); }));

  out.push_back(bitwise("BitwiseAnd", 18, [](uint64_t a, uint64_t b, bool) { return a & b; }));
  out.push_back(bitwise("BitwiseOr", 18, [](uint64_t a, uint64_t b, bool) { return a | b; }));
  out.push_back(bitwise("BitwiseXor", 18, [](uint64_t a, uint64_t b, bool) { return a ^ b; }));
  out.push_back(bitwise("BitShift", 11, [](uint64_t a, uint64_t b, bool left) { return b > 63 ? 0 : left ? a << b : a >> b; }));
  out.push_back(def(
      "BitwiseNot", 18, 1, 1, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, is_int, "an integer");
        same_as_first(c);
      },
      [](const EvalContext& c) -> std::vector<Tensor> {
        auto v = widen<int64_t>(c.in(0));
        if (c.in(0).dtype() == DType::u64) {
          auto u = widen<uint64_t>(c.in(0));
          for (auto& e : u) e = ~e;
          return {narrow<uint64_t>(DType::u64, c.in(0).shape(), u)};
        }
        for (auto& e : v) e = ~e;
        return {narrow<int64_t>(c.in(0).dtype(), c.in(0).shape(), v)};
      }));
  out.push_back(def(
      "Shrink", 9, 1, 1, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, numeric, "a number");
        same_as_first(c);
      },
      shrink));

  const auto with = [&](const char* name, int since, std::function<F1(const Node&)> make) {
    out.push_back(unary_float(name, since, std::move(make)));
  };
  with("LeakyRelu", 1, [](const Node& n) -> F1 { return [a = double(n.real("alpha", 0.01f))](double x) { return x < 0 ? a * x : x; }; });
  with("Elu", 1, [](const Node& n) -> F1 { return [a = double(n.real("alpha", 1))](double x) { return x < 0 ? a * std::expm1(x) : x; }; });
  with("Celu", 12,
       [](const Node& n) -> F1 { return [a = double(n.real("alpha", 1))](double x) { return x < 0 ? a * std::expm1(x / a) : x; }; });
  with("ThresholdedRelu", 10, [](const Node& n) -> F1 { return [a = double(n.real("alpha", 1))](double x) { return x > a ? x : 0; }; });
  with("Selu", 1, [](const Node& n) -> F1 {
    return [a = double(n.real("alpha", 1.67326319217681884765625f)), g = double(n.real("gamma", 1.05070102214813232421875f))](double x) {
      return g * (x <= 0 ? a * std::expm1(x) : x);
    };
  });
  with("HardSigmoid", 1, [](const Node& n) -> F1 {
    return [a = double(n.real("alpha", 0.2f)), b = double(n.real("beta", 0.5f))](double x) { return clamp(a * x + b, 0, 1); };
  });
  with("Swish", 24, [](const Node& n) -> F1 { return [a = double(n.real("alpha", 1))](double x) { return x * sigmoid(a * x); }; });
  with("Gelu", 20, [](const Node& n) -> F1 {
    if (n.text("approximate", "none") == "tanh")
      return [](double x) { return 0.5 * x * (1 + std::tanh(std::sqrt(2 / M_PI) * (x + 0.044715 * x * x * x))); };
    return [](double x) { return 0.5 * x * (1 + std::erf(x / std::sqrt(2.0))); };
  });

  out.push_back(def(
      "Not", 1, 1, 1, Trait::elementwise,
      [](InferContext& c) {
        need(
            c, 0, [](DType d) { return d == DType::boolean; }, "bool");
        same_as_first(c);
      },
      [](const EvalContext& c) -> std::vector<Tensor> {
        auto v = widen<int64_t>(c.in(0));
        for (auto& e : v) e = !e;
        return {narrow<int64_t>(DType::boolean, c.in(0).shape(), v)};
      }));
  const auto test = [&](const char* name, int since, auto f) {
    out.push_back(def(
        name, since, 1, 1, Trait::elementwise, [](InferContext& c) { c.set(0, DType::boolean, c.dims(0)); },
        [f](const EvalContext& c) -> std::vector<Tensor> {
          std::vector<int64_t> flags;
          for (double x : widen<double>(c.in(0))) flags.push_back(f(c.node, x));
          return {narrow<int64_t>(DType::boolean, c.in(0).shape(), flags)};
        }));
  };
  test("IsNaN", 9, [](const Node&, double x) { return std::isnan(x); });
  test("IsInf", 10, [](const Node& n, double x) {
    return std::isinf(x) && (x > 0 ? n.integer("detect_positive", 1) : n.integer("detect_negative", 1)) != 0;
  });

  // Before version 7 the second input broadcasts only when asked, aligned at `axis` (or at the end).
  // Those of the second input as the first one's trailing dims.
  const auto legacy_dims = [](const Node& n, size_t rank, Dims dims) {
    if (const auto* axis = n.find<int64_t>("axis"); axis && n.integer("broadcast", 0)) {
      const int64_t at = wrap_axis(*axis, static_cast<int64_t>(rank));
      dims.resize(std::max<size_t>(dims.size(), rank - static_cast<size_t>(at)), Dim(1));
    }
    return dims;
  };
  const auto aligned = [&, legacy_dims](OpDef d, bool to_bool = false) {
    d.since = 1;
    d.infer = [to_bool, legacy_dims](InferContext& c) {
      need_same(c, 0, 1);
      if (c.dims(0) && c.dims(1)) {
        const Dims whole = *c.dims(0), other = legacy_dims(c.node(), whole.size(), *c.dims(1));
        const bool asked = c.node().integer("broadcast", 0) != 0;
        bool fits = asked ? other.size() <= whole.size() : other.size() == whole.size();
        for (size_t i = 0; fits && i < other.size(); ++i) {
          const Dim &a = whole[whole.size() - other.size() + i], &b = other[i];
          fits = !a.known() || !b.known() || a.value == b.value || (asked && b.value == 1);
        }
        c.require(fits, Category::shape,
                  fmt::format("input 1 (B) has shape {}, which does not fit {} (broadcast {})", to_string(*c.dims(1)), to_string(whole),
                              asked ? "asked for" : "not asked for"));
      }
      c.set(0, to_bool ? DType::boolean : c.dtype(0), c.dims(0));
    };
    d.plain = [base = d.plain, legacy_dims](const EvalContext& c) {
      const Shape shape = *known_shape(legacy_dims(c.node, c.in(0).shape().size(), to_dims(c.in(1).shape())));
      const Tensor inputs[] = {c.in(0), c.in(1).reshaped(shape)};
      return base({c.node, c.version, inputs, c.output_count});
    };
    out.push_back(std::move(d));
  };
  aligned(arithmetic("Add", 1, kAdd));
  aligned(arithmetic("Sub", 1, kSub));
  aligned(arithmetic("Mul", 1, kMul));
  aligned(arithmetic("Div", 1, kDiv));
  out.push_back(arithmetic("Add", 7, kAdd));
  out.push_back(arithmetic("Sub", 7, kSub));
  out.push_back(arithmetic("Mul", 7, kMul));
  out.push_back(arithmetic("Div", 7, kDiv));
  out.push_back(arithmetic("Sum", 1, kAdd, true));
  out.push_back(arithmetic("Max", 1, kMax, true));
  out.push_back(arithmetic("Min", 1, kMin, true));
  OpDef mean = arithmetic("Mean", 1, kAdd, true);
  mean.plain = [](const EvalContext& c) -> std::vector<Tensor> {
    Shape shape = c.in(0).shape();
    for (const Tensor& t : c.inputs) shape = broadcast(shape, t.shape());
    std::vector<double> acc(element_count(shape), 0);
    for (const Tensor& t : c.inputs) {
      const auto v = widen_to<double>(t, shape);
      for (size_t i = 0; i < acc.size(); ++i) acc[i] += v[i] / static_cast<double>(c.inputs.size());
    }
    return {narrow<double>(c.in(0).dtype(), shape, acc)};
  };
  out.push_back(std::move(mean));
  OpDef mod = arithmetic("Mod", 10, kMod);
  mod.plain = [](const EvalContext& c) { return c.node.integer("fmod", 0) ? fold_inputs(c, kFmod) : fold_inputs(c, kMod); };
  out.push_back(std::move(mod));
  out.push_back(def(
      "Pow", 7, 2, 2, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, numeric, "a number");
        need(c, 1, numeric, "a number");
        infer_broadcast(c, c.dtype(0));
      },
      power));
  aligned(out.back());
  // Before version 7 a list of slopes belongs to the channels, axis 1.
  const auto prelu = [](const EvalContext& c) {
    return fold_inputs(c, [](auto x, auto slope) -> decltype(x) { return x < 0 ? x * slope : x; });
  };
  const auto infer_prelu = [](InferContext& c) {
    need(c, 0, standard_float, "a floating type");
    need_same(c, 0, 1);
    same_as_first(c);
    if (const auto x = known_shape(c.dims(0)), slope = known_shape(c.dims(1)); x && slope && element_count(*slope) != 1) {
      const bool fits = *slope == *x || (slope->size() == 1 && x->size() > 1 && (*slope)[0] == (*x)[1]);
      c.require(fits, Category::shape,
                fmt::format("input 1 (slope) has shape {}, expected one, or one a channel of {}", to_string(*slope), to_string(*x)));
    }
  };
  out.push_back(def("PRelu", 1, 2, 2, Trait::elementwise, infer_prelu, [prelu](const EvalContext& c) {
    Shape shape = c.in(1).shape();
    if (shape != c.in(0).shape() && shape.size() == 1 && shape[0] > 1 && c.in(0).rank() > 2) shape.resize(c.in(0).rank() - 1, 1);
    const Tensor inputs[] = {c.in(0), c.in(1).reshaped(shape)};
    return prelu({c.node, c.version, inputs, c.output_count});
  }));
  out.push_back(def(
      "PRelu", 7, 2, 2, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, numeric, "a number");
        need_same(c, 0, 1);
        infer_broadcast(c, c.dtype(0));
      },
      prelu));
  out.push_back(comparison("Equal", 7, std::equal_to<>(), true));
  out.push_back(comparison("Less", 7, std::less<>()));
  out.push_back(comparison("Greater", 7, std::greater<>()));
  for (const char* name : {"Equal", "Less", "Greater"})
    aligned(*std::ranges::find_if(out, [&](const OpDef& d) { return d.name == name; }), true);
  out.push_back(comparison("LessOrEqual", 12, std::less_equal<>()));
  out.push_back(comparison("GreaterOrEqual", 12, std::greater_equal<>()));
  out.push_back(logic("And", [](bool a, bool b) { return a && b; }));
  out.push_back(logic("Or", [](bool a, bool b) { return a || b; }));
  out.push_back(logic("Xor", [](bool a, bool b) { return a != b; }));
  for (const char* name : {"And", "Or", "Xor"}) aligned(*std::ranges::find_if(out, [&](const OpDef& d) { return d.name == name; }), true);
  out.push_back(def(
      "Where", 9, 3, 3, Trait::elementwise,
      [](InferContext& c) {
        need(
            c, 0, [](DType d) { return d == DType::boolean; }, "bool");
        need_same(c, 1, 2);
        infer_broadcast(c, c.dtype(1));
      },
      where));

  // Clip: bounds are attributes up to version 10, inputs from 11 on. min > max gives max.
  const auto clip = [](const Tensor& x, const Tensor& low, const Tensor& high) -> std::vector<Tensor> {
    return with_wide(x.dtype(), [&](auto zero) -> std::vector<Tensor> {
      using T = decltype(zero);
      auto v = widen<T>(x);
      const auto bound = [&](const Tensor& t, const char* name) {
        if (t.size() != 1) fail(Category::shape, "{} has shape {}, expected a scalar", name, to_string(t.shape()));
        return widen<T>(t)[0];
      };
      if (!low.empty())
        for (T b = bound(low, "min"); T & e : v) e = e < b ? b : e;
      if (!high.empty())
        for (T b = bound(high, "max"); T & e : v) e = e > b ? b : e;
      return {narrow<T>(x.dtype(), x.shape(), v)};
    });
  };
  out.push_back(def(
      "Clip", 1, 1, 1, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, standard_float, "a floating type");
        same_as_first(c);
      },
      [clip](const EvalContext& c) {
        return clip(c.in(0), Tensor::from<float>({}, {c.node.real("min", std::numeric_limits<float>::lowest())}),
                    Tensor::from<float>({}, {c.node.real("max", std::numeric_limits<float>::max())}));
      }));
  out.push_back(def(
      "Clip", 11, 1, 3, Trait::elementwise,
      [](InferContext& c) {
        need(c, 0, numeric, "a number");
        for (int i = 1; i < c.input_count(); ++i) {
          if (c.has(i)) need_same(c, 0, i);
        }
        same_as_first(c);
      },
      [clip](const EvalContext& c) { return clip(c.in(0), c.has(1) ? c.in(1) : Tensor(), c.has(2) ? c.in(2) : Tensor()); }));

  const auto target = [](const Node& n) {
    const int64_t number = n.integer("to", 0);
    const DType to = dtype_of_number(number);
    if (to == DType::undefined) fail(Category::type, "attribute 'to' is {}, not an element type", number);
    if (is_complex(to)) fail(Category::type, "cannot cast to {}", to_string(to));
    return to;
  };
  out.push_back(def(
      "Cast", 6, 1, 1, Trait::elementwise, [target](InferContext& c) { c.set(0, target(c.node()), c.dims(0)); },
      [target](const EvalContext& c) -> std::vector<Tensor> {
        return {cast(c.in(0), target(c.node), c.node.integer("saturate", 1) != 0, c.node.text("round_mode", "up"))};
      }));
  out.push_back(def(
      "CastLike", 15, 2, 2, Trait::elementwise, [](InferContext& c) { c.set(0, c.dtype(1), c.dims(0)); },
      [](const EvalContext& c) -> std::vector<Tensor> {
        return {cast(c.in(0), c.in(1).dtype(), c.node.integer("saturate", 1) != 0, c.node.text("round_mode", "up"))};
      }));
}

}  // namespace lathe::ops
