#include "lower/schedule/memory.hpp"

#include <algorithm>
#include <limits>
#include <numeric>

#include "base/fail.hpp"
#include "base/memory.hpp"

namespace lathe::lower {
namespace {

void find_lifetimes(Plan& plan) {
  for (Buffer& b : plan.buffers) b.first = b.last = -1;
  for (size_t s = 0; s < plan.steps.size(); ++s) {
    const Step& step = plan.steps[s];
    for (const auto* list : {&step.reads, &step.writes, &step.scratch}) {
      for (BufferId id : *list) {
        Buffer& b = plan.buffers[id];
        if (b.first < 0) b.first = static_cast<int>(s);
        b.last = static_cast<int>(s);
      }
    }
  }
}

// Each buffer in turn takes the tightest gap among those already placed that live at the same time. Gives the height of it all.
template <typename SizeOf>
size_t place_in_order(Plan& plan, const std::vector<BufferId>& order, SizeOf size_of) {
  std::vector<BufferId> placed;
  size_t height = 0;
  constexpr size_t kMost = std::numeric_limits<size_t>::max() / 2;
  for (BufferId id : order) {
    Buffer& b = plan.buffers[id];
    std::vector<std::pair<size_t, size_t>> taken;
    for (BufferId other : placed) {
      const Buffer& o = plan.buffers[other];
      if (o.first <= b.last && b.first <= o.last) taken.emplace_back(o.offset, o.offset + size_of(other));
    }
    std::sort(taken.begin(), taken.end());
    const size_t need = size_of(id);
    size_t at = 0, best = SIZE_MAX, best_gap = SIZE_MAX;
    for (const auto& [from, to] : taken) {
      if (from > at && from - at >= need && from - at < best_gap) {
        best = at;
        best_gap = from - at;
      }
      at = std::max(at, to);
    }
    b.offset = best != SIZE_MAX ? best : at;
    if (need > kMost || b.offset > kMost - need) fail(Category::resource, "the results of a run do not fit in memory; give smaller inputs");
    height = std::max(height, b.offset + need);
    placed.push_back(id);
  }
  return height;
}

}  // namespace

void plan_memory(Plan& plan) {
  find_lifetimes(plan);
  // In place: the step's output takes over an input that dies with it. `same[b]`: the buffer whose memory b uses.
  std::vector<BufferId> same(plan.buffers.size());
  std::iota(same.begin(), same.end(), 0);
  for (size_t s = 0; s < plan.steps.size(); ++s) {
    const Step& step = plan.steps[s];
    if (step.in_place == kNoBuffer) continue;
    const BufferId from = same[step.in_place], to = step.writes.at(0);
    Buffer &a = plan.buffers[from], &b = plan.buffers[to];
    if (from == to || a.kind != Buffer::Kind::arena || b.kind != Buffer::Kind::arena || a.bytes < b.bytes) continue;
    if (a.last != static_cast<int>(s) || b.first != static_cast<int>(s)) continue;
    same[to] = from;
    a.last = b.last;
  }

  std::vector<BufferId> order;
  for (size_t i = 0; i < plan.buffers.size(); ++i) {
    const Buffer& b = plan.buffers[i];
    if (b.kind == Buffer::Kind::arena && same[i] == static_cast<BufferId>(i) && b.first >= 0) order.push_back(static_cast<BufferId>(i));
  }
  const auto size_of = [&](BufferId id) { return round_up(std::max<size_t>(1, plan.buffers[id].bytes), kAlignment); };
  // The bound: no plan can do with less than what is live during the fullest step.
  plan.arena_bound = 0;
  for (size_t s = 0; s < plan.steps.size(); ++s) {
    size_t live = 0;
    for (BufferId id : order) {
      if (plan.buffers[id].first <= static_cast<int>(s) && static_cast<int>(s) <= plan.buffers[id].last) live += size_of(id);
    }
    plan.arena_bound = std::max(plan.arena_bound, live);
  }
  // Largest first is good on most nets. Where it is not, what stood highest goes first and all are placed again: a few tries find a way
  // around a large buffer that lies in the middle.
  std::stable_sort(order.begin(), order.end(), [&](BufferId a, BufferId b) { return size_of(a) > size_of(b); });
  const int most_tries = order.size() > 600 ? 4 : 60;
  std::vector<BufferId> best_order = order;
  size_t best = SIZE_MAX;
  for (int tries = 0; tries < most_tries; ++tries) {
    const size_t bytes = place_in_order(plan, order, size_of);
    if (bytes < best) {
      best = bytes;
      best_order = order;
    }
    if (best <= plan.arena_bound) break;
    const auto highest = std::max_element(order.begin(), order.end(), [&](BufferId a, BufferId b) {
      return plan.buffers[a].offset + size_of(a) < plan.buffers[b].offset + size_of(b);
    });
    if (highest == order.begin()) {
      // It has been first already: the other order that often serves, by when buffers begin to live.
      if (tries > 0) std::rotate(order.begin(), order.begin() + 1 + tries % static_cast<int>(order.size() - 1), order.end());
      else
        std::stable_sort(order.begin(), order.end(), [&](BufferId a, BufferId b) { return plan.buffers[a].first < plan.buffers[b].first; });
      continue;
    }
    std::rotate(order.begin(), highest, highest + 1);
  }
  plan.arena_bytes = place_in_order(plan, best_order, size_of);
  for (size_t i = 0; i < plan.buffers.size(); ++i) {
    if (same[i] != static_cast<BufferId>(i)) plan.buffers[i].offset = plan.buffers[same[i]].offset;
  }
}

}  // namespace lathe::lower
