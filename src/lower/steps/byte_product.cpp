// Products and convolutions of 8-bit operands: sums in 32 bits, requantised in the same step.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "kernels/dense8.hpp"
#include "lower/fuse/window.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {
namespace {

bool is_byte(DType d) { return d == DType::u8 || d == DType::i8; }

class ByteKernel : public StepKernel {
 public:
  kernels::Dense8 dense = nullptr;
  kernels::Dense8Arguments form;  // what does not change from run to run
  kernels::Isa isa = kernels::Isa::scalar;
  Location weights;  // of each group, one after another
  int64_t groups = 1, depth = 0, weight_numbers = 0;
  std::vector<int32_t> bias;
  std::vector<double> factors, shifts;
  bool windowed = false, sums = false;
  WindowTables window;
  std::vector<uint8_t> padding;
  Location input, output;
  int64_t rows = 0, group_channels = 0, group_filters = 0, panels = 0;
  Split split;

  void run(const StepContext& c) const override {
    kernels::WindowRowsOf<uint8_t> shared;
    static_cast<kernels::WindowShape&>(shared) = window.shape;
    shared.z = window.z.data(), shared.y = window.y.data(), shared.x = window.x.data();
    shared.zeros = padding.data();
    c.workers.each(groups * split.count(), [&](int64_t task, int) {
      const int64_t g = task / split.count(), r = task % split.count() / split.panel_tasks, p = task % split.panel_tasks;
      kernels::Dense8Arguments a = form;
      kernels::WindowRowsOf<uint8_t> w = shared;
      const auto* in = pointer<const uint8_t>(c, input) + g * group_channels;
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
      const int64_t first = g * group_filters;
      if (sums) a.sums = pointer<int32_t>(c, output) + first;
      else a.out = pointer<uint8_t>(c, output) + first;
      if (!bias.empty()) a.bias = bias.data() + first;
      if (!factors.empty()) a.factors = factors.data() + first;
      if (!shifts.empty()) a.shifts = shifts.data() + first;
      dense(a);
    });
  }
};

// Where operands stand: QLinear ops have scales between them.
struct ByteMatch : Match {
  using Match::Match;
  bool requantised = false, convolves = false;
  size_t b_at = 1, a_zero_at = 2, b_zero_at = 3;
  Shape as, bs, os;
  int64_t groups = 1, taps = 1, depth = 0, columns = 0, rows = 0;
  ops::Window window;  // convolutions
  std::vector<int32_t> a_zero, b_zero;
  ValueId a() const { return node().inputs[0]; }
  ValueId b() const { return node().inputs[b_at]; }
  int64_t filters() const { return columns / groups; }
  bool has(size_t i) const { return given(node().inputs, i); }
  std::vector<double> reals(size_t i) const { return widen<double>(view->constant(node().inputs[i])); }
  std::vector<int32_t> integers_or_zero(size_t i) const {
    std::vector<int32_t> z;
    if (has(i)) {
      for (double v : reals(i)) z.push_back(static_cast<int32_t>(v));
    }
    if (z.empty()) z.push_back(0);
    return z;
  }
};

class ByteFamily : public StepFamily {
 public:
  std::string_view name() const override { return "byte_product"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const bool requantised = n.op == "QLinearMatMul" || n.op == "QLinearConv", convolves = n.op == "QLinearConv" || n.op == "ConvInteger";
    if (!n.domain.empty() || (!requantised && n.op != "MatMulInteger" && n.op != "ConvInteger")) return nullptr;
    auto m = std::make_unique<ByteMatch>(view, group, convolves ? StepKind::byte_convolution : StepKind::byte_product);
    m->requantised = requantised, m->convolves = convolves;
    if (requantised) m->b_at = 3, m->b_zero_at = 5;
    const ValueId out = n.outputs[0];
    if (!view.is_static(m->a()) || !view.is_static(out) || !is_byte(view.dtype(m->a())) || !is_byte(view.dtype(m->b()))) return nullptr;
    for (size_t i = 1; i < n.inputs.size(); ++i) {
      if (m->has(i) && !view.is_constant(n.inputs[i])) return nullptr;
    }
    if (requantised && !is_byte(view.dtype(out))) return nullptr;
    m->as = view.shape(m->a()), m->bs = view.shape(m->b()), m->os = view.shape(out);
    const auto &as = m->as, &bs = m->bs;
    if (element_count(m->os) == 0 || element_count(as) == 0) return nullptr;
    m->groups = convolves ? n.integer("group", 1) : 1;
    // What does not fit together, plain evaluation reports.
    if (convolves ? as.size() < 3 || as.size() > 5 || bs.size() != as.size() || m->groups < 1 || bs[1] * m->groups != as[1] ||
                        bs[0] % m->groups != 0
                  : as.size() < 1 || bs.size() != 2 || as.back() != bs[0])
      return nullptr;
    m->columns = convolves ? bs[0] : bs[1];
    m->a_zero = m->integers_or_zero(m->a_zero_at), m->b_zero = m->integers_or_zero(m->b_zero_at);
    const auto one_or_each = [&](size_t count) { return count == 1 || static_cast<int64_t>(count) == m->columns; };
    if (m->a_zero.size() != 1 || !one_or_each(m->b_zero.size())) return nullptr;
    if (requantised) {
      if (m->reals(1).size() != 1 || m->reals(6).size() != 1 || m->reals(7).size() != 1 || !one_or_each(m->reals(4).size())) return nullptr;
      if (convolves && m->has(8) && static_cast<int64_t>(m->reals(8).size()) != m->columns) return nullptr;
      if (const auto* real = n.find<std::vector<float>>(ops::kRealBias); real && static_cast<int64_t>(real->size()) != m->columns)
        return nullptr;
    }
    if (convolves) {
      m->window = ops::read_window(n, spatial(as), spatial(bs));
      m->taps = m->window.taps();
      m->depth = bs[1] * m->taps;
      m->rows = as[0] * element_count(m->window.out);
    } else {
      m->depth = bs[0];
      m->rows = element_count(as) / std::max<int64_t>(1, m->depth);
    }
    if (m->depth == 0) return nullptr;
    m->work.flops = 2.0 * static_cast<double>(m->rows) * static_cast<double>(m->columns) * static_cast<double>(m->depth);
    m->work.bytes = static_cast<double>(element_count(as) + element_count(bs) + element_count(m->os) * (requantised ? 1 : 4));
    return m;
  }

