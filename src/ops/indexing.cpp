// Ops that address elements by index: gathering, scattering, selecting, reordering.
#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <numeric>

#include "base/memory.hpp"
#include "ops/movement.hpp"
#include "ops/support.hpp"

namespace lathe::ops {
namespace {

bool index_type(DType d) { return d == DType::i32 || d == DType::i64; }

int64_t wrap_index(int64_t i, int64_t size, const char* what) {
  if (i < -size || i >= size) fail(Category::value, "index {} is outside {} of {} elements", i, what, size);
  return i < 0 ? i + size : i;
}

// Indices of every element of a tensor of this shape, one row an element. Calls f(linear position, index).
template <typename F>
void each_index(std::span<const int64_t> shape, F&& f) {
  const int64_t count = element_count(shape);
  std::vector<int64_t> index(shape.size(), 0);
  for (int64_t i = 0; i < count; ++i) {
    f(i, index);
    for (int d = static_cast<int>(shape.size()) - 1; d >= 0; --d) {
      if (++index[d] < shape[d]) break;
      index[d] = 0;
    }
  }
}

// Where GatherElements reads and ScatterElements writes: indices[i][j][k] along the axis, the element's own place beside it.
std::vector<int64_t> element_targets(const Tensor& data, const Tensor& indices, int64_t axis) {
  if (indices.rank() != data.rank()) fail(Category::shape, "indices have rank {}, the data {}", indices.rank(), data.rank());
  for (int d = 0; d < data.rank(); ++d) {
    if (d != axis && indices.shape()[d] > data.shape()[d])
      fail(Category::shape, "indices are {}, which reaches outside the data's {} beside axis {}", to_string(indices.shape()),
           to_string(data.shape()), axis);
  }
  const auto picks = integers(indices);
  const auto strides = strides_of(data.shape());
  std::vector<int64_t> out(picks.size());
  each_index(indices.shape(), [&](int64_t i, const std::vector<int64_t>& index) {
    int64_t at = 0;
    for (size_t d = 0; d < index.size(); ++d)
      at += strides[d] * (static_cast<int64_t>(d) == axis ? wrap_index(picks[i], data.shape()[d], "the axis") : index[d]);
    out[i] = at;
  });
  return out;
}

// First element of each slice that a row of `indices` (last dim: a position) addresses, after `batch` shared dims.
struct Slices {
  std::vector<int64_t> at;
  int64_t size = 1;  // elements a slice
  Shape slice;
};

Slices slices(const Shape& data, const Tensor& indices, int64_t batch) {
  if (indices.rank() < 1) fail(Category::shape, "indices are a scalar, expected at least one dim");
  const int64_t depth = indices.shape().back();
  if (batch < 0 || batch >= indices.rank() || batch + depth > static_cast<int64_t>(data.size()) || depth < 0)
    fail(Category::shape, "indices of {} (batch_dims {}) do not fit data of {}", to_string(indices.shape()), batch, to_string(data));
  for (int64_t d = 0; d < batch; ++d) {
    if (indices.shape()[d] != data[d])
      fail(Category::shape, "batch dim {} is {} in the data and {} in the indices", d, data[d], indices.shape()[d]);
  }
  const auto picks = integers(indices);
  const auto strides = strides_of(data);
  Slices s;
  s.slice.assign(data.begin() + batch + depth, data.end());
  s.size = element_count(s.slice);
  const Shape rows(indices.shape().begin(), indices.shape().end() - 1);
  each_index(rows, [&](int64_t row, const std::vector<int64_t>& index) {
    int64_t at = 0;
    for (int64_t d = 0; d < batch; ++d) at += strides[d] * index[d];
    for (int64_t d = 0; d < depth; ++d) at += strides[batch + d] * wrap_index(picks[row * depth + d], data[batch + d], "a dim");
    s.at.push_back(at);
  });
  return s;
}

// out[at[i]] = op(out[at[i]], updates[i]), in order.
Tensor scatter(const Tensor& data, const Tensor& updates, const std::vector<int64_t>& at, const std::string& how) {
  if (updates.size() != static_cast<int64_t>(at.size()))
    fail(Category::shape, "updates are {} ({} elements), the indices address {}", to_string(updates.shape()), updates.size(), at.size());
  if (updates.dtype() != data.dtype())
    fail(Category::type, "updates are {}, the data {}", to_string(updates.dtype()), to_string(data.dtype()));
  if (how == "none") {
    // One gather that reads the updates behind the data.
    std::vector<int64_t> from(data.size());
    std::iota(from.begin(), from.end(), 0);
    for (size_t i = 0; i < at.size(); ++i) from[at[i]] = data.size() + static_cast<int64_t>(i);
    const Tensor both[] = {data.reshaped({data.size()}), updates.reshaped({updates.size()})};
    return take(join(both, 0), data.shape(), from);
  }
  return with_wide(data.dtype(), [&](auto zero) {
    using T = decltype(zero);
    auto v = widen<T>(data);
    const auto u = widen<T>(updates);
    for (size_t i = 0; i < at.size(); ++i) {
      T& e = v[at[i]];
      if (how == "add") e = static_cast<T>(e + u[i]);
      else if (how == "mul") e = static_cast<T>(e * u[i]);
      else if (how == "max") e = std::max(e, u[i]);
      else if (how == "min") e = std::min(e, u[i]);
      else fail(Category::value, "reduction is '{}', expected none, add, mul, max or min", how);
    }
    return narrow<T>(data.dtype(), data.shape(), v);
  });
}

void infer_gather_nd(InferContext& c) {
  need(c, 1, index_type, "i64");
  const int64_t batch = c.node().integer("batch_dims", 0);
  if (!c.dims(0) || !c.dims(1) || c.dims(1)->empty() || !c.dims(1)->back().known()) return c.set(0, c.dtype(0), std::nullopt);
  const int64_t depth = c.dims(1)->back().value;
  c.require(batch >= 0 && batch < c.rank(1) && batch + depth <= c.rank(0), Category::shape,
            fmt::format("indices of {} (batch_dims {}) do not fit data of {}", to_string(*c.dims(1)), batch, to_string(*c.dims(0))));
  Dims out(c.dims(1)->begin(), c.dims(1)->end() - 1);
  out.insert(out.end(), c.dims(0)->begin() + batch + depth, c.dims(0)->end());
  c.set(0, c.dtype(0), out);
}

std::vector<Tensor> gather_nd(const EvalContext& c) {
  const Slices s = slices(c.in(0).shape(), c.in(1), c.node.integer("batch_dims", 0));
  Shape shape(c.in(1).shape().begin(), c.in(1).shape().end() - 1);
  shape.insert(shape.end(), s.slice.begin(), s.slice.end());
  check_plain_size(element_count(shape));
  std::vector<int64_t> from;
  for (int64_t at : s.at) {
    for (int64_t i = 0; i < s.size; ++i) from.push_back(at + i);
  }
  return {take(c.in(0), shape, from)};
}

std::vector<Tensor> scatter_nd(const EvalContext& c) {
  const Slices s = slices(c.in(0).shape(), c.in(1), 0);
  std::vector<int64_t> at;
  for (int64_t first : s.at) {
    for (int64_t i = 0; i < s.size; ++i) at.push_back(first + i);
  }
  return {scatter(c.in(0), c.in(2), at, c.node.text("reduction", "none"))};
}

std::vector<Tensor> scatter_elements(const EvalContext& c) {
  const int64_t axis = wrap_axis(c.node.integer("axis", 0), c.in(0).rank());
  if (c.in(1).shape() != c.in(2).shape())
    fail(Category::shape, "indices are {} and updates {}; they must agree", to_string(c.in(1).shape()), to_string(c.in(2).shape()));
  return {scatter(c.in(0), c.in(2), element_targets(c.in(0), c.in(1), axis), c.node.text("reduction", "none"))};
}

// A cache of sequence positions written at places of its own for each batch entry.
std::vector<Tensor> tensor_scatter(const EvalContext& c) {
  const Tensor &past = c.in(0), &update = c.in(1);
  const int64_t axis = wrap_axis(c.node.integer("axis", -2), past.rank());
  const std::string mode = c.node.text("mode", "linear");
  if (mode != "linear" && mode != "circular") fail(Category::value, "mode is '{}', expected linear or circular", mode);
  if (axis == 0 || update.rank() != past.rank())
    fail(Category::shape, "past {} and update {} do not fit along axis {}", to_string(past.shape()), to_string(update.shape()), axis);
  for (int d = 0; d < past.rank(); ++d) {
    if (d != axis && past.shape()[d] != update.shape()[d])
      fail(Category::shape, "past {} and update {} differ beside axis {}", to_string(past.shape()), to_string(update.shape()), axis);
  }
  const int64_t room = past.shape()[axis], count = update.shape()[axis], batches = past.shape()[0];
  const auto starts = c.has(2) ? integers(c.in(2)) : std::vector<int64_t>(batches, 0);
  if (static_cast<int64_t>(starts.size()) != batches)
    fail(Category::shape, "write_indices has {} entries, expected {}", starts.size(), batches);
  const auto strides = strides_of(past.shape());
  std::vector<int64_t> at(update.size());
  for (int64_t s : starts) {
    if (s < 0 || (mode == "linear" && s + count > room))
      fail(Category::value, "{} entries at position {} do not fit {} places", count, s, room);
  }
  each_index(update.shape(), [&](int64_t i, const std::vector<int64_t>& index) {
    int64_t to = 0;
    for (size_t d = 0; d < index.size(); ++d)
      to += strides[d] * (static_cast<int64_t>(d) == axis ? (starts[index[0]] + index[d]) % room : index[d]);
    at[i] = to;
  });
  return {scatter(past, update, at, "none")};
}

// 1 for what is not nothing: by bits, of which floats have one more for the sign of a zero.
std::vector<uint8_t> flags(const Tensor& t) {
  std::vector<uint8_t> out(static_cast<size_t>(t.size()));
  const auto by = [&]<typename T>(T counted) {
    const T* bits = static_cast<const T*>(t.data());
    for (int64_t i = 0; i < t.size(); ++i) out[i] = (bits[i] & counted) != 0;
  };
  const bool real = is_float(t.dtype());
  if (t.dtype() == DType::string) {
    for (int64_t i = 0; i < t.size(); ++i) out[i] = !t.as<std::string>()[i].empty();
    return out;
  }
  switch (bit_width(t.dtype())) {
    case 8:
      if (!real) return by(uint8_t{0xff}), out;
      break;
    case 16: return by(real ? uint16_t{0x7fff} : uint16_t{0xffff}), out;
    case 32: return by(real ? 0x7fffffffu : 0xffffffffu), out;
    case 64:
      if (is_float(t.dtype()) || is_int(t.dtype())) return by(real ? ~uint64_t{0} >> 1 : ~uint64_t{0}), out;
      break;
    default: break;
  }
  if (real) std::ranges::transform(widen<double>(t), out.begin(), [](double v) { return v != 0; });
  else std::ranges::transform(widen<int64_t>(t), out.begin(), [](int64_t v) { return v != 0; });
  return out;
}

std::vector<Tensor> non_zero(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const auto set = flags(x);
  const int64_t count = std::count(set.begin(), set.end(), 1), rank = x.rank();
  Tensor made(DType::i64, {rank, count});
  if (count == 0 || rank == 0) return {std::move(made)};
  int64_t* out = made.as<int64_t>().data();
  int64_t n = 0;
  const int64_t length = x.shape().back();
  std::vector<int64_t> index(static_cast<size_t>(rank));
  for (int64_t first = 0; first < x.size(); first += length) {
    for (int64_t d = rank - 2, row = first / length; d >= 0; --d) {
      index[d] = row % x.shape()[d];
      row /= x.shape()[d];
    }
    const int64_t before = n;
    int64_t* last = out + (rank - 1) * count;
    // Written and then counted or not: half of the branches would be guessed wrong.
    int64_t i = 0;
    for (; i < length && n + 1 < count; ++i) {
      last[n] = i;
      n += set[first + i];
    }
    for (; i < length && n < count; ++i) {
      if (set[first + i]) last[n++] = i;
    }
    for (int64_t d = 0; d + 1 < rank; ++d) std::fill(out + d * count + before, out + d * count + n, index[d]);
  }
  return {std::move(made)};
}

std::vector<Tensor> compress(const EvalContext& c) {
  const bool flat = !c.node.find<int64_t>("axis");
  const Tensor x = flat ? c.in(0).reshaped({c.in(0).size()}) : c.in(0);
  const int64_t axis = flat ? 0 : wrap_axis(c.node.integer("axis", 0), x.rank());
  const auto keep = flags(c.in(1));
  Shape shape = x.shape();
  if (static_cast<int64_t>(keep.size()) > shape[axis])
    fail(Category::shape, "the condition has {} entries, axis {} {}", keep.size(), axis, shape[axis]);
  const int64_t n = shape[axis], inner = strides_of(shape)[axis], outer = element_count(std::span<const int64_t>(shape).first(axis));
  shape[axis] = std::count(keep.begin(), keep.end(), 1);
  std::vector<int64_t> from;
  for (int64_t o = 0; o < outer; ++o) {
    for (size_t k = 0; k < keep.size(); ++k) {
      for (int64_t i = 0; keep[k] && i < inner; ++i) from.push_back((o * n + static_cast<int64_t>(k)) * inner + i);
    }
  }
  return {take(x, shape, from)};
}

int64_t one_hot_axis(const Node& n, int64_t rank) {
  const int64_t axis = n.integer("axis", -1);
  if (axis < -rank - 1 || axis > rank) fail(Category::value, "axis {} is outside -{}..{}", axis, rank + 1, rank);
  return axis < 0 ? axis + rank + 1 : axis;
}

std::vector<Tensor> one_hot(const EvalContext& c) {
  const auto indices = widen<double>(c.in(0));
  const double asked = one_real(c, 1);
  if (!(asked >= 0 && asked < 1e12)) fail(Category::value, "depth is {}", asked);
  const int64_t depth = static_cast<int64_t>(asked), axis = one_hot_axis(c.node, c.in(0).rank());
  if (c.in(2).size() != 2) fail(Category::shape, "values has shape {}, expected 2 elements (off, on)", to_string(c.in(2).shape()));
  Shape shape = c.in(0).shape();
  const int64_t inner = element_count(std::span<const int64_t>(shape).subspan(axis));
  shape.insert(shape.begin() + axis, depth);
  const auto total = checked_product(shape);
  if (!total) fail(Category::shape, "the result would be too large");
  check_plain_size(*total);
  std::vector<int64_t> from(*total, 0);
  for (size_t i = 0; i < indices.size(); ++i) {
    if (!(std::fabs(indices[i]) <= static_cast<double>(depth))) continue;
    int64_t k = static_cast<int64_t>(indices[i]);
    if (k < 0) k += depth;
    if (k < 0 || k >= depth) continue;  // outside: all off
    const int64_t o = static_cast<int64_t>(i) / inner, in = static_cast<int64_t>(i) % inner;
    from[(o * depth + k) * inner + in] = 1;
  }
  return {take(c.in(2), shape, from)};
}

// Rows of elements that compare like numbers, or like strings.
// Rows of numbers or strings, side by side. Zeros of either sign are one, and so are all that are no numbers, which come last.
template <typename T>
class Rows {
 public:
  Rows(std::vector<T> values, int64_t width) : values_(std::move(values)), width_(width) {}
  int64_t width() const { return width_; }
  bool same(int64_t a, int64_t b) const {
    for (int64_t i = 0; i < width_; ++i) {
      if (less(at(a, i), at(b, i)) || less(at(b, i), at(a, i))) return false;
    }
    return true;
  }
  bool before(int64_t a, int64_t b) const {
    for (int64_t i = 0; i < width_; ++i) {
      if (less(at(a, i), at(b, i))) return true;
      if (less(at(b, i), at(a, i))) return false;
    }
    return false;
  }
  size_t hash(int64_t row) const {
    size_t h = 0;
    for (int64_t i = 0; i < width_; ++i) h = (h ^ hash_of(at(row, i))) * 0x9e3779b97f4a7c15u, h ^= h >> 29;
    return h;
  }

