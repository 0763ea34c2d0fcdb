// How the cost of work that is shared out grows with the number of ranks, by simulation: the pieces are those that share_out gives out, the
// times are drawn. Usage: ranks [--items N] [--item SECONDS] [--spread SIGMA] [--load SECONDS] [--bytes N] [--storage BYTES/S] [--message
// SECONDS] [--answer BYTES] [--network BYTES/S] [--lost N] [--csv FILE]
#include <fmt/format.h>

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <queue>
#include <random>

#include "spread/pieces.hpp"
#include "timing.hpp"

using namespace lathe;
using spread::Piece;
using spread::Pieces;

namespace {

struct World {
  int64_t items = 1000000;
  double item = 0.004, spread = 0.3;     // seconds of one item on one rank, reading and decoding included; sigma of its logarithm
  double load = 0.5;                     // until a rank has its program
  double bytes = 100e3, storage = 2e9;   // read for an item; a second, from storage that all ranks share
  double message = 50e-6;                // on its way
  double answer = 150, network = 1e9;    // bytes of an item's answer; a second into rank 0
  double handled = 5e-6, poll = 0.5e-3;  // rank 0's time for a message beside the pieces; how long it may not look
  int lost = 0;                          // ranks that die in the middle
};

struct Outcome {
  double seconds = 0, master = 0;  // in all; of these rank 0 was busy with messages
  int64_t again = 0;
};

// The next thing that reaches rank 0: a rank asks, or gives back what it had.
struct Event {
  double at;
  int rank;
  bool gives;
  Piece piece;
  bool operator<(const Event& o) const { return at > o.at; }
};

Outcome simulate(const World& w, int ranks, uint64_t seed) {
  std::mt19937_64 random(seed);
  std::normal_distribution<double> normal(0, 1);
  Pieces pieces(static_cast<size_t>(w.items), 1, ranks);
  std::priority_queue<Event> events;
  std::vector<double> dies(static_cast<size_t>(ranks), INFINITY);
  const double alone = static_cast<double>(w.items) * w.item / ranks;
  for (int r = 0; r < std::min(w.lost, ranks - 1); ++r) dies[static_cast<size_t>(ranks - 1 - r)] = w.load + alone * 0.5;
  for (int r = 0; r < ranks; ++r) events.push({w.load * std::exp(0.1 * normal(random)), r, false, {}});
  // So many ranks at once that read wait for each other when storage does not give it.
  const double slowed = std::max(1.0, w.bytes / w.storage * ranks / w.item);
  const auto work = [&](const Piece& p) {
    const auto n = static_cast<double>(p.end - p.begin);
    // A sum of so many lognormal times, by its mean and spread.
    const double mean = std::exp(w.spread * w.spread / 2), deviation = mean * std::sqrt((std::exp(w.spread * w.spread) - 1) / n);
    return n * w.item * slowed * std::max(0.2, mean + deviation * normal(random)) / mean;
  };
  std::vector<int> idle;
  double free = 0;  // rank 0's messages
  Outcome o;
  const auto hand = [&](int rank, double now) {
    const Clock::time_point began = Clock::now();
    const auto piece = pieces.next(rank, now);
    o.master += since(began);
    if (!piece) return false;
    const double done = now + w.message + work(*piece);
    if (done < dies[static_cast<size_t>(rank)]) events.push({done + (rank == 0 ? 0 : w.message), rank, true, *piece});
    return true;
  };
  while (!pieces.all_done() && (!events.empty() || !idle.empty())) {
    if (events.empty()) {  // all wait for somebody who is gone
      events.push({free + 0.25, idle.back(), false, {}});
      idle.pop_back();
    }
    const Event e = events.top();
    events.pop();
    const double now = std::max(free, e.at) + (e.rank == 0 ? 0 : w.poll / 2);
    const Clock::time_point began = Clock::now();
    double busy = w.handled;
    if (e.gives) {
      pieces.give(e.rank, e.piece, now);
      busy += static_cast<double>(e.piece.end - e.piece.begin) * w.answer / w.network;
    }
    busy += since(began);
    o.master += busy;
    free = std::max(free, e.at) + busy;
    o.seconds = now;
    if (pieces.all_done()) break;
    if (!hand(e.rank, now)) idle.push_back(e.rank);
    for (size_t i = 0; i < idle.size() && idle.size() > 1;) {
      if (hand(idle[i], now)) idle.erase(idle.begin() + static_cast<std::ptrdiff_t>(i));
      else break;  // what is not late for one is not for the next
    }
  }
  o.again = pieces.again();
  return o;
}

}  // namespace

int main(int argc, char** argv) {
  World w;
  std::string csv;
  for (int i = 1; i < argc; ++i) {
    const auto is = [&](const char* name) { return std::strcmp(argv[i], name) == 0; };
    const auto next = [&] { return i + 1 < argc ? argv[++i] : ""; };
    if (is("--items")) w.items = std::max(1LL, std::atoll(next()));
    else if (is("--item")) w.item = std::max(1e-9, std::atof(next()));
    else if (is("--spread")) w.spread = std::atof(next());
    else if (is("--load")) w.load = std::atof(next());
    else if (is("--bytes")) w.bytes = std::atof(next());
    else if (is("--storage")) w.storage = std::max(1.0, std::atof(next()));
    else if (is("--message")) w.message = std::atof(next());
    else if (is("--answer")) w.answer = std::atof(next());
    else if (is("--network")) w.network = std::max(1.0, std::atof(next()));
    else if (is("--lost")) w.lost = std::max(0, std::atoi(next()));
    else if (is("--csv")) csv = next();
    else {
      fmt::print(stderr, "usage: see the head of bench/ranks.cpp\n");
      return 2;
    }
  }
  std::FILE* out = csv.empty() ? nullptr : std::fopen(csv.c_str(), "w");
  if (out) fmt::print(out, "ranks,seconds,efficiency,master,again\n");
  const double alone = w.load + static_cast<double>(w.items) * w.item;
  fmt::print("{} items of {:g} ms, {:g} kB each from storage of {:g} GB/s\n{:>7} {:>10} {:>11} {:>14} {:>12}\n", w.items, 1e3 * w.item,
             w.bytes / 1e3, w.storage / 1e9, "ranks", "seconds", "efficiency", "rank 0 busy", "done again");
  for (const int ranks : {1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1000, 2000}) {
    const Outcome o = simulate(w, ranks, 1);
    const double efficiency = alone / (o.seconds * ranks);
    fmt::print("{:>7} {:>8.1f} s {:>9.1f} % {:>12.1f} % {:>12}\n", ranks, o.seconds, 100 * efficiency, 100 * o.master / o.seconds, o.again);
    if (out) fmt::print(out, "{},{:.3f},{:.4f},{:.4f},{}\n", ranks, o.seconds, efficiency, o.master / o.seconds, o.again);
  }
  if (out) std::fclose(out);
  return 0;
}
