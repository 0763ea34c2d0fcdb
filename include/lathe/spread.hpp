// Work on many items shared out among processes, of one machine or many: pieces go to whoever is free, what somebody is silent about is
// done again by others, and what is finished can be kept in a file to go on from.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace lathe {

// The processes of one job, and messages between them. Used from one thread at a time.
class Ranks {
 public:
  virtual ~Ranks() = default;
  virtual int rank() const = 0;  // 0 shares out, does its part, and has the results
  virtual int count() const = 0;
  // Whole, and in order for each pair. To one that is gone nothing happens.
  virtual void send(int to, std::string_view message) = 0;
  struct Message {
    int from = 0;
    std::string bytes;
  };
  // The next one that has come; nothing after so many seconds.
  virtual std::optional<Message> receive(double seconds) = 0;
  // The last call. `everyone`: all others are there still and end too.
  virtual void end(bool everyone) = 0;
  // Calls of share_out so far, counted there: an answer to an earlier one is not taken for this one's.
  uint64_t calls = 0;
};

// "mpi": those that mpirun started, by the library's optional part for MPI, which is loaded now; or a library of one's own with a function
// `extern "C" lathe::Ranks* lathe_ranks()`. Throws Error (value, resource) saying what is missing.
std::shared_ptr<Ranks> load_ranks(const std::string& what);

struct ShareOptions {
  std::shared_ptr<Ranks> ranks{};      // null: this process alone
  std::filesystem::path checkpoint{};  // finished pieces are kept there, and a run that finds some goes on behind them; empty: nowhere
  std::string job{};                   // what the items and the work are; a checkpoint of another job is refused
  bool everyone = false;               // results go to all ranks, not to rank 0 alone
};

// What became of it; of rank 0.
struct Shared {
  std::vector<int64_t> items{};  // done, by rank
  int64_t resumed = 0;           // items that the checkpoint held already
  int64_t again = 0;             // items given to another rank because the first was silent or slow
  std::vector<int> silent{};     // ranks that never gave back what they had
  int64_t all() const;
};

// Calls `work` for pieces [begin, end) of the items, each a multiple of `multiple` long (the last may be shorter), on all ranks; what it
// gives goes to `take` on rank 0, each piece once, from one thread. `work` runs beside `take`. All ranks call this for the same items, in
// the same order of calls; on others than rank 0 it returns when rank 0 has everything.
// Throws what `work` throws, on any rank, on rank 0; Error: cancelled (elsewhere, when rank 0 ends the job), resource (the checkpoint
// cannot be written; rank 0 has been silent for ten minutes), value (a checkpoint of another job), format (a file that is no checkpoint).
Shared share_out(const ShareOptions& options, size_t items, size_t multiple,
                 const std::function<std::string(size_t begin, size_t end)>& work,
                 const std::function<void(size_t begin, size_t end, std::string_view result)>& take,
                 const std::function<void(size_t done)>& progress = {});

// Says to all that this rank is done, waits some seconds for the others, and ends them (Ranks::end). Whether all were there.
bool part_ways(Ranks& ranks);

}  // namespace lathe
