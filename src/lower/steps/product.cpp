// Matrix products: MatMul and Gemm.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include "kernels/dense_tiles.hpp"
#include "lower/steps/forms.hpp"
#include "lower/steps/product.hpp"
#include "lower/steps/product_kernel.hpp"
#include "lower/steps/tiles.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

// Matrices made at run time, one for each batch: every slot packs its own, one after another.
bool packs_by_batch(const ProductMatch& m) {
  return !m.view->is_constant(m.b()) && !m.narrow && m.batches() > 1 && m.b_matrices == m.batches() && m.alpha == 1;
}

// As many rows are multiplied by quantised weights as they are, some at a time; for more, panels become floats first. Of 4 bits fewer
// where they are not looked up in a register: there widening is most of the work, and twice the work for twice the rows.
int64_t narrow_rows(const ProductMatch& m, kernels::Isa isa) {
  const int64_t together = kernels::narrow_rows(isa);
  const bool bytes = bit_width(m.view->graph().values[static_cast<size_t>(m.narrow->values)].dtype) == 8;
  return bytes || kernels::is_avx512(isa) ? 2 * together : together;
}

class ProductFamily : public StepFamily {
 public:
  std::string_view name() const override { return "product"; }
  std::span<const Numbers> numbers() const override { return kF32; }
  std::span<const StepFamily* const> forms() const override {
    static const std::array kForms{&product_of_doubles()};
    return kForms;
  }

  Anchor anchor(const GraphView& view, const Node& n) const override {
    if ((n.op != "MatMul" && n.op != "Gemm") || n.outputs.empty() || !all_f32(view.graph(), n)) return Anchor::none;
    if (n.op == "MatMul") return view.shape(n.inputs[0]).size() >= 2 && view.shape(n.inputs[1]).size() >= 2 ? Anchor::tiles : Anchor::none;
    // The bias as a vector over columns (or whole) goes with the kernel; other forms are rare and go by plain.
    if (given(n.inputs, 2)) {
      const Shape c = view.shape(n.inputs[2]), out = view.shape(n.outputs[0]);
      if (n.real("beta", 1) != 1) return Anchor::none;
      const bool vector = element_count(c) == out[1] && !c.empty() && c.back() == out[1];
      if (!vector && c != out) return Anchor::none;
    }
    return Anchor::tiles;
  }

