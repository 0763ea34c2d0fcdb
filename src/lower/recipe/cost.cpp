#include "lower/recipe/cost.hpp"

#include <algorithm>
#include <limits>

#include "kernels/dense_tiles.hpp"

namespace lathe::lower {

double seconds(const Rates& rates, const Work& work) { return std::max(work.flops / rates.flops, work.bytes / rates.far_bandwidth); }

bool worth_sharing(const Rates& rates, double flops) { return flops / rates.flops >= 2 * rates.fork; }
bool worth_sharing(const Rates& rates, const Work& work) {
  return worth_sharing(rates, work.flops) || work.bytes / rates.near_bandwidth >= 2 * rates.fork;
}

bool row_calls_pay(const Rates& rates, int64_t rows, int64_t length) {
  constexpr double kNear = 1e6;  // bytes that stay in L2 between two steps
  const double bytes = 4.0 * static_cast<double>(rows * length);
  return 2 * bytes / (bytes > kNear ? rates.far_bandwidth : rates.near_bandwidth) > rates.call * static_cast<double>(rows);
}

bool small_enough_to_join(const Rates& rates, const Work& work) {
  const double t = seconds(rates, work);
  return t >= 0.75 * rates.fork && t <= 10 * rates.fork;
}

bool keeps_order(int64_t rows, int64_t row_tasks, int64_t tile_rows) {
  constexpr int64_t kLeast = 3;
  const auto lowest_tile = [&](int64_t n) { return n / std::max<int64_t>(1, (n + tile_rows - 1) / tile_rows); };
  return row_tasks == 1 || std::min(lowest_tile(rows / row_tasks), lowest_tile((rows + row_tasks - 1) / row_tasks)) >= kLeast;
}

Split split_work(const Machine& machine, int threads, int64_t rows, int64_t panels, int64_t width, int64_t depth, int tile_rows) {
  Split s;
  // A few rows take as long as B takes to be read.
  const double numbers = static_cast<double>(panels * width) * static_cast<double>(depth);
  if (threads <= 1 || !worth_sharing(machine.rates, Work{2 * static_cast<double>(rows) * numbers, 4 * numbers})) return s;
  const int64_t tiles = (rows + tile_rows - 1) / tile_rows;
  // Several tasks a thread even out a core that is slower for a while; each should have some tiles, or some panels, to itself.
  const int64_t by_rows = std::clamp<int64_t>(tiles / 4, std::min<int64_t>(tiles, threads), threads * 4),
                by_panels = std::clamp<int64_t>(panels / 2, std::min<int64_t>(panels, threads), threads * 4);
  // A task of rows reads all of B, a task of panels all of A. A B that stays in L2 costs nothing to read again.
  const bool small_b = panels * width * depth * 4 <= machine.block_bytes;
  const int64_t rows_cost = small_b ? 0 : panels * width * by_rows, panels_cost = rows * by_panels;
  const auto even = [&](int64_t n) { return n >= threads ? n - n % threads : n; };
  const bool enough_rows = by_rows >= threads, enough_panels = by_panels >= threads;
  // How much longer the busiest thread works than all would on average: three panels for one, two for the other.
  const auto uneven = [&](int64_t n) { return static_cast<double>((n + threads - 1) / threads * threads) / static_cast<double>(n); };
  const bool rows_are_even = enough_rows && uneven(panels) > 1.1 * uneven(tiles);
  // Each task of panels copies all rows side by side, unless they are few: it has to have panels enough for that to be little.
  constexpr int64_t kReadInPlace = 8, kPanelsACopy = 32;
  const auto fewer = std::clamp<int64_t>(panels / kPanelsACopy, threads, threads * 4);
  if (enough_rows && (!enough_panels || rows_cost < panels_cost || rows_are_even)) s.row_tasks = even(by_rows);
  else if (enough_panels) s.panel_tasks = even(rows > kReadInPlace ? std::min(fewer, by_panels) : by_panels);
  else s.row_tasks = by_rows, s.panel_tasks = by_panels;
  while (!keeps_order(rows, s.row_tasks, tile_rows)) --s.row_tasks;
  return s;
}

int64_t panels_of_block(const Machine& machine, int64_t depth, int64_t width) {
  return std::max<int64_t>(1, machine.block_bytes / std::max<int64_t>(1, depth * width * 4));
}

bool packs_rows(const Machine& machine, int threads, int64_t rows, int64_t panels, int64_t block, bool far, int tile_rows, Split& split) {
  if (far) return rows > tile_rows && panels / split.panel_tasks > std::min(block, kernels::kFarPanels);
  if (panels <= block || rows < 2 * tile_rows) return false;
  if (split.count() > 1) {
    // By rows then: no two tasks copy the same ones.
    Split by_rows;
    by_rows.row_tasks = std::clamp<int64_t>(rows / (kernels::kPackedTiles * tile_rows), threads, machine.threads * 4);
    by_rows.row_tasks -= by_rows.row_tasks % threads;
    if (rows / by_rows.row_tasks >= 4 * tile_rows && keeps_order(rows, by_rows.row_tasks, tile_rows)) split = by_rows;
  }
  return panels / split.panel_tasks > block;
}

double tiles_against_vectors(kernels::Isa isa, const TileWork& w) {
  constexpr int64_t kFewColumns = 4;  // vectors along K do them
  if (isa != kernels::Isa::amx || w.rows < 1 || w.columns <= kFewColumns || w.depth < 1) return std::numeric_limits<double>::infinity();
  // Cycles of 32 x 32 x 32 multiply-adds: by vectors; by tiles; of parting either operand (bench/narrow.cpp, profiles of its networks by
  // both instruction sets).
  struct Cycles {
    double tile, part_rows, part_panel;
  };
  constexpr double kVectors = 1200, kCall = 48;
  constexpr double kTile[] = {0, 130, 0, 400, 0, 700, 850}, kPartRows[] = {0, 160, 300, 450}, kPartPanel[] = {0, 120, 350, 500};
  const Cycles c{kTile[w.form.products()], kPartRows[w.form.a_parts()], kPartPanel[w.form.b_parts()]};
  const auto whole = [](int64_t n, int64_t step) { return static_cast<double>((n + step - 1) / step * step) / static_cast<double>(n); };
  const int64_t line = w.line == 0 ? w.rows : w.line;
  const double row_tiles = static_cast<double>(w.rows + 31) / 32, panels = static_cast<double>((w.columns + 31) / 32);
  const double part_rows = c.part_rows * (1 + kCall / static_cast<double>(w.run)) / panels / static_cast<double>(w.uses);
  // Lines shorter than two tiles load B for fewer rows.
  return (c.tile + part_rows + c.part_panel / std::clamp(row_tiles, 1.0, 12.0)) * whole(line, line < 32 ? 32 : 16) * whole(w.depth, 32) /
         kVectors;
}

}  // namespace lathe::lower
