// What each part of the search for recipes is good for, and what tuning gains: nets, an odd-shapes table, and the search with its parts
// left out. Usage: ablation [--nets | --odd | --parts] [--seconds S] [--seeds N] [--threads N] [--only TEXT] [--isa NAME] [--curves
// FILE.csv]
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <functional>

#include "networks.hpp"

using namespace lathe;

namespace {

struct Net {
  std::string name;
  std::function<Graph()> make;
};

const std::vector<Net>& nets() {
  static const std::vector<Net> all{
      {"residual", [] { return networks::residual_50(1); }},   {"mobile", [] { return networks::mobile(1); }},
      {"encoder", [] { return networks::encoder(1); }},        {"skips", [] { return networks::skips(1); }},
      {"recurrent", [] { return networks::recurrent(1); }},    {"decoder", [] { return networks::decoder(1); }},
      {"mobile at 96", [] { return networks::mobile(1, 96); }}};
  return all;
}

// What nobody wrote a template for: ragged products, unusual channels, few rows, strange windows.
const std::vector<Net>& odd_shapes() {
  const auto product = [](int64_t m, int64_t n, int64_t k) { return [=] { return networks::product(m, n, k); }; };
  const auto conv = [](int64_t c, int64_t side, int64_t f, int64_t kernel, int64_t stride) {
    return [=] { return networks::convolution(1, c, side, f, kernel, stride); };
  };
  static const std::vector<Net> all{{"product 7x1000x517", product(7, 1000, 517)},       {"product 33x65x4097", product(33, 65, 4097)},
                                    {"product 1000x3x1000", product(1000, 3, 1000)},     {"product 5000x48x48", product(5000, 48, 48)},
                                    {"product 130x2050x130", product(130, 2050, 130)},   {"product 17x8000x256", product(17, 8000, 256)},
                                    {"conv 3x3 19->37 at 61", conv(19, 61, 37, 3, 1)},   {"conv 5x5 24->40 at 33", conv(24, 33, 40, 5, 1)},
                                    {"conv 7x7 12->12 at 45", conv(12, 45, 12, 7, 2)},   {"conv 1x1 100->7 at 50", conv(100, 50, 7, 1, 1)},
                                    {"conv 3x3 200->200 at 9", conv(200, 9, 200, 3, 1)}, {"conv 3x3 64->65 at 13", conv(64, 13, 65, 3, 2)}};
  return all;
}

struct Flags {
  bool nets = false, odd = false, parts = false, blind = false;
  double seconds = 20;
  int seeds = 3, threads = 1;
  std::string only, curves, isa;
};

TuneResult searched(const Graph& g, const Flags& f, TuneOptions o) {
  CompileOptions c;
  c.threads = f.threads, c.isa = f.isa;
  const Program p = compile(g, c);
  auto inputs = random_inputs(p, p.bound_shapes(), 1);
  for (size_t i = 0; i < inputs.size(); ++i) {
    if (p.inputs()[i].name != "mask") continue;
    for (float& v : inputs[i].as<float>()) v = 0;
  }
  o.seconds = f.seconds;
  o.blind = f.blind;
  return tune(g, c, inputs, o);
}

double gains(const std::vector<Net>& list, const Flags& f, const char* title) {
  fmt::print("{} ({} thread{}, {:.0f} s each)\n  {:<26} {:>10} {:>10} {:>6} {:>15} {:>7} {:>9} {:>11}\n", title, f.threads,
             f.threads == 1 ? "" : "s", f.seconds, "", "before", "after", "gain", "95 %", "tried", "problems", "correlation");
  double sum = 0;
  int counted = 0, large = 0;
  for (const Net& net : list) {
    if (net.name.find(f.only) == std::string::npos) continue;
    const TuneResult r = searched(net.make(), f, {});
    fmt::print("  {:<26} {:>7.3f} ms {:>7.3f} ms {:>6.2f} {:>7.2f} to {:.2f} {:>7} {:>9} {:>11}\n", net.name, 1e3 * r.before, 1e3 * r.after,
               r.gain, r.low, r.high, r.trials.size(), r.problems.size(),
               std::isnan(r.model_quality) ? "" : fmt::format("{:.2f}", r.model_quality));
    std::fflush(stdout);
    sum += std::log(r.gain), ++counted;
    large += r.gain >= 1.3;
  }
  if (counted > 0) fmt::print("  geometric mean {:.3f}; {} of {} at 1.3 or more\n\n", std::exp(sum / counted), large, counted);
  return counted > 0 ? std::exp(sum / counted) : 1;
}

void parts(const Flags& f) {
  struct Variant {
    const char* name;
    bool learned, scheduled, evolved, narrow;
  };
  constexpr Variant kVariants[]{{"everything", true, true, true, false},         {"no cost model", false, true, true, false},
                                {"problems in turn", true, false, true, false},  {"no evolution", true, true, false, false},
                                {"drawn at random", false, false, false, false}, {"block sizes alone", true, true, true, true}};
  std::FILE* curves = f.curves.empty() ? nullptr : std::fopen(f.curves.c_str(), "w");
  if (curves) fmt::print(curves, "net,variant,seed,trials,seconds,gain\n");
  fmt::print("What is left out ({} thread{}, {:.0f} s each, {} seeds; gain: median, lowest to highest)\n", f.threads,
             f.threads == 1 ? "" : "s", f.seconds, f.seeds);
  for (const Net& net : nets()) {
    if (net.name.find(f.only) == std::string::npos) continue;
    const Graph g = net.make();
    std::vector<std::vector<double>> gain(std::size(kVariants)), trials(std::size(kVariants));
    for (int seed = 1; seed <= f.seeds; ++seed) {  // variants by turns: minutes differ
      for (size_t v = 0; v < std::size(kVariants); ++v) {
        TuneOptions o;
        o.seed = static_cast<uint64_t>(seed);
        o.learned = kVariants[v].learned, o.scheduled = kVariants[v].scheduled, o.evolved = kVariants[v].evolved;
        if (kVariants[v].narrow) o.knobs = {"k_block", "panel_block"};
        const TuneResult r = searched(g, f, o);
        gain[v].push_back(r.gain), trials[v].push_back(static_cast<double>(r.trials.size()));
        if (!curves) continue;
        for (const auto& m : r.curve)
          fmt::print(curves, "{},{},{},{},{:.2f},{:.4f}\n", net.name, kVariants[v].name, seed, m.trials, m.seconds, m.gain);
        std::fflush(curves);
      }
    }
    fmt::print("  {}\n", net.name);
    for (size_t v = 0; v < std::size(kVariants); ++v) {
      std::ranges::sort(gain[v]);
      std::ranges::sort(trials[v]);
      fmt::print("    {:<26} {:.3f} ({:.3f} to {:.3f}), {:.0f} recipes\n", kVariants[v].name, gain[v][gain[v].size() / 2], gain[v].front(),
                 gain[v].back(), trials[v][trials[v].size() / 2]);
    }
    std::fflush(stdout);
  }
  if (curves) std::fclose(curves);
}

}  // namespace

