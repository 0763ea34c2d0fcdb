// Aligned memory and checked size arithmetic.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>

namespace lathe {

// Cache line and widest vector register: everything a kernel touches starts on this boundary.
inline constexpr size_t kAlignment = 64;

inline size_t round_up(size_t n, size_t multiple) { return (n + multiple - 1) / multiple * multiple; }

// Uninitialised memory, aligned to kAlignment and readable for 64 bytes past its end. Large blocks ask for huge pages:
// packed weights are read in long streams. Throws Error (resource) when there is none.
std::shared_ptr<std::byte> allocate_aligned(size_t bytes);

// Gives freed memory back to the system: after compiling, the originals of packed weights are many large holes.
void return_free_memory();

// Bytes of memory the machine has.
size_t physical_memory();

inline std::optional<int64_t> checked_multiply(int64_t a, int64_t b) {
  int64_t out;
  if (__builtin_mul_overflow(a, b, &out)) return std::nullopt;
  return out;
}

// Product of dims, all >= 0; nothing when it does not fit.
inline std::optional<int64_t> checked_product(std::span<const int64_t> dims) {
  int64_t total = 1;
  for (int64_t d : dims) {
    if (d < 0 || __builtin_mul_overflow(total, d, &total)) return std::nullopt;
  }
  // Sizes are computed as size_t: with one of 32 bits, what is made of so many elements still fits.
  if (sizeof(size_t) < 8 && total > (int64_t{1} << 27)) return std::nullopt;
  return total;
}

}  // namespace lathe
