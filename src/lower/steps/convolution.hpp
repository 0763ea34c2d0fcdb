// What the families of convolutions share: what can be one, its sizes, how its weights are packed into panels.
#pragma once

#include <memory>

#include "lower/fuse/epilogue.hpp"
#include "lower/fuse/window.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

struct ConvolutionMatch : Match {
  using Match::Match;
  Shape xs, ws;
  ops::Window window;
  Epilogue epilogue;
  int64_t groups = 1, group_channels = 0, group_filters = 0, taps = 1;
  int64_t rows = 0;   // output pixels of all images
  int64_t depth = 0;  // K: channels of the group times taps
  ValueId input() const { return node().inputs[0]; }
  ValueId weights() const { return node().inputs[1]; }
};

// Whether the node can head a step of one of the convolution families.
bool is_convolution(const GraphView& view, const Node& node);
// Nothing when the group is no convolution.
std::unique_ptr<ConvolutionMatch> match_convolution(const GraphView& view, const Group& group);
// Depthwise layers and small groups have a kernel of their own.
bool fits_planes(const ConvolutionMatch& m);
// First layers: with few channels a tap is a very short run. A padded copy makes each kernel row one run.
bool pads_rows(const ops::Window& window, int64_t channels);
bool fits_padded_rows(const ConvolutionMatch& m);

// W [filters, channels, taps] of one group to panels: k = tap * channels + channel. Panels [begin, end).
void pack_convolution(const float* w, int64_t filters, int64_t channels, int64_t taps, int64_t width, float* out, int64_t begin,
                      int64_t end);

}  // namespace lathe::lower
