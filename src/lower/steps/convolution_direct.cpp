// Convolutions as dense products: rows are windows of the channels-last input (or its pixels as they are, or runs of a padded copy),
// columns are filters.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <cstring>
#include <optional>

#include "kernels/dense_tiles.hpp"
#include "lower/fuse/prologue.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/convolution.hpp"
#include "lower/steps/padded_rows.hpp"
#include "lower/steps/product_weights.hpp"
#include "lower/steps/forms.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

class DenseConvolution : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  Location input, output, weights;
  kernels::PanelType weight_type = kernels::PanelType::f32;
  WidenedPanels widened;
  std::optional<Location> raw_weights;  // not constants: packed while running
  std::optional<PadCopy> pad;
  bool pointwise = false;
  int64_t pixel_stride = 0, segment_stride = 0;  // in the padded copy
  int64_t in_pitch = 0, out_pitch = 0;           // floats from pixel to pixel; in: when pointwise
  WindowTables window;
  std::optional<Location> zeros;  // what stands in the padding
  int64_t groups = 1, group_channels = 0, group_filters = 0, taps = 1, segments = 1, run_length = 0;
  int64_t rows = 0, width = 0, panels = 0, k_block = 0, panel_block = 0, tile_rows = 0, fetch_ahead = 0;
  bool from_memory = false;
  Location packed_rows;               // scratch, by task
  int64_t packed_row_floats = 0;      // of each; 0: none
  std::optional<Location> tile_room;  // scratch: so many rooms
  int64_t tile_rooms = 0;
  bool rows_like_b = false;
  Split split;
  std::optional<Prologue> before;
  BoundEpilogue epilogue;

  void run(const StepContext& c) const override {
    const int64_t k = group_channels * taps;
    if (raw_weights) {
      float* packed = pointer<float>(c, weights);
      const float* raw = pointer<const float>(c, *raw_weights);
      c.workers.each(groups * panels, [&](int64_t task, int) {
        const int64_t g = task / panels, p = task % panels;
        pack_convolution(raw + g * group_filters * k, group_filters, group_channels, taps, width, packed + g * panels * k * width, p,
                         p + 1);
      });
    }
    if (pad) {
      const int64_t total = pad->images * pad->out_h;
      c.workers.each(pad->tasks, [&](int64_t task, int) {
        for (int64_t r = total * task / pad->tasks; r < total * (task + 1) / pad->tasks; ++r) pad->run_row(c, r, task);
      });
    }
    const kernels::WindowRows rows_of = window.rows<float>(nullptr, zeros ? pointer<const float>(c, *zeros) : nullptr);
    const float* in = pad ? pointer<const float>(c, pad->to) : before ? nullptr : pointer<const float>(c, input);
    if (before && before->block == 0) before->make_all(c, rows);
    auto piece = [&](int64_t task, int64_t room) {
      const int64_t g = task / split.count(), r = task % split.count() / split.panel_tasks, p = task % split.panel_tasks;
      kernels::TapeOperand operands[kernels::kMaxSlots];
      kernels::WindowRows w = rows_of;
      kernels::DenseArguments a;
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
      const int64_t bytes = weight_type == kernels::PanelType::f32 ? 4 : 2;
      a.b = pointer<const char>(c, weights) + g * panels * k * width * bytes;
      a.b_type = weight_type;
      a.ldc = out_pitch;
      a.c = pointer<float>(c, output) + g * group_filters;
      a.k_block = k_block;
      a.panel_block = panel_block;
      a.tile_rows = tile_rows;
      a.fetch_ahead = fetch_ahead;
      if (packed_row_floats > 0) a.packed_rows = pointer<float>(c, packed_rows) + task * packed_row_floats;
      a.widened = widened.room(c, task);
      if (tile_room) a.tile_room = pointer<char>(c, *tile_room) + room * kernels::kTileRoom, a.rows_like_b = rows_like_b;
      epilogue.fill(c, g * group_filters, a.epilogue, operands);
      if (before) before->multiply(c, task, a, dense);
      else dense(a);
    };
    if (tile_room) each_in_rooms(c, tile_rooms, groups * split.count(), piece);
    else c.workers.each(groups * split.count(), piece);
  }
};