int main(int argc, char** argv) {
  Flags f;
  for (int i = 1; i < argc; ++i) {
    const auto is = [&](const char* name) { return std::strcmp(argv[i], name) == 0; };
    const auto next = [&] { return i + 1 < argc ? argv[++i] : ""; };
    if (is("--nets")) f.nets = true;
    else if (is("--odd")) f.odd = true;
    else if (is("--parts")) f.parts = true;
    else if (is("--blind")) f.blind = true;
    else if (is("--seconds")) f.seconds = std::atof(next());
    else if (is("--seeds")) f.seeds = std::max(1, std::atoi(next()));
    else if (is("--threads")) f.threads = std::max(1, std::atoi(next()));
    else if (is("--only")) f.only = next();
    else if (is("--isa")) f.isa = next();
    else if (is("--curves")) f.curves = next();
    else {
      fmt::print(stderr,
                 "usage: ablation [--nets] [--odd] [--parts] [--seconds S] [--seeds N] [--threads N] [--only TEXT] [--isa NAME] [--curves "
                 "FILE]\n");
      return 2;
    }
  }
  if (!f.nets && !f.odd && !f.parts) f.nets = f.odd = f.parts = true;
  if (f.nets) gains(nets(), f, "Networks, tuned against untuned");
  if (f.odd) gains(odd_shapes(), f, "Odd shapes, tuned against untuned");
  if (f.parts) parts(f);
}
