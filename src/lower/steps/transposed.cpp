// Transposed convolution as ordinary ones: output pixels with the same remainder by the stride read the same taps, so each such phase is
// a dense convolution of its own whose results are a stride apart. Nothing is scattered, nothing added up in memory.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "kernels/dense.hpp"
#include "lower/fuse/window.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

// One axis of one phase: which taps it reads, and for each of its outputs where in the input (in positions; -1 outside).
struct Phase {
  int64_t first = 0, count = 0;  // outputs first, first + stride, ...
  std::vector<int64_t> taps, at;
};

std::vector<Phase> phases_of(const ops::TransposeGeometry& g, size_t axis, int64_t in, int64_t kernel) {
  const int64_t stride = g.strides[axis];
  std::vector<Phase> out;
  for (int64_t f = 0; f < std::min(stride, g.out[axis]); ++f) {
    Phase p;
    p.first = f;
    p.count = (g.out[axis] - f + stride - 1) / stride;
    for (int64_t k = 0; k < kernel; ++k) {
      if ((((f + g.begin[axis] - k * g.dilations[axis]) % stride) + stride) % stride == 0) p.taps.push_back(k);
    }
    for (int64_t o = 0; o < p.count; ++o) {
      for (int64_t k : p.taps) {
        const int64_t i = (f + o * stride + g.begin[axis] - k * g.dilations[axis]) / stride;
        const bool inside = f + o * stride + g.begin[axis] - k * g.dilations[axis] >= 0 && i < in;
        p.at.push_back(inside ? i : -1);
      }
    }
    out.push_back(std::move(p));
  }
  return out;
}

class TransposedKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  struct Piece {       // a phase of both axes
    Phase y, x;        // `at` in floats
    Location weights;  // [group] packed, k = tap * channels + channel
  };
  std::vector<Piece> pieces;
  std::vector<float> bias, zeros;
  Location input, output;
  int64_t images = 0, groups = 1, channels = 0, filters = 0, in_image = 0, out_pixel = 0, out_h = 0, out_w = 0, stride_y = 1, stride_x = 1,
          width = 0, panels = 0, panel_block = 0, k_block = 0;

  void run(const StepContext& c) const override {
    // A task is one line of one phase: an output row's pixels, a stride apart.
    int64_t lines = 0;
    for (const Piece& p : pieces) lines += p.y.count;
    c.workers.each(images * lines, [&](int64_t task, int) {
      const int64_t image = task / lines;
      int64_t line = task % lines;
      size_t which = 0;
      while (line >= pieces[which].y.count) line -= pieces[which++].y.count;
      const Piece& p = pieces[which];
      const auto ky = static_cast<int64_t>(p.y.taps.size()), kx = static_cast<int64_t>(p.x.taps.size());
      constexpr int64_t kNowhere[1] = {0};
      for (int64_t g = 0; g < groups; ++g) {
        kernels::WindowRows w;
        w.base = pointer<const float>(c, input) + image * in_image + g * channels;
        w.z = kNowhere;
        w.y = p.y.at.data() + line * ky;
        w.x = p.x.at.data();
        w.out_w = p.x.count;
        w.kh = ky;
        w.kw = kx;
        w.zeros = zeros.data();
        kernels::DenseArguments d;
        d.window = &w;
        d.segments = ky * kx;
        d.run = channels;
        d.row_end = p.x.count;
        d.panel_end = panels;
        d.columns = filters;
        d.b = pointer<const float>(c, p.weights) + g * panels * ky * kx * channels * width;
        d.c = pointer<float>(c, output) + ((image * out_h + p.y.first + line * stride_y) * out_w + p.x.first) * out_pixel + g * filters;
        d.ldc = stride_x * out_pixel;
        d.k_block = k_block;
        d.panel_block = panel_block;
        if (!bias.empty()) d.epilogue.bias = bias.data() + g * filters;
        dense(d);
      }
    });
  }
};

struct TransposedMatch : Match {
  using Match::Match;
  Shape xs, ws;
  ops::TransposeGeometry geometry;
  int64_t groups = 1, channels = 0, filters = 0;  // of a group
  bool flat() const { return xs.size() == 3; }
  int64_t kernel_height() const { return flat() ? 1 : ws[2]; }
  int64_t kernel_width() const { return ws.back(); }
  int64_t taps() const { return kernel_height() * kernel_width(); }
  bool biased() const { return given(node().inputs, 2); }
};

