// Convolutions in forms that no kernel is good at, as forms that one is: several filters a channel, and transposed ones of volumes, by
// channels, or to few filters.
#include <algorithm>
#include <cstring>

#include "ops/support.hpp"
#include "ops/window.hpp"
#include "passes/node_writer.hpp"

namespace lathe::passes {
namespace {

// Where each place within a stride has one of its own.
constexpr int64_t kMostConvolutions = 64;

class ConvolutionForms : public NodeWriter {
 public:
  using NodeWriter::NodeWriter;

  std::string operator()(const Node& n) {
    if (!n.domain.empty() || (n.op != "Conv" && n.op != "ConvTranspose") || n.inputs.size() < 2) return "";
    if (dtype(n.inputs[0]) != DType::f32 || dtype(n.outputs[0]) != DType::f32) return "";
    const auto x = known_shape(graph_.values[n.inputs[0]].dims), y = known_shape(graph_.values[n.outputs[0]].dims),
               w = known_shape(graph_.values[n.inputs[1]].dims);
    if (!x || !y || !w || x->size() < 3 || w->size() != x->size() || element_count(*x) == 0 || element_count(*y) == 0 ||
        element_count(*w) == 0)
      return "";
    return n.op == "Conv" ? filters_a_channel(n, *x, *w) : in_phases(n, *x, *w, *y);
  }

 private:
  // Each channel stands as often as it has filters.
  std::string filters_a_channel(const Node& n, const Shape& x, const Shape& w) {
    const int64_t channels = x[1], filters = w[0];
    if (channels < 2 || n.integer("group", 1) != channels || w[1] != 1 || filters <= channels || filters % channels != 0) return "";
    const int64_t times = filters / channels, pixels = element_count(std::span<const int64_t>(x).subspan(2));
    const ValueId apart = reshaped(n, n.inputs[0], {x[0], channels, 1, pixels});
    const ValueId repeated = put(n, "Expand", 13, {apart, integers(n.name + ".times", {x[0], channels, times, pixels})});
    List sizes(x.begin(), x.end());
    sizes[1] = filters;
    std::vector<ValueId> in = n.inputs;
    in[0] = reshaped(n, repeated, sizes);
    Attributes attributes = n.attributes;
    attributes["group"] = attribute(filters);
    put(n, "Conv", graph_.version_of(n), std::move(in), std::move(attributes), n.outputs[0]);
    return fmt::format("{} channels, each of them {} times", channels, times);
  }

  // Outputs that lie a stride apart are a convolution by every so many taps: one for each place within a stride, whose results are then put
  // between one another. All of them at once, as filters, where each has as many taps; taps that are none would make NaN of infinities.
  std::string in_phases(const Node& n, const Shape& x, const Shape& w, const Shape& y) {
    const auto axes = x.size() - 2;
    const int64_t group = n.integer("group", 1), filters = w[1] * group;
    const std::optional<Tensor> held = graph_.values[n.inputs[1]].constant;  // values move as others are added
    if (!held || held->data() == nullptr || x[1] != w[0] || group < 1 || x[1] % group != 0) return "";
    const ops::TransposeGeometry g =
        ops::transpose_geometry(n, std::span<const int64_t>(x).subspan(2), std::span<const int64_t>(w).subspan(2));
    int64_t phases = 1;
    bool alike = true;
    List pads(2 * axes), size(axes);
    for (size_t a = 0; a < axes; ++a) {
      const int64_t taps = w[a + 2], stride = g.strides[a], most = (taps + stride - 1) / stride;
      size[a] = x[a + 2] + most - 1;
      // Each place has a tap, and what is asked for lies within what is made.
      if (g.dilations[a] != 1 || taps < stride || g.begin[a] < 0 || g.begin[a] + g.out[a] > size[a] * stride) return "";
      pads[a] = pads[axes + a] = most - 1;
      phases *= stride;
      alike = alike && taps % stride == 0;
    }
    const bool by_channel = group == x[1] && group > 1;
    if (!(axes == 3 || by_channel || (filters * phases <= 4 && group == 1)) || (!alike && phases > kMostConvolutions)) return "";
    std::optional<Tensor> bias;
    if (n.inputs.size() > 2 && n.inputs[2] != kAbsent) {
      bias = graph_.values[n.inputs[2]].constant;
      if (!bias || bias->data() == nullptr || bias->size() != filters) return "";
    }
    List apart{x[0], filters};
    apart.insert(apart.end(), g.strides.begin(), g.strides.end());
    apart.insert(apart.end(), size.begin(), size.end());
    ValueId made;
    if (alike) {
      made = convolution_of(n, *held, bias, w, g.strides, pads, group, 0, phases);
    } else {
      List alone{x[0], filters, 1};
      alone.insert(alone.end(), size.begin(), size.end());
      std::vector<ValueId> each;
      for (int64_t r = 0; r < phases; ++r)
        each.push_back(reshaped(n, convolution_of(n, *held, bias, w, g.strides, pads, group, r, 1), alone));
      made = put(n, "Concat", 13, std::move(each), {{"axis", attribute(int64_t{2})}});
    }
    // Phases of each axis behind its places.
    List order{0, 1}, together{x[0], filters}, from, to, along;
    for (size_t a = 0; a < axes; ++a) {
      const auto i = static_cast<int64_t>(a), all = static_cast<int64_t>(axes);
      order.push_back(2 + all + i), order.push_back(2 + i);
      together.push_back(size[a] * g.strides[a]);
      if (g.begin[a] != 0 || g.out[a] != together.back())
        from.push_back(g.begin[a]), to.push_back(g.begin[a] + g.out[a]), along.push_back(2 + i);
    }
    if (phases > 1) made = put(n, "Transpose", 13, {reshaped(n, made, apart)}, {{"perm", attribute(order)}});
    if (along.empty()) {
      put(n, "Reshape", 13, {made, integers(n.name + ".sizes", List(y.begin(), y.end()))}, {}, n.outputs[0]);
    } else {
      put(n, "Slice", 13,
          {reshaped(n, made, together), integers(n.name + ".from", from), integers(n.name + ".to", to), integers(n.name + ".axes", along)},
          {}, n.outputs[0]);
    }
    return fmt::format("a convolution for each of {} places within a stride", phases);
  }

