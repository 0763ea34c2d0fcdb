// 3x3 convolutions of stride 1 by Winograd's method, where fewer products outweigh its transforms and its larger weights.
#include <algorithm>
#include <cmath>

#include "kernels/dense.hpp"
#include "kernels/winograd.hpp"
#include "lower/lowering.hpp"
#include "ops/support.hpp"
#include "ops/window.hpp"

namespace lathe::lower {
namespace {

using kernels::kTilePoints;

constexpr int64_t kSmallestChunk = 3;  // fewer rows would sum in another order (see the dense kernel): bits must not depend on the split

class WinogradKernel : public StepKernel {
 public:
  kernels::TransformInput transform_input = nullptr;
  kernels::TransformOutput transform_output = nullptr;
  kernels::Dense dense = nullptr;
  kernels::WinogradShape shape;
  Place input, output, weights, raw_weights, room;
  int64_t tiles = 0;
  int64_t chunks = 1, slots = 1;  // of tiles; as many are in the works at once
  bool phases = false;            // one chunk whose transforms and products are each shared out
  int64_t width = 0, panels = 0, panel_block = 0;
  BoundEpilogue epilogue;

  int64_t most() const { return (tiles + chunks - 1) / chunks; }
  int64_t input_floats() const { return kernels::WinogradRows(most(), shape.channels).floats(); }
  int64_t slot_floats() const {
    return input_floats() + kTilePoints * kernels::winograd_results(most(), shape.filters) + (most() + 63) / 64 * 16;
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
    k.rows = pointer<float>(c, room) + slot * slot_floats();
    k.results = k.rows + input_floats();
    k.odd = reinterpret_cast<uint8_t*>(k.results + kTilePoints * kernels::winograd_results(most(), shape.filters));
    return k;
  }

  void take_in(const StepContext& c, const Chunk& k, int64_t begin, int64_t end) const {
    transform_input({&shape, pointer<const float>(c, input), k.first, k.count, begin, end, k.rows, k.odd});
  }
  void multiply(const StepContext& c, const Chunk& k, int64_t point) const {
    const kernels::WinogradRows layout(k.count, shape.channels);
    kernels::DenseArguments d;
    d.a = k.rows + layout.at(point, shape.channels);
    d.lda = kernels::kNearStride;
    d.run = shape.channels;
    d.row_end = k.count;
    d.panel_end = panels;
    d.columns = shape.filters;
    const int64_t matrix = kernels::packed_size(shape.channels, shape.filters, width);
    d.b = pointer<const float>(c, weights) + point * matrix;
    if (point + 1 < kTilePoints) d.next_b = pointer<const float>(c, weights) + (point + 1) * matrix;
    d.c = k.results + point * kernels::winograd_results(k.count, shape.filters);
    d.ldc = shape.filters;
    d.k_block = kernels::kNearStride;
    d.panel_block = panel_block;
    dense(d);
  }
  void give_out(const StepContext& c, const Chunk& k, int64_t begin, int64_t end) const {
    kernels::TapeOperand operands[kernels::kMaxSlots];
    kernels::WinogradOutput o;
    o.shape = &shape;
    o.results = k.results;
    o.first = k.first, o.count = k.count, o.begin = begin, o.end = end;
    o.odd = k.odd;
    o.in = pointer<const float>(c, input);
    o.weights = pointer<const float>(c, raw_weights);
    o.out = pointer<float>(c, output);
    epilogue.fill(c, 0, o.epilogue, operands);
    transform_output(o);
  }

