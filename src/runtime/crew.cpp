#include "runtime/crew.hpp"

#include <pthread.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <string>
#include <system_error>
#include <utility>

#include "base/fail.hpp"
#include "lathe/program.hpp"

namespace lathe {
namespace {

// Idle workers watch for the next step this long before they sleep: longer than the gap between steps of one run,
// far shorter than anyone would notice on a power meter.
constexpr auto kSpin = std::chrono::microseconds(50);

inline void pause() {
#if defined(__x86_64__)
  __builtin_ia32_pause();
#endif
}

// Spins for kSpin until the condition holds; says whether it does.
template <typename F>
bool spin_until(F condition) {
  const auto end = std::chrono::steady_clock::now() + kSpin;
  do {
    for (int i = 0; i < 64; ++i) {
      if (condition()) return true;
      pause();
    }
  } while (std::chrono::steady_clock::now() < end);
  return condition();
}

}  // namespace

#if defined(__EMSCRIPTEN__)
int usable_cores() { return std::max(1, static_cast<int>(std::thread::hardware_concurrency())); }
#else
int usable_cores() {
  cpu_set_t set;
  CPU_ZERO(&set);
  int cores = sched_getaffinity(0, sizeof set, &set) == 0 ? CPU_COUNT(&set) : static_cast<int>(std::thread::hardware_concurrency());
  // A cgroup may grant less time than that many cores have: "max 100000" or "150000 100000".
  if (std::FILE* quota = std::fopen("/sys/fs/cgroup/cpu.max", "r")) {
    double allowed = 0, period = 0;  // or "max", which is no number
    if (std::fscanf(quota, "%lf %lf", &allowed, &period) == 2 && period > 0)
      cores = std::min(cores, static_cast<int>(std::ceil(allowed / period)));
    std::fclose(quota);
  }
  return std::max(1, cores);
}
#endif

Crew::Crew(int threads) : next_(static_cast<size_t>(std::max(1, threads))) {
  try {
    for (int i = 1; i < threads; ++i) threads_.emplace_back([this, i] { work(i); });
  } catch (const std::system_error& e) {
    const size_t started = threads_.size() + 1;
    stop_workers();
    fail(Category::resource, "only {} of {} threads could be started ({}); ask for fewer", started, threads, e.code().message());
  } catch (...) {
    stop_workers();
    throw;
  }
#if !defined(__EMSCRIPTEN__)
  home_.resize(threads_.size());
  told_.resize(threads_.size());
#endif
}

Crew::~Crew() { stop_workers(); }

void Crew::stop_workers() {
  stop_.store(true);
  generation_.fetch_add(1);
  generation_.notify_all();
  for (auto& t : threads_) t.join();
}

void Crew::watch(bool on) {
  watched_ = on;
  spells_.assign(threads_.size(), {});
}

void Crew::drain(int worker) {
  try {
    take_tasks(worker);
  } catch (...) {
    if (!failed_.exchange(true)) failure_ = std::current_exception();
    for (auto& next : next_) next.store(tasks_, std::memory_order_relaxed);  // nothing more is begun
  }
}

template <typename F>
void Crew::each_task(int worker, F f) {
  for (int i = 0; i < size(); ++i) {
    const int whose = (worker + i) % size();
    std::atomic<int64_t>& next = next_[static_cast<size_t>(whose)];
    const int64_t end = share_begin(whose + 1);
    if (next.load(std::memory_order_relaxed) >= end) continue;
    for (int64_t task = next.fetch_add(1, std::memory_order_relaxed); task < end; task = next.fetch_add(1, std::memory_order_relaxed))
      f(task);
  }
}

void Crew::take_tasks(int worker) {
  if (!watched_ || worker == 0) return each_task(worker, [&](int64_t task) { f_(context_, task, worker); });
  Spell spell;
  spell.begin = std::chrono::steady_clock::now();
  each_task(worker, [&](int64_t task) {
    f_(context_, task, worker);
    ++spell.tasks;
  });
  spell.end = std::chrono::steady_clock::now();
  if (spell.tasks > 0) spells_[static_cast<size_t>(worker) - 1].push_back(spell);
}

// A sleeper is often woken on the caller's own core: on virtual machines the kernel takes a core that has rested for one its host has taken
// away. There it would wait for the caller to finish, and the other core would rest on (docs/decisions/0012).
void Crew::keep_apart() {
#if !defined(__EMSCRIPTEN__)  // where threads run is not ours to say
  const int here = sched_getcpu();
  if (here < 0 || here == apart_from_) return;
  apart_from_ = here;
  for (size_t i = 0; i < threads_.size(); ++i) {
    const pthread_t thread = threads_[i].native_handle();
    cpu_set_t now;
    CPU_ZERO(&now);
    if (pthread_getaffinity_np(thread, sizeof now, &now) != 0) return;
    if (!CPU_EQUAL(&now, &told_[i])) home_[i] = now;  // at first, and when somebody else has moved it since
    cpu_set_t rest = home_[i];
    CPU_CLR(static_cast<size_t>(here), &rest);
    if (CPU_COUNT(&rest) > 0 && pthread_setaffinity_np(thread, sizeof rest, &rest) == 0) told_[i] = rest;
  }
#endif
}

void Crew::parallel(int64_t tasks, void (*f)(void*, int64_t, int), void* context) {
  if (tasks <= 1 || threads_.empty()) {
    for (int64_t task = 0; task < tasks; ++task) f(context, task, 0);
    return;
  }
  f_ = f;
  context_ = context;
  tasks_ = tasks;
  for (size_t i = 0; i < next_.size(); ++i) next_[i].store(share_begin(static_cast<int64_t>(i)), std::memory_order_relaxed);
  state_.store(kOpen, std::memory_order_release);
  if (asleep_.load() > 0) keep_apart();
  generation_.fetch_add(1);  // sequentially consistent, against asleep_ below and in work()
  if (asleep_.load() > 0) generation_.notify_all();
  drain(0);
  // Closed: whoever has not begun stays out. Those inside are mid-task: no sleep here unless they were put off their core.
  state_.fetch_and(~kOpen, std::memory_order_acq_rel);
  if (!spin_until([&] { return state_.load(std::memory_order_acquire) == 0; })) {
    for (uint32_t left = state_.load(std::memory_order_acquire); left != 0; left = state_.load(std::memory_order_acquire))
      state_.wait(left);
  }
  if (failed_.load(std::memory_order_relaxed)) {
    failed_.store(false, std::memory_order_relaxed);
    std::rethrow_exception(std::exchange(failure_, nullptr));
  }
}

void Crew::work(int worker) {
  uint32_t seen = 0;
  for (;;) {
    if (!spin_until([&] { return generation_.load(std::memory_order_acquire) != seen; })) {
      asleep_.fetch_add(1);
      generation_.wait(seen);
      asleep_.fetch_sub(1);
    }
    seen = generation_.load(std::memory_order_acquire);
    if (stop_.load()) return;
    uint32_t state = state_.load(std::memory_order_acquire);
    while ((state & kOpen) != 0 && !state_.compare_exchange_weak(state, state + 1, std::memory_order_acq_rel)) {
    }
    if ((state & kOpen) == 0) continue;
    drain(worker);
    if (state_.fetch_sub(1, std::memory_order_acq_rel) == 1) state_.notify_one();  // the last one out of a closed job
  }
}

}  // namespace lathe
