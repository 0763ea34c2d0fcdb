#include "formats/onnx_tensor.hpp"
#include "formats/bools.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <charconv>
#include <cstring>

#include "base/fail.hpp"
#include "base/memory.hpp"
#include "base/files.hpp"
#include "tensor/numbers.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

int64_t parse_integer(const std::string& text, const std::string& where, const char* key) {
  int64_t value = -1;
  const auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (ec != std::errc() || end != text.data() + text.size() || value < 0) {
    fail(Category::format, "{}: external data: {} is '{}', expected a number of bytes", where, key, text);
  }
  return value;
}

// Maps the part of the file that holds the tensor: weights beyond memory stay on disk until they are packed.
Tensor map_external(const wire::TensorProto& proto, DType dtype, Shape shape, size_t bytes, const DataFolder& data,
                    const std::string& where) {
  std::string location;
  int64_t offset = 0, length = static_cast<int64_t>(bytes);
  for (const auto& entry : proto.external_data()) {
    if (entry.key() == "location") location = entry.value();
    if (entry.key() == "offset") offset = parse_integer(entry.value(), where, "offset");
    if (entry.key() == "length") length = parse_integer(entry.value(), where, "length");
  }
  if (data.nowhere) fail(Category::value, "{}: external data cannot be read: the model is not in a file", where);
  if (location.empty()) fail(Category::format, "{}: external data has no location", where);
  // The file that is opened would not be the one that is named: names end at a NUL byte.
  if (location.find('\0') != std::string::npos)
    fail(Category::format, "{}: the location of external data holds a NUL byte: '{}'", where,
         location.substr(0, location.find('\0')) + "\\0..");
  if (length != static_cast<int64_t>(bytes)) {
    fail(Category::format, "{}: external data has {} bytes, its shape and dtype need {}", where, length, bytes);
  }
  std::error_code ec;
  const auto folder = std::filesystem::weakly_canonical(data.folder.empty() ? "." : data.folder, ec);
  const auto path = std::filesystem::weakly_canonical(folder / location, ec);
  const auto relative = path.lexically_relative(folder);
  if (!data.allow_outside && (relative.empty() || *relative.begin() == "..")) {
    fail(Category::value, "{}: external data '{}' lies outside the model's folder; it is refused unless allowed", where, location);
  }
  const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) fail(Category::format, "{}: external data file '{}' cannot be opened: {}", where, location, std::strerror(errno));
  struct stat st {};
  ::fstat(fd, &st);
  if (!S_ISREG(st.st_mode) || offset > st.st_size || length > st.st_size - offset) {
    ::close(fd);
    fail(Category::format, "{}: external data file '{}' ends before the tensor's bytes {}..{}; it has {}", where, location, offset,
         static_cast<double>(offset) + static_cast<double>(length), st.st_size);
  }
  if (bytes == 0) {
    ::close(fd);
    return Tensor(dtype, std::move(shape));
  }
  const int64_t page = ::sysconf(_SC_PAGESIZE), start = offset / page * page;
  const size_t mapped = static_cast<size_t>(offset - start) + bytes;
  void* base = ::mmap(nullptr, mapped, PROT_READ, MAP_PRIVATE, fd, start);
  ::close(fd);
  if (base == MAP_FAILED)
    fail(Category::resource, "{}: external data file '{}' cannot be mapped: {}", where, location, std::strerror(errno));
  std::shared_ptr<const void> owner(base, [mapped](const void* p) { ::munmap(const_cast<void*>(p), mapped); });
  auto* first = static_cast<std::byte*>(base) + (offset - start);
  Tensor view = Tensor::share(dtype, std::move(shape), owner, first);
  // Kernels read whole elements; a file may place them anywhere.
  return reinterpret_cast<uintptr_t>(first) % 16 == 0 ? view : view.clone();
}

// Elements kept one per entry of a typed field; narrow types ride in wider integers.
template <typename S, typename Field>
void copy_field(const Field& field, Tensor& out, const std::string& where) {
  if (field.size() != out.size()) {
    fail(Category::format, "{}: {} elements stored, shape {} needs {}", where, field.size(), to_string(out.shape()), out.size());
  }
  auto* p = static_cast<S*>(out.data());
  for (int i = 0; i < field.size(); ++i) p[i] = static_cast<S>(field[i]);
}

