// Ways to ship a model, side by side: a job sheet names them, and one run makes, checks, judges and times them all.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "lathe/judge.hpp"
#include "lathe/measure.hpp"
#include "lathe/narrow.hpp"
#include "lathe/pictures.hpp"

namespace lathe {

// How a variant's numbers are made narrower.
struct NarrowPlan {
  DType weights = DType::i8;
  DType activations = DType::undefined;  // undefined: weights alone; u8, i8: calibrated; f16, bf16: everything
  int64_t block = 0;
  std::optional<Rounding> rounding{};  // nothing: nearest, and compensated on bytes
  ByteOptions bytes{};
  std::vector<std::string> leave{};
  double cosine_at_least = 0;  // budgets, on bytes; 0: none
  double lose_at_most = -1;    // points of accuracy; negative: none
};

struct Variant {
  std::string name;
  std::filesystem::path model;  // ONNX or a program archive
  std::optional<NarrowPlan> narrow{};
  std::filesystem::path keep_as{};  // where the narrowed model stays; empty: nowhere
  int threads = 1, lanes = 1;
  int64_t batch = 1;                // where the first dim is open
  std::string isa{};                // empty: the best there is
  std::filesystem::path recipes{};  // to follow: a logbook, or what write_recipes made; empty: none
  std::vector<PinnedKnob> pins{};
  std::map<std::string, Shape> shapes{};  // of inputs
  std::string states{};                   // kept from run to run: patterns, or "found"; empty: none
  int64_t positions = 0, held = 0;        // that they have room for (0: any number), and hold when a run begins
};

// What a job is. Paths are as the program finds them: read_job_sheet resolves those of a sheet from the folder it lies in.
struct JobSheet {
  std::string title;
  std::filesystem::path data, beside, targets;            // labelled; empty: no accuracy
  std::filesystem::path calibration, calibration_beside;  // for variants on bytes
  int64_t calibration_items = 100;                        // at most, evenly spread
  PictureSettings pictures{};
  std::vector<std::string> labels{};
  double seconds = 2;  // that each variant is timed for, over all rounds
  int rounds = 15;
  double lose_at_most = -1;    // points of accuracy, against the first variant; negative: no limit
  double latency_at_most = 0;  // seconds, median; 0: no limit
  double items_per_second_at_least = 0;
  double megabytes_at_most = 0;  // of the file
  std::vector<Variant> variants;
};

// A TOML file; docs/job-sheet.md lists its keys. Throws Error (format) with line and column, what was expected, and the nearest right key.
JobSheet read_job_sheet(const std::filesystem::path& file);
// A commented sheet for this model, ready to be changed.
std::string example_job_sheet(const std::filesystem::path& model, const Graph& graph);

struct VariantResult {
  std::string name;
  std::string failed;  // why it could not be built or run; the rest is empty then
  uintmax_t file_bytes = 0;
  size_t planned_bytes = 0;  // weights as packed, and the arena of each lane
  // What the process took beyond what it had before, at the most, while it was loaded, compiled, and run once in each of its lanes; at
  // least what is planned, which is all that is known where the system does not tell.
  size_t memory_bytes = 0;
  double load_seconds = 0;                             // from the file to a program that runs
  int64_t items = 0;                                   // judged
  std::optional<Interval> accuracy;                    // share right; of data with values none
  std::optional<PairedShares> against_first;           // of the accuracy
  std::optional<Interval> error, error_against_first;  // mean absolute error, of data with values
  std::optional<double> parity;                        // largest difference of compiled and plain evaluation on one batch
  std::string parity_why_not;
  Latency latency;
  double items_per_second = 0;
  Interval speed;                      // items per second against the first variant's, round by round: median, 95 %
  bool unbeaten = false;               // no other variant is both faster and better
  std::vector<std::string> kept_wide;  // by a budget
  std::vector<std::string> broken;     // limits of the sheet that it does not hold, with figures
  std::vector<std::string> notes;
};

struct JobResult {
  std::vector<VariantResult> variants;
  std::string no_accuracy;  // why there is none; empty: there is
  int64_t labelled = 0;     // items
  bool values = false;      // data with values: error instead of accuracy
  bool good() const;        // everything was built and holds its limits
};

// Makes what is missing, loads, checks, judges and times: all variants by turns in each round. `progress` gets a word on each part. A
// variant that cannot be built is told in its result; throws Error for what makes the whole job impossible (data that cannot be read).
// With `ranks`, all of them call this and make the variants; items are judged by all together, and rank 0 alone checks, times, keeps files
// (keep_as), and has the result; the others' is empty.
JobResult run_job_sheet(const JobSheet& sheet, const std::function<void(const std::string&)>& progress = {},
                        const std::shared_ptr<Ranks>& ranks = {});

}  // namespace lathe
