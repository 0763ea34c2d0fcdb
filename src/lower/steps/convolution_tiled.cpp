// Convolutions by tiles of bf16 (kernels/dense_tiles.hpp): lines of the picture are parted once, with their padding written out, some at a
// time, and read where they stand for all taps.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/memory.hpp"
#include "kernels/dense_tiles.hpp"
#include "kernels/tiles.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/convolution.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

// Lines with their parts. Counts are numbers.
struct PartedLines {
  kernels::TileForm form;
  int64_t in_h = 0, in_w = 0, channels = 0, pitch = 0;  // of the picture; floats from pixel to pixel
  int64_t top = 0, left = 0, out_w = 0;                 // padding, and pixels of a line with it
  int64_t stride = 1, extent = 1;                       // lines from one of results to the next; what one of them reads
  int64_t block = 1;                                    // lines of results at a time

  int64_t row() const { return out_w * channels; }
  int64_t lines(int64_t results) const { return (results - 1) * stride + extent; }
  int64_t distance() const { return static_cast<int64_t>(round_up(static_cast<size_t>(lines(block) * row()), kAlignment)); }
  int64_t bytes() const { return 2 * form.a_parts() * distance(); }

  // What lines [from, to) of results of a picture read.
  void part(const float* picture, int64_t from, int64_t to, uint16_t* out) const {
    const int64_t parts = form.a_parts(), kept = std::min(in_w, out_w - left), behind = out_w - left - kept, first = from * stride - top;
    const auto zero = [&](uint16_t* at, int64_t count) {
      for (int64_t p = 0; p < parts; ++p) std::memset(at + p * distance(), 0, static_cast<size_t>(count) * 2);
    };
    for (int64_t y = first; y < first + lines(to - from); ++y, out += row()) {
      if (y < 0 || y >= in_h) {
        zero(out, row());
        continue;
      }
      const float* in = picture + y * in_w * pitch;
      uint16_t* at = out + left * channels;
      zero(out, left * channels);
      if (pitch == channels) kernels::part_floats(form.a_parts(), in, kept * channels, at, distance());
      else
        for (int64_t x = 0; x < kept; ++x) kernels::part_floats(form.a_parts(), in + x * pitch, channels, at + x * channels, distance());
      zero(at + kept * channels, behind * channels);
    }
  }
};

class TiledConvolution : public StepKernel {
 public:
  PartedLines lines;
  WindowTables window;
  Location input, output, weights, room;  // room: scratch, so many: each of tiles, then of lines
  int64_t rooms = 1;
  int64_t image_floats = 0, segments = 1, run_length = 0, pixel = 0;
  int64_t rows = 0, filters = 0, panels = 0, out_pitch = 0, tasks = 1;
  BoundEpilogue epilogue;

  int64_t room_bytes() const { return kernels::kTileRoom + lines.bytes(); }

  void run(const StepContext& c) const override {
    each_in_rooms(c, rooms, tasks, [&](int64_t task, int64_t at) {
      char* own = pointer<char>(c, room) + at * room_bytes();
      auto* parted = reinterpret_cast<uint16_t*>(own + kernels::kTileRoom);
      kernels::TapeOperand operands[kernels::kMaxSlots];
      kernels::DenseArguments a;
      a.segments = segments;
      a.run = run_length;
      a.tile_room = own;
      a.panel_end = panels;
      a.columns = filters;
      a.b = pointer<const void>(c, weights);
      a.b_type = lines.form.b;
      a.rows_like_b = lines.form.rows_like_b;
      a.c = pointer<float>(c, output);
      a.ldc = out_pitch;
      epilogue.fill(c, 0, a.epilogue, operands);
      kernels::PartedRows r{window.rows<uint16_t>(), lines.distance(), pixel};
      const int64_t wide = r.window.out_w, plane = r.window.out_h * wide, all = rows / wide;
      // Whole lines, of one picture at a time.
      for (int64_t line = all * task / tasks, end = all * (task + 1) / tasks; line < end;) {
        const int64_t image = line * wide / plane, y = line % r.window.out_h,
                      count = std::min({end - line, r.window.out_h - y, lines.block});
        lines.part(pointer<const float>(c, input) + image * image_floats, y, y + count, parted);
        r.window.base = parted - image * r.window.image_stride - y * lines.stride * lines.row();
        a.row_begin = line * wide;
        a.row_end = (line + count) * wide;
        kernels::parted_by_tiles(a, r);
        line += count;
      }
    });
  }
};

class TiledFamily : public StepFamily {
 public:
  std::string_view name() const override { return "convolution.tiled"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine& machine) const override {
    if (machine.isa != kernels::Isa::amx || !group.ahead().empty()) return nullptr;
    auto m = match_convolution(view, group);
    if (!m || m->groups != 1 || m->slices != 1 || m->rows == 0 || !m->constant_weights() || m->taps == 1 || m->window.axes() != 2)
      return nullptr;
    // K by two numbers, and chunks of it that fill a good part of a tile.
    if (run_of(*m) % 2 != 0 || kernels::tiles::dividing(run_of(*m) / 2) < kLeastChunk) return nullptr;
    if (m->depth > kernels::most_parted_depth(tile_form(*m).b) || m->depth / run_of(*m) > kMostSegments) return nullptr;
    return m;
  }

