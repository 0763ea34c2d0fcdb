// Gradient-boosted regression trees: what is learnt from recipes that were measured, by a search or beforehand.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string_view>
#include <string>
#include <vector>

namespace lathe::lower {

// Rows of as many features each; a NaN stands for a feature that a row has not.
struct Samples {
  size_t features = 0;
  std::vector<double> x;  // rows after each other
  std::vector<double> y;
  size_t size() const { return y.size(); }
  std::span<const double> row(size_t i) const { return {x.data() + i * features, features}; }
  void add(std::span<const double> row, double target);
};

struct TreeOptions {
  int trees = 60, depth = 5;
  double rate = 0.15;  // what a tree adds of what it has found
  size_t least = 3;    // samples in a leaf
  double shrink = 1;   // samples of nothing in each leaf: few samples say little
};

// Squared error. Deterministic.
class Trees {
 public:
  Trees() = default;
  Trees(const Samples& samples, const TreeOptions& options = {});
  // 0 before anything was learnt.
  double predict(std::span<const double> row) const;
  bool empty() const { return nodes_.empty(); }
  // As lines of text, and back. Throws Error (format): `text` is no such.
  std::string text() const;
  static Trees read(std::string_view text, size_t features);

 private:
  struct Node {
    int feature = -1;  // -1: a leaf
    double value = 0;  // of a leaf; else rows with less go left
    bool absent_left = false;
    int left = -1, right = -1;
  };
  int grow(const Samples& s, const std::vector<double>& residual, std::vector<uint32_t>& rows, size_t begin, size_t end, int depth,
           const TreeOptions& o);
  double mean_ = 0, rate_ = 0;
  std::vector<Node> nodes_;
  std::vector<int> roots_;
};

// Spearman's: how far the order of `a` is that of `b`, from -1 to 1. Equal values share their ranks; 0 where one of them does not vary.
double rank_correlation(std::span<const double> a, std::span<const double> b);

}  // namespace lathe::lower