// Sets up the padded copy and the window over it: taps are kernel rows, each kernel_width x channels floats.
void bind_padded(PlanBuilder& b, const ConvolutionMatch& m, const Machine& machine, const Recipe& recipe, DenseConvolution& k, Step& step) {
  const auto in = spatial(m.xs);
  const ops::Window& w = m.window;
  PadCopy pad;
  pad.tasks = recipe.at("pad_tasks");
  if (m.group->ahead().empty()) {
    const PictureInput input = any_input(b, m);
    pad.from = input.at;
    step.reads.push_back(pad.from.buffer);
    pad.strides = input.strides;
  } else {
    pad.before = bind_row_tape(b, machine.isa, m.group->ahead(), kAbsent, m.xs, Layout::natural, step);
    pad.lines_scratch = {b.scratch(static_cast<size_t>(pad.tasks * m.xs[1] * in[1]) * sizeof(float))};
    step.scratch.push_back(pad.lines_scratch.buffer);
  }
  pad.images = m.xs[0];
  pad.channels = m.xs[1];
  pad.in_h = in[0], pad.in_w = in[1];
  pad.top = w.pads_begin[0], pad.left = w.pads_begin[1];
  pad.out_h = std::max(in[0] + pad.top, (w.out[0] - 1) * w.strides[0] + (w.kernel[0] - 1) * w.dilations[0] + 1);
  pad.out_w = std::max(in[1] + pad.left, (w.out[1] - 1) * w.strides[1] + w.kernel[1]);
  pad.interleave = kernels::interleave(machine.isa);
  pad.to = {b.scratch(static_cast<size_t>(m.xs[0] * pad.out_h * pad.out_w * m.xs[1]) * sizeof(float))};
  step.scratch.push_back(pad.to.buffer);
  const int64_t row = pad.out_w * m.xs[1];
  k.window.z = {0};
  for (int64_t o = 0; o < w.out[0]; ++o) {
    for (int64_t t = 0; t < w.kernel[0]; ++t) k.window.y.push_back((o * w.strides[0] + t * w.dilations[0]) * row);
  }
  for (int64_t o = 0; o < w.out[1]; ++o) k.window.x.push_back(o * w.strides[1] * m.xs[1]);
  k.window.shape.image_stride = pad.out_h * row;
  k.window.shape.out_h = w.out[0], k.window.shape.out_w = w.out[1];
  k.window.shape.kh = w.kernel[0];
  k.segments = w.kernel[0];
  k.run_length = w.kernel[1] * m.xs[1];
  k.pixel_stride = w.strides[1] * m.xs[1];
  k.segment_stride = w.dilations[0] * row;
  k.pad = std::move(pad);
}

// The window over the input where it is.
void bind_window(PlanBuilder& b, const ConvolutionMatch& m, DenseConvolution& k, Step& step) {
  const ops::Window& w = m.window;
  k.input = {kNoBuffer, 0, Layout::channels_last};
  auto strides = strides_at(k.input, m.xs);
  if (m.group->ahead().empty()) {
    PictureInput input = channels_last_input(b, m);
    k.input = std::move(input.at), strides = std::move(input.strides);
    step.reads.push_back(k.input.buffer);
  }
  const auto pitch = row_pitch(k.input, m.xs);
  k.in_pitch = pitch.value_or(0);
  k.pointwise =
      pitch && m.taps == 1 && std::ranges::equal(w.out, spatial(m.xs)) && std::ranges::all_of(w.strides, [](int64_t s) { return s == 1; });
  k.window = window_tables(w, spatial(m.xs), strides);
  k.segments = m.taps;
  k.run_length = m.group_channels;
  const auto any = [](const std::vector<int64_t>& pads) { return std::ranges::any_of(pads, [](int64_t p) { return p > 0; }); };
  if (any(w.pads_begin) || any(w.pads_end)) {
    Tensor none(DType::f32, {m.group_channels});
    std::memset(none.data(), 0, none.byte_size());
    k.zeros = {b.constant_buffer(none)};
    step.reads.push_back(k.zeros->buffer);
  }
}

