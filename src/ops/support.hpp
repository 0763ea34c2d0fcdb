// Shared by the op families: registration, dtype sets, axes, broadcasting, element gathering.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <span>
#include <string_view>

#include "base/fail.hpp"
#include "graph/dims.hpp"
#include "lathe/op.hpp"
#include "tensor/widen.hpp"

namespace lathe::ops {

// Each family adds its definitions through one of these (groups.cpp lists them).
void add_elementwise(std::vector<OpDef>& out);
void add_contractions(std::vector<OpDef>& out);
void add_normalisations(std::vector<OpDef>& out);
void add_pooling(std::vector<OpDef>& out);
void add_reductions(std::vector<OpDef>& out);
void add_movement(std::vector<OpDef>& out);
void add_resize(std::vector<OpDef>& out);
void add_creation(std::vector<OpDef>& out);
void add_control(std::vector<OpDef>& out);
void add_sequences(std::vector<OpDef>& out);
void add_indexing(std::vector<OpDef>& out);
void add_recurrent(std::vector<OpDef>& out);
void add_quantised(std::vector<OpDef>& out);
void add_attention(std::vector<OpDef>& out);
void add_vision(std::vector<OpDef>& out);
void add_signal(std::vector<OpDef>& out);
void add_random(std::vector<OpDef>& out);
void add_text(std::vector<OpDef>& out);
void add_losses(std::vector<OpDef>& out);
void add_linear_algebra(std::vector<OpDef>& out);
void add_companion(std::vector<OpDef>& out);
// In the order in which they are added: functions by what stands behind "add_".
struct OpGroup {
  std::string_view name;
  void (*add)(std::vector<OpDef>&);
};
std::span<const OpGroup> op_groups();
// Last: gives the definitions of the standard their attribute lists.
void add_attributes(std::vector<OpDef>& defs);

Type tensor_type(DType dtype, std::optional<Dims> dims = {});

using Plain = std::function<std::vector<Tensor>(const EvalContext&)>;
using Infer = std::function<void(InferContext&)>;

// The commonest form: fixed arity in the default domain.
OpDef def(std::string name, int since, int min_inputs, int max_inputs, Trait trait, Infer infer, Plain plain, int max_outputs = 1);

inline bool standard_float(DType d) { return d == DType::f32 || d == DType::f64 || d == DType::f16 || d == DType::bf16; }
inline bool numeric(DType d) { return standard_float(d) || (is_int(d) && bit_width(d) >= 8); }
inline bool any_dtype(DType) { return true; }

// Fails when the input's dtype is known and outside the set.
void need(const InferContext& c, int input, bool (*set)(DType), const char* expected);
// Fails when two inputs have known, different dtypes.
void need_same(const InferContext& c, int a, int b);

// The only element of an integer or boolean tensor. Throws Error (shape) naming the input.
int64_t one_integer(const EvalContext& c, size_t input);
double one_real(const EvalContext& c, size_t input);

// Fails when a size, stride, pad or the like is so large that arithmetic with it would overflow.
void check_plausible(std::span<const int64_t> values, const char* what);

// Axis in [-rank, rank) to [0, rank). Throws Error (value).
int64_t wrap_axis(int64_t axis, int64_t rank);
std::vector<int64_t> wrap_axes(std::vector<int64_t> axes, int64_t rank);

// Whether a reduction of this version takes its axes as an input; an attribute that an exporter left behind means nothing then.
inline bool axes_are_input(std::string_view op, int64_t version) { return version >= (op == "ReduceSum" ? 13 : 18); }

// Checks a result's number of elements against the limit in force: a hostile shape must not eat the machine. Throws Error (resource).
void check_plain_size(int64_t elements);

// lathe::element_count, held against the limit in force while a node is being evaluated: what an op makes room for is counted by this.
int64_t element_count(std::span<const int64_t> shape);

// Result of numpy-style broadcasting. Throws Error (shape) when the shapes do not fit.
Shape broadcast(std::span<const int64_t> a, std::span<const int64_t> b);
Dims broadcast(const Dims& a, const Dims& b);
// Element strides of row-major `shape`.
std::vector<int64_t> strides_of(std::span<const int64_t> shape);
// Element strides with which a tensor of `shape` is read at every index of `out` (0 along broadcast dims).
std::vector<int64_t> broadcast_strides(std::span<const int64_t> shape, std::span<const int64_t> out);
// For each index of `shape` in row-major order: offset + sum(index * stride).
std::vector<int64_t> strided_index(std::span<const int64_t> shape, std::span<const int64_t> strides, int64_t offset = 0);
// Elements of `src` at the given positions; position -1 takes the only element of `fill`, or zero.
Tensor take(const Tensor& src, Shape shape, std::span<const int64_t> from, const Tensor* fill = nullptr);
// Elements broadcast to `shape`, in the wide type T.
template <typename T>
std::vector<T> widen_to(const Tensor& t, std::span<const int64_t> shape) {
  std::vector<T> values = widen<T>(t);
  if (std::equal(t.shape().begin(), t.shape().end(), shape.begin(), shape.end())) return values;
  if (!std::ranges::equal(broadcast(t.shape(), shape), shape))
    fail(Category::shape, "{} does not broadcast to {}", to_string(t.shape()), to_string(shape));
  const auto index = strided_index(shape, broadcast_strides(t.shape(), shape));
  std::vector<T> out(index.size());
  for (size_t i = 0; i < out.size(); ++i) out[i] = values[index[i]];
  return out;
}

// Arithmetic of dims: unknown when either is. Throws Error (shape) on overflow or a negative result.

// Unknown dims of a tensor whose rank is the number of entries of a shape input. Throws Error (shape) when that is absurd.
Dims unknown_dims(int64_t rank);

inline Dims to_dims(const Shape& s) { return Dims(s.begin(), s.end()); }

// dtype and dims of input 0.
void same_as_first(InferContext& c);

}  // namespace lathe::ops