  // Of `count` phases from `first` on, which have as many taps: filters of a phase beside one another. A filter's taps stand last first.
  ValueId convolution_of(const Node& n, const Tensor& weights, const std::optional<Tensor>& bias, const Shape& w, const List& strides,
                         List pads, int64_t group, int64_t first, int64_t count) {
    const auto axes = strides.size();
    const int64_t depth = w[0] / group, of_group = w[1], filters = of_group * group;
    const int64_t whole = element_count(std::span<const int64_t>(w).subspan(2));
    List kernel(axes);
    for (size_t a = axes, rest = static_cast<size_t>(first); a-- > 0;) {
      const auto phase = static_cast<int64_t>(rest) % strides[a];
      rest /= static_cast<size_t>(strides[a]);
      kernel[a] = (w[a + 2] - phase + strides[a] - 1) / strides[a];
      pads[a] = kernel[a] - 1;
    }
    const int64_t taps = element_count(kernel);
    std::vector<float> factors(static_cast<size_t>(filters * count * depth * taps));
    const auto model = weights.as<float>();
    for (int64_t i = 0; i < filters * count; ++i) {
      for (int64_t t = 0; t < taps; ++t) {
        int64_t from = 0, scale = 1, phase = first + i % count, tap = t;
        for (size_t a = axes; a-- > 0;) {
          from += scale * (phase % strides[a] + (kernel[a] - 1 - tap % kernel[a]) * strides[a]);
          scale *= w[a + 2], phase /= strides[a], tap /= kernel[a];
        }
        const int64_t m = i / count;
        for (int64_t c = 0; c < depth; ++c)
          factors[static_cast<size_t>((i * depth + c) * taps + t)] =
              model[static_cast<size_t>(((m / of_group * depth + c) * of_group + m % of_group) * whole + from)];
      }
    }
    Shape shape{filters * count, depth};
    shape.insert(shape.end(), kernel.begin(), kernel.end());
    std::vector<ValueId> in{n.inputs[0], constant(n.name + ".phases", Tensor::from<float>(shape, factors))};
    if (bias) {
      std::vector<float> shifts;
      for (const float v : bias->as<float>()) shifts.insert(shifts.end(), static_cast<size_t>(count), v);
      in.push_back(constant(n.name + ".bias", Tensor::from<float>({filters * count}, shifts)));
    }
    return put(n, "Conv", 11, std::move(in), {{"kernel_shape", attribute(kernel)}, {"pads", attribute(pads)}, {"group", attribute(group)}});
  }
};

}  // namespace

Report convolution_forms(Graph& graph) { return written_anew<ConvolutionForms>(graph, "convolution forms"); }

}  // namespace lathe::passes
