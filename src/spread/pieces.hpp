// Who does which items next. No processes here.
#pragma once

#include <cstddef>
#include <cstdint>
#include <map>
#include <optional>
#include <utility>
#include <vector>

namespace lathe::spread {

struct Piece {
  size_t begin = 0, end = 0;
  auto operator<=>(const Piece&) const = default;
};

// Pieces get shorter as less is left, so that all ranks end together; one that is out for much longer than pieces take is given to another
// rank too, and whoever is first counts.
class Pieces {
 public:
  // `done`: what need not be done any more.
  Pieces(size_t items, size_t multiple, int ranks, const std::vector<Piece>& done = {});
  // For a rank that is free; nothing: it should ask again later, or all is done.
  std::optional<Piece> next(int rank, double now);
  // Whether it counts: nobody gave it before.
  bool give(int rank, const Piece& piece, double now);
  bool all_done() const { return left_ == 0; }
  size_t items_done() const { return items_ - left_; }
  int64_t again() const { return again_; }
  // Ranks that still have something which others did.
  std::vector<int> silent() const;

 private:
  // A piece that nobody has given back yet: who has it since when, the first one first.
  struct Attempt {
    int rank;
    double since;
  };
  std::vector<Piece> pending_;  // gaps, from the back
  std::map<Piece, std::vector<Attempt>> out_;
  std::map<std::pair<Piece, int>, double> owed_;  // done by others; since when a rank has it
  size_t items_, multiple_, least_, left_;
  int ranks_;
  int64_t again_ = 0;
  double seconds_ = 0;  // that answered pieces took
  size_t answered_items_ = 0;
};

}  // namespace lathe::spread
