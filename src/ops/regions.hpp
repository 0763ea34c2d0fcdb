// Where RoiAlign reads.
#pragma once

#include <cstdint>

#include "lathe/graph.hpp"

namespace lathe::ops {

// A region of interest in pixels, and how many samples each of its bins takes.
struct Region {
  double y1 = 0, x1 = 0, bin_h = 0, bin_w = 0;
  int64_t ny = 0, nx = 0;
};

struct RegionRule {
  int64_t out_height = 1, out_width = 1, ratio = 0;
  double scale = 1;
  bool half = false, max = false;

  // Throws Error (value) for attributes out of range.
  static RegionRule of(const Node& node, int64_t version);
  // Of a box (x1, y1, x2, y2). Throws Error (value) when it is absurdly large.
  Region region(const double* box) const;
  // The four pixels around sample (a, b) of bin (i, j), and their weights; indices are -1 where the sample lies outside.
  void corners(const Region& r, int64_t i, int64_t j, int64_t a, int64_t b, int64_t height, int64_t width, int64_t* index,
               double* weight) const;
};
// Throws Error (value) when there is no such picture.
void check_batch(int64_t index, int64_t batch);

}  // namespace lathe::ops
