// Minimum cuts of small graphs.
#pragma once

#include <cstddef>
#include <vector>

namespace lathe::lower {

// The cheapest way to part nodes 0.. from one another so that the source and the sink are on different sides: an edge costs its capacity
// when its tail is on the source's side and its head on the sink's.
class MinimumCut {
 public:
  static constexpr int kSource = -2, kSink = -1;
  explicit MinimumCut(int nodes);
  void edge(int from, int to, double capacity);
  double solve();  // what it costs
  bool on_sink_side(int node) const { return sink_side_[static_cast<size_t>(node + 2)]; }

 private:
  struct Edge {
    int to, next;
    double left;
  };
  std::vector<int> first_;
  std::vector<Edge> edges_;
  std::vector<bool> sink_side_;
};

}  // namespace lathe::lower