void bind_weights(PlanBuilder& b, const ConvolutionMatch& m, DenseConvolution& k, Step& step) {
  const ValueId v = m.weights();
  const int64_t width = k.width, count = m.groups * k.panels * m.depth * width;
  if (!m.constant_weights()) {
    k.raw_weights = b.contiguous(v, Layout::natural);
    k.weights = {b.scratch(static_cast<size_t>(count) * sizeof(float))};
    step.reads.push_back(k.raw_weights->buffer);
    step.scratch.push_back(k.weights.buffer);
    return;
  }
  const ConvolutionPanels packed = pack_panels_of(b, m, width);
  k.weights = packed.at;
  k.weight_type = packed.type;
  step.reads.push_back(k.weights.buffer);
}

// Both families are this one; `padded` says which.
class DirectFamily : public StepFamily {
 public:
  explicit DirectFamily(bool padded) : padded_(padded) {}
  std::string_view name() const override { return padded_ ? "convolution.padded" : "convolution.direct"; }
  std::span<const Numbers> numbers() const override { return kF32; }
  std::span<const StepFamily* const> forms() const override {
    static const std::array kForms{&convolution_of_doubles()};
    return padded_ ? std::span<const StepFamily* const>() : kForms;
  }

  Anchor anchor(const GraphView& view, const Node& n) const override {
    return !padded_ && is_convolution(view, n) ? Anchor::tiles : Anchor::none;
  }

