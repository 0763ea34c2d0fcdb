// Convolutions and matrix products to dense steps.
#include <unistd.h>

#include <algorithm>
#include <bit>
#include <cstring>

#include "base/fail.hpp"
#include "base/memory.hpp"
#include "kernels/copy.hpp"
#include "kernels/dense.hpp"
#include "kernels/planes.hpp"
#include "lower/lowering.hpp"
#include "ops/support.hpp"
#include "ops/window.hpp"

namespace lathe::lower {

using kernels::DenseArguments;
using kernels::TapeOperand;
using kernels::WindowRows;

namespace {

constexpr int64_t kKBlock = 576;  // K done in one go: a tile's rows of A stay in L1

bool f32_static(const Graph& g, ValueId v) { return v == kAbsent || (g.values[v].dtype == DType::f32 && known_shape(g.values[v].dims)); }

// W [filters, channels, taps] of one group to panels: k = tap * channels + channel.
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

void unpack_convolution(const float* packed, int64_t filters, int64_t channels, int64_t taps, int64_t width, float* w) {
  const int64_t k = channels * taps;
  for (int64_t f = 0; f < filters; ++f) {
    const float* panel = packed + f / width * k * width + f % width;
    for (int64_t c = 0; c < channels; ++c) {
      for (int64_t t = 0; t < taps; ++t) w[(f * channels + c) * taps + t] = panel[(t * channels + c) * width];
    }
  }
}

}  // namespace

std::shared_ptr<float> floats(int64_t count) {
  auto block = allocate_aligned(static_cast<size_t>(count) * sizeof(float));
  float* p = reinterpret_cast<float*>(block.get());
  return {std::move(block), p};
}

Weights::Entry entry_of(std::shared_ptr<float> p, int64_t count) {
  const void* data = p.get();
  return {std::move(p), data, static_cast<size_t>(count) * sizeof(float)};
}

int64_t near_block_bytes() {
  // Two such blocks fill most of a core's L2: one whose panels stay while rows pass, and the next, on its way from memory.
  static const int64_t bytes = [] {
    const long l2 = ::sysconf(_SC_LEVEL2_CACHE_SIZE);
    return std::clamp<int64_t>(l2 * 3 / 8, 192 << 10, 768 << 10);
  }();
  return bytes;
}

Split split_work(int64_t rows, int64_t panels, int64_t width, int64_t depth, int tile_rows, int threads, int64_t block_bytes) {
  Split s;
  // What is over in a microsecond or two is done before another thread has heard of it.
  if (threads <= 1 || rows * panels * width * depth < 100'000) return s;
  const int64_t tiles = (rows + tile_rows - 1) / tile_rows;
  // Several tasks a thread even out a core that is slower for a while; each should have some tiles, or some panels, to itself.
  const int64_t by_rows = std::clamp<int64_t>(tiles / 4, std::min<int64_t>(tiles, threads), threads * 4),
                by_panels = std::clamp<int64_t>(panels / 2, std::min<int64_t>(panels, threads), threads * 4);
  // A task of rows reads all of B, a task of panels all of A. A B that stays in L2 costs nothing to read again.
  const bool small_b = panels * width * depth * 4 <= block_bytes;
  const int64_t rows_cost = small_b ? 0 : panels * width * by_rows, panels_cost = rows * by_panels;
  const auto even = [&](int64_t n) { return n >= threads ? n - n % threads : n; };
  const bool enough_rows = by_rows >= threads, enough_panels = by_panels >= threads;
  if (enough_rows && (!enough_panels || rows_cost < panels_cost)) s.row_tasks = even(by_rows);
  else if (enough_panels) s.panel_tasks = even(by_panels);
  else s.row_tasks = by_rows, s.panel_tasks = by_panels;
  return s;
}

// ---- convolution ----

namespace {

// The input with its padding written out, for first layers: a kernel row is then one run of floats.
struct PadCopy {
  Place from, to;
  int64_t images = 0, channels = 0, in_h = 0, in_w = 0, out_h = 0, out_w = 0, top = 0, left = 0;
  std::vector<int64_t> strides;   // of the source: image, channel, row, column
  std::optional<RowTape> before;  // what makes a line of a channel; the source is not read then
  Place room;                     // for the lines of a row, by task
  int64_t tasks = 1;

  kernels::Interleave interleave = nullptr;

  void run_row(const StepContext& c, int64_t row, int64_t task) const {
    float* dst = pointer<float>(c, to) + row * out_w * channels;
    const int64_t image = row / out_h, y = row % out_h - top, columns = std::min(in_w, out_w - left);
    if (y < 0 || y >= in_h) {
      std::fill_n(dst, out_w * channels, 0.0f);
      return;
    }
    std::fill_n(dst, left * channels, 0.0f);
    std::fill_n(dst + (left + columns) * channels, (out_w - left - columns) * channels, 0.0f);
    dst += left * channels;
    if (before) {
      float* lines = pointer<float>(c, room) + task * channels * in_w;
      for (int64_t ch = 0; ch < channels; ++ch) before->run(c, (image * channels + ch) * in_h + y, in_w, lines + ch * in_w, false);
      return interleave(lines, in_w, channels, columns, dst);
    }
    const float* src = pointer<const float>(c, from) + image * strides[0] + y * strides[2];
    if (strides[3] == 1) return interleave(src, strides[1], channels, columns, dst);
    for (int64_t x = 0; x < columns; ++x) {
      for (int64_t ch = 0; ch < channels; ++ch) dst[x * channels + ch] = src[ch * strides[1] + x * strides[3]];
    }
  }
};

// Weights of depthwise layers and of small groups: [tap][channel of the group][filter], from [filter][channel][tap].
void pack_plane(const float* raw, int64_t filters, int64_t channels, int64_t taps, float* packed) {
  for (int64_t f = 0; f < filters; ++f) {
    for (int64_t c = 0; c < channels; ++c) {
      for (int64_t t = 0; t < taps; ++t) packed[(t * channels + c) * filters + f] = raw[(f * channels + c) * taps + t];
    }
  }
}

// A task of a product whose rows are made by what stands before it.
void multiply_after(const Prologue& before, const StepContext& c, int64_t task, DenseArguments& a, kernels::Dense dense) {
  a.lda = before.pitch;
  float* room = pointer<float>(c, before.room);
  if (before.block == 0) {
    a.a = room;
    return dense(a);
  }
  room += task * before.block * before.pitch;
  const int64_t begin = a.row_begin, end = a.row_end;
  // Blocks of equal height: a last one of a row or two would be summed in another order.
  const int64_t blocks = (end - begin + before.block - 1) / before.block;
  for (int64_t i = 0; i < blocks; ++i) {
    a.row_begin = begin + (end - begin) * i / blocks;
    a.row_end = begin + (end - begin) * (i + 1) / blocks;
    float* first = room - a.row_begin * before.pitch;
    before.make(c, a.row_begin, a.row_end, first);
    a.a = first;
    dense(a);
  }
}

class ConvolutionKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  kernels::Plane plane = nullptr;  // depthwise and small groups
  Place input, output, weights;
  bool pack_while_running = false;  // the weights are not constants
  Place raw_weights;
  bool padded = false;
  PadCopy pad;
  bool pointwise = false;
  int64_t pixel_stride = 0, segment_stride = 0;  // in the padded copy
  int64_t in_pitch = 0, out_pitch = 0;           // floats from pixel to pixel; in: when pointwise
  std::vector<int64_t> z, y, x;                  // window tables
  WindowRows window;
  Place zeros;
  int64_t groups = 1, group_channels = 0, group_filters = 0, taps = 1, segments = 1, run_length = 0;
  int64_t rows = 0, width = 0, panels = 0, k_block = 0, panel_block = 0;
  bool from_memory = false;
  Split split;
  std::optional<Prologue> before;
  BoundEpilogue epilogue;

  void run(const StepContext& c) const override {
    const int64_t k = group_channels * taps;
    if (pack_while_running) {
      float* packed = pointer<float>(c, weights);
      const float* raw = pointer<const float>(c, raw_weights);
      if (plane) {
        pack_plane(raw, groups * group_filters, group_channels, taps, packed);
      } else {
        c.workers.each(groups * panels, [&](int64_t task, int) {
          const int64_t g = task / panels, p = task % panels;
          pack_convolution(raw + g * group_filters * k, group_filters, group_channels, taps, width, packed + g * panels * k * width, p,
                           p + 1);
        });
      }
    }
    if (padded) {
      const int64_t total = pad.images * pad.out_h;
      c.workers.each(pad.tasks, [&](int64_t task, int) {
        for (int64_t r = total * task / pad.tasks; r < total * (task + 1) / pad.tasks; ++r) pad.run_row(c, r, task);
      });
    }
    WindowRows rows_of = window;
    rows_of.z = z.data();
    rows_of.y = y.data();
    rows_of.x = x.data();
    const float* in = padded ? pointer<const float>(c, pad.to) : before ? nullptr : pointer<const float>(c, input);
    if (plane) return run_plane(c, rows_of, in);
    if (zeros.buffer != kNoBuffer) rows_of.zeros = pointer<const float>(c, zeros);
    if (before && before->block == 0) before->make_all(c, rows);
    c.workers.each(groups * split.count(), [&](int64_t task, int) {
      const int64_t g = task / split.count(), r = task % split.count() / split.panel_tasks, p = task % split.panel_tasks;
      TapeOperand operands[kernels::kMaxSlots];
      WindowRows w = rows_of;
      DenseArguments a;
      a.segments = segments;
      a.run = run_length;
      if (pointwise) {
        a.a = in + g * group_channels;
        a.lda = in_pitch;
      } else {
        w.base = in + g * group_channels;
        a.window = &w;
        a.pixel_stride = pixel_stride;
        a.segment_stride = segment_stride;
      }
      a.row_begin = rows * r / split.row_tasks;
      a.row_end = rows * (r + 1) / split.row_tasks;
      a.all_rows = rows;
      a.from_memory = from_memory;
      a.panel_begin = panels * p / split.panel_tasks;
      a.panel_end = panels * (p + 1) / split.panel_tasks;
      a.columns = group_filters;
      a.b = pointer<const float>(c, weights) + g * panels * k * width;
      a.ldc = out_pitch;
      a.c = pointer<float>(c, output) + g * group_filters;
      a.k_block = k_block;
      a.panel_block = panel_block;
      epilogue.fill(c, g * group_filters, a.epilogue, operands);
      if (before) multiply_after(*before, c, task, a, dense);
      else dense(a);
    });
  }

  void run_plane(const StepContext& c, const WindowRows& w, const float* in) const {
    const int64_t tasks = split.row_tasks;
    c.workers.each(tasks, [&](int64_t task, int) {
      TapeOperand operands[kernels::kMaxSlots];
      WindowRows here = w;
      here.base = in;
      kernels::PlaneArguments a;
      a.op = group_channels == 1 ? kernels::PlaneOp::depthwise : kernels::PlaneOp::grouped;
      a.window = &here;
      a.channels = groups * group_channels;
      a.group = group_channels;
      a.weights = pointer<const float>(c, weights);
      // Whole groups of lines where there are enough of them: the kernel makes up to four lines at once.
      const int64_t group = 4 * w.out_w,
                    unit = rows / group >= 4 * tasks     ? group
                           : rows / w.out_w >= 2 * tasks ? w.out_w
                                                         : 1,
                    units = (rows + unit - 1) / unit;
      a.row_begin = units * task / tasks * unit;
      a.row_end = std::min(rows, units * (task + 1) / tasks * unit);
      a.out = pointer<float>(c, output);
      a.out_stride = out_pitch;
      epilogue.fill(c, 0, a.epilogue, operands);
      plane(a);
    });
  }
};

}  // namespace

// Tables of offsets for up to three spatial axes; missing ones count as size 1 in front.
void set_window(const ops::Window& w, std::span<const int64_t> in, std::span<const int64_t> strides, std::vector<int64_t> (&tables)[3],
                kernels::WindowShape& rows) {
  const int missing = 3 - w.axes();
  int64_t outs[3] = {1, 1, 1}, kernel[3] = {1, 1, 1};
  for (int a = 0; a < missing; ++a) tables[a] = {0};
  for (int a = w.axes() - 1; a >= 0; --a) {
    tables[a + missing] = ops::window_table(w, a, in[a]);
    for (int64_t& at : tables[a + missing]) at = at < 0 ? -1 : at * strides[a + 2];
    outs[a + missing] = w.out[a];
    kernel[a + missing] = w.kernel[a];
  }
  rows.image_stride = strides[0];
  rows.out_d = outs[0], rows.out_h = outs[1], rows.out_w = outs[2];
  rows.kd = kernel[0], rows.kh = kernel[1], rows.kw = kernel[2];
}

Epilogue epilogue_of(Lowering& l, const Group& group, int columns_axis, ValueId bias_input) {
  auto e = split_epilogue(l.graph(), group, columns_axis);
  if (!e) fail(Category::internal, "an epilogue that was planned does not fit");
  if (bias_input != kAbsent) {
    // The node's own bias takes the register slot; an added one joins it only when both are constants.
    if (e->bias) {
      if (!l.is_constant(bias_input) || !l.is_constant(e->bias->value)) fail(Category::internal, "two biases, one of them not a constant");
      const Tensor own = l.constant(bias_input), added = l.constant(e->bias->value);
      Tensor sum(DType::f32, {own.size()});
      for (int64_t i = 0; i < own.size(); ++i) sum.as<float>()[i] = own.as<float>()[i] + added.as<float>()[i];
      e->bias = TapeSource{kAbsent, sum};
    } else {
      e->bias = TapeSource{bias_input, {}};
      e->text = e->text.empty() ? "bias" : "bias + " + e->text;
    }
  }
  return std::move(*e);
}

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

bool all_f32(const Graph& g, const Node& n) {
  return n.domain.empty() && std::all_of(n.inputs.begin(), n.inputs.end(), [&](ValueId v) { return f32_static(g, v); }) &&
         f32_static(g, n.outputs[0]);
}

bool pads_rows(const ops::Window& window, int64_t channels) {
  return channels <= 8 && window.axes() == 2 && window.kernel[1] > 1 && window.dilations[1] == 1;
}

bool can_anchor(const Graph& g, const Node& n) {
  if (n.outputs.empty() || !all_f32(g, n)) return false;
  if (n.op == "Conv") return known_shape(g.values[n.inputs[0]].dims)->size() <= 5 && finite_weights(g, n.inputs[1]);
  if (n.op == "MatMul") return known_shape(g.values[n.inputs[0]].dims)->size() >= 2 && known_shape(g.values[n.inputs[1]].dims)->size() >= 2;
  if (n.op == "Gemm") {
    // The bias as a vector over columns (or whole) goes with the kernel; other forms are rare and go by plain.
    if (n.inputs.size() > 2 && n.inputs[2] != kAbsent) {
      const Shape c = *known_shape(g.values[n.inputs[2]].dims), out = *known_shape(g.values[n.outputs[0]].dims);
      if (n.real("beta", 1) != 1) return false;
      const bool vector = element_count(c) == out[1] && !c.empty() && c.back() == out[1];
      if (!vector && c != out) return false;
    }
    return true;
  }
  return false;
}

namespace {

std::string before_text(const Group& group, const std::optional<Prologue>& before) {
  if (group.ahead().empty()) return "";
  const std::string where = !before             ? "into the padded rows"
                            : before->block > 0 ? fmt::format("{} rows at a time", before->block)
                                                : "first";
  return fmt::format(", {} before, {}", group.ahead().size() > 1 ? fmt::format("{} nodes", group.ahead().size()) : "a node", where);
}

}  // namespace

std::optional<std::pair<int64_t, int64_t>> rows_read(const Graph& g, const Node& n) {
  const Shape xs = *known_shape(g.values[n.inputs[0]].dims), ws = *known_shape(g.values[n.inputs[1]].dims);
  if (element_count(xs) == 0) return std::nullopt;
  if (n.op != "Conv") {
    if (ws.size() != 2 || n.integer("transA", 0) != 0) return std::nullopt;
    return std::pair{element_count(xs) / xs.back(), xs.back()};
  }
  const std::span<const int64_t> in = std::span<const int64_t>(xs).subspan(2);
  const ops::Window window = ops::read_window(n, in, std::span<const int64_t>(ws).subspan(2));
  const bool still = std::ranges::all_of(window.strides, [](int64_t s) { return s == 1; }) && std::ranges::equal(window.out, in);
  if (n.integer("group", 1) != 1) return std::nullopt;
  if (window.taps() == 1 && still) return std::pair{element_count(xs) / xs[1], xs[1]};
  // The copy of a first layer's picture: lines of one channel.
  if (ws[1] < 8 && pads_rows(window, ws[1])) return std::pair{element_count(xs) / xs[3], xs[3]};
  return std::nullopt;
}

bool lower_convolution(Lowering& l, const Group& group) {
  if (group.anchor < 0 || l.graph().nodes[group.anchor].op != "Conv") return false;
  const Graph& g = l.graph();
  const Node& node = g.nodes[group.anchor];
  const Shape xs = l.shape(node.inputs[0]), ws = l.shape(node.inputs[1]);
  const ValueId out = g.nodes[group.nodes.back()].outputs[0], w_value = node.inputs[1];
  const std::span<const int64_t> in = std::span<const int64_t>(xs).subspan(2);
  const ops::Window window = ops::read_window(node, in, std::span<const int64_t>(ws).subspan(2));
  auto kernel = std::make_unique<ConvolutionKernel>();
  ConvolutionKernel& k = *kernel;
  Step step;
  step.kind = "convolution";
  step.nodes = l.names(group);
  k.groups = node.integer("group", 1);
  k.group_channels = ws[1];
  k.group_filters = ws[0] / k.groups;
  k.taps = window.taps();
  const int64_t pixels_out = element_count(window.out);
  k.rows = xs[0] * pixels_out;
  const bool planes = k.groups > 1 && k.group_channels == k.group_filters && k.group_channels <= kernels::kMostGroup &&
                      std::has_single_bit(static_cast<uint64_t>(k.group_channels)) && k.taps <= kernels::kMaxPlaneTaps,
             depthwise = planes && k.group_channels == 1;
  const bool plain_strides = std::all_of(window.strides.begin(), window.strides.end(), [](int64_t s) { return s == 1; });
  k.pointwise = !planes && k.taps == 1 && plain_strides && window.out == Shape(in.begin(), in.end());
  k.padded = !planes && k.groups == 1 && pads_rows(window, k.group_channels);
  const Epilogue e = epilogue_of(l, group, 1, node.inputs.size() > 2 ? node.inputs[2] : kAbsent);

  const kernels::Isa isa = l.options().isa;
  k.from_memory = l.is_constant(w_value) && l.weights_leave_caches();
  k.width = kernels::panel_width(isa);
  k.panels = (k.group_filters + k.width - 1) / k.width;
  const int64_t depth = k.group_channels * k.taps;
  std::vector<int64_t> tables[3];
  if (k.padded) {
    k.pad.tasks =
        std::clamp<int64_t>(xs[0] * (in[0] + window.pads_begin[0]) / 16, 1, l.options().threads > 1 ? l.options().threads * 8 : 1);
    Place from{kNoBuffer, 0, Layout::natural};
    if (group.ahead().empty()) {
      from = l.where_with_gaps(node.inputs[0]);
      step.reads.push_back(from.buffer);
    } else {
      k.pad.before = bind_row_tape(l, group.ahead(), kAbsent, xs, Layout::natural, step);
      k.pad.room = {l.scratch(static_cast<size_t>(k.pad.tasks * xs[1] * in[1]) * sizeof(float))};
      step.scratch.push_back(k.pad.room.buffer);
    }
    k.pad.from = from;
    k.pad.images = xs[0];
    k.pad.channels = xs[1];
    k.pad.in_h = in[0], k.pad.in_w = in[1];
    k.pad.top = window.pads_begin[0], k.pad.left = window.pads_begin[1];
    k.pad.out_h = std::max(in[0] + k.pad.top, (window.out[0] - 1) * window.strides[0] + (window.kernel[0] - 1) * window.dilations[0] + 1);
    k.pad.out_w = std::max(in[1] + k.pad.left, (window.out[1] - 1) * window.strides[1] + window.kernel[1]);
    k.pad.strides = strides_at(from, xs);
    k.pad.interleave = kernels::interleave(isa);
    const size_t bytes = static_cast<size_t>(xs[0] * k.pad.out_h * k.pad.out_w * xs[1]) * 4;
    k.pad.to = {l.scratch(bytes)};
    step.scratch.push_back(k.pad.to.buffer);
    // Rows of the window: taps are kernel rows, each kernel_width x channels floats.
    const int64_t row = k.pad.out_w * xs[1];
    tables[0] = {0};
    for (int64_t o = 0; o < window.out[0]; ++o) {
      for (int64_t t = 0; t < window.kernel[0]; ++t) tables[1].push_back((o * window.strides[0] + t * window.dilations[0]) * row);
    }
    for (int64_t o = 0; o < window.out[1]; ++o) tables[2].push_back(o * window.strides[1] * xs[1]);
    k.window.image_stride = k.pad.out_h * row;
    k.window.out_h = window.out[0], k.window.out_w = window.out[1];
    k.window.kh = window.kernel[0];
    k.segments = window.kernel[0];
    k.run_length = window.kernel[1] * xs[1];
    k.pixel_stride = window.strides[1] * xs[1];
    k.segment_stride = window.dilations[0] * row;
  } else {
    k.input = {kNoBuffer, 0, Layout::channels_last};
    if (group.ahead().empty()) {
      k.input = l.place_with_gaps(node.inputs[0], Layout::channels_last);
      step.reads.push_back(k.input.buffer);
    }
    const auto pitch = row_pitch(k.input, xs);
    k.in_pitch = pitch.value_or(0);
    k.pointwise = k.pointwise && pitch;
    set_window(window, in, strides_at(k.input, xs), tables, k.window);
    k.segments = k.taps;
    k.run_length = k.group_channels;
    const bool padding = std::any_of(window.pads_begin.begin(), window.pads_begin.end(), [](int64_t p) { return p > 0; }) ||
                         std::any_of(window.pads_end.begin(), window.pads_end.end(), [](int64_t p) { return p > 0; });
    if (padding && !planes) {
      Tensor zeros(DType::f32, {k.group_channels});
      std::memset(zeros.data(), 0, zeros.byte_size());
      k.zeros = {l.constant_buffer(zeros)};
      step.reads.push_back(k.zeros.buffer);
    }
  }
  k.z = std::move(tables[0]);
  k.y = std::move(tables[1]);
  k.x = std::move(tables[2]);

  // Weights.
  const int64_t groups = k.groups, filters = k.group_filters, channels = k.group_channels, taps = k.taps, width = k.width,
                panels = k.panels;
  const int64_t floats_needed = planes ? groups * filters * channels * taps : groups * panels * depth * width;
  if (l.is_constant(w_value)) {
    const auto make = [&] {
      const Tensor w = l.constant(w_value);
      const float* raw = w.as<float>().data();
      auto packed = floats(floats_needed);
      if (planes) {
        pack_plane(raw, groups * filters, channels, taps, packed.get());
      } else {
        for (int64_t i = 0; i < groups; ++i)
          pack_convolution(raw + i * filters * depth, filters, channels, taps, width, packed.get() + i * panels * depth * width, 0, panels);
      }
      if (!planes) {
        const Shape shape = ws;
        l.release_after_packing(w_value, [=] {
          Tensor back(DType::f32, shape);
          for (int64_t i = 0; i < groups; ++i)
            unpack_convolution(packed.get() + i * panels * depth * width, filters, channels, taps, width,
                               back.as<float>().data() + i * filters * depth);
          return back;
        });
      }
      return entry_of(packed, floats_needed);
    };
    if (planes) l.weights().keep_raw(w_value);  // small: not worth restoring
    k.weights = {l.derived({w_value, planes ? PackForm::planes : PackForm::convolution, {width, groups}},
                           static_cast<size_t>(floats_needed) * 4, make)};
    step.reads.push_back(k.weights.buffer);
  } else {
    k.pack_while_running = true;
    k.raw_weights = l.place(w_value, Layout::natural);
    k.weights = {l.scratch(static_cast<size_t>(floats_needed) * 4)};
    step.reads.push_back(k.raw_weights.buffer);
    step.scratch.push_back(k.weights.buffer);
  }

  k.epilogue = bind_epilogue(l, e, out, Layout::channels_last, step);
  k.output = l.define_rows(out, Layout::channels_last, k.out_pitch);
  step.writes.push_back(k.output.buffer);
  k.k_block = kKBlock;
  k.panel_block = std::max<int64_t>(1, l.options().block_bytes / std::max<int64_t>(1, std::min(depth, kKBlock) * width * 4));
  const int threads = l.options().threads;
  if (planes) {
    k.plane = kernels::plane(isa);
    k.split.row_tasks = std::max<int64_t>(1, std::min<int64_t>(k.rows, threads > 1 ? threads * 4 : 1));
  } else {
    k.dense = kernels::dense(isa);
    k.split = split_work(k.rows, k.panels, k.width, depth, kernels::max_rows(isa), k.groups >= threads * 2 ? 1 : threads,
                         l.options().block_bytes);
  }
  if (!k.padded) k.before = bind_prologue(l, group, xs, Layout::channels_last, k.rows, k.split, step);
  const double outputs = static_cast<double>(k.rows) * static_cast<double>(ws[0]);
  const bool made_here = !group.ahead().empty();  // the input: what it is made of has been counted
  step.flops += 2 * outputs * static_cast<double>(depth);
  step.bytes += 4 * ((made_here ? 0 : static_cast<double>(element_count(xs))) + static_cast<double>(element_count(ws)) + outputs);
  step.recipe = fmt::format("{}, {} {}, tasks {}x{}{}",
                            depthwise     ? "depthwise"
                            : planes      ? "small groups"
                            : k.pointwise ? "pointwise"
                            : k.padded    ? "padded rows"
                                          : "row pointers",
                            kernels::name(isa), planes ? "vectors" : fmt::format("{}x{} tile", kernels::max_rows(isa), width),
                            k.split.row_tasks, k.split.panel_tasks, before_text(group, k.before) + (e.text.empty() ? "" : ", " + e.text));
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

// ---- matrix products ----

namespace {

class ProductKernel : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  Place a, b, output;
  Place packed;  // constant, or scratch when B is made at run time
  bool pack_while_running = false, transpose_a = false;
  kernels::PanelType b_type = kernels::PanelType::f32;
  int64_t slots = 0;  // of packed matrices: each task packs its batches' own ones, one after another, where they stay near
  Place a_turned;     // scratch
  int64_t m = 0, n = 0, k = 0, b_k_stride = 0, b_n_stride = 0;
  int64_t a_pitch = 0, out_pitch = 0;  // floats from row to row
  float alpha = 1;
  std::vector<int64_t> a_offsets, b_offsets;  // by batch, in matrices
  int64_t b_matrices = 1, width = 0, panels = 0, k_block = 0, panel_block = 0;
  bool from_memory = false;
  Split split;
  std::optional<Prologue> before;
  BoundEpilogue epilogue;

  void run(const StepContext& c) const override {
    const int64_t packed_floats = panels * k * width;
    if (pack_while_running && slots == 0) {
      float* to = pointer<float>(c, packed);
      const float* from = pointer<const float>(c, b);
      c.workers.each(b_matrices * panels, [&](int64_t task, int) {
        const int64_t i = task / panels, p = task % panels;
        kernels::pack_panels(from + i * k * n, b_k_stride, b_n_stride, k, n, width, to + i * packed_floats, p, p + 1);
        if (alpha != 1) {
          float* panel = to + i * packed_floats + p * k * width;
          for (int64_t e = 0; e < k * width; ++e) panel[e] *= alpha;
        }
      });
    }
    const float* left = before ? nullptr : pointer<const float>(c, a);
    if (before && before->block == 0) before->make_all(c, m);
    if (transpose_a) {
      float* turned = pointer<float>(c, a_turned);
      for (int64_t i = 0; i < m; ++i) {
        for (int64_t j = 0; j < k; ++j) turned[i * k + j] = left[j * m + i];
      }
      left = turned;
    }
    const int64_t batches = static_cast<int64_t>(a_offsets.size());
    const auto piece = [&](int64_t i, int64_t r, int64_t p, const float* panel_data) {
      TapeOperand operands[kernels::kMaxSlots];
      DenseArguments d;
      // Rows of all batches count on: the epilogue finds its operands by row.
      d.a = left + (a_offsets[i] - i) * m * a_pitch;
      d.lda = a_pitch;
      d.segments = 1;
      d.run = k;
      d.row_begin = i * m + m * r / split.row_tasks;
      d.row_end = i * m + m * (r + 1) / split.row_tasks;
      d.all_rows = m;
      d.from_memory = from_memory;
      d.panel_begin = panels * p / split.panel_tasks;
      d.panel_end = panels * (p + 1) / split.panel_tasks;
      d.columns = n;
      d.b = panel_data;
      d.b_type = b_type;
      d.c = pointer<float>(c, output);
      d.ldc = out_pitch;
      d.k_block = k_block;
      d.panel_block = panel_block;
      epilogue.fill(c, 0, d.epilogue, operands);
      if (before) multiply_after(*before, c, r, d, dense);
      else dense(d);
    };
    if (slots > 0) {
      c.workers.each(slots, [&](int64_t slot, int) {
        float* to = pointer<float>(c, packed) + slot * packed_floats;
        for (int64_t i = batches * slot / slots; i < batches * (slot + 1) / slots; ++i) {
          kernels::pack_panels(pointer<const float>(c, b) + b_offsets[i] * k * n, b_k_stride, b_n_stride, k, n, width, to, 0, panels);
          piece(i, 0, 0, to);
        }
      });
      return;
    }
    c.workers.each(batches * split.count(), [&](int64_t task, int) {
      const int64_t i = task / split.count();
      piece(i, task % split.count() / split.panel_tasks, task % split.panel_tasks,
            pointer<const float>(c, packed) + b_offsets[i] * packed_floats);
    });
  }
};

}  // namespace

bool lower_product(Lowering& l, const Group& group) {
  if (group.anchor < 0) return false;
  const Graph& g = l.graph();
  const Node& node = g.nodes[group.anchor];
  const bool gemm = node.op == "Gemm";
  if (!gemm && node.op != "MatMul") return false;
  const ValueId out = g.nodes[group.nodes.back()].outputs[0], made = node.outputs[0], b_value = node.inputs[1];
  const Shape as = l.shape(node.inputs[0]), bs = l.shape(b_value), os = l.shape(made);
  auto kernel = std::make_unique<ProductKernel>();
  ProductKernel& k = *kernel;
  Step step;
  step.kind = "product";
  step.nodes = l.names(group);
  const bool tb = gemm && node.integer("transB", 0) != 0;
  k.transpose_a = gemm && node.integer("transA", 0) != 0;
  k.alpha = gemm ? node.real("alpha", 1) : 1;
  k.n = os.back();
  k.k = bs[bs.size() - (tb ? 1 : 2)];
  k.b_k_stride = tb ? 1 : k.n;
  k.b_n_stride = tb ? k.k : 1;
  if (bs.size() == 2 && !k.transpose_a) {  // all leading dims of A are rows
    k.m = element_count(std::span<const int64_t>(os).first(os.size() - 1));
    k.a_offsets = k.b_offsets = {0};
  } else {
    k.m = os[os.size() - 2];
    const Shape batch(os.begin(), os.end() - 2), ab(as.begin(), as.end() - 2), bb(bs.begin(), bs.end() - 2);
    k.a_offsets = ops::strided_index(batch, ops::broadcast_strides(ab, batch));
    k.b_offsets = ops::strided_index(batch, ops::broadcast_strides(bb, batch));
    k.b_matrices = element_count(bb);
  }
  // C of the output's own shape is a residual, else a vector over the columns.
  const ValueId c_value = gemm && node.inputs.size() > 2 ? node.inputs[2] : kAbsent;
  const bool whole = c_value != kAbsent && l.shape(c_value) == os;
  Epilogue e = epilogue_of(l, group, static_cast<int>(os.size()) - 1, whole ? kAbsent : c_value);
  if (whole) {
    e.residual = c_value;
    e.text = e.text.empty() ? "residual" : "residual + " + e.text;
  }

  const kernels::Isa isa = l.options().isa;
  k.from_memory = l.is_constant(b_value) && l.weights_leave_caches();
  k.width = kernels::panel_width(isa);
  k.panels = (k.n + k.width - 1) / k.width;
  k.a_pitch = k.k;
  if (group.ahead().empty()) {
    k.a = k.transpose_a ? l.place(node.inputs[0], Layout::natural) : l.place_rows(node.inputs[0], Layout::natural, k.a_pitch);
    step.reads.push_back(k.a.buffer);
  }
  if (k.transpose_a) {
    k.a_turned = {l.scratch(static_cast<size_t>(k.m * k.k) * 4)};
    step.scratch.push_back(k.a_turned.buffer);
  }
  const int64_t n = k.n, depth = k.k, width = k.width, panels = k.panels, matrices = k.b_matrices, ks = k.b_k_stride, ns = k.b_n_stride;
  const int64_t floats_needed = matrices * panels * depth * width;
  if (const ValueId narrow = ops::narrow_weights(g, b_value); narrow != kAbsent) {
    // Half the bytes to read; widened in registers.
    k.b_type = l.dtype(narrow) == DType::f16 ? kernels::PanelType::f16 : kernels::PanelType::bf16;
    const auto make = [&] {
      const Tensor b = l.constant(narrow);
      auto packed = floats((floats_needed + 1) / 2);
      kernels::pack_panels(static_cast<const uint16_t*>(b.data()), ks, ns, depth, n, width, reinterpret_cast<uint16_t*>(packed.get()), 0,
                           panels);
      l.release_after_packing(narrow, [=, dtype = b.dtype(), shape = b.shape()] {
        Tensor back(dtype, shape);
        kernels::unpack_panels(reinterpret_cast<const uint16_t*>(packed.get()), depth, n, width, static_cast<uint16_t*>(back.data()), ks,
                               ns);
        return back;
      });
      return entry_of(packed, (floats_needed + 1) / 2);
    };
    k.packed = {l.derived({narrow, PackForm::product_16, {width, tb}}, static_cast<size_t>((floats_needed + 1) / 2) * 4, make)};
    step.reads.push_back(k.packed.buffer);
  } else if (l.is_constant(b_value)) {
    const float alpha = k.alpha;
    const auto make = [&] {
      const Tensor b = l.constant(b_value);
      auto packed = floats(floats_needed);
      for (int64_t i = 0; i < matrices; ++i)
        kernels::pack_panels(b.as<float>().data() + i * depth * n, ks, ns, depth, n, width, packed.get() + i * panels * depth * width, 0,
                             panels);
      if (alpha != 1) {
        for (int64_t i = 0; i < floats_needed; ++i) packed.get()[i] *= alpha;
      } else {
        const Shape shape = bs;
        l.release_after_packing(b_value, [=] {
          Tensor back(DType::f32, shape);
          for (int64_t i = 0; i < matrices; ++i)
            kernels::unpack_panels(packed.get() + i * panels * depth * width, depth, n, width, back.as<float>().data() + i * depth * n, ks,
                                   ns);
          return back;
        });
      }
      return entry_of(packed, floats_needed);
    };
    if (alpha != 1) l.weights().keep_raw(b_value);
    k.packed = {
        l.derived({b_value, PackForm::product, {width, tb, std::bit_cast<int32_t>(alpha)}}, static_cast<size_t>(floats_needed) * 4, make)};
    step.reads.push_back(k.packed.buffer);
  } else {
    k.pack_while_running = true;
    k.b = l.place(b_value, Layout::natural);
    const int64_t batches = static_cast<int64_t>(k.a_offsets.size());
    if (batches > 1 && matrices == batches && batches >= l.options().threads * 2 && k.alpha == 1)
      k.slots = std::min<int64_t>(batches, l.options().threads > 1 ? l.options().threads * 4 : 1);
    k.packed = {l.scratch(static_cast<size_t>(k.slots > 0 ? k.slots * panels * depth * width : floats_needed) * 4)};
    step.reads.push_back(k.b.buffer);
    step.scratch.push_back(k.packed.buffer);
  }
  k.epilogue = bind_epilogue(l, e, out, Layout::natural, step);
  k.output = l.define_rows(out, Layout::natural, k.out_pitch);
  step.writes.push_back(k.output.buffer);
  k.dense = kernels::dense(isa);
  k.k_block = kKBlock;
  k.panel_block = std::max<int64_t>(1, l.options().block_bytes / std::max<int64_t>(1, std::min(depth, kKBlock) * width * 4));
  const int64_t batches = static_cast<int64_t>(k.a_offsets.size());
  const int threads = l.options().threads;
  k.split =
      split_work(k.m, k.panels, k.width, depth, kernels::max_rows(isa), batches >= threads * 2 ? 1 : threads, l.options().block_bytes);
  k.before = bind_prologue(l, group, as, Layout::natural, k.m, k.split, step);
  const double rows = static_cast<double>(batches * k.m);
  step.flops += 2 * rows * static_cast<double>(n) * static_cast<double>(depth);
  step.bytes += 4 * ((k.before ? 0 : static_cast<double>(element_count(as))) + static_cast<double>(element_count(bs)) +
                     static_cast<double>(element_count(os)));
  step.recipe = fmt::format("{}x{}x{}{}{}, {} {}x{} tile, tasks {}x{}{}", k.m, n, depth, batches > 1 ? fmt::format(" x{}", batches) : "",
                            k.b_type == kernels::PanelType::f32   ? ""
                            : k.b_type == kernels::PanelType::f16 ? ", f16 weights"
                                                                  : ", bf16 weights",
                            kernels::name(isa), kernels::max_rows(isa), width, k.split.row_tasks, k.split.panel_tasks,
                            before_text(group, k.before) + (e.text.empty() ? "" : ", " + e.text));
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
