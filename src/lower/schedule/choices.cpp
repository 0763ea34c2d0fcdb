#include "lower/schedule/choices.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/fail.hpp"

namespace lathe::lower {
namespace {

using Guards = std::vector<Guard>;

// Under which conditions the values in each buffer are read. From the last step up.
class Needs {
 public:
  explicit Needs(const Plan& plan) : by_buffer_(plan.buffers.size()) {
    for (size_t b = 0; b < plan.buffers.size(); ++b) {
      if (plan.buffers[b].kind == Buffer::Kind::output) by_buffer_[b] = Guards();
    }
  }

  Guards of(const Step& step) const {
    std::optional<Guards> all;
    for (BufferId b : step.writes) {
      if (by_buffer_[static_cast<size_t>(b)]) meet(all, *by_buffer_[static_cast<size_t>(b)]);
    }
    return step.keeps || !all ? Guards() : *all;
  }

  void read_by(const Step& step, const Guards& guards) {
    for (BufferId b : step.reads) {
      const bool yes = step.choice && b == step.choice->yes, no = step.choice && b == step.choice->no;
      const bool either = step.choice && (yes == no || b == step.choice->condition.buffer);
      Guards now = guards;
      if (step.choice && !either) now.push_back({step.choice->condition, yes});
      meet(by_buffer_[static_cast<size_t>(b)], now);
    }
  }

 private:
  // Needed by one or the other: what holds for both. The order stays, so that each condition is made where those before it hold.
  static void meet(std::optional<Guards>& a, const Guards& b) {
    if (!a) a = b;
    else std::erase_if(*a, [&](const Guard& g) { return std::ranges::find(b, g) == b.end(); });
  }

  std::vector<std::optional<Guards>> by_buffer_;  // nothing: nobody reads it
};

// A step that has guards stands behind what makes their conditions. Those that read its results have the same guards, or choose by them.
void put_behind_conditions(std::vector<Step>& steps) {
  std::vector<Step> out, waiting;
  std::vector<int> left;  // writers of each buffer still to come
  const auto at = [&](BufferId b) -> int& {
    if (static_cast<size_t>(b) >= left.size()) left.resize(static_cast<size_t>(b) + 1, 0);
    return left[static_cast<size_t>(b)];
  };
  for (const Step& s : steps) {
    for (BufferId b : s.writes) ++at(b);
  }
  const auto ready = [&](const Step& s) {
    return std::ranges::all_of(s.guards, [&](const Guard& g) { return at(g.condition.buffer) == 0; });
  };
  const auto put = [&](Step step) {
    for (BufferId b : step.writes) --at(b);
    out.push_back(std::move(step));
  };
  for (Step& s : steps) {
    if (!ready(s)) {
      waiting.push_back(std::move(s));
      continue;
    }
    put(std::move(s));
    for (size_t w = 0; w < waiting.size();) {
      if (!ready(waiting[w])) {
        ++w;
        continue;
      }
      put(std::move(waiting[w]));
      waiting.erase(waiting.begin() + static_cast<int64_t>(w));
      w = 0;
    }
  }
  if (!waiting.empty()) fail(Category::internal, "{} steps wait for conditions that nothing makes before them", waiting.size());
  steps = std::move(out);
}

}  // namespace

void leave_out(Plan& plan) {
  if (std::ranges::none_of(plan.steps, [](const Step& s) { return s.choice.has_value(); })) return;
  Needs needs(plan);
  for (size_t i = plan.steps.size(); i-- > 0;) {
    Step& step = plan.steps[i];
    step.guards = needs.of(step);
    needs.read_by(step, step.guards);
  }
  put_behind_conditions(plan.steps);
  for (Step& step : plan.steps) {
    for (const Guard& g : step.guards) {
      if (std::ranges::find(step.reads, g.condition.buffer) == step.reads.end()) step.reads.push_back(g.condition.buffer);
    }
    if (!step.guards.empty()) step.why = fmt::format("only where the branch is taken; {}", step.why);
  }
}

}  // namespace lathe::lower
