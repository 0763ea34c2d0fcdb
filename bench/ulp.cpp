// How far the vectorised functions of one argument are from the exact result, over every float there is: ULP distances against double
// precision, rounded once. Results below the smallest normal number are counted apart: some functions give 0 there.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <limits>
#include <thread>
#include <vector>

#include "kernels/tape.hpp"

using namespace lathe::kernels;

namespace {

struct Function {
  const char* name;
  TapeOp op;
  double (*exact)(double);
  double bound;  // ULP, asserted
};

struct Worst {
  double ulp = 0;
  float at = 0, got = 0, expected = 0;
  uint64_t wrong_special = 0;  // NaN or infinity where the other has none
  double worst_denormal = 0;   // largest absolute error among denormal results
  uint64_t count = 0;
};

double ulp_of(float x) {
  const float a = std::fabs(x);
  if (a < std::numeric_limits<float>::min()) return std::numeric_limits<float>::denorm_min();
  return static_cast<double>(std::nextafter(a, std::numeric_limits<float>::infinity())) - a;
}

void check(const Function& f, RunTape run, uint64_t from, uint64_t to, uint64_t step, Worst& w) {
  constexpr int64_t kBlock = 4096;
  std::vector<float> x(kBlock), y(kBlock);
  Tape tape;
  tape.inputs = 1;
  tape.steps = {{f.op, 0, 0, 0, 1}};
  tape.result = 1;
  for (uint64_t at = from; at < to;) {
    int64_t n = 0;
    for (; n < kBlock && at < to; ++n, at += step) {
      const auto bits = static_cast<uint32_t>(at);
      std::memcpy(&x[n], &bits, 4);
    }
    const TapeOperand in{x.data(), 1, TapeType::f32};
    run(tape, &in, y.data(), TapeType::f32, n);
    for (int64_t i = 0; i < n; ++i) {
      const double exact = f.exact(x[i]);
      const auto rounded = static_cast<float>(exact);
      ++w.count;
      if (std::isnan(rounded) || std::isnan(y[i])) {
        w.wrong_special += std::isnan(rounded) != std::isnan(y[i]);
        continue;
      }
      if (std::isinf(rounded) || std::isinf(y[i])) {
        // The last float before infinity may round either way.
        const bool near = std::fabs(exact) > 3.402e38 || std::fabs(y[i]) > 3.402e38f;
        w.wrong_special += rounded != y[i] && !near;
        continue;
      }
      const double error = std::fabs(static_cast<double>(y[i]) - exact);
      if (std::fabs(exact) < std::numeric_limits<float>::min()) {
        w.worst_denormal = std::max(w.worst_denormal, error);
        continue;
      }
      const double ulp = error / ulp_of(rounded);
      if (ulp > w.ulp) w.ulp = ulp, w.at = x[i], w.got = y[i], w.expected = rounded;
    }
  }
}

}  // namespace

int main(int argc, char** argv) {
  uint64_t step = 1;
  std::vector<Isa> isas{best()};
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--step") && i + 1 < argc) step = std::max<uint64_t>(1, std::strtoull(argv[++i], nullptr, 10));
    else if (!std::strcmp(argv[i], "--all")) isas = available();
    else {
      fmt::print(stderr, "usage: ulp [--step N: every N-th float] [--all: every instruction set]\n");
      return 2;
    }
  }
  const Function functions[] = {
      {"exp", TapeOp::exp, [](double x) { return std::exp(x); }, 1.5},
      {"log", TapeOp::log, [](double x) { return std::log(x); }, 2},
      {"tanh", TapeOp::tanh, [](double x) { return std::tanh(x); }, 2},
      {"sigmoid", TapeOp::sigmoid, [](double x) { return 1 / (1 + std::exp(-x)); }, 3},
      {"erf", TapeOp::erf, [](double x) { return std::erf(x); }, 1.5},
      {"sin", TapeOp::sin, [](double x) { return std::sin(x); }, 0.51},
      {"cos", TapeOp::cos, [](double x) { return std::cos(x); }, 0.51},
      {"tan", TapeOp::tan, [](double x) { return std::tan(x); }, 0.51},
      {"atan", TapeOp::atan, [](double x) { return std::atan(x); }, 0.51},
      {"sqrt", TapeOp::sqrt, [](double x) { return std::sqrt(x); }, 0.51},
      {"reciprocal", TapeOp::reciprocal, [](double x) { return 1 / x; }, 0.51},
  };
  bool good = true;
  fmt::print("{} floats a function\n{:<12} {:<8} {:>9} {:>9} {:>16} {:>14} {:>18}\n", (uint64_t{1} << 32) / step, "function", "isa",
             "worst ULP", "bound", "at", "NaN/inf wrong", "denormals off by");
  const unsigned threads = std::max(1u, std::thread::hardware_concurrency());
  for (Isa isa : isas) {
    for (const Function& f : functions) {
      std::vector<Worst> parts(threads);
      {
        std::vector<std::jthread> others;
        for (unsigned t = 0; t < threads; ++t) {
          others.emplace_back([&, t] {
            const uint64_t all = uint64_t{1} << 32, from = all * t / threads / step * step;
            check(f, run_tape(isa), from, t + 1 == threads ? all : all * (t + 1) / threads / step * step, step, parts[t]);
          });
        }
      }
      Worst w;
      for (const Worst& p : parts) {
        w.count += p.count;
        w.wrong_special += p.wrong_special;
        w.worst_denormal = std::max(w.worst_denormal, p.worst_denormal);
        if (p.ulp > w.ulp) w.ulp = p.ulp, w.at = p.at, w.got = p.got, w.expected = p.expected;
      }
      const bool within = w.ulp <= f.bound && w.wrong_special == 0;
      good = good && within;
      fmt::print("{:<12} {:<8} {:>9.3f} {:>9.2f} {:>16.8g} {:>14} {:>18.3g}{}\n", f.name, name(isa), w.ulp, f.bound, w.at, w.wrong_special,
                 w.worst_denormal, within ? "" : "  OVER");
      std::fflush(stdout);
    }
  }
  return good ? 0 : 1;
}
