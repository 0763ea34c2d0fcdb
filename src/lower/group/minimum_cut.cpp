// By blocking flows (Y. Dinitz, Algorithm for solution of a problem of maximum flow in networks with power estimation, 1970).
#include "lower/group/minimum_cut.hpp"

#include <algorithm>
#include <limits>
#include <queue>

namespace lathe::lower {

MinimumCut::MinimumCut(int nodes) : first_(static_cast<size_t>(nodes) + 2, -1) {}

void MinimumCut::edge(int from, int to, double capacity) {
  const auto add = [&](int a, int b, double c) {
    edges_.push_back({b, first_[static_cast<size_t>(a + 2)], c});
    first_[static_cast<size_t>(a + 2)] = static_cast<int>(edges_.size()) - 1;
  };
  add(from, to, capacity);
  add(to, from, 0);
}

double MinimumCut::solve() {
  const auto index = [](int node) { return static_cast<size_t>(node + 2); };
  const size_t n = first_.size();
  double flow = 0;
  std::vector<int> depth(n), next(n);
  while (true) {
    std::fill(depth.begin(), depth.end(), -1);
    std::queue<int> queue;
    depth[index(kSource)] = 0;
    for (queue.push(kSource); !queue.empty(); queue.pop()) {
      const int at = queue.front();
      for (int e = first_[index(at)]; e >= 0; e = edges_[static_cast<size_t>(e)].next) {
        const Edge& edge = edges_[static_cast<size_t>(e)];
        if (edge.left > 0 && depth[index(edge.to)] < 0) {
          depth[index(edge.to)] = depth[index(at)] + 1;
          queue.push(edge.to);
        }
      }
    }
    if (depth[index(kSink)] < 0) break;
    // One path after another along the depths, without recursion: graphs may be long.
    next = first_;
    std::vector<int> path;
    int at = kSource;
    while (true) {
      if (at == kSink) {
        double least = std::numeric_limits<double>::infinity();
        for (int e : path) least = std::min(least, edges_[static_cast<size_t>(e)].left);
        flow += least;
        size_t keep = path.size();
        for (size_t i = 0; i < path.size(); ++i) {
          Edge& e = edges_[static_cast<size_t>(path[i])];
          e.left -= least;
          edges_[static_cast<size_t>(path[i] ^ 1)].left += least;
          if (e.left <= 0 && i < keep) keep = i;
        }
        path.resize(keep);
        at = keep == 0 ? kSource : edges_[static_cast<size_t>(path.back())].to;
        continue;
      }
      int& e = next[index(at)];
      while (e >= 0 &&
             (edges_[static_cast<size_t>(e)].left <= 0 || depth[index(edges_[static_cast<size_t>(e)].to)] != depth[index(at)] + 1))
        e = edges_[static_cast<size_t>(e)].next;
      if (e >= 0) {
        path.push_back(e);
        at = edges_[static_cast<size_t>(e)].to;
      } else if (at == kSource) {
        break;
      } else {
        depth[index(at)] = -1;
        path.pop_back();
        at = path.empty() ? kSource : edges_[static_cast<size_t>(path.back())].to;
      }
    }
  }
  // Who still reaches the sink is on its side; where both sides cost the same, a node is on the source's.
  sink_side_.assign(n, false);
  sink_side_[index(kSink)] = true;
  std::queue<int> queue;
  for (queue.push(kSink); !queue.empty(); queue.pop()) {
    for (int e = first_[index(queue.front())]; e >= 0; e = edges_[static_cast<size_t>(e)].next) {
      const int from = edges_[static_cast<size_t>(e)].to;
      if (edges_[static_cast<size_t>(e ^ 1)].left > 0 && !sink_side_[index(from)]) {
        sink_side_[index(from)] = true;
        queue.push(from);
      }
    }
  }
  return flow;
}

}  // namespace lathe::lower
