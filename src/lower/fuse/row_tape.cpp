#include "lower/fuse/row_tape.hpp"

#include "base/fail.hpp"

namespace lathe::lower {

using kernels::TapeOperand;

void RowTape::run(const StepContext& c, int64_t row, int64_t length, float* to, bool own) const {
  TapeOperand operands[kernels::kMaxSlots];
  if (own) operands[0] = {to, 1, kernels::TapeType::f32};
  for (size_t i = 0; i < locations.size(); ++i) {
    const int64_t at = row_offset(dims, strides[i], row);
    operands[i + (own ? 1 : 0)] = {pointer<const char>(c, locations[i]) + at * bytes_of(types[i]), strides[i].back(), types[i]};
  }
  run_tape(tape, operands, to, kernels::TapeType::f32, length);
}

RowTape bind_row_tape(PlanBuilder& builder, kernels::Isa isa, std::span<const int> nodes, ValueId head, const Shape& whole, Layout layout,
                      Step& step) {
  RowTape t;
  auto built = build_tape(builder.graph(), nodes, head);
  if (!built) fail(Category::internal, "a tape that was planned does not fit");
  t.run_tape = kernels::run_tape(isa);
  t.tape = built->tape;
  const auto order = physical_order(static_cast<int>(whole.size()), layout);
  t.dims = permuted(whole, order);
  t.dims.pop_back();
  for (size_t i = head == kAbsent ? 0 : 1; i < built->sources.size(); ++i) {
    const TapeSource& s = built->sources[i];
    const Shape operand = s.shape(builder.view());
    Location at = s.locate(builder);
    if (s.value != kAbsent && at.layout != layout && operand == whole) at = builder.contiguous(s.value, layout);
    t.locations.push_back(at);
    t.types.push_back(s.type(builder.view()));
    t.strides.push_back(permuted(operand_strides(operand, at, whole), order));
    step.reads.push_back(at.buffer);
    step.bytes += static_cast<double>(element_count(operand)) * static_cast<double>(bytes_of(t.types.back()));
  }
  // A division a dim for each row and operand: what runs together is counted together. Not along the row.
  std::vector<int64_t> along;
  for (auto& s : t.strides) {
    along.push_back(s.back());
    s.pop_back();
  }
  join_dims(t.dims, t.strides);
  for (size_t i = 0; i < along.size(); ++i) t.strides[i].push_back(along[i]);
  step.flops += static_cast<double>(element_count(whole)) * static_cast<double>(t.tape.steps.size());
  return t;
}

}  // namespace lathe::lower
