// Whole networks: fused against unfused, share of the machine's limit, memory plan, compile time; static against dynamic shapes. One
// interleaved run: each round times every program once beside the probes.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <cstring>

#include "networks.hpp"
#include "timing.hpp"

using namespace lathe;

namespace {

struct Net {
  std::string name;
  std::function<Graph(int64_t batch)> make;
  double asked;        // share of the multiply-add peak, or of read bandwidth
  bool reads = false;  // its limit is reading the weights
};

struct Item {
  const Net* net;
  int64_t batch = 1;
  int threads = 1;
  double compile_seconds = 0, flops = 0, bytes = 0, arena = 0, bound = 0;
  size_t steps = 0, steps_unfused = 0;
  std::vector<Tensor> inputs;
  std::unique_ptr<Lane> fused, unfused;
  int repeats = 1;
  std::vector<double> seconds, ratios, shares;
};

double run(Item& item, Lane& lane) {
  const auto start = Clock::now();
  for (int i = 0; i < item.repeats; ++i) lane.run(std::span<const Tensor>(item.inputs));
  return since(start) / item.repeats;
}

std::vector<Tensor> inputs_of(const Program& p) {
  auto inputs = random_inputs(p, p.bound_shapes(), 1);
  for (size_t i = 0; i < inputs.size(); ++i) {
    if (p.inputs()[i].name != "mask") continue;
    for (float& v : inputs[i].as<float>()) v = 0;
  }
  return inputs;
}

// The same net with an open batch, run at sizes in turn: the first run at a size compiles, later ones do not.
void dynamic_shapes() {
  Graph g = networks::residual_50(1, 128);
  Graph open = g;
  std::vector<bool> input(open.values.size());
  for (ValueId v : open.inputs) input[v] = true;
  for (size_t v = 0; v < open.values.size(); ++v) {
    if (input[v]) (*open.values[v].dims)[0] = Dim("batch");
    else if (!open.values[v].constant) open.values[v].dims.reset();
  }
  const Program fixed = compile(std::move(g), {.threads = 1}), dynamic = compile(std::move(open), {.threads = 1, .editions = 16});
  Lane a(fixed), b(dynamic);
  const std::vector<Tensor> one = random_inputs(fixed, fixed.bound_shapes(), 1);
  std::vector<double> first, ratio;
  for (int64_t batch = 1; batch <= 10; ++batch) {
    const std::vector<Tensor> in{random_inputs(dynamic, {{batch, 3, 128, 128}}, 1)};
    const auto start = Clock::now();
    b.run(std::span<const Tensor>(in));
    first.push_back(since(start));
  }
  for (int round = 0; round < 9; ++round) {
    auto start = Clock::now();
    a.run(std::span<const Tensor>(one));
    const double fixed_seconds = since(start);
    start = Clock::now();
    b.run(std::span<const Tensor>(one));
    ratio.push_back(since(start) / fixed_seconds);
  }
  fmt::print(
      "\nresidual net at 128 x 128 with an open batch, ten sizes: {} editions compiled, the first run at a size takes {:.0f} ms in the "
      "median;\n"
      "after that an open dim costs {:.2f} times a fixed one\n",
      dynamic.editions_compiled(), 1e3 * median(first), median(ratio));
}

}  // namespace

