// The cost model: seconds from work and rates, and the splits that follow from them.
#pragma once

#include <cstdint>

#include "kernels/dense_tiles.hpp"
#include "lower/recipe/machine.hpp"

namespace lathe::lower {

struct Work {
  double flops = 0, bytes = 0;
};
// On one thread: the longer of computing and of moving what does not stay near.
double seconds(const Rates& rates, const Work& work);
// Whether a step is long enough to be shared out: what is over in a microsecond or two is done before another thread has begun.
bool worth_sharing(const Rates& rates, double flops);
// The same for what may be bound by reading what lies near.
bool worth_sharing(const Rates& rates, const Work& work);
// Elementwise nodes before a product, done on the rows that it reads: the memory saved against a call for each row.
bool row_calls_pay(const Rates& rates, int64_t rows, int64_t length);
// A step that is long enough for a fork and a join, and not so long that its own split would serve better.
bool small_enough_to_join(const Rates& rates, const Work& work);

// Of K, how much a product does in one go: a tile's rows of A stay in L1. What the knob 'k_block' is untuned.
inline constexpr int64_t kDepthBlock = 576;
// Tasks with room for packed rows, at most.
inline constexpr int64_t kMostPacked = 64;

// How rows x panels are shared out: a grid of tasks.
struct Split {
  int64_t row_tasks = 1, panel_tasks = 1;
  int64_t count() const { return row_tasks * panel_tasks; }
};
// Whether tasks of so many rows keep the order of sums that one task has: tiles of one or two rows add in several chains.
bool keeps_order(int64_t rows, int64_t row_tasks, int64_t tile_rows);
// A product of rows x (panels * width) x depth with register tiles of tile_rows, for `threads` of the machine's.
Split split_work(const Machine& machine, int threads, int64_t rows, int64_t panels, int64_t width, int64_t depth, int tile_rows);
// Panels of an L2 block, when one is `width` columns of `depth` numbers of four bytes.
int64_t panels_of_block(const Machine& machine, int64_t depth, int64_t width);
// Whether tiles of rows are copied once for each part of K while all panels pass over them (DenseArguments::packed_rows): where they would
// be copied again for each of several blocks of panels. `split` is by rows then, where there are enough; of weights that come from memory
// (`far`) it stays, so that they are read once.
bool packs_rows(const Machine& machine, int threads, int64_t rows, int64_t panels, int64_t block, bool far, int tile_rows, Split& split);

// Tiles have to save so much.
inline constexpr double kTilesPay = 0.85;
// A product by tiles of bf16 (kernels/dense_tiles.hpp).
struct TileWork {
  kernels::TileForm form;
  int64_t rows = 0, columns = 0, depth = 0;
  int64_t run = 0;   // of a row's numbers, how many are parted together
  int64_t line = 0;  // as many rows share tiles; 0: all
  int64_t uses = 1;  // along the depth, of a number that is parted once
};
// How much longer it takes than by vectors, parting both operands counted; infinite where there are no tiles.
double tiles_against_vectors(kernels::Isa isa, const TileWork& work);

}  // namespace lathe::lower
