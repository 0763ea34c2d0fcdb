// A dense tensor: element type, shape, and shared or borrowed memory in row-major order.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
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

// Copies share memory; clone() does not. Memory is aligned to 64 bytes when the tensor owns it.
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

  bool empty() const { return dtype_ == DType::undefined; }
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

// Same dtype, shape and elements (bit for bit).
bool identical(const Tensor& a, const Tensor& b);

}  // namespace lathe