  std::optional<RowsRead> rows_read(const GraphView& view, const Node& n) const override {
    if (anchor(view, n) == Anchor::none) return std::nullopt;
    const Shape xs = view.shape(n.inputs[0]);
    const int64_t elements = element_count(xs);
    const auto narrow = view.narrow(n.inputs[1]);
    if (narrow && narrow->quantised()) return std::nullopt;
    if (elements == 0 || view.shape(n.inputs[1]).size() != 2 || n.integer("transA", 0) != 0) return std::nullopt;
    return RowsRead{elements / xs.back(), xs.back()};
  }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    return match_product(view, group);
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const ProductMatch&>(match);
    const Machine& machine = p.machine;
    const int64_t width = kernels::panel_width(machine.isa), panels = (m.n + width - 1) / width, batches = m.batches();
    const int threads = batches >= machine.threads * 2 ? 1 : machine.threads, tile = kernels::max_rows(machine.isa);
    Split split = split_work(machine, threads, m.m, panels, width, m.k, tile);
    const int64_t panel_block = panels_of_block(machine, std::min(m.k, kDepthBlock), width);
    space.knob("k_block", kDepthBlock, 64, kDepthBlock, 16, true);
    const double against = against_vectors(m, machine);
    const bool tiles = against < kTilesPay;
    space.knob("tiles", tiles ? 1 : 0, 0, std::isfinite(against) ? 1 : 0, 1, true);
    dense_knobs(space, machine.isa);
    if (whole_panels(m, machine)) {
      space.knob("panel_block", std::min(panels, panels_of_block(machine, m.k, width)), 1, panels);
      space.knob("panel_tasks",
                 worth_sharing(machine.rates, m.work) && machine.threads > 1 ? std::min<int64_t>(panels, machine.threads * 2) : 1, 1,
                 panels);
      return;
    }
    const bool packed =
        m.group->ahead().empty() && !m.transpose_a &&
        packs_rows(machine, threads, m.m, panels, panel_block, m.view->is_constant(m.b()) && p.weights_leave_caches, tile, split);
    space.knob("panel_block", panel_block, 1, panels);
    space.knob("packed_rows", !tiles && packed && batches * split.count() <= kMostPacked, 0, 1);
    space.knob("row_tasks", split.row_tasks, 1, m.m);
    space.knob("panel_tasks", split.panel_tasks, 1, panels);
    if (packs_by_batch(m))
      space.knob("slots", batches < machine.threads * 2 ? 0 : std::min<int64_t>(batches, machine.threads > 1 ? machine.threads * 4 : 1), 0,
                 batches);
    prologue_knob(m, machine, m.as.back(), split, space);
  }

  std::string fault(const Match& match, const Problem& p, const Recipe& r) const override {
    const auto& m = static_cast<const ProductMatch&>(match);
    if (whole_panels(m, p.machine)) return "";
    if (!keeps_order(m.m, r.at("row_tasks"), r.at("tile_rows"))) return "tasks of one or two rows";
    if (packs_by_batch(m) && r.at("slots") > 0 && r.at("row_tasks") * r.at("panel_tasks") > 1) return "slots do whole matrices";
    return prologue_fault(match, r);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ProductMatch&>(match);
    const kernels::Isa isa = p.machine.isa;
    auto kernel = std::make_unique<ProductKernel>();
    ProductKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    const bool quantised = m.narrow && m.narrow->quantised(), tiles = recipe.at("tiles") != 0;
    k.dense = tiles ? kernels::dense_by_tiles : kernels::dense(isa);
    k.m = m.m, k.n = m.n, k.k = m.k;
    k.transpose_a = m.transpose_a, k.alpha = m.alpha;
    k.b_k_stride = m.k_stride(), k.b_n_stride = m.n_stride();
    k.a_offsets = m.a_offsets, k.b_offsets = m.b_offsets, k.b_matrices = m.b_matrices;
    k.from_memory = b.is_constant(m.b()) && p.weights_leave_caches;
    k.width = kernels::panel_width(isa);
    k.panels = (k.n + k.width - 1) / k.width;
    k.k_block = recipe.at("k_block"), k.panel_block = recipe.at("panel_block"), k.tile_rows = recipe.at("tile_rows"),
    k.fetch_ahead = recipe.at("fetch_ahead");
    const bool whole = k.whole_panels = whole_panels(m, p.machine);
    k.split = {whole ? 1 : recipe.at("row_tasks"), recipe.at("panel_tasks")};
    if (packs_by_batch(m)) k.slots = recipe.at("slots");
    k.a_pitch = k.k;
    if (m.group->ahead().empty()) {
      k.a = k.transpose_a ? b.contiguous(m.a(), Layout::natural) : b.rows(m.a(), Layout::natural, k.a_pitch);
      step.reads.push_back(k.a.buffer);
    }
    if (k.transpose_a) {
      k.a_turned = {b.scratch(static_cast<size_t>(k.m * k.k) * sizeof(float))};
      step.scratch.push_back(k.a_turned.buffer);
    }
    bind_weights(b, m, k, step);
    if (tiles) {
      step.arithmetic = "bf16", step.products = form_of(m).products();
      k.rows_like_b = form_of(m).rows_like_b;
      k.tile_rooms = p.machine.threads;
      k.tile_room = {b.scratch(static_cast<size_t>(k.tile_rooms * kernels::kTileRoom))};
      step.scratch.push_back(k.tile_room->buffer);
    } else if (!whole && k.slots == 0 && recipe.at("packed_rows") != 0) {
      k.packed_row_floats = kernels::packed_rows(isa);
      k.packed_rows = {b.scratch(static_cast<size_t>(m.batches() * k.split.count() * k.packed_row_floats) * sizeof(float))};
      step.scratch.push_back(k.packed_rows.buffer);
    }
    if (!whole && !tiles) k.widened_parts = bind_widened(b, k.b_type, isa, k.m, k.panels, k.k, recipe, m.batches() * k.split.count(), step);
    if (quantised) {
      k.multiply_narrow = kernels::narrow_product(isa), k.widen = kernels::widen_panel(isa);
      k.narrow_rows = narrow_rows(m, isa), k.pass_rows = kernels::narrow_rows(isa);
      if (k.m > k.narrow_rows && whole) {
        k.widened = {b.scratch(static_cast<size_t>(k.split.panel_tasks * k.panel_block * k.k * k.width) * sizeof(float))};
        step.scratch.push_back(k.widened.buffer);
      }
    }
    k.epilogue = bind_epilogue(b, m.epilogue, m.result(), Layout::natural, step);
    k.output = b.define_rows(m.result(), Layout::natural, k.out_pitch);
    step.writes.push_back(k.output.buffer);
    k.before = bind_prologue(b, m, p.machine, recipe, m.as, Layout::natural, k.m, step);
    step.text = fmt::format("{}x{}x{}{}{}, {} {}x{} tile, tasks {}x{}{}{}{}", k.m, k.n, k.k,
                            m.batches() > 1 ? fmt::format(" x{}", m.batches()) : "", weights_text(b, m), kernels::name(isa), k.tile_rows,
                            k.width, k.split.row_tasks, k.split.panel_tasks,
                            tiles                     ? ", " + tiles_text(form_of(m))
                            : k.packed_row_floats > 0 ? ", rows packed once"
                                                      : "",
                            prologue_text(*m.group, k.before), m.epilogue.text.empty() ? "" : ", " + m.epilogue.text);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  // Quantised weights whose panels are taken whole: by a few rows as they are, or made floats for tiles.
  static bool whole_panels(const ProductMatch& m, const Machine& machine) {
    return m.narrow && m.narrow->quantised() && (m.m <= narrow_rows(m, machine.isa) || std::isfinite(against_vectors(m, machine)));
  }
  static kernels::TileForm form_of(const ProductMatch& m) { return tile_form(*m.view, m.node(), m.narrow); }
  static double against_vectors(const ProductMatch& m, const Machine& machine) {
    if (machine.isa != kernels::Isa::amx || parts_too_often(*m.group, form_of(m))) return std::numeric_limits<double>::infinity();
    // Up to so many rows are done on quantised weights as they are.
    if (m.narrow && m.narrow->quantised() && m.m <= narrow_rows(m, machine.isa)) return std::numeric_limits<double>::infinity();
    // Parts of 16-bit weights are not made for what is not finite.
    if (m.narrow && !m.narrow->quantised() && !finite_weights(*m.view, m.b())) return std::numeric_limits<double>::infinity();
    return tiles_against_vectors(machine.isa, {.form = form_of(m), .rows = m.m, .columns = m.n, .depth = m.k, .run = m.k});
  }

  static void bind_weights(PlanBuilder& b, const ProductMatch& m, ProductKernel& k, Step& step) {
    const MatrixForm form{m.b_matrices, m.k, m.n, m.k_stride(), m.n_stride(), k.width, m.transpose_b};
    if (m.narrow && m.narrow->quantised()) {
      k.narrow = pack_narrow(b, *m.narrow, form, step);
      k.b_type = kernels::PanelType::quantised;
      return;
    }
    if (const auto panels = pack_constant(b, m, form)) {
      k.b_type = panels->type, k.packed = panels->at;
      step.reads.push_back(k.packed.buffer);
      return;
    }
    k.pack_while_running = true;
    k.b = b.contiguous(m.b(), Layout::natural);
    k.packed = {b.scratch(static_cast<size_t>((k.slots > 0 ? k.slots : m.b_matrices) * form.packed_numbers()) * sizeof(float))};
    step.reads.push_back(k.b.buffer);
    step.scratch.push_back(k.packed.buffer);
  }

  static std::string weights_text(const PlanBuilder& b, const ProductMatch& m) {
    if (!m.narrow) return "";
    const std::string_view type = to_string(b.dtype(m.narrow->values));
    if (!m.narrow->quantised()) return fmt::format(", {} weights", type);
    return m.narrow->block > 0 ? fmt::format(", {} weights in blocks of {}", type, m.narrow->block) : fmt::format(", {} weights", type);
  }
};

}  // namespace

