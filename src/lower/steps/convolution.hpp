// What the families of convolutions share: what can be one, its sizes, how its weights are packed into panels.
#pragma once

#include <memory>

#include "kernels/dense.hpp"
#include "lower/fuse/epilogue.hpp"
#include "lower/fuse/window.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/tiles.hpp"

namespace lathe::lower {

struct ConvolutionMatch : Match {
  using Match::Match;
  Shape xs, ws;
  ops::Window window;
  Epilogue epilogue;
  std::optional<ops::NarrowWeights> narrow;  // weights as the model keeps them: of 16 bits
  int64_t groups = 1, group_channels = 0, group_filters = 0, taps = 1;
  int64_t rows = 0;   // output pixels of all images
  int64_t depth = 0;  // K: channels of the group times taps
  // Of a volume whose kernel sees one slice at a time: so many slices an image. Sizes and window are then those of pictures, an image for
  // each slice: channels-last, these are the same bytes.
  int64_t slices = 1;
  ValueId input() const { return node().inputs[0]; }
  ValueId weights() const { return node().inputs[1]; }
  bool constant_weights() const { return narrow || view->is_constant(weights()); }
};

// Where the input's pictures are: of the match's sizes.
struct PictureInput {
  Location at;
  std::vector<int64_t> strides;  // image, channel, then the spatial axes
};
// Channels-last, wherever it stands.
PictureInput channels_last_input(PlanBuilder& b, const ConvolutionMatch& m);
// In the layout that it has.
PictureInput any_input(PlanBuilder& b, const ConvolutionMatch& m);

// Whether the node can head a step of one of the convolution families.
bool is_convolution(const GraphView& view, const Node& node);
// Nothing when the group is no convolution, or several.
std::unique_ptr<ConvolutionMatch> match_convolution(const GraphView& view, const Group& group);
// Depthwise layers and small groups have a kernel of their own.
bool fits_planes(const ConvolutionMatch& m);
// First layers: with few channels a tap is a very short run. A padded copy makes each kernel row one run.
bool pads_rows(const ops::Window& window, int64_t channels);
bool fits_padded_rows(const ConvolutionMatch& m);

// W [filters, channels, taps] of one group to panels: k = tap * channels + channel. Panels [begin, end).
template <typename T>
void pack_convolution(const T* w, int64_t filters, int64_t channels, int64_t taps, int64_t width, T* out, int64_t begin, int64_t end) {
  const int64_t k = channels * taps;
  for (int64_t p = begin; p < end; ++p) {
    T* panel = out + p * k * width;
    for (int64_t j = 0; j < width; ++j) {
      if (p * width + j >= filters) {
        for (int64_t i = 0; i < k; ++i) panel[i * width + j] = 0;
        continue;
      }
      const T* src = w + (p * width + j) * k;
      for (int64_t c = 0; c < channels; ++c) {
        for (int64_t t = 0; t < taps; ++t) panel[(t * channels + c) * width + j] = src[c * taps + t];
      }
    }
  }
}

inline kernels::TileForm tile_form(const ConvolutionMatch& m) { return tile_form(*m.view, m.node(), m.narrow); }

// Numbers whose transforms might overflow: from 1e18 on.
bool has_huge_weights(const Tensor& w);

// Constant weights as panels of `width` filters, in the type that the model keeps them in; their original goes, but
// for one with huge numbers, which is looked at again.
struct ConvolutionPanels {
  Location at;
  kernels::PanelType type = kernels::PanelType::f32;
};
ConvolutionPanels pack_panels_of(PlanBuilder& b, const ConvolutionMatch& m, int64_t width);
// Constant weights of a depthwise layer or of small groups, as the kernel of planes reads them.
Location pack_planes_of(PlanBuilder& b, const ConvolutionMatch& m);

}  // namespace lathe::lower
