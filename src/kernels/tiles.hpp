// Registers of two dimensions (x86's AMX): eight tiles of up to 16 rows of 64 bytes, and an instruction that adds the product of two to a
// third, sixteen times what a vector instruction multiplies.
//
// A product takes A in rows of bytes, or of pairs of bf16, as they stand in memory, and B in groups of 32 bits along K, as the vector
// kernels' dot products do: what is packed for those serves both.
#pragma once

#include <cstdint>

namespace lathe::kernels {

// Whether processor and operating system have them, for bytes and bf16; the system is asked to let this process use them, once.
bool has_tiles();

namespace tiles {

inline constexpr int kRows = 16, kBytes = 64, kGroups = 16;  // at most, of a tile; groups of 32 bits along K

// How many steps of `each` it takes to get to `count`.
constexpr int64_t along(int64_t count, int64_t each) { return (count + each - 1) / each; }
// The smallest step of at most `most` that takes no more of them.
constexpr int64_t even(int64_t count, int64_t most = kGroups) { return along(count, along(count, most)); }
// `count` filled up to whole even steps.
constexpr int64_t whole(int64_t count) { return along(count, kGroups) * even(count); }
// The largest step that needs no filling up.
constexpr int64_t dividing(int64_t count) {
  int64_t step = kGroups;
  while (count % step != 0) --step;
  return step;
}

#if defined(__x86_64__)
// Below: up to 32 rows by 32 columns of sums. Tiles 0 and 1 are the upper rows, 2 and 3 the lower ones; 4 and 5 hold A, 6 and 7 hold B.

// Tiles of so many rows each, `groups` groups of 32 bits of K a product. Every thread has its own; `release` gives them back.
class Shape {
 public:
  Shape() = default;
  ~Shape() {
    if (groups_ > 0) asm volatile("tilerelease");
  }
  Shape(const Shape&) = delete;
  Shape& operator=(const Shape&) = delete;

  // What tiles held is lost, unless they are of this shape already.
  void take(int upper, int lower, int groups) {
    if (upper == upper_ && lower == lower_ && groups == groups_) return;
    upper_ = upper, lower_ = lower, groups_ = groups;
    struct alignas(64) {
      uint8_t palette = 1, start = 0, unused[14] = {};
      uint16_t row_bytes[16] = {};
      uint8_t rows[16] = {};
    } form;
    const auto set = [&form](int tile, int rows, int row_bytes) {
      form.rows[tile] = static_cast<uint8_t>(rows), form.row_bytes[tile] = static_cast<uint16_t>(rows > 0 ? row_bytes : 0);
    };
    set(0, upper, kBytes), set(1, upper, kBytes), set(2, lower, kBytes), set(3, lower, kBytes);
    set(4, upper, 4 * groups), set(5, lower, 4 * groups), set(6, groups, kBytes), set(7, groups, kBytes);
    asm volatile("ldtilecfg %0" : : "m"(form));
  }

 private:
  int upper_ = 0, lower_ = 0, groups_ = 0;
};

template <int kTile>
inline void zero() {
  asm volatile("tilezero %%tmm%c0" : : "i"(kTile));
}
// Rows `stride` bytes apart; 0 repeats one.
template <int kTile>
inline void load(const void* from, int64_t stride) {
  asm volatile("tileloadd (%0,%1,1), %%tmm%c2" : : "r"(from), "r"(stride), "i"(kTile) : "memory");
}
template <int kTile>
inline void store(void* to, int64_t stride) {
  asm volatile("tilestored %%tmm%c2, (%0,%1,1)" : : "r"(to), "r"(stride), "i"(kTile) : "memory");
}
// Sums of products of bytes of A, signed or not, and signed bytes of B.
template <bool kSigned, int kSum, int kA, int kB>
inline void add_bytes() {
  if constexpr (kSigned) asm volatile("tdpbssd %%tmm%c2, %%tmm%c1, %%tmm%c0" : : "i"(kSum), "i"(kA), "i"(kB));
  else asm volatile("tdpbusd %%tmm%c2, %%tmm%c1, %%tmm%c0" : : "i"(kSum), "i"(kA), "i"(kB));
}
// Of pairs of bf16, in f32.
template <int kSum, int kA, int kB>
inline void add_halves() {
  asm volatile("tdpbf16ps %%tmm%c2, %%tmm%c1, %%tmm%c0" : : "i"(kSum), "i"(kA), "i"(kB));
}

#endif
}  // namespace tiles

}  // namespace lathe::kernels
