#include "lower/recipe/trees.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "lower/recipe/words.hpp"

namespace lathe::lower {
namespace {

struct Cut {
  double gain = 0, value = 0;
  int feature = -1;
  bool absent_left = false;
};

// What a leaf of so many samples with this sum takes off the squared error.
double worth(double sum, size_t n, double shrink) { return sum * sum / (static_cast<double>(n) + shrink); }

}  // namespace

void Samples::add(std::span<const double> row, double target) {
  x.insert(x.end(), row.begin(), row.end());
  y.push_back(target);
}

Trees::Trees(const Samples& s, const TreeOptions& o) : rate_(o.rate) {
  if (s.size() == 0) return;
  mean_ = std::accumulate(s.y.begin(), s.y.end(), 0.0) / static_cast<double>(s.size());
  std::vector<double> residual(s.y);
  for (double& r : residual) r -= mean_;
  std::vector<uint32_t> rows(s.size());
  for (int t = 0; t < o.trees; ++t) {
    std::iota(rows.begin(), rows.end(), 0u);
    const int root = grow(s, residual, rows, 0, rows.size(), o.depth, o);
    roots_.push_back(root);
    for (size_t i = 0; i < s.size(); ++i) {
      int n = root;
      while (nodes_[static_cast<size_t>(n)].feature >= 0) {
        const Node& node = nodes_[static_cast<size_t>(n)];
        const double v = s.row(i)[static_cast<size_t>(node.feature)];
        n = (std::isnan(v) ? node.absent_left : v < node.value) ? node.left : node.right;
      }
      residual[i] -= rate_ * nodes_[static_cast<size_t>(n)].value;
    }
  }
}

int Trees::grow(const Samples& s, const std::vector<double>& residual, std::vector<uint32_t>& rows, size_t begin, size_t end, int depth,
                const TreeOptions& o) {
  const size_t n = end - begin;
  double sum = 0;
  for (size_t i = begin; i < end; ++i) sum += residual[rows[i]];
  const auto leaf = [&] {
    nodes_.push_back({});
    nodes_.back().value = sum / (static_cast<double>(n) + o.shrink);
    return static_cast<int>(nodes_.size()) - 1;
  };
  if (depth == 0 || n < 2 * o.least) return leaf();
  Cut best;
  std::vector<std::pair<double, double>> present;  // feature, residual
  for (size_t f = 0; f < s.features; ++f) {
    present.clear();
    double absent_sum = 0;
    size_t absent = 0;
    for (size_t i = begin; i < end; ++i) {
      const double v = s.row(rows[i])[f];
      if (std::isnan(v)) absent_sum += residual[rows[i]], ++absent;
      else present.emplace_back(v, residual[rows[i]]);
    }
    if (present.empty()) continue;
    std::sort(present.begin(), present.end());
    double left_sum = 0;
    for (size_t i = 0; i + 1 <= present.size(); ++i) {
      // Between equal values there is nothing to split at; before the first, absent ones part from all others.
      if ((i > 0 && present[i].first > present[i - 1].first) || (i == 0 && absent > 0)) {
        for (const bool absent_left : {true, false}) {
          if (i == 0 && !absent_left) continue;
          const size_t left = i + (absent_left ? absent : 0), right = n - left;
          if (left < o.least || right < o.least) continue;
          const double ls = left_sum + (absent_left ? absent_sum : 0);
          const double gain = worth(ls, left, o.shrink) + worth(sum - ls, right, o.shrink) - worth(sum, n, o.shrink);
          const double at = i == 0 ? present[0].first : (present[i - 1].first + present[i].first) / 2;
          if (gain > best.gain + 1e-12) best = {gain, at, static_cast<int>(f), absent_left};
          if (absent == 0) break;
        }
      }
      left_sum += present[i].second;
    }
  }
  if (best.feature < 0) return leaf();
  const auto middle = std::stable_partition(rows.begin() + static_cast<std::ptrdiff_t>(begin),
                                            rows.begin() + static_cast<std::ptrdiff_t>(end), [&](uint32_t r) {
                                              const double v = s.row(r)[static_cast<size_t>(best.feature)];
                                              return std::isnan(v) ? best.absent_left : v < best.value;
                                            });
  const auto at = static_cast<size_t>(middle - rows.begin());
  if (at == begin || at == end) return leaf();  // two values so near that their middle is one of them
  const int left = grow(s, residual, rows, begin, at, depth - 1, o), right = grow(s, residual, rows, at, end, depth - 1, o);
  nodes_.push_back({best.feature, best.value, best.absent_left, left, right});
  return static_cast<int>(nodes_.size()) - 1;
}

double Trees::predict(std::span<const double> row) const {
  double v = mean_;
  for (int root : roots_) {
    int n = root;
    while (nodes_[static_cast<size_t>(n)].feature >= 0) {
      const Node& node = nodes_[static_cast<size_t>(n)];
      const double x = row[static_cast<size_t>(node.feature)];
      n = (std::isnan(x) ? node.absent_left : x < node.value) ? node.left : node.right;
    }
    v += rate_ * nodes_[static_cast<size_t>(n)].value;
  }
  return v;
}

// A line a node, children before their parents: "leaf VALUE", "by FEATURE VALUE LEFT RIGHT less|absent" (who goes left with those that have
// less), "root" behind the last node of each tree. Values in ten-thousandths.
std::string Trees::text() const {
  const auto whole = [](double v) { return std::llround(1e4 * v); };
  std::string out = fmt::format("start {} rate {}\n", whole(mean_), whole(rate_));
  size_t root = 0;
  for (size_t i = 0; i < nodes_.size(); ++i) {
    const Node& n = nodes_[i];
    if (n.feature < 0) out += fmt::format("leaf {}\n", whole(n.value));
    else out += fmt::format("by {} {} {} {} {}\n", n.feature, whole(n.value), n.left, n.right, n.absent_left ? "absent" : "less");
    if (root < roots_.size() && roots_[root] == static_cast<int>(i)) out += "root\n", ++root;
  }
  return out;
}

Trees Trees::read(std::string_view text, size_t features) {
  Words words(text, "a cost model");
  Trees t;
  words.expect("start"), t.mean_ = words.real();
  words.expect("rate"), t.rate_ = words.real();
  while (!words.at_end()) {
    const std::string_view word = words.next();
    const auto made = static_cast<int64_t>(t.nodes_.size());
    if (word == "root" && made > 0) {
      t.roots_.push_back(static_cast<int>(made) - 1);
      continue;
    }
    Node n;
    if (word == "leaf") {
      n.value = words.real();
    } else if (word == "by") {
      n.feature = static_cast<int>(words.whole(0, static_cast<int64_t>(features) - 1));
      n.value = words.real();
      n.left = static_cast<int>(words.whole(0, made - 1)), n.right = static_cast<int>(words.whole(0, made - 1));
      n.absent_left = words.one_of("absent", "less");
    } else {
      words.refuse(word, "'leaf', 'by' or 'root'");
    }
    t.nodes_.push_back(n);
  }
  return t;
}

double rank_correlation(std::span<const double> a, std::span<const double> b) {
  const auto ranks = [](std::span<const double> v) {
    std::vector<size_t> order(v.size());
    std::iota(order.begin(), order.end(), size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](size_t i, size_t j) { return v[i] < v[j]; });
    std::vector<double> r(v.size());
    for (size_t i = 0; i < order.size();) {
      size_t end = i + 1;
      while (end < order.size() && v[order[end]] == v[order[i]]) ++end;
      for (size_t k = i; k < end; ++k) r[order[k]] = static_cast<double>(i + end - 1) / 2;
      i = end;
    }
    return r;
  };
  if (a.size() < 2 || a.size() != b.size()) return 0;
  const std::vector<double> x = ranks(a), y = ranks(b);
  const double middle = static_cast<double>(a.size() - 1) / 2;
  double xy = 0, xx = 0, yy = 0;
  for (size_t i = 0; i < x.size(); ++i) {
    xy += (x[i] - middle) * (y[i] - middle);
    xx += (x[i] - middle) * (x[i] - middle);
    yy += (y[i] - middle) * (y[i] - middle);
  }
  return xx > 0 && yy > 0 ? xy / std::sqrt(xx * yy) : 0;
}

}  // namespace lathe::lower
