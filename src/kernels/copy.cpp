#include "kernels/copy.hpp"

#include <algorithm>
#include <cstring>
#include <numeric>

namespace lathe::kernels {

CopyPlan plan_copy(int element_bytes, std::vector<int64_t> shape, std::vector<int64_t> in, std::vector<int64_t> out) {
  // Output order: largest stride first, so that writes go forward. Dims of size 1 say nothing.
  std::vector<size_t> order;
  for (size_t i = 0; i < shape.size(); ++i) {
    if (shape[i] != 1) order.push_back(i);
  }
  std::stable_sort(order.begin(), order.end(), [&](size_t a, size_t b) { return out[a] > out[b]; });
  CopyPlan p;
  p.element_bytes = element_bytes;
  for (size_t i : order) {
    // Runs on from the dim before: one longer dim.
    if (!p.shape.empty() && p.in_strides.back() == in[i] * shape[i] && p.out_strides.back() == out[i] * shape[i]) {
      p.shape.back() *= shape[i];
      p.in_strides.back() = in[i];
      p.out_strides.back() = out[i];
    } else {
      p.shape.push_back(shape[i]);
      p.in_strides.push_back(in[i]);
      p.out_strides.push_back(out[i]);
    }
  }
  if (p.shape.empty()) {
    p.shape = {1};
    p.in_strides = p.out_strides = {1};
  }
  // At least two dims: the inner ones are done as one block.
  if (p.shape.size() == 1 && p.in_strides[0] == 1 && p.out_strides[0] == 1 && p.shape[0] >= 65536) {
    const int64_t piece = 16384, whole = p.shape[0] / piece;
    if (p.shape[0] % piece == 0) {
      p.shape = {whole, piece};
      p.in_strides = p.out_strides = {piece, 1};
    }
  }
  // A transposition's block is the inner dim and the one the input runs along. That one must not be the outermost
  // (threads share it), unless there is nothing else.
  if (p.shape.size() == 1) {
    p.shape.insert(p.shape.begin(), 1);
    p.in_strides.insert(p.in_strides.begin(), 0);
    p.out_strides.insert(p.out_strides.begin(), 0);
  }
  p.tasks = p.shape[0];
  return p;
}

namespace {

template <typename T>
void row(const T* in, int64_t in_stride, T* out, int64_t out_stride, int64_t n) {
  if (out_stride == 1 && in_stride == 1) std::memcpy(out, in, n * sizeof(T));
  else if (out_stride == 1 && in_stride == 0) std::fill_n(out, n, *in);
  else {
    for (int64_t i = 0; i < n; ++i) out[i * out_stride] = in[i * in_stride];
  }
}

// A plane in which the input runs along the outer dim: square blocks keep both sides' cache lines.
template <typename T>
void plane(const T* in, int64_t in0, int64_t in1, T* out, int64_t out0, int64_t out1, int64_t n0, int64_t n1) {
  constexpr int64_t kBlock = 16;
  for (int64_t i0 = 0; i0 < n0; i0 += kBlock) {
    const int64_t i1 = std::min(n0, i0 + kBlock);
    for (int64_t j0 = 0; j0 < n1; j0 += kBlock) {
      const int64_t j1 = std::min(n1, j0 + kBlock);
      for (int64_t i = i0; i < i1; ++i) {
        for (int64_t j = j0; j < j1; ++j) out[i * out0 + j * out1] = in[i * in0 + j * in1];
      }
    }
  }
}

// The common transposition, of 4-byte elements with both sides dense: 4x4 blocks in registers, in strips of rows whose
// cache lines stay in L1.
using V4 = uint32_t __attribute__((vector_size(16)));

inline V4 load4(const uint32_t* p) {
  V4 v;
  std::memcpy(&v, p, 16);
  return v;
}
inline void store4(uint32_t* p, V4 v) { std::memcpy(p, &v, 16); }

// out[i * out0 + j] = in[i + j * in1]
void transpose4(const uint32_t* in, int64_t in1, uint32_t* out, int64_t out0, int64_t n0, int64_t n1) {
  constexpr int64_t kStripRows = 16;
  for (int64_t i0 = 0; i0 < n0; i0 += kStripRows) {
    const int64_t i1 = std::min(n0, i0 + kStripRows), whole = i0 + (i1 - i0) / 4 * 4;
    int64_t j = 0;
    for (; j + 4 <= n1; j += 4) {
      for (int64_t i = i0; i < whole; i += 4) {
        const uint32_t* s = in + i + j * in1;
        const V4 a = load4(s), b = load4(s + in1), c = load4(s + 2 * in1), d = load4(s + 3 * in1);
        const V4 ab0 = __builtin_shufflevector(a, b, 0, 4, 1, 5), ab1 = __builtin_shufflevector(a, b, 2, 6, 3, 7);
        const V4 cd0 = __builtin_shufflevector(c, d, 0, 4, 1, 5), cd1 = __builtin_shufflevector(c, d, 2, 6, 3, 7);
        uint32_t* t = out + i * out0 + j;
        store4(t, __builtin_shufflevector(ab0, cd0, 0, 1, 4, 5));
        store4(t + out0, __builtin_shufflevector(ab0, cd0, 2, 3, 6, 7));
        store4(t + 2 * out0, __builtin_shufflevector(ab1, cd1, 0, 1, 4, 5));
        store4(t + 3 * out0, __builtin_shufflevector(ab1, cd1, 2, 3, 6, 7));
      }
      for (int64_t i = whole; i < i1; ++i) {
        for (int64_t k = j; k < j + 4; ++k) out[i * out0 + k] = in[i + k * in1];
      }
    }
    for (; j < n1; ++j) {
      for (int64_t i = i0; i < i1; ++i) out[i * out0 + j] = in[i + j * in1];
    }
  }
}

template <typename T>
void nest(const CopyPlan& p, size_t dim, const T* in, T* out, int64_t begin, int64_t end) {
  const size_t left = p.shape.size() - dim;
  if (left == 1)
    return row(in + begin * p.in_strides[dim], p.in_strides[dim], out + begin * p.out_strides[dim], p.out_strides[dim], end - begin);
  const bool across = left == 2 && p.in_strides[dim] == 1 && p.in_strides[dim + 1] != 1;
  if (across) {
    if constexpr (sizeof(T) == 4) {
      if (p.out_strides[dim + 1] == 1)
        return transpose4(in + begin, p.in_strides[dim + 1], out + begin * p.out_strides[dim], p.out_strides[dim], end - begin,
                          p.shape[dim + 1]);
    }
    return plane(in + begin * p.in_strides[dim], p.in_strides[dim], p.in_strides[dim + 1], out + begin * p.out_strides[dim],
                 p.out_strides[dim], p.out_strides[dim + 1], end - begin, p.shape[dim + 1]);
  }
  for (int64_t i = begin; i < end; ++i) nest(p, dim + 1, in + i * p.in_strides[dim], out + i * p.out_strides[dim], 0, p.shape[dim + 1]);
}

}  // namespace

void run_copy(const CopyPlan& p, const void* in, void* out, int64_t begin, int64_t end) {
  switch (p.element_bytes) {
    case 1: return nest(p, 0, static_cast<const uint8_t*>(in), static_cast<uint8_t*>(out), begin, end);
    case 2: return nest(p, 0, static_cast<const uint16_t*>(in), static_cast<uint16_t*>(out), begin, end);
    case 4: return nest(p, 0, static_cast<const uint32_t*>(in), static_cast<uint32_t*>(out), begin, end);
    default: return nest(p, 0, static_cast<const uint64_t*>(in), static_cast<uint64_t*>(out), begin, end);
  }
}

}  // namespace lathe::kernels
