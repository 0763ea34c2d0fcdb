#include "lower/steps/convolution.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <span>

#include "kernels/planes.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

template <typename T>
void unpack_convolution(const T* packed, int64_t filters, int64_t channels, int64_t taps, int64_t width, T* w) {
  const int64_t k = channels * taps;
  for (int64_t f = 0; f < filters; ++f) {
    const T* panel = packed + f / width * k * width + f % width;
    for (int64_t c = 0; c < channels; ++c) {
      for (int64_t t = 0; t < taps; ++t) w[(f * channels + c) * taps + t] = panel[(t * channels + c) * width];
    }
  }
}

// `T` as the model keeps them: float, or 16 bits.
template <typename T>
Location pack_as(PlanBuilder& b, const ConvolutionMatch& m, ValueId v, PackForm form, int64_t width) {
  const int64_t groups = m.groups, filters = m.group_filters, channels = m.group_channels, taps = m.taps, depth = m.depth,
                panels = (filters + width - 1) / width, count = groups * panels * depth * width;
  const int64_t held = (count * static_cast<int64_t>(sizeof(T)) + 3) / 4;
  const auto make = [&] {
    const Tensor w = b.constant(v);
    auto packed = floats(held);
    auto* to = reinterpret_cast<T*>(packed.get());
    for (int64_t i = 0; i < groups; ++i)
      pack_convolution(static_cast<const T*>(w.data()) + i * filters * depth, filters, channels, taps, width,
                       to + i * panels * depth * width, 0, panels);
    if (has_huge_weights(w)) b.keep_original(v);
    else
      b.release_after_packing(v, [=, dtype = w.dtype(), shape = w.shape()] {
        Tensor back(dtype, shape);
        for (int64_t i = 0; i < groups; ++i)
          unpack_convolution(reinterpret_cast<const T*>(packed.get()) + i * panels * depth * width, filters, channels, taps, width,
                             static_cast<T*>(back.data()) + i * filters * depth);
        return back;
      });
    return entry_of(packed, held);
  };
  return {b.packed({v, form, {width, groups}}, static_cast<size_t>(held) * sizeof(float), make)};
}

// What the kernel sees of a volume is one slice, where it stands.
bool sees_slices(const ConvolutionMatch& m) {
  const ops::Window& w = m.window;
  return w.axes() == 3 && w.kernel[0] == 1 && w.strides[0] == 1 && w.pads_begin[0] == 0 && w.pads_end[0] == 0 && w.out[0] == m.xs[2];
}

void to_pictures(ConvolutionMatch& m) {
  m.slices = m.xs[2];
  m.xs = {m.xs[0] * m.slices, m.xs[1], m.xs[3], m.xs[4]};
  m.ws.erase(m.ws.begin() + 2);
  ops::Window& w = m.window;
  for (auto* list : {&w.kernel, &w.strides, &w.dilations, &w.pads_begin, &w.pads_end, &w.out}) list->erase(list->begin());
}

// Nothing when images do not begin as many slices apart as they have.
std::optional<PictureInput> as_pictures(const PlanBuilder& b, const ConvolutionMatch& m, const Location& at) {
  if (m.slices == 1) return PictureInput{at, strides_at(at, m.xs)};
  const Shape whole = b.shape(m.input());
  const auto s = strides_at(at, whole);
  if (whole[0] > 1 && s[0] != m.slices * s[2]) return std::nullopt;
  PictureInput made{at, {s[2], s[1], s[3], s[4]}};
  if (!at.contiguous()) made.at.strides = made.strides;
  return made;
}

}  // namespace

PictureInput channels_last_input(PlanBuilder& b, const ConvolutionMatch& m) {
  const Location at = b.strided(m.input(), Layout::channels_last);
  if (auto made = as_pictures(b, m, at)) return *made;
  return as_pictures(b, m, b.contiguous(m.input(), Layout::channels_last)).value();
}

PictureInput any_input(PlanBuilder& b, const ConvolutionMatch& m) {
  if (auto made = as_pictures(b, m, b.locate(m.input()))) return *made;
  return channels_last_input(b, m);
}

bool has_huge_weights(const Tensor& w) {
  if (w.dtype() == DType::f16) return false;
  if (w.dtype() == DType::f32) return std::ranges::any_of(w.as<float>(), [](float x) { return std::fabs(x) >= 1e18f; });
  constexpr uint16_t kLarge = 0x5d5e;  // 1e18 in bf16
  return std::ranges::any_of(std::span(static_cast<const uint16_t*>(w.data()), static_cast<size_t>(w.size())),
                             [](uint16_t h) { return (h & 0x7fff) >= kLarge; });
}

ConvolutionPanels pack_panels_of(PlanBuilder& b, const ConvolutionMatch& m, int64_t width) {
  const kernels::PanelType type = tile_form(m).b;
  if (!m.narrow) return {pack_as<float>(b, m, m.weights(), PackForm::convolution, width), type};
  return {pack_as<uint16_t>(b, m, m.narrow->values, PackForm::convolution_16, width), type};
}

bool pads_rows(const ops::Window& window, int64_t channels) {
  return channels <= 8 && window.axes() == 2 && window.kernel[1] > 1 && window.dilations[1] == 1;
}

// A weight of NaN or infinity on a picture's edge: plain evaluation leaves out what stands in the padding, the dense kernel would make NaN
// of it. Such a model is broken, but it should be broken in the same places everywhere.
bool is_convolution(const GraphView& view, const Node& n) {
  return n.op == "Conv" && !n.outputs.empty() && all_f32(view.graph(), n) && view.shape(n.inputs[0]).size() <= 5 &&
         finite_weights(view, n.inputs[1]);
}

std::unique_ptr<ConvolutionMatch> match_convolution(const GraphView& view, const Group& group) {
  if (group.role != Anchor::tiles || group.joined || view.node(group.anchor).op != "Conv") return nullptr;
  auto m = std::make_unique<ConvolutionMatch>(view, group, StepKind::convolution);
  const Node& n = m->node();
  m->xs = view.shape(n.inputs[0]);
  m->ws = view.shape(n.inputs[1]);
  m->window = ops::read_window(n, spatial(m->xs), spatial(m->ws));
  if (group.ahead().empty() && sees_slices(*m)) to_pictures(*m);
  m->epilogue = epilogue_of(view, group, given(n.inputs, 2) ? n.inputs[2] : kAbsent);
  m->narrow = view.narrow(n.inputs[1]);
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
  m->work.bytes = 4 * (read + static_cast<double>(element_count(m->ws)) / (m->narrow ? 2 : 1) + outputs);
  return m;
}

bool fits_planes(const ConvolutionMatch& m) {
  return m.groups > 1 && m.group_channels == m.group_filters && m.group_channels <= kernels::kMostGroup &&
         std::has_single_bit(static_cast<uint64_t>(m.group_channels)) && m.taps <= kernels::kMaxPlaneTaps;
}

bool fits_padded_rows(const ConvolutionMatch& m) { return !fits_planes(m) && m.groups == 1 && pads_rows(m.window, m.group_channels); }

}  // namespace lathe::lower
