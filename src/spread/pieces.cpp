#include "spread/pieces.hpp"

#include <algorithm>

namespace lathe::spread {
namespace {

// So many pieces a rank at the least while much is left: the longest piece is what all may have to wait for at the end.
constexpr size_t kShare = 6;
// No piece is shorter than such a part of a rank's even share: each costs a beginning.
constexpr size_t kLeast = 64;
// A piece is late when it takes so many times as long as others, and so many seconds longer.
constexpr double kLate = 3, kLateSeconds = 0.5;

}  // namespace

Pieces::Pieces(size_t items, size_t multiple, int ranks, const std::vector<Piece>& done)
    : items_(items), multiple_(std::max<size_t>(1, multiple)), left_(items), ranks_(ranks) {
  least_ = std::max(multiple_, items / (kLeast * static_cast<size_t>(ranks)) / multiple_ * multiple_);
  std::vector<Piece> sorted = done;
  std::ranges::sort(sorted);
  size_t at = 0;
  for (const Piece& p : sorted) {
    if (p.begin > at) pending_.push_back({at, p.begin});
    if (p.end > at) left_ -= p.end - std::max(at, p.begin), at = p.end;
  }
  if (at < items) pending_.push_back({at, items});
  std::ranges::reverse(pending_);
}

std::optional<Piece> Pieces::next(int rank, double now) {
  if (!pending_.empty()) {
    size_t waiting = 0;
    for (const Piece& p : pending_) waiting += p.end - p.begin;
    const size_t share = waiting / (kShare * static_cast<size_t>(ranks_)) / multiple_ * multiple_;
    Piece& gap = pending_.back();
    const Piece piece{gap.begin, std::min(gap.end, gap.begin + std::max(share, least_))};
    gap.begin = piece.end;
    if (gap.begin == gap.end) pending_.pop_back();
    out_[piece].push_back({rank, now});
    return piece;
  }
  // The one that is out the longest, of those that are late and that this rank has not. Of several attempts the last counts.
  if (answered_items_ == 0) return std::nullopt;
  const double each = seconds_ / static_cast<double>(answered_items_);
  const Piece* oldest = nullptr;
  double since = now;
  for (const auto& [piece, attempts] : out_) {
    const double last = attempts.back().since;
    const double expected = each * static_cast<double>(piece.end - piece.begin);
    if (last >= since || now - last <= kLate * expected + kLateSeconds) continue;
    if (std::ranges::any_of(attempts, [&](const Attempt& a) { return a.rank == rank; })) continue;
    oldest = &piece, since = last;
  }
  if (oldest == nullptr) return std::nullopt;
  again_ += static_cast<int64_t>(oldest->end - oldest->begin);
  out_[*oldest].push_back({rank, now});
  return *oldest;
}

bool Pieces::give(int rank, const Piece& piece, double now) {
  const auto answered = [&](double since) {
    seconds_ += now - since;
    answered_items_ += piece.end - piece.begin;
  };
  if (const auto owed = owed_.find({piece, rank}); owed != owed_.end()) {
    answered(owed->second);
    owed_.erase(owed);
    return false;
  }
  const auto it = out_.find(piece);
  if (it == out_.end()) return false;
  const auto own = std::ranges::find(it->second, rank, &Attempt::rank);
  if (own == it->second.end()) return false;
  answered(own->since);
  for (const Attempt& a : it->second) {
    if (a.rank != rank) owed_[{piece, a.rank}] = a.since;
  }
  out_.erase(it);
  left_ -= piece.end - piece.begin;
  return true;
}

std::vector<int> Pieces::silent() const {
  std::vector<int> ranks;
  const auto note = [&](int rank) {
    if (std::ranges::find(ranks, rank) == ranks.end()) ranks.push_back(rank);
  };
  for (const auto& [what, since] : owed_) note(what.second);
  for (const auto& [piece, attempts] : out_) {
    for (const Attempt& a : attempts) note(a.rank);
  }
  std::ranges::sort(ranks);
  return ranks;
}

}  // namespace lathe::spread