  LayoutDemand layouts(const Match& m) const override {
    if (!static_cast<const ByteMatch&>(m).convolves) return {};
    return {Order::channels_last, Order::any, Order::channels_last};
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
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ByteMatch&>(match);
    const Node& n = m.node();
    const ValueId out = n.outputs[0];
    const kernels::Isa isa = p.machine.isa;
    auto kernel = std::make_unique<ByteKernel>();
    ByteKernel& k = *kernel;
    Step step = begin_step(b, m);
    k.dense = kernels::dense8(isa);
    k.isa = isa;
    k.groups = m.groups, k.depth = m.depth, k.rows = m.rows, k.group_filters = m.filters();
    k.sums = !m.requantised;
    k.form.a_signed = b.dtype(m.a()) == DType::i8;
    k.form.a_zero = m.a_zero[0];
    k.form.ldc = m.columns;
    if (m.requantised) bind_requantisation(b, m, k);
    const Layout layout = m.convolves ? Layout::channels_last : Layout::natural;
    if (m.convolves) {
      k.group_channels = m.bs[1];
      k.window = window_tables(m.window, spatial(m.as), logical_strides(m.as, Layout::channels_last));
      k.windowed = true;
      k.padding.assign(static_cast<size_t>(k.group_channels), static_cast<uint8_t>(m.a_zero[0]));
      k.form.segments = m.taps;
      k.form.run = k.group_channels;
    } else {
      k.form.run = k.form.lda = m.depth;
    }
    bind_weights(b, m, k, step);
    const int64_t width = kernels::panel_width8(isa);
    k.panels = (k.group_filters + width - 1) / width;
    k.form.panel_block = recipe.at("panel_block");
    k.split = {recipe.at("row_tasks"), recipe.at("panel_tasks")};
    for (size_t i = 1; i < n.inputs.size(); ++i) {
      if (m.has(i) && i != m.b_at) b.keep_original(n.inputs[i]);  // small; other editions read them again
    }
    k.input = b.contiguous(m.a(), layout);
    k.output = b.define(out, layout);
    step.reads.push_back(k.input.buffer);
    step.writes = {k.output.buffer};
    step.text = fmt::format("{}x{}x{}, {} {}, {}x{} tile, tasks {}x{}{}", k.rows, k.group_filters, m.depth, kernels::name(isa),
                            unit(isa) == 1 ? "four bytes a step" : "two 16-bit numbers a step", kernels::max_rows8(isa), width,
                            k.split.row_tasks, k.split.panel_tasks, m.requantised ? ", requantised" : "");
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static int64_t unit(kernels::Isa isa) { return kernels::grouping8(isa) == kernels::Grouping::bytes ? 1 : 2; }

  static void bind_requantisation(const PlanBuilder& b, const ByteMatch& m, ByteKernel& k) {
    const auto sa = m.reals(1), sb = m.reals(4), sy = m.reals(6);
    // The same order of operations as plain evaluation's.
    for (int64_t j = 0; j < m.columns; ++j) k.factors.push_back(sa[0] * sb[sb.size() == 1 ? 0 : j] / sy[0]);
    k.form.out_zero = static_cast<int32_t>(m.reals(7)[0]);
    k.form.out_signed = b.dtype(m.node().outputs[0]) == DType::i8;
    if (m.convolves && m.has(8)) k.bias = m.integers_or_zero(8);
    if (const auto* real = m.node().find<std::vector<float>>(ops::kRealBias)) {
      for (float v : *real) k.shifts.push_back(static_cast<double>(v) / sy[0]);
    }
  }

  static void bind_weights(PlanBuilder& b, const ByteMatch& m, ByteKernel& k, Step& step) {
    const kernels::Isa isa = k.isa;
    const ValueId v = m.b();
    const bool b_signed = b.dtype(v) == DType::i8, convolves = m.convolves;
    const int64_t groups = m.groups, taps = m.taps, depth = m.depth, columns = m.columns, filters = m.filters(),
                  each = kernels::packed_bytes_size(isa, depth, filters);
    k.weight_numbers = each;
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
        // W [filters, channels, taps]: k = tap * channels + channel.
        const int64_t channels = depth / taps;
        std::vector<uint8_t> turned(static_cast<size_t>(filters * depth));
        for (int64_t f = 0; f < filters; ++f) {
          for (int64_t c = 0; c < channels; ++c) {
            for (int64_t t = 0; t < taps; ++t) turned[(f * taps + t) * channels + c] = raw[((i * filters + f) * channels + c) * taps + t];
          }
        }
        kernels::pack_bytes(isa, turned.data(), b_signed, 1, depth, depth, filters, zero, to);
      }
      b.release_after_packing(v, [=, shape = m.bs, type = raw_tensor.dtype()] {
        Tensor back(type, shape);
        auto* out = static_cast<uint8_t*>(back.data());
        for (int64_t i = 0; i < groups; ++i) {
          const auto view = kernels::packed_bytes(isa, depth, filters, reinterpret_cast<const int32_t*>(packed.get()) + i * each);
          for (int64_t f = 0; f < filters; ++f) {
            for (int64_t at = 0; at < depth; ++at) {
              const uint8_t byte = kernels::unpacked_byte(view, b_signed, at, f);
              if (!convolves) out[at * columns + f] = byte;
              else out[((i * filters + f) * (depth / taps) + at % (depth / taps)) * taps + at / (depth / taps)] = byte;
            }
          }
        }
        return back;
      });
      return entry_of(packed, groups * each);
    };
    // Zero points are packed with the weights; whose they are is part of the key.
    const std::vector<ValueId> zero_value =
        m.has(m.b_zero_at) ? std::vector<ValueId>{m.node().inputs[m.b_zero_at]} : std::vector<ValueId>();
    k.weights = {b.packed({v,
                           convolves ? PackForm::byte_convolution : PackForm::byte_product,
                           {static_cast<int64_t>(isa), groups, taps, zero_value.empty() ? kAbsent : zero_value[0]}},
                          static_cast<size_t>(groups * each) * 4, make, zero_value)};
    step.reads.push_back(k.weights.buffer);
  }
};

}  // namespace

const StepFamily& byte_products() {
  static const ByteFamily family;
  return family;
}

}  // namespace lathe::lower
