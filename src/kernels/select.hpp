// Best elements along an axis: where they stand, and what they are.
#pragma once

#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::kernels {

enum class SelectNumber : uint8_t { f32, f64, i32, i64, u8, i8 };

// Largest (or smallest) element along the middle one of [rows, length, inner]: its place, the first of equals (or the last). A NaN is best
// only as the first element. Preconditions: aligned to the element; length >= 1; out overlaps nothing.
struct ArgArguments {
  SelectNumber type = SelectNumber::f32;
  const void* in = nullptr;
  int64_t* out = nullptr;
  int64_t length = 0, inner = 1;
  int64_t begin = 0, end = 0;  // rows
  bool smallest = false, last = false;
};
using ArgRows = void (*)(const ArgArguments&);
ArgRows arg_rows(Isa isa);

// The k largest (or smallest) elements of each row, best first, equal ones by index; NaN counts as larger than everything.
// Preconditions: aligned to the element; 1 <= k <= kMostTop, k <= length; out overlaps nothing.
struct TopArguments {
  SelectNumber type = SelectNumber::f32;  // not u8 or i8
  const void* in = nullptr;
  void* values = nullptr;
  int64_t* indices = nullptr;
  int64_t length = 0, k = 0, begin = 0, end = 0;
  bool smallest = false;
};
inline constexpr int64_t kMostTop = 256;
using TopRows = void (*)(const TopArguments&);
TopRows top_rows(Isa isa);

// Of many: places of elements of one row that are as good as a bound, in order; its k best are among them, mostly few others. Gives how
// many, or -1 where that is no way: with NaN, or when the row is not much longer than k. Preconditions: 1 <= k <= length; places has room
// for `length`, bests for `length / 2 + 1` elements of the type; they overlap nothing.
struct ContendersArguments {
  SelectNumber type = SelectNumber::f32;  // not u8 or i8
  const void* in = nullptr;
  int64_t length = 0, k = 0;
  bool smallest = false;
  int64_t* places = nullptr;
  void* bests = nullptr;
};
using Contenders = int64_t (*)(const ContendersArguments&);
Contenders contenders(Isa isa);

}  // namespace lathe::kernels