void copy_typed(const wire::TensorProto& proto, Tensor& out, const std::string& where) {
  switch (out.dtype()) {
    case DType::f32: return copy_field<float>(proto.float_data(), out, where);
    case DType::f64: return copy_field<double>(proto.double_data(), out, where);
    case DType::i64: return copy_field<int64_t>(proto.int64_data(), out, where);
    case DType::u64: return copy_field<uint64_t>(proto.uint64_data(), out, where);
    case DType::u32: return copy_field<uint32_t>(proto.uint64_data(), out, where);
    case DType::i32: return copy_field<int32_t>(proto.int32_data(), out, where);
    case DType::i16: return copy_field<int16_t>(proto.int32_data(), out, where);
    case DType::i8: return copy_field<int8_t>(proto.int32_data(), out, where);
    case DType::u16:
    case DType::f16:
    case DType::bf16: return copy_field<uint16_t>(proto.int32_data(), out, where);
    case DType::u8:
    case DType::f8e4m3fn:
    case DType::f8e4m3fnuz:
    case DType::f8e5m2:
    case DType::f8e8m0:
    case DType::f8e5m2fnuz: return copy_field<uint8_t>(proto.int32_data(), out, where);
    case DType::boolean: return copy_field<bool>(proto.int32_data(), out, where);
    case DType::c64:
    case DType::c128: {
      const bool is64 = out.dtype() == DType::c64;
      const int64_t stored = is64 ? proto.float_data_size() : proto.double_data_size();
      if (stored != 2 * out.size())
        fail(Category::format, "{}: {} numbers stored, shape {} needs {}", where, stored, to_string(out.shape()), 2 * out.size());
      if (stored > 0)
        std::memcpy(out.data(), is64 ? static_cast<const void*>(proto.float_data().data()) : proto.double_data().data(), out.byte_size());
      return;
    }
    default: {  // 4-bit types: packed bytes in int32_data
      if (static_cast<size_t>(proto.int32_data_size()) != out.byte_size()) {
        fail(Category::format, "{}: {} packed bytes stored, shape {} needs {}", where, proto.int32_data_size(), to_string(out.shape()),
             out.byte_size());
      }
      auto* p = static_cast<uint8_t*>(out.data());
      for (int i = 0; i < proto.int32_data_size(); ++i) p[i] = static_cast<uint8_t>(proto.int32_data(i));
    }
  }
}

}  // namespace

Tensor tensor_from_wire(wire::TensorProto& proto, const DataFolder& data, const std::string& where) {
  const DType dtype = dtype_of_number(proto.data_type());
  if (dtype == DType::undefined) fail(Category::unsupported, "{}: element type number {} is not known", where, proto.data_type());
  if (proto.has_segment()) fail(Category::unsupported, "{}: tensors in segments are not supported", where);
  Shape shape(proto.dims().begin(), proto.dims().end());
  const auto count = checked_product(shape);
  if (!count || *count > (int64_t{1} << 56)) fail(Category::shape, "{}: shape {} has a negative dim or overflows", where, to_string(shape));

  if (dtype == DType::string) {
    if (proto.string_data_size() != *count) {
      fail(Category::format, "{}: {} strings stored, shape {} needs {}", where, proto.string_data_size(), to_string(shape), *count);
    }
    Tensor t(dtype, shape);
    std::copy(proto.string_data().begin(), proto.string_data().end(), t.as<std::string>().begin());
    return t;
  }
  const size_t bytes = static_cast<size_t>((*count * bit_width(dtype) + 7) / 8);
  if (proto.data_location() == 1) return sound_bools(map_external(proto, dtype, shape, bytes, data, where));
  if (proto.has_raw_data()) {
    if (proto.raw_data().size() != bytes) {
      fail(Category::format, "{}: {} bytes stored, shape {} of {} needs {}", where, proto.raw_data().size(), to_string(shape),
           to_string(dtype), bytes);
    }
    std::shared_ptr<std::string> held(proto.release_raw_data());
    if (bytes >= 4096 && reinterpret_cast<uintptr_t>(held->data()) % 16 == 0) {
      void* p = held->data();
      return sound_bools(Tensor::share(dtype, shape, std::move(held), p));
    }
    Tensor t(dtype, shape);
    if (bytes > 0) std::memcpy(t.data(), held->data(), bytes);
    return sound_bools(std::move(t));
  }
  // The elements must be there before memory for them is taken: a hostile shape costs nothing.
  const int64_t stored = int64_t{proto.float_data_size()} + proto.double_data_size() + proto.int32_data_size() + proto.int64_data_size() +
                         proto.uint64_data_size();
  if (stored * 2 < *count) fail(Category::format, "{}: {} elements stored, shape {} needs {}", where, stored, to_string(shape), *count);
  Tensor t(dtype, shape);
  copy_typed(proto, t, where);
  return t;
}

void tensor_to_wire(const Tensor& tensor, const std::string& name, wire::TensorProto& proto) {
  for (int64_t d : tensor.shape()) proto.add_dims(d);
  proto.set_data_type(number_of_dtype(tensor.dtype()));
  if (!name.empty()) proto.set_name(name);
  if (tensor.dtype() == DType::string) {
    for (const std::string& s : tensor.as<std::string>()) proto.add_string_data(s);
  } else {
    proto.set_raw_data(tensor.data(), tensor.byte_size());
  }
}

namespace {

// Composites between messages and Tensors. The kind of an item follows from which field is filled.
struct Composites {
  DataFolder data;
  std::string where;

