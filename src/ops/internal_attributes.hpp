// What passes ask of ops beyond the standard. The names cannot clash with attributes of the standard.
#pragma once

namespace lathe::ops {

inline constexpr const char* kInternalPrefix = "lathe.";

// Attention: 1 where it stands for a softmax written out, which gives NaN for a row that sees no key; the op itself gives zeros.
inline constexpr const char* kUnseenRowsNan = "lathe.unseen_rows_nan";
// Attention: 1 where weights that are no numbers are replaced by zeros.
inline constexpr const char* kNanWeightsZero = "lathe.nan_weights_zero";
// Attention: scores are kept below it in size, x becoming c tanh(x / c), before a mask is added. (The op's own cap comes after.)
inline constexpr const char* kCapped = "lathe.capped";
// RotaryEmbedding: 1 where its positions were those of a Gather: -1 is the last row of the cache.
inline constexpr const char* kWrapPositions = "lathe.wrap_positions";
// QLinearConv: a bias of floats, one a filter, added before the result is rounded to its own scale. (The op's own bias has the scale of the
// input times that of the weights, which may be coarse beside the result's.)
inline constexpr const char* kRealBias = "lathe.real_bias";
// Resize of bytes by weights: zero point and scale of its input, then of its result, between which it stands for a DequantizeLinear, a
// Resize of floats and a QuantizeLinear.
inline constexpr const char* kScaling = "lathe.scaling";
// Attention: states of the lane, by number, that its keys and values are put behind (rounded before, when a third number is 1 for f16 or 2
// for bf16), and all of which it attends to. Its mask is as long as
// these are, which a run finds out.
inline constexpr const char* kHeld = "lathe.held";
// Conv, Gemm, MatMul in f32: the 16-bit type that the model gives their first operand, by its number. Its numbers may come with more bits
// than that has; a kernel need not look at those.
inline constexpr const char* kRowsLike = "lathe.rows_like";
// Div, Mod of whole numbers: 1 where no divisor can be zero, because a run looks before.
inline constexpr const char* kDivisorsChecked = "lathe.divisors_checked";
// Part: captures whose numbers decide sizes or axes in it, by index: it is compiled for the numbers met, as it is for sizes.
inline constexpr const char* kDeciding = "lathe.deciding";
// GridSample: 1 where its positions count pixels of the input from the middle of the first.
inline constexpr const char* kPixelGrid = "lathe.pixel_grid";

}  // namespace lathe::ops
