// The benchmark of the first whole path: a large product, six residual-net layers and the whole 50-layer net, on 1..N
// threads, as shares of the measured multiply-add peak. One interleaved run: every round visits the peak probe and every
// item once, so that a slow phase of a shared machine falls on all of them alike.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <cstring>

#include "networks.hpp"

using namespace lathe;
using Clock = std::chrono::steady_clock;

namespace {

struct Item {
  std::string name;
  double flops;  // of the convolution or product itself
  int threads;
  std::vector<Tensor> inputs;
  std::unique_ptr<Lane> lane;
  int repeats = 1;  // so that one visit is long enough to time
  std::vector<double> seconds, shares;
};

double median(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  return v[v.size() / 2];
}

}  // namespace

int main(int argc, char** argv) {
  int rounds = 15, most_threads = usable_cores();
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--rounds") && i + 1 < argc) rounds = std::max(3, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--threads") && i + 1 < argc) most_threads = std::max(1, std::atoi(argv[++i]));
    else {
      fmt::print(stderr, "usage: first_path [--rounds N] [--threads N]\n");
      return 2;
    }
  }
  std::vector<int> thread_counts{1};
  if (most_threads > 1) thread_counts.push_back(most_threads);
  std::vector<Item> items;
  const auto add = [&](const std::string& name, const std::function<Graph()>& make) {
    for (int t : thread_counts) {
      Program p = compile(make(), {.threads = t});
      Item item{name, p.describe().flops, t, random_inputs(p, p.bound_shapes(), 1), nullptr, 1, {}, {}};
      item.lane = std::make_unique<Lane>(p, t);
      item.lane->run(std::span<const Tensor>(item.inputs));
      const auto start = Clock::now();
      item.lane->run(std::span<const Tensor>(item.inputs));
      const double once = std::chrono::duration<double>(Clock::now() - start).count();
      item.repeats = std::clamp(static_cast<int>(0.03 / once), 1, 200);
      items.push_back(std::move(item));
    }
  };
  fmt::print(stderr, "preparing...\n");
  add("product 1024 x 1024 x 1024", [] { return networks::product(1024, 1024, 1024); });
  add("conv 3x3   64 ->   64, 56 x 56", [] { return networks::convolution(1, 64, 56, 64, 3, 1); });
  add("conv 3x3  128 ->  128, 28 x 28", [] { return networks::convolution(1, 128, 28, 128, 3, 1); });
  add("conv 3x3  256 ->  256, 14 x 14", [] { return networks::convolution(1, 256, 14, 256, 3, 1); });
  add("conv 3x3  512 ->  512,  7 x  7", [] { return networks::convolution(1, 512, 7, 512, 3, 1); });
  add("conv 1x1   64 ->  256, 56 x 56", [] { return networks::convolution(1, 64, 56, 256, 1, 1); });
  add("conv 7x7/2  3 ->  64, 224 x 224", [] { return networks::convolution(1, 3, 224, 64, 7, 2); });
  add("residual net, 50 layers, 224 x 224", [] { return networks::residual_50(1); });

  std::vector<std::vector<double>> peaks(thread_counts.size());
  for (int r = 0; r < rounds; ++r) {
    fmt::print(stderr, "\rround {} of {} ", r + 1, rounds);
    std::vector<double> peak(thread_counts.size());
    for (size_t t = 0; t < thread_counts.size(); ++t) {
      peak[t] = measure_fma_peak("", thread_counts[t], 0.02);
      peaks[t].push_back(peak[t]);
    }
    for (Item& item : items) {
      const auto start = Clock::now();
      for (int i = 0; i < item.repeats; ++i) item.lane->run(std::span<const Tensor>(item.inputs));
      const double s = std::chrono::duration<double>(Clock::now() - start).count() / item.repeats;
      item.seconds.push_back(s);
      item.shares.push_back(item.flops / s / 1e9 / peak[item.threads == 1 ? 0 : 1]);
    }
  }
  fmt::print(stderr, "\r                    \r");
  const std::string isa = machine_info().isas.back();
  for (size_t t = 0; t < thread_counts.size(); ++t)
    fmt::print("measured peak, {}, {} thread{}: {:.1f} GFLOP/s\n", isa, thread_counts[t], thread_counts[t] == 1 ? "" : "s",
               median(peaks[t]));
  if (thread_counts.size() > 1)
    fmt::print("the probe itself on {} threads against 1: {:.2f}\n", thread_counts[1], median(peaks[1]) / median(peaks[0]));
  fmt::print("medians of {} interleaved rounds\n\n", rounds);
  fmt::print("{:<36} {:>8} {:>10} {:>10} {:>8} {:>8}\n{:-<86}\n", "", "threads", "time", "GFLOP/s", "of peak", "against 1", "");
  for (size_t i = 0; i < items.size(); ++i) {
    const Item& item = items[i];
    const double s = median(item.seconds);
    std::string scaling;
    if (item.threads > 1) {
      std::vector<double> ratios;
      for (size_t r = 0; r < item.seconds.size(); ++r) ratios.push_back(items[i - 1].seconds[r] / item.seconds[r]);
      scaling = fmt::format("{:.2f}", median(ratios));
    }
    fmt::print("{:<36} {:>8} {:>7.3f} ms {:>10.1f} {:>6.1f} % {:>8}\n", item.name, item.threads, s * 1e3, item.flops / s / 1e9,
               100 * median(item.shares), scaling);
  }
  return 0;
}
