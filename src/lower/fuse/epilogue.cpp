#include "lower/fuse/epilogue.hpp"

#include <algorithm>
#include <limits>

#include "base/fail.hpp"
#include "lower/fuse/tape_ops.hpp"

namespace lathe::lower {

using kernels::TapeOperand;

int columns_axis(const GraphView& view, const Node& n) {
  return n.op == "Conv" || n.op == "ConvInteger" ? 1 : static_cast<int>(view.shape(n.outputs[0]).size()) - 1;
}

std::optional<Epilogue> split_epilogue(const GraphView& view, const Group& whole) {
  const Graph& g = view.graph();
  const Group group{whole.anchor, {whole.from_anchor().begin(), whole.from_anchor().end()}, whole.role};
  const int columns = columns_axis(view, view.node(whole.anchor));
  Epilogue e;
  const ValueId made = g.nodes[group.anchor].outputs[0];
  const Shape out = *known_shape(g.values[made].dims);
  ValueId head = made;
  size_t next = 1;
  // What may still come in registers: 0 bias, 1 residual, 2 clamp. The anchor's own third input takes its place.
  int stage = 0;
  const bool whole_sums = g.values[made].dtype == DType::i32;
  if (const Node& anchor = g.nodes[group.anchor]; !whole_sums && anchor.inputs.size() > 2 && anchor.inputs[2] != kAbsent) {
    if (anchor.op == "Gemm" && known_shape(g.values[anchor.inputs[2]].dims) == out) stage = 2;
    else if (!constant_here(g, anchor.inputs[2])) stage = 1;
  }
  const auto reader_count = [&](ValueId v) {
    int count = 0;
    for (size_t i = 1; i < group.nodes.size(); ++i) {
      const auto& in = g.nodes[group.nodes[i]].inputs;
      count += static_cast<int>(std::count(in.begin(), in.end(), v));
    }
    return count;
  };
  const auto say = [&](const char* part) { e.text += (e.text.empty() ? "" : " + ") + std::string(part); };
  // One element a column, nothing along the other dims.
  const auto is_vector = [&](const Shape& shape) {
    if (element_count(shape) != out[columns] || out[columns] == 1) return false;
    const int from_end = static_cast<int>(out.size()) - columns;
    return static_cast<int>(shape.size()) >= from_end && shape[shape.size() - from_end] == out[columns];
  };
  if (whole_sums && group.nodes.size() > 1) {
    // First they become floats, then they are scaled.
    const Node& cast = g.nodes[group.nodes[1]];
    if (cast.op != "Cast" || cast.inputs[0] != head || reader_count(head) != 1) return std::nullopt;
    head = cast.outputs[0];
    next = 2;
    say("as floats");
    if (next < group.nodes.size() && reader_count(head) == 1) {
      const Node& n = g.nodes[group.nodes[next]];
      const bool first = n.inputs[0] == head;
      const ValueId other = n.op != "Mul" ? kAbsent : first ? n.inputs[1] : n.inputs[0];
      if (other != kAbsent && other != head && (first || n.inputs[1] == head) && g.values[other].dtype == DType::f32) {
        const Shape shape = *known_shape(g.values[other].dims);
        if (element_count(shape) == 1 || is_vector(shape)) {
          e.scale = other;
          head = n.outputs[0];
          ++next;
          say("scaled");
        }
      }
    }
  }
  // What would be folded into weights that were f32.
  if (const Node& anchor = g.nodes[group.anchor]; anchor.op == "Conv" && stage == 0 &&
                                                  (anchor.inputs.size() < 3 || anchor.inputs[2] == kAbsent) && next < group.nodes.size() &&
                                                  reader_count(head) == 1 && view.narrow(anchor.inputs[1])) {
    const Node& n = g.nodes[group.nodes[next]];
    const ValueId other = n.op != "Mul" ? kAbsent : n.inputs[0] == head ? n.inputs[1] : n.inputs[0];
    if (other != kAbsent && constant_here(g, other) && g.values[other].dtype == DType::f32 &&
        is_vector(*known_shape(g.values[other].dims))) {
      e.factor = other;
      head = n.outputs[0];
      ++next;
      say("factor");
    }
  }
  for (; next < group.nodes.size(); ++next) {
    const Node& n = g.nodes[group.nodes[next]];
    // In registers there is one value: a head read twice (x * sigmoid(x)) goes to the tape.
    if (reader_count(head) != 1) break;
    if (n.op == "Add" && n.inputs.size() == 2 && stage < 2) {
      const ValueId other = n.inputs[0] == head ? n.inputs[1] : n.inputs[0];
      if (n.inputs[0] != head && n.inputs[1] != head) break;
      if (g.values[other].dtype != DType::f32) break;
      const Shape shape = *known_shape(g.values[other].dims);
      const bool vector = is_vector(shape);
      if (vector && stage == 0 && constant_here(g, other)) {
        e.bias = TapeSource{other, {}};
        stage = 1;
        say("bias");
      } else if (shape == out) {
        e.residual = other;
        stage = 2;
        say("residual");
      } else {
        break;
      }
    } else if ((n.op == "Relu" || n.op == "Clip") && n.inputs[0] == head) {
      const auto bounds = n.op == "Relu" ? std::optional(std::pair{0.0f, std::numeric_limits<float>::infinity()}) : clip_bounds(g, n);
      if (!bounds) break;
      e.clamp = true;
      e.low = bounds->first;
      e.high = bounds->second;
      say(n.op == "Relu" ? "relu" : "clip");
      head = n.outputs[0];
      ++next;
      break;
    } else {
      break;
    }
    head = n.outputs[0];
  }
  if (next < group.nodes.size()) {
    e.tape = build_tape(g, std::span<const int>(group.nodes).subspan(next), head);
    if (!e.tape) return std::nullopt;
    // Constants of the tape's own (a normalisation's, a scale along an axis) must lie along the matrix too: one stride from row to row.
    const Layout layout = columns == 1 && out.size() > 2 ? Layout::channels_last : Layout::natural;
    for (size_t i = 1; i < e.tape->sources.size(); ++i) {
      const TapeSource& s = e.tape->sources[i];
      if (s.value == kAbsent && !matrix_strides(s.constant.shape(), {kNoBuffer, 0, Layout::natural}, out, layout)) return std::nullopt;
    }
    say("tape of");
    e.text += fmt::format(" {}", e.tape->tape.steps.size());
  }
  return e;
}

Epilogue epilogue_of(const GraphView& view, const Group& group, ValueId bias_input) {
  auto e = split_epilogue(view, group);
  if (!e) fail(Category::internal, "an epilogue that was planned does not fit");
  if (bias_input != kAbsent) {
    // The node's own bias takes the register slot; an added one joins it only when both are constants.
    if (e->bias) {
      if (!view.is_constant(bias_input) || !view.is_constant(e->bias->value))
        fail(Category::internal, "two biases, one of them not a constant");
      const Tensor own = view.constant(bias_input), added = view.constant(e->bias->value);
      Tensor sum(DType::f32, {own.size()});
      for (int64_t i = 0; i < own.size(); ++i) sum.as<float>()[i] = own.as<float>()[i] + added.as<float>()[i];
      e->bias = TapeSource{kAbsent, sum};
    } else {
      e->bias = TapeSource{bias_input, {}};
      e->text = e->text.empty() ? "bias" : "bias + " + e->text;
    }
  }
  return std::move(*e);
}

BoundEpilogue bind_epilogue(PlanBuilder& builder, const Epilogue& e, ValueId out, Layout layout, Step& step) {
  BoundEpilogue b;
  const Shape shape = builder.shape(out);
  if (e.factor != kAbsent) {
    b.factor = builder.contiguous(e.factor, Layout::natural);
    b.has_factor = true;
    step.reads.push_back(b.factor.buffer);
  }
  if (e.bias) {
    b.bias = e.bias->value != kAbsent ? builder.contiguous(e.bias->value, Layout::natural) : e.bias->locate(builder);
    b.has_bias = true;
    step.reads.push_back(b.bias.buffer);
  }
  if (e.residual != kAbsent) {
    b.residual = builder.rows(e.residual, layout, b.residual_stride);
    b.has_residual = true;
    step.reads.push_back(b.residual.buffer);
  }
  b.clamp = e.clamp;
  b.low = e.low;
  b.high = e.high;
  if (e.tape) {
    b.tape = e.tape->tape;
    for (size_t i = 1; i < e.tape->sources.size(); ++i) {
      const TapeSource& s = e.tape->sources[i];
      const Shape operand = s.shape(builder.view());
      Location at = s.locate(builder);
      auto strides = matrix_strides(operand, at, shape, layout);
      if (!strides) {  // its layout is not the output's: bring it there
        at = builder.contiguous(s.value, layout);
        strides = matrix_strides(operand, at, shape, layout);
        if (!strides) fail(Category::internal, "an epilogue operand of {} does not lie along {}", to_string(operand), to_string(shape));
      }
      b.locations.push_back(at);
      b.row_strides.push_back(strides->first);
      b.column_strides.push_back(strides->second);
      b.types.push_back(s.type(builder.view()));
      step.reads.push_back(at.buffer);
    }
  }
  return b;
}

void BoundEpilogue::fill(const StepContext& c, int64_t column, kernels::DenseEpilogue& e, TapeOperand* operands) const {
  if (has_factor) e.factor = pointer<const float>(c, factor) + column;
  if (has_bias) e.bias = pointer<const float>(c, bias) + column;
  if (has_residual) {
    e.residual = pointer<const float>(c, residual) + column;
    e.residual_stride = residual_stride;
  }
  e.clamp = clamp;
  e.low = low;
  e.high = high;
  if (tape.steps.empty()) return;
  e.tape = &tape;
  e.operands = operands;
  e.row_strides = row_strides.data();
  for (size_t i = 0; i < locations.size(); ++i) {
    operands[i] = {pointer<const char>(c, locations[i]) + column * column_strides[i] * bytes_of(types[i]), column_strides[i], types[i]};
  }
}

}  // namespace lathe::lower
