// Products of few rows and columns over a long K: K is cut, each part of each panel multiplied on its own by any thread, and the parts
// added up with the epilogue. The cut is the recipe's and no thread's, so bits do not depend on the number of threads.
#include <fmt/format.h>

#include <algorithm>

#include "lower/steps/product.hpp"

namespace lathe::lower {
namespace {

constexpr int64_t kPart = 2048;     // of K, untuned
constexpr int64_t kMostParts = 64;  // untuned
constexpr int64_t kFewTiles = 16;   // fewer than these do not occupy the threads of a large machine

class DeepProduct : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  Location a, b, output;
  Location packed;  // panels: constant, or by task room for a part of one
  bool pack_while_running = false;
  kernels::PanelType b_type = kernels::PanelType::f32;
  Location sums;  // scratch: row by row, panel by panel, the parts' sums one after another, as the panels of a product with `ones`
  Location ones;  // as many as parts; alpha where B is made at run time
  int64_t m = 0, n = 0, k = 0, b_k_stride = 0, b_n_stride = 0, a_pitch = 0, out_pitch = 0;
  int64_t width = 0, panels = 0, parts = 1, tasks = 1, k_block = 0, tile_rows = 0, fetch_ahead = 0;
  BoundEpilogue epilogue;

  int64_t longest() const { return (k + parts - 1) / parts; }
  int64_t panel_floats() const { return parts * width; }  // of the sums

  void run(const StepContext& c) const override {
    c.workers.each(tasks, [&](int64_t task, int) {
      for (int64_t i = panels * parts * task / tasks; i < panels * parts * (task + 1) / tasks; ++i) multiply(c, i / parts, i % parts, task);
    });
    kernels::TapeOperand operands[kernels::kMaxSlots];
    kernels::DenseArguments d;
    d.a = pointer<const float>(c, ones);
    d.run = parts;
    d.panel_end = panels;
    d.columns = n;
    d.all_rows = 1;
    d.c = pointer<float>(c, output);
    d.ldc = out_pitch;
    d.k_block = parts;
    d.panel_block = panels;
    epilogue.fill(c, 0, d.epilogue, operands);
    for (int64_t row = 0; row < m; ++row) {
      d.row_begin = row, d.row_end = row + 1;
      d.b = pointer<const float>(c, sums) + row * panels * panel_floats();
      dense(d);
    }
  }

