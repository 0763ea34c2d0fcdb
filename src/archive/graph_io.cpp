#include "archive/graph_io.hpp"

#include "base/fail.hpp"
#include "base/memory.hpp"

namespace lathe::archive {
namespace {

constexpr int kDeepest = 32;  // subgraphs in subgraphs, types in types

// How a tensor is held: by its bytes, as strings, or not at all (dtype and shape only).
enum class Held : uint8_t { bytes, strings, gone, composite };

void write_tensor(const Tensor& t, IndexWriter& index, FileWriter& file) {
  if (t.composite()) {
    index.u8(static_cast<uint8_t>(Held::composite));
    index.u8(static_cast<uint8_t>(t.kind()));
    index.u64(t.items().size());
    for (const Tensor& item : t.items()) write_tensor(item, index, file);
    return;
  }
  const bool strings = t.dtype() == DType::string, gone = t.data() == nullptr && t.size() > 0;
  index.u8(static_cast<uint8_t>(gone ? Held::gone : strings ? Held::strings : Held::bytes));
  index.u8(static_cast<uint8_t>(t.dtype()));
  write_shape(t.shape(), index);
  if (gone) return;
  if (strings) {
    for (const std::string& s : t.as<std::string>()) index.text(s);
  } else {
    index.blob(file.blob(t.data(), t.byte_size()));
  }
}

Tensor read_tensor(IndexReader& index, const std::shared_ptr<const Mapping>& mapping, int depth = 0) {
  if (depth > kDeepest) index.refuse("a sequence in it is nested too deeply");
  const auto held = static_cast<Held>(index.u8());
  if (held == Held::composite) {
    const auto kind = static_cast<Kind>(index.u8());
    std::vector<Tensor> items;
    for (size_t n = index.count(2); n > 0; --n) items.push_back(read_tensor(index, mapping, depth + 1));
    if (kind == Kind::sequence) return Tensor::sequence(std::move(items));
    if (kind == Kind::optional && items.size() <= 1) return Tensor::optional(items.empty() ? std::nullopt : std::optional(items[0]));
    if (kind == Kind::map && items.size() == 2 && !items[0].composite()) return Tensor::map(items[0], items[1]);
    index.refuse("a constant of it is of no kind there is");
  }
  const DType dtype = read_dtype(index);
  if (dtype == DType::undefined) index.refuse("a constant of it has no element type");
  const Shape shape = read_shape(index);
  const auto count = checked_product(shape);
  const auto bits = count ? checked_multiply(*count, dtype == DType::string ? 1 : bit_width(dtype)) : std::nullopt;
  if (!bits) index.refuse("a constant of it has more elements than memory holds");
  if (held == Held::gone) return Tensor::borrow(dtype, shape, nullptr);
  if (held == Held::strings && dtype == DType::string) {
    std::vector<std::string> texts;
    for (int64_t i = 0; i < *count; ++i) texts.push_back(index.text());
    return Tensor::from<std::string>(shape, texts);
  }
  if (held != Held::bytes || dtype == DType::string) index.refuse("a constant of it is held in no way there is");
  const Blob blob = index.blob();
  if (blob.bytes != static_cast<uint64_t>(*bits / 8 + (*bits % 8 != 0)))
    index.refuse("a constant of it has another size than its shape says");
  // Nobody writes to constants.
  return Tensor::share(dtype, shape, mapping, const_cast<std::byte*>(mapping->at(blob)));
}

template <typename T, typename F>
void write_list(const std::vector<T>& list, IndexWriter& index, F each) {
  index.u64(list.size());
  for (const T& item : list) each(item);
}

void write_texts(const std::map<std::string, std::string>& texts, IndexWriter& index) {
  index.u64(texts.size());
  for (const auto& [key, value] : texts) index.text(key), index.text(value);
}
std::map<std::string, std::string> read_texts(IndexReader& index) {
  std::map<std::string, std::string> out;
  for (size_t n = index.count(16); n > 0; --n) {
    std::string key = index.text();
    out[std::move(key)] = index.text();
  }
  return out;
}

void write_attribute(const Attribute& a, IndexWriter& index, FileWriter& file) {
  index.u8(static_cast<uint8_t>(a.data.index()));
  std::visit(
      [&](const auto& v) {
        using T = std::decay_t<decltype(v)>;
        if constexpr (std::is_same_v<T, int64_t>) index.i64(v);
        else if constexpr (std::is_same_v<T, float>) index.f32(v);
        else if constexpr (std::is_same_v<T, std::string>) index.text(v);
        else if constexpr (std::is_same_v<T, Tensor>) write_tensor(v, index, file);
        else if constexpr (std::is_same_v<T, std::shared_ptr<Graph>>) write_graph(*v, index, file);
        else if constexpr (std::is_same_v<T, std::vector<int64_t>>) write_list(v, index, [&](int64_t x) { index.i64(x); });
        else if constexpr (std::is_same_v<T, std::vector<float>>) write_list(v, index, [&](float x) { index.f32(x); });
        else if constexpr (std::is_same_v<T, std::vector<std::string>>) write_list(v, index, [&](const std::string& x) { index.text(x); });
        else if constexpr (std::is_same_v<T, std::vector<Tensor>>)
          write_list(v, index, [&](const Tensor& x) { write_tensor(x, index, file); });
        else if constexpr (std::is_same_v<T, std::vector<std::shared_ptr<Graph>>>)
          write_list(v, index, [&](const auto& x) { write_graph(*x, index, file); });
        else if constexpr (std::is_same_v<T, Type>) write_type(v, index);
        else if constexpr (!std::is_same_v<T, std::monostate>)
          fail(Category::unsupported, "a compiled program with sparse or unknown attributes cannot be archived");
      },
      a.data);
}

Graph read_graph(IndexReader& index, const std::shared_ptr<const Mapping>& mapping, int depth);

Attribute read_attribute(IndexReader& index, const std::shared_ptr<const Mapping>& mapping, int depth) {
  Attribute a;
  const auto sub = [&] { return std::make_shared<Graph>(read_graph(index, mapping, depth + 1)); };
  const auto list = [&]<typename T>(size_t each, T read) {
    std::vector<decltype(read())> out;
    for (size_t n = index.count(each); n > 0; --n) out.push_back(read());
    return out;
  };
  switch (index.u8()) {
    case 0: break;
    case 1: a.data = index.i64(); break;
    case 2: a.data = index.f32(); break;
    case 3: a.data = index.text(); break;
    case 4: a.data = read_tensor(index, mapping); break;
    case 5: a.data = sub(); break;
    case 6: a.data = list(8, [&] { return index.i64(); }); break;
    case 7: a.data = list(4, [&] { return index.f32(); }); break;
    case 8: a.data = list(8, [&] { return index.text(); }); break;
    case 9: a.data = list(2, [&] { return read_tensor(index, mapping); }); break;
    case 10: a.data = list(8, sub); break;
    case 12: a.data = read_type(index); break;
    default: index.refuse("an attribute of it is of no kind there is");
  }
  return a;
}
static_assert(std::variant_size_v<Attribute::Data> == 14, "a new kind of attribute needs a place in archives");

Graph read_graph(IndexReader& index, const std::shared_ptr<const Mapping>& mapping, int depth) {
  if (depth > kDeepest) index.refuse("its subgraphs are nested too deeply");
  Graph g;
  g.name = index.text();
  for (size_t n = index.count(16); n > 0; --n) {
    std::string domain = index.text();
    g.opsets[std::move(domain)] = index.i64();
  }
  g.metadata = read_texts(index);
  for (size_t n = index.count(8); n > 0; --n) {
    Value v;
    v.name = index.text();
    v.dtype = read_dtype(index);
    v.dims = read_dims(index);
    const uint8_t more = index.u8();
    if (more & 1) v.constant = read_tensor(index, mapping);
    if (more & 2) v.composite = std::make_shared<const Type>(read_type(index));
    g.values.push_back(std::move(v));
  }
  const auto values = static_cast<int64_t>(g.values.size());
  const auto id = [&](bool optional) {
    const int64_t v = static_cast<int32_t>(index.u32());
    if (v >= values || v < (optional ? kAbsent : 0)) index.refuse("a node of it reads a value that is not there");
    return static_cast<ValueId>(v);
  };
  const auto ids = [&](bool optional) {
    std::vector<ValueId> out;
    for (size_t n = index.count(4); n > 0; --n) out.push_back(id(optional));
    return out;
  };
  for (size_t n = index.count(40); n > 0; --n) {
    Node node;
    node.op = index.text();
    node.domain = index.text();
    node.name = index.text();
    node.overload = index.text();
    node.module = index.text();
    node.version = index.i64();
    node.inputs = ids(true);
    node.outputs = ids(true);
    for (size_t a = index.count(9); a > 0; --a) {
      std::string key = index.text();
      node.attributes[std::move(key)] = read_attribute(index, mapping, depth);
    }
    for (size_t c = index.count(12); c > 0; --c) {
      const ValueId v = id(true);
      node.captures.push_back({v, index.text()});
    }
    for (size_t m = index.count(8); m > 0; --m) node.merged.push_back(index.text());
    g.nodes.push_back(std::move(node));
  }
  g.inputs = ids(false);
  g.outputs = ids(false);
  return g;
}

}  // namespace

void write_shape(const Shape& shape, IndexWriter& index) {
  index.u64(shape.size());
  for (int64_t d : shape) index.i64(d);
}
Shape read_shape(IndexReader& index) {
  Shape shape;
  for (size_t n = index.count(8); n > 0; --n) {
    shape.push_back(index.i64());
    if (shape.back() < 0) index.refuse("a shape of it has a negative size");
  }
  return shape;
}

void write_dims(const std::optional<Dims>& dims, IndexWriter& index) {
  index.u8(dims.has_value());
  if (!dims) return;
  index.u64(dims->size());
  for (const Dim& d : *dims) index.i64(d.value), index.text(d.symbol);
}
std::optional<Dims> read_dims(IndexReader& index) {
  if (index.u8() == 0) return std::nullopt;
  Dims dims;
  for (size_t n = index.count(16); n > 0; --n) {
    Dim d;
    d.value = index.i64();
    if (d.value < -1) index.refuse("a dim of it has a negative size");
    d.symbol = index.text();
    dims.push_back(std::move(d));
  }
  return dims;
}

void write_type(const Type& type, IndexWriter& index) {
  index.u8(static_cast<uint8_t>(type.kind));
  index.u8(static_cast<uint8_t>(type.dtype));
  write_dims(type.dims, index);
  index.u64(type.inner.size());
  for (const Type& t : type.inner) write_type(t, index);
}
Type read_type(IndexReader& index, int depth) {
  if (depth > kDeepest) index.refuse("a type of it is nested too deeply");
  Type t;
  const uint8_t kind = index.u8();
  if (kind > static_cast<uint8_t>(Type::Kind::sparse)) index.refuse("a type of it is of no kind there is");
  t.kind = static_cast<Type::Kind>(kind);
  t.dtype = read_dtype(index);
  t.dims = read_dims(index);
  for (size_t n = index.count(4); n > 0; --n) t.inner.push_back(read_type(index, depth + 1));
  return t;
}

DType read_dtype(IndexReader& index) {
  const uint8_t d = index.u8();
  if (d >= kDTypeCount) index.refuse("an element type of it does not exist");
  return static_cast<DType>(d);
}

void write_graph(const Graph& g, IndexWriter& index, FileWriter& file) {
  index.text(g.name);
  index.u64(g.opsets.size());
  for (const auto& [domain, version] : g.opsets) index.text(domain), index.i64(version);
  write_texts(g.metadata, index);
  index.u64(g.values.size());
  for (const Value& v : g.values) {
    index.text(v.name);
    index.u8(static_cast<uint8_t>(v.dtype));
    write_dims(v.dims, index);
    index.u8(static_cast<uint8_t>((v.constant ? 1 : 0) | (v.composite ? 2 : 0)));
    if (v.constant) write_tensor(*v.constant, index, file);
    if (v.composite) write_type(*v.composite, index);
  }
  const auto ids = [&](const std::vector<ValueId>& list) {
    write_list(list, index, [&](ValueId v) { index.u32(static_cast<uint32_t>(v)); });
  };
  index.u64(g.nodes.size());
  for (const Node& n : g.nodes) {
    for (const std::string* text : {&n.op, &n.domain, &n.name, &n.overload, &n.module}) index.text(*text);
    index.i64(n.version);
    ids(n.inputs);
    ids(n.outputs);
    index.u64(n.attributes.size());
    for (const auto& [key, a] : n.attributes) {
      index.text(key);
      write_attribute(a, index, file);
    }
    write_list(n.captures, index, [&](const Capture& c) { index.u32(static_cast<uint32_t>(c.value)), index.text(c.name); });
    write_list(n.merged, index, [&](const std::string& m) { index.text(m); });
  }
  ids(g.inputs);
  ids(g.outputs);
}

Graph read_graph(IndexReader& index, const std::shared_ptr<const Mapping>& mapping) { return read_graph(index, mapping, 0); }

}  // namespace lathe::archive