 private:
  const T& at(int64_t row, int64_t i) const { return values_[static_cast<size_t>(row * width_ + i)]; }
  static bool less(const T& a, const T& b) {
    if constexpr (std::is_floating_point_v<T>) return a < b || (b != b && a == a);
    else return a < b;
  }
  static size_t hash_of(const T& v) {
    if constexpr (std::is_floating_point_v<T>) return v != v ? 1 : std::hash<T>()(v);  // (zeros of either sign have one hash)
    else return std::hash<T>()(v);
  }

  std::vector<T> values_;
  int64_t width_;
};

// By rows: which group each is in, groups in the order of their first rows; and these.
template <typename T>
std::vector<int64_t> groups_of(const Rows<T>& rows, int64_t count, std::vector<int64_t>& first) {
  std::vector<int64_t> group(static_cast<size_t>(count)), table(std::bit_ceil(static_cast<size_t>(2 * count + 1)), -1);
  for (int64_t k = 0; k < count; ++k) {
    size_t at = rows.hash(k) & (table.size() - 1);
    while (table[at] >= 0 && !rows.same(first[static_cast<size_t>(table[at])], k)) at = (at + 1) & (table.size() - 1);
    if (table[at] < 0) {
      table[at] = static_cast<int64_t>(first.size());
      first.push_back(k);
    }
    group[static_cast<size_t>(k)] = table[at];
  }
  return group;
}

std::vector<Tensor> unique(const EvalContext& c) {
  const bool flat = !c.node.find<int64_t>("axis"), sorted = c.node.integer("sorted", 1) != 0;
  const Tensor x = flat ? c.in(0).reshaped({c.in(0).size()}) : c.in(0);
  const int64_t axis = flat ? 0 : wrap_axis(c.node.integer("axis", 0), x.rank()), n = x.shape()[axis];
  const int64_t inner = strides_of(x.shape())[axis], outer = element_count(std::span<const int64_t>(x.shape()).first(axis));
  const auto run = [&](auto&& values) -> std::vector<Tensor> {
    using T = typename std::decay_t<decltype(values)>::value_type;
    std::vector<T> lying;
    lying.reserve(values.size());
    for (int64_t k = 0; k < n; ++k) {
      for (int64_t o = 0; o < outer; ++o) {
        const auto from = values.begin() + (o * n + k) * inner;
        lying.insert(lying.end(), from, from + inner);
      }
    }
    const Rows<T> rows(std::move(lying), outer * inner);
    std::vector<int64_t> first, group = groups_of(rows, n, first), order(first.size());
    std::iota(order.begin(), order.end(), 0);
    if (sorted) std::ranges::sort(order, [&](int64_t a, int64_t b) { return rows.before(first[a], first[b]); });
    const auto kinds = static_cast<int64_t>(order.size());
    std::vector<int64_t> rank(order.size()), first_out(order.size()), counts(order.size(), 0), from;
    for (int64_t i = 0; i < kinds; ++i) {
      rank[order[i]] = i;
      first_out[i] = first[order[i]];
    }
    for (int64_t& g : group) {
      g = rank[g];
      ++counts[g];
    }
    Shape shape = x.shape();
    shape[axis] = kinds;
    from.reserve(static_cast<size_t>(outer * kinds * inner));
    for (int64_t o = 0; o < outer; ++o) {
      for (int64_t k : first_out) {
        for (int64_t i = 0; i < inner; ++i) from.push_back((o * n + k) * inner + i);
      }
    }
    const auto list = [](const std::vector<int64_t>& v) { return Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v); };
    return {take(x, shape, from), list(first_out), list(group), list(counts)};
  };
  if (x.dtype() == DType::string) return run(std::vector<std::string>(x.as<std::string>().begin(), x.as<std::string>().end()));
  return with_wide(x.dtype(), [&](auto zero) { return run(widen<decltype(zero)>(x)); });
}

constexpr int64_t kLongRun = 256;  // bytes from which on a call that copies a run takes no longer than the run

// Sequence `b` of a batch: its first `length` steps the other way round, the others as they are.
void reverse_one(const Shape& shape, int64_t bytes, int64_t time, int64_t b, int64_t length, const void* x, void* y) {
  const int64_t inner = element_count(std::span<const int64_t>(shape).subspan(2)) * bytes, steps = shape[time], batches = shape[1 - time];
  for (int64_t t = 0; t < steps; ++t) {
    const int64_t from = t < length ? length - 1 - t : t;
    const auto at = [&](int64_t step) { return (time == 0 ? step * batches + b : b * steps + step) * inner; };
    std::memcpy(static_cast<char*>(y) + at(t), static_cast<const char*>(x) + at(from), static_cast<size_t>(inner));
  }
}

// Steps [begin, end) of all sequences, where those of one step lie side by side; neighbours of one length move together.
void reverse_steps(int64_t batches, int64_t bytes, const int64_t* lengths, int64_t begin, int64_t end, const char* x, char* y) {
  for (int64_t t = begin; t < end; ++t) {
    for (int64_t b = 0, next; b < batches; b = next) {
      for (next = b + 1; next < batches && lengths[next] == lengths[b]; ++next) {
      }
      const int64_t from = t < lengths[b] ? lengths[b] - 1 - t : t, n = (next - b) * bytes;
      const char* in = x + (from * batches + b) * bytes;
      char* out = y + (t * batches + b) * bytes;
      // Short ones by themselves: a call would take longer.
      if (n == 2) std::memcpy(out, in, 2);
      else if (n == 4) std::memcpy(out, in, 4);
      else if (n == 8) std::memcpy(out, in, 8);
      else std::memcpy(out, in, static_cast<size_t>(n));
    }
  }
}

std::vector<Tensor> reverse_sequence(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t batch = wrap_axis(c.node.integer("batch_axis", 1), x.rank()), time = wrap_axis(c.node.integer("time_axis", 0), x.rank());
  if (batch == time || batch > 1 || time > 1)
    fail(Category::value, "batch_axis {} and time_axis {} must be 0 and 1, one each", batch, time);
  const auto lengths = integers(c.in(1));
  if (static_cast<int64_t>(lengths.size()) != x.shape()[batch])
    fail(Category::shape, "sequence_lens has {} entries, expected {}", lengths.size(), x.shape()[batch]);
  for (int64_t l : lengths) {
    if (l < 0 || l > x.shape()[time]) fail(Category::value, "sequence length {} is outside 0..{}", l, x.shape()[time]);
  }
  if (x.dtype() == DType::string) {
    const auto strides = strides_of(x.shape());
    std::vector<int64_t> from(x.size());
    each_index(x.shape(), [&](int64_t i, const std::vector<int64_t>& index) {
      const int64_t t = index[time], l = lengths[index[batch]];
      from[i] = t < l ? i + (l - 1 - 2 * t) * strides[time] : i;
    });
    return {take(x, x.shape(), from)};
  }
  Tensor y(x.dtype(), x.shape());
  if (x.size() > 0) {
    for (int64_t b = 0; b < x.shape()[batch]; ++b)
      reverse_one(x.shape(), bit_width(x.dtype()) / 8, time, b, lengths[b], x.data(), y.data());
  }
  return {std::move(y)};
}

// Each sequence as a task, or some steps of all. Runs are copied, so numbers may be of any type of whole bytes.
FastKernel fast_reverse_sequence(const KernelRequest& r) {
  const int64_t bytes = bit_width(r.inputs[0].dtype) / 8, time = ops::wrap_axis(r.node.integer("time_axis", 0), 2);
  if (r.inputs[0].dtype == DType::string || bytes == 0 || r.inputs[1].dtype != DType::i64) return nullptr;
  return [bytes, time](KernelContext& c) {
    const Shape& shape = *c.inputs[0].shape;
    const auto* lengths = static_cast<const int64_t*>(c.inputs[1].data);
    for (int64_t b = 0; b < shape[1 - time]; ++b) {
      if (lengths[b] < 0 || lengths[b] > shape[time]) fail(Category::value, "sequence length {} is outside 0..{}", lengths[b], shape[time]);
    }
    const int64_t steps = shape[time], batches = shape[1 - time], inner = element_count(std::span<const int64_t>(shape).subspan(2));
    if (time == 0 && inner * bytes < kLongRun) {  // runs too short to be copied one by one, sequence after sequence
      const int64_t each = std::max<int64_t>(1, 16384 / std::max<int64_t>(1, batches * inner));
      return c.each((steps + each - 1) / each, [&](int64_t task) {
        reverse_steps(batches, inner * bytes, lengths, task * each, std::min(steps, (task + 1) * each),
                      static_cast<const char*>(c.inputs[0].data), static_cast<char*>(c.outputs[0].data));
      });
    }
    c.each(batches, [&](int64_t b) { reverse_one(shape, bytes, time, b, lengths[b], c.inputs[0].data, c.outputs[0].data); });
  };
}

std::vector<Tensor> trilu(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() < 2) fail(Category::shape, "input is {}, expected a matrix or a batch of them", to_string(x.shape()));
  const int64_t k = c.has(1) ? one_integer(c, 1) : 0, columns = x.shape().back(), rows = x.shape()[x.rank() - 2];
  const bool upper = c.node.integer("upper", 1) != 0;
  const int64_t reach = std::clamp<int64_t>(k, -rows - columns, rows + columns);
  std::vector<int64_t> from(x.size());
  for (int64_t i = 0; i < x.size(); ++i) {
    const int64_t column = i % columns, row = i / columns % rows;
    from[i] = (upper ? column - row >= reach : column - row <= reach) ? i : -1;
  }
  return {take(x, x.shape(), from)};
}