int main(int argc, char** argv) {
  int rounds = 7, most_threads = std::min(2, usable_cores());
  std::string only;
  const bool people = isatty(STDERR_FILENO);
  std::vector<int64_t> batches{1, 8};
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--rounds") && i + 1 < argc) rounds = std::max(1, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--threads") && i + 1 < argc) most_threads = std::max(1, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--only") && i + 1 < argc) only = argv[++i];
    else if (!std::strcmp(argv[i], "--batch") && i + 1 < argc) batches = {std::max(1, std::atoi(argv[++i]))};
    else {
      fmt::print(stderr, "usage: nets [--rounds N] [--threads MOST] [--only TEXT] [--batch N]\n");
      return 2;
    }
  }
  const std::vector<Net> nets{{"residual, 50 layers", [](int64_t b) { return networks::residual_50(b); }, 0.70},
                              {"mobile, depthwise", [](int64_t b) { return networks::mobile(b); }, 0.45},
                              {"encoder, 12 layers, 128", [](int64_t b) { return networks::encoder(b); }, 0.75},
                              {"encoder-decoder, skips", [](int64_t b) { return networks::skips(b); }, 0.60},
                              {"recurrent, 2 layers", [](int64_t b) { return networks::recurrent(b); }, 0},
                              {"decoder step with state", [](int64_t b) { return networks::decoder(b); }, 0.80, true}};
  fmt::print("{} rounds, interleaved; share: of the multiply-add peak, decoder: of read bandwidth, of the same rounds\n\n", rounds);
  fmt::print("{:<24} {:>5} {:>7} {:>10} {:>10} {:>7} {:>8} {:>7} {:>9} {:>11} {:>9}\n{:-<118}\n", "", "batch", "threads", "fused",
             "unfused", "ratio", "share", "asked", "compile", "arena/bound", "steps", "");
  std::map<std::string, std::vector<double>> ratios;
  for (const Net& net : nets) {
    if (!only.empty() && net.name.find(only) == std::string::npos) continue;
    for (int64_t batch : batches) {
      std::vector<Item> items;
      for (int threads = 1; threads <= most_threads; ++threads) {
        if (people) fmt::print(stderr, "\r{:<40}", fmt::format("{}, batch {}, compiling", net.name, batch));
        Item item;
        item.net = &net;
        item.batch = batch;
        item.threads = threads;
        Graph graph = net.make(batch);
        const auto start = Clock::now();
        const Program fused = compile(std::move(graph), {.threads = threads});
        item.compile_seconds = since(start);
        const Program unfused = compile(net.make(batch), {.threads = threads, .fuse = false});
        const EditionInfo info = fused.describe();
        item.flops = info.flops;
        for (const StepInfo& s : info.steps) item.bytes += s.kind == "product" ? s.bytes : 0;
        item.arena = static_cast<double>(info.arena_bytes);
        item.bound = static_cast<double>(info.arena_bound);
        item.steps = info.steps.size();
        item.steps_unfused = unfused.describe().steps.size();
        item.inputs = inputs_of(fused);
        item.fused = std::make_unique<Lane>(fused);
        item.unfused = std::make_unique<Lane>(unfused);
        run(item, *item.unfused);
        run(item, *item.fused);
        item.repeats = std::clamp(static_cast<int>(0.02 / run(item, *item.fused)), 1, 100);
        items.push_back(std::move(item));
      }
      for (int round = 0; round < rounds; ++round) {
        if (people) fmt::print(stderr, "\r{:<40}", fmt::format("{}, batch {}, round {} of {}", net.name, batch, round + 1, rounds));
        for (Item& item : items) {
          const double limit = net.reads ? measure_read_bandwidth("", static_cast<size_t>(item.bytes), item.threads, 0.02)
                                         : measure_fma_peak("", item.threads, 0.02);
          item.seconds.push_back(run(item, *item.fused));
          item.ratios.push_back(run(item, *item.unfused) / item.seconds.back());
          item.shares.push_back((net.reads ? item.bytes : item.flops) / item.seconds.back() / 1e9 / limit);
        }
      }
      if (people) fmt::print(stderr, "\r{:<40}\r", "");
      for (const Item& item : items) {
        const double seconds = median(item.seconds), ratio = median(item.ratios);
        ratios[fmt::format("{} thread{}", item.threads, item.threads > 1 ? "s" : "")].push_back(ratio);
        fmt::print("{:<24} {:>5} {:>7} {:>7.2f} ms {:>7.2f} ms {:>7.2f} {:>6.1f} % {:>7} {:>7.2f} s {:>11.3f} {:>4}/{:<4}\n", net.name,
                   batch, item.threads, 1e3 * seconds, 1e3 * seconds * ratio, ratio, 100 * median(item.shares),
                   net.asked > 0 ? fmt::format("{:.0f} %", 100 * net.asked) : "", item.compile_seconds,
                   item.bound > 0 ? item.arena / item.bound : 1.0, item.steps, item.steps_unfused);
        std::fflush(stdout);
      }
    }
  }
  for (const auto& [threads, list] : ratios) {
    double sum = 0;
    for (double r : list) sum += std::log(r);
    fmt::print("{}fused against unfused, {}: {:.2f} in the geometric mean (asked: 1.50)\n", threads == ratios.begin()->first ? "\n" : "",
               threads, std::exp(sum / static_cast<double>(list.size())));
  }
  if (only.empty()) dynamic_shapes();
  return 0;
}