std::unique_ptr<ProductMatch> match_product(const GraphView& view, const Group& group) {
  if (group.role != Anchor::tiles) return nullptr;
  const Node& n = view.node(group.anchor);
  const bool gemm = n.op == "Gemm";
  if (!gemm && n.op != "MatMul") return nullptr;
  auto m = std::make_unique<ProductMatch>(view, group, StepKind::product);
  m->as = view.shape(m->a()), m->bs = view.shape(m->b()), m->os = view.shape(n.outputs[0]);
  m->transpose_a = gemm && n.integer("transA", 0) != 0;
  m->transpose_b = gemm && n.integer("transB", 0) != 0;
  m->alpha = gemm ? n.real("alpha", 1) : 1;
  m->n = m->os.back();
  m->k = m->bs[m->bs.size() - (m->transpose_b ? 1 : 2)];
  if (m->bs.size() == 2 && !m->transpose_a) {  // all leading dims of A are rows
    m->m = product(m->os, 0, m->os.size() - 1);
  } else {
    m->m = m->os[m->os.size() - 2];
    const Shape batch(m->os.begin(), m->os.end() - 2), ab(m->as.begin(), m->as.end() - 2), bb(m->bs.begin(), m->bs.end() - 2);
    m->a_offsets = ops::strided_index(batch, ops::broadcast_strides(ab, batch));
    m->b_offsets = ops::strided_index(batch, ops::broadcast_strides(bb, batch));
    m->b_matrices = element_count(bb);
  }
  // C of the output's own shape is a residual, else a vector over the columns.
  const ValueId c = gemm && given(n.inputs, 2) ? n.inputs[2] : kAbsent;
  const bool whole = c != kAbsent && view.shape(c) == m->os;
  m->epilogue = epilogue_of(view, group, whole ? kAbsent : c);
  if (whole) {
    m->epilogue.residual = c;
    m->epilogue.text = m->epilogue.text.empty() ? "residual" : "residual + " + m->epilogue.text;
  }
  m->narrow = view.narrow(m->b());
  m->work.flops = 2 * static_cast<double>(m->batches() * m->m) * static_cast<double>(m->n) * static_cast<double>(m->k);
  const double read = group.ahead().empty() ? static_cast<double>(element_count(m->as)) : 0;
  m->work.bytes = 4 * (read + static_cast<double>(element_count(m->bs)) + static_cast<double>(element_count(m->os)));
  return m;
}

std::optional<ConstantPanels> pack_constant(PlanBuilder& b, const ProductMatch& m, const MatrixForm& form) {
  if (m.narrow) {  // half the bytes to read; widened in registers
    const bool f16 = b.dtype(m.narrow->values) == DType::f16;
    return ConstantPanels{f16 ? kernels::PanelType::f16 : kernels::PanelType::bf16, pack_halves(b, m.narrow->values, form)};
  }
  if (b.is_constant(m.b())) return ConstantPanels{kernels::PanelType::f32, pack_weights(b, m.b(), form, m.alpha)};
  return std::nullopt;
}

const StepFamily& products() {
  static const ProductFamily family;
  return family;
}

}  // namespace lathe::lower
