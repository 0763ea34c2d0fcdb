#include "lathe/profile.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "measure/held.hpp"

namespace lathe {


Roofline::Roofline(const std::string& isa, int threads)
    : peak_(measure_fma_peak(isa, threads, 0.03)),
      int8_(measure_int8_peak(isa, threads, 0.03)),
      bf16_(measure_bf16_peak(isa, threads, 0.03)) {
  for (size_t bytes = size_t{16} << 10; bytes <= size_t{128} << 20; bytes *= 4) {
    // Half is read and half written; the threads share it.
    const size_t each = std::max<size_t>(4096, bytes / 2 / static_cast<size_t>(threads));
    copy_.emplace_back(static_cast<double>(bytes), measure_copy_bandwidth(each, threads, 0.02));
  }
}

double Roofline::bandwidth(double bytes) const {
  if (bytes <= copy_.front().first) return copy_.front().second;
  for (size_t i = 1; i < copy_.size(); ++i) {
    const auto [above, rate] = copy_[i];
    if (bytes > above) continue;
    const auto [below, lower_rate] = copy_[i - 1];
    const double at = std::log(bytes / below) / std::log(above / below);
    return lower_rate + at * (rate - lower_rate);
  }
  return copy_.back().second;
}

double Roofline::peak_gflops(const StepInfo& s) const {
  const double peak = s.arithmetic == "int8" ? int8_ : s.arithmetic == "bf16" ? bf16_ / s.products : 0;
  return peak > 0 ? peak : peak_;
}

double Roofline::seconds(const StepInfo& s, bool* by_arithmetic) const { return seconds(s.flops, s.bytes, peak_gflops(s), by_arithmetic); }
double Roofline::seconds(double flops, double bytes, bool* by_arithmetic) const { return seconds(flops, bytes, peak_, by_arithmetic); }

double Roofline::seconds(double flops, double bytes, double peak, bool* by_arithmetic) const {
  const double arithmetic = flops / peak / 1e9, memory = bytes > 0 ? bytes / bandwidth(bytes) / 1e9 : 0;
  if (by_arithmetic != nullptr) *by_arithmetic = arithmetic >= memory;
  return std::max(arithmetic, memory);
}

namespace {

// What one subgraph at one place did in the runs that were timed.
struct InnerRuns {
  InnerSteps first;
  int parent = -1;
  int64_t runs = 0;
  std::vector<std::vector<double>> seconds;  // by step, then by run of the model
};

// Those of a run that was timed, the `at`-th.
void gather(const std::vector<InnerSteps>& inner, int parent, size_t at, std::vector<InnerRuns>& all) {
  for (const InnerSteps& s : inner) {
    const auto same = [&](const InnerRuns& r) {
      return r.parent == parent && r.first.step == s.step && r.first.body == s.body && r.first.edition->inputs == s.edition->inputs &&
             r.seconds.size() == s.seconds.size();
    };
    auto it = std::ranges::find_if(all, same);
    if (it == all.end()) it = all.insert(all.end(), InnerRuns{s, parent, 0, std::vector<std::vector<double>>(s.seconds.size())});
    it->runs += s.runs;
    for (size_t i = 0; i < s.seconds.size(); ++i) {
      it->seconds[i].resize(at, 0);  // runs that it took no part in
      it->seconds[i].push_back(s.seconds[i]);
    }
    gather(s.inner, static_cast<int>(it - all.begin()), at, all);
  }
}

// Of a branch that these runs did not take: nothing was done.
void leave_out_untaken(StepProfile& s) {
  if (s.step.conditional && s.latency.median == 0) s.step.flops = s.step.bytes = 0;
}

void rate(StepProfile& s, double sum) {
  const double t = std::max(s.latency.median, 1e-9);
  s.share = sum > 0 ? s.latency.median / sum : 0;
  s.gflops = s.step.flops / t / 1e9;
  s.gbytes = s.step.bytes / t / 1e9;
  s.of_limit = s.limit_seconds / t;
}

}  // namespace

Profile profile(Lane& lane, const std::vector<Tensor>& inputs, const Roofline& roofline, const ProfileOptions& o) {
  if (o.runs < 1) fail(Category::value, "runs is {}, expected 1 or more", o.runs);
  std::vector<Shape> shapes;
  for (const Tensor& t : inputs) shapes.push_back(t.shape());
  Profile p;
  const EditionInfo info = lane.program().describe(shapes);
  p.flops = info.flops;
  HeldRuns held(lane, inputs, o.held);
  const auto run = [&](bool timed) {
    lane.time_steps(timed);
    if (o.cold) empty_caches();
    const auto start = Clock::now();
    lane.run(std::span<const Tensor>(inputs), o.run);
    const double seconds = std::chrono::duration<double>(Clock::now() - start).count();
    held.after_run();
    return seconds;
  };
  run(false);
  run(true);
  std::vector<std::vector<double>> seconds(info.steps.size());
  std::vector<double> plain, timed, ratios;
  struct Kept {
    double seconds;
    std::vector<StepTime> steps;
    std::vector<Spell> spells;
  };
  std::vector<Kept> kept;
  std::vector<InnerRuns> inner;
  const auto begun = Clock::now();
  for (int r = 0; r < o.runs; ++r) {
    if (r > 0 && std::chrono::duration<double>(Clock::now() - begun).count() > o.max_seconds) break;
    if (o.progress && (r % 8 == 0 || o.cold)) o.progress(fmt::format("run {} of {}", r + 1, o.runs));
    // The order alternates, as the second of a pair finds warmer caches.
    double without = 0;
    if (r % 2 == 0) without = run(false);
    const double with = run(true);
    const auto steps = lane.step_times();
    for (size_t s = 0; s < steps.size(); ++s) seconds[s].push_back(steps[s].seconds);
    gather(lane.inner_steps(), -1, kept.size(), inner);
    kept.push_back({with, steps, lane.spells()});
    if (r % 2 != 0) without = run(false);
    plain.push_back(without);
    timed.push_back(with);
    ratios.push_back(with / without);
  }
  lane.time_steps(false);
  p.run = summarise(plain);
  p.timed = summarise(timed);
  p.overhead = summarise(ratios).median - 1;
  std::nth_element(kept.begin(), kept.begin() + static_cast<int64_t>(kept.size() / 2), kept.end(),
                   [](const Kept& a, const Kept& b) { return a.seconds < b.seconds; });
  Kept& middle = kept[kept.size() / 2];
  p.timeline = std::move(middle.steps);
  p.spells = std::move(middle.spells);
  p.timeline_seconds = middle.seconds;

  double sum = 0;
  for (size_t s = 0; s < info.steps.size(); ++s) {
    StepProfile step;
    step.step = info.steps[s];
    step.latency = summarise(seconds[s]);
    sum += step.latency.median;
    p.steps.push_back(std::move(step));
  }
  for (StepProfile& s : p.steps) {
    leave_out_untaken(s);
    if (s.step.conditional) p.flops += s.step.flops;
    s.limit_seconds = roofline.seconds(s.step, &s.by_arithmetic);
    s.peak_gflops = roofline.peak_gflops(s.step);
    p.arithmetic_seconds += s.step.flops / s.peak_gflops / 1e9;
    rate(s, sum);
  }
  const auto timed_runs = static_cast<double>(p.timed.runs);
  for (InnerRuns& r : inner) {
    InnerProfile made{r.parent, r.first.step, r.first.body, r.first.edition->inputs, static_cast<double>(r.runs) / timed_runs, {}};
    for (size_t i = 0; i < r.seconds.size(); ++i) {
      r.seconds[i].resize(kept.size(), 0);
      StepProfile s;
      s.step = r.first.edition->steps[i];
      s.latency = summarise(r.seconds[i]);
      leave_out_untaken(s);
      s.limit_seconds = made.runs * roofline.seconds(s.step, &s.by_arithmetic);
      s.step.flops *= made.runs;
      s.step.bytes *= made.runs;
      p.flops += s.step.flops;
      s.peak_gflops = roofline.peak_gflops(s.step);
      p.arithmetic_seconds += s.step.flops / s.peak_gflops / 1e9;
      rate(s, sum);
      made.steps.push_back(std::move(s));
    }
    p.inner.push_back(std::move(made));
  }
  std::map<std::string, OpProfile> ops;
  const auto count = [&](const StepProfile& s, double within) {
    OpProfile& op = ops[s.step.op];
    op.op = s.step.op;
    ++op.steps;
    op.seconds += std::max(0.0, s.latency.median - within);
    op.share += std::max(0.0, s.share - (sum > 0 ? within / sum : 0));
    op.flops += s.step.flops;
    op.bytes += s.step.bytes;
    op.limit_seconds += s.limit_seconds;
  };
  // What the steps inside take, the step around them does not.
  const auto count_all = [&](const std::vector<StepProfile>& steps, int at) {
    for (size_t i = 0; i < steps.size(); ++i) {
      double within = 0;
      for (const InnerProfile& in : p.inner) {
        if (in.parent != at || in.step != i) continue;
        for (const StepProfile& s : in.steps) within += s.latency.median;
      }
      count(steps[i], within);
    }
  };
  count_all(p.steps, -1);
  for (size_t k = 0; k < p.inner.size(); ++k) count_all(p.inner[k].steps, static_cast<int>(k));
  for (auto& [name, op] : ops) p.ops.push_back(op);
  std::stable_sort(p.ops.begin(), p.ops.end(), [](const OpProfile& a, const OpProfile& b) { return a.seconds > b.seconds; });
  return p;
}

}  // namespace lathe
