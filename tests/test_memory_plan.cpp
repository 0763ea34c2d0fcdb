// The memory plan: lifetimes to arena offsets.
#include <numeric>

#include "lower/plan/plan.hpp"
#include "lower/schedule/memory.hpp"
#include "support.hpp"

using namespace test;

namespace {

class NoKernel : public lower::StepKernel {
  void run(const lower::StepContext&) const override {}
};

// A plan with random buffers, each made at one step and read at some later ones.
lower::Plan random_plan(std::mt19937& random, bool in_place) {
  lower::Plan plan;
  const int steps = 2 + static_cast<int>(random() % 30);
  plan.steps.resize(steps);
  for (auto& s : plan.steps) s.kernel = std::make_unique<NoKernel>();
  for (int s = 0; s < steps; ++s) {
    lower::Buffer b;
    b.bytes = random() % 5000;
    plan.buffers.push_back(b);
    const auto id = static_cast<lower::BufferId>(plan.buffers.size()) - 1;
    plan.steps[s].writes.push_back(id);
    for (int k = 0; k < 2; ++k) {
      const int reader = s + 1 + static_cast<int>(random() % 8);
      if (reader < steps) plan.steps[reader].reads.push_back(id);
    }
    if (in_place && !plan.steps[s].reads.empty()) plan.steps[s].in_place = plan.steps[s].reads[random() % plan.steps[s].reads.size()];
    if (random() % 3 == 0) {
      plan.buffers.push_back(b);
      plan.steps[s].scratch.push_back(static_cast<lower::BufferId>(plan.buffers.size()) - 1);
    }
  }
  return plan;
}

}  // namespace

TEST_CASE("buffers that live at the same time never overlap") {
  std::mt19937 random(8);
  for (int trial = 0; trial < 200; ++trial) {
    lower::Plan plan = random_plan(random, false);
    lower::plan_memory(plan);
    CHECK(plan.arena_bytes >= plan.arena_bound);
    for (size_t a = 0; a < plan.buffers.size(); ++a) {
      const lower::Buffer& x = plan.buffers[a];
      CHECK(x.offset % 64 == 0);
      CHECK(x.offset + x.bytes <= plan.arena_bytes);
      for (size_t b = a + 1; b < plan.buffers.size(); ++b) {
        const lower::Buffer& y = plan.buffers[b];
        const bool together = x.first <= y.last && y.first <= x.last;
        const bool apart = x.offset + x.bytes <= y.offset || y.offset + y.bytes <= x.offset;
        if (together && x.bytes > 0 && y.bytes > 0) REQUIRE(apart);
      }
    }
  }
}

TEST_CASE("in place only where the input dies with the step") {
  std::mt19937 random(9);
  int shared = 0;
  for (int trial = 0; trial < 200; ++trial) {
    lower::Plan plan = random_plan(random, true);
    lower::plan_memory(plan);
    // Running the plan: a buffer's bytes hold its own mark from the step that writes it to its last reader.
    std::vector<int> owner(plan.arena_bytes, -1);
    for (size_t s = 0; s < plan.steps.size(); ++s) {
      const auto& step = plan.steps[s];
      for (auto id : step.reads) {
        for (size_t i = 0; i < plan.buffers[id].bytes; ++i) REQUIRE(owner[plan.buffers[id].offset + i] == id);
      }
      for (auto id : step.scratch) std::fill_n(owner.begin() + plan.buffers[id].offset, plan.buffers[id].bytes, id);
      for (auto id : step.writes) {
        shared += step.in_place != lower::kNoBuffer && plan.buffers[id].offset == plan.buffers[step.in_place].offset &&
                  plan.buffers[id].bytes > 0;
        std::fill_n(owner.begin() + plan.buffers[id].offset, plan.buffers[id].bytes, id);
      }
    }
  }
  CHECK(shared > 50);
}

TEST_CASE("a chain of equal buffers needs two of them") {
  lower::Plan plan;
  plan.steps.resize(10);
  for (int s = 0; s < 10; ++s) {
    lower::Buffer b;
    b.bytes = 1000;
    plan.buffers.push_back(b);
    plan.steps[s].writes = {s};
    if (s > 0) plan.steps[s].reads = {s - 1};
  }
  lower::plan_memory(plan);
  CHECK(plan.arena_bytes == 2048);
  CHECK(plan.arena_bound == 2048);
  for (int s = 1; s < 10; ++s) plan.steps[s].in_place = s - 1;
  lower::plan_memory(plan);
  CHECK(plan.arena_bytes == 1024);
}
