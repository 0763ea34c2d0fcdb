// Products and convolutions of 8-bit operands: sums in 32 bits, requantised in the same step.
#include <fmt/format.h>

#include <algorithm>

#include "kernels/dense8.hpp"
#include "lower/fuse/window.hpp"
#include "lower/steps/byte_lines.hpp"
#include "lower/steps/byte_operands.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {
namespace {

class ByteKernel : public StepKernel {
 public:
  std::optional<PaddedLines> padded;
  Location copies;  // scratch of padded lines, for each task
  kernels::Dense8 dense = nullptr;
  kernels::Dense8Arguments form;  // what does not change from run to run
  kernels::Isa isa = kernels::Isa::scalar;
  Location weights;  // of each group, one after another
  int64_t groups = 1, depth = 0, weight_numbers = 0;
  ByteFinish finish;
  bool windowed = false;
  WindowTables window;
  Location padding;  // scratch: a pixel of zero points
  Location input;
  int64_t rows = 0, group_channels = 0, group_filters = 0, panels = 0;
  Split split;

  void run(const StepContext& c) const override {
    kernels::WindowRowsOf<uint8_t> shared = window.rows<uint8_t>();
    const int32_t zero = finish.a_zero(c);
    const uint8_t* from = pointer<const uint8_t>(c, input);
    if (padding.buffer != kNoBuffer) {
      std::memset(pointer<uint8_t>(c, padding), static_cast<uint8_t>(zero), static_cast<size_t>(group_channels));
      shared.zeros = pointer<const uint8_t>(c, padding);
    }
    c.workers.each(groups * split.count(), [&](int64_t task, int) {
      const int64_t g = task / split.count(), r = task % split.count() / split.panel_tasks, p = task % split.panel_tasks;
      kernels::TapeOperand operands[kernels::kMaxSlots];
      kernels::Dense8Arguments a = form;
      a.a_zero = zero + (padded && padded->flip != 0 ? 128 : 0);
      kernels::WindowRowsOf<uint8_t> w = shared;
      const uint8_t* in = from + g * group_channels;
      if (windowed) {
        w.base = in;
        a.window = &w;
      } else {
        a.a = in;
      }
      const kernels::PackedBytes b =
          kernels::packed_bytes(isa, depth, group_filters, pointer<const int32_t>(c, weights) + g * weight_numbers);
      a.b = &b;
      a.row_begin = rows * r / split.row_tasks;
      a.row_end = rows * (r + 1) / split.row_tasks;
      a.panel_begin = panels * p / split.panel_tasks;
      a.panel_end = panels * (p + 1) / split.panel_tasks;
      finish.fill(c, g * group_filters, a, operands);
      if (!padded) return dense(a);
      uint8_t* own = pointer<uint8_t>(c, copies) + task * padded->block_bytes();
      const int64_t plane = w.out_h * w.out_w, image_bytes = padded->in_h * (padded->in_row / padded->pixel) * padded->pitch;
      for (const int64_t end = a.row_end; a.row_begin < end; a.row_begin = a.row_end) {
        const int64_t image = a.row_begin / plane, line = a.row_begin % plane / w.out_w, until = std::min(line + padded->block, w.out_h);
        a.row_end = std::min(end, image * plane + until * w.out_w);
        padded->copy(in + image * image_bytes, line, (a.row_end - 1) % plane / w.out_w + 1, static_cast<uint8_t>(zero), own);
        w.base = own - image * w.image_stride - line * padded->stride * padded->out_row;
        dense(a);
      }
    });
  }
};

class ByteFamily : public StepFamily {
 public:
  std::string_view name() const override { return "byte_product"; }
  std::span<const Numbers> numbers() const override { return kByteNumbers; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_bytes(view, group);
    return m && !m->depthwise() ? std::move(m) : nullptr;
  }

  Anchor anchor(const GraphView& view, const Node& n) const override { return byte_anchor(view, n); }

