// The crew: worker threads of a lane. Fork-join over tasks; a short spin, then sleep. Each worker begins with a share of its own, the same
// part of every job: what it wrote in one step is in its own core's cache when the next step reads it. Then it takes from the others.
#pragma once

#include <sched.h>

#include <atomic>
#include <chrono>
#include <cstdint>
#include <exception>
#include <thread>
#include <vector>

#include "lower/plan/step.hpp"

namespace lathe {

class Crew : public lower::Workers {
 public:
  // The caller is worker 0; threads - 1 more are started. Throws Error (resource) when one cannot be; those started are stopped.
  explicit Crew(int threads);
  ~Crew() override;
  Crew(const Crew&) = delete;
  Crew& operator=(const Crew&) = delete;

  int size() const override { return static_cast<int>(threads_.size()) + 1; }
  // What a task throws comes out of here, on the caller's thread, when every worker has left; tasks that nobody had begun are not run.
  // Of several exceptions the first one counts.
  void parallel(int64_t tasks, void (*f)(void*, int64_t, int), void* context) override;

  // Time a worker (1..) spent on one job's tasks.
  struct Spell {
    std::chrono::steady_clock::time_point begin, end;
    int64_t tasks = 0;
  };
  // Keeps spells from now on (forgetting earlier ones), or no more. Not while a job runs.
  void watch(bool on);
  // By worker, from 1 on. Not while a job runs.
  const std::vector<std::vector<Spell>>& spells() const { return spells_; }

 private:
  void work(int worker);
  void drain(int worker);
  void take_tasks(int worker);
  template <typename F>
  void each_task(int worker, F f);
  int64_t share_begin(int64_t worker) const { return tasks_ * worker / size(); }
  void stop_workers();
  void keep_apart();

  std::vector<std::thread> threads_;
#if !defined(__EMSCRIPTEN__)
  int apart_from_ = -1;  // the core that workers keep off
  // By worker: the cores it may use by what it was started with, and those left of them when they were last set.
  std::vector<cpu_set_t> home_, told_;
#endif
  bool watched_ = false;
  std::vector<std::vector<Spell>> spells_;  // each written by its worker alone, while it is inside a job
  // The job of the moment. It is open while it has tasks to give; a worker that comes while it is open enters, and is waited for. One that
  // was put off its core, or was asleep too long, finds the job closed and has no part in it: nobody waits for those who never began.
  void (*f_)(void*, int64_t, int) = nullptr;
  void* context_ = nullptr;
  int64_t tasks_ = 0;
  static constexpr uint32_t kOpen = uint32_t{1} << 16, kInside = kOpen - 1;
  alignas(64) std::atomic<uint32_t> state_{0};       // kOpen, and how many workers are inside
  alignas(64) std::atomic<uint32_t> generation_{0};  // moves with every job; idle workers watch it
  std::vector<std::atomic<int64_t>> next_;           // by worker: of its share, the first task that nobody has begun
  alignas(64) std::atomic<int> asleep_{0};
  std::atomic<bool> stop_{false};
  std::atomic<bool> failed_{false};
  std::exception_ptr failure_;  // of this job; written by whoever set failed_
};

}  // namespace lathe
