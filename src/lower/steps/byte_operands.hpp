// What products and convolutions of 8-bit operands share: what their nodes say, and what becomes of their sums.
#pragma once

#include <optional>
#include <vector>

#include "kernels/dense8.hpp"
#include "lower/fuse/epilogue.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/window.hpp"

namespace lathe::lower {

// Sums in 32 bits; what is stored, the nodes behind them decide.
inline constexpr Numbers kByteNumbers[]{{DType::u8, DType::i32, DType::undefined}, {DType::i8, DType::i32, DType::undefined}};

// Where operands stand: QLinear ops have scales between them.
struct ByteMatch : Match {
  using Match::Match;
  bool requantised = false, convolves = false, a_is_signed = false, b_is_signed = false;
  size_t b_at = 1, a_zero_at = 2, b_zero_at = 3;
  Shape as, bs, os;
  int64_t groups = 1, taps = 1, depth = 0, columns = 0, rows = 0;
  ops::Window window;                   // convolutions
  std::vector<int32_t> a_zero, b_zero;  // a_zero: none when a run decides on it
  Epilogue epilogue;                    // of sums that become floats
  bool reals() const { return group->role == Anchor::tiles && group->nodes.size() > 1; }
  ValueId a() const { return node().inputs[0]; }
  ValueId b() const { return node().inputs[b_at]; }
  int64_t filters() const { return columns / groups; }
  bool has(size_t i) const { return given(node().inputs, i); }
  std::vector<double> reals_of(size_t i) const;
  std::vector<int32_t> integers_or_zero(size_t i) const;
  Layout layout() const { return convolves ? Layout::channels_last : Layout::natural; }
  // A filter for each channel: another kernel does it.
  bool depthwise() const;
};

// Nothing when the group is not led by such a node, or by one whose weights, scales or zero points of weights a run decides on.
std::unique_ptr<ByteMatch> match_bytes(const GraphView& view, const Group& group);
// MatMulInteger and ConvInteger whose sums are turned into floats and nothing else take what comes after along.
Anchor byte_anchor(const GraphView& view, const Node& node);

// What becomes of the sums of a step, bound to memory.
struct ByteFinish {
  std::vector<int32_t> bias;
  std::vector<double> factors, shifts;
  std::optional<Location> scales;
  int64_t scale_stride = 0, ldc = 0;
  BoundEpilogue epilogue;
  bool reals = false, sums = false, out_signed = false;
  int32_t out_zero = 0;
  Location output;
  // The zero point of A, known or read while running.
  int32_t zero = 0;
  std::optional<Location> zero_at;
  bool a_signed = false;

  int32_t a_zero(const StepContext& c) const;
  // For columns from `first` on; `operands` is the caller's memory for kMaxSlots entries.
  void fill(const StepContext& c, int64_t first, kernels::ByteResult& result, kernels::TapeOperand* operands) const;
};
// Defines the result, and adds what it reads and writes to the step.
ByteFinish bind_finish(PlanBuilder& builder, const ByteMatch& match, Step& step);
std::string finish_text(const ByteMatch& match);
// The key of packed weights: zero points are packed with them.
PackKey byte_key(const ByteMatch& match, PackForm form, kernels::Isa isa, std::vector<ValueId>& also);

}  // namespace lathe::lower