  LayoutDemand layouts(const Match& match) const override {
    const auto& m = static_cast<const ByteMatch&>(match);
    if (!m.convolves) return {};
    return {Order::channels_last, m.reals() ? Order::channels_last : Order::any, Order::channels_last};
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const ByteMatch&>(match);
    const kernels::Isa isa = p.machine.isa;
    const int64_t width = kernels::panel_width8(isa), panels = (m.filters() + width - 1) / width;
    const Split split = split_work(p.machine, m.groups >= p.machine.threads * 2 ? 1 : p.machine.threads, m.rows, panels, width,
                                   (m.depth + 3) / 4, kernels::max_rows8(isa));
    space.knob("panel_block", std::clamp<int64_t>(p.machine.block_bytes / std::max<int64_t>(1, m.depth * width * unit(isa)), 1, 16), 1, 64);
    space.knob("row_tasks", split.row_tasks, 1, m.rows);
    space.knob("panel_tasks", split.panel_tasks, 1, panels);
    // Lines that are much shorter than a tile make small tiles, for which the weights come from far too often.
    constexpr int64_t kShortest = 10;
    const bool can = can_stay(m, isa);
    space.knob("in_place", can && (!m.convolves || is_pointwise(m.window) || m.window.out.back() >= kShortest) ? 1 : 0, 0, can ? 1 : 0);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ByteMatch&>(match);
    const kernels::Isa isa = p.machine.isa;
    auto kernel = std::make_unique<ByteKernel>();
    ByteKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.arithmetic = "int8";
    k.dense = kernels::dense8(isa);
    k.isa = isa;
    k.groups = m.groups, k.depth = m.depth, k.rows = m.rows, k.group_filters = m.filters();
    k.form.a_signed = b.dtype(m.a()) == DType::i8;
    k.form.in_place = recipe.at("in_place") != 0;
    k.form.panel_block = recipe.at("panel_block");
    k.split = {recipe.at("row_tasks"), recipe.at("panel_tasks")};
    int64_t pitch = m.depth;
    k.input = m.convolves ? b.rows(m.a(), Layout::channels_last, pitch) : b.contiguous(m.a(), Layout::natural);
    step.reads.push_back(k.input.buffer);
    k.group_channels = m.convolves ? m.bs[1] : m.depth;
    if (!m.convolves || is_pointwise(m.window)) {
      k.form.run = k.group_channels;
      k.form.lda = k.form.row_stride = pitch;
    } else if (k.form.in_place || (joins_rows(m) && m.bs[1] <= kFewChannels)) {
      k.windowed = true;
      bind_lines(b, m, k, pitch, step);
    } else {
      k.window = window_tables(m.window, spatial(m.as), strides_at(k.input, m.as));
      k.windowed = true;
      k.padding = {b.scratch(static_cast<size_t>(k.group_channels))};
      step.scratch.push_back(k.padding.buffer);
      k.form.segments = m.taps;
      k.form.run = k.group_channels;
    }
    bind_weights(b, m, k, step);
    const int64_t width = kernels::panel_width8(isa);
    k.panels = (k.group_filters + width - 1) / width;
    k.finish = bind_finish(b, m, step);
    step.text = fmt::format("{}x{}x{}, {} {}, {}x{} tile, tasks {}x{}{}{}", k.rows, k.group_filters, m.depth, kernels::name(isa),
                            unit(isa) == 1 ? "four bytes a step" : "two 16-bit numbers a step", kernels::max_rows8(isa), width,
                            k.split.row_tasks, k.split.panel_tasks, k.form.in_place ? ", read in place" : "", finish_text(m));
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  // Up to so many, a copy with the padding written out is cheaper than to look up each tap by itself even where rows are gathered.
  static constexpr int64_t kFewChannels = 64;

  // A kernel row is one run of bytes, once the padding is written out.
  static bool joins_rows(const ByteMatch& m) {
    const ops::Window& w = m.window;
    return m.groups == 1 && w.axes() == 2 && w.kernel[1] > 1 && w.dilations[1] == 1;
  }

  // Weights as signed bytes have no zero points then.
  static int32_t middle(const ByteMatch& m) { return m.b_is_signed ? 0 : 128; }

  // Whether rows can be read where they are. Zero points of the weights would need their sums.
  static bool can_stay(const ByteMatch& m, kernels::Isa isa) {
    if (!kernels::reads_in_place8(isa) || std::ranges::any_of(m.b_zero, [&](int32_t z) { return z != middle(m); })) return false;
    if (m.convolves && !is_pointwise(m.window)) return m.window.axes() == 2;
    return (!m.a_is_signed || kernels::reads_signed_in_place8(isa)) && (m.convolves ? m.bs[1] : m.depth) % 4 == 0;
  }

  // Pixels are rows as they are.
  static bool is_pointwise(const ops::Window& w) {
    const auto all = [](const auto& list, int64_t v) { return std::ranges::all_of(list, [v](int64_t e) { return e == v; }); };
    return w.taps() == 1 && all(w.strides, 1) && all(w.pads_begin, 0) && all(w.pads_end, 0);
  }

  static int64_t unit(kernels::Isa isa) { return kernels::grouping8(isa) == kernels::Grouping::bytes ? 1 : 2; }

  // A window over lines without padding: over the picture itself, or over a copy with the padding written out. Taps are kernel rows where
  // they are joined.
  static void bind_lines(PlanBuilder& b, const ByteMatch& m, ByteKernel& k, int64_t pitch, Step& step) {
    const auto in = spatial(m.as);
    const ops::Window& w = m.window;
    const bool joins = joins_rows(m);
    const int64_t columns = joins ? 1 : w.kernel[1], run = k.group_channels * w.kernel[1] / columns;
    k.form.segments = w.kernel[0] * columns;
    k.form.run = k.form.in_place ? static_cast<int64_t>(round_up(static_cast<size_t>(run), 4)) : run;
    k.depth = k.form.segments * k.form.run;
    PaddedLines p;
    const int64_t channels = p.pixel = k.group_channels;
    p.pitch = pitch;
    p.in_h = in[0], p.out_h = w.out[0], p.top = w.pads_begin[0];
    p.stride = w.strides[0], p.extent = (w.kernel[0] - 1) * w.dilations[0] + 1;
    p.in_row = in[1] * channels, p.left = w.pads_begin[1] * channels;
    p.out_row = std::max(in[1] + w.pads_begin[1], (w.out[1] - 1) * w.strides[1] + (w.kernel[1] - 1) * w.dilations[1] + 1) * channels;
    const bool flips = k.form.in_place && k.form.a_signed;
    const bool copies = !k.form.in_place || flips || k.form.run != run || p.top != 0 || (p.out_h - 1) * p.stride + p.extent > in[0] ||
                        p.out_row != p.in_row || (joins && pitch != channels);
    const int64_t apart = copies ? channels : pitch, line = p.out_row / channels * apart, tasks = m.groups * k.split.count();
    if (copies) {
      constexpr int64_t kNear = 256 << 10;  // bytes: they stay in L2 beside a block of weights
      if (flips) p.flip = 0x80, k.form.a_signed = false;
      p.block = std::clamp<int64_t>((kNear / p.out_row - p.extent) / p.stride + 1, 1, p.out_h);
      k.copies = {b.scratch(static_cast<size_t>(tasks * p.block_bytes()))};
      step.scratch.push_back(k.copies.buffer);
      k.padded = p;
    }
    k.window.z = {0};
    for (int64_t o = 0; o < w.out[0]; ++o) {
      for (int64_t t = 0; t < w.kernel[0]; ++t) k.window.y.push_back((o * w.strides[0] + t * w.dilations[0]) * line);
    }
    for (int64_t o = 0; o < w.out[1]; ++o) {
      for (int64_t t = 0; t < columns; ++t) k.window.x.push_back((o * w.strides[1] + t * w.dilations[1]) * apart);
    }
    k.form.row_stride = w.strides[1] * apart;
    k.window.shape.image_stride = in[0] * line;
    k.window.shape.out_h = w.out[0], k.window.shape.out_w = w.out[1];
    k.window.shape.kh = w.kernel[0], k.window.shape.kw = columns;
  }

  static void bind_weights(PlanBuilder& b, const ByteMatch& m, ByteKernel& k, Step& step) {
    const kernels::Isa isa = k.isa;
    const ValueId v = m.b();
    const bool b_signed = m.b_is_signed, convolves = m.convolves;
    const int64_t groups = m.groups, taps = m.taps, depth = m.depth, columns = m.columns, filters = m.filters(),
                  run = depth / k.form.segments, filled = k.form.run, packed_depth = k.depth,
                  each = kernels::packed_bytes_size(isa, packed_depth, filters);
    k.weight_numbers = each;
    const auto fill = static_cast<uint8_t>(middle(m));
    const auto make = [&] {
      const Tensor raw_tensor = b.constant(v);
      const auto* raw = static_cast<const uint8_t*>(raw_tensor.data());
      auto packed = floats(groups * each);  // as many bytes; kept as whole numbers
      auto* to = reinterpret_cast<int32_t*>(packed.get());
      for (int64_t i = 0; i < groups; ++i, to += each) {
        const std::vector<int32_t> zero =
            m.b_zero.size() == 1 ? m.b_zero : std::vector<int32_t>(m.b_zero.begin() + i * filters, m.b_zero.begin() + (i + 1) * filters);
        if (!convolves) {
          kernels::pack_bytes(isa, raw, b_signed, columns, 1, depth, columns, zero, to);
          continue;
        }
        // W [filters, channels, taps]: k = tap * channels + channel, each segment filled up with zeros.
        const int64_t channels = depth / taps;
        std::vector<uint8_t> turned(static_cast<size_t>(filters * packed_depth), fill);
        for (int64_t f = 0; f < filters; ++f) {
          for (int64_t c = 0; c < channels; ++c) {
            for (int64_t t = 0; t < taps; ++t) {
              const int64_t at = t * channels + c;
              turned[f * packed_depth + at / run * filled + at % run] = raw[((i * filters + f) * channels + c) * taps + t];
            }
          }
        }
        kernels::pack_bytes(isa, turned.data(), b_signed, 1, packed_depth, packed_depth, filters, zero, to);
      }
      b.release_after_packing(v, [=, shape = m.bs, type = raw_tensor.dtype()] {
        Tensor back(type, shape);
        auto* out = static_cast<uint8_t*>(back.data());
        for (int64_t i = 0; i < groups; ++i) {
          const auto view = kernels::packed_bytes(isa, packed_depth, filters, reinterpret_cast<const int32_t*>(packed.get()) + i * each);
          for (int64_t f = 0; f < filters; ++f) {
            for (int64_t at = 0; at < depth; ++at) {
              const uint8_t byte = kernels::unpacked_byte(view, b_signed, at / run * filled + at % run, f);
              if (!convolves) out[at * columns + f] = byte;
              else out[((i * filters + f) * (depth / taps) + at % (depth / taps)) * taps + at / (depth / taps)] = byte;
            }
          }
        }
        return back;
      });
      return entry_of(packed, groups * each);
    };
    std::vector<ValueId> also;
    PackKey key = byte_key(m, convolves ? PackForm::byte_convolution : PackForm::byte_product, isa, also);
    if (filled != run) key.geometry.push_back(filled);
    k.weights = {b.packed(key, static_cast<size_t>(groups * each) * 4, make, also)};
    step.reads.push_back(k.weights.buffer);
  }
};

}  // namespace

const StepFamily& byte_products() {
  static const ByteFamily family;
  return family;
}

}  // namespace lathe::lower
