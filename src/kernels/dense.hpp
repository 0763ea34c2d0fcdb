// The dense kernel: one micro-kernel family for matrix products and convolutions, fp32.
//
// C[m, n] = epilogue(sum over k of A[m, k] * B[k, n]). B is packed into panels of `panel_width` columns; A is read through
// row pointers: each row is `segments` runs of `run` contiguous floats (one run for a matrix, one a kernel tap for a
// channels-last convolution), so strides, dilation, padding and groups cost no copy.
#pragma once

#include <cstdint>

#include "kernels/narrow_panels.hpp"
#include "kernels/tape.hpp"

namespace lathe::kernels {

// Rows of a convolution: output pixel m = ((image * out_d + z) * out_h + y) * out_w + x, taps (kd, kh, kw).
// Offsets (in elements, from the image's start) of every output index and tap of an axis; -1 in the padding.
struct WindowShape {
  int64_t image_stride = 0;
  const int64_t *z = nullptr, *y = nullptr, *x = nullptr;
  int64_t out_d = 1, out_h = 1, out_w = 1;
  int64_t kd = 1, kh = 1, kw = 1;
};
template <typename T>
struct WindowRowsOf : WindowShape {
  const T* base = nullptr;   // first channel of the group
  const T* zeros = nullptr;  // what stands in the padding: at least one run
};
using WindowRows = WindowRowsOf<float>;

// Where the runs of `rows` output pixels from `first` on start, for taps [tap, tap + taps), `offset` elements into each:
// out[tap * rows + row].
template <typename T>
void point_rows(const WindowRowsOf<T>& w, int64_t first, int rows, int64_t tap, int64_t taps, int64_t offset, const T** out) {
  const int64_t plane = w.out_h * w.out_w, volume = plane * w.out_d;
  // Divided once, counted on from there: divisions would cost more than the arithmetic of a small tile.
  int64_t image = first / volume, oz = first % volume / plane, oy = first % plane / w.out_w, ox = first % w.out_w;
  const int64_t kz0 = tap / (w.kh * w.kw), ky0 = tap / w.kw % w.kh, kx0 = tap % w.kw;
  for (int r = 0; r < rows; ++r) {
    const int64_t *z = w.z + oz * w.kd, *y = w.y + oy * w.kh, *x = w.x + ox * w.kw;
    const T* base = w.base + image * w.image_stride + offset;
    int64_t kz = kz0, ky = ky0, kx = kx0;
    for (int64_t t = 0; t < taps; ++t) {
      // Each offset is -1 or >= 0: the sign bit of the or tells whether any lies in the padding.
      const bool inside = (z[kz] | y[ky] | x[kx]) >= 0;
      out[t * rows + r] = inside ? base + z[kz] + y[ky] + x[kx] : w.zeros;
      if (++kx == w.kw) {
        kx = 0;
        if (++ky == w.kh) ky = 0, ++kz;
      }
    }
    if (++ox == w.out_w) {
      ox = 0;
      if (++oy == w.out_h) {
        oy = 0;
        if (++oz == w.out_d) oz = 0, ++image;
      }
    }
  }
}

struct DenseEpilogue {
  const float* factor = nullptr;    // of the sums, one a column: of dense() and winograd_output() alone
  const float* bias = nullptr;      // one a column
  const float* residual = nullptr;  // added after the bias; same rows and columns as C
  int64_t residual_stride = 0;
  bool clamp = false;  // to [low, high], after the residual; NaN stays
  float low = 0, high = 0;
  // A tape over the finished rows: operand 0 is C itself; the others are described here. Applied last.
  const Tape* tape = nullptr;
  const TapeOperand* operands = nullptr;  // [tape->inputs - 1], at row 0, column 0
  const int64_t* row_strides = nullptr;   // elements to the next row, for each of them
};

// The tape of an epilogue over `columns` of one finished row, from `column` on; `c` is where they stand.
inline void tape_over_row(const DenseEpilogue& e, RunTape run, float* c, int64_t row, int64_t column, int64_t columns) {
  TapeOperand operands[kMaxSlots];
  operands[0] = {c, 1, TapeType::f32};
  for (int i = 1; i < e.tape->inputs; ++i) {
    const TapeOperand& o = e.operands[i - 1];
    const int64_t at = row * e.row_strides[i - 1] + column * o.stride;
    operands[i] = {static_cast<const char*>(o.data) + at * bytes_of(o.type), o.stride, o.type};
  }
  run(*e.tape, operands, c, TapeType::f32, columns);
}

// The same over `rows` finished rows, `ldc` apart; short ones several at a time.
void tape_over_rows(const DenseEpilogue& e, RunTape run, float* c, int64_t ldc, int64_t row, int64_t rows, int64_t column, int64_t columns);

// Elements of a packed B; arithmetic is in f32 whatever they are. Quantised ones are described by themselves (NarrowPanels).
enum class PanelType { f32, f16, bf16, quantised };

// Of B from memory: with twelve kilobytes a row ran at three quarters of the speed, without any at five sixths.
inline constexpr int64_t kFetchAhead = 2048;

// Preconditions: A, C and the operands of the epilogue need no alignment; B is packed as pack_panels does it, aligned to 64 bytes, and the
// 64 bytes behind its last panel may be read (they are fetched, or lie in the same allocation). C overlaps neither A nor B; a residual may
// be C itself only when K is done in one go (k_block >= K). 0 <= row_begin <= row_end, 0 <= panel_begin <= panel_end; k_block and
// panel_block >= 1. Rows of A are read to their last float and not past it; columns of C past `columns` are not touched. Tiles of one or
// two rows add in another order than taller ones: who splits rows among tasks gives each at least three, unless all_rows is fewer.
struct DenseArguments {
  // A: either rows at `a` with stride `lda` (segments 1), or a window.
  const float* a = nullptr;
  int64_t lda = 0;
  const WindowRows* window = nullptr;
  int64_t segments = 1, run = 0;  // K = segments * run
  // A window without padding whose runs stand at even distances, floats from one output pixel of a line to the next and from one segment to
  // the next: rows are read where they are, nothing is copied. 0: not so. For few channels; K as a whole is done in one go.
  int64_t pixel_stride = 0, segment_stride = 0;
  int64_t row_begin = 0, row_end = 0;
  int64_t all_rows = 0;  // of the product of which these are a part; 0: not known. What decides on the order of sums looks here
  int64_t panel_begin = 0, panel_end = 0;
  int64_t columns = 0;      // of C in all; the last panel may be ragged
  const void* b = nullptr;  // packed
  PanelType b_type = PanelType::f32;
  bool from_memory = false;      // B is small enough for L2, but so much else is read between two calls that it does not stay there
  const void* next_b = nullptr;  // what the caller multiplies by after this, of as many panels: fetched meanwhile; or null
  float* c = nullptr;
  int64_t ldc = 0;
  DenseEpilogue epilogue;
  int64_t k_block = 256;              // recipe: largest K done in one go
  int64_t panel_block = 8;            // recipe: panels kept in L2 while rows pass
  int64_t tile_rows = 0;              // recipe: rows of a register tile, at most, 5 or more; 0: as many as registers hold
  int64_t fetch_ahead = kFetchAhead;  // recipe: bytes ahead of where it is that a tile asks for what comes of its own panel
  // Room for kPackedTiles tiles of rows (packed_rows() floats, aligned to 64 bytes), or null. With it, and more than one block of panels,
  // so many tiles of A are copied side by side once for each part of K and stay in L2 while all panels pass, a few at a time; without it a
  // tile is copied again for each block of panels.
  float* packed_rows = nullptr;
  // Room for min(k_block, K) rows of max(panel_block, kPassingPanels) panels as floats, aligned to 64 bytes, or null. With it, and tiles
  // enough to pass over them, 16-bit panels become floats once for each part of K and not again in each tile; sums are the same.
  float* widened = nullptr;
  const NarrowPanels* quantised = nullptr;  // B, where b_type says so; `b` is where its numbers stand. They need the room.
  WidenPanel widen = nullptr;
  // Room for dense_by_tiles (kernels/dense_tiles.hpp), aligned to 64 bytes, or null: it is not asked.
  void* tile_room = nullptr;
  bool rows_like_b = false;  // for it: what A's numbers are beyond the type of B's elements does not count
};

// Panels of a B that comes from memory in a block, at most: more would leave memory idle while the last tiles work on what is there.
inline constexpr int64_t kFarPanels = 4;
inline constexpr int64_t kPackedTiles = 12;
// Panels that pass over packed tiles together: with them and the tiles L2 is not full.
inline constexpr int64_t kPassingPanels = 3;
int64_t packed_rows(Isa isa);

// Rows this far apart (floats) and no longer are read where they are; others are copied so, tile by tile.
inline constexpr int64_t kNearStride = 640 + 16;

// Applies rows [row_begin, row_end) x panels [panel_begin, panel_end). No allocation.
using Dense = void (*)(const DenseArguments&);
Dense dense(Isa isa);
int64_t panel_width(Isa isa);
int max_rows(Isa isa);

// Floats in a packed B of K x N.
int64_t packed_size(int64_t k, int64_t n, int64_t panel_width);
// Packs K x N, element (k, n) at b[k * k_stride + n * n_stride], panels [begin, end). Columns past n are zeros.
void pack_panels(const float* b, int64_t k_stride, int64_t n_stride, int64_t k, int64_t n, int64_t panel_width, float* out, int64_t begin,
                 int64_t end);
// The same for 16-bit elements.
void pack_panels(const uint16_t* b, int64_t k_stride, int64_t n_stride, int64_t k, int64_t n, int64_t panel_width, uint16_t* out,
                 int64_t begin, int64_t end);
// The inverse, for the whole matrix.
void unpack_panels(const float* packed, int64_t k, int64_t n, int64_t panel_width, float* b, int64_t k_stride, int64_t n_stride);
void unpack_panels(const uint16_t* packed, int64_t k, int64_t n, int64_t panel_width, uint16_t* b, int64_t k_stride, int64_t n_stride);

}  // namespace lathe::kernels
