#include "kernels/copy.hpp"

#include <algorithm>
#include <cstring>
#include <numeric>
#include <type_traits>
#if defined(__SSE2__)
#include <immintrin.h>
#endif

#include "kernels/isa.hpp"
#include "kernels/strides.hpp"

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
  // A transposition's block is the inner dim and the one the input runs along, which comes just before it: what lies further out would be
  // gone over once for each of its elements.
  const size_t inner = p.shape.size() - 1;
  if (p.shape.size() > 2 && p.out_strides[inner] == 1 && p.in_strides[inner] > 1) {
    for (size_t u = 0; u + 1 < inner; ++u) {
      if (p.in_strides[u] != 1) continue;
      const auto to_inner = [&](std::vector<int64_t>& v) { std::rotate(v.begin() + u, v.begin() + u + 1, v.begin() + inner); };
      to_inner(p.shape), to_inner(p.in_strides), to_inner(p.out_strides);
      break;
    }
  }
  if (p.shape.size() == 1) {
    p.shape.insert(p.shape.begin(), 1);
    p.in_strides.insert(p.in_strides.begin(), 0);
    p.out_strides.insert(p.out_strides.begin(), 0);
  }
  p.tasks = p.shape[0];
  int64_t bytes = element_bytes;
  for (int64_t n : p.shape) bytes *= n;
  p.stream = bytes >= kStreamBytes;
  return p;
}