class TransposedFamily : public StepFamily {
 public:
  std::string_view name() const override { return "convolution.transposed"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (n.op != "ConvTranspose" || !n.domain.empty() || !view.is_static(n.inputs[0]) || !view.is_f32(n.outputs[0])) return nullptr;
    auto m = std::make_unique<TransposedMatch>(view, group, StepKind::transposed_convolution);
    const auto constant = [&](ValueId v) { return view.is_constant(v) && view.dtype(v) == DType::f32; };
    if (!constant(n.inputs[1]) || (m->biased() && !constant(n.inputs[2]))) return nullptr;
    m->xs = view.shape(n.inputs[0]), m->ws = view.shape(n.inputs[1]);
    const Shape ys = view.shape(n.outputs[0]);
    if (m->xs.size() < 3 || m->xs.size() > 4 || element_count(m->xs) == 0 || element_count(ys) == 0) return nullptr;
    m->groups = n.integer("group", 1);
    // What does not fit together, plain evaluation reports.
    if (m->groups < 1 || m->ws.size() != m->xs.size() || m->ws[0] != m->xs[1] || m->xs[1] % m->groups != 0) return nullptr;
    if (m->biased() && element_count(view.shape(n.inputs[2])) != m->ws[1] * m->groups) return nullptr;
    m->channels = m->xs[1] / m->groups;
    m->filters = m->ws[1];
    m->geometry = ops::transpose_geometry(n, spatial(m->xs), spatial(m->ws));
    m->work.flops = 2.0 * static_cast<double>(element_count(m->xs)) * static_cast<double>(m->filters * m->taps());
    m->work.bytes = 4.0 * static_cast<double>(element_count(m->xs) + element_count(m->ws) + element_count(ys));
    return m;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::channels_last, Order::channels_last, Order::channels_last}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const TransposedMatch&>(match);
    const int64_t width = kernels::panel_width(p.machine.isa);
    space.knob("k_block", kDepthBlock, 64, kDepthBlock, 16, true);
    space.knob("panel_block", panels_of_block(p.machine, std::min(m.taps() * m.channels, kDepthBlock), width), 1,
               (m.filters + width - 1) / width);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const TransposedMatch&>(match);
    auto kernel = std::make_unique<TransposedKernel>();
    TransposedKernel& k = *kernel;
    Step step = begin_step(b, m);
    const kernels::Isa isa = p.machine.isa;
    k.images = m.xs[0];
    k.groups = m.groups, k.channels = m.channels, k.filters = m.filters;
    k.input = b.strided(m.node().inputs[0], Layout::channels_last);
    const auto strides = strides_at(k.input, m.xs);
    k.in_image = strides[0];
    k.out_h = m.flat() ? 1 : m.geometry.out[0];
    k.out_w = m.geometry.out.back();
    k.stride_y = m.flat() ? 1 : m.geometry.strides[0];
    k.stride_x = m.geometry.strides.back();
    k.dense = kernels::dense(isa);
    k.width = kernels::panel_width(isa);
    k.panels = (k.filters + k.width - 1) / k.width;
    k.k_block = recipe.at("k_block"), k.panel_block = recipe.at("panel_block");
    bind_phases(b, m, strides, k, step);
    k.zeros.assign(static_cast<size_t>(k.channels), 0);
    if (m.biased()) {
      const Tensor bias = b.constant(m.node().inputs[2]);
      k.bias.assign(bias.as<float>().begin(), bias.as<float>().end());
      b.keep_original(m.node().inputs[2]);
    }
    k.output = b.define_rows(m.result(), Layout::channels_last, k.out_pixel);
    step.reads.push_back(k.input.buffer);
    step.writes = {k.output.buffer};
    step.text = fmt::format("{} phases, {} {}x{} tile{}", k.pieces.size(), kernels::name(isa), kernels::max_rows(isa), k.width,
                            m.biased() ? ", bias" : "");
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  struct Packed {
    std::vector<int64_t> taps;  // of the kernel as a whole, in the order of k
    std::shared_ptr<float> panels;
  };

