// The dense kernel for 8-bit operands: sums in 32 bits, exact; then requantised or left as they are.
//
// out[m, n] = finish(sum over k of (A[m, k] - za) * (B[k, n] - zb[n])). Rows of A as in kernels/dense.hpp. B is packed once: unsigned
// weights move to signed ones, and the sums that the zero points need are worked out.
#pragma once

#include <cstdint>
#include <vector>

#include "kernels/byte_result.hpp"
#include "kernels/dense.hpp"

namespace lathe::kernels {

// How k is grouped in 32 bits: four bytes where there is an instruction that multiplies them and adds up (AVX-512 VNNI, ARM's dot
// product), else two 16-bit numbers.
enum class Grouping { bytes, pairs };
Grouping grouping8(Isa isa);
// Whether Dense8Arguments::in_place is there for this instruction set, and whether for signed bytes.
bool reads_in_place8(Isa isa);
bool reads_signed_in_place8(Isa isa);

// B packed, where somebody else keeps it: groups, then sums and zero points by column.
struct PackedBytes {
  Grouping grouping = Grouping::pairs;
  int64_t k = 0, n = 0, width = 0;
  int64_t panel_groups = 0;              // of each panel, those of zeros that fill tiles up counted
  const int32_t* groups = nullptr;       // [panel][k group][column of the panel]
  const int32_t* column_sums = nullptr;  // of B as packed, by column
  const int32_t* zero = nullptr;         // zero points of B as packed, by column
  bool any_zero = false;                 // whether one of them is not 0: rows of A are summed then
};
// 32-bit numbers a packed k x n takes.
int64_t packed_bytes_size(Isa isa, int64_t k, int64_t n);
// Packs B with element (k, n) at b[k * k_stride + n * n_stride], signed or not; zero points: one, or one a column.
void pack_bytes(Isa isa, const uint8_t* b, bool is_signed, int64_t k_stride, int64_t n_stride, int64_t k, int64_t n,
                const std::vector<int32_t>& zero, int32_t* to);
// What was packed at `at`.
PackedBytes packed_bytes(Isa isa, int64_t k, int64_t n, const int32_t* at);
// Element (k, n) of what was packed, as it was.
uint8_t unpacked_byte(const PackedBytes& b, bool is_signed, int64_t k, int64_t n);

// Preconditions: A and the results need no alignment; B is packed by pack_bytes for the same instruction set, aligned to 64 bytes; results
// overlap neither. Rows of A are read to their last byte and not past it.
struct Dense8Arguments : ByteResult {
  const uint8_t* a = nullptr;  // rows with stride lda, or a window
  int64_t lda = 0;
  const WindowRowsOf<uint8_t>* window = nullptr;
  int64_t segments = 1, run = 0;  // K = segments * run
  // A is not gathered: unsigned bytes (tiles take signed ones too), four to a group in `grouping`, run a multiple of 4, no zero points of
  // B, rows of one line of a window (or all rows of a matrix) `row_stride` bytes apart, and nothing in the padding.
  bool in_place = false;
  int64_t row_stride = 0;
  bool a_signed = false;
  int32_t a_zero = 0;
  const PackedBytes* b = nullptr;
  int64_t row_begin = 0, row_end = 0, panel_begin = 0, panel_end = 0;
  int64_t panel_block = 8;  // recipe: panels kept in L2 while rows pass
};
using Dense8 = void (*)(const Dense8Arguments&);
// No allocation.
Dense8 dense8(Isa isa);
int64_t panel_width8(Isa isa);
int max_rows8(Isa isa);

}  // namespace lathe::kernels