  Tensor from(wire::TensorProto& p) const { return tensor_from_wire(p, data, where); }
  Tensor from(wire::SparseTensorProto& p) const {
    return dense({from(*p.mutable_values()), from(*p.mutable_indices()), Shape(p.dims().begin(), p.dims().end())});
  }
  Tensor from(wire::SequenceProto& p) const {
    std::vector<Tensor> items;
    const auto add = [&](auto& list) {
      for (auto& item : list) items.push_back(from(item));
    };
    add(*p.mutable_tensor_values());
    add(*p.mutable_sparse_tensor_values());
    add(*p.mutable_sequence_values());
    add(*p.mutable_map_values());
    add(*p.mutable_optional_values());
    return Tensor::sequence(std::move(items));
  }
  Tensor from(wire::MapProto& p) const {
    Tensor keys;
    if (p.string_keys_size() > 0) {
      const std::vector<std::string> names(p.string_keys().begin(), p.string_keys().end());
      keys = Tensor::from<std::string>({p.string_keys_size()}, names);
    } else {
      const std::vector<int64_t> numbers(p.keys().begin(), p.keys().end());
      keys = Tensor::from<int64_t>({p.keys_size()}, numbers);
    }
    return Tensor::map(std::move(keys), from(*p.mutable_values()));
  }
  Tensor from(wire::OptionalProto& p) const {
    if (p.has_tensor_value()) return Tensor::optional(from(*p.mutable_tensor_value()));
    if (p.has_sparse_tensor_value()) return Tensor::optional(from(*p.mutable_sparse_tensor_value()));
    if (p.has_sequence_value()) return Tensor::optional(from(*p.mutable_sequence_value()));
    if (p.has_map_value()) return Tensor::optional(from(*p.mutable_map_value()));
    if (p.has_optional_value()) return Tensor::optional(from(*p.mutable_optional_value()));
    return Tensor::optional(std::nullopt);
  }

  template <typename Proto>
  NamedTensor read(const std::string& bytes) const {
    Proto proto;
    if (!proto.ParseFromString(bytes)) fail(Category::format, "{}: not a value in the standard's protobuf form, or cut short", where);
    std::string name = proto.name();
    return {std::move(name), from(proto)};
  }
};

// Numbers of kinds of items in the standard's messages.
int item_kind(const Tensor& t) { return t.kind() == Kind::tensor ? 1 : t.kind() == Kind::sequence ? 3 : t.kind() == Kind::map ? 4 : 5; }

void to_wire(const Tensor& t, wire::SequenceProto& p);
void to_wire(const Tensor& t, wire::OptionalProto& p);
void to_wire(const Tensor& t, wire::MapProto& p) {
  const Tensor& keys = t.items()[0];
  p.set_key_type(number_of_dtype(keys.dtype()));
  if (keys.dtype() == DType::string) {
    for (const std::string& k : keys.as<std::string>()) p.add_string_keys(k);
  } else {
    for (int64_t k : integers(keys)) p.add_keys(k);
  }
  const Tensor& values = t.items()[1];
  to_wire(values.kind() == Kind::sequence ? values : Tensor::sequence({values}), *p.mutable_values());
}
void to_wire(const Tensor& t, wire::SequenceProto& p) {
  for (const Tensor& item : t.items()) {
    p.set_elem_type(item_kind(item));
    if (item.kind() == Kind::tensor) tensor_to_wire(item, "", *p.add_tensor_values());
    else if (item.kind() == Kind::sequence) to_wire(item, *p.add_sequence_values());
    else if (item.kind() == Kind::map) to_wire(item, *p.add_map_values());
    else to_wire(item, *p.add_optional_values());
  }
}
void to_wire(const Tensor& t, wire::OptionalProto& p) {
  if (t.items().empty()) return;
  const Tensor& item = t.items()[0];
  p.set_elem_type(item_kind(item));
  if (item.kind() == Kind::tensor) tensor_to_wire(item, "", *p.mutable_tensor_value());
  else if (item.kind() == Kind::sequence) to_wire(item, *p.mutable_sequence_value());
  else if (item.kind() == Kind::map) to_wire(item, *p.mutable_map_value());
  else to_wire(item, *p.mutable_optional_value());
}

template <typename Proto>
std::string composite_bytes(const NamedTensor& t) {
  Proto proto;
  proto.set_name(t.name);
  to_wire(t.tensor, proto);
  return proto.SerializeAsString();
}

}  // namespace

NamedTensor read_tensor_pb(const std::filesystem::path& path, const Type& type) {
  const Composites reader{{path.parent_path()}, path.string()};
  const std::string bytes = read_file(path);
  switch (type.kind) {
    case Type::Kind::sequence: return reader.read<wire::SequenceProto>(bytes);
    case Type::Kind::optional: return reader.read<wire::OptionalProto>(bytes);
    case Type::Kind::map: return reader.read<wire::MapProto>(bytes);
    default: return reader.read<wire::TensorProto>(bytes);
  }
}

void write_tensor_pb(const std::filesystem::path& path, const NamedTensor& tensor) {
  switch (tensor.tensor.kind()) {
    case Kind::sequence: return write_file(path, composite_bytes<wire::SequenceProto>(tensor));
    case Kind::optional: return write_file(path, composite_bytes<wire::OptionalProto>(tensor));
    case Kind::map: return write_file(path, composite_bytes<wire::MapProto>(tensor));
    default: break;
  }
  wire::TensorProto proto;
  tensor_to_wire(tensor.tensor, tensor.name, proto);
  write_file(path, proto.SerializeAsString());
}

}  // namespace lathe
