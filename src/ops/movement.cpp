// Data movement: shape views, Transpose, Slice, Concat, Split, Gather, Expand, Tile, Pad.
#include "ops/movement.hpp"

#include <algorithm>
#include <cstring>
#include <limits>

#include "base/memory.hpp"
#include "ops/support.hpp"

namespace lathe::ops {

Shape reshape_target(const Shape& in, std::vector<int64_t> wanted, bool allow_zero) {
  const int64_t total = element_count(in);
  int64_t rest = -1, product = 1;
  for (size_t i = 0; i < wanted.size(); ++i) {
    if (wanted[i] == 0 && !allow_zero) {
      if (i >= in.size()) fail(Category::shape, "shape entry {} is 0 (copy), but the input {} has no such dim", i, to_string(in));
      wanted[i] = in[i];
    }
    if (wanted[i] == -1) {
      if (rest >= 0) fail(Category::shape, "shape {} holds -1 twice", to_string(wanted));
      rest = static_cast<int64_t>(i);
    } else if (wanted[i] < 0) {
      fail(Category::shape, "shape {} holds {}", to_string(wanted), wanted[i]);
    } else if (const auto p = checked_multiply(product, wanted[i])) {
      product = *p;
    } else {
      fail(Category::shape, "shape {} overflows", to_string(wanted));
    }
  }
  if (rest >= 0) {
    if (product == 0 || total % product != 0)
      fail(Category::shape, "cannot reshape {} ({} elements) to {}", to_string(in), total, to_string(wanted));
    wanted[rest] = total / product;
  } else if (product != total) {
    fail(Category::shape, "cannot reshape {} ({} elements) to {} ({})", to_string(in), total, to_string(wanted), product);
  }
  return wanted;
}

std::vector<int64_t> split_sizes(int64_t total, std::vector<int64_t> parts, int64_t outputs, bool uneven) {
  if (parts.empty()) {
    if (outputs < 1) fail(Category::value, "a split needs at least one output");
    if (total % outputs != 0 && !uneven) fail(Category::shape, "{} elements do not split into {} equal parts", total, outputs);
    const int64_t each = (total + outputs - 1) / outputs;
    for (int64_t i = 0; i < outputs; ++i) parts.push_back(std::clamp<int64_t>(total - i * each, 0, each));
  }
  int64_t sum = 0;
  for (int64_t p : parts) {
    if (p < 0) fail(Category::value, "a part of the split has size {}", p);
    if (p > total - sum) fail(Category::shape, "split sizes {} do not add up to {} in {} outputs", to_string(parts), total, outputs);
    sum += p;
  }
  if (sum != total || static_cast<int64_t>(parts.size()) != outputs) {
    fail(Category::shape, "split sizes {} do not add up to {} in {} outputs", to_string(parts), total, outputs);
  }
  return parts;
}

namespace {

// ---- views ----

// A dim as a number times names: "24*batch*seq" is 24, batch and seq. A sum is a name here.
void factors_of(const Dim& d, Dim& number, std::vector<Dim>& names) {
  if (d.known()) {
    number = product(number, d);
    return;
  }
  if (d.symbol.find_first_of(" (") != std::string::npos) return names.push_back(d);
  for (size_t at = 0; at <= d.symbol.size();) {
    const size_t end = std::min(d.symbol.find('*', at), d.symbol.size());
    const std::string part = d.symbol.substr(at, end - at);
    if (!part.empty() && part.find_first_not_of("0123456789") == std::string::npos) number = product(number, Dim(std::stoll(part)));
    else names.emplace_back(part);
    at = end + 1;
  }
}

// Dims of the shape input when only some facts are known.
void infer_reshape(InferContext& c) {
  const auto wanted = c.integers(1);
  const bool allow_zero = c.version() >= 14 && c.node().integer("allowzero", 0) != 0;
  if (const auto sizes = wanted ? std::nullopt : c.sizes(1)) {
    Dims out;
    for (size_t i = 0; i < sizes->size(); ++i) {
      const Dim& d = (*sizes)[i];
      out.push_back(d.value == 0 && !allow_zero ? (c.dims(0) && i < c.dims(0)->size() ? (*c.dims(0))[i] : Dim()) : d);
    }
    // What stands in the place of the only one that is not known follows from the others, when they are known by name.
    const auto open = std::count(out.begin(), out.end(), Dim());
    if (open == 1 && c.dims(0)) {
      Dim have(1), used(1);
      std::vector<Dim> left;
      bool solvable = true;
      for (const Dim& d : *c.dims(0)) factors_of(d, have, left);
      std::vector<Dim> named;
      for (const Dim& d : out) {
        if (d != Dim()) factors_of(d, used, named);
      }
      for (const Dim& d : named) {
        const auto same = std::find(left.begin(), left.end(), d);
        if (same != left.end()) left.erase(same);
        else solvable = false;
      }
      Dim rest(1);
      for (const Dim& d : left) rest = product(rest, d);
      if (solvable && used.value > 0 && have.value % used.value == 0)
        *std::find(out.begin(), out.end(), Dim()) = product(rest, Dim(have.value / used.value));
    }
    return c.set(0, c.dtype(0), out);
  }
  if (!wanted) {
    const auto& d = c.dims(1);
    if (d && d->size() == 1 && (*d)[0].known()) return c.set(0, c.dtype(0), unknown_dims((*d)[0].value));
    return c.set(0, c.dtype(0), std::nullopt);
  }
  if (const auto in = known_shape(c.dims(0))) return c.set(0, c.dtype(0), to_dims(reshape_target(*in, *wanted, allow_zero)));
  Dims out;
  for (size_t i = 0; i < wanted->size(); ++i) {
    const int64_t w = (*wanted)[i];
    if (w > 0 || (w == 0 && allow_zero)) out.emplace_back(w);
    else if (w == 0 && c.dims(0) && i < c.dims(0)->size()) out.push_back((*c.dims(0))[i]);
    else out.emplace_back();
  }
  // -1 beside one symbolic dim that is kept elsewhere: the known sizes decide it.
  const auto minus = std::find(wanted->begin(), wanted->end(), -1);
  if (minus != wanted->end() && c.dims(0)) {
    Dims left = *c.dims(0);
    int64_t have = 1, used = 1;
    bool solvable = true;
    for (size_t i = 0; i < out.size(); ++i) {
      if (static_cast<int64_t>(i) == minus - wanted->begin()) continue;
      if (out[i].known()) used = product(Dim(used), out[i]).value;
      else if (const auto same = std::find(left.begin(), left.end(), out[i]); !out[i].symbol.empty() && same != left.end())
        left.erase(same);
      else solvable = false;
    }
    Dim symbol(1);
    int symbols = 0;
    for (const Dim& d : left) {
      if (d.known()) have = product(Dim(have), d).value;
      else symbol = d, ++symbols;
    }
    Dim& target = out[minus - wanted->begin()];
    if (solvable && symbols == 0 && used > 0 && have % used == 0) target = Dim(have / used);
    else if (solvable && symbols == 1 && used == have) target = symbol;
  }
  c.set(0, c.dtype(0), out);
}

OpDef view(std::string name, int since, int max_inputs, Infer infer, std::function<Shape(const EvalContext&)> shape) {
  return def(std::move(name), since, 1, max_inputs, Trait::view, std::move(infer),
             [shape](const EvalContext& c) -> std::vector<Tensor> { return {c.in(0).reshaped(shape(c))}; });
}

std::optional<std::vector<int64_t>> axes_of(const InferContext& c, bool from_input) {
  if (!from_input) return c.node().integers("axes");
  if (!c.has(1)) return std::vector<int64_t>();
  return c.integers(1);
}

std::vector<int64_t> axes_of(const EvalContext& c, bool from_input) {
  return from_input ? (c.has(1) ? integers(c.in(1)) : std::vector<int64_t>()) : c.node.integers("axes");
}

template <typename D>
std::vector<D> squeezed(const std::vector<D>& in, const std::vector<int64_t>& axes, auto is_one) {
  std::vector<bool> gone(in.size(), false);
  for (size_t i = 0; i < in.size(); ++i) gone[i] = axes.empty() && is_one(in[i]) == 1;
  for (int64_t a : wrap_axes(axes, static_cast<int64_t>(in.size()))) {
    if (is_one(in[a]) == 0) fail(Category::shape, "cannot squeeze axis {}: its size is not 1", a);
    gone[a] = true;
  }
  std::vector<D> out;
  for (size_t i = 0; i < in.size(); ++i) {
    if (!gone[i]) out.push_back(in[i]);
  }
  return out;
}

template <typename D>
std::vector<D> unsqueezed(const std::vector<D>& in, const std::vector<int64_t>& axes) {
  const int64_t rank = static_cast<int64_t>(in.size() + axes.size());
  std::vector<bool> fresh(rank, false);
  for (int64_t a : wrap_axes(axes, rank)) fresh[a] = true;
  std::vector<D> out;
  size_t next = 0;
  for (int64_t i = 0; i < rank; ++i) out.push_back(fresh[i] ? D(1) : in[next++]);
  return out;
}

void add_views(std::vector<OpDef>& out) {
  out.push_back(def("Reshape", 5, 2, 2, Trait::view, infer_reshape, [](const EvalContext& c) -> std::vector<Tensor> {
    return {c.in(0).reshaped(reshape_target(c.in(0).shape(), integers(c.in(1)), c.version >= 14 && c.node.integer("allowzero", 0)))};
  }));
  out.push_back(view(
      "Flatten", 1, 1,
      [](InferContext& c) {
        if (!c.dims(0)) return c.set(0, c.dtype(0), Dims(2));
        const int64_t rank = c.rank(0), raw = c.node().integer("axis", 1), axis = raw < 0 ? raw + rank : raw;
        c.require(axis >= 0 && axis <= rank, Category::value, fmt::format("axis {} is outside a tensor of rank {}", raw, rank));
        Dims parts{Dim(1), Dim(1)};
        for (int64_t i = 0; i < rank; ++i) {
          Dim& p = parts[i >= axis];
          const Dim& d = (*c.dims(0))[i];
          p = p.value == 1 ? d : d.value == 1 ? p : product(p, d);
        }
        c.set(0, c.dtype(0), parts);
      },
      [](const EvalContext& c) {
        const int64_t rank = c.in(0).rank(), raw = c.node.integer("axis", 1), axis = raw < 0 ? raw + rank : raw;
        if (axis < 0 || axis > rank) fail(Category::value, "axis {} is outside a tensor of rank {}", raw, rank);
        Shape s{1, 1};
        for (int64_t i = 0; i < rank; ++i) s[i >= axis] *= c.in(0).shape()[i];
        return s;
      }));
  for (const bool from_input : {false, true}) {
    const int since = from_input ? 13 : 1;
    out.push_back(view(
        "Squeeze", since, from_input ? 2 : 1,
        [from_input](InferContext& c) {
          const auto axes = axes_of(c, from_input);
          if (!axes || !c.dims(0)) return c.set(0, c.dtype(0), std::nullopt);
          const bool unclear = axes->empty() && !known_shape(c.dims(0));
          if (unclear) return c.set(0, c.dtype(0), std::nullopt);
          c.set(0, c.dtype(0), squeezed<Dim>(*c.dims(0), *axes, [](const Dim& d) { return d.known() ? d.value == 1 : -1; }));
        },
        [from_input](const EvalContext& c) {
          return squeezed<int64_t>(c.in(0).shape(), axes_of(c, from_input), [](int64_t d) { return int{d == 1}; });
        }));
    out.push_back(view(
        "Unsqueeze", since, from_input ? 2 : 1,
        [from_input](InferContext& c) {
          const auto axes = axes_of(c, from_input);
          c.set(0, c.dtype(0), axes && c.dims(0) ? std::optional<Dims>(unsqueezed<Dim>(*c.dims(0), *axes)) : std::nullopt);
        },
        [from_input](const EvalContext& c) { return unsqueezed<int64_t>(c.in(0).shape(), axes_of(c, from_input)); }));
    if (from_input) out.back().min_inputs = 2;
  }
}

// ---- strided reads: Transpose, Slice, Expand ----

std::vector<int64_t> permutation(const Node& node, int64_t rank) {
  std::vector<int64_t> perm = node.integers("perm");
  if (perm.empty()) {
    for (int64_t i = rank - 1; i >= 0; --i) perm.push_back(i);
  }
  if (static_cast<int64_t>(perm.size()) != rank) fail(Category::value, "perm has {} entries, the input rank {}", perm.size(), rank);
  return wrap_axes(perm, rank);
}

// Slice bounds brought into range, as the standard clamps them.
struct Cut {
  int64_t start, count, step;
};

Cut cut(int64_t size, int64_t start, int64_t end, int64_t step) {
  if (step == 0) fail(Category::value, "a slice step is 0");
  const auto wrap = [&](int64_t v) { return v < 0 ? (v < -size ? -1 - size : v) + size : v; };
  start = wrap(start);
  end = wrap(end);
  if (step > 0) {
    start = std::clamp<int64_t>(start, 0, size);
    end = std::clamp<int64_t>(end, 0, size);
    return {start, end > start ? (end - start - 1) / step + 1 : 0, step};
  }
  start = std::clamp<int64_t>(start, -1, size - 1);
  end = std::clamp<int64_t>(end, -1, size - 1);
  if (step < -size - 1) step = -size - 1;  // beyond the tensor all steps are alike; avoids overflow
  return {start, start > end ? (start - end - 1) / -step + 1 : 0, step};
}

struct SliceArguments {
  std::vector<int64_t> starts, ends, axes, steps;
};

SliceArguments complete(SliceArguments a, int64_t rank) {
  if (a.axes.empty()) {
    for (size_t i = 0; i < a.starts.size(); ++i) a.axes.push_back(static_cast<int64_t>(i));
  }
  if (a.steps.empty()) a.steps.assign(a.starts.size(), 1);
  if (a.ends.size() != a.starts.size() || a.axes.size() != a.starts.size() || a.steps.size() != a.starts.size()) {
    fail(Category::value, "starts, ends, axes and steps have {}, {}, {} and {} entries; they must agree", a.starts.size(), a.ends.size(),
         a.axes.size(), a.steps.size());
  }
  a.axes = wrap_axes(a.axes, rank);
  return a;
}

SliceArguments slice_arguments(const Node& node, int version, std::span<const Tensor* const> inputs) {
  if (version < 10) return {node.integers("starts"), node.integers("ends"), node.integers("axes"), {}};
  const auto get = [&](size_t i) { return i < inputs.size() && inputs[i] ? integers(*inputs[i]) : std::vector<int64_t>(); };
  return {get(1), get(2), get(3), get(4)};
}

void infer_slice(InferContext& c) {
  SliceArguments a;
  if (c.version() < 10) {
    a = slice_arguments(c.node(), c.version(), {});
  } else {
    const auto starts = c.integers(1), ends = c.integers(2), axes = c.has(3) ? c.integers(3) : std::vector<int64_t>(),
               steps = c.has(4) ? c.integers(4) : std::vector<int64_t>();
    if (!starts || !ends || !axes || !steps || !c.dims(0)) {
      // Axes alone say which dims stay.
      std::optional<Dims> out;
      if (c.dims(0) && axes && !axes->empty()) {
        out = c.dims(0);
        for (int64_t x : wrap_axes(*axes, c.rank(0))) (*out)[x] = Dim();
      } else if (c.dims(0)) {
        out = Dims(c.rank(0));
      }
      return c.set(0, c.dtype(0), out);
    }
    a = {*starts, *ends, *axes, *steps};
  }
  if (!c.dims(0)) return c.set(0, c.dtype(0), std::nullopt);
  a = complete(a, c.rank(0));
  Dims out = *c.dims(0);
  for (size_t i = 0; i < a.axes.size(); ++i) {
    Dim& d = out[a.axes[i]];
    if (d.known()) d = Dim(cut(d.value, a.starts[i], a.ends[i], a.steps[i]).count);
    else if (!(a.starts[i] == 0 && a.steps[i] == 1 && a.ends[i] >= std::numeric_limits<int32_t>::max())) d = Dim();
  }
  c.set(0, c.dtype(0), out);
}

void infer_expand(InferContext& c) {
  const auto wanted = c.sizes(1);
  if (!wanted || !c.dims(0)) {
    return c.set(0, c.dtype(0), std::nullopt);
  }
  c.set(0, c.dtype(0), broadcast(*c.dims(0), *wanted));
}

std::vector<Tensor> plain_strided(const EvalContext& c) {
  std::vector<const Tensor*> constants;
  for (const Tensor& t : c.inputs) constants.push_back(t.empty() ? nullptr : &t);
  const auto read = strided_read(c.node, c.version, c.in(0).shape(), constants);
  return {take(c.in(0), read->shape, strided_index(read->shape, read->strides, read->offset))};
}

// ---- Concat, Split ----

// Copies `rows` runs between a whole tensor (run length `whole`) and a part of it (run length `part` at `offset`).
template <typename T>
void copy_runs(T* whole, T* part, int64_t rows, int64_t whole_run, int64_t part_run, int64_t offset, bool into_whole) {
  for (int64_t r = 0; r < rows; ++r) {
    T* w = whole + r * whole_run + offset;
    T* p = part + r * part_run;
    if (into_whole) std::copy_n(p, part_run, w);
    else std::copy_n(w, part_run, p);
  }
}

void copy_part(Tensor& whole, Tensor& part, int64_t axis, int64_t at, bool into_whole) {
  if (bit_width(whole.dtype()) == 4) fail(Category::unsupported, "{} cannot be joined or split", to_string(whole.dtype()));
  const int64_t inner = element_count(std::span<const int64_t>(whole.shape()).subspan(axis + 1));
  const int64_t rows = element_count(std::span<const int64_t>(whole.shape()).first(axis));
  const int64_t whole_run = whole.shape()[axis] * inner, part_run = part.shape()[axis] * inner, offset = at * inner;
  if (whole.dtype() == DType::string) {
    copy_runs(whole.as<std::string>().data(), part.as<std::string>().data(), rows, whole_run, part_run, offset, into_whole);
  } else {
    const int64_t b = bit_width(whole.dtype()) / 8;
    copy_runs(static_cast<char*>(whole.data()), static_cast<char*>(part.data()), rows, whole_run * b, part_run * b, offset * b, into_whole);
  }
}

}  // namespace

Tensor join(std::span<const Tensor> parts, int64_t axis) {
  if (parts.empty()) fail(Category::value, "there is nothing to join");
  const Tensor& first = parts.front();
  axis = wrap_axis(axis, first.rank());
  Shape shape = first.shape();
  shape[axis] = 0;
  for (const Tensor& t : parts) {
    if (t.composite() || t.rank() != first.rank() || t.dtype() != first.dtype()) fail(Category::shape, "inputs differ in rank or dtype");
    for (int i = 0; i < t.rank(); ++i) {
      if (i != axis && t.shape()[i] != shape[i])
        fail(Category::shape, "inputs differ beside the axis: {} and {}", to_string(first.shape()), to_string(t.shape()));
    }
    shape[axis] += t.shape()[axis];
  }
  check_plain_size(element_count(shape));
  Tensor out(first.dtype(), shape);
  int64_t at = 0;
  for (const Tensor& t : parts) {
    Tensor part = t;
    copy_part(out, part, axis, at, true);
    at += t.shape()[axis];
  }
  return out;
}

Tensor part_of(const Tensor& whole, int64_t axis, int64_t at, int64_t count) {
  Shape shape = whole.shape();
  shape[axis] = count;
  Tensor part(whole.dtype(), shape), source = whole;
  copy_part(source, part, axis, at, false);
  return part;
}

Tensor pick(const Tensor& whole, int64_t axis, int64_t at) {
  Shape shape = whole.shape();
  shape.erase(shape.begin() + axis);
  return part_of(whole, axis, at, 1).reshaped(shape);
}

Tensor stack(std::span<const Tensor> items, int64_t axis) {
  if (items.empty()) fail(Category::value, "there is nothing to stack");
  if (axis < 0) axis += items[0].rank() + 1;
  if (axis < 0 || axis > items[0].rank()) fail(Category::value, "axis {} is outside a stack of tensors of rank {}", axis, items[0].rank());
  std::vector<Tensor> slices;
  for (const Tensor& t : items) {
    if (t.composite() || t.rank() != items[0].rank()) fail(Category::shape, "what is stacked differs in rank");
    Shape shape = t.shape();
    shape.insert(shape.begin() + axis, 1);
    slices.push_back(t.reshaped(shape));
  }
  return join(slices, axis);
}

namespace {

void infer_concat(InferContext& c) {
  c.require(c.node().find<int64_t>("axis"), Category::value, "attribute axis is missing");
  std::optional<Dims> out;
  for (int i = 0; i < c.input_count(); ++i) need_same(c, 0, i);
  for (int i = 0; i < c.input_count(); ++i) {
    if (!c.dims(i)) return c.set(0, c.dtype(0), std::nullopt);
    if (i == 0) {
      out = c.dims(0);
      continue;
    }
    const Dims& d = *c.dims(i);
    c.require(d.size() == out->size(), Category::shape, fmt::format("inputs have ranks {} and {}", out->size(), d.size()));
    const int64_t axis = wrap_axis(c.node().integer("axis", 0), static_cast<int64_t>(out->size()));
    for (size_t k = 0; k < d.size(); ++k) {
      Dim& o = (*out)[k];
      if (static_cast<int64_t>(k) == axis) o = sum(o, d[k]);
      else if (o.known() && d[k].known())
        c.require(o.value == d[k].value, Category::shape,
                  fmt::format("inputs 0 and {} differ beside the axis: {} and {}", i, to_string(*c.dims(0)), to_string(d)));
      else if (d[k].known()) o = d[k];
    }
  }
  wrap_axis(c.node().integer("axis", 0), static_cast<int64_t>(out->size()));
  c.set(0, c.dtype(0), out);
}

std::vector<Tensor> concat(const EvalContext& c) { return {join(c.inputs, c.node.integer("axis", 0))}; }

// Sizes come as an attribute before 13, as input 1 from then on, as a number of outputs from 18 on.
void infer_split(InferContext& c) {
  const int n = c.output_count();
  if (!c.dims(0)) {
    for (int i = 0; i < n; ++i) c.set(i, c.dtype(0), std::nullopt);
    return;
  }
  const int64_t axis = wrap_axis(c.node().integer("axis", 0), c.rank(0));
  std::optional<std::vector<int64_t>> parts = c.version() < 13 ? c.node().integers("split")
                                              : c.has(1)       ? c.integers(1)
                                                               : std::vector<int64_t>();
  c.require(n >= 1, Category::value, "a split needs at least one output");
  const bool given = c.version() < 13 ? c.node().attributes.contains("split") : c.has(1);
  c.require(!given || !parts || !parts->empty(), Category::value, "the split's sizes are an empty list");
  const int64_t asked = c.node().integer("num_outputs", n);
  c.require(c.version() < 18 || asked == n, Category::value,
            fmt::format("attribute 'num_outputs' is {}, the node has {} outputs", asked, n));
  const Dim total = (*c.dims(0))[axis];
  if (parts && total.known()) parts = split_sizes(total.value, *parts, n, c.version() >= 18);
  for (int i = 0; i < n; ++i) {
    Dims out = *c.dims(0);
    out[axis] = parts && static_cast<int>(parts->size()) == n ? Dim((*parts)[i]) : Dim();
    c.set(i, c.dtype(0), out);
  }
}

std::vector<Tensor> split(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(c.node.integer("axis", 0), x.rank());
  auto parts = c.version < 13 ? c.node.integers("split") : c.has(1) ? integers(c.in(1)) : std::vector<int64_t>();
  parts = split_sizes(x.shape()[axis], parts, c.output_count, c.version >= 18);
  std::vector<Tensor> out;
  int64_t at = 0;
  for (int64_t p : parts) {
    out.push_back(part_of(x, axis, at, p));
    at += p;
  }
  return out;
}

// ---- Gather, Tile, Pad ----

void infer_gather(InferContext& c) {
  need(
      c, 1, [](DType d) { return d == DType::i32 || d == DType::i64; }, "i32 or i64");
  if (!c.dims(0) || !c.dims(1)) return c.set(0, c.dtype(0), std::nullopt);
  const int64_t axis = wrap_axis(c.node().integer("axis", 0), c.rank(0));
  Dims out(c.dims(0)->begin(), c.dims(0)->begin() + axis);
  out.insert(out.end(), c.dims(1)->begin(), c.dims(1)->end());
  out.insert(out.end(), c.dims(0)->begin() + axis + 1, c.dims(0)->end());
  c.set(0, c.dtype(0), out);
}

std::vector<Tensor> gather(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(c.node.integer("axis", 0), x.rank()), size = x.shape()[axis];
  const auto picks = integers(c.in(1));
  const std::span<const int64_t> s(x.shape());
  const int64_t outer = element_count(s.first(axis)), inner = element_count(s.subspan(axis + 1));
  Shape shape(s.begin(), s.begin() + axis);
  shape.insert(shape.end(), c.in(1).shape().begin(), c.in(1).shape().end());
  shape.insert(shape.end(), s.begin() + axis + 1, s.end());
  std::vector<int64_t> from;
  check_plain_size(element_count(shape));
  from.reserve(element_count(shape));
  for (int64_t p : picks) {
    if (p < -size || p >= size) fail(Category::value, "index {} is outside axis {} of {} elements", p, axis, size);
  }
  for (int64_t o = 0; o < outer; ++o) {
    for (int64_t p : picks) {
      for (int64_t i = 0; i < inner; ++i) from.push_back((o * size + (p < 0 ? p + size : p)) * inner + i);
    }
  }
  return {take(x, shape, from)};
}

std::vector<Tensor> tile(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const auto repeats = integers(c.in(1));
  if (static_cast<int>(repeats.size()) != x.rank())
    fail(Category::shape, "repeats has {} entries, the input rank {}", repeats.size(), x.rank());
  Shape shape, doubled;  // doubled: repeat, size, repeat, size, ...; repeats have stride 0
  std::vector<int64_t> strides;
  const auto own = strides_of(x.shape());
  for (int i = 0; i < x.rank(); ++i) {
    if (repeats[i] < 0) fail(Category::value, "repeats holds {}", repeats[i]);
    const auto size = checked_multiply(x.shape()[i], repeats[i]);
    if (!size) fail(Category::shape, "the tiled shape overflows");
    shape.push_back(*size);
    doubled.insert(doubled.end(), {repeats[i], x.shape()[i]});
    strides.insert(strides.end(), {0, own[i]});
  }
  return {take(x, shape, strided_index(doubled, strides))};
}

struct PadAmounts {
  std::vector<int64_t> begin, end;
};

// No `axes`: all of them.
PadAmounts spread_pads(const std::vector<int64_t>& pads, const std::optional<std::vector<int64_t>>& axes, int64_t rank) {
  PadAmounts p{std::vector<int64_t>(rank, 0), std::vector<int64_t>(rank, 0)};
  std::vector<int64_t> which = axes.value_or(std::vector<int64_t>());
  if (!axes) {
    for (int64_t i = 0; i < rank; ++i) which.push_back(i);
  }
  which = wrap_axes(which, rank);
  if (pads.size() != 2 * which.size()) fail(Category::value, "pads has {} entries, expected {}", pads.size(), 2 * which.size());
  for (size_t i = 0; i < which.size(); ++i) {
    p.begin[which[i]] = pads[i];
    p.end[which[i]] = pads[which.size() + i];
  }
  return p;
}

void infer_pad(InferContext& c) {
  if (!c.dims(0)) return c.set(0, c.dtype(0), std::nullopt);
  std::optional<std::vector<int64_t>> pads = c.version() < 11 ? c.node().integers("pads") : c.integers(1);
  const auto axes = c.integers(3);
  if (!pads || (c.has(3) && !axes)) return c.set(0, c.dtype(0), Dims(c.rank(0)));
  const PadAmounts p = spread_pads(*pads, axes, c.rank(0));
  Dims out = *c.dims(0);
  for (size_t i = 0; i < out.size(); ++i) {
    int64_t more;
    if (__builtin_add_overflow(p.begin[i], p.end[i], &more)) fail(Category::value, "padding {} and {} overflows", p.begin[i], p.end[i]);
    if (more == 0) continue;
    int64_t size = 0;
    if (out[i].known() && (__builtin_add_overflow(out[i].value, more, &size) || size < 0))
      fail(Category::shape, "padding {} and {} does not fit an axis of {}", p.begin[i], p.end[i], out[i].value);
    out[i] = out[i].known() ? Dim(size) : Dim();
  }
  c.set(0, c.dtype(0), out);
}

// Source position of each output position of an axis; -1 takes the constant.
std::vector<int64_t> pad_table(int64_t n, int64_t begin, int64_t end, const std::string& mode, int axis) {
  if (begin > (int64_t{1} << 40) || end > (int64_t{1} << 40) || begin < -n || end < -n)
    fail(Category::value, "padding {} and {} of axis {} is out of range", begin, end, axis);
  const int64_t size = std::max<int64_t>(0, n + begin + end);
  if (n == 0 && size > 0 && mode != "constant") fail(Category::shape, "cannot pad axis {} of size 0 in mode {}", axis, mode);
  check_plain_size(size);
  std::vector<int64_t> from(size);
  for (int64_t o = 0; o < size; ++o) {
    int64_t at = o - begin;
    if (at < 0 || at >= n) {
      if (mode == "constant") at = -1;
      else if (mode == "edge") at = at < 0 ? 0 : n - 1;
      else if (mode == "wrap") at = ((at % n) + n) % n;
      else if (mode == "reflect") {
        const int64_t period = std::max<int64_t>(1, 2 * (n - 1));
        at = ((at % period) + period) % period;
        if (at >= n) at = period - at;
      } else fail(Category::value, "mode is '{}', expected constant, reflect, edge or wrap", mode);
    }
    from[o] = at;
  }
  return from;
}

std::vector<Tensor> pad(const EvalContext& c) {
  const Tensor& x = c.in(0);
  std::vector<const Tensor*> constants;
  for (const Tensor& t : c.inputs) constants.push_back(t.empty() ? nullptr : &t);
  const AxisTables t = *axis_tables(c.node, c.version, x.dtype(), x.shape(), constants);
  Shape shape;
  for (const auto& table : t.tables) shape.push_back(static_cast<int64_t>(table.size()));
  check_plain_size(element_count(shape));
  const auto strides = strides_of(x.shape()), out_strides = strides_of(shape);
  std::vector<int64_t> index(element_count(shape));
  for (size_t k = 0; k < index.size(); ++k) {
    int64_t at = 0;
    for (int i = 0; i < x.rank() && at >= 0; ++i) {
      const int64_t s = t.tables[i][static_cast<int64_t>(k) / out_strides[i] % shape[i]];
      at = s < 0 ? -1 : at + s * strides[i];
    }
    index[k] = at;
  }
  return {take(x, shape, index, t.fill.empty() ? nullptr : &t.fill)};
}

}  // namespace

std::optional<AxisTables> axis_tables(const Node& node, int version, DType dtype, const Shape& in,
                                      std::span<const Tensor* const> constants) {
  const auto constant = [&](size_t i) { return i < constants.size() ? constants[i] : nullptr; };
  for (size_t i = 1; i < node.inputs.size(); ++i) {
    if (node.inputs[i] != kAbsent && !constant(i)) return std::nullopt;
  }
  AxisTables out;
  const int64_t rank = static_cast<int64_t>(in.size());
  if (node.op == "Tile") {
    const auto repeats = integers(*constant(1));
    if (static_cast<int64_t>(repeats.size()) != rank)
      fail(Category::shape, "repeats has {} entries, the input rank {}", repeats.size(), rank);
    for (int64_t a = 0; a < rank; ++a) {
      const auto size = repeats[a] < 0 ? std::nullopt : checked_multiply(in[a], repeats[a]);
      if (!size) fail(Category::value, "repeats holds {} for an axis of {}", repeats[a], in[a]);
      check_plain_size(*size);
      std::vector<int64_t> table(*size);
      for (int64_t o = 0; o < *size; ++o) table[o] = o % in[a];
      out.tables.push_back(std::move(table));
    }
    return out;
  }
  if (node.op != "Pad") return std::nullopt;
  const bool attributes = version < 11;
  const PadAmounts p = spread_pads(attributes ? node.integers("pads") : integers(*constant(1)),
                                   constant(3) ? std::optional(integers(*constant(3))) : std::nullopt, rank);
  const std::string mode = node.text("mode", "constant");
  for (int64_t a = 0; a < rank; ++a) out.tables.push_back(pad_table(in[a], p.begin[a], p.end[a], mode, static_cast<int>(a)));
  if (attributes) out.fill = narrow<double>(dtype, Shape{}, std::vector<double>{node.real("value", 0)});
  else if (constant(2)) out.fill = *constant(2);
  if (!out.fill.empty() && (out.fill.size() != 1 || out.fill.dtype() != dtype))
    fail(Category::type, "the constant is {} of {}, expected one {}", to_string(out.fill.dtype()), to_string(out.fill.shape()),
         to_string(dtype));
  return out;
}

std::optional<StridedRead> strided_read(const Node& node, int version, const Shape& in, std::span<const Tensor* const> constants) {
  StridedRead r;
  const auto own = strides_of(in);
  if (node.op == "Transpose") {
    for (int64_t a : permutation(node, static_cast<int64_t>(in.size()))) {
      r.shape.push_back(in[a]);
      r.strides.push_back(own[a]);
    }
  } else if (node.op == "Expand") {
    if (constants.size() < 2 || !constants[1]) return std::nullopt;
    r.shape = broadcast(in, integers(*constants[1]));
    r.strides = broadcast_strides(in, r.shape);
  } else if (node.op == "Slice") {
    for (size_t i = 1; i < node.inputs.size(); ++i) {
      if (node.inputs[i] != kAbsent && (i >= constants.size() || !constants[i])) return std::nullopt;
    }
    const SliceArguments a = complete(slice_arguments(node, version, constants), static_cast<int64_t>(in.size()));
    r.shape = in;
    r.strides = own;
    for (size_t i = 0; i < a.axes.size(); ++i) {
      const int64_t axis = a.axes[i];
      const Cut k = cut(in[axis], a.starts[i], a.ends[i], a.steps[i]);
      r.shape[axis] = k.count;
      // A single element is never stepped from, and its step may be any number: more than one bound it by the axis.
      if (k.count > 1) r.strides[axis] = own[axis] * k.step;
      r.offset += own[axis] * k.start;
    }
    if (element_count(r.shape) == 0) r.offset = 0;
  } else {
    return std::nullopt;
  }
  return r;
}

void add_movement(std::vector<OpDef>& out) {
  add_views(out);
  out.push_back(def(
      "Transpose", 1, 1, 1, Trait::movement,
      [](InferContext& c) {
        if (!c.dims(0)) return c.set(0, c.dtype(0), std::nullopt);
        Dims d;
        for (int64_t a : permutation(c.node(), c.rank(0))) d.push_back((*c.dims(0))[a]);
        c.set(0, c.dtype(0), d);
      },
      plain_strided));
  out.push_back(def("Slice", 1, 1, 1, Trait::movement, infer_slice, plain_strided));
  out.push_back(def("Slice", 10, 3, 5, Trait::movement, infer_slice, plain_strided));
  out.push_back(def("Expand", 8, 2, 2, Trait::movement, infer_expand, plain_strided));
  out.push_back(def("Concat", 4, 1, -1, Trait::movement, infer_concat, concat));
  out.push_back(def("Split", 2, 1, 1, Trait::movement, infer_split, split, -1));
  out.push_back(def("Split", 13, 1, 2, Trait::movement, infer_split, split, -1));
  out.push_back(def("Gather", 1, 2, 2, Trait::movement, infer_gather, gather));
  out.push_back(def(
      "Tile", 6, 2, 2, Trait::movement,
      [](InferContext& c) {
        const auto repeats = c.integers(1);
        if (!c.dims(0)) return c.set(0, c.dtype(0), std::nullopt);
        Dims d = *c.dims(0);
        if (repeats)
          c.require(repeats->size() == d.size(), Category::shape,
                    fmt::format("repeats has {} entries, the input rank {}", repeats->size(), d.size()));
        for (size_t i = 0; i < d.size(); ++i) {
          if (!repeats) d[i] = Dim();
          else if ((*repeats)[i] != 1) {
            c.require((*repeats)[i] >= 0, Category::value, fmt::format("repeats holds {}", (*repeats)[i]));
            d[i] = product(d[i], Dim((*repeats)[i]));
          }
        }
        c.set(0, c.dtype(0), d);
      },
      tile));
  out.push_back(def("Pad", 2, 1, 1, Trait::movement, infer_pad, pad));
  out.push_back(def("Pad", 11, 2, 4, Trait::movement, infer_pad, pad));
}

}  // namespace lathe::ops
