// A dense tensor: element type, shape, and shared or borrowed memory in row-major order; also sequences, optionals and maps of tensors.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "lathe/dtype.hpp"

namespace lathe {

using Shape = std::vector<int64_t>;

// Number of elements; 1 for a scalar's empty shape. Throws Error (shape) on a negative dim or overflow.
int64_t element_count(std::span<const int64_t> shape);
// "1x3x64x64"; "scalar" when empty.
std::string to_string(std::span<const int64_t> shape);

// What a Tensor object holds. All but `tensor` are composites: they have items, and no elements of their own.
enum class Kind : uint8_t { tensor, sequence, optional, map };
std::string_view to_string(Kind kind);

// Threads: one object belongs to one thread at a time; copies of it may be used by others as long as nobody writes the elements.
// Ownership: copies share memory; clone() does not. A borrowed one leaves its memory with the caller.
// Lifetime: memory lives as long as the last copy; what a lane gave is not written by a later run while a copy of it lives. Pointers and
// spans into it are valid as long as a copy is. Memory is aligned to 64 bytes when the tensor owns it.
// Failure: constructors that throw leave nothing behind; reading elements of another dtype throws Error (type).
class Tensor {
 public:
  Tensor() = default;
  // Allocates; elements are uninitialised (strings are empty). Throws Error (shape, resource).
  Tensor(DType dtype, Shape shape);
  // Borrows caller-owned memory of at least byte_size() bytes; the caller keeps it alive.
  static Tensor borrow(DType dtype, Shape shape, void* data);
  // Shares memory kept alive by `owner`.
  static Tensor share(DType dtype, Shape shape, std::shared_ptr<const void> owner, void* data);
  // Copies `values` in; their number must equal the shape's element count.
  template <typename T>
  static Tensor from(Shape shape, std::span<const T> values);
  template <typename T>
  static Tensor from(Shape shape, std::initializer_list<T> values) {
    return from<T>(std::move(shape), std::span<const T>(values.begin(), values.size()));
  }

  // Composites. An optional holds one item or none; a map holds a rank-1 tensor of keys (integers or strings) and a value for each:
  // a tensor of as many rows. Throws Error (value) when keys and values differ in number.
  static Tensor sequence(std::vector<Tensor> items);
  static Tensor optional(std::optional<Tensor> item);
  static Tensor map(Tensor keys, Tensor values);

  // Nothing at all: neither a tensor nor a composite.
  bool empty() const { return dtype_ == DType::undefined && kind_ == Kind::tensor; }
  Kind kind() const { return kind_; }
  bool composite() const { return kind_ != Kind::tensor; }
  // Of a composite, in order (map: keys, values); none for a tensor.
  std::span<const Tensor> items() const;
  // Whether the memory is shared (kept alive by this object), not borrowed. Of a composite: of all its items.
  bool owned() const;
  // How many tensors (and others who share it) hold the memory; 0: it is borrowed. Exact only while no other thread copies or drops one.
  int64_t holders() const { return owner_.use_count(); }
  DType dtype() const { return dtype_; }
  const Shape& shape() const { return shape_; }
  int rank() const { return static_cast<int>(shape_.size()); }
  int64_t size() const { return count_; }  // elements
  size_t byte_size() const;                // 0 for strings
  const void* data() const { return data_; }
  void* data() { return data_; }

  // Elements as T; throws Error (type) when T is not the tensor's dtype.
  template <typename T>
  std::span<const T> as() const {
    check(kDTypeOf<T>);
    return {static_cast<const T*>(data_), static_cast<size_t>(count_)};
  }
  template <typename T>
  std::span<T> as() {
    check(kDTypeOf<T>);
    return {static_cast<T*>(data_), static_cast<size_t>(count_)};
  }

  Tensor clone() const;
  // The same memory under another shape of as many elements. Throws Error (shape).
  Tensor reshaped(Shape shape) const;

 private:
  void check(DType wanted) const;

  DType dtype_ = DType::undefined;
  Kind kind_ = Kind::tensor;
  Shape shape_;
  int64_t count_ = 0;
  std::shared_ptr<const void> owner_;
  void* data_ = nullptr;
};

extern template Tensor Tensor::from(Shape, std::span<const float>);
extern template Tensor Tensor::from(Shape, std::span<const double>);
extern template Tensor Tensor::from(Shape, std::span<const int32_t>);
extern template Tensor Tensor::from(Shape, std::span<const int64_t>);
extern template Tensor Tensor::from(Shape, std::span<const uint8_t>);
extern template Tensor Tensor::from(Shape, std::span<const bool>);
extern template Tensor Tensor::from(Shape, std::span<const std::string>);

// Same kind, dtype, shape and elements (bit for bit).
bool identical(const Tensor& a, const Tensor& b);

}  // namespace lathe