  LayoutDemand layouts(const Match&) const override { return {Order::channels_last, Order::channels_last, Order::channels_last}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    constexpr int64_t kNear = 768 << 10;  // bytes: they stay in L2 while all panels pass
    PartedLines l = lines_of(m);
    const int64_t a_line = 2 * l.form.a_parts() * l.row(), out_h = m.window.out[0], all = m.xs[0] * out_h;
    space.knob("lines", std::clamp<int64_t>((kNear / a_line - l.extent) / l.stride + 1, 1, out_h), 1, out_h);
    const bool shared = p.machine.threads > 1 && worth_sharing(p.machine.rates, m.work.flops * against_vectors(m, p.machine));
    space.knob("tasks", shared ? std::min<int64_t>(all, p.machine.threads * 2) : 1, 1, all);
  }

  double estimate(const Match& match, const Problem& p, const Recipe&) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    return m.work.flops / p.machine.rates.flops * against_vectors(m, p.machine);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    auto kernel = std::make_unique<TiledConvolution>();
    TiledConvolution& k = *kernel;
    Step step = begin_step(b, m);
    const ops::Window& w = m.window;
    k.lines = lines_of(m);
    k.lines.block = recipe.at("lines");
    step.arithmetic = "bf16", step.products = k.lines.form.products();
    k.tasks = recipe.at("tasks");
    k.input = b.rows(m.input(), Layout::channels_last, k.lines.pitch);
    step.reads.push_back(k.input.buffer);
    k.image_floats = k.lines.in_h * k.lines.in_w * k.lines.pitch;
    const int64_t columns = joins(m) ? 1 : w.kernel[1], channels = k.lines.channels;
    k.segments = w.kernel[0] * columns;
    k.run_length = run_of(m);
    k.pixel = w.strides[1] * channels;
    k.window.z = {0};
    for (int64_t o = 0; o < w.out[0]; ++o) {
      for (int64_t t = 0; t < w.kernel[0]; ++t) k.window.y.push_back((o * w.strides[0] + t * w.dilations[0]) * k.lines.row());
    }
    for (int64_t o = 0; o < w.out[1]; ++o) {
      for (int64_t t = 0; t < columns; ++t) k.window.x.push_back((o * w.strides[1] + t * w.dilations[1]) * channels);
    }
    k.window.shape.image_stride = k.lines.in_h * k.lines.row();
    k.window.shape.out_h = w.out[0], k.window.shape.out_w = w.out[1];
    k.window.shape.kh = w.kernel[0], k.window.shape.kw = columns;
    const int64_t width = kernels::panel_width(p.machine.isa);
    k.rows = m.rows, k.filters = m.group_filters, k.panels = (m.group_filters + width - 1) / width;
    k.weights = pack_panels_of(b, m, width).at;
    step.reads.push_back(k.weights.buffer);
    k.rooms = std::min<int64_t>(p.machine.threads, k.tasks);
    k.room = {b.scratch(static_cast<size_t>(k.rooms * k.room_bytes()))};
    step.scratch.push_back(k.room.buffer);
    k.epilogue = bind_epilogue(b, m.epilogue, m.result(), Layout::channels_last, step);
    k.output = b.define_rows(m.result(), Layout::channels_last, k.out_pitch);
    step.writes.push_back(k.output.buffer);
    step.text = fmt::format("{} lines at a time{}, {}, tasks {}{}", k.lines.block,
                            m.narrow ? fmt::format(", {} weights", to_string(b.dtype(m.narrow->values))) : "", tiles_text(k.lines.form),
                            k.tasks, m.epilogue.text.empty() ? "" : ", " + m.epilogue.text);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static constexpr int64_t kLeastChunk = 4, kMostSegments = 64;

  // A kernel row is one run, where its taps stand side by side.
  static bool joins(const ConvolutionMatch& m) { return m.window.dilations[1] == 1; }
  static int64_t run_of(const ConvolutionMatch& m) { return m.group_channels * (joins(m) ? m.window.kernel[1] : 1); }

  static double against_vectors(const ConvolutionMatch& m, const Machine& machine) {
    return tiles_against_vectors(machine.isa, {.form = tile_form(m),
                                               .rows = m.rows,
                                               .columns = m.group_filters,
                                               .depth = m.depth,
                                               .run = m.group_channels,
                                               .line = m.window.out[1],
                                               .uses = m.taps});
  }

  static PartedLines lines_of(const ConvolutionMatch& m) {
    const ops::Window& w = m.window;
    PartedLines l;
    l.form = tile_form(m);
    l.in_h = m.xs[2], l.in_w = m.xs[3];
    l.channels = l.pitch = m.group_channels;
    l.top = w.pads_begin[0], l.left = w.pads_begin[1];
    l.out_w = std::max(l.in_w + l.left, (w.out[1] - 1) * w.strides[1] + (w.kernel[1] - 1) * w.dilations[1] + 1);
    l.stride = w.strides[0], l.extent = (w.kernel[0] - 1) * w.dilations[0] + 1;
    return l;
  }
};

}  // namespace

const StepFamily& convolution_tiled() {
  static const TiledFamily family;
  return family;
}

}  // namespace lathe::lower
