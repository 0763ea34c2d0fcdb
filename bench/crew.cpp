// What threads cost and bring: fork and join, step overhead, scaling, company on the cores, idling, lanes.
#include <fmt/format.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <thread>

#include "kernels/probe.hpp"
#include "networks.hpp"
#include "runtime/crew.hpp"

using namespace lathe;
using Clock = std::chrono::steady_clock;

namespace {

double since(Clock::time_point t) { return std::chrono::duration<double>(Clock::now() - t).count(); }

double median(const std::vector<double>& v) { return summarise(v).median; }

double cpu_seconds() {
  timespec t{};
  clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
  return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_nsec) * 1e-9;
}

struct Net {
  Program program;
  std::vector<Tensor> inputs;
  std::unique_ptr<Lane> lane;
  Net(Graph g, CompileOptions o)
      : program(compile(std::move(g), o)), inputs(random_inputs(program, program.bound_shapes(), 1)), lane(new Lane(program)) {
    run();
  }
  void run() { lane->run(std::span<const Tensor>(inputs)); }
};

// Seconds a run, at least `seconds` of them.
double time_of(Net& n, double seconds = 0.02) {
  const auto start = Clock::now();
  int runs = 0;
  do n.run(), ++runs;
  while (since(start) < seconds);
  return since(start) / runs;
}

Graph chain(int steps) {
  Builder b("chain");
  ValueId x = b.input("x", DType::f32, {4, 4});
  for (int i = 0; i < steps; ++i) x = b.op(i % 2 ? "Abs" : "Neg", {x});
  b.output(x, "y");
  return b.finish();
}

}  // namespace

