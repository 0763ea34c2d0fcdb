// Transposed convolution as ordinary ones: output pixels with the same remainder by the stride read the same taps, so each such phase is
// a dense convolution of its own whose results stand a stride apart. Nothing is scattered, nothing added up in memory.
#include <algorithm>
#include <cstring>

#include "base/memory.hpp"
#include "kernels/dense.hpp"
#include "lower/lowering.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

// One axis of one phase: which taps it reads, and for each of its outputs where (in input positions; -1 outside).
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
  struct Piece {    // a phase of both axes
    Phase y, x;     // `at` in floats
    Place weights;  // [group] packed, k = tap * channels + channel
  };
  std::vector<Piece> pieces;
  std::vector<float> bias, zeros;
  Place input, output;
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

}  // namespace

bool lower_transposed(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  if (n.op != "ConvTranspose" || !n.domain.empty()) return false;
  const auto f32 = [&](ValueId v) { return l.is_static(v) && l.dtype(v) == DType::f32; };
  const bool biased = n.inputs.size() > 2 && n.inputs[2] != kAbsent;
  if (!f32(n.inputs[0]) || !f32(n.outputs[0]) || !l.is_constant(n.inputs[1]) || l.dtype(n.inputs[1]) != DType::f32) return false;
  if (biased && (!l.is_constant(n.inputs[2]) || l.dtype(n.inputs[2]) != DType::f32)) return false;
  const Shape xs = l.shape(n.inputs[0]), ws = l.shape(n.inputs[1]), ys = l.shape(n.outputs[0]);
  if (xs.size() < 3 || xs.size() > 4 || element_count(xs) == 0 || element_count(ys) == 0) return false;
  const int64_t groups = n.integer("group", 1);
  if (groups < 1 || ws.size() != xs.size() || ws[0] != xs[1] || xs[1] % groups != 0) return false;  // plain evaluation tells
  if (biased && element_count(l.shape(n.inputs[2])) != ws[1] * groups) return false;
  const std::span<const int64_t> in = std::span<const int64_t>(xs).subspan(2), kernel_shape = std::span<const int64_t>(ws).subspan(2);
  const ops::TransposeGeometry t = ops::transpose_geometry(n, in, kernel_shape);
  auto kernel = std::make_unique<TransposedKernel>();
  TransposedKernel& k = *kernel;
  const bool flat = in.size() == 1;
  k.images = xs[0];
  k.groups = groups;
  k.channels = xs[1] / k.groups;
  k.filters = ws[1];
  const int64_t in_w = in.back(), kh = flat ? 1 : kernel_shape[0], kw = kernel_shape.back(), taps = kh * kw;
  k.input = l.place_with_gaps(n.inputs[0], Layout::channels_last);
  const auto apart = strides_at(k.input, xs);
  k.in_image = apart[0];
  k.out_h = flat ? 1 : t.out[0];
  k.out_w = t.out.back();
  k.stride_y = flat ? 1 : t.strides[0];
  k.stride_x = t.strides.back();
  const kernels::Isa isa = l.options().isa;
  k.dense = kernels::dense(isa);
  k.width = kernels::panel_width(isa);
  k.panels = (k.filters + k.width - 1) / k.width;
  Phase single;
  single.count = 1;
  single.taps = {0};
  single.at = {0};
  const auto ys_of = flat ? std::vector<Phase>{single} : phases_of(t, 0, in[0], kh);
  const auto xs_of = phases_of(t, in.size() - 1, in_w, kw);
  Step step;
  const ValueId w_value = n.inputs[1];
  const int64_t channels = k.channels, filters = k.filters, panels = k.panels, width = k.width;
  struct Made {
    std::vector<int64_t> taps;  // of the kernel as a whole, in the order of k
    std::shared_ptr<float> panels;
  };
  std::vector<Made> made;
  size_t taps_made = 0;
  for (Phase y : ys_of) {
    for (int64_t& a : y.at) a = a < 0 ? -1 : a * apart[2];
    for (Phase x : xs_of) {
      for (int64_t& a : x.at) a = a < 0 ? -1 : a * apart.back();
      std::vector<int64_t> here;
      for (int64_t ky : y.taps) {
        for (int64_t kx : x.taps) here.push_back(ky * kw + kx);
      }
      const int64_t depth = static_cast<int64_t>(here.size()) * channels, count = groups * panels * depth * width;
      const auto make = [&] {
        const Tensor w = l.constant(w_value);
        const float* raw = w.as<float>().data();
        auto packed = floats(count);
        std::vector<float> b(static_cast<size_t>(depth * filters));
        for (int64_t i = 0; i < groups; ++i) {
          for (size_t at = 0; at < here.size(); ++at) {
            for (int64_t c = 0; c < channels; ++c) {
              for (int64_t f = 0; f < filters; ++f)
                b[(at * channels + c) * filters + f] = raw[((i * channels + c) * filters + f) * taps + here[at]];
            }
          }
          kernels::pack_panels(b.data(), filters, 1, depth, filters, width, packed.get() + i * panels * depth * width, 0, panels);
        }
        made.push_back({here, packed});
        taps_made += here.size();
        return entry_of(packed, count);
      };
      TransposedKernel::Piece piece;
      PackKey key{w_value, PackForm::transposed, {width, groups}};
      key.geometry.insert(key.geometry.end(), here.begin(), here.end());
      piece.weights = {l.derived(key, static_cast<size_t>(count) * sizeof(float), make)};
      step.reads.push_back(piece.weights.buffer);
      piece.y = y;
      piece.x = std::move(x);
      k.pieces.push_back(std::move(piece));
    }
  }
  if (taps_made == static_cast<size_t>(taps)) {  // all of them, now: the original can be made from them again
    l.release_after_packing(w_value, [=, shape = ws] {
      Tensor back(DType::f32, shape);
      float* raw = back.as<float>().data();
      for (const Made& m : made) {
        const int64_t depth = static_cast<int64_t>(m.taps.size()) * channels;
        std::vector<float> b(static_cast<size_t>(depth * filters));
        for (int64_t i = 0; i < groups; ++i) {
          kernels::unpack_panels(m.panels.get() + i * panels * depth * width, depth, filters, width, b.data(), filters, 1);
          for (size_t at = 0; at < m.taps.size(); ++at) {
            for (int64_t c = 0; c < channels; ++c) {
              for (int64_t f = 0; f < filters; ++f)
                raw[((i * channels + c) * filters + f) * taps + m.taps[at]] = b[(at * channels + c) * filters + f];
            }
          }
        }
      }
      return back;
    });
  } else if (!made.empty()) {
    l.weights().keep_raw(w_value);
  }
  k.zeros.assign(static_cast<size_t>(k.channels), 0);
  if (biased) {
    const Tensor bias = l.constant(n.inputs[2]);
    k.bias.assign(bias.as<float>().begin(), bias.as<float>().end());
    l.weights().keep_raw(n.inputs[2]);
  }
  k.k_block = 576;
  k.panel_block =
      std::max<int64_t>(1, l.options().block_bytes / std::max<int64_t>(1, std::min<int64_t>(taps * k.channels, k.k_block) * k.width * 4));
  step.kind = "transposed convolution";
  step.nodes = l.names(group);
  k.output = l.define_rows(n.outputs[0], Layout::channels_last, k.out_pixel);
  step.reads.push_back(k.input.buffer);
  step.writes = {k.output.buffer};
  step.flops = 2.0 * static_cast<double>(element_count(xs)) * static_cast<double>(k.filters * taps);
  step.bytes = 4.0 * static_cast<double>(element_count(xs) + element_count(ws) + element_count(ys));
  step.recipe = fmt::format("{} phases, {} {}x{} tile{}", k.pieces.size(), kernels::name(isa), kernels::max_rows(isa), k.width,
                            biased ? ", bias" : "");
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
