// Under load: a clock makes requests, lanes serve them in order.
#include "lathe/arrivals.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <condition_variable>
#include <mutex>
#include <random>
#include <thread>
#include <utility>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "measure/held.hpp"

namespace lathe {
namespace {

using Seconds = std::chrono::duration<double>;

// Due times of requests, in seconds from the start.
std::vector<double> due_times(double rate, const ArrivalOptions& o) {
  std::mt19937_64 random(o.seed);
  std::exponential_distribution<double> gap(rate);
  std::vector<double> due;
  double at = 0;
  for (int64_t k = 0; o.requests == 0 || k < o.requests; ++k) {
    at = o.arrivals == Arrivals::even ? static_cast<double>(k) / rate : at + gap(random);
    if (at >= o.seconds) break;
    due.push_back(at);
  }
  if (due.empty()) due.push_back(0);
  return due;
}

}  // namespace

ArrivalResult under_load(const Program& program, int threads, const std::vector<Tensor>& inputs, double rate, const ArrivalOptions& o) {
  if (!(rate > 0) || rate > 1e7) fail(Category::value, "rate is {:g}, expected more than 0 and at most 10 million requests a second", rate);
  if (o.lanes < 1 || o.lanes > 256) fail(Category::value, "lanes is {}, expected 1 to 256", o.lanes);
  if (!(o.seconds > 0) || o.seconds * rate > 5e7)
    fail(Category::value, "{:g} s at {:g} requests a second are too many to keep", o.seconds, rate);
  const std::vector<double> due = due_times(rate, o);
  const auto n = static_cast<int64_t>(due.size());
  std::vector<double> taken(due.size(), -1), done(due.size(), -1);

  // Lanes take the next request when it is due: a line in order of arrival, without a thread that would have to be scheduled itself.
  std::atomic<int64_t> next{0};
  std::atomic<bool> stop{false};
  std::exception_ptr failed;
  std::mutex lock;
  std::condition_variable ready;
  int warm = 0;
  bool go = false;
  Clock::time_point start;
  const double end = due.back() + o.drain_seconds;
  const auto now = [&] { return Seconds(Clock::now() - start).count(); };
  const auto serve = [&] {
    try {
      Lane lane(program, threads);
      HeldRuns held(lane, inputs, 0);
      for (int i = 0; i < 3; ++i) {
        lane.run(std::span<const Tensor>(inputs), o.run);
        held.after_run();
      }
      {
        std::unique_lock guard(lock);
        ++warm;
        ready.notify_all();
        ready.wait(guard, [&] { return go; });
      }
      for (;;) {
        const int64_t k = next.fetch_add(1);
        if (k >= n || stop) break;
        const auto at = start + std::chrono::duration_cast<Clock::duration>(Seconds(due[static_cast<size_t>(k)]));
        // Sleep most of the way, then look at the clock: waking up must not count as waiting.
        while (Clock::now() < at) {
          const auto left = at - Clock::now();
          if (left > std::chrono::microseconds(300)) std::this_thread::sleep_for(left - std::chrono::microseconds(200));
        }
        const double begin = now();
        if (begin > end) {
          stop = true;
          break;
        }
        lane.run(std::span<const Tensor>(inputs), o.run);
        taken[static_cast<size_t>(k)] = begin;
        done[static_cast<size_t>(k)] = now();
        held.after_run();
      }
    } catch (...) {
      const std::lock_guard guard(lock);
      if (!failed) failed = std::current_exception();
      stop = true;
      ++warm;
      ready.notify_all();
    }
  };
  {
    std::vector<std::jthread> lanes;
    for (int i = 0; i < o.lanes; ++i) lanes.emplace_back(serve);
    {
      std::unique_lock guard(lock);
      ready.wait(guard, [&] { return warm == o.lanes; });
      start = Clock::now() + std::chrono::milliseconds(2);
      go = true;
      ready.notify_all();
    }
    while (o.progress && !stop && next < n) {
      o.progress(std::min(1.0, std::max(0.0, now()) / end));
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
  }
  if (failed) std::rethrow_exception(failed);

  ArrivalResult r;
  r.rate = rate;
  r.requests = n;
  r.offered = n > 1 ? static_cast<double>(n - 1) / (due.back() - due.front()) : rate;
  std::vector<double> waiting, service, total, begins;
  double last = 0, serving = 0;
  for (size_t k = 0; k < due.size(); ++k) {
    if (done[k] < 0) {
      ++r.unserved;
      continue;
    }
    waiting.push_back(std::max(0.0, taken[k] - due[k]));
    service.push_back(done[k] - taken[k]);
    total.push_back(done[k] - due[k]);
    begins.push_back(taken[k]);
    last = std::max(last, done[k]);
    serving += done[k] - taken[k];
  }
  const double span = last - due.front();
  r.served = span > 0 ? static_cast<double>(total.size()) / span : 0;
  r.busy = span > 0 ? serving / (span * o.lanes) : 0;
  // The line at each arrival: those due by then that nobody has taken.
  std::sort(begins.begin(), begins.end());
  int64_t at_end = 0;
  for (size_t k = 0; k < due.size(); ++k) {
    const auto begun = std::upper_bound(begins.begin(), begins.end(), due[k]) - begins.begin();
    at_end = std::max<int64_t>(0, static_cast<int64_t>(k) + 1 - begun);
    r.longest = std::max(r.longest, at_end);
  }
  // A line that stands at its longest at the end, and takes longer to serve than a twentieth of the whole time, was still growing.
  const double one = service.empty() ? 0 : summarise(service).mean;
  r.kept_up = r.unserved == 0 && (at_end <= 2 * o.lanes || static_cast<double>(at_end) * one / o.lanes < 0.05 * o.seconds);
  r.waiting = summarise(std::move(waiting));
  r.service = summarise(std::move(service));
  r.total = summarise(std::move(total));
  return r;
}

HighestRate highest_rate(const Program& program, int threads, const std::vector<Tensor>& inputs, double limit, const ArrivalOptions& o) {
  if (!(limit > 0)) fail(Category::value, "the limit is {:g} s, expected more than 0", limit);
  HighestRate h;
  h.limit = limit;
  const auto holds = [&](double rate) {
    // Enough requests that the hundredth slowest of a hundred is known: at a low rate for longer.
    ArrivalOptions longer = o;
    longer.seconds = std::clamp(300 / rate, o.seconds, 4 * o.seconds);
    h.tried.push_back(under_load(program, threads, inputs, rate, longer));
    const ArrivalResult& r = h.tried.back();
    return r.unserved == 0 && r.total.p99 <= limit;
  };
  // One lane's service time says where to begin.
  double one = 0;
  {
    Lane lane(program, threads);
    HeldRuns held(lane, inputs, 0);
    std::vector<double> seconds;
    for (int i = 0; i < 5; ++i) {
      const auto t = Clock::now();
      lane.run(std::span<const Tensor>(inputs), o.run);
      seconds.push_back(Seconds(Clock::now() - t).count());
      held.after_run();
    }
    one = summarise(std::move(seconds)).median;
  }
  if (one > limit) return h;
  double low = 0, high = o.lanes / one / 2;
  for (int i = 0; i < 12 && holds(high); ++i) low = std::exchange(high, 2 * high);
  if (low == 0) {
    for (double rate = high / 2; rate > high / 64; rate /= 2) {
      if (holds(rate)) {
        low = rate;
        break;
      }
      high = rate;
    }
  }
  while (low > 0 && high / low > 1.05) {
    const double middle = std::sqrt(low * high);
    (holds(middle) ? low : high) = middle;
  }
  h.rate = low;
  return h;
}

}  // namespace lathe
