// What was met of an activation, and the range of bytes for it.
#pragma once

#include <cstdint>
#include <utility>
#include <vector>

#include "lathe/narrow.hpp"

namespace lathe::narrowing {

class Met {
 public:
  // First pass: extremes; numbers that are not finite are counted. Second pass: how they are spread between the extremes.
  void see(const Tensor& t);
  void spread(const Tensor& t);
  // The range chosen; always holds zero.
  std::pair<double, double> range(const ByteOptions& options) const;

  double low = 0, high = 0;  // of finite numbers, zero among them
  bool odd = false;          // NaN or infinity was met
  bool empty() const { return low == 0 && high == 0; }

 private:
  static constexpr int kBins = 2048;
  double centre(int bin) const { return low + (high - low) * (bin + 0.5) / kBins; }
  double squared_error(double from, double to) const;
  double divergence(double from, double to) const;
  template <typename F>
  std::pair<double, double> least(F error) const;
  std::pair<double, double> within(double percentile) const;

  std::vector<double> counts_;  // zeros, which every range holds exactly, left out
};

}  // namespace lathe::narrowing
