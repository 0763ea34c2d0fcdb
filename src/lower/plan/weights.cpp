#include "lower/plan/weights.hpp"

#include <iterator>

#include "base/fail.hpp"
#include "base/memory.hpp"

namespace lathe::lower {

std::string PackKey::text() const {
  constexpr const char* kNames[]{
      "convolution",      "planes",    "winograd",    "product",        "16-bit product",      "transposed",         "byte product",
      "byte convolution", "recurrent", "byte planes", "narrow product", "scales of a product", "16-bit convolution", "few filters"};
  static_assert(std::size(kNames) == kPackForms);
  return fmt::format("{} of value {} ({})", kNames[static_cast<int>(form)], value, fmt::join(geometry, " "));
}

const Weights::Entry& Weights::get(const PackKey& key, size_t bytes, const std::function<Entry()>& make) {
  const auto it = entries_.find(key);
  if (it != entries_.end()) {
    if (it->second.bytes != bytes)
      fail(Category::format, "packed weights '{}' are {} bytes, this step needs {}", key.text(), it->second.bytes, bytes);
    return it->second;
  }
  return entries_[key] = make();
}

std::shared_ptr<float> floats(int64_t count) {
  auto block = allocate_aligned(static_cast<size_t>(count) * sizeof(float));
  float* p = reinterpret_cast<float*>(block.get());
  return {std::move(block), p};
}

Weights::Entry entry_of(std::shared_ptr<float> p, int64_t count) {
  const void* data = p.get();
  return {std::move(p), data, static_cast<size_t>(count) * sizeof(float)};
}

}  // namespace lathe::lower