int main(int argc, char** argv) {
  int rounds = 15;
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--rounds") && i + 1 < argc) rounds = std::max(3, std::atoi(argv[++i]));
    else {
      fmt::print(stderr, "usage: crew [--rounds N]\n");
      return 2;
    }
  }
  const int cores = usable_cores(), threads = std::max(2, cores);
  fmt::print("{} usable cores, medians of {} rounds\n\n", cores, rounds);

  {  // fork and join
    Crew crew(threads);
    std::vector<double> times;
    std::vector<int> touched(static_cast<size_t>(threads) * 16);
    for (int r = 0; r < 20000; ++r) {
      const auto start = Clock::now();
      crew.each(threads, [&](int64_t task, int) { ++touched[static_cast<size_t>(task) * 16]; });
      times.push_back(since(start));
    }
    const auto line = [&](const char* what) {
      std::sort(times.begin(), times.end());
      fmt::print("{:<58} median {:.2f} us, 90 % {:.2f} us, 99 % {:.2f} us\n", what, times[10000] * 1e6, times[18000] * 1e6,
                 times[19800] * 1e6);
      times.clear();
    };
    line("fork and join, hot, whoever is there takes the tasks");
    // Each task waits until every thread has one: the whole way from the start to all at work and back.
    for (int r = 0; r < 20000; ++r) {
      std::atomic<int> here{0};
      const auto start = Clock::now();
      crew.each(threads, [&](int64_t, int) {
        here.fetch_add(1);
        while (here.load() < threads) {
        }
      });
      times.push_back(since(start));
    }
    line("fork and join, hot, every thread at work at once");
  }
  {  // step overhead
    Net few(chain(20), {.threads = 1, .fuse = false}), many(chain(220), {.threads = 1, .fuse = false});
    std::vector<double> each;
    for (int r = 0; r < rounds; ++r) each.push_back((time_of(many) - time_of(few)) / 200);
    fmt::print("a step of a tiny model, 1 thread      {:.3f} us, its arithmetic of 16 elements included ({} steps)\n", median(each) * 1e6,
               many.program.describe().steps.size());
  }
  {  // scaling
    fmt::print("\ntwo threads against one, where arithmetic limits\n");
    struct Pair {
      std::string name;
      Net one, two;
      std::vector<double> ratios;
    };
    std::vector<std::unique_ptr<Pair>> pairs;
    const auto add = [&](const std::string& name, const std::function<Graph()>& make) {
      pairs.push_back(std::make_unique<Pair>(Pair{name, Net(make(), {.threads = 1}), Net(make(), {.threads = 2}), {}}));
    };
    add("product 1024 x 1024 x 1024", [] { return networks::product(1024, 1024, 1024); });
    add("conv 3x3 64 -> 64, 56 x 56", [] { return networks::convolution(1, 64, 56, 64, 3, 1); });
    add("conv 3x3 128 -> 128, 28 x 28", [] { return networks::convolution(1, 128, 28, 128, 3, 1); });
    add("conv 3x3 256 -> 256, 14 x 14", [] { return networks::convolution(1, 256, 14, 256, 3, 1); });
    add("conv 3x3 512 -> 512, 7 x 7", [] { return networks::convolution(1, 512, 7, 512, 3, 1); });
    std::vector<double> probe;
    for (int r = 0; r < rounds; ++r) {
      probe.push_back(measure_fma_peak("", 2, 0.01) / measure_fma_peak("", 1, 0.01));
      for (auto& p : pairs) p->ratios.push_back(time_of(p->one) / time_of(p->two));
    }
    fmt::print("  {:<36} {:.2f}\n", "the probe itself", median(probe));
    for (auto& p : pairs) fmt::print("  {:<36} {:.2f}\n", p->name, median(p->ratios));
  }
  {  // company
    const auto make = [] { return networks::convolution(1, 128, 28, 128, 3, 1); };
    Net one(make(), {.threads = 1}), two(make(), {.threads = threads}), many(make(), {.threads = threads * 2});
    std::vector<double> alone1, alone2, alone4, busy1, busy2, busy4;
    for (int r = 0; r < rounds; ++r) {
      alone1.push_back(time_of(one));
      alone2.push_back(time_of(two));
      alone4.push_back(time_of(many));
      const pid_t other = fork();
      if (other == 0) {
        float sink = 0.5f;
        for (;;) kernels::burn_fma(kernels::best(), 100000, &sink);
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
      busy1.push_back(time_of(one, 0.05));
      busy2.push_back(time_of(two, 0.05));
      busy4.push_back(time_of(many, 0.05));
      kill(other, SIGKILL);
      waitpid(other, nullptr, 0);
    }
    fmt::print("\nconv 3x3 128 -> 128, 28 x 28, alone and with another process that takes a core\n");
    fmt::print("  {:<36} {:>9} {:>12}\n", "", "alone", "in company");
    const auto line = [](const std::string& name, const std::vector<double>& a, const std::vector<double>& b) {
      fmt::print("  {:<36} {:>6.2f} ms {:>9.2f} ms\n", name, median(a) * 1e3, median(b) * 1e3);
    };
    line("1 thread", alone1, busy1);
    line(fmt::format("{} threads", threads), alone2, busy2);
    line(fmt::format("{} threads on {} cores", threads * 2, cores), alone4, busy4);
  }
  {  // idling
    Net two(networks::convolution(1, 64, 56, 64, 3, 1), {.threads = threads});
    std::vector<double> burnt;
    for (int r = 0; r < std::min(rounds, 5); ++r) {
      two.run();
      const double before = cpu_seconds();
      std::this_thread::sleep_for(std::chrono::milliseconds(200));
      burnt.push_back(cpu_seconds() - before);
    }
    fmt::print("\nafter a run, in 200 ms of rest: {:.3f} ms of processor time (workers spin for 50 us, then sleep)\n", median(burnt) * 1e3);
  }
  {  // lanes
    fmt::print("\nthroughput, runs a second\n  {:<36} {:>16} {:>16} {:>8}\n", "", fmt::format("1 lane x {}", threads),
               fmt::format("{} lanes x 1", threads), "ratio");
    const auto line = [&](const std::string& name, const std::function<Graph()>& make) {
      const Program wide = compile(make(), {.threads = threads}), narrow = compile(make(), {.threads = 1});
      const auto in = random_inputs(wide, wide.bound_shapes(), 1);
      std::vector<double> a, b, ratios;
      for (int r = 0; r < std::max(3, rounds / 3); ++r) {
        BenchOptions o;
        o.warmup_seconds = 0.02;
        o.min_seconds = 0.15;
        o.max_seconds = 0.5;
        a.push_back(bench(wide, threads, in, o).runs_per_second);
        o.lanes = threads;
        b.push_back(bench(narrow, 1, in, o).runs_per_second);
        ratios.push_back(b.back() / a.back());
      }
      fmt::print("  {:<36} {:>16.1f} {:>16.1f} {:>8.2f}\n", name, median(a), median(b), median(ratios));
    };
    line("chain of 20 tiny steps", [] { return chain(20); });
    line("conv 3x3 256 -> 256, 14 x 14", [] { return networks::convolution(1, 256, 14, 256, 3, 1); });
    line("residual net, 50 layers", [] { return networks::residual_50(1); });
  }
  return 0;
}
