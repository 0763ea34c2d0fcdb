// Variants timed by turns.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "lathe/compare.hpp"

namespace lathe::comparing {

// A variant that runs.
struct Running {
  Program program;
  int threads = 1, lanes = 1;
  int64_t batch = 1;
  std::vector<Tensor> inputs;
};

struct Timed {
  std::vector<double> latencies;  // seconds a run, all rounds
  std::vector<double> rates;      // items per second, by round
};

// In each round every variant runs for its share of `seconds`, in an order that turns from round to round.
std::vector<Timed> by_turns(const std::vector<Running>& variants, double seconds, int rounds,
                            const std::function<void(int round)>& progress);

}  // namespace lathe::comparing
