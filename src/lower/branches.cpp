// Independent steps that are each too small to share among threads are run side by side.
#include <algorithm>

#include "base/fail.hpp"
#include "lower/lowering.hpp"

namespace lathe::lower {
namespace {

// One thread's work: what runs side by side is not shared out again.
class Alone : public Workers {
 public:
  int size() const override { return 1; }
  void parallel(int64_t tasks, void (*f)(void*, int64_t, int), void* context) override {
    for (int64_t task = 0; task < tasks; ++task) f(context, task, 0);
  }
};

class SideBySide : public StepKernel {
 public:
  std::vector<std::unique_ptr<StepKernel>> parts;

  void run(const StepContext& c) const override {
    c.workers.each(static_cast<int64_t>(parts.size()), [&](int64_t part, int) {
      Alone alone;
      const StepContext own{c.buffers, c.tensors, alone, nullptr};
      parts[static_cast<size_t>(part)]->run(own);
    });
  }
};

// Estimated on one thread, with what any machine of today does; it only has to tell a microsecond from a hundred.
double seconds_of(const Step& s) { return std::max(s.flops / 50e9, s.bytes / 10e9); }

// Worth a fork and a join, and not so long that its own split would serve better.
bool small(const Step& s) {
  constexpr double kShortest = 1.5e-6, kLongest = 20e-6;
  static const char* const kKinds[]{"convolution", "product",  "tape",         "reduction", "normalisation",
                                    "softmax",     "max pool", "average pool", "copy",      "layout"};
  const double t = seconds_of(s);
  return !s.can_fail && t >= kShortest && t <= kLongest && std::ranges::find(kKinds, s.kind) != std::end(kKinds);
}

bool meet(const std::vector<BufferId>& a, const std::vector<BufferId>& b) {
  return std::ranges::any_of(a, [&](BufferId x) { return std::ranges::find(b, x) != b.end(); });
}

// Whether b may run before or beside a, which stands before it.
bool independent(const Step& a, const Step& b) {
  return !meet(a.writes, b.reads) && !meet(a.writes, b.writes) && !meet(a.reads, b.writes) && !meet(a.scratch, b.scratch) &&
         !meet(a.scratch, b.reads) && !meet(a.reads, b.scratch) && !meet(a.scratch, b.writes) && !meet(a.writes, b.scratch);
}

template <typename T>
void append(std::vector<T>& to, const std::vector<T>& from) {
  to.insert(to.end(), from.begin(), from.end());
}

}  // namespace

void join_branches(Plan& plan, int threads) {
  // Values held as tensors order plain steps in ways that buffers do not show.
  if (threads < 2 || std::ranges::any_of(plan.steps, [](const Step& s) { return s.kind == "plain" || s.kind == "control"; })) return;
  // How far ahead a partner is looked for: what is moved forward lives longer.
  constexpr size_t kAhead = 12;
  std::vector<Step> out;
  std::vector<bool> taken(plan.steps.size(), false);
  for (size_t i = 0; i < plan.steps.size(); ++i) {
    if (taken[i]) continue;
    Step& first = plan.steps[i];
    std::vector<size_t> together{i};
    for (size_t j = i + 1;
         small(first) && j < std::min(plan.steps.size(), i + kAhead) && together.size() < static_cast<size_t>(threads) * 2; ++j) {
      if (taken[j] || !small(plan.steps[j])) continue;
      // It passes every step between that is not taken yet.
      bool free = seconds_of(plan.steps[j]) > seconds_of(first) / 4 && seconds_of(plan.steps[j]) < seconds_of(first) * 4;
      for (size_t k = i; free && k < j; ++k) free = taken[k] || independent(plan.steps[k], plan.steps[j]);
      for (size_t k : together) free = free && independent(plan.steps[k], plan.steps[j]);
      if (free) together.push_back(j);
    }
    if (together.size() == 1) {
      out.push_back(std::move(first));
      continue;
    }
    auto kernel = std::make_unique<SideBySide>();
    Step all;
    all.kind = "side by side";
    for (size_t k : together) {
      Step& s = plan.steps[k];
      taken[k] = true;
      if (all.head < 0) all.head = s.head;  // a layout change has none
      append(all.nodes, s.nodes);
      append(all.members, s.members);
      append(all.reads, s.reads);
      append(all.writes, s.writes);
      append(all.scratch, s.scratch);
      all.flops += s.flops;
      all.bytes += s.bytes;
      all.recipe += (all.recipe.empty() ? "" : " | ") + s.kind + ": " + s.recipe;
      kernel->parts.push_back(std::move(s.kernel));
    }
    all.why = fmt::format("{} independent steps, each too small to share among {} threads", together.size(), threads);
    all.why_not = "what follows needs one of them, or is of another size";
    all.kernel = std::move(kernel);
    out.push_back(std::move(all));
  }
  plan.steps = std::move(out);
}

}  // namespace lathe::lower
