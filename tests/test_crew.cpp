// The crew: every task once, whatever happens.
#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <thread>

#include "runtime/crew.hpp"
#include "support.hpp"

using namespace test;

TEST_CASE("the crew does every task once, whatever the counts") {
  for (int threads : {1, 2, 3, 8}) {
    Crew crew(threads);
    CHECK(crew.size() == threads);
    for (int64_t tasks : {0, 1, 2, 7, 100, 5000}) {
      std::vector<std::atomic<int>> done(tasks);
      std::atomic<int> bad{0};
      crew.each(tasks, [&](int64_t task, int worker) {
        if (worker < 0 || worker >= threads) ++bad;
        ++done[task];
      });
      CHECK(bad == 0);
      CHECK(std::all_of(done.begin(), done.end(), [](const auto& d) { return d == 1; }));
    }
  }
}

TEST_CASE("the crew wakes up after sleeping, many times") {
  Crew crew(3);
  std::atomic<int64_t> total{0};
  for (int i = 0; i < 300; ++i) {
    crew.each(3, [&](int64_t task, int) { total += task; });
    if (i % 30 == 0) std::this_thread::sleep_for(std::chrono::milliseconds(2));  // longer than the spin
  }
  CHECK(total == 900);
}

TEST_CASE("crews start and stop") {
  for (int i = 0; i < 50; ++i) {
    Crew crew(1 + i % 4);
    if (i % 2) crew.each(4, [](int64_t, int) {});
  }
}

TEST_CASE("what a task throws comes out on the caller's thread when every worker has left, and the crew goes on") {
  for (int threads : {1, 2, 4}) {
    Crew crew(threads);
    for (int trial = 0; trial < 60; ++trial) {
      std::atomic<int> inside{0}, begun{0};
      struct Visit {
        std::atomic<int>& count;
        explicit Visit(std::atomic<int>& c) : count(c) { ++count; }
        ~Visit() { --count; }
      };
      std::string caught;
      try {
        crew.each(200, [&](int64_t task, int) {
          const Visit visit(inside);
          ++begun;
          if (task == trial) throw Error(Category::value, "task " + std::to_string(task));
        });
      } catch (const Error& e) {
        caught = e.what();
        CHECK(inside == 0);
      }
      CHECK(has(caught, "task " + std::to_string(trial)));
      if (threads == 1) CHECK(begun == trial + 1);  // what nobody had begun is not run
      std::atomic<int> done{0};
      crew.each(17, [&](int64_t, int) { ++done; });
      CHECK(done == 17);
    }
    // Whatever it is, and of several the first.
    CHECK_THROWS_AS(crew.each(8, [](int64_t, int) { throw 5; }), int);
    CHECK_THROWS_AS(crew.each(8, [](int64_t, int) { throw std::bad_alloc(); }), std::bad_alloc);
  }
}

TEST_CASE("a crew's workers begin with the same part of every job, and take from the others what is left") {
  constexpr int64_t kTasks = 30;
  for (int threads : {2, 3}) {
    CAPTURE(threads);
    Crew crew(threads);
    bool all_own = false;  // a worker that comes late may find its first task gone
    for (int trial = 0; trial < 1000 && !all_own; ++trial) {
      std::array<std::atomic<int64_t>, 3> first{-1, -1, -1};
      std::array<std::atomic<int>, kTasks> done{};
      std::atomic<int> there = 0;
      crew.each(kTasks, [&](int64_t task, int worker) {
        int64_t none = -1;
        if (first[static_cast<size_t>(worker)].compare_exchange_strong(none, task)) ++there;
        // Until all are there, or have had their time.
        const auto end = std::chrono::steady_clock::now() + std::chrono::microseconds(200);
        while (there < threads && std::chrono::steady_clock::now() < end) std::this_thread::yield();
        ++done[static_cast<size_t>(task)];
      });
      REQUIRE(std::ranges::all_of(done, [](const auto& d) { return d == 1; }));
      all_own = true;
      for (int w = 0; w < threads; ++w) all_own = all_own && first[static_cast<size_t>(w)] == kTasks * w / threads;
    }
    CHECK(all_own);
  }
}
