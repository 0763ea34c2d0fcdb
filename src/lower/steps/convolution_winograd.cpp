// 3x3 convolutions of stride 1 by Winograd's method, where fewer products outweigh its transforms and its larger weights.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <iterator>

#include "kernels/dense.hpp"
#include "kernels/winograd.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/convolution.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {
namespace {

constexpr int64_t kSmallestChunk = 3;  // fewer rows would sum in another order (see the dense kernel): bits must not depend on the split

class WinogradKernel : public StepKernel {
 public:
  kernels::WinogradKernels transforms;
  kernels::Dense dense = nullptr;
  kernels::WinogradShape shape;
  Location input, output, weights, scratch;
  // For tiles with NaN or infinity, and what is transformed while it is used: weights as they were, or as panels.
  Location raw_weights;
  bool raw_panels = false;
  kernels::PanelType panel_type = kernels::PanelType::f32;
  int64_t tiles = 0;
  int64_t chunks = 1, slots = 1;  // of tiles; as many are in the works at once
  bool phases = false;            // one chunk whose transforms and products are each shared out
  int64_t width = 0, panels = 0, panel_block = 0;
  int64_t made = 0;   // panels whose weights are transformed at a time, just before they are used; 0: all stand ready
  int64_t rooms = 1;  // for so many such blocks at once
  Location made_weights;
  BoundEpilogue epilogue;

  int64_t most() const { return (tiles + chunks - 1) / chunks; }
  int64_t input_floats() const { return kernels::WinogradRows(most(), shape.channels).floats(shape.points()); }
  int64_t made_floats() const { return made * shape.points() * shape.channels * width; }
  int64_t slot_floats() const {
    return input_floats() + shape.points() * kernels::winograd_results(most(), shape.filters) + (most() + 63) / 64 * 16;
  }

  // A chunk's memory and what is read of it.
  struct Chunk {
    int64_t first, count;
    float *rows, *results;
    uint8_t* odd;
  };
  Chunk chunk_at(const StepContext& c, int64_t chunk, int64_t slot) const {
    Chunk k;
    k.first = tiles * chunk / chunks;
    k.count = tiles * (chunk + 1) / chunks - k.first;
    k.rows = pointer<float>(c, scratch) + slot * slot_floats();
    k.results = k.rows + input_floats();
    k.odd = reinterpret_cast<uint8_t*>(k.results + shape.points() * kernels::winograd_results(most(), shape.filters));
    return k;
  }

  void take_in(const StepContext& c, const Chunk& k, int64_t begin, int64_t end) const {
    transforms.input({&shape, pointer<const float>(c, input), k.first, k.count, begin, end, k.rows, k.odd});
  }
  // The product of one point by panels [begin, end) that stand at `b`.
  kernels::DenseArguments product(const Chunk& k, int64_t point, const float* b, int64_t begin, int64_t end) const {
    kernels::DenseArguments d;
    d.a = k.rows + kernels::WinogradRows(k.count, shape.channels).at(point, shape.channels);
    d.lda = kernels::kNearStride;
    d.run = shape.channels;
    d.row_end = k.count;
    d.panel_end = end - begin;
    d.columns = shape.filters - begin * width;
    d.b = b;
    d.c = k.results + point * kernels::winograd_results(k.count, shape.filters) + begin * width;
    d.ldc = shape.filters;
    d.k_block = kernels::kNearStride;
    d.panel_block = panel_block;
    return d;
  }
  void multiply(const StepContext& c, const Chunk& k, int64_t point) const {
    const int64_t matrix = kernels::packed_size(shape.channels, shape.filters, width);
    const float* b = pointer<const float>(c, weights) + point * matrix;
    kernels::DenseArguments d = product(k, point, b, 0, panels);
    if (point + 1 < shape.points()) d.next_b = b + matrix;
    dense(d);
  }
  // The products of panels [begin, end) at all points, by weights transformed into `room`.
  void multiply_made(const StepContext& c, const Chunk& k, int64_t begin, int64_t end, float* room) const {
    transforms.weights_now({pointer<const void>(c, raw_weights), panel_type, shape.channels, width, begin, end, room});
    for (int64_t point = 0; point < shape.points(); ++point)
      dense(product(k, point, room + point * (end - begin) * shape.channels * width, begin, end));
  }
  void give_out(const StepContext& c, const Chunk& k, int64_t begin, int64_t end) const {
    kernels::TapeOperand operands[kernels::kMaxSlots];
    kernels::WinogradOutput o;
    o.shape = &shape;
    o.results = k.results;
    o.first = k.first, o.count = k.count, o.begin = begin, o.end = end;
    o.odd = k.odd;
    o.in = pointer<const float>(c, input);
    if (raw_panels) {
      o.panels = pointer<const void>(c, raw_weights);
      o.panel_type = panel_type;
      o.width = width;
    } else {
      o.weights = pointer<const float>(c, raw_weights);
    }
    o.out = pointer<float>(c, output);
    epilogue.fill(c, 0, o.epilogue, operands);
    transforms.output(o);
  }

