// The rates that the cost model remembers (lower/recipe/machine.hpp), measured on this machine beside what is remembered. They only have to
// tell orders of magnitude apart; a factor of three is worth a look.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstring>
#include <thread>
#include <vector>

#include "base/clock.hpp"
#include "kernels/tape.hpp"
#include "lower/recipe/machine.hpp"
#include "networks.hpp"
#include "runtime/crew.hpp"

using namespace lathe;

namespace {

// The best of several rounds: what is asked is what the machine does, not what else it does meanwhile.
template <typename F>
double seconds(F f) {
  double best = 1e9;
  for (int round = 0; round < 15; ++round) {
    const auto begin = std::chrono::steady_clock::now();
    f();
    best = std::min(best, since(begin));
  }
  return best;
}

// FLOP a second of a product as small steps have them, on one thread.
double flops(kernels::Isa isa) {
  constexpr int64_t kRows = 128, kColumns = 256, kDepth = 256, kTimes = 20;
  const Program p = compile(networks::product(kRows, kColumns, kDepth), {.threads = 1, .isa = std::string(kernels::name(isa))});
  Lane lane(p);
  Tensor x(DType::f32, {kRows, kDepth});
  std::ranges::fill(x.as<float>(), 0.5f);
  const std::vector<Tensor> in{x};
  const double t = seconds([&] {
    for (int64_t i = 0; i < kTimes; ++i) lane.run(std::span<const Tensor>(in));
  });
  return 2.0 * kRows * kColumns * kDepth * kTimes / t;
}

kernels::Tape negation() {
  kernels::Tape tape;
  tape.steps = {{kernels::TapeOp::neg, 1, 0, 0, 0, 0, 0}};
  tape.inputs = 1, tape.slots = 2, tape.result = 1;
  return tape;
}

// Bytes a second read and written by an elementwise pass over so many floats.
double bandwidth(kernels::Isa isa, int64_t floats, int64_t times) {
  std::vector<float> a(static_cast<size_t>(floats), 1), b(static_cast<size_t>(floats));
  const kernels::Tape tape = negation();
  const auto run = kernels::run_tape(isa);
  const double t = seconds([&] {
    for (int64_t i = 0; i < times; ++i) {
      const kernels::TapeOperand in{a.data(), 1, kernels::TapeType::f32};
      run(tape, &in, b.data(), kernels::TapeType::f32, floats);
    }
  });
  return 8.0 * static_cast<double>(floats * times) / t;
}

// Seconds that a row of its own costs beyond its share of one long pass: a tape called row by row.
double call(kernels::Isa isa) {
  constexpr int64_t kRow = 64, kRows = 128, kTimes = 100;
  std::vector<float> a(kRow * kRows, 1), b(kRow * kRows);
  const kernels::Tape tape = negation();
  const auto run = kernels::run_tape(isa);
  const auto pass = [&](int64_t length) {
    return seconds([&] {
      for (int64_t t = 0; t < kTimes; ++t) {
        for (int64_t at = 0; at < kRow * kRows; at += length) {
          const kernels::TapeOperand in{a.data() + at, 1, kernels::TapeType::f32};
          run(tape, &in, b.data() + at, kernels::TapeType::f32, length);
        }
      }
    });
  };
  return (pass(kRow) - pass(kRow * kRows)) / static_cast<double>(kRows * kTimes);
}

// Seconds until two threads have both begun a task of the same part, and are back.
double fork_and_join() {
  constexpr int kTimes = 2000;
  Crew crew(2);
  return seconds([&] {
           for (int i = 0; i < kTimes; ++i) {
             std::atomic<int> begun{0};
             crew.each(2, [&](int64_t, int) {
               ++begun;
               while (begun < 2) std::this_thread::yield();
             });
           }
         }) /
         kTimes;
}

}  // namespace

int main() {
  fmt::print("{:<8} {:>24} {:>24} {:>24} {:>22} {:>22}\n", "", "GFLOP/s", "GB/s in L2", "GB/s beyond", "ns a call", "us a fork");
  const double forks = fork_and_join();
  for (kernels::Isa isa : kernels::available()) {
    const lower::Rates r = lower::remembered_rates(isa);
    const auto both = [](double measured, double remembered) { return fmt::format("{:.1f} ({:.1f})", measured, remembered); };
    fmt::print("{:<8} {:>24} {:>24} {:>24} {:>22} {:>22}\n", kernels::name(isa), both(flops(isa) / 1e9, r.flops / 1e9),
               both(bandwidth(isa, 16 << 10, 200) / 1e9, r.near_bandwidth / 1e9),
               both(bandwidth(isa, 16 << 20, 1) / 1e9, r.far_bandwidth / 1e9), both(call(isa) * 1e9, r.call * 1e9),
               both(forks * 1e6, r.fork * 1e6));
  }
  fmt::print("measured (remembered); one thread, the best of 15 rounds\n");
}
