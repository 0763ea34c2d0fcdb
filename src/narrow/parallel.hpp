// Independent pieces of work on all cores.
#pragma once

#include <atomic>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

namespace lathe::narrowing {

// Calls f(i) for each i below `count`, from several threads at once. What one throws is thrown when all are done.
template <typename F>
void in_parallel(size_t count, F f) {
  std::atomic<size_t> next{0};
  std::exception_ptr thrown;
  std::mutex mutex;
  const auto work = [&] {
    try {
      for (size_t i = next++; i < count; i = next++) f(i);
    } catch (...) {
      const std::lock_guard lock(mutex);
      if (!thrown) thrown = std::current_exception();
    }
  };
  const size_t wanted = std::min<size_t>(count, std::max(1u, std::thread::hardware_concurrency()));
  {
    std::vector<std::jthread> others;
    for (size_t i = 1; i < wanted; ++i) others.emplace_back(work);
    work();
  }
  if (thrown) std::rethrow_exception(thrown);
}

}  // namespace lathe::narrowing
