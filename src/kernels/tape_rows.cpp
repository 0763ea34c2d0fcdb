// The tape of an epilogue over several finished rows.
#include <algorithm>
#include <cstring>

#include "kernels/dense.hpp"
#include "kernels/tape_rows.hpp"

namespace lathe::kernels {
namespace {

constexpr int64_t kShort = 64;    // columns: from so many on, a call a row is well spent
constexpr int64_t kAtOnce = 512;  // elements of a call
constexpr int kMostCopied = 4;    // operands

template <typename T>
void copy_rows_of(const char* from, int64_t stride, int64_t row_stride, int64_t rows, int64_t columns, char* to) {
  const T* in = reinterpret_cast<const T*>(from);
  T* out = reinterpret_cast<T*>(to);
  for (int64_t r = 0; r < rows; ++r, in += row_stride) {
    if (stride == 1) out = std::copy_n(in, columns, out);
    else if (stride == 0) out = std::fill_n(out, columns, *in);
    else
      for (int64_t j = 0; j < columns; ++j) *out++ = in[j * stride];
  }
}

// Whether the elements of all rows stand at one distance; then that.
bool runs_on(int64_t stride, int64_t row_stride, int64_t columns, int64_t& all) {
  all = columns == 1 ? row_stride : stride;
  return columns == 1 || row_stride == columns * stride;
}

}  // namespace

void copy_rows(const TapeOperand& o, int64_t row_stride, int64_t rows, int64_t columns, char* to) {
  const char* from = static_cast<const char*>(o.data);
  switch (bytes_of(o.type)) {
    case 1: return copy_rows_of<uint8_t>(from, o.stride, row_stride, rows, columns, to);
    case 2: return copy_rows_of<uint16_t>(from, o.stride, row_stride, rows, columns, to);
    case 4: return copy_rows_of<uint32_t>(from, o.stride, row_stride, rows, columns, to);
    default: return copy_rows_of<uint64_t>(from, o.stride, row_stride, rows, columns, to);
  }
}

void tape_over_rows(const DenseEpilogue& e, RunTape run, float* c, int64_t ldc, int64_t row, int64_t rows, int64_t column,
                    int64_t columns) {
  const int operands = e.tape->inputs - 1;
  int copied = 0;
  int64_t all = 0;
  for (int i = 0; i < operands; ++i) copied += !runs_on(e.operands[i].stride, e.row_strides[i], columns, all);
  if (rows == 1 || columns >= kShort || copied > kMostCopied) {
    for (int64_t r = 0; r < rows; ++r) tape_over_row(e, run, c + r * ldc, row + r, column, columns);
    return;
  }
  alignas(64) float own[kAtOnce];
  alignas(64) char copies[kMostCopied][kAtOnce * 8];
  const int64_t at_once = std::min(rows, kAtOnce / columns);
  for (int64_t first = 0; first < rows; first += at_once) {
    const int64_t count = std::min(at_once, rows - first);
    TapeOperand seen[kMaxSlots];
    int next = 0;
    for (int i = 0; i < operands; ++i) {
      const TapeOperand& o = e.operands[i];
      const TapeOperand here{static_cast<const char*>(o.data) + ((row + first) * e.row_strides[i] + column * o.stride) * bytes_of(o.type),
                             o.stride, o.type};
      if (runs_on(o.stride, e.row_strides[i], columns, all)) {
        seen[i + 1] = {here.data, all, o.type};
        continue;
      }
      char* to = copies[next++];
      if (first == 0 || e.row_strides[i] != 0) copy_rows(here, e.row_strides[i], count, columns, to);
      seen[i + 1] = {to, 1, o.type};
    }
    float* at = c + first * ldc;
    const auto bytes = static_cast<size_t>(columns) * sizeof(float);
    float* in = ldc == columns ? at : own;
    for (int64_t r = 0; in == own && r < count; ++r) std::memcpy(own + r * columns, at + r * ldc, bytes);
    seen[0] = {in, 1, TapeType::f32};
    run(*e.tape, seen, in, TapeType::f32, count * columns);
    for (int64_t r = 0; in == own && r < count; ++r) std::memcpy(at + r * ldc, own + r * columns, bytes);
  }
}

}  // namespace lathe::kernels
