// Programs whose steps are timed where they stand, and what pairs of runs say.
#pragma once

#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "lathe/program.hpp"
#include "lathe/recipes.hpp"

namespace lathe {
class HeldRuns;
}

namespace lathe::tuning {

double seconds_now();
double median(std::vector<double> v);

// Median of ratios, with the order statistics that hold it in 95 of 100 cases.
struct Ratio {
  double middle = 1, low = 1, high = 1;
};
Ratio ratio_of(std::vector<double> v);

// What a program gives for these inputs; of one that keeps states in a second run, which reads what the first one put into them.
Outputs answer(const Program& program, std::span<const Tensor> inputs, int64_t held, const RunOptions& how = {});

class Runner {
 public:
  // `held`: positions that states hold when a run begins.
  Runner(const Graph& graph, CompileOptions options, const Recipes& recipes, std::span<const Tensor> inputs, int64_t held);
  Runner(Runner&&) noexcept;
  Runner& operator=(Runner&&) noexcept;
  ~Runner();
  // Seconds by step. `outputs`: as answer() gives them.
  std::vector<double> run(std::span<const Tensor> inputs, const RunOptions& how = {}, std::optional<Outputs>* outputs = nullptr);
  // Seconds by group; behind them, of all steps. Groups from `groups` on are counted in the whole alone.
  std::vector<double> run(std::span<const Tensor> inputs, size_t groups, const RunOptions& how = {},
                          std::optional<Outputs>* outputs = nullptr);

  Program program;
  std::vector<StepInfo> steps;
  std::vector<int> group_of;  // by step; -1: of none. For the owner to say

 private:
  int64_t positions_;
  std::unique_ptr<Lane> lane_;
  std::unique_ptr<HeldRuns> held_;  // of a program that keeps states
};

// Runs two by turns, for so long, but `least` pairs and at most `most`. `each` gets both runs' seconds by group.
template <typename F>
void by_turns(Runner& first, Runner& second, std::span<const Tensor> inputs, size_t groups, double seconds, int least, int most, F&& each) {
  const double until = seconds_now() + seconds;
  for (int n = 0; n < least || (n < most && seconds_now() < until); ++n) {
    std::vector<double> a, b;
    if (n % 2 == 0) a = first.run(inputs, groups), b = second.run(inputs, groups);
    else b = second.run(inputs, groups), a = first.run(inputs, groups);
    if (!each(a, b)) break;
  }
}

}  // namespace lathe::tuning
