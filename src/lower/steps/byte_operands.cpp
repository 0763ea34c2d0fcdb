#include "lower/steps/byte_operands.hpp"

#include <algorithm>

#include "kernels/depthwise8.hpp"
#include "lower/fuse/tape_ops.hpp"
#include "lower/fuse/window.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {
namespace {

bool is_byte(DType d) { return d == DType::u8 || d == DType::i8; }
bool is_requantised(const Node& n) { return n.op == "QLinearMatMul" || n.op == "QLinearConv"; }

std::unique_ptr<ByteMatch> read(const GraphView& view, const Group& group, const Node& n) {
  const bool requantised = n.op == "QLinearMatMul" || n.op == "QLinearConv", convolves = n.op == "QLinearConv" || n.op == "ConvInteger";
  auto m = std::make_unique<ByteMatch>(view, group, convolves ? StepKind::byte_convolution : StepKind::byte_product);
  m->requantised = requantised, m->convolves = convolves;
  m->a_is_signed = view.dtype(n.inputs[0]) == DType::i8;
  if (requantised) m->b_at = 3, m->b_zero_at = 5;
  const ValueId out = n.outputs[0];
  if (!view.is_static(m->a()) || !view.is_static(out) || !is_byte(view.dtype(m->a())) || !is_byte(view.dtype(m->b()))) return nullptr;
  m->b_is_signed = view.dtype(m->b()) == DType::i8;
  for (size_t i = 1; i < n.inputs.size(); ++i) {
    // The zero point of what a run quantises comes with it.
    const bool comes =
        !requantised && i == m->a_zero_at && m->has(i) && view.is_static(n.inputs[i]) && element_count(view.shape(n.inputs[i])) == 1;
    if (m->has(i) && !view.is_constant(n.inputs[i]) && !comes) return nullptr;
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
  if (!m->has(m->a_zero_at) || view.is_constant(n.inputs[m->a_zero_at])) m->a_zero = m->integers_or_zero(m->a_zero_at);
  m->b_zero = m->integers_or_zero(m->b_zero_at);
  const auto one_or_each = [&](size_t count) { return count == 1 || static_cast<int64_t>(count) == m->columns; };
  if (m->a_zero.size() > 1 || !one_or_each(m->b_zero.size())) return nullptr;
  if (requantised) {
    if (m->reals_of(1).size() != 1 || m->reals_of(6).size() != 1 || m->reals_of(7).size() != 1 || !one_or_each(m->reals_of(4).size()))
      return nullptr;
    if (convolves && m->has(8) && static_cast<int64_t>(m->reals_of(8).size()) != m->columns) return nullptr;
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

}  // namespace

std::vector<double> ByteMatch::reals_of(size_t i) const { return widen<double>(view->constant(node().inputs[i])); }

std::vector<int32_t> ByteMatch::integers_or_zero(size_t i) const {
  std::vector<int32_t> z;
  if (has(i)) {
    for (double v : reals_of(i)) z.push_back(static_cast<int32_t>(v));
  }
  if (z.empty()) z.push_back(0);
  return z;
}

bool ByteMatch::depthwise() const {
  return convolves && groups > 1 && groups == columns && bs[1] == 1 && taps <= kernels::kMostTapsDepthwise8;
}

std::unique_ptr<ByteMatch> match_bytes(const GraphView& view, const Group& group) {
  if (!group.single() && group.role != Anchor::tiles) return nullptr;
  const Node& n = view.node(group.head());
  if (!n.domain.empty() || (!is_requantised(n) && n.op != "MatMulInteger" && n.op != "ConvInteger")) return nullptr;
  auto m = read(view, group, n);
  if (m && m->reals()) m->epilogue = epilogue_of(view, group, kAbsent);
  return m;
}

Anchor byte_anchor(const GraphView& view, const Node& n) {
  if ((n.op != "MatMulInteger" && n.op != "ConvInteger") || !n.domain.empty() || n.outputs.empty()) return Anchor::none;
  const auto& readers = view.readers()[n.outputs[0]];
  if (readers.size() != 1 || view.is_output(n.outputs[0])) return Anchor::none;
  const Node& cast = view.node(readers[0]);
  if (cast.op != "Cast" || !tapeable(view.graph(), cast) || view.dtype(cast.outputs[0]) != DType::f32) return Anchor::none;
  const int at = view.producers()[n.outputs[0]];
  const Group alone{at, {at}, Anchor::tiles};
  return read(view, alone, n) ? Anchor::tiles : Anchor::none;
}

int32_t ByteFinish::a_zero(const StepContext& c) const {
  if (!zero_at) return zero;
  return a_signed ? *pointer<const int8_t>(c, *zero_at) : *pointer<const uint8_t>(c, *zero_at);
}

void ByteFinish::fill(const StepContext& c, int64_t first, kernels::ByteResult& r, kernels::TapeOperand* operands) const {
  r.ldc = ldc;
  r.out_zero = out_zero, r.out_signed = out_signed;
  if (!bias.empty()) r.bias = bias.data() + first;
  if (!factors.empty()) r.factors = factors.data() + first;
  if (!shifts.empty()) r.shifts = shifts.data() + first;
  if (reals) {
    r.reals = pointer<float>(c, output) + first;
    r.scale_stride = scale_stride;
    if (scales) r.scales = pointer<const float>(c, *scales) + first * scale_stride;
    epilogue.fill(c, first, r.epilogue, operands);
  } else if (sums) {
    r.sums = pointer<int32_t>(c, output) + first;
  } else {
    r.out = pointer<uint8_t>(c, output) + first;
  }
}

ByteFinish bind_finish(PlanBuilder& b, const ByteMatch& m, Step& step) {
  const Node& n = m.node();
  ByteFinish f;
  f.ldc = m.columns;
  f.reals = m.reals();
  f.sums = !m.requantised && !f.reals;
  f.a_signed = b.dtype(m.a()) == DType::i8;
  if (!m.a_zero.empty()) {
    f.zero = m.a_zero[0];
  } else {
    f.zero_at = b.locate(n.inputs[m.a_zero_at]);
    step.reads.push_back(f.zero_at->buffer);
  }
  if (m.requantised) {
    const auto sa = m.reals_of(1), sb = m.reals_of(4), sy = m.reals_of(6);
    // The same order of operations as plain evaluation's.
    for (int64_t j = 0; j < m.columns; ++j) f.factors.push_back(sa[0] * sb[sb.size() == 1 ? 0 : j] / sy[0]);
    f.out_zero = static_cast<int32_t>(m.reals_of(7)[0]);
    f.out_signed = b.dtype(n.outputs[0]) == DType::i8;
    if (m.convolves && m.has(8)) f.bias = m.integers_or_zero(8);
    if (const auto* real = n.find<std::vector<float>>(ops::kRealBias)) {
      for (float v : *real) f.shifts.push_back(static_cast<double>(v) / sy[0]);
    }
  }
  for (size_t i = 1; i < n.inputs.size(); ++i) {
    if (m.has(i) && i != m.b_at && b.is_constant(n.inputs[i])) b.keep_original(n.inputs[i]);  // small; other editions read them again
  }
  if (f.reals) {
    f.epilogue = bind_epilogue(b, m.epilogue, m.result(), m.layout(), step);
    if (m.epilogue.scale != kAbsent) {
      f.scales = b.contiguous(m.epilogue.scale, Layout::natural);
      f.scale_stride = element_count(b.shape(m.epilogue.scale)) > 1 ? 1 : 0;
      step.reads.push_back(f.scales->buffer);
    }
  }
  f.output = m.requantised && m.convolves ? b.define_rows(m.result(), m.layout(), f.ldc) : b.define(m.result(), m.layout());
  step.writes = {f.output.buffer};
  return f;
}

std::string finish_text(const ByteMatch& m) {
  return m.requantised ? ", requantised" : m.epilogue.text.empty() ? "" : ", " + m.epilogue.text;
}

PackKey byte_key(const ByteMatch& m, PackForm form, kernels::Isa isa, std::vector<ValueId>& also) {
  if (m.has(m.b_zero_at)) also = {m.node().inputs[m.b_zero_at]};
  const auto grouping = static_cast<int64_t>(kernels::grouping8(isa));  // processors of one instruction set differ in it
  return {m.b(), form, {static_cast<int64_t>(isa), grouping, m.groups, m.taps, also.empty() ? kAbsent : also[0]}};
}

}  // namespace lathe::lower
