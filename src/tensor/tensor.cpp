#include "lathe/tensor.hpp"

#include <algorithm>
#include <cstring>

#include "base/fail.hpp"
#include "base/memory.hpp"
#include "tensor/widen.hpp"

namespace lathe {

int64_t element_count(std::span<const int64_t> shape) {
  const auto total = checked_product(shape);
  if (!total) fail(Category::shape, "shape {} has a negative dim or more elements than fit in memory", to_string(shape));
  return *total;
}

std::string to_string(std::span<const int64_t> shape) {
  if (shape.empty()) return "scalar";
  return fmt::format("{}", fmt::join(shape, "x"));
}

namespace {

size_t bytes_of(DType dtype, int64_t count) {
  const auto bits = checked_multiply(count, bit_width(dtype));
  if (!bits) fail(Category::resource, "a tensor of {} elements of {} does not fit in memory", count, to_string(dtype));
  return static_cast<size_t>(*bits / 8 + (*bits % 8 != 0));
}

}  // namespace

Tensor::Tensor(DType dtype, Shape shape) : dtype_(dtype), shape_(std::move(shape)), count_(element_count(shape_)) {
  if (dtype == DType::undefined) fail(Category::type, "cannot make a tensor of undefined dtype");
  if (dtype == DType::string) {
    if (count_ > (int64_t{1} << 40)) fail(Category::resource, "a tensor of {} strings does not fit in memory", count_);
    auto* strings = new std::string[count_];
    owner_ = std::shared_ptr<std::string>(strings, [](std::string* p) { delete[] p; });
    data_ = strings;
  } else {
    auto block = allocate_aligned(bytes_of(dtype, count_));
    data_ = block.get();
    owner_ = std::move(block);
  }
}

Tensor Tensor::borrow(DType dtype, Shape shape, void* data) { return share(dtype, std::move(shape), nullptr, data); }

Tensor Tensor::share(DType dtype, Shape shape, std::shared_ptr<const void> owner, void* data) {
  Tensor t;
  t.dtype_ = dtype;
  t.shape_ = std::move(shape);
  t.count_ = element_count(t.shape_);
  t.owner_ = std::move(owner);
  t.data_ = data;
  return t;
}

template <typename T>
Tensor Tensor::from(Shape shape, std::span<const T> values) {
  Tensor t(kDTypeOf<T>, std::move(shape));
  if (static_cast<int64_t>(values.size()) != t.count_) {
    fail(Category::shape, "shape {} wants {} elements, got {}", to_string(t.shape_), t.count_, values.size());
  }
  std::copy(values.begin(), values.end(), static_cast<T*>(t.data_));
  return t;
}

template Tensor Tensor::from(Shape, std::span<const float>);
template Tensor Tensor::from(Shape, std::span<const double>);
template Tensor Tensor::from(Shape, std::span<const int32_t>);
template Tensor Tensor::from(Shape, std::span<const int64_t>);
template Tensor Tensor::from(Shape, std::span<const int8_t>);
template Tensor Tensor::from(Shape, std::span<const uint8_t>);
template Tensor Tensor::from(Shape, std::span<const bool>);
template Tensor Tensor::from(Shape, std::span<const std::string>);

std::string_view to_string(Kind kind) {
  constexpr std::string_view kNames[]{"tensor", "sequence", "optional", "map"};
  return kNames[static_cast<size_t>(kind)];
}

Tensor Tensor::sequence(std::vector<Tensor> items) {
  Tensor t;
  t.kind_ = Kind::sequence;
  t.count_ = 0;
  t.owner_ = std::make_shared<const std::vector<Tensor>>(std::move(items));
  return t;
}

Tensor Tensor::optional(std::optional<Tensor> item) {
  std::vector<Tensor> items;
  if (item) items.push_back(std::move(*item));
  Tensor t = sequence(std::move(items));
  t.kind_ = Kind::optional;
  return t;
}

Tensor Tensor::map(Tensor keys, Tensor values) {
  if (keys.rank() != 1 || (values.kind() == Kind::tensor ? values.rank() < 1 || values.shape()[0] != keys.size()
                                                         : static_cast<int64_t>(values.items().size()) != keys.size())) {
    fail(Category::value, "a map needs a list of keys and as many values, got keys of {} and values of {}", to_string(keys.shape()),
         to_string(values.shape()));
  }
  Tensor t = sequence({std::move(keys), std::move(values)});
  t.kind_ = Kind::map;
  return t;
}

std::span<const Tensor> Tensor::items() const {
  if (!composite()) return {};
  return *static_cast<const std::vector<Tensor>*>(owner_.get());
}

bool Tensor::owned() const {
  if (composite()) return std::ranges::all_of(items(), [](const Tensor& t) { return t.owned(); });
  return owner_ != nullptr || count_ == 0;
}

size_t Tensor::byte_size() const { return bytes_of(dtype_, count_); }

void Tensor::check(DType wanted) const {
  if (composite()) fail(Category::type, "a {} has no elements of its own; ask for its items()", to_string(kind_));
  if (dtype_ != wanted) fail(Category::type, "tensor holds {}, asked for as {}", to_string(dtype_), to_string(wanted));
}

Tensor Tensor::clone() const {
  if (empty()) return {};
  if (composite()) {
    std::vector<Tensor> copies;
    for (const Tensor& item : items()) copies.push_back(item.clone());
    Tensor t = sequence(std::move(copies));
    t.kind_ = kind_;
    return t;
  }
  Tensor t(dtype_, shape_);
  if (dtype_ == DType::string) {
    std::copy_n(static_cast<const std::string*>(data_), count_, static_cast<std::string*>(t.data_));
  } else if (byte_size() > 0) {
    std::memcpy(t.data_, data_, byte_size());
  }
  return t;
}

Tensor Tensor::reshaped(Shape shape) const {
  if (element_count(shape) != count_) {
    fail(Category::shape, "cannot view {} as {}: the number of elements differs", to_string(shape_), to_string(shape));
  }
  Tensor t = *this;
  t.shape_ = std::move(shape);
  return t;
}

bool identical(const Tensor& a, const Tensor& b) {
  if (a.kind() != b.kind() || a.dtype() != b.dtype() || a.shape() != b.shape()) return false;
  if (a.composite()) return std::ranges::equal(a.items(), b.items(), identical);
  if (a.empty()) return true;
  if (a.dtype() == DType::string) return std::ranges::equal(a.as<std::string>(), b.as<std::string>());
  return a.byte_size() == 0 || std::memcmp(a.data(), b.data(), a.byte_size()) == 0;
}

}  // namespace lathe