std::vector<Tensor> cum_sum(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(one_integer(c, 1), x.rank()), n = x.shape()[axis];
  const bool exclusive = c.node.integer("exclusive", 0) != 0, reverse = c.node.integer("reverse", 0) != 0;
  const int64_t inner = strides_of(x.shape())[axis];
  return with_wide(x.dtype(), [&](auto zero) -> std::vector<Tensor> {
    using T = decltype(zero);
    auto v = widen<T>(x);
    for (int64_t i = 0; i < x.size(); ++i) {
      if (i / inner % n != 0) continue;
      T sum = 0;
      for (int64_t k = 0; k < n; ++k) {
        T& e = v[i + (reverse ? n - 1 - k : k) * inner];
        const T next = static_cast<T>(sum + e);
        e = exclusive ? sum : next;
        sum = next;
      }
    }
    return {narrow<T>(x.dtype(), x.shape(), v)};
  });
}

// Blocks of pixels to channels and back: a reshape to six dims, a transpose, a reshape.
Tensor rearranged(const Tensor& x, const Shape& six, const std::vector<int>& order, const Shape& out) {
  const auto strides = strides_of(six);
  Shape shape;
  std::vector<int64_t> moved;
  for (int i : order) {
    shape.push_back(six[i]);
    moved.push_back(strides[i]);
  }
  return take(x, out, strided_index(shape, moved));
}