  void run(const StepContext& c) const override {
    if (phases) {
      const Chunk k = chunk_at(c, 0, 0);
      const int64_t parts = std::min<int64_t>(k.count, 8);
      c.workers.each(parts, [&](int64_t p, int) { take_in(c, k, k.count * p / parts, k.count * (p + 1) / parts); });
      c.workers.each(kTilePoints, [&](int64_t point, int) { multiply(c, k, point); });
      c.workers.each(parts, [&](int64_t p, int) { give_out(c, k, k.count * p / parts, k.count * (p + 1) / parts); });
      return;
    }
    c.workers.each(slots, [&](int64_t slot, int) {
      for (int64_t chunk = chunks * slot / slots; chunk < chunks * (slot + 1) / slots; ++chunk) {
        const Chunk k = chunk_at(c, chunk, slot);
        take_in(c, k, 0, k.count);
        for (int64_t point = 0; point < kTilePoints; ++point) multiply(c, k, point);
        give_out(c, k, 0, k.count);
      }
    });
  }
};

// Whether it pays, in multiply-adds of the direct sum: the products, the transforms (loads, stores and additions of vectors), and reading
// four times the weights where there are few tiles to use them.
bool pays(int64_t rows, int64_t tiles, int64_t channels, int64_t filters, bool near) {
  const auto c = static_cast<double>(channels), f = static_cast<double>(filters), t = static_cast<double>(tiles);
  const double direct = static_cast<double>(rows) * 9 * c * f + (near ? 0 : 9 * c * f * 4);
  const double products = kTilePoints * t * c * f, transforms = t * (216 * c + 190 * f), reading = near ? 0 : kTilePoints * c * f * 8;
  return products + transforms + reading < 0.85 * direct;
}

}  // namespace

bool lower_winograd(Lowering& l, const Group& group) {
  if (group.anchor < 0 || !group.ahead().empty() || !l.options().winograd || l.graph().nodes[group.anchor].op != "Conv") return false;
  const Graph& g = l.graph();
  const Node& node = g.nodes[group.anchor];
  const ValueId out = g.nodes[group.nodes.back()].outputs[0], w_value = node.inputs[1];
  const Shape xs = l.shape(node.inputs[0]), ws = l.shape(w_value);
  if (xs.size() != 4 || ws[2] != 3 || ws[3] != 3 || node.integer("group", 1) != 1 || !l.is_constant(w_value)) return false;
  const std::span<const int64_t> in = std::span<const int64_t>(xs).subspan(2);
  const ops::Window window = ops::read_window(node, in, std::span<const int64_t>(ws).subspan(2));
  for (int a = 0; a < 2; ++a) {
    if (window.strides[a] != 1 || window.dilations[a] != 1) return false;
  }
  const int64_t channels = ws[1], filters = ws[0];
  // A tile's channels are one run of the dense kernel.
  if (channels < 8 || filters < 8 || channels > kernels::kNearStride - 16) return false;
  auto kernel = std::make_unique<WinogradKernel>();
  WinogradKernel& k = *kernel;
  k.shape = {in[0], in[1], channels, window.out[0], window.out[1], filters, window.pads_begin[0], window.pads_begin[1], 0, 0, 0, 0};
  k.tiles = xs[0] * k.shape.tiles();
  const int64_t rows = xs[0] * window.out[0] * window.out[1];
  const kernels::Isa isa = l.options().isa;
  k.width = kernels::panel_width(isa);
  k.panels = (filters + k.width - 1) / k.width;
  const int64_t packed = kernels::packed_size(channels, filters, k.width), cache = l.options().block_bytes;
  if (rows == 0 || !pays(rows, k.tiles, channels, filters, kTilePoints * packed * 4 <= cache)) return false;
  // Numbers that might overflow on the way.
  const Tensor w = l.constant(w_value);
  if (!std::ranges::all_of(w.as<float>(), [](float x) { return std::fabs(x) < 1e18f; })) return false;

  Step step;
  step.kind = "convolution";
  step.nodes = l.names(group);
  const Epilogue e = epilogue_of(l, group, 1, node.inputs.size() > 2 ? node.inputs[2] : kAbsent);
  k.input = l.place_with_gaps(node.inputs[0], Layout::channels_last);
  const auto apart = strides_at(k.input, xs);
  k.shape.in_image = apart[0], k.shape.in_row = apart[2], k.shape.in_pixel = apart[3];
  const auto make = [&] {
    auto to = floats(kTilePoints * packed);
    kernels::winograd_weights(w.as<float>().data(), filters, channels, k.width, to.get());
    return entry_of(to, kTilePoints * packed);
  };
  k.raw_weights = l.where(w_value);  // for tiles with NaN or infinity
  k.weights = {l.derived({w_value, PackForm::winograd, {k.width}}, static_cast<size_t>(kTilePoints * packed) * 4, make)};
  step.reads = {k.input.buffer, k.weights.buffer, k.raw_weights.buffer};
  k.epilogue = bind_epilogue(l, e, out, Layout::channels_last, step);
  k.output = l.define_rows(out, Layout::channels_last, k.shape.out_pixel);
  step.writes.push_back(k.output.buffer);

  k.transform_input = kernels::winograd_input(isa);
  k.transform_output = kernels::winograd_output(isa);
  k.dense = kernels::dense(isa);
  const int threads = l.options().threads, tile_rows = kernels::max_rows(isa);
  // Every chunk passes over all weights, so chunks are large; but a chunk's own transforms should stay in L2 between the passes that write
  // and read them. What moves, in floats a tile:
  const double weights_floats = static_cast<double>(kTilePoints * packed);
  double best = 0;
  for (int64_t count = tile_rows; count <= std::max<int64_t>(k.tiles, tile_rows); count += tile_rows) {
    const int64_t n = std::max<int64_t>(1, std::min(k.tiles / kSmallestChunk, (k.tiles + count - 1) / count));
    const auto tiles = static_cast<double>((k.tiles + n - 1) / n);
    const double own = tiles * kTilePoints * static_cast<double>(channels + filters);
    const bool weights_near = weights_floats * 4 <= static_cast<double>(cache),
               own_near = (own + (weights_near ? weights_floats : 0)) * 4 <= 2.0 * static_cast<double>(cache);
    const double moved =
        (weights_near ? 0 : weights_floats / tiles) + (own_near ? 0 : 2 * kTilePoints * static_cast<double>(channels + filters));
    if (best == 0 || moved < best) {
      best = moved;
      k.chunks = n;
    }
    if (count > 512) break;
  }
  if (threads > 1 && k.chunks < threads * 2) {
    // Few chunks: as many as there are threads, or several, when each still has tiles enough; else everything is shared out phase by phase.
    const int64_t even = k.tiles >= threads * 4 * tile_rows ? threads * 4 : threads;
    if (k.tiles / even >= tile_rows && kTilePoints * packed * 4 <= 8 * cache) k.chunks = even;
    else if (k.chunks == 1 || k.chunks % threads != 0) k.phases = true, k.chunks = 1;
  }
  k.slots = threads > 1 && !k.phases ? std::min<int64_t>(k.chunks, threads * 4) : 1;
  k.room = {l.scratch(static_cast<size_t>(k.slots * k.slot_floats()) * 4)};
  step.scratch.push_back(k.room.buffer);
  k.panel_block = std::max<int64_t>(1, cache / (channels * k.width * 4));

  const double outputs = static_cast<double>(rows) * static_cast<double>(filters);
  step.flops = 2 * outputs * static_cast<double>(channels) * 9;
  step.bytes = 4 * (static_cast<double>(element_count(xs)) + static_cast<double>(element_count(ws)) + outputs);
  step.recipe =
      fmt::format("Winograd 4x4 of 6x6, {} {}x{} tile, {} tiles in {}{}", kernels::name(isa), tile_rows, k.width, k.tiles,
                  k.phases ? "phases" : fmt::format("{} chunk{}", k.chunks, k.chunks > 1 ? "s" : ""), e.text.empty() ? "" : ", " + e.text);
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
