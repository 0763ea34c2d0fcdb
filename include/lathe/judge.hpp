// Accuracy of models on labelled data, each figure with its 95 % interval; two models on the same items, compared item by item.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <span>
#include <string>
#include <vector>

#include "lathe/pictures.hpp"
#include "lathe/program.hpp"
#include "lathe/spread.hpp"

namespace lathe {

// A figure and the ends of its 95 % interval.
struct Interval {
  double value = 0, low = 0, high = 0;
};

// A share: Wilson's score interval. With no items: 0, 0 to 1.
Interval share_of(int64_t right, int64_t items);
// Any measure of items, by drawing as many of them with repetition, `draws` times: percentiles of what the measure gives for these. The
// same seed gives the same interval.
Interval bootstrap(size_t items, const std::function<double(std::span<const size_t> drawn)>& measure, uint64_t seed = 1, int draws = 1000);

// Two models on the same items, by what each got right.
struct PairedShares {
  int64_t items = 0, only_first = 0, only_second = 0;
  // Share of the second less that of the first: the interval of Agresti and Min (2005) for paired shares.
  Interval difference;
  // Exact two-sided test on the items that only one got right (McNemar's, by the binomial distribution).
  double p = 1;
  bool significant() const { return p < 0.05; }
};
// Throws Error (value) when the lists differ in length.
PairedShares compare_paired(const std::vector<bool>& first, const std::vector<bool>& second);

// ---- classes ----

// What a model said of one item.
struct ClassAnswer {
  std::string item;
  int64_t expected = 0;
  std::vector<int64_t> best;   // classes, the likeliest first
  std::vector<double> scores;  // theirs
  bool odd = false;            // some score was NaN: nothing is read off it, and it counts as wrong
  bool right() const { return !odd && !best.empty() && best.front() == expected; }
};
// The `most` likeliest of these scores; of equal ones the first.
ClassAnswer answer_of(std::string item, int64_t expected, std::span<const double> scores, int most);

struct ClassMeasure {
  std::string label;
  int64_t items = 0, said = 0, right = 0;
  Interval recall, precision;  // of the items of this class, those it said so of; of those it said so of, those that are
  double f1 = 0;               // their harmonic mean
};

struct ClassReport {
  int64_t items = 0, odd = 0;
  int k = 1;
  Interval top_1, top_k;
  Interval mean_f1;                   // over the classes that items or answers have; by bootstrap
  std::vector<ClassMeasure> classes;  // by class
  std::vector<int64_t> confusion;     // [expected][said]; answers without a class are in none
  std::vector<size_t> wrong;          // answers, the most certain of themselves first
};
// Throws Error (value) when a class is outside the labels.
ClassReport judge_classes(std::span<const ClassAnswer> answers, const std::vector<std::string>& labels, int k);

// ---- values ----

// How far one item's values are from what was expected.
struct ValueAnswer {
  std::string item;
  int64_t count = 0;
  double absolute = 0, squared = 0;  // errors, summed
  double sum = 0, sum_squared = 0;   // of what was expected
  double largest = 0;                // error
  bool odd = false;                  // NaN or infinite: left out of all measures, and counted
};
// Any numeric dtypes. Throws Error (shape) when the numbers of elements differ.
ValueAnswer value_answer(std::string item, const Tensor& got, const Tensor& expected);

struct ValueReport {
  int64_t items = 0, odd = 0;
  Interval mean_absolute, root_mean_square,
      r_squared;              // by bootstrap over items; r_squared: 1 - errors squared / spread of what was expected
  std::vector<size_t> worst;  // answers, the largest mean error first
};
ValueReport judge_values(std::span<const ValueAnswer> answers);
// Mean absolute error of the second less that of the first, on the same items.
Interval compare_values(std::span<const ValueAnswer> first, std::span<const ValueAnswer> second);

// ---- data, and running it ----

struct LabelledFile {
  std::filesystem::path file;
  std::string label;
};
// A folder with a folder of pictures (PNG, JPEG) for each class, named by it; or a CSV of file and label, whose header is known by a file
// that is not there. Its files lie in `beside`, or beside the CSV. By name. Throws Error (value, format) saying what was expected.
std::vector<LabelledFile> read_labelled(const std::filesystem::path& data, const std::filesystem::path& beside = {});
// The class of each label: its place among `classes`, or, when there are none, among the labels themselves in alphabetical order, if they
// are `outputs` many; numbers are classes themselves. Throws Error (value) naming labels that are none and the nearest class.
std::vector<int64_t> classes_of(const std::vector<LabelledFile>& files, std::vector<std::string>& classes, int64_t outputs);

struct ItemsRun {
  double seconds = 0;
  int lanes = 0;
  std::vector<std::pair<size_t, std::string>> failed;  // items that could not be loaded, and why
  bool elsewhere = false;                              // this rank is not the one that has the results
  Shared shared{};                                     // where there are ranks, or a checkpoint
};
struct ItemsOptions {
  int lanes = 0;        // each with one thread; 0: one a core
  bool strict = false;  // the first item that cannot be loaded ends it
  RunOptions run{};
  std::function<void(size_t done)> progress{};  // from one thread at a time
  ShareOptions share{};                         // among ranks, and with a checkpoint; each rank has its own lanes
};
// Runs items through the program, several lanes at once: each loads its items, puts as many as the inputs' leading dims hold (`shapes`)
// into a batch, runs it, and hands each item its row of every output. `load` and `take` are called from several threads at once, each item
// once; a program with states begins anew with each batch; `load` gives a tensor an input, with a leading dim of 1. Throws what runs throw.
ItemsRun run_items(const Program& program, const std::vector<Shape>& shapes, size_t items,
                   const std::function<std::vector<Tensor>(size_t item)>& load,
                   const std::function<void(size_t item, const std::vector<Tensor>& outputs)>& take, const ItemsOptions& options = {});

// The same, by all ranks of `options.share`, or going on from its checkpoint: `pack` gives what `take` made of an item as bytes, on the
// rank that ran it; `unpack` puts it where it belongs on rank 0. Answers are those of one process, whatever the number of ranks. Throws as
// share_out does, too.
struct AnswerForm {
  std::function<std::string(size_t item)> pack;
  std::function<void(size_t item, std::string_view bytes)> unpack;
};
ItemsRun run_items(const Program& program, const std::vector<Shape>& shapes, size_t items,
                   const std::function<std::vector<Tensor>(size_t item)>& load,
                   const std::function<void(size_t item, const std::vector<Tensor>& outputs)>& take, const AnswerForm& form,
                   const ItemsOptions& options);

// Items to run a model on, with what is expected of it or without.
struct ItemData {
  std::vector<LabelledFile> files;  // pictures; labels empty when nobody asks for them
  std::vector<NamedTensor> arrays;  // or arrays whose first dim counts the items; one without a name goes to a model's one input
  Tensor targets;                   // of arrays: whole numbers [items] are classes, floats are values
  size_t items = 0;
  bool values() const { return !targets.empty() && is_float(targets.dtype()); }
  std::string name(size_t item) const;
};
// Labelled pictures (read_labelled), or npz and npy arrays with `targets`. Throws Error: value, shape, format.
ItemData read_judged(const std::filesystem::path& data, const std::filesystem::path& targets = {},
                     const std::filesystem::path& beside = {});
// What needs no labels, as calibration does: the same, or a picture, or a folder of loose pictures. Throws Error: value, format.
ItemData read_items(const std::filesystem::path& data, const std::filesystem::path& beside = {});
// The shapes that a program runs these items with: what is known of its inputs, else what the data say; `batch` where the first dim is
// open. Throws Error (shape) naming a dim that stays open.
std::vector<Shape> item_shapes(const Program& program, const ItemData& data, const PictureSettings& how, int64_t batch = 1);
// How an item becomes a tensor an input; for run_items. Holds on to the data. Throws Error (value) naming an input without an array.
std::function<std::vector<Tensor>(size_t item)> item_loader(const Program& program, const ItemData& data, const std::vector<Shape>& shapes,
                                                            const PictureSettings& how);

// Items put together as the program runs them: as many a batch as the inputs' first dim holds; what is left over is left out. For
// calibration. Throws Error (value) when there are fewer items than one batch holds.
struct Batches {
  size_t count = 0;
  std::function<std::vector<Tensor>(size_t batch)> load;
};
Batches batches(const Program& program, const std::vector<Shape>& shapes, size_t items,
                std::function<std::vector<Tensor>(size_t item)> load);

struct JudgeOptions {
  PictureSettings pictures{};
  std::vector<std::string> labels{};  // one a class; empty: the model's metadata say, or the data (classes_of)
  int top = 5;                        // answers keep so many classes
  ItemsOptions items{};
};
struct Judgement {
  std::vector<std::string> classes;
  std::vector<ClassAnswer> answers;  // of data with classes, or
  std::vector<ValueAnswer> values;   // of data with values; in the order of the data
  std::vector<char> seen;            // by item: whether it has an answer
  ItemsRun run;
};
// Runs every item and notes what the first output says of it. Throws Error: value (labels and classes that do not match; no item could be
// loaded), type, shape.
Judgement judge(const Program& program, const ItemData& data, const std::vector<Shape>& shapes, const JudgeOptions& options = {});
// On the items that both have an answer to.
PairedShares compare_answers(const Judgement& first, const Judgement& second);
Interval compare_values(const Judgement& first, const Judgement& second);

}  // namespace lathe
