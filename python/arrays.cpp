#include "arrays.hpp"

#include <pybind11/stl.h>

#include <cstring>

namespace lathe_python {
namespace {

using lathe::Category;
using lathe::DType;
using lathe::Error;
using lathe::Shape;
using lathe::Tensor;

// numpy's names; null where it has no such type.
const char* numpy_name(DType d) {
  switch (d) {
    case DType::f32: return "float32";
    case DType::f64: return "float64";
    case DType::f16: return "float16";
    case DType::i8: return "int8";
    case DType::i16: return "int16";
    case DType::i32: return "int32";
    case DType::i64: return "int64";
    case DType::u8: return "uint8";
    case DType::u16: return "uint16";
    case DType::u32: return "uint32";
    case DType::u64: return "uint64";
    case DType::boolean: return "bool";
    case DType::c64: return "complex64";
    case DType::c128: return "complex128";
    default: return nullptr;
  }
}

[[noreturn]] void refuse(const std::string& name, const std::string& what) { throw Error(Category::type, name + ": " + what); }

DType dtype_of(const std::string& name, const py::dtype& d) {
  // '=' and '|': this machine's order of bytes, and no order.
  if (d.attr("byteorder").cast<std::string>() == ">") refuse(name, "its bytes are in the other order; a.astype(a.dtype.newbyteorder('='))");
  const char kind = d.kind();
  const auto size = d.itemsize();
  switch (kind) {
    case 'b': return DType::boolean;
    case 'f':
      if (size == 2) return DType::f16;
      if (size == 4) return DType::f32;
      if (size == 8) return DType::f64;
      break;
    case 'i': return size == 1 ? DType::i8 : size == 2 ? DType::i16 : size == 4 ? DType::i32 : DType::i64;
    case 'u': return size == 1 ? DType::u8 : size == 2 ? DType::u16 : size == 4 ? DType::u32 : DType::u64;
    case 'c':
      if (size == 8) return DType::c64;
      if (size == 16) return DType::c128;
      break;
    case 'U':
    case 'S':
    case 'O': return DType::string;
    default: break;
  }
  refuse(name, "no tensor holds elements of " + std::string(py::str(py::object(d))));
}

Shape shape_of(const py::array& a) { return Shape(a.shape(), a.shape() + a.ndim()); }

Tensor strings_of(const std::string& name, const py::array& a) {
  Tensor t(DType::string, shape_of(a));
  int64_t i = 0;
  for (py::handle item : a.attr("ravel")().attr("tolist")()) {
    if (!py::isinstance<py::str>(item) && !py::isinstance<py::bytes>(item)) refuse(name, "an array of objects must hold text alone");
    t.as<std::string>()[static_cast<size_t>(i++)] = item.cast<std::string>();
  }
  return t;
}

// To the nearest bf16, ties to even.
Tensor bf16_of(const py::array& a) {
  Tensor t(DType::bf16, shape_of(a));
  const auto* from = static_cast<const float*>(a.data());
  auto* to = static_cast<uint16_t*>(t.data());
  for (int64_t i = 0; i < t.size(); ++i) to[i] = static_cast<uint16_t>(lathe::encode_narrow(DType::bf16, from[i]));
  return t;
}

Tensor halves_of_bytes(DType wanted, const py::array& a) {
  Tensor t(wanted, shape_of(a));
  const auto* from = static_cast<const uint8_t*>(a.data());
  auto* to = static_cast<uint8_t*>(t.data());
  std::memset(to, 0, t.byte_size());
  for (int64_t i = 0; i < t.size(); ++i) to[i / 2] = static_cast<uint8_t>(to[i / 2] | (from[i] & 15) << (i % 2 * 4));
  return t;
}

py::array contiguous(py::handle value, const char* dtype) {
  // Never let go of: the interpreter is gone before statics are.
  static const auto& as = *new py::object(py::module_::import("numpy").attr("ascontiguousarray"));
  // It makes a vector of what has no dims.
  py::array a = dtype ? as(value, dtype).cast<py::array>() : as(value).cast<py::array>();
  if (py::isinstance<py::array>(value) && py::reinterpret_borrow<py::array>(value).ndim() == 0) return a.attr("reshape")(py::tuple());
  if (!py::isinstance<py::array>(value) && !py::isinstance<py::sequence>(value)) return a.attr("reshape")(py::tuple());
  return a;
}

Tensor composite_of(const std::string& name, py::handle value, const lathe::Type& type, std::vector<py::object>& held);

Tensor element_of(const std::string& name, py::handle value, const lathe::Type* type, std::vector<py::object>& held) {
  if (type && type->kind != lathe::Type::Kind::tensor) return composite_of(name, value, *type, held);
  lathe::Port port;
  if (type) port.dtype = type->dtype;
  return to_tensor(name, value, port, held);
}

Tensor composite_of(const std::string& name, py::handle value, const lathe::Type& type, std::vector<py::object>& held) {
  const lathe::Type* inner = type.inner.empty() ? nullptr : &type.inner[0];
  if (type.kind == lathe::Type::Kind::optional) {
    if (value.is_none()) return Tensor::optional(std::nullopt);
    return Tensor::optional(element_of(name, value, inner, held));
  }
  if (type.kind != lathe::Type::Kind::sequence || !py::isinstance<py::sequence>(value))
    refuse(name, "expected a list of arrays, got " + std::string(py::str(value.get_type())));
  std::vector<Tensor> items;
  // A sequence keeps its tensors: these must own what they hold.
  for (py::handle item : value) items.push_back(element_of(name, item, inner, held).clone());
  return Tensor::sequence(std::move(items));
}

// Elements of a type that numpy lacks, as one that it has.
py::object widened(const std::string& name, const Tensor& t) {
  const auto* from = static_cast<const uint8_t*>(t.data());
  if (t.dtype() == DType::bf16) {
    py::array_t<float> a(t.shape());
    auto* to = a.mutable_data();
    for (int64_t i = 0; i < t.size(); ++i) {
      uint16_t half;
      std::memcpy(&half, from + i * 2, 2);
      to[i] = static_cast<float>(lathe::decode_narrow(DType::bf16, half));
    }
    return a;
  }
  if (t.dtype() == DType::u4) {
    py::array_t<uint8_t> a(t.shape());
    for (int64_t i = 0; i < t.size(); ++i) a.mutable_data()[i] = from[i / 2] >> (i % 2 * 4) & 15;
    return a;
  }
  if (t.dtype() == DType::i4) {
    py::array_t<int8_t> a(t.shape());
    for (int64_t i = 0; i < t.size(); ++i) a.mutable_data()[i] = static_cast<int8_t>(((from[i / 2] >> (i % 2 * 4) & 15) ^ 8) - 8);
    return a;
  }
  refuse(name, "numpy has no type for " + std::string(lathe::to_string(t.dtype())) + "; cast it in the model");
}

}  // namespace

Tensor to_tensor(const std::string& name, py::handle value, const lathe::Port& wanted, std::vector<py::object>& held) {
  if (wanted.composite) return composite_of(name, value, *wanted.composite, held);
  const DType d = wanted.dtype;
  if (!py::isinstance<py::array>(value)) {
    py::array a = contiguous(value, d == DType::bf16 ? "float32" : d == DType::i4 ? "int8" : d == DType::u4 ? "uint8" : numpy_name(d));
    return to_tensor(name, a, wanted, held);
  }
  py::array a = py::reinterpret_borrow<py::array>(value);
  if (!(a.flags() & py::array::c_style)) a = contiguous(a, nullptr);
  const DType given = dtype_of(name, a.dtype());
  if (given == DType::string) return strings_of(name, a);
  if (d == DType::bf16 && given == DType::f32) return bf16_of(a);
  if ((d == DType::i4 && given == DType::i8) || (d == DType::u4 && given == DType::u8)) return halves_of_bytes(d, a);
  held.push_back(a);
  return Tensor::borrow(given, shape_of(a), const_cast<void*>(a.data()));
}

py::object to_python(const std::string& name, const Tensor& t) {
  switch (t.kind()) {
    case lathe::Kind::sequence: {
      py::list list;
      for (const Tensor& item : t.items()) list.append(to_python(name, item));
      return list;
    }
    case lathe::Kind::optional: return t.items().empty() ? py::object(py::none()) : to_python(name, t.items()[0]);
    case lathe::Kind::map: {
      const py::object keys = to_python(name, t.items()[0]), values = to_python(name, t.items()[1]);
      py::dict map;
      for (int64_t i = 0; i < t.items()[0].size(); ++i) map[keys[py::int_(i)]] = values[py::int_(i)];
      return map;
    }
    case lathe::Kind::tensor: break;
  }
  if (t.dtype() == DType::string) {
    py::list list;
    for (const std::string& s : t.as<std::string>()) list.append(py::bytes(s).attr("decode")("utf-8", "surrogateescape"));
    const py::object numpy = py::module_::import("numpy");
    return numpy.attr("array")(list, "object").attr("reshape")(py::cast(t.shape()));
  }
  const char* type = numpy_name(t.dtype());
  if (!type) return widened(name, t);
  auto* kept = new Tensor(t);
  const py::capsule owner(kept, [](void* p) { delete static_cast<Tensor*>(p); });
  py::array a(py::dtype(type), t.shape(), kept->data(), owner);
  a.attr("setflags")(py::arg("write") = false);
  return a;
}

Tensor to_memory(const std::string& name, const py::array& a) {
  if (!(a.flags() & py::array::c_style)) refuse(name, "memory for results must be C-contiguous");
  if (!a.writeable()) refuse(name, "memory for results must be writable");
  const DType d = dtype_of(name, a.dtype());
  if (d == DType::string) refuse(name, "text has no memory of its own");
  return Tensor::borrow(d, shape_of(a), const_cast<void*>(a.data()));
}

}  // namespace lathe_python
