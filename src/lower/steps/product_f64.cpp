// Products and convolutions of doubles, operands where they are: forms of the families of MatMul and Gemm, and of Conv.
#include <fmt/format.h>

#include <algorithm>

#include "kernels/dense64.hpp"
#include "lower/fuse/window.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/forms.hpp"
#include "ops/support.hpp"
#include "ops/window.hpp"

namespace lathe::lower {
namespace {

void transpose(const double* from, int64_t rows, int64_t columns, double* to) {
  for (int64_t i = 0; i < rows; ++i) {
    for (int64_t j = 0; j < columns; ++j) to[j * rows + i] = from[i * columns + j];
  }
}

class DoubleProductKernel : public StepKernel {
 public:
  kernels::Dense64 dense = nullptr;
  Location a, b, c, output, a_turned, b_turned;  // c: what Gemm adds
  bool turn_a = false, turn_b = false, adds = false;
  double alpha = 1, beta = 1;
  int64_t m = 0, n = 0, k = 0, c_row = 0, c_column = 0, row_tasks = 1;
  std::vector<int64_t> a_offsets, b_offsets;  // by batch, in matrices

  void run(const StepContext& x) const override {
    const double *left = pointer<const double>(x, a), *right = pointer<const double>(x, b);
    if (turn_a) {
      transpose(left, k, m, pointer<double>(x, a_turned));
      left = pointer<double>(x, a_turned);
    }
    if (turn_b) {
      transpose(right, n, k, pointer<double>(x, b_turned));
      right = pointer<double>(x, b_turned);
    }
    x.workers.each(static_cast<int64_t>(a_offsets.size()) * row_tasks, [&](int64_t task, int) {
      const int64_t batch = task / row_tasks, r = task % row_tasks;
      kernels::Dense64Arguments d;
      d.a = left + a_offsets[static_cast<size_t>(batch)] * m * k;
      d.b = right + b_offsets[static_cast<size_t>(batch)] * k * n;
      d.c = pointer<double>(x, output) + batch * m * n;
      d.lda = d.depth = k;
      d.ldb = d.ldc = d.columns = n;
      d.row_begin = m * r / row_tasks;
      d.row_end = m * (r + 1) / row_tasks;
      dense(d);
      if (!adds && alpha == 1) return;
      const double* added = adds ? pointer<const double>(x, c) : nullptr;
      for (int64_t i = d.row_begin; i < d.row_end; ++i) {
        for (int64_t j = 0; j < n; ++j) {
          double& y = d.c[i * n + j];
          y = alpha * y + (adds ? beta * added[i * c_row + j * c_column] : 0);
        }
      }
    });
  }
};

// Filters by what their windows see: a part of the pixels at a time.
class DoubleConvolutionKernel : public StepKernel {
 public:
  kernels::Dense64 dense = nullptr;
  Location input, weights, bias, output, seen;  // seen: scratch, by task
  bool biased = false;
  WindowTables window;
  int64_t images = 1, groups = 1, group_channels = 1, group_filters = 1, taps = 1, in_pixels = 1, pixels = 1, block = 64, tasks = 1;

  void run(const StepContext& c) const override {
    const int64_t k = group_channels * taps, blocks = (pixels + block - 1) / block, all = images * groups * blocks;
    c.workers.each(tasks, [&](int64_t task, int) {
      double* columns = pointer<double>(c, seen) + task * k * block;
      for (int64_t part = all * task / tasks; part < all * (task + 1) / tasks; ++part) {
        const int64_t first = part % blocks * block, count = std::min(block, pixels - first), g = part / blocks % groups,
                      image = part / blocks / groups;
        const double* x = pointer<const double>(c, input) + (image * groups + g) * group_channels * in_pixels;
        look(x, first, count, columns);
        kernels::Dense64Arguments d;
        d.a = pointer<const double>(c, weights) + g * group_filters * k;
        d.b = columns;
        d.c = pointer<double>(c, output) + (image * groups + g) * group_filters * pixels + first;
        d.lda = d.depth = k;
        d.ldb = d.columns = count;
        d.ldc = pixels;
        d.row_end = group_filters;
        dense(d);
        for (int64_t f = 0; biased && f < group_filters; ++f) {
          const double v = pointer<const double>(c, bias)[g * group_filters + f];
          for (int64_t p = 0; p < count; ++p) d.c[f * pixels + p] += v;
        }
      }
    });
  }

