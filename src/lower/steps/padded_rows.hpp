// The input of a first layer with its padding written out.
#pragma once

#include <optional>
#include <vector>

#include "kernels/planes.hpp"
#include "lower/fuse/row_tape.hpp"

namespace lathe::lower {

// A kernel row is then one run of floats.
struct PadCopy {
  Location from, to;
  int64_t images = 0, channels = 0, in_h = 0, in_w = 0, out_h = 0, out_w = 0, top = 0, left = 0;
  std::vector<int64_t> strides;   // of the source: image, channel, row, column
  std::optional<RowTape> before;  // what makes a line of a channel; the source is not read then
  Location lines_scratch;         // for the lines of a row, by task
  int64_t tasks = 1;
  kernels::Interleave interleave = nullptr;

  void run_row(const StepContext& c, int64_t row, int64_t task) const;
};

}  // namespace lathe::lower
