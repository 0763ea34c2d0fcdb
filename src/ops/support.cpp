#include "ops/support.hpp"

#include <algorithm>
#include <cstring>

namespace lathe::ops {

Type tensor_type(DType dtype, std::optional<Dims> dims) {
  Type t;
  t.dtype = dtype;
  t.dims = std::move(dims);
  return t;
}

OpDef def(std::string name, int since, int min_inputs, int max_inputs, Trait trait, Infer infer, Plain plain, int max_outputs) {
  OpDef d;
  d.name = std::move(name);
  d.since = since;
  d.min_inputs = min_inputs;
  d.max_inputs = max_inputs;
  d.max_outputs = max_outputs;
  d.trait = trait;
  d.infer = std::move(infer);
  d.plain = std::move(plain);
  return d;
}

void need(const InferContext& c, int input, bool (*set)(DType), const char* expected) {
  const DType d = c.dtype(input);
  if (d != DType::undefined && !set(d)) {
    c.fail(Category::type, fmt::format("input {} is {}, expected {}", input, to_string(d), expected));
  }
}

void need_same(const InferContext& c, int a, int b) {
  const DType x = c.dtype(a), y = c.dtype(b);
  if (x != DType::undefined && y != DType::undefined && x != y) {
    c.fail(Category::type, fmt::format("inputs {} and {} must have one dtype, got {} and {}", a, b, to_string(x), to_string(y)));
  }
}

int64_t one_integer(const EvalContext& c, size_t input) {
  const Tensor& t = c.in(input);
  if (t.composite() || t.size() != 1) fail(Category::shape, "input {} has shape {}, expected one element", input, to_string(t.shape()));
  return t.dtype() == DType::boolean ? widen<int64_t>(t)[0] : integers(t)[0];
}

double one_real(const EvalContext& c, size_t input) {
  const Tensor& t = c.in(input);
  if (t.composite() || t.size() != 1) fail(Category::shape, "input {} has shape {}, expected one element", input, to_string(t.shape()));
  return widen<double>(t)[0];
}

void check_plausible(std::span<const int64_t> values, const char* what) {
  constexpr int64_t kMost = int64_t{1} << 30;
  for (int64_t v : values) {
    if (v > kMost || v < -kMost) fail(Category::value, "{} holds {}, which is absurd", what, v);
  }
}

int64_t wrap_axis(int64_t axis, int64_t rank) {
  if (axis < -rank || axis >= rank) fail(Category::value, "axis {} is outside -{}..{} of a tensor of rank {}", axis, rank, rank - 1, rank);
  return axis < 0 ? axis + rank : axis;
}

std::vector<int64_t> wrap_axes(std::vector<int64_t> axes, int64_t rank) {
  std::vector<bool> seen(rank, false);
  for (int64_t& a : axes) {
    a = wrap_axis(a, rank);
    if (seen[a]) fail(Category::value, "axis {} is given twice", a);
    seen[a] = true;
  }
  return axes;
}

Dims unknown_dims(int64_t rank) {
  constexpr int64_t kMost = 1024;
  if (rank < 0 || rank > kMost) fail(Category::shape, "a tensor of rank {} is absurd; {} is the most", rank, kMost);
  return Dims(rank);
}

Dims broadcast(const Dims& a, const Dims& b) {
  Dims out(std::max(a.size(), b.size()), Dim(1));
  for (size_t i = 0; i < out.size(); ++i) {
    const size_t from_end = out.size() - i;
    const Dim x = from_end <= a.size() ? a[a.size() - from_end] : Dim(1);
    const Dim y = from_end <= b.size() ? b[b.size() - from_end] : Dim(1);
    if (x == y || y.value == 1) out[i] = x;
    else if (x.value == 1) out[i] = y;
    else if (x.known() && y.known())
      fail(Category::shape, "shapes {} and {} do not broadcast: {} against {}", to_string(a), to_string(b), x.value, y.value);
    else out[i] = x.known() ? x : y.known() ? y : Dim();  // the unknown one is 1 or the same
  }
  return out;
}

Shape broadcast(std::span<const int64_t> a, std::span<const int64_t> b) {
  for (const auto side : {a, b}) {
    for (int64_t size : side) {
      if (size < 0) fail(Category::shape, "a shape holds {}; sizes are 0 or more", size);
    }
  }
  return *known_shape(broadcast(Dims(a.begin(), a.end()), Dims(b.begin(), b.end())));
}

std::vector<int64_t> strides_of(std::span<const int64_t> shape) {
  std::vector<int64_t> strides(shape.size(), 1);
  for (int i = static_cast<int>(shape.size()) - 2; i >= 0; --i) strides[i] = strides[i + 1] * shape[i + 1];
  return strides;
}

std::vector<int64_t> broadcast_strides(std::span<const int64_t> shape, std::span<const int64_t> out) {
  const auto own = strides_of(shape);
  std::vector<int64_t> strides(out.size(), 0);
  for (size_t i = 0; i < shape.size(); ++i) {
    if (shape[i] != 1) strides[out.size() - shape.size() + i] = own[i];
  }
  return strides;
}

std::vector<int64_t> strided_index(std::span<const int64_t> shape, std::span<const int64_t> strides, int64_t offset) {
  const int64_t count = element_count(shape);
  check_plain_size(count);
  std::vector<int64_t> out(count);
  const int rank = static_cast<int>(shape.size());
  std::vector<int64_t> index(rank, 0);
  int64_t at = offset;
  for (int64_t i = 0; i < count; ++i) {
    out[i] = at;
    for (int d = rank - 1; d >= 0; --d) {
      at += strides[d];
      if (++index[d] < shape[d]) break;
      at -= strides[d] * shape[d];
      index[d] = 0;
    }
  }
  return out;
}

namespace {

template <typename T>
void take_as(const Tensor& src, Tensor& dst, std::span<const int64_t> from, const Tensor* fill) {
  const T* s = static_cast<const T*>(src.data());
  T* d = static_cast<T*>(dst.data());
  const T other = fill ? *static_cast<const T*>(fill->data()) : T{};
  for (size_t i = 0; i < from.size(); ++i) d[i] = from[i] < 0 ? other : s[from[i]];
}

}  // namespace

Tensor take(const Tensor& src, Shape shape, std::span<const int64_t> from, const Tensor* fill) {
  if (element_count(shape) != static_cast<int64_t>(from.size()))
    fail(Category::internal, "{} elements are taken for a result of {}", from.size(), to_string(shape));
  if (src.dtype() == DType::string) {
    Tensor out(DType::string, std::move(shape));
    take_as<std::string>(src, out, from, fill);
    return out;
  }
  if (bit_width(src.dtype()) == 4) {  // through one byte an element
    const DType wide = is_float(src.dtype()) ? DType::f32 : DType::i8;
    const auto unpack = [&](const Tensor& t) { return narrow<double>(wide, t.shape(), widen<double>(t)); };
    const Tensor other = fill ? unpack(*fill) : Tensor();
    return narrow<double>(src.dtype(), shape, widen<double>(take(unpack(src), shape, from, fill ? &other : nullptr)));
  }
  Tensor out(src.dtype(), std::move(shape));
  switch (bit_width(src.dtype())) {
    case 8: take_as<uint8_t>(src, out, from, fill); break;
    case 16: take_as<uint16_t>(src, out, from, fill); break;
    case 32: take_as<uint32_t>(src, out, from, fill); break;
    case 64: take_as<uint64_t>(src, out, from, fill); break;
    default: take_as<std::complex<double>>(src, out, from, fill); break;
  }
  return out;
}

void same_as_first(InferContext& c) { c.set(0, c.dtype(0), c.dims(0)); }

}  // namespace lathe::ops
