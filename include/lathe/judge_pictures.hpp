// Accuracy of what models draw: masks, restored pictures, boxes; and of the tokens they say.
#pragma once

#include <cstdint>
#include <filesystem>
#include <map>
#include <span>
#include <string>
#include <vector>

#include "lathe/detect.hpp"
#include "lathe/judge.hpp"
#include "lathe/text.hpp"

namespace lathe {

// ---- masks: a class for each pixel ----

// Greyscale PNG: a pixel's value is its class; 255 where nobody says. [height, width] of i64, with -1 for 255. Throws Error (format) for a
// picture with colours.
Tensor read_mask(const std::filesystem::path& path);

struct MaskAnswer {
  std::string item;
  std::vector<int64_t> both, said, is;  // pixels, by class
  int64_t right = 0, pixels = 0;
  double mean_overlap() const;  // over the classes that are there or were said
};
// Pixels with -1 in either are left out. Throws Error (shape, value: a class beyond `classes`).
MaskAnswer mask_answer(std::string item, const Tensor& said, const Tensor& expected, int64_t classes);

struct MaskReport {
  int64_t items = 0;
  Interval mean_overlap, right;  // intersection over union, all items' pixels together, mean of the classes; share of pixels
  std::vector<Interval> classes;
  std::vector<size_t> worst;  // the smallest overlap first
};
// Intervals by bootstrap over the items.
MaskReport judge_masks(std::span<const MaskAnswer> answers, int64_t classes);

// ---- restored pictures ----

struct PictureAnswer {
  std::string item;
  double psnr = 0;  // decibels, of 0..255; 100 where every byte is right
  double ssim = 0;  // structural similarity, Gaussian window of 11 pixels (Wang et al. 2004), mean of the channels
};
// Both [1, channels, height, width] or channels last alike, floats; `most`: what white is in both (1, or 255). Throws Error (shape).
PictureAnswer picture_answer(std::string item, const Tensor& got, const Tensor& expected, double most, bool channels_last);

struct PictureReport {
  int64_t items = 0;
  Interval psnr, ssim;
  std::vector<size_t> worst;  // the lowest PSNR first
};
PictureReport judge_pictures(std::span<const PictureAnswer> answers);

// ---- boxes ----

// Expected boxes by file: a CSV of file, class, x, y, width, height, with a header or without,
// a file alone (the rest empty) for a picture without any; or JSON, {"file": [{"class": .., "x": ..,
// "y": .., "width": .., "height": ..}, ..], ..}. Names of classes are looked up in `classes`, or added in the order met when that is empty;
// numbers are classes themselves. Throws Error (format) with the line.
std::map<std::string, std::vector<Box>> read_boxes(const std::filesystem::path& path, std::vector<std::string>& classes);

struct BoxAnswer {
  std::string item;
  std::vector<Box> found, expected;
};
struct BoxReport {
  int64_t items = 0, found = 0, expected = 0;
  Interval at_half, over_all;  // mean over the classes that are expected: average precision at an overlap of 0.5; mean of 0.5..0.95
  std::vector<double> classes_at_half;  // by class; NaN: none is expected
  std::vector<double> classes_over_all;
  std::vector<size_t> worst;  // items with the most boxes missed or wrong at 0.5 first
};
// Boxes of a class are taken by score over all items; each is right when the expected box of its class that it overlaps most, and that no
// better one took, is overlapped enough. Average precision is the area under precision over recall, precision made falling. Intervals by
// bootstrap over the items.
BoxReport judge_boxes(std::span<const BoxAnswer> answers, int64_t classes);
// Mean average precision of the second less that of the first on the same items, each drawn for both alike.
struct PairedBoxes {
  Interval at_half, over_all;
};
// Throws Error (value) when the lists differ in length.
PairedBoxes compare_boxes(std::span<const BoxAnswer> first, std::span<const BoxAnswer> second, int64_t classes);

// ---- tokens ----

struct TokenAnswer {
  std::string item;
  int64_t count = 0, right = 0;  // tokens expected; of them the likeliest
  double loss = 0;               // minus the natural logarithms of their probabilities, summed
  bool exact() const { return count > 0 && right == count; }
};
// `scores`: [1, tokens, vocabulary], before any softmax; `expected`: as many whole numbers, negative ones left out. Throws Error (shape,
// value).
TokenAnswer token_answer(std::string item, const Tensor& scores, const Tensor& expected);
struct TokenReport {
  int64_t items = 0, tokens = 0;
  Interval perplexity, exact, right;
  std::vector<size_t> worst;  // the largest loss a token first
};
TokenReport judge_tokens(std::span<const TokenAnswer> answers);

// ---- running it ----

enum class Drawn { masks, pictures, boxes, tokens };

// What a model is to draw: pictures with the file of what is expected (a CSV of file and target), pictures with boxes (read_boxes), or
// arrays with a target of tokens [items, tokens] each.
struct DrawnData {
  Drawn kind = Drawn::masks;
  ItemData items;                          // of masks and pictures a label is the target's file
  std::vector<std::vector<Box>> expected;  // by item
  std::vector<std::string> classes;        // of boxes; of masks those that were given
};
// `beside`: the folder that the files lie in (the data's own). Throws Error as read_labelled, read_judged and read_boxes do.
DrawnData read_drawn(Drawn kind, const std::filesystem::path& data, const std::filesystem::path& targets,
                     const std::filesystem::path& beside, std::vector<std::string> classes = {});

// Lines of text as tokens: each line's, one after the begin token where the vocabulary has one, and what is expected is the token after
// each. Shorter lines are filled up behind: a model whose tokens look ahead is told what is there by an input that masks (find_roles).
// Empty lines are left out. Throws Error: format (a line that the vocabulary cannot say, or too long for the model), value (an input that
// is neither tokens, mask nor positions), resource.
DrawnData read_lines(const std::filesystem::path& lines, const Program& program, const Vocabulary& vocabulary);

struct DrawnOptions {
  PictureSettings pictures{};
  double most = 1;    // of restored pictures: what white is in the model's output
  DetectForm form{};  // of boxes; what it leaves open the metadata's "detect" says, then the first item's outputs
  DetectOptions detect{0.05};
  ItemsOptions items{};
};
struct DrawnJudgement {
  Drawn kind = Drawn::masks;
  std::vector<std::string> classes;
  std::vector<MaskAnswer> masks;  // one of these, in the order of the data
  std::vector<PictureAnswer> pictures;
  std::vector<BoxAnswer> boxes;
  std::vector<TokenAnswer> tokens;
  DetectForm form;         // of boxes, complete
  std::vector<char> seen;  // by item: whether it has an answer
  ItemsRun run;
  // One figure an item, more is better: overlap, PSNR, share of boxes right at 0.5, minus the loss a token.
  std::vector<double> by_item() const;
};
DrawnJudgement judge_drawn(const Program& program, const DrawnData& data, const std::vector<Shape>& shapes,
                           const DrawnOptions& options = {});
// The mean of by_item() of the second less that of the first, on what both have an answer to.
Interval compare_drawn(const DrawnJudgement& first, const DrawnJudgement& second);

}  // namespace lathe