  void run(const StepContext& c) const override {
    if (phases) {
      const Chunk k = chunk_at(c, 0, 0);
      const int64_t parts = std::min<int64_t>(k.count, 8);
      c.workers.each(parts, [&](int64_t p, int) { take_in(c, k, k.count * p / parts, k.count * (p + 1) / parts); });
      const int64_t blocks = made > 0 ? (panels + made - 1) / made : 0;
      if (made > 0)
        c.workers.each(rooms, [&](int64_t task, int) {
          for (int64_t b = blocks * task / rooms; b < blocks * (task + 1) / rooms; ++b)
            multiply_made(c, k, b * made, std::min(panels, (b + 1) * made), pointer<float>(c, made_weights) + task * made_floats());
        });
      else c.workers.each(shape.points(), [&](int64_t point, int) { multiply(c, k, point); });
      c.workers.each(parts, [&](int64_t p, int) { give_out(c, k, k.count * p / parts, k.count * (p + 1) / parts); });
      return;
    }
    c.workers.each(slots, [&](int64_t slot, int) {
      for (int64_t chunk = chunks * slot / slots; chunk < chunks * (slot + 1) / slots; ++chunk) {
        const Chunk k = chunk_at(c, chunk, slot);
        take_in(c, k, 0, k.count);
        float* room = made > 0 ? pointer<float>(c, made_weights) + slot * made_floats() : nullptr;
        for (int64_t p = 0; room && p < panels; p += made) multiply_made(c, k, p, std::min(panels, p + made), room);
        for (int64_t point = 0; !room && point < shape.points(); ++point) multiply(c, k, point);
        give_out(c, k, 0, k.count);
      }
    });
  }
};

struct WinogradMatch : ConvolutionMatch {
  explicit WinogradMatch(ConvolutionMatch m) : ConvolutionMatch(std::move(m)) {}
  kernels::WinogradShape shape;
  int64_t tiles = 0;
};

// By tiles of kOutputs x kOutputs.
template <int kOutputs>
class WinogradFamily : public StepFamily {
  static constexpr int64_t kSide = kOutputs + 2, kPoints = kSide * kSide;

