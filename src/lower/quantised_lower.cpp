// Products and convolutions of 8-bit operands: sums in 32 bits, requantised in the same step.
#include <algorithm>
#include <cstring>

#include "kernels/dense8.hpp"
#include "lower/lowering.hpp"
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
  Place weights;  // of each group, one after another
  int64_t groups = 1, depth = 0, weight_numbers = 0;
  std::vector<int32_t> bias;
  std::vector<double> factors, shifts;
  bool windowed = false, sums = false;
  std::vector<int64_t> z, y, x;
  kernels::WindowRowsOf<uint8_t> window;
  std::vector<uint8_t> padding;
  Place input, output;
  int64_t rows = 0, group_channels = 0, group_filters = 0, panels = 0;
  Split split;

  void run(const StepContext& c) const override {
    kernels::WindowRowsOf<uint8_t> shared = window;
    shared.z = z.data(), shared.y = y.data(), shared.x = x.data();
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

}  // namespace

bool lower_quantised(Lowering& l, const Group& group) {
  if (group.anchor >= 0 || group.nodes.size() != 1) return false;
  const Graph& g = l.graph();
  const Node& n = g.nodes[group.nodes[0]];
  const bool requantised = n.op == "QLinearMatMul" || n.op == "QLinearConv", convolves = n.op == "QLinearConv" || n.op == "ConvInteger";
  if (!n.domain.empty() || (!requantised && n.op != "MatMulInteger" && n.op != "ConvInteger")) return false;
  // Where operands stand: QLinear ops have scales between them.
  const size_t b_at = requantised ? 3 : 1, a_zero_at = 2, b_zero_at = requantised ? 5 : 3;
  const auto given = [&](size_t i) { return i < n.inputs.size() && n.inputs[i] != kAbsent; };
  const auto constant = [&](size_t i) { return !given(i) || l.is_constant(n.inputs[i]); };
  const ValueId a_value = n.inputs[0], b_value = n.inputs[b_at], out = n.outputs[0];
  if (!l.is_static(a_value) || !l.is_static(out) || !is_byte(l.dtype(a_value)) || !is_byte(l.dtype(b_value))) return false;
  for (size_t i = 1; i < n.inputs.size(); ++i) {
    if (!constant(i)) return false;
  }
  if (requantised && !is_byte(l.dtype(out))) return false;
  const Shape as = l.shape(a_value), bs = l.shape(b_value), os = l.shape(out);
  if (element_count(os) == 0 || element_count(as) == 0) return false;
  const int64_t share = convolves ? n.integer("group", 1) : 1;  // of channels
  if (convolves ? as.size() < 3 || as.size() > 5 || bs.size() != as.size() || share < 1 || bs[1] * share != as[1] || bs[0] % share != 0
                : as.size() < 1 || bs.size() != 2 || as.back() != bs[0])
    return false;  // what does not fit is told by plain evaluation
  const auto reals = [&](size_t i) { return widen<double>(l.constant(n.inputs[i])); };
  const auto zeros = [&](size_t i) {
    std::vector<int32_t> z;
    if (given(i)) {
      for (double v : reals(i)) z.push_back(static_cast<int32_t>(v));
    }
    if (z.empty()) z.push_back(0);
    return z;
  };
  const int64_t columns = convolves ? bs[0] : bs[1];
  const auto a_zero = zeros(a_zero_at), b_zero = zeros(b_zero_at);
  if (a_zero.size() != 1 || (b_zero.size() != 1 && static_cast<int64_t>(b_zero.size()) != columns)) return false;
  auto kernel = std::make_unique<ByteKernel>();
  ByteKernel& k = *kernel;
  if (requantised) {
    const auto sa = reals(1), sb = reals(4), sy = reals(6), zy = reals(7);
    if (sa.size() != 1 || sy.size() != 1 || zy.size() != 1 || (sb.size() != 1 && static_cast<int64_t>(sb.size()) != columns)) return false;
    // The same order of operations as plain evaluation's.
    for (int64_t j = 0; j < columns; ++j) k.factors.push_back(sa[0] * sb[sb.size() == 1 ? 0 : j] / sy[0]);
    k.form.out_zero = static_cast<int32_t>(zy[0]);
    k.form.out_signed = l.dtype(out) == DType::i8;
    if (convolves && given(8)) k.bias = zeros(8);
    if (!k.bias.empty() && static_cast<int64_t>(k.bias.size()) != columns) return false;
    if (const auto* real = n.find<std::vector<float>>(ops::kRealBias)) {
      if (static_cast<int64_t>(real->size()) != columns) return false;
      for (float b : *real) k.shifts.push_back(static_cast<double>(b) / sy[0]);
    }
  }
  k.sums = !requantised;
  const kernels::Isa isa = l.options().isa;
  const bool b_signed = l.dtype(b_value) == DType::i8;
  k.form.a_signed = l.dtype(a_value) == DType::i8;
  k.form.a_zero = a_zero[0];
  Step step;
  step.nodes = l.names(group);
  step.kind = convolves ? "byte convolution" : "byte product";
  int64_t depth = 0, groups = 1, taps = 1;
  Layout layout = Layout::natural;
  if (convolves) {
    const std::span<const int64_t> in = std::span<const int64_t>(as).subspan(2);
    const ops::Window window = ops::read_window(n, in, std::span<const int64_t>(bs).subspan(2));
    groups = share;
    taps = window.taps();
    const int64_t channels = bs[1];
    k.group_channels = channels;
    k.group_filters = bs[0] / groups;
    depth = channels * taps;
    k.rows = as[0] * element_count(window.out);
    layout = Layout::channels_last;
    std::vector<int64_t> tables[3];
    set_window(window, in, logical_strides(as, Layout::channels_last), tables, k.window);
    k.z = std::move(tables[0]), k.y = std::move(tables[1]), k.x = std::move(tables[2]);
    k.windowed = true;
    k.padding.assign(static_cast<size_t>(channels), static_cast<uint8_t>(a_zero[0]));
    k.form.segments = taps;
    k.form.run = channels;
    k.form.ldc = bs[0];
  } else {
    depth = bs[0];
    k.group_filters = columns;
    k.rows = element_count(as) / std::max<int64_t>(1, depth);
    k.form.run = depth;
    k.form.lda = depth;
    k.form.ldc = columns;
  }
  if (depth == 0) return false;
  k.dense = kernels::dense8(isa);
  k.isa = isa;
  k.groups = groups;
  k.depth = depth;
  const int64_t filters = k.group_filters, each = kernels::packed_bytes_size(isa, depth, filters);
  k.weight_numbers = each;
  const auto make = [&] {
    const Tensor b = l.constant(b_value);
    const auto* raw = static_cast<const uint8_t*>(b.data());
    auto packed = floats(groups * each);  // as many bytes; kept as whole numbers
    auto* to = reinterpret_cast<int32_t*>(packed.get());
    for (int64_t i = 0; i < groups; ++i, to += each) {
      const std::vector<int32_t> zero =
          b_zero.size() == 1 ? b_zero : std::vector<int32_t>(b_zero.begin() + i * filters, b_zero.begin() + (i + 1) * filters);
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
    l.release_after_packing(b_value, [=, shape = bs, type = b.dtype()] {
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
  // Zero points are packed with the weights; whose they are is part of the name.
  const std::vector<ValueId> zero_value = given(b_zero_at) ? std::vector<ValueId>{n.inputs[b_zero_at]} : std::vector<ValueId>();
  k.weights = {l.derived({b_value,
                          convolves ? PackForm::byte_convolution : PackForm::byte_product,
                          {static_cast<int64_t>(isa), groups, taps, zero_value.empty() ? kAbsent : zero_value[0]}},
                         static_cast<size_t>(groups * each) * 4, make, zero_value)};
  step.reads.push_back(k.weights.buffer);
  const int64_t width = kernels::panel_width8(isa), unit = kernels::grouping8(isa) == kernels::Grouping::bytes ? 1 : 2;
  k.panels = (k.group_filters + width - 1) / width;
  k.form.panel_block = std::clamp<int64_t>(l.options().block_bytes / std::max<int64_t>(1, depth * width * unit), 1, 16);
  k.split = split_work(k.rows, k.panels, width, (depth + 3) / 4, kernels::max_rows8(isa),
                       groups >= l.options().threads * 2 ? 1 : l.options().threads, l.options().block_bytes);
  for (size_t i = 1; i < n.inputs.size(); ++i) {
    if (given(i) && i != b_at) l.weights().keep_raw(n.inputs[i]);  // small; other editions read them again
  }
  k.input = l.place(a_value, layout);
  k.output = l.define(out, layout);
  step.reads.push_back(k.input.buffer);
  step.writes = {k.output.buffer};
  step.flops = 2.0 * static_cast<double>(k.rows) * static_cast<double>(columns) * static_cast<double>(depth);
  step.bytes = static_cast<double>(element_count(as) + element_count(bs) + element_count(os) * (requantised ? 1 : 4));
  step.recipe = fmt::format("{}x{}x{}, {} {}, {}x{} tile, tasks {}x{}{}", k.rows, k.group_filters, depth, kernels::name(isa),
                            unit == 1 ? "four bytes a step" : "two 16-bit numbers a step", kernels::max_rows8(isa), width,
                            k.split.row_tasks, k.split.panel_tasks, requantised ? ", requantised" : "");
  step.kernel = std::move(kernel);
  l.add(std::move(step));
  return true;
}

}  // namespace lathe::lower
