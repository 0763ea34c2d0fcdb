// Several ways to run a model, timed by turns.
#include "lathe/measure.hpp"
#include "base/clock.hpp"
#include "measure/held.hpp"

#include <barrier>
#include <chrono>
#include <exception>
#include <memory>
#include <mutex>
#include <thread>

namespace lathe {
namespace {

// The lanes of a variant, kept from round to round.
class Lanes {
 public:
  explicit Lanes(const Contender& r) : r_(r) {
    for (int i = 0; i < r.lanes; ++i) {
      lanes_.emplace_back(r.program, r.threads);
    }
    for (Lane& lane : lanes_) {
      held_.emplace_back(lane, r.inputs, r.held);
      (void)lane.run(std::span<const Tensor>(r.inputs));  // what is done once is done here
      held_.back().after_run();
    }
  }
  void run_for(double seconds, TurnTimes& into) {
    std::mutex mutex;
    std::exception_ptr thrown;
    std::barrier gate(static_cast<std::ptrdiff_t>(lanes_.size()));
    Clock::time_point first = Clock::now(), last = first;
    int64_t runs = 0;
    const auto work = [&](size_t lane) {
      std::vector<double> own;
      gate.arrive_and_wait();
      const auto start = Clock::now();
      try {
        do {
          const auto t = Clock::now();
          (void)lanes_[lane].run(std::span<const Tensor>(r_.inputs));
          own.push_back(since(t));
          held_[lane].after_run();
        } while (since(start) < seconds);
      } catch (...) {
        const std::lock_guard lock(mutex);
        thrown = std::current_exception();
      }
      const auto end = Clock::now();
      const std::lock_guard lock(mutex);
      if (runs == 0 || start < first) first = start;
      if (runs == 0 || end > last) last = end;
      runs += static_cast<int64_t>(own.size());
      into.latencies.insert(into.latencies.end(), own.begin(), own.end());
    };
    {
      std::vector<std::jthread> others;
      for (size_t i = 1; i < lanes_.size(); ++i) others.emplace_back(work, i);
      work(0);
    }
    if (thrown) std::rethrow_exception(thrown);
    into.rates.push_back(static_cast<double>(runs * r_.items) / std::chrono::duration<double>(last - first).count());
  }

 private:
  const Contender& r_;
  std::vector<Lane> lanes_;
  std::vector<HeldRuns> held_;
};

}  // namespace

std::vector<TurnTimes> by_turns(const std::vector<Contender>& variants, double seconds, int rounds,
                                const std::function<void(int)>& progress) {
  std::vector<std::unique_ptr<Lanes>> lanes;
  for (const Contender& r : variants) lanes.push_back(std::make_unique<Lanes>(r));
  std::vector<TurnTimes> timed(variants.size());
  for (int round = 0; round < rounds; ++round) {
    if (progress) progress(round);
    for (size_t i = 0; i < variants.size(); ++i) {
      const size_t at = (i + static_cast<size_t>(round)) % variants.size();
      lanes[at]->run_for(seconds / rounds, timed[at]);
    }
  }
  return timed;
}

}  // namespace lathe
