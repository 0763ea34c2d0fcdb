// The logbook: measured results kept in one SQLite file, and whether a later one differs by more than noise.
#pragma once

#include <cstdint>
#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "lathe/judge.hpp"
#include "lathe/measure.hpp"
#include "lathe/recipes.hpp"

namespace lathe {

// One figure of an entry.
struct Figure {
  double value = 0;
  std::optional<double> low{}, high{};  // of its interval or spread, where there is one
  std::string unit{};                   // "s", "items/s", "share", ..
  std::vector<double> samples{};        // what it was read off, in the order measured; may be empty
};

struct LogEntry {
  int64_t id = 0;       // given by keep()
  std::string at;       // UTC, "2026-11-28T23:41:31Z"; empty: now
  std::string kind;     // bench, profile, judge, narrow, compare
  std::string machine;  // machine_fingerprint()
  std::string version;  // of Mellow Lathe
  std::string model;    // the file's name
  std::string hash;     // of its content
  std::string options;  // that change the figures, in a fixed order: "threads 2, lanes 1, avx512, image 1x3x64x64"
  std::string details;  // the command's JSON
  std::map<std::string, Figure> figures;
};

struct LogFilter {
  std::string kind{}, model{}, hash{}, machine{}, options{};  // equal to this; empty: any. `model`: the name holds this
  int64_t before = 0;                                         // entries with smaller ids; 0: any
  int last = 0;                                               // so many of the latest; 0: all
};

// "Intel(R) Xeon(R) CPU @ 2.20GHz, 2 cores, avx512": what figures depend on.
std::string machine_fingerprint();
// 16 hexadecimal digits. Throws Error (resource).
std::string hash_of_file(const std::filesystem::path& path);

// Threads and processes: any number at once, each with a Logbook of its own; each entry is written in one transaction, and a crash leaves
// the file as it was before or after it. Ownership: holds the file open. Failure: a call that throws leaves the file as it was.
class Logbook {
 public:
  // Makes the file when it is not there, and carries an older version's over. Throws Error: format (no logbook, damaged, of a newer
  // version), resource (cannot be opened or written).
  explicit Logbook(const std::filesystem::path& path);
  ~Logbook();
  Logbook(Logbook&&) noexcept;
  Logbook& operator=(Logbook&&) noexcept;

  // Gives the entry's id.
  int64_t keep(const LogEntry& entry);
  // The latest first, without details and samples.
  std::vector<LogEntry> list(const LogFilter& filter = {}) const;
  // Whole. Throws Error (value) when there is none of that id.
  LogEntry get(int64_t id) const;

  // What was tuned, by machine (machine_fingerprint()): recipes take the place of older ones for the same problem, instruction set and
  // threads; of trials all are kept, for later searches to learn from.
  void keep_tuned(const std::string& machine, const Recipes& recipes, std::span<const RecipeTrial> trials);
  Recipes recipes(const std::string& machine) const;
  std::vector<RecipeTrial> trials(const std::string& machine) const;
  // Gives how many recipes there were.
  int64_t forget_tuned(const std::string& machine);
  const std::filesystem::path& path() const { return path_; }

 private:
  struct Impl;
  std::filesystem::path path_;
  std::unique_ptr<Impl> impl_;
};

// The recipes for this machine that a file holds: a logbook, or what write_recipes made. Throws Error: resource (cannot be read), format
// (holds none), value (made for another machine).
Recipes tuned_recipes(const std::filesystem::path& path);

// How a time changed from one entry to another.
struct Change {
  enum class Kind { faster, slower, noise };
  double ratio = 1, low = 1, high = 1;  // after / before, and its 95 % interval
  double machine = 1;                   // the machine's measured peak, after / before
  Kind kind = Kind::noise;
  std::string why;  // a sentence with the figures that decided
};

// Compares the medians of `figure` (seconds; more is worse), by drawing blocks of neighbouring runs with repetition. Where the machine's
// peak was another one, the interval holds both what was measured and what that would make of it. Less than 1 % is not told from noise.
// Throws Error (value): a figure that is not there, entries of different machines, models' names or options.
Change compare_entries(const LogEntry& before, const LogEntry& after, const std::string& figure = "latency");

}  // namespace lathe