 public:
  std::string_view name() const override { return kOutputs == 2 ? "convolution.winograd_2x2" : "convolution.winograd"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto direct = match_convolution(view, group);
    if (!direct || !group.ahead().empty()) return nullptr;
    const auto& [xs, ws, w] = std::tie(direct->xs, direct->ws, direct->window);
    if (xs.size() != 4 || ws[2] != 3 || ws[3] != 3 || direct->groups != 1 || direct->rows == 0) return nullptr;
    const auto one = [](const std::vector<int64_t>& list) { return std::ranges::all_of(list, [](int64_t s) { return s == 1; }); };
    if (!one(w.strides) || !one(w.dilations)) return nullptr;
    // A tile's channels are one run of the dense kernel.
    if (ws[1] < 8 || ws[0] < 8 || ws[1] > kernels::kNearStride - 16) return nullptr;
    if (!direct->constant_weights()) return nullptr;
    auto m = std::make_unique<WinogradMatch>(std::move(*direct));
    const ops::Window& window = m->window;
    m->shape = {kOutputs, m->xs[2], m->xs[3], m->ws[1], window.out[0], window.out[1], m->ws[0], window.pads_begin[0], window.pads_begin[1],
                0,        0,        0,        0};
    m->tiles = m->xs[0] * m->shape.tiles();
    return m;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::channels_last, Order::channels_last, Order::channels_last}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const WinogradMatch&>(match);
    const int64_t width = kernels::panel_width(p.machine.isa), made = made_at_once(m, p.machine);
    // Each chunk would transform the weights anew: 1.05 to 1.5 times as long for two chunks as for one.
    const Chunks c = made > 0 ? Chunks{1, p.machine.threads > 1} : chunks_of(m, p.machine);
    space.knob("chunks", c.chunks, 1, std::max<int64_t>(1, m.tiles / kSmallestChunk));
    space.knob("phases", c.phases, 0, 1);
    space.knob("slots", p.machine.threads > 1 && !c.phases ? std::min<int64_t>(c.chunks, p.machine.threads * 4) : 1, 1,
               std::max<int64_t>(1, std::min<int64_t>(m.tiles / kSmallestChunk, 64)));
    const int64_t panels = (m.group_filters + width - 1) / width;
    space.knob("panel_block", panels_of_block(p.machine, m.group_channels, width), 1, panels);
    space.knob("made", made, 0, panels, 1, true);  // in f32, where those ahead are made in double
  }

  std::string fault(const Match& m, const Problem&, const Recipe& r) const override {
    if (r.at("slots") > r.at("chunks")) return "more slots than chunks";
    return r.at("phases") == 1 && r.at("chunks") > 1        ? "phases are of one chunk"
           : in_range(static_cast<const WinogradMatch&>(m)) ? ""
                                                            : "the weights are so large that sums of them might overflow";
  }

