// Where a program's time goes: step by step, by op, over many runs; against what the machine can do.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "lathe/measure.hpp"
#include "lathe/program.hpp"

namespace lathe {

// What this machine can do at best, probed once: least seconds for some arithmetic and some memory traffic.
class Roofline {
 public:
  // Probes the multiply-add rates and copying over working sets from L1 to memory; about a third of a second.
  Roofline(const std::string& isa, int threads);
  double peak_gflops() const { return peak_; }
  // Of a step's arithmetic, in those of the model's numbers.
  double peak_gflops(const StepInfo& step) const;
  // Copy bandwidth in GB/s for a working set of so many bytes: between the probed sizes, by their logarithm.
  double bandwidth(double bytes) const;
  // The larger of the two times. `by_arithmetic`: which one it is.
  double seconds(double flops, double bytes, bool* by_arithmetic = nullptr) const;
  double seconds(const StepInfo& step, bool* by_arithmetic = nullptr) const;

 private:
  double seconds(double flops, double bytes, double peak, bool* by_arithmetic) const;

  double peak_ = 0, int8_ = 0, bf16_ = 0;        // 0: no instructions of their own
  std::vector<std::pair<double, double>> copy_;  // bytes, GB/s
};

struct StepProfile {
  StepInfo step;
  Latency latency;
  double share = 0;  // of the sum of all steps' medians
  double gflops = 0, gbytes = 0;
  double peak_gflops = 0;    // of its arithmetic
  double limit_seconds = 0;  // least time by the roofline
  bool by_arithmetic = false;
  double of_limit = 0;  // limit_seconds / median
};

struct OpProfile {
  std::string op;
  int steps = 0;
  double seconds = 0, share = 0;  // sum of the steps' medians
  double flops = 0, bytes = 0, limit_seconds = 0;
};

// Steps inside control flow; a loop's trips together.
struct InnerProfile {
  int parent = -1;            // index into Profile::inner of what it lies in; -1: the model itself
  size_t step = 0;            // that it belongs to, of the parent's
  std::string body;           // as InnerSteps::body
  std::vector<Shape> inputs;  // of the subgraph
  double runs = 0;            // in a run of the model, on average
  // Their flops, bytes and limits are those of all runs together, and so are times; a part of what the step around them took.
  std::vector<StepProfile> steps;
};

struct ProfileOptions {
  int runs = 50;
  bool cold = false;        // caches emptied before every run
  int64_t held = 0;         // as in BenchOptions
  double max_seconds = 60;  // no further run is begun after this time: what takes minutes is run less often
  RunOptions run{};         // of each run: stop, limit and progress
  std::function<void(const std::string&)> progress{};
};

struct Profile {
  std::vector<StepProfile> steps;
  std::vector<InnerProfile> inner;  // those around before those within
  std::vector<OpProfile> ops;       // most time first; what is inside control flow by its own ops
  Latency run, timed;               // whole runs without and with the clock read after every step, in turn
  double overhead = 0;              // median over the pairs of timed / run - 1
  double flops = 0;                 // what is inside control flow included
  double arithmetic_seconds = 0;    // that takes at least, by the peak of each step's arithmetic
  // Of the run with the median time: when steps began, and what the other workers did.
  std::vector<StepTime> timeline;
  std::vector<Spell> spells;
  double timeline_seconds = 0;
};

// Runs the lane's program on these inputs, `runs` times with and without timing in turn. Throws Error as Lane::run does.
Profile profile(Lane& lane, const std::vector<Tensor>& inputs, const Roofline& roofline, const ProfileOptions& options = {});

}  // namespace lathe
