// Decoding token by token: shares of the memory's and of the arithmetic's limit, by size, numbers, threads and length.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <functional>
#include <memory>
#include <string>

#include "forms.hpp"
#include "networks.hpp"
#include "timing.hpp"

using namespace lathe;

namespace {

struct Size {
  const char* name;
  int64_t layers, width;
};

struct Form {
  const char* name;
  std::function<Graph(Graph)> make;
};

Tensor tokens(int64_t batch, int64_t count) {
  Tensor t(DType::i64, {batch, count});
  for (int64_t i = 0; i < t.size(); ++i) t.as<int64_t>()[static_cast<size_t>(i)] = i * 7 % 8000;
  return t;
}

// The state of a lane grown to `length` positions.
void grow(Lane& lane, int64_t batch, int64_t length) {
  lane.reset();
  while (lane.positions() < length) lane.run({{"tokens", tokens(batch, std::min<int64_t>(256, length - lane.positions()))}});
}

// Median seconds of a run of `batch` sequences by one token at `length`, which stays so.
double step_seconds(Lane& lane, const Tensor& one, int64_t rounds) {
  std::vector<double> all;
  for (int64_t i = 0; i < rounds; ++i) {
    const auto start = Clock::now();
    lane.run({{"tokens", one}});
    all.push_back(since(start));
    lane.rewind(1);
  }
  return median(all);
}

}  // namespace

int main(int argc, char** argv) {
  std::string only, form_only;
  int most_threads = usable_cores();
  int64_t rounds = 15;
  for (int i = 1; i < argc; ++i) {
    const std::string a = argv[i];
    const auto next = [&] { return std::string(i + 1 < argc ? argv[++i] : ""); };
    if (a == "--only") only = next();
    else if (a == "--form") form_only = next();
    else if (a == "--threads") most_threads = std::max(1, std::atoi(next().c_str()));
    else if (a == "--rounds") rounds = std::max(1, std::atoi(next().c_str()));
    else {
      fmt::print("usage: tokens [--only SIZE] [--form FORM] [--threads MOST] [--rounds N]\n");
      return a == "--help" ? 0 : 2;
    }
  }
  const Size sizes[]{{"25 MB", 2, 448}, {"100 MB", 6, 576}, {"400 MB", 10, 896}};
  const Form forms[]{{"f32", [](Graph g) { return g; }},
                     {"f16 weights", [](Graph g) { return networks::halved(std::move(g), DType::f16, true); }},
                     {"i8 weights", [](Graph g) { return networks::weights_quantised(std::move(g), 8); }},
                     {"i4 weights", [](Graph g) { return networks::weights_quantised(std::move(g), 4); }}};
  fmt::print(
      "one token at a time; share: of what reading weights and states at the measured bandwidth allows; prompt: of the multiply-add\n"
      "peak; 8 at once: tokens a second of eight sequences against one\n\n{:<8} {:<12} {:>7} {:>9} | {:>26} | {:>26} | {:>26} | {:>16} | "
      "{:>9}\n",
      "size", "form", "threads", "weights", "at 1", "at 256", "at 2048", "prompt of 512", "8 at once");
  for (const Size& size : sizes) {
    if (!only.empty() && std::string(size.name).find(only) == std::string::npos) continue;
    for (const Form& form : forms) {
      if (!form_only.empty() && std::string(form.name).find(form_only) == std::string::npos) continue;
      for (int threads = 1; threads <= most_threads; threads *= 2) {
        Graph graph = form.make(networks::language(size.layers, size.width));
        CompileOptions o{.threads = threads, .states = pair_states(graph, "keys_next.*=keys.*,values_next.*=values.*"), .positions = 2304};
        const Program p = compile(std::move(graph), o);
        if (!p.why_copied().empty()) {
          fmt::print("{:<8} {:<12} states are copied: {}\n", size.name, form.name, p.why_copied());
          continue;
        }
        Lane lane(p);
        const Tensor one = tokens(1, 1);
        const double table = 4.0 * 8000 * static_cast<double>(size.width);  // of which a token reads a row
        double weights = static_cast<double>(p.describe({{1, 1}}).weight_bytes);
        weights -= std::string(form.name) == "f32" ? table : std::string(form.name) == "f16 weights" ? table / 2 : table;
        std::string line = fmt::format("{:<8} {:<12} {:>7} {:>6.1f} MB", size.name, form.name, threads, weights / 1e6);
        for (const int64_t length : {1, 256, 2048}) {
          grow(lane, 1, length);
          step_seconds(lane, one, 2);
          const double state = 2.0 * 4 * static_cast<double>(size.layers * size.width * length);
          // Bandwidth and steps by turns: the machine changes its mind within seconds.
          std::vector<double> shares, seconds;
          for (int turn = 0; turn < 3; ++turn) {
            const double t = step_seconds(lane, one, rounds);
            const double gb =
                measure_read_bandwidth(p.options().isa, static_cast<size_t>(weights + state) / static_cast<size_t>(threads), threads, 0.1);
            seconds.push_back(t);
            shares.push_back((weights + state) / t / (gb * 1e9));
          }
          const double t = median(seconds);
          line += fmt::format(" | {:>7.2f} ms {:>6.1f}/s {:>5.0f} %", 1e3 * t, 1 / t, 100 * median(shares));
        }
        // A prompt.
        const Tensor prompt = tokens(1, 512);
        std::vector<double> all, peaks;
        for (int turn = 0; turn < 4; ++turn) {
          lane.reset();
          const auto start = Clock::now();
          lane.run({{"tokens", prompt}});
          if (turn > 0) all.push_back(since(start));
          peaks.push_back(measure_fma_peak(p.options().isa, threads, 0.05));
        }
        const double flops = p.describe({{1, 512}}).flops;
        line += fmt::format(" | {:>7.1f} ms {:>3.0f} %", 1e3 * median(all), 100 * flops / median(all) / 1e9 / median(peaks));
        // Eight sequences and one by turns.
        Lane many(p);
        grow(lane, 1, 1);
        grow(many, 8, 1);
        std::vector<double> gains;
        for (int turn = 0; turn < 5; ++turn) {
          const double alone = step_seconds(lane, one, rounds);
          gains.push_back(8 * alone / step_seconds(many, tokens(8, 1), rounds));
        }
        line += fmt::format(" | {:>7.2f} x", median(gains));
        fmt::print("{}\n", line);
        std::fflush(stdout);
      }
    }
  }
  return 0;
}
