// Sequences and optionals.
#include <algorithm>

#include "ops/movement.hpp"
#include "ops/support.hpp"
#include "tensor/numbers.hpp"

namespace lathe::ops {
namespace {

Type wrapped(Type::Kind kind, Type inner) {
  Type t;
  t.kind = kind;
  t.inner.push_back(std::move(inner));
  return t;
}

// Type of the items of input i, nothing known when it is no sequence (or not known).
Type item_type(const InferContext& c, int i) {
  const Type t = c.type(i);
  const bool composite = t.kind == Type::Kind::sequence || t.kind == Type::Kind::optional;
  if (!composite && t.dtype != DType::undefined)
    c.fail(Category::type, fmt::format("input {} is {}, expected a sequence or optional", i, to_string(t)));
  return composite && !t.inner.empty() ? t.inner.front() : Type();
}

Type without_shape(Type t) {
  t.dims.reset();
  return t;
}

std::span<const Tensor> items(const EvalContext& c, size_t i) {
  if (c.in(i).kind() != Kind::sequence) fail(Category::type, "input {} is a {}, expected a sequence", i, to_string(c.in(i).kind()));
  return c.in(i).items();
}

// Position in [-n, n) for reading; `end` allows n, for inserting.
int64_t position(const EvalContext& c, size_t input, int64_t n, bool end) {
  int64_t at = one_integer(c, input);
  if (at < -n || at > n - (end ? 0 : 1)) fail(Category::value, "position {} is outside a sequence of {}", at, n);
  return at < 0 ? at + n : at;
}

std::vector<Tensor> insert(const EvalContext& c) {
  const auto seq = items(c, 0);
  const int64_t n = static_cast<int64_t>(seq.size()), at = c.has(2) ? position(c, 2, n, true) : n;
  if (!seq.empty() && seq[0].dtype() != c.in(1).dtype())
    fail(Category::type, "a {} cannot join a sequence of {}", to_string(c.in(1).dtype()), to_string(seq[0].dtype()));
  std::vector<Tensor> out(seq.begin(), seq.end());
  out.insert(out.begin() + at, c.in(1));
  return {Tensor::sequence(std::move(out))};
}

std::vector<Tensor> erase(const EvalContext& c) {
  const auto seq = items(c, 0);
  const int64_t n = static_cast<int64_t>(seq.size());
  const int64_t at = c.has(1) ? position(c, 1, n, false) : n - 1;
  if (n == 0) fail(Category::value, "nothing can be erased from an empty sequence");
  std::vector<Tensor> out(seq.begin(), seq.end());
  out.erase(out.begin() + at);
  return {Tensor::sequence(std::move(out))};
}

std::vector<Tensor> split_to_sequence(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const int64_t axis = wrap_axis(c.node.integer("axis", 0), x.rank()), total = x.shape()[axis];
  std::vector<int64_t> parts;
  bool keep = true;
  if (!c.has(1)) {
    parts.assign(total, 1);
    keep = c.node.integer("keepdims", 1) != 0;
  } else if (c.in(1).rank() == 0) {
    const int64_t each = one_integer(c, 1);
    if (each < 1) fail(Category::value, "split is {}, expected at least 1", each);
    for (int64_t at = 0; at < total; at += each) parts.push_back(std::min(each, total - at));
  } else {
    parts = integers(c.in(1));
    parts = split_sizes(total, parts, static_cast<int64_t>(parts.size()), false);
  }
  std::vector<Tensor> out;
  int64_t at = 0;
  for (int64_t p : parts) {
    out.push_back(keep ? part_of(x, axis, at, p) : pick(x, axis, at));
    at += p;
  }
  return {Tensor::sequence(std::move(out))};
}

std::vector<Tensor> concat_from_sequence(const EvalContext& c) {
  const auto seq = items(c, 0);
  if (seq.empty()) fail(Category::value, "the sequence is empty: there is nothing to join");
  const int64_t axis = c.node.integer("axis", 0);
  return {c.node.integer("new_axis", 0) ? stack(seq, axis) : join(seq, axis)};
}

// The body runs on every item of input 0, with the items of the other sequences at the same place, or the other tensors as they are.
std::vector<Tensor> sequence_map(const EvalContext& c) {
  const auto first = items(c, 0);
  Body body(c, "body");
  std::vector<std::vector<Tensor>> out(body.output_count());
  for (size_t i = 0; i < first.size(); ++i) {
    count_trip();
    std::vector<Tensor> in;
    for (const Tensor& t : c.inputs) {
      if (t.kind() == Kind::sequence && t.items().size() != first.size())
        fail(Category::value, "sequences of {} and {} items cannot be mapped together", first.size(), t.items().size());
      in.push_back(t.kind() == Kind::sequence ? t.items()[i] : t);
    }
    auto results = body.run(in);
    for (size_t k = 0; k < out.size(); ++k) out[k].push_back(std::move(results[k]));
  }
  std::vector<Tensor> result;
  for (auto& list : out) result.push_back(Tensor::sequence(std::move(list)));
  return result;
}

void infer_map(InferContext& c) {
  std::vector<Type> inputs;
  for (int i = 0; i < c.input_count(); ++i) {
    Type t = c.type(i);
    inputs.push_back(t.kind == Type::Kind::sequence && !t.inner.empty() ? without_shape(t.inner.front()) : t);
  }
  const auto out = c.infer_body("body", inputs);
  for (int i = 0; i < c.output_count() && i < static_cast<int>(out.size()); ++i)
    c.set_type(i, wrapped(Type::Kind::sequence, without_shape(out[i])));
}

}  // namespace

void add_sequences(std::vector<OpDef>& out) {
  const auto add = [&](OpDef d) {
    d.composites = true;
    out.push_back(std::move(d));
  };
  const auto boolean = [](bool b) { return std::vector<Tensor>{Tensor::from<bool>({}, {b})}; };
  add(def(
      "SequenceConstruct", 11, 1, -1, Trait::opaque,
      [](InferContext& c) {
        for (int i = 1; i < c.input_count(); ++i) need_same(c, 0, i);
        c.set_type(0, wrapped(Type::Kind::sequence, without_shape(c.type(0))));
      },
      [](const EvalContext& c) -> std::vector<Tensor> {
        for (const Tensor& t : c.inputs) {
          if (t.dtype() != c.in(0).dtype())
            fail(Category::type, "a sequence cannot hold {} and {}", to_string(c.in(0).dtype()), to_string(t.dtype()));
        }
        return {Tensor::sequence({c.inputs.begin(), c.inputs.end()})};
      }));
  add(def(
      "SequenceEmpty", 11, 0, 0, Trait::opaque,
      [](InferContext& c) { c.set_type(0, wrapped(Type::Kind::sequence, tensor_type(dtype_of_number(c.node().integer("dtype", 1))))); },
      [](const EvalContext&) -> std::vector<Tensor> { return {Tensor::sequence({})}; }));
  add(def(
      "SequenceAt", 11, 2, 2, Trait::opaque, [](InferContext& c) { c.set_type(0, item_type(c, 0)); },
      [](const EvalContext& c) -> std::vector<Tensor> {
        const auto seq = items(c, 0);
        return {seq[position(c, 1, static_cast<int64_t>(seq.size()), false)]};
      }));
  add(def(
      "SequenceInsert", 11, 2, 3, Trait::opaque,
      [](InferContext& c) {
        Type t = c.type(0);
        if (t.kind == Type::Kind::sequence && !t.inner.empty()) t.inner[0] = without_shape(t.inner[0]);
        c.set_type(0, std::move(t));
      },
      insert));
  add(def(
      "SequenceErase", 11, 1, 2, Trait::opaque, [](InferContext& c) { c.set_type(0, c.type(0)); }, erase));
  add(def(
      "SequenceLength", 11, 1, 1, Trait::opaque,
      [](InferContext& c) {
        item_type(c, 0);
        c.set(0, DType::i64, Dims{});
      },
      [](const EvalContext& c) -> std::vector<Tensor> { return {Tensor::from<int64_t>({}, {static_cast<int64_t>(items(c, 0).size())})}; }));
  add(def(
      "SplitToSequence", 11, 1, 2, Trait::opaque,
      [](InferContext& c) { c.set_type(0, wrapped(Type::Kind::sequence, tensor_type(c.dtype(0), std::nullopt))); }, split_to_sequence));
  add(def(
      "ConcatFromSequence", 11, 1, 1, Trait::opaque,
      [](InferContext& c) {
        const Type item = item_type(c, 0);
        std::optional<Dims> dims;
        if (item.dims) dims = Dims(item.dims->size() + (c.node().integer("new_axis", 0) ? 1 : 0));
        c.set(0, item.dtype, dims);
      },
      concat_from_sequence));
  add(def("SequenceMap", 17, 1, -1, Trait::opaque, infer_map, sequence_map, -1));
  add(def(
      "Optional", 15, 0, 1, Trait::opaque,
      [](InferContext& c) {
        const auto* type = c.node().find<Type>("type");
        c.set_type(0, wrapped(Type::Kind::optional, c.has(0) ? c.type(0) : type ? *type : Type()));
      },
      [](const EvalContext& c) -> std::vector<Tensor> {
        return {Tensor::optional(c.has(0) ? std::optional<Tensor>(c.in(0)) : std::nullopt)};
      }));
  for (const int since : {15, 18}) {  // from 18 on plain tensors and sequences pass, and the input of the question may be left out
    add(def(
        "OptionalGetElement", since, 1, 1, Trait::opaque,
        [](InferContext& c) { c.set_type(0, c.type(0).kind == Type::Kind::optional ? item_type(c, 0) : c.type(0)); },
        [](const EvalContext& c) -> std::vector<Tensor> {
          if (c.in(0).kind() != Kind::optional) return {c.in(0)};
          if (c.in(0).items().empty()) fail(Category::value, "the optional holds nothing");
          return {c.in(0).items()[0]};
        }));
    add(def(
        "OptionalHasElement", since, since == 15 ? 1 : 0, 1, Trait::opaque, [](InferContext& c) { c.set(0, DType::boolean, Dims{}); },
        [boolean](const EvalContext& c) { return boolean(c.has(0) && (c.in(0).kind() != Kind::optional || !c.in(0).items().empty())); }));
  }
}

}  // namespace lathe::ops