  // In multiply-adds of the direct sum: the products, the transforms (loads, stores and additions of vectors), and reading four times the
  // weights where there are few tiles to use them; what the direct sum would read of its own is taken off. It has to save 15 %.
  double estimate(const Match& match, const Problem& p, const Recipe& r) const override {
    const auto& m = static_cast<const WinogradMatch&>(match);
    const auto c = static_cast<double>(m.group_channels), f = static_cast<double>(m.group_filters), t = static_cast<double>(m.tiles);
    const int64_t bytes = weight_floats(m, p.machine) * 4, block = p.machine.block_bytes;
    const double a_weight = p.weights_leave_caches ? 10 : bytes > 2 * block ? 8 : bytes > block ? 2 : 0;
    const double made = r.at("made") > 0 ? 1 : 0;  // for one chunk: a choice by the number of threads would change last bits
    const double products = kPoints * t * c * f, transforms = t * (kInputCost * c + kOutputCost * f) + made * kTransforms * c * f,
                 reading = (made > 0 ? 9 : kPoints) * c * f * a_weight, saved = 9 * c * f * a_weight / 2;
    return 2 * ((products + transforms + reading) / 0.85 - saved) / p.machine.rates.flops;
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const WinogradMatch&>(match);
    const kernels::Isa isa = p.machine.isa;
    auto kernel = std::make_unique<WinogradKernel>();
    WinogradKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.shape = m.shape;
    k.tiles = m.tiles;
    k.width = kernels::panel_width(isa);
    k.panels = (m.group_filters + k.width - 1) / k.width;
    k.chunks = recipe.at("chunks"), k.slots = recipe.at("slots"), k.panel_block = recipe.at("panel_block");
    k.phases = recipe.at("phases") != 0;
    const auto [input, apart] = channels_last_input(b, m);
    k.input = input;
    k.shape.in_image = apart[0], k.shape.in_row = apart[2], k.shape.in_pixel = apart[3];
    k.made = recipe.at("made");
    k.transforms = kOutputs == 2 ? kernels::winograd2(isa) : kernels::winograd4(isa);
    step.reads = {k.input.buffer};
    bind_weights(b, m, p.machine, k, step);
    k.epilogue = bind_epilogue(b, m.epilogue, m.result(), Layout::channels_last, step);
    k.output = b.define_rows(m.result(), Layout::channels_last, k.shape.out_pixel);
    step.writes.push_back(k.output.buffer);
    k.dense = kernels::dense(isa);
    k.scratch = {b.scratch(static_cast<size_t>(k.slots * k.slot_floats()) * sizeof(float))};
    step.scratch.push_back(k.scratch.buffer);
    if (k.made > 0) {
      k.rooms = k.phases ? std::min<int64_t>(p.machine.threads, (k.panels + k.made - 1) / k.made) : k.slots;
      k.made_weights = {b.scratch(static_cast<size_t>(k.rooms * k.made_floats()) * sizeof(float))};
      step.scratch.push_back(k.made_weights.buffer);
    }
    step.text = fmt::format(
        "Winograd {0}x{0} of {1}x{1}{2}, {3} {4}x{5} tile, {6} tiles in {7}{8}{9}", kOutputs, kSide,
        m.narrow ? fmt::format(", {} weights", to_string(b.dtype(m.narrow->values))) : "", kernels::name(isa), kernels::max_rows(isa),
        k.width, k.tiles, k.phases ? "phases" : fmt::format("{} chunk{}", k.chunks, k.chunks > 1 ? "s" : ""),
        k.made > 0 ? ", weights transformed as they are used" : "", m.epilogue.text.empty() ? "" : ", " + m.epilogue.text);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static constexpr int64_t kFewTiles = 64;  // all of them at once fit L2

  // Loads, stores and additions of vectors, in multiply-adds of the direct sum: of a channel of a tile, of a filter of one, of a weight.
  static constexpr double kInputCost = kOutputs == 2 ? 64 : 216, kOutputCost = kOutputs == 2 ? 52 : 190,
                          kTransforms = kOutputs == 2 ? 150 : 400;

  // Larger numbers might overflow on the way. What was packed and let go of was looked at before.
  static bool in_range(const WinogradMatch& m) {
    const auto& w = m.view->graph().values[static_cast<size_t>(m.narrow ? m.narrow->values : m.weights())].constant;
    return w->data() == nullptr || !has_huge_weights(*w);
  }

  // Weights that a model keeps narrow and that L2 would not hold once they are transformed stay as they are, and are transformed while they
  // are used: as many panels as half of L2 holds. Only for so few tiles that they are transformed once: with chunks of some fifty tiles
  // each that took 1.2 times as long. Not a matter of threads, as the last bits hang on it. In f32, what stands ready is faster.
  static int64_t made_at_once(const WinogradMatch& m, const Machine& machine) {
    if (!m.narrow || m.tiles > kFewTiles || weight_floats(m, machine) * 4 <= machine.block_bytes) return 0;
    const int64_t width = kernels::panel_width(machine.isa), panel = kPoints * m.group_channels * width * 4;
    return std::clamp<int64_t>(machine.block_bytes / 2 / panel, 1, (m.group_filters + width - 1) / width);
  }

  static void bind_weights(PlanBuilder& b, const WinogradMatch& m, const Machine& machine, WinogradKernel& k, Step& step) {
    const int64_t floats_needed = weight_floats(m, machine);
    if (m.narrow || k.made > 0) {
      const ConvolutionPanels panels = pack_panels_of(b, m, k.width);
      k.raw_panels = true;
      k.raw_weights = panels.at;
      k.panel_type = panels.type;
    } else {
      k.raw_weights = b.locate_contiguous(m.weights());
    }
    step.reads.push_back(k.raw_weights.buffer);
    if (k.made > 0) return;
    const ValueId value = m.narrow ? m.narrow->values : m.weights();
    const auto make = [&] {
      auto to = floats(floats_needed);
      const Tensor w = b.constant(value);
      std::vector<float> wide;
      if (m.narrow) std::ranges::copy(widen<double>(w), std::back_inserter(wide));
      k.transforms.weights_ahead(m.narrow ? wide.data() : w.as<float>().data(), m.group_filters, m.group_channels, k.width, to.get());
      return entry_of(to, floats_needed);
    };
    k.weights = {b.packed({value, PackForm::winograd, {k.width, kOutputs}}, static_cast<size_t>(floats_needed) * sizeof(float), make)};
    step.reads.push_back(k.weights.buffer);
  }

  static int64_t weight_floats(const WinogradMatch& m, const Machine& machine) {
    return kPoints * kernels::packed_size(m.group_channels, m.group_filters, kernels::panel_width(machine.isa));
  }

  struct Chunks {
    int64_t chunks = 1;
    bool phases = false;
  };
  // Every chunk passes over all weights, so chunks are large; but a chunk's own transforms should stay in L2 between the passes that write
  // and read them.
  static Chunks chunks_of(const WinogradMatch& m, const Machine& machine) {
    Chunks out;
    const int threads = machine.threads, tile_rows = kernels::max_rows(machine.isa);
    const auto cache = static_cast<double>(machine.block_bytes), weights = static_cast<double>(weight_floats(m, machine));
    const auto numbers = static_cast<double>(kPoints * (m.group_channels + m.group_filters));  // of a tile
    // On one thread L2 holds all of a few tiles at once: with 16 to 64 of them one chunk was 1.05 to 1.5 times as fast as two, with 100 and
    // more slower where channels are few (lathe tune --curve N:chunks).
    const double all = static_cast<double>(m.tiles) * numbers + (weights * 4 <= cache ? weights : 0);
    if (threads == 1 && m.tiles <= kFewTiles && all <= cache) return {};
    double best = 0;
    for (int64_t count = tile_rows; count <= std::max<int64_t>(m.tiles, tile_rows); count += tile_rows) {
      const int64_t n = std::max<int64_t>(1, std::min(m.tiles / kSmallestChunk, (m.tiles + count - 1) / count));
      const auto tiles = static_cast<double>((m.tiles + n - 1) / n);
      const bool weights_near = weights * 4 <= cache, own_near = (tiles * numbers + (weights_near ? weights : 0)) * 4 <= 2 * cache;
      const double moved = (weights_near ? 0 : weights / tiles) + (own_near ? 0 : 2 * numbers);  // floats a tile
      if (best == 0 || moved < best) {
        best = moved;
        out.chunks = n;
      }
      if (count > 512) break;
    }
    if (threads > 1 && out.chunks < threads * 2) {
      // Few chunks: as many as there are threads, or several, when each still has tiles enough; else everything is shared out by phases.
      const int64_t even = m.tiles >= threads * 4 * tile_rows ? threads * 4 : threads;
      if (m.tiles / even >= tile_rows && weights * 4 <= 8 * cache) out.chunks = even;
      else if (out.chunks == 1 || out.chunks % threads != 0) out.phases = true, out.chunks = 1;
    }
    return out;
  }
};

}  // namespace

const StepFamily& convolution_winograd_2x2() {
  static const WinogradFamily<2> family;
  return family;
}
const StepFamily& convolution_winograd() {
  static const WinogradFamily<4> family;
  return family;
}

}  // namespace lathe::lower