namespace {

// Writes past the caches: a line that is written whole is not read first. What does not lie on 16 bytes goes the usual way.
void stream_copy(void* to, const void* from, int64_t bytes) {
#if defined(__SSE2__)
  auto* t = static_cast<char*>(to);
  const auto* f = static_cast<const char*>(from);
  const int64_t head = std::min<int64_t>(bytes, static_cast<int64_t>(-reinterpret_cast<uintptr_t>(t) & 15));
  std::memcpy(t, f, head);
  int64_t i = head;
  for (; i + 64 <= bytes; i += 64) {
    const auto* s = reinterpret_cast<const __m128i*>(f + i);
    const __m128i a = _mm_loadu_si128(s), b = _mm_loadu_si128(s + 1), c = _mm_loadu_si128(s + 2), d = _mm_loadu_si128(s + 3);
    auto* o = reinterpret_cast<__m128i*>(t + i);
    _mm_stream_si128(o, a);
    _mm_stream_si128(o + 1, b);
    _mm_stream_si128(o + 2, c);
    _mm_stream_si128(o + 3, d);
  }
  std::memcpy(t + i, f + i, bytes - i);
#else
  std::memcpy(to, from, bytes);
#endif
}

// Many equal elements: a piece in L1, copied (long copies do not read the lines they overwrite).
template <typename T>
void fill_row(T* to, int64_t n, T value) {
  constexpr int64_t kPiece = 8192 / sizeof(T);
  if (n < kPiece) return static_cast<void>(std::fill_n(to, n, value));
  alignas(64) T piece[kPiece];
  std::fill_n(piece, kPiece, value);
  for (int64_t i = 0; i < n; i += kPiece) std::memcpy(to + i, piece, std::min(kPiece, n - i) * sizeof(T));
}

// Streamed writes are in order with what follows only after this.
void stream_end() {
#if defined(__SSE2__)
  _mm_sfence();
#endif
}

const StrideKernels& by_strides() {
  static const StrideKernels kernels = strides(best());
  return kernels;
}

constexpr int64_t kShortRow = 16;  // elements, for which no kernel is called

template <typename T>
void row(const T* in, int64_t in_stride, T* out, int64_t out_stride, int64_t n) {
  if (out_stride == 1 && in_stride == 1) std::memcpy(out, in, n * sizeof(T));
  else if (out_stride == 1 && in_stride == 0) fill_row(out, n, *in);
  else if (out_stride == 1 && steps_by_vectors(in_stride) && n >= kShortRow) by_strides().take(sizeof(T), in, in_stride, out, n);
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

// The common transposition, both sides dense: out[i * out0 + j] = in[i + j * in1]. Square blocks turn in registers; a tile of one output
// line a row is gathered in L1 and written whole, past the caches when the result is large.
template <typename T>
struct Block;  // kSide elements a side; turn(): reads rows j of the input, writes rows i of a tile

template <>
struct Block<uint8_t> {
  static constexpr int64_t kSide = 16;
  using V = uint8_t __attribute__((vector_size(16)));
  static void turn(const uint8_t* in, int64_t in1, uint8_t* out, int64_t out0) {
    V r[16], t[16];
    for (int k = 0; k < 16; ++k) std::memcpy(&r[k], in + k * in1, 16);
    // Four rounds of interleaving rows k and k + 8: each doubles the run of elements that belong together.
    V *from = r, *to = t;
    for (int round = 0; round < 4; ++round) {
      for (int k = 0; k < 8; ++k) {
        to[2 * k] = __builtin_shufflevector(from[k], from[k + 8], 0, 16, 1, 17, 2, 18, 3, 19, 4, 20, 5, 21, 6, 22, 7, 23);
        to[2 * k + 1] = __builtin_shufflevector(from[k], from[k + 8], 8, 24, 9, 25, 10, 26, 11, 27, 12, 28, 13, 29, 14, 30, 15, 31);
      }
      std::swap(from, to);
    }
    for (int k = 0; k < 16; ++k) std::memcpy(out + k * out0, &from[k], 16);
  }
};

template <>
struct Block<uint16_t> {
  static constexpr int64_t kSide = 8;
  using V = uint16_t __attribute__((vector_size(16)));
  static void turn(const uint16_t* in, int64_t in1, uint16_t* out, int64_t out0) {
    V r[8], t[8];
    for (int k = 0; k < 8; ++k) std::memcpy(&r[k], in + k * in1, 16);
    V *from = r, *to = t;
    for (int round = 0; round < 3; ++round) {
      for (int k = 0; k < 4; ++k) {
        to[2 * k] = __builtin_shufflevector(from[k], from[k + 4], 0, 8, 1, 9, 2, 10, 3, 11);
        to[2 * k + 1] = __builtin_shufflevector(from[k], from[k + 4], 4, 12, 5, 13, 6, 14, 7, 15);
      }
      std::swap(from, to);
    }
    for (int k = 0; k < 8; ++k) std::memcpy(out + k * out0, &from[k], 16);
  }
};

template <>
struct Block<uint32_t> {
  static constexpr int64_t kSide = 4;
  using V = uint32_t __attribute__((vector_size(16)));
  static void turn(const uint32_t* in, int64_t in1, uint32_t* out, int64_t out0) {
    V a, b, c, d;
    std::memcpy(&a, in, 16), std::memcpy(&b, in + in1, 16), std::memcpy(&c, in + 2 * in1, 16), std::memcpy(&d, in + 3 * in1, 16);
    const V ab0 = __builtin_shufflevector(a, b, 0, 4, 1, 5), ab1 = __builtin_shufflevector(a, b, 2, 6, 3, 7);
    const V cd0 = __builtin_shufflevector(c, d, 0, 4, 1, 5), cd1 = __builtin_shufflevector(c, d, 2, 6, 3, 7);
    const V o[4] = {__builtin_shufflevector(ab0, cd0, 0, 1, 4, 5), __builtin_shufflevector(ab0, cd0, 2, 3, 6, 7),
                    __builtin_shufflevector(ab1, cd1, 0, 1, 4, 5), __builtin_shufflevector(ab1, cd1, 2, 3, 6, 7)};
    for (int k = 0; k < 4; ++k) std::memcpy(out + k * out0, &o[k], 16);
  }
};

template <>
struct Block<uint64_t> {
  static constexpr int64_t kSide = 2;
  static void turn(const uint64_t* in, int64_t in1, uint64_t* out, int64_t out0) {
    const uint64_t a = in[0], b = in[1], c = in[in1], d = in[in1 + 1];
    out[0] = a, out[1] = c, out[out0] = b, out[out0 + 1] = d;
  }
};

// A square of a line each way, in blocks.
template <typename T>
void turn_line(const T* in, int64_t in1, T* out, int64_t out0) {
  constexpr int64_t kLine = 64 / sizeof(T), kSide = Block<T>::kSide;
  for (int64_t j = 0; j < kLine; j += kSide) {
    for (int64_t i = 0; i < kLine; i += kSide) Block<T>::turn(in + i + j * in1, in1, out + i * out0 + j, out0);
  }
}

#if defined(__x86_64__)
// Eight by eight, rows k and k + 4 in one register: half as many shuffles an element as four by four.
__attribute__((target("avx2"))) void turn_square_wide(const float* in, int64_t in1, float* out, int64_t out0) {
  for (int64_t j = 0; j < 16; j += 8) {
    for (int64_t i = 0; i < 16; i += 4) {
      const float* s = in + i + j * in1;
      float* t = out + i * out0 + j;
      __m256 r[4];
      for (int k = 0; k < 4; ++k)
        r[k] = _mm256_insertf128_ps(_mm256_castps128_ps256(_mm_loadu_ps(s + k * in1)), _mm_loadu_ps(s + (k + 4) * in1), 1);
      const __m256 low01 = _mm256_unpacklo_ps(r[0], r[1]), high01 = _mm256_unpackhi_ps(r[0], r[1]);
      const __m256 low23 = _mm256_unpacklo_ps(r[2], r[3]), high23 = _mm256_unpackhi_ps(r[2], r[3]);
      _mm256_storeu_ps(t, _mm256_shuffle_ps(low01, low23, 0x44));
      _mm256_storeu_ps(t + out0, _mm256_shuffle_ps(low01, low23, 0xEE));
      _mm256_storeu_ps(t + 2 * out0, _mm256_shuffle_ps(high01, high23, 0x44));
      _mm256_storeu_ps(t + 3 * out0, _mm256_shuffle_ps(high01, high23, 0xEE));
    }
  }
}
#endif

template <typename T>
void turn_any(const T* in, int64_t in1, T* out, int64_t out0) {
  if constexpr (std::is_same_v<T, uint32_t>)
    lathe::kernels::turn_square()(reinterpret_cast<const float*>(in), in1, reinterpret_cast<float*>(out), out0);
  else turn_line(in, in1, out, out0);
}

template <typename T>
void transpose(const T* in, int64_t in1, T* out, int64_t out0, int64_t n0, int64_t n1, bool stream) {
  constexpr int64_t kLine = 64 / sizeof(T);
  constexpr auto turn = turn_any<T>;
  constexpr int64_t kSide = Block<T>::kSide;
  // Channels side by side, apart: a piece of the input stays in L1 until each of them has been taken out of it.
  if (steps_by_vectors(in1) && n1 >= kShortRow) {
    constexpr int64_t kPiece = 4096 / sizeof(T);
    for (int64_t j = 0; j < n1; j += kPiece) {
      for (int64_t i = 0; i < n0; ++i) by_strides().take(sizeof(T), in + i + j * in1, in1, out + i * out0 + j, std::min(kPiece, n1 - j));
    }
    return;
  }
  if (n1 >= 2 && n1 <= kMostApart && out0 == n1 && n0 >= kShortRow) return by_strides().weave(sizeof(T), in, in1, n1, out, n0);
  if ((n0 < kLine || n1 < kLine) && n0 >= kSide && n1 >= kSide) {  // few channels: block by block
    for (int64_t jj = 0; jj < n1; jj += kSide) {
      const int64_t j = std::min(jj, n1 - kSide);
      for (int64_t ii = 0; ii < n0; ii += kSide) {
        const int64_t i = std::min(ii, n0 - kSide);
        Block<T>::turn(in + i + j * in1, in1, out + i * out0 + j, out0);
      }
    }
    return;
  }
  if (n0 < kLine || n1 < kLine) {
    for (int64_t i = 0; i < n0; ++i) {
      for (int64_t j = 0; j < n1; ++j) out[i * out0 + j] = in[i + j * in1];
    }
    return;
  }
  // The last squares lie over those before.
  if (!stream) {
    // In the caches: along the rows of the output, whose lines are all used while they are near.
    for (int64_t ii = 0; ii < n0; ii += kLine) {
      const int64_t i = std::min(ii, n0 - kLine);
      for (int64_t jj = 0; jj < n1; jj += kLine) {
        const int64_t j = std::min(jj, n1 - kLine);
        turn(in + i + j * in1, in1, out + i * out0 + j, out0);
      }
    }
    return;
  }
  if (reinterpret_cast<uintptr_t>(out) % 64 == 0 && out0 % kLine == 0) {
    // Reads run along a few input rows at a time: few enough for the hardware to follow them.
    alignas(64) T square[kLine * kLine];
    for (int64_t jj = 0; jj < n1; jj += kLine) {
      const int64_t j = std::min(jj, n1 - kLine);
      for (int64_t ii = 0; ii < n0; ii += kLine) {
        const int64_t i = std::min(ii, n0 - kLine);
        const T* s = in + i + j * in1;
        T* t = out + i * out0 + j;
        if (j != jj) {
          turn(s, in1, t, out0);
          continue;
        }
        turn(s, in1, square, kLine);
        for (int64_t k = 0; k < kLine; ++k) stream_copy(t + k * out0, square + k * kLine, 64);
      }
    }
    return;
  }
  constexpr int64_t kPiece = 16 * kLine;
  alignas(64) T rows[kLine * kPiece];
  if (out0 == n1 && n1 <= kPiece) {  // rows behind one another: a few of them are one long run
    for (int64_t ii = 0; ii < n0; ii += kLine) {
      const int64_t i = std::min(ii, n0 - kLine);
      for (int64_t jj = 0; jj < n1; jj += kLine) {
        const int64_t j = std::min(jj, n1 - kLine);
        turn(in + i + j * in1, in1, rows + j, n1);
      }
      stream_copy(out + i * n1, rows, kLine * n1 * static_cast<int64_t>(sizeof(T)));
    }
    return;
  }
  // Rows that begin anywhere in a line: pieces long enough that the lines at their ends are few.
  for (int64_t from = 0; from < n1; from += kPiece) {
    const int64_t width = std::min(kPiece, n1 - from), whole = std::max(width, kLine), first = from + width - whole;
    for (int64_t ii = 0; ii < n0; ii += kLine) {
      const int64_t i = std::min(ii, n0 - kLine);
      for (int64_t jj = 0; jj < whole; jj += kLine) {
        const int64_t j = std::min(jj, whole - kLine);
        turn(in + i + (first + j) * in1, in1, rows + j, kPiece);
      }
      for (int64_t k = 0; k < kLine; ++k)
        stream_copy(out + (i + k) * out0 + first, rows + k * kPiece, whole * static_cast<int64_t>(sizeof(T)));
    }
  }
}

// Many short runs: a call for each would take longer than what it copies. `Piece` bytes from both ends of a run meet or overlap.
template <size_t Piece>
void two_pieces(const char* in, int64_t in0, char* out, int64_t out0, int64_t rows, size_t bytes) {
  const size_t second = bytes - Piece;
  for (int64_t i = 0; i < rows; ++i, in += in0, out += out0) {
    char a[Piece], b[Piece];
    std::memcpy(a, in, Piece), std::memcpy(b, in + second, Piece);
    std::memcpy(out, a, Piece), std::memcpy(out + second, b, Piece);
  }
}
// False: they are not so short, or too short.
template <typename T>
bool short_runs(const T* in, int64_t in0, T* out, int64_t out0, int64_t rows, int64_t n) {
  const size_t bytes = static_cast<size_t>(n) * sizeof(T);
  const auto* from = reinterpret_cast<const char*>(in);
  auto* to = reinterpret_cast<char*>(out);
  const int64_t step = in0 * static_cast<int64_t>(sizeof(T)), next = out0 * static_cast<int64_t>(sizeof(T));
  if (bytes < 8 || bytes > 64) return false;
  if (bytes <= 16) two_pieces<8>(from, step, to, next, rows, bytes);
  else if (bytes <= 32) two_pieces<16>(from, step, to, next, rows, bytes);
  else two_pieces<32>(from, step, to, next, rows, bytes);
  return true;
}

template <typename T>
void nest(const CopyPlan& p, size_t dim, const T* in, T* out, int64_t begin, int64_t end) {
  const size_t left = p.shape.size() - dim;
  if (left == 1)
    return row(in + begin * p.in_strides[dim], p.in_strides[dim], out + begin * p.out_strides[dim], p.out_strides[dim], end - begin);
  const bool across = left == 2 && p.in_strides[dim] == 1 && p.in_strides[dim + 1] != 1 && p.in_strides[dim + 1] != 0;
  if (across) {
    if (p.out_strides[dim + 1] == 1 && p.in_strides[dim + 1] > 0)
      return transpose(in + begin, p.in_strides[dim + 1], out + begin * p.out_strides[dim], p.out_strides[dim], end - begin,
                       p.shape[dim + 1], p.stream);
    return plane(in + begin * p.in_strides[dim], p.in_strides[dim], p.in_strides[dim + 1], out + begin * p.out_strides[dim],
                 p.out_strides[dim], p.out_strides[dim + 1], end - begin, p.shape[dim + 1]);
  }
  if (left == 2 && p.in_strides[dim + 1] == 1 && p.out_strides[dim + 1] == 1 &&
      short_runs(in + begin * p.in_strides[dim], p.in_strides[dim], out + begin * p.out_strides[dim], p.out_strides[dim], end - begin,
                 p.shape[dim + 1]))
    return;
  // Runs that change places (heads of attention): blocks of the middle dim, so that a few places of the input are read on from
  // while writes stay together.
  if (left == 3 && p.in_strides[dim + 2] == 1 && p.out_strides[dim + 2] == 1 && p.in_strides[dim] > 0 &&
      p.in_strides[dim] < p.in_strides[dim + 1]) {
    constexpr int64_t kBlock = 16;
    const size_t bytes = static_cast<size_t>(p.shape[dim + 2]) * sizeof(T);
    for (int64_t j0 = 0; j0 < p.shape[dim + 1]; j0 += kBlock) {
      const int64_t j1 = std::min(p.shape[dim + 1], j0 + kBlock);
      for (int64_t i = begin; i < end; ++i) {
        for (int64_t j = j0; j < j1; ++j)
          std::memcpy(out + i * p.out_strides[dim] + j * p.out_strides[dim + 1], in + i * p.in_strides[dim] + j * p.in_strides[dim + 1],
                      bytes);
      }
    }
    return;
  }
  for (int64_t i = begin; i < end; ++i) nest(p, dim + 1, in + i * p.in_strides[dim], out + i * p.out_strides[dim], 0, p.shape[dim + 1]);
}

}  // namespace

TurnSquare turn_square() {
#if defined(__x86_64__)
  static const bool wide = best() >= Isa::avx2;
  if (wide) return turn_square_wide;
#endif
  return [](const float* in, int64_t in1, float* out, int64_t out0) {
    turn_line(reinterpret_cast<const uint32_t*>(in), in1, reinterpret_cast<uint32_t*>(out), out0);
  };
}

void run_copy(const CopyPlan& p, const void* in, void* out, int64_t begin, int64_t end) {
  switch (p.element_bytes) {
    case 1: nest(p, 0, static_cast<const uint8_t*>(in), static_cast<uint8_t*>(out), begin, end); break;
    case 2: nest(p, 0, static_cast<const uint16_t*>(in), static_cast<uint16_t*>(out), begin, end); break;
    case 4: nest(p, 0, static_cast<const uint32_t*>(in), static_cast<uint32_t*>(out), begin, end); break;
    default: nest(p, 0, static_cast<const uint64_t*>(in), static_cast<uint64_t*>(out), begin, end);
  }
  if (p.stream) stream_end();
}

IndexedCopy plan_indexed(int element_bytes, std::vector<int64_t> in_shape, std::vector<std::vector<int64_t>> tables, uint64_t fill) {
  IndexedCopy p;
  p.element_bytes = element_bytes;
  p.in_shape = std::move(in_shape);
  p.tables = std::move(tables);
  p.fill = fill;
  p.rows = 1;
  for (size_t a = 0; a < p.tables.size(); ++a) {
    p.out_shape.push_back(static_cast<int64_t>(p.tables[a].size()));
    if (a + 1 < p.tables.size()) p.rows *= p.out_shape.back();
  }
  const auto& inner = p.tables.back();
  const int64_t n = static_cast<int64_t>(inner.size());
  for (int64_t i = 0; i < n;) {
    int64_t same = i + 1, next = i + 1;
    while (same < n && inner[same] == inner[i]) ++same;
    while (next < n && inner[i] >= 0 && inner[next] == inner[i] + next - i) ++next;
    const int64_t end = std::max(same, next);
    p.runs.push_back({i, inner[i], end - i, inner[i] >= 0 && next > same ? 1 : 0});
    i = end;
  }
  // Every element a few times over: nearest neighbours at a whole scale.
  for (const int64_t times : {2, 3, 4}) {
    bool all = n > 0 && n % times == 0;
    for (int64_t i = 0; i < n && all; ++i) all = inner[i] == i / times;
    if (all) p.repeat = times;
  }
  // Short runs are dearer than a table.
  if (static_cast<int64_t>(p.runs.size()) * 8 > n && n > 16) p.runs.clear();
  return p;
}

namespace {

template <int64_t kTimes, typename T>
void repeat_by(const T* from, T* to, int64_t width) {
  for (int64_t i = 0; i < width / kTimes; ++i) {
    for (int64_t k = 0; k < kTimes; ++k) to[i * kTimes + k] = from[i];
  }
}

template <typename T>
void repeat_row(const T* from, T* to, int64_t width, int64_t times) {
  times == 2 ? repeat_by<2>(from, to, width) : times == 3 ? repeat_by<3>(from, to, width) : repeat_by<4>(from, to, width);
}

template <typename T>
void indexed(const IndexedCopy& p, const T* in, T* out, int64_t begin, int64_t end) {
  const size_t outer = p.tables.size() - 1;
  const int64_t width = p.out_shape.back();
  const auto& inner = p.tables.back();
  const T fill = static_cast<T>(p.fill);
  constexpr int64_t kMost = 16384 / sizeof(T);
  alignas(64) T line[kMost];
  // Through a line in L1 when it is put together element by element: the result is then one long copy, and serves rows that come again.
  const bool buffered = (p.repeat > 0 || p.runs.empty()) && width <= kMost;
  int64_t last = -2;
  for (int64_t r = begin; r < end; ++r) {
    int64_t at = 0, rest = r, stride = p.in_shape.back();
    for (size_t a = outer; a-- > 0 && at >= 0;) {
      const int64_t i = p.tables[a][rest % p.out_shape[a]];
      rest /= p.out_shape[a];
      at = i < 0 ? -1 : at + i * stride;
      stride *= p.in_shape[a];
    }
    T* row = out + r * width;
    if (at < 0) {
      fill_row(row, width, fill);
      last = -2;
      continue;
    }
    T* to = buffered ? line : row;
    if (!(buffered && at == last)) {  // a row that comes again is still in the line
      const T* from = in + at;
      if (p.repeat > 0) {
        repeat_row(from, to, width, p.repeat);
      } else if (p.runs.empty()) {
        for (int64_t i = 0; i < width; ++i) to[i] = inner[i] < 0 ? fill : from[inner[i]];
      } else {
        for (const auto& run : p.runs) {
          if (run.step == 1) std::memcpy(to + run.to, from + run.at, run.length * sizeof(T));
          else std::fill_n(to + run.to, run.length, run.at < 0 ? fill : from[run.at]);
        }
      }
    }
    last = at;
    if (buffered) std::memcpy(row, line, width * sizeof(T));
  }
}

}  // namespace

void run_indexed(const IndexedCopy& p, const void* in, void* out, int64_t begin, int64_t end) {
  switch (p.element_bytes) {
    case 1: return indexed(p, static_cast<const uint8_t*>(in), static_cast<uint8_t*>(out), begin, end);
    case 2: return indexed(p, static_cast<const uint16_t*>(in), static_cast<uint16_t*>(out), begin, end);
    case 4: return indexed(p, static_cast<const uint32_t*>(in), static_cast<uint32_t*>(out), begin, end);
    default: return indexed(p, static_cast<const uint64_t*>(in), static_cast<uint64_t*>(out), begin, end);
  }
}

}  // namespace lathe::kernels
