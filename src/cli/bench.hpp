// What the ways to bench share.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "feed.hpp"
#include "keep.hpp"

namespace lathe::cli {

struct BenchFlags {
  ModelOptions model;
  FeedFlags feed;
  BenchOptions bench;
  bool versus_unfused = false;
  int rounds = 40;
  uint64_t seed = 1;
  std::string prefer, against, chart;
  std::vector<std::string> more, also;
  std::string batches, threads, lanes;  // as given: perhaps lists
  std::string rates, arrivals = "poisson";
  double hold_ms = 0;
  KeepFlags keep;
};

// The share of all cores' time that other guests of the machine took since it was made; 0 where the system does not tell.
class StolenWatch {
 public:
  double share() const;

 private:
  std::optional<double> before_ = stolen_seconds();
  std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
};

Json latency_json(const Latency& l);
// Where and how it was measured; the same facts for people, a line or two.
Json environment_json(const Environment& e);
std::string environment_text(const Environment& e, double stolen);

// "1,2,4,8..64": numbers of at least 1; a..b doubles from a to b. Throws UsageError naming the option.
std::vector<int64_t> number_series(const std::string& text, const std::string& option);

// One size, number of threads or lanes after another, by turns.
struct Swept {
  std::string what;  // "batch", "threads", "lanes", or a dim's name
  std::vector<int64_t> values;
};
// What the options sweep, after the single values went where they belong; nothing: they sweep nothing. Throws UsageError when it is two.
std::optional<Swept> swept_by(BenchFlags& flags);
int bench_sweep(BenchFlags& flags, const Swept& swept);
// Several models or sets of options, by turns.
int bench_side_by_side(BenchFlags& flags);
// Requests that arrive whether or not a lane is free.
int bench_load(BenchFlags& flags);

}  // namespace lathe::cli