 private:
  void multiply(const StepContext& c, int64_t panel, int64_t part, int64_t task) const {
    const int64_t from = k * part / parts, depth = k * (part + 1) / parts - from, columns = std::min(width, n - panel * width);
    kernels::DenseArguments d;
    d.a = pointer<const float>(c, a) + from;
    d.lda = a_pitch;
    d.run = depth;
    d.row_end = d.all_rows = m;
    d.panel_end = 1;
    d.columns = columns;
    if (pack_while_running) {
      float* room = pointer<float>(c, packed) + task * longest() * width;
      const float* here = pointer<const float>(c, b) + from * b_k_stride + panel * width * b_n_stride;
      kernels::pack_panels(here, b_k_stride, b_n_stride, depth, columns, width, room, 0, 1);
      d.b = room;
    } else {
      const int64_t element = b_type == kernels::PanelType::f32 ? 4 : 2;
      d.b = pointer<const char>(c, packed) + (panel * k + from) * width * element;
    }
    d.b_type = b_type;
    d.from_memory = true;  // a panel is passed over once: a few rows are not worth copying for it
    d.c = pointer<float>(c, sums) + panel * panel_floats() + part * width;
    d.ldc = panels * panel_floats();
    d.k_block = k_block;
    d.panel_block = 1;
    d.tile_rows = tile_rows;
    d.fetch_ahead = fetch_ahead;
    dense(d);
  }
};

class DeepFamily : public StepFamily {
 public:
  std::string_view name() const override { return "product.deep"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_product(view, group);
    if (!m || !group.ahead().empty() || m->transpose_a || m->batches() != 1 || m->b_matrices != 1) return nullptr;
    if (m->narrow && m->narrow->quantised()) return nullptr;
    constexpr int64_t kMostRows = 256, kMostColumns = 512;
    if (m->m == 0 || m->n == 0 || m->m > kMostRows || m->n > kMostColumns || most_parts(*m) < 2) return nullptr;
    return m;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const ProductMatch&>(match);
    const int64_t all = panels(m, p.machine), parts = std::clamp<int64_t>(m.k / kPart, 1, std::min(kMostParts, most_parts(m)));
    space.knob("k_block", kDepthBlock, 64, kDepthBlock, 16, true);
    dense_knobs(space, p.machine.isa);
    space.knob("parts", parts, 1, most_parts(m), 1, true);
    const bool share = p.machine.threads > 1 && worth_sharing(p.machine.rates, match.work);
    space.knob("tasks", share ? std::min(all * parts, p.machine.threads * int64_t{4}) : 1, 1, all * most_parts(m));
  }
  std::string fault(const Match& match, const Problem& p, const Recipe& r) const override {
    const int64_t pieces = panels(static_cast<const ProductMatch&>(match), p.machine) * r.at("parts");
    return r.at("tasks") > pieces ? "fewer parts than tasks" : "";
  }
  // The same work; better shared out where there is little else to share, and not by how many threads there are. Where there are tiles of
  // bf16, products are theirs.
  double estimate(const Match& match, const Problem& p, const Recipe&) const override {
    const auto& m = static_cast<const ProductMatch&>(match);
    const int64_t tile = kernels::max_rows(p.machine.isa), tiles = (m.m + tile - 1) / tile * panels(m, p.machine);
    const double time = seconds(p.machine.rates, m.work);
    const bool pays = tiles < kFewTiles && m.k >= 2 * kPart && time >= 20 * p.machine.rates.fork && p.machine.isa != kernels::Isa::amx;
    return time * (pays ? 0.9 : 2);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ProductMatch&>(match);
    const kernels::Isa isa = p.machine.isa;
    auto kernel = std::make_unique<DeepProduct>();
    DeepProduct& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.dense = kernels::dense(isa);
    k.m = m.m, k.n = m.n, k.k = m.k;
    k.b_k_stride = m.k_stride(), k.b_n_stride = m.n_stride();
    k.width = kernels::panel_width(isa), k.panels = panels(m, p.machine);
    k.parts = recipe.at("parts"), k.tasks = recipe.at("tasks"), k.k_block = recipe.at("k_block");
    k.tile_rows = recipe.at("tile_rows"), k.fetch_ahead = recipe.at("fetch_ahead");
    k.a = b.rows(m.a(), Layout::natural, k.a_pitch);
    step.reads.push_back(k.a.buffer);
    bind_weights(b, m, k, step);
    Tensor ones(DType::f32, {k.parts});
    std::fill_n(ones.as<float>().begin(), k.parts, k.pack_while_running ? m.alpha : 1.0f);
    k.ones = {b.constant_buffer(ones)};
    step.reads.push_back(k.ones.buffer);
    constexpr int64_t kBehind = 16;  // floats that products may fetch
    k.sums = {b.scratch(static_cast<size_t>(k.m * k.panels * k.panel_floats() + kBehind) * sizeof(float))};
    step.scratch.push_back(k.sums.buffer);
    k.epilogue = bind_epilogue(b, m.epilogue, m.result(), Layout::natural, step);
    k.output = b.define_rows(m.result(), Layout::natural, k.out_pitch);
    step.writes.push_back(k.output.buffer);
    step.text = fmt::format("{}x{}x{}{}, {} {}x{} tile, K in {} parts, {} tasks{}", k.m, k.n, k.k,
                            m.narrow ? fmt::format(", {} weights", to_string(b.dtype(m.narrow->values))) : "", kernels::name(isa),
                            k.tile_rows, k.width, k.parts, k.tasks, m.epilogue.text.empty() ? "" : ", " + m.epilogue.text);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static int64_t panels(const ProductMatch& m, const Machine& machine) {
    const int64_t width = kernels::panel_width(machine.isa);
    return (m.n + width - 1) / width;
  }
  static int64_t most_parts(const ProductMatch& m) { return std::max<int64_t>(1, m.k / 256); }

  static void bind_weights(PlanBuilder& b, const ProductMatch& m, DeepProduct& k, Step& step) {
    const MatrixForm form{1, m.k, m.n, m.k_stride(), m.n_stride(), k.width, m.transpose_b};
    if (const auto panels = pack_constant(b, m, form)) {
      k.b_type = panels->type, k.packed = panels->at;
      step.reads.push_back(k.packed.buffer);
      return;
    }
    constexpr int64_t kBehind = 16;
    k.pack_while_running = true;
    k.b = b.contiguous(m.b(), Layout::natural);
    k.packed = {b.scratch(static_cast<size_t>(k.tasks * k.longest() * k.width + kBehind) * sizeof(float))};
    step.reads.push_back(k.b.buffer);
    step.scratch.push_back(k.packed.buffer);
  }
};

}  // namespace

const StepFamily& deep_products() {
  static const DeepFamily family;
  return family;
}

}  // namespace lathe::lower