int64_t block_size(const Node& n) {
  const int64_t b = n.integer("blocksize", 0);
  if (b < 1 || b > 65536) fail(Category::value, "attribute blocksize is {}, expected 1 to 65536", b);
  return b;
}

Shape depth_shape(const Node& n, const Shape& x, bool to_space) {
  const int64_t b = block_size(n);
  if (x.size() != 4) fail(Category::shape, "input is {}, expected N x C x H x W", to_string(x));
  if (to_space ? x[1] % (b * b) != 0 : x[2] % b != 0 || x[3] % b != 0) fail(Category::shape, "blocks of {} do not fit {}", b, to_string(x));
  return to_space ? Shape{x[0], x[1] / (b * b), x[2] * b, x[3] * b} : Shape{x[0], x[1] * b * b, x[2] / b, x[3] / b};
}

void infer_depth(InferContext& c, bool to_space) {
  if (const auto s = known_shape(c.dims(0))) return c.set(0, c.dtype(0), to_dims(depth_shape(c.node(), *s, to_space)));
  c.set(0, c.dtype(0), c.dims(0) ? std::optional<Dims>(Dims{(*c.dims(0)).at(0), Dim(), Dim(), Dim()}) : std::nullopt);
}

// Axes cut or filled with zeros around their middle.
std::vector<Tensor> center_crop_pad(const EvalContext& c) {
  const Tensor& x = c.in(0);
  auto axes = c.node.integers("axes");
  if (axes.empty()) {
    axes.resize(x.rank());
    std::iota(axes.begin(), axes.end(), 0);
  }
  axes = wrap_axes(axes, x.rank());
  const auto wanted = integers(c.in(1));
  if (wanted.size() != axes.size()) fail(Category::value, "shape has {} entries, expected {}", wanted.size(), axes.size());
  Shape shape = x.shape();
  std::vector<int64_t> first(x.rank(), 0);  // source position of output position 0
  for (size_t i = 0; i < axes.size(); ++i) {
    const int64_t a = axes[i], have = shape[a];
    if (wanted[i] < 0) fail(Category::value, "shape holds {}", wanted[i]);
    shape[a] = wanted[i];
    first[a] = have >= wanted[i] ? (have - wanted[i]) / 2 : -((wanted[i] - have) / 2);
  }
  check_plain_size(element_count(shape));
  const auto strides = strides_of(x.shape());
  std::vector<int64_t> from(element_count(shape));
  each_index(shape, [&](int64_t i, const std::vector<int64_t>& index) {
    int64_t at = 0;
    for (size_t d = 0; d < index.size() && at >= 0; ++d) {
      const int64_t s = index[d] + first[d];
      at = s < 0 || s >= x.shape()[d] ? -1 : at + s * strides[d];
    }
    from[i] = at;
  });
  return {take(x, shape, from)};
}

}  // namespace