  std::optional<RowsRead> rows_read(const GraphView& view, const Node& n) const override {
    if (!is_convolution(view, n) || n.integer("group", 1) != 1) return std::nullopt;
    const Shape xs = view.shape(n.inputs[0]), ws = view.shape(n.inputs[1]);
    const int64_t elements = element_count(xs);
    if (elements == 0) return std::nullopt;
    const ops::Window w = ops::read_window(n, spatial(xs), spatial(ws));
    const bool still = std::ranges::all_of(w.strides, [](int64_t s) { return s == 1; }) && std::ranges::equal(w.out, spatial(xs));
    if (!padded_ && w.taps() == 1 && still) return RowsRead{elements / xs[1], xs[1]};
    // The copy of a first layer's picture: lines of one channel.
    if (padded_ && ws[1] < 8 && pads_rows(w, ws[1])) return RowsRead{elements / xs[3], xs[3]};
    return std::nullopt;
  }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_convolution(view, group);
    return m && !fits_planes(*m) && fits_padded_rows(*m) == padded_ ? std::move(m) : nullptr;
  }

  LayoutDemand layouts(const Match& m) const override {
    const Order input = !padded_ ? Order::channels_last : m.group->ahead().empty() ? Order::any : Order::natural;
    return {Order::channels_last, Order::channels_last, input};
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    const Machine& machine = p.machine;
    const int64_t width = kernels::panel_width(machine.isa), panels = (m.group_filters + width - 1) / width;
    const int threads = m.groups >= machine.threads * 2 ? 1 : machine.threads, tile = kernels::max_rows(machine.isa);
    Split split = split_work(machine, threads, m.rows, panels, width, m.depth, tile);
    const int64_t panel_block = panels_of_block(machine, std::min(m.depth, kDepthBlock), width);
    const bool packed =
        !padded_ && m.group->ahead().empty() &&
        packs_rows(machine, threads, m.rows, panels, panel_block, m.constant_weights() && p.weights_leave_caches, tile, split);
    space.knob("k_block", kDepthBlock, 64, kDepthBlock, 16, true);
    space.knob("panel_block", panel_block, 1, panels);
    const double against = against_vectors(m, machine);
    const bool tiles = against < kTilesPay;
    space.knob("tiles", tiles ? 1 : 0, 0, std::isfinite(against) ? 1 : 0, 1, true);
    dense_knobs(space, machine.isa);
    space.knob("packed_rows", !tiles && packed && m.groups * split.count() <= kMostPacked, 0, padded_ ? 0 : 1);
    space.knob("row_tasks", split.row_tasks, 1, m.rows);
    space.knob("panel_tasks", split.panel_tasks, 1, panels);
    if (padded_)
      space.knob("pad_tasks",
                 std::clamp<int64_t>(m.xs[0] * (m.xs[2] + m.window.pads_begin[0]) / 16, 1, machine.threads > 1 ? machine.threads * 8 : 1),
                 1, m.xs[0] * m.xs[2]);
    else prologue_knob(m, machine, m.xs[1], split, space);
  }

  std::string fault(const Match& match, const Problem&, const Recipe& recipe) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    if (!keeps_order(m.rows, recipe.at("row_tasks"), recipe.at("tile_rows"))) return "tasks of one or two rows";
    return padded_ ? "" : prologue_fault(m, recipe);
  }

  // Where it is held against another method, arithmetic decides.
  double estimate(const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    return m.work.flops / p.machine.rates.flops * (recipe.at("tiles") != 0 ? against_vectors(m, p.machine) : 1);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    const Machine& machine = p.machine;
    auto kernel = std::make_unique<DenseConvolution>();
    DenseConvolution& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    const bool tiles = recipe.at("tiles") != 0;
    k.dense = tiles ? kernels::dense_by_tiles : kernels::dense(machine.isa);
    k.groups = m.groups, k.group_channels = m.group_channels, k.group_filters = m.group_filters;
    k.taps = m.taps, k.rows = m.rows;
    k.from_memory = m.constant_weights() && p.weights_leave_caches;
    k.width = kernels::panel_width(machine.isa);
    k.panels = (k.group_filters + k.width - 1) / k.width;
    k.k_block = recipe.at("k_block"), k.panel_block = recipe.at("panel_block");
    k.tile_rows = recipe.at("tile_rows"), k.fetch_ahead = recipe.at("fetch_ahead");
    k.split = {recipe.at("row_tasks"), recipe.at("panel_tasks")};
    if (padded_) bind_padded(b, m, machine, recipe, k, step);
    else bind_window(b, m, k, step);
    bind_weights(b, m, k, step);
    if (tiles) {
      step.arithmetic = "bf16", step.products = tile_form(m).products();
      k.rows_like_b = tile_form(m).rows_like_b;
      k.tile_rooms = machine.threads;
      k.tile_room = {b.scratch(static_cast<size_t>(k.tile_rooms * kernels::kTileRoom))};
      step.scratch.push_back(k.tile_room->buffer);
    } else if (recipe.at("packed_rows") != 0) {
      k.packed_row_floats = kernels::packed_rows(machine.isa);
      k.packed_rows = {b.scratch(static_cast<size_t>(k.groups * k.split.count() * k.packed_row_floats) * sizeof(float))};
      step.scratch.push_back(k.packed_rows.buffer);
    }
    if (!tiles)
      k.widened = bind_widened(b, k.weight_type, machine.isa, k.rows, k.panels, m.depth, recipe, k.groups * k.split.count(), step);
    k.epilogue = bind_epilogue(b, m.epilogue, m.result(), Layout::channels_last, step);
    k.output = b.define_rows(m.result(), Layout::channels_last, k.out_pitch);
    step.writes.push_back(k.output.buffer);
    if (!padded_) k.before = bind_prologue(b, m, machine, recipe, m.xs, Layout::channels_last, m.rows, step);
    step.text = fmt::format("{}{}, {} {}x{} tile, tasks {}x{}{}{}{}",
                            k.pointwise ? "pointwise"
                            : padded_   ? "padded rows"
                                        : "row pointers",
                            m.narrow ? fmt::format(", {} weights", to_string(b.dtype(m.narrow->values))) : "", kernels::name(machine.isa),
                            k.tile_rows, k.width, k.split.row_tasks, k.split.panel_tasks,
                            tiles                     ? ", " + tiles_text(tile_form(m))
                            : k.packed_row_floats > 0 ? ", rows packed once"
                                                      : "",
                            prologue_text(*m.group, k.before), m.epilogue.text.empty() ? "" : ", " + m.epilogue.text);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  double against_vectors(const ConvolutionMatch& m, const Machine& machine) const {
    if (parts_too_often(*m.group, tile_form(m))) return std::numeric_limits<double>::infinity();
    const int64_t run = padded_ ? m.window.kernel[1] * m.xs[1] : m.group_channels;
    return tiles_against_vectors(machine.isa,
                                 {.form = tile_form(m), .rows = m.rows, .columns = m.group_filters, .depth = m.depth, .run = run});
  }

  bool padded_;
};

}  // namespace

const StepFamily& convolution_padded() {
  static const DirectFamily family(true);
  return family;
}

const StepFamily& convolution_direct() {
  static const DirectFamily family(false);
  return family;
}

}  // namespace lathe::lower
