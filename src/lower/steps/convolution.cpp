#include "lower/steps/convolution.hpp"

#include <algorithm>
#include <bit>

#include "kernels/planes.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

// A weight of NaN or infinity on a picture's edge: plain evaluation leaves out what stands in the padding, the dense kernel would make NaN
// of it. Such a model is broken, but it should be broken in the same places everywhere.
bool finite_weights(const Graph& g, ValueId v) {
  const auto& c = g.values[v].constant;
  if (!c || c->data() == nullptr) return true;  // not known, or looked at before it was packed
  // A sum of zeros unless something is not finite; without a branch for each.
  float sum = 0;
  for (float x : c->as<float>()) sum += x * 0.0f;
  return sum == 0;
}

}  // namespace

void pack_convolution(const float* w, int64_t filters, int64_t channels, int64_t taps, int64_t width, float* out, int64_t begin,
                      int64_t end) {
  const int64_t k = channels * taps;
  for (int64_t p = begin; p < end; ++p) {
    float* panel = out + p * k * width;
    for (int64_t j = 0; j < width; ++j) {
      if (p * width + j >= filters) {
        for (int64_t i = 0; i < k; ++i) panel[i * width + j] = 0;
        continue;
      }
      const float* src = w + (p * width + j) * k;
      for (int64_t c = 0; c < channels; ++c) {
        for (int64_t t = 0; t < taps; ++t) panel[(t * channels + c) * width + j] = src[c * taps + t];
      }
    }
  }
}

bool pads_rows(const ops::Window& window, int64_t channels) {
  return channels <= 8 && window.axes() == 2 && window.kernel[1] > 1 && window.dilations[1] == 1;
}

bool is_convolution(const GraphView& view, const Node& n) {
  return n.op == "Conv" && !n.outputs.empty() && all_f32(view.graph(), n) && view.shape(n.inputs[0]).size() <= 5 &&
         finite_weights(view.graph(), n.inputs[1]);
}

std::unique_ptr<ConvolutionMatch> match_convolution(const GraphView& view, const Group& group) {
  if (group.role != Anchor::tiles || view.node(group.anchor).op != "Conv") return nullptr;
  auto m = std::make_unique<ConvolutionMatch>(view, group, StepKind::convolution);
  const Node& n = m->node();
  m->xs = view.shape(n.inputs[0]);
  m->ws = view.shape(n.inputs[1]);
  m->window = ops::read_window(n, spatial(m->xs), spatial(m->ws));
  m->epilogue = epilogue_of(view, group, given(n.inputs, 2) ? n.inputs[2] : kAbsent);
  m->groups = n.integer("group", 1);
  m->group_channels = m->ws[1];
  m->group_filters = m->ws[0] / m->groups;
  m->taps = m->window.taps();
  m->rows = m->xs[0] * element_count(m->window.out);
  m->depth = m->group_channels * m->taps;
  const double outputs = static_cast<double>(m->rows) * static_cast<double>(m->ws[0]);
  m->work.flops = 2 * outputs * static_cast<double>(m->depth);
  // What the input is made of, when it is made here, is counted with what makes it.
  const double read = group.ahead().empty() ? static_cast<double>(element_count(m->xs)) : 0;
  m->work.bytes = 4 * (read + static_cast<double>(element_count(m->ws)) + outputs);
  return m;
}

bool fits_planes(const ConvolutionMatch& m) {
  return m.groups > 1 && m.group_channels == m.group_filters && m.group_channels <= kernels::kMostGroup &&
         std::has_single_bit(static_cast<uint64_t>(m.group_channels)) && m.taps <= kernels::kMaxPlaneTaps;
}

bool fits_padded_rows(const ConvolutionMatch& m) { return !fits_planes(m) && m.groups == 1 && pads_rows(m.window, m.group_channels); }

}  // namespace lathe::lower