 private:
  // columns[(channel, tap), pixel].
  void look(const double* x, int64_t first, int64_t count, double* columns) const {
    const auto& s = window.shape;
    for (int64_t t = 0; t < taps; ++t) {
      const int64_t kz = t / (s.kh * s.kw), ky = t / s.kw % s.kh, kx = t % s.kw;
      for (int64_t p = 0; p < count; ++p) {
        const int64_t at = first + p, oz = at / (s.out_h * s.out_w), oy = at / s.out_w % s.out_h, ox = at % s.out_w;
        const int64_t z = window.z[static_cast<size_t>(oz * s.kd + kz)], y = window.y[static_cast<size_t>(oy * s.kh + ky)],
                      w = window.x[static_cast<size_t>(ox * s.kw + kx)];
        const bool inside = (z | y | w) >= 0;
        for (int64_t ch = 0; ch < group_channels; ++ch) columns[(ch * taps + t) * count + p] = inside ? x[ch * in_pixels + z + y + w] : 0;
      }
    }
  }
};

struct DoubleMatch : Match {
  using Match::Match;
  Shape as, bs, os;
  int64_t m = 0, n = 0, k = 0;
  std::vector<int64_t> a_offsets{0}, b_offsets{0};
  bool convolves = false;
  ops::Window window;
  int64_t block() const { return std::clamp<int64_t>(32768 / std::max<int64_t>(1, k) / 16 * 16, 16, 256); }
};

constexpr Numbers kDoubles[]{same(DType::f64)};

class DoubleForm : public StepFamily {
 public:
  explicit DoubleForm(bool convolves) : convolves_(convolves) {}
  std::string_view name() const override { return convolves_ ? "convolution.direct" : "product"; }
  std::span<const Numbers> numbers() const override { return kDoubles; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const bool gemm = n.op == "Gemm", convolves = n.op == "Conv";
    if (!n.domain.empty() || convolves != convolves_ || (n.op != "MatMul" && !gemm && !convolves)) return nullptr;
    const auto wide = [&](ValueId v) { return v == kAbsent || (view.is_static(v) && view.dtype(v) == DType::f64); };
    if (!std::ranges::all_of(n.inputs, wide) || !wide(n.outputs[0])) return nullptr;
    auto m = std::make_unique<DoubleMatch>(view, group, convolves ? StepKind::convolution : StepKind::product);
    m->as = view.shape(n.inputs[0]), m->bs = view.shape(n.inputs[1]), m->os = view.shape(n.outputs[0]);
    m->convolves = convolves;
    if (element_count(m->as) == 0 || element_count(m->bs) == 0 || element_count(m->os) == 0) return nullptr;
    if (convolves) {
      if (m->as.size() > 5 || m->as.size() < 3) return nullptr;
      m->window = ops::read_window(n, spatial(m->as), spatial(m->bs));
      m->m = m->bs[0], m->n = m->as[0] * element_count(m->window.out), m->k = m->bs[1] * m->window.taps();
    } else {
      if (m->as.size() < 2 || m->bs.size() < 2) return nullptr;
      m->m = m->os[m->os.size() - 2], m->n = m->os.back();
      m->k = gemm && n.integer("transA", 0) != 0 ? m->as[0] : m->as.back();
      const Shape batch(m->os.begin(), m->os.end() - 2), ab(m->as.begin(), m->as.end() - 2), bb(m->bs.begin(), m->bs.end() - 2);
      m->a_offsets = ops::strided_index(batch, ops::broadcast_strides(ab, batch));
      m->b_offsets = ops::strided_index(batch, ops::broadcast_strides(bb, batch));
    }
    m->work.flops =
        2.0 * static_cast<double>(m->a_offsets.size()) * static_cast<double>(m->m) * static_cast<double>(m->n) * static_cast<double>(m->k);
    m->work.bytes = 8.0 * static_cast<double>(element_count(m->as) + element_count(m->bs) + element_count(m->os));
    return m;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const DoubleMatch&>(match);
    const int64_t threads = p.machine.threads;
    if (m.convolves) {
      const int64_t pixels = element_count(m.window.out),
                    parts = m.as[0] * m.node().integer("group", 1) * ((pixels + m.block() - 1) / m.block());
      space.knob("tasks", threads > 1 ? std::min<int64_t>(parts, threads * 4) : 1, 1, parts);
    } else {
      const int64_t batches = static_cast<int64_t>(m.a_offsets.size());
      space.knob("row_tasks", threads > 1 && batches < 2 * threads ? std::clamp<int64_t>(m.m / 16, 1, threads * 2) : 1, 1, m.m);
    }
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const DoubleMatch&>(match);
    if (m.convolves) convolution(b, m, p, recipe);
    else product(b, m, p, recipe);
  }