void add_indexing(std::vector<OpDef>& out) {
  // Indices of single elements lie within the data, on every axis but the one they count along.
  const auto check_beside_axis = [](InferContext& c) {
    if (!c.dims(0) || !c.dims(1)) return;
    const int64_t axis = wrap_axis(c.node().integer("axis", 0), c.rank(0));
    for (int d = 0; d < c.rank(0); ++d) {
      const Dim &data = (*c.dims(0))[d], &index = (*c.dims(1))[d];
      if (d != axis && data.known() && index.known())
        c.require(index.value <= data.value, Category::shape,
                  fmt::format("input 1 (indices) has shape {}, which reaches outside the data's {} beside axis {}", to_string(*c.dims(1)),
                              to_string(*c.dims(0)), axis));
    }
  };
  const auto add = [&](const char* name, int since, int min, int max, Infer infer, Plain plain, int outputs = 1) {
    out.push_back(def(name, since, min, max, Trait::movement, std::move(infer), std::move(plain), outputs));
  };
  add(
      "GatherElements", 11, 2, 2,
      [check_beside_axis](InferContext& c) {
        c.set(0, c.dtype(0), c.dims(1));
        check_beside_axis(c);
      },
      [](const EvalContext& c) -> std::vector<Tensor> {
        const int64_t axis = wrap_axis(c.node.integer("axis", 0), c.in(0).rank());
        return {take(c.in(0), c.in(1).shape(), element_targets(c.in(0), c.in(1), axis))};
      });
  add("GatherND", 11, 2, 2, infer_gather_nd, gather_nd);
  const auto clash = [](const Dims& a, const Dims& b) {
    if (a.size() != b.size()) return true;
    for (size_t i = 0; i < a.size(); ++i) {
      if (a[i].known() && b[i].known() && a[i].value != b[i].value) return true;
    }
    return false;
  };
  const auto infer_scatter_nd = [clash](InferContext& c) {
    same_as_first(c);
    if (!c.dims(0) || !c.dims(1) || !c.dims(1)->back().known()) return;
    const int64_t depth = c.dims(1)->back().value;
    c.require(depth <= c.rank(0), Category::shape,
              fmt::format("input 1 (indices) has shape {}, which does not fit data of {}", to_string(*c.dims(1)), to_string(*c.dims(0))));
    Dims wanted(c.dims(1)->begin(), c.dims(1)->end() - 1);
    wanted.insert(wanted.end(), c.dims(0)->begin() + depth, c.dims(0)->end());
    if (c.dims(2) && clash(*c.dims(2), wanted))
      c.fail(Category::shape, fmt::format("input 2 (updates) has shape {}, expected {}", to_string(*c.dims(2)), to_string(wanted)));
  };
  const auto infer_scatter = [clash, check_beside_axis](InferContext& c) {
    same_as_first(c);
    if (c.dims(1) && c.dims(2) && clash(*c.dims(1), *c.dims(2)))
      c.fail(Category::shape,
             fmt::format("input 2 (updates) has shape {}, the indices {}; they must agree", to_string(*c.dims(2)), to_string(*c.dims(1))));
    check_beside_axis(c);
  };
  add("ScatterND", 11, 3, 3, infer_scatter_nd, scatter_nd);
  add("ScatterElements", 11, 3, 3, infer_scatter, scatter_elements);
  add("Scatter", 9, 3, 3, infer_scatter, scatter_elements);
  add(
      "TensorScatter", 24, 2, 3,
      [](InferContext& c) {
        same_as_first(c);
        if (!c.dims(0) || !c.dims(1)) return;
        const int64_t axis = wrap_axis(c.node().integer("axis", -2), c.rank(0));
        c.require(axis != 0, Category::value, "attribute 'axis' names the batch, axis 0");
        for (int d = 0; d < c.rank(0); ++d) {
          const Dim &past = (*c.dims(0))[d], &update = (*c.dims(1))[d];
          if (past.known() && update.known())
            c.require(d == axis ? update.value <= past.value : update.value == past.value, Category::shape,
                      fmt::format("input 1 (update) has shape {}, which does not fit a cache of {} along axis {}", to_string(*c.dims(1)),
                                  to_string(*c.dims(0)), axis));
        }
      },
      tensor_scatter);
  add(
      "NonZero", 9, 1, 1,
      [](InferContext& c) {
        c.set(0, DType::i64, c.rank(0) >= 0 ? std::optional<Dims>(Dims{Dim(c.rank(0)), Dim()}) : std::optional<Dims>(Dims(2)));
      },
      non_zero);
  add(
      "Compress", 9, 2, 2,
      [](InferContext& c) {
        std::optional<Dims> dims = c.node().find<int64_t>("axis") ? c.dims(0) : std::optional<Dims>(Dims(1));
        if (dims && c.node().find<int64_t>("axis")) (*dims)[wrap_axis(c.node().integer("axis", 0), c.rank(0))] = Dim();
        c.set(0, c.dtype(0), dims);
      },
      compress);
  add(
      "OneHot", 9, 3, 3,
      [](InferContext& c) {
        std::optional<Dims> dims = c.dims(0);
        if (dims) {
          const Tensor* depth = c.constant(1);
          const bool known = depth && depth->size() == 1;
          const double value = known ? widen<double>(*depth)[0] : 0;
          if (known) c.require(value >= 0 && value < 1e12, Category::value, fmt::format("depth is {}", value));
          dims->insert(dims->begin() + one_hot_axis(c.node(), c.rank(0)), known ? Dim(static_cast<int64_t>(value)) : Dim());
        }
        c.set(0, c.dtype(2), dims);
      },
      one_hot);
  add(
      "Unique", 11, 1, 1,
      [](InferContext& c) {
        std::optional<Dims> dims = c.node().find<int64_t>("axis") ? c.dims(0) : std::optional<Dims>(Dims(1));
        if (dims && c.node().find<int64_t>("axis")) (*dims)[wrap_axis(c.node().integer("axis", 0), c.rank(0))] = Dim();
        c.set(0, c.dtype(0), dims);
        for (int i = 1; i < 4; ++i) c.set(i, DType::i64, Dims(1));
      },
      unique, 4);
  add(
      "ReverseSequence", 10, 2, 2,
      [](InferContext& c) {
        same_as_first(c);
        const int64_t batch = c.node().integer("batch_axis", 1), time = c.node().integer("time_axis", 0);
        c.require((batch == 0 && time == 1) || (batch == 1 && time == 0), Category::value,
                  fmt::format("attributes 'batch_axis' and 'time_axis' are {} and {}, expected 0 and 1, one each", batch, time));
        if (!c.dims(0)) return;
        const Dim &batches = (*c.dims(0))[batch], &steps = (*c.dims(0))[time];
        if (c.dims(1) && (*c.dims(1))[0].known() && batches.known())
          c.require((*c.dims(1))[0].value == batches.value, Category::shape,
                    fmt::format("input 1 (sequence_lens) has {} entries, expected {}", (*c.dims(1))[0].value, batches.value));
        if (const auto lengths = c.integers(1)) {
          for (int64_t l : *lengths)
            c.require(l >= 0 && (!steps.known() || l <= steps.value), Category::value,
                      fmt::format("input 1 (sequence_lens) holds {}, expected 0 to {}", l, to_string(steps)));
        }
      },
      reverse_sequence);
  out.back().fast = fast_reverse_sequence;
  add("Trilu", 14, 1, 2, same_as_first, trilu);
  add(
      "CumSum", 11, 2, 2,
      [](InferContext& c) {
        same_as_first(c);
        if (const auto axis = c.integers(1); axis && axis->size() == 1 && c.rank(0) >= 0) wrap_axis((*axis)[0], c.rank(0));
      },
      cum_sum);
  add(
      "DepthToSpace", 1, 1, 1, [](InferContext& c) { infer_depth(c, true); },
      [](const EvalContext& c) -> std::vector<Tensor> {
        const Shape& s = c.in(0).shape();
        const Shape out_shape = depth_shape(c.node, s, true);
        const int64_t b = block_size(c.node), depth = s[1] / (b * b);
        if (c.node.text("mode", "DCR") == "CRD")
          return {rearranged(c.in(0), {s[0], depth, b, b, s[2], s[3]}, {0, 1, 4, 2, 5, 3}, out_shape)};
        return {rearranged(c.in(0), {s[0], b, b, depth, s[2], s[3]}, {0, 3, 4, 1, 5, 2}, out_shape)};
      });
  add(
      "SpaceToDepth", 1, 1, 1, [](InferContext& c) { infer_depth(c, false); },
      [](const EvalContext& c) -> std::vector<Tensor> {
        const Shape& s = c.in(0).shape();
        const Shape out_shape = depth_shape(c.node, s, false);
        const int64_t b = block_size(c.node);
        return {rearranged(c.in(0), {s[0], s[1], s[2] / b, b, s[3] / b, b}, {0, 3, 5, 1, 2, 4}, out_shape)};
      });
  add(
      "CenterCropPad", 18, 2, 2,
      [](InferContext& c) {
        std::optional<Dims> dims = c.dims(0);
        const auto wanted = c.integers(1);
        if (dims) {
          auto axes = c.node().integers("axes");
          if (axes.empty()) {
            axes.resize(dims->size());
            std::iota(axes.begin(), axes.end(), 0);
          }
          axes = wrap_axes(axes, c.rank(0));
          if (wanted)
            c.require(wanted->size() == axes.size(), Category::value,
                      fmt::format("shape has {} entries, expected {}", wanted->size(), axes.size()));
          for (size_t i = 0; i < axes.size(); ++i) (*dims)[axes[i]] = wanted && (*wanted)[i] >= 0 ? Dim((*wanted)[i]) : Dim();
        }
        c.set(0, c.dtype(0), dims);
      },
      center_crop_pad);
}

}  // namespace lathe::ops