  // Panels of the taps of one phase, group by group: k = tap * channels + channel.
  static std::shared_ptr<float> pack(const TransposedMatch& m, const Tensor& w, const std::vector<int64_t>& taps, int64_t width) {
    const int64_t channels = m.channels, filters = m.filters, panels = (filters + width - 1) / width,
                  depth = static_cast<int64_t>(taps.size()) * channels;
    auto packed = floats(m.groups * panels * depth * width);
    std::vector<float> b(static_cast<size_t>(depth * filters));
    for (int64_t i = 0; i < m.groups; ++i) {
      for (size_t at = 0; at < taps.size(); ++at) {
        for (int64_t c = 0; c < channels; ++c) {
          for (int64_t f = 0; f < filters; ++f)
            b[(at * channels + c) * filters + f] = w.as<float>()[((i * channels + c) * filters + f) * m.taps() + taps[at]];
        }
      }
      kernels::pack_panels(b.data(), filters, 1, depth, filters, width, packed.get() + i * panels * depth * width, 0, panels);
    }
    return packed;
  }

  // The original from all of its phases.
  static std::function<Tensor()> unpacking(const TransposedMatch& m, std::vector<Packed> made, int64_t width) {
    return [=, shape = m.ws, groups = m.groups, channels = m.channels, filters = m.filters, all = m.taps()] {
      Tensor back(DType::f32, shape);
      const int64_t panels = (filters + width - 1) / width;
      for (const Packed& p : made) {
        const int64_t depth = static_cast<int64_t>(p.taps.size()) * channels;
        std::vector<float> b(static_cast<size_t>(depth * filters));
        for (int64_t i = 0; i < groups; ++i) {
          kernels::unpack_panels(p.panels.get() + i * panels * depth * width, depth, filters, width, b.data(), filters, 1);
          for (size_t at = 0; at < p.taps.size(); ++at) {
            for (int64_t c = 0; c < channels; ++c) {
              for (int64_t f = 0; f < filters; ++f)
                back.as<float>()[((i * channels + c) * filters + f) * all + p.taps[at]] = b[(at * channels + c) * filters + f];
            }
          }
        }
      }
      return back;
    };
  }

  static void bind_phases(PlanBuilder& b, const TransposedMatch& m, const std::vector<int64_t>& strides, TransposedKernel& k, Step& step) {
    Phase single;
    single.count = 1;
    single.taps = {0};
    single.at = {0};
    const auto in = spatial(m.xs);
    const auto rows = m.flat() ? std::vector<Phase>{single} : phases_of(m.geometry, 0, in[0], m.kernel_height());
    const auto columns = phases_of(m.geometry, in.size() - 1, in.back(), m.kernel_width());
    const ValueId w = m.node().inputs[1];
    std::vector<Packed> made;
    size_t taps_made = 0;
    for (Phase y : rows) {
      for (int64_t& a : y.at) a = a < 0 ? -1 : a * strides[2];
      for (Phase x : columns) {
        for (int64_t& a : x.at) a = a < 0 ? -1 : a * strides.back();
        std::vector<int64_t> taps;
        for (int64_t ky : y.taps) {
          for (int64_t kx : x.taps) taps.push_back(ky * m.kernel_width() + kx);
        }
        const int64_t count = m.groups * k.panels * static_cast<int64_t>(taps.size()) * m.channels * k.width;
        const auto make = [&] {
          made.push_back({taps, pack(m, b.constant(w), taps, k.width)});
          taps_made += taps.size();
          return entry_of(made.back().panels, count);
        };
        PackKey key{w, PackForm::transposed, {k.width, m.groups}};
        key.geometry.insert(key.geometry.end(), taps.begin(), taps.end());
        TransposedKernel::Piece piece;
        piece.weights = {b.packed(key, static_cast<size_t>(count) * sizeof(float), make)};
        step.reads.push_back(piece.weights.buffer);
        piece.y = y;
        piece.x = std::move(x);
        k.pieces.push_back(std::move(piece));
      }
    }
    // All of them, now: the original can be made from them again.
    if (taps_made == static_cast<size_t>(m.taps())) b.release_after_packing(w, unpacking(m, std::move(made), k.width));
    else if (!made.empty()) b.keep_original(w);
  }
};

}  // namespace

const StepFamily& convolution_transposed() {
  static const TransposedFamily family;
  return family;
}

}  // namespace lathe::lower