 private:
  static void product(PlanBuilder& b, const DoubleMatch& m, const Problem& p, const Recipe& recipe) {
    const Node& n = m.node();
    auto k = std::make_unique<DoubleProductKernel>();
    Step step = begin_step(b, m);
    const bool gemm = n.op == "Gemm";
    k->dense = kernels::dense64(p.machine.isa);
    k->m = m.m, k->n = m.n, k->k = m.k;
    k->a_offsets = m.a_offsets, k->b_offsets = m.b_offsets;
    k->row_tasks = recipe.at("row_tasks");
    k->a = b.contiguous(n.inputs[0], Layout::natural);
    k->b = b.contiguous(n.inputs[1], Layout::natural);
    step.reads = {k->a.buffer, k->b.buffer};
    const auto scratch = [&](int64_t count) {
      const Location at{b.scratch(static_cast<size_t>(count) * sizeof(double))};
      step.scratch.push_back(at.buffer);
      return at;
    };
    if (gemm) {
      k->alpha = static_cast<double>(n.real("alpha", 1)), k->beta = static_cast<double>(n.real("beta", 1));
      k->turn_a = n.integer("transA", 0) != 0, k->turn_b = n.integer("transB", 0) != 0;
      if (k->turn_a) k->a_turned = scratch(m.m * m.k);
      if (k->turn_b) k->b_turned = scratch(m.k * m.n);
      if (given(n.inputs, 2)) {
        k->adds = true;
        k->c = b.contiguous(n.inputs[2], Layout::natural);
        step.reads.push_back(k->c.buffer);
        const auto strides = ops::broadcast_strides(b.shape(n.inputs[2]), m.os);
        k->c_row = strides[0], k->c_column = strides[1];
      }
    }
    k->output = b.define(m.result(), Layout::natural);
    step.writes = {k->output.buffer};
    step.text = fmt::format("{}x{}x{} in f64, {}, {} row tasks", m.m, m.n, m.k, kernels::name(p.machine.isa), k->row_tasks);
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

  static void convolution(PlanBuilder& b, const DoubleMatch& m, const Problem& p, const Recipe& recipe) {
    const Node& n = m.node();
    auto k = std::make_unique<DoubleConvolutionKernel>();
    Step step = begin_step(b, m);
    k->dense = kernels::dense64(p.machine.isa);
    k->images = m.as[0], k->groups = n.integer("group", 1), k->group_channels = m.bs[1], k->group_filters = m.bs[0] / k->groups;
    k->taps = m.window.taps(), k->in_pixels = element_count(spatial(m.as)), k->pixels = element_count(m.window.out);
    k->block = m.block(), k->tasks = recipe.at("tasks");
    k->window = window_tables(m.window, spatial(m.as), logical_strides(m.as, Layout::natural));
    k->input = b.contiguous(n.inputs[0], Layout::natural);
    k->weights = b.contiguous(n.inputs[1], Layout::natural);
    step.reads = {k->input.buffer, k->weights.buffer};
    if (given(n.inputs, 2)) {
      k->biased = true;
      k->bias = b.contiguous(n.inputs[2], Layout::natural);
      step.reads.push_back(k->bias.buffer);
    }
    k->seen = {b.scratch(static_cast<size_t>(k->tasks * m.k * k->block) * sizeof(double))};
    step.scratch = {k->seen.buffer};
    k->output = b.define(m.result(), Layout::natural);
    step.writes = {k->output.buffer};
    step.text = fmt::format("{} filters x {} pixels x {} in f64, {}, {} pixels at a time, {} tasks", m.m, m.n, m.k,
                            kernels::name(p.machine.isa), k->block, k->tasks);
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

  bool convolves_;
};

}  // namespace

const StepFamily& product_of_doubles() {
  static const DoubleForm form(false);
  return form;
}

const StepFamily& convolution_of_doubles() {
  static const DoubleForm form(true);
  return form;
}

}  // namespace lathe::lower
