// Packed weights: constants in the form that kernels read, made once and shared by all editions of a Program.
#pragma once

#include <compare>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe::lower {

// How weights are packed.
enum class PackForm : uint8_t {
  convolution,
  planes,
  winograd,
  product,
  product_16,
  transposed,
  byte_product,
  byte_convolution,
  recurrent,
  byte_planes,
  product_narrow,
  product_scales,
  convolution_16,
  few
};
inline constexpr int kPackForms = static_cast<int>(PackForm::few) + 1;

// What decides every byte of packed weights: whose they are, their form and its version, and all numbers that packing depends on beside the
// value itself (panel width, groups, taps, factors, other constants by their ids).
struct PackKey {
  ValueId value = kAbsent;
  PackForm form = PackForm::product;
  std::vector<int64_t> geometry;
  int version = 1;  // raised when the same form lays its bytes out in another way
  auto operator<=>(const PackKey&) const = default;
  std::string text() const;
};

// Not for several threads at once; the Program holds its lock while an edition is compiled.
class Weights {
 public:
  struct Entry {
    std::shared_ptr<const void> hold;
    const void* data = nullptr;
    size_t bytes = 0;
  };
  // Makes the entry when there is none under this key. One that came from an archive must have `bytes`: throws Error (format) when not.
  const Entry& get(const PackKey& key, size_t bytes, const std::function<Entry()>& make);
  void put(const PackKey& key, Entry entry) { entries_[key] = std::move(entry); }
  const std::map<PackKey, Entry>& entries() const { return entries_; }
  // Values whose original tensors steps read as they are.
  void keep_raw(ValueId v) { raw_.push_back(v); }
  const std::vector<ValueId>& raw() const { return raw_; }
  // How to get a value's tensor back from a packed entry once the original is gone.
  std::map<ValueId, std::function<Tensor()>> restore;
  // Called as soon as a value's packed form is there: its original can go, so that weights are never all held twice.
  std::function<void(ValueId)> on_packed;

 private:
  std::map<PackKey, Entry> entries_;
  std::vector<ValueId> raw_;
};

// Aligned memory for packed weights.
std::shared_ptr<float> floats(int64_t count);
Weights::Entry entry_of(std::shared_ptr<float> p, int64_t count);

}  // namespace lathe::lower
