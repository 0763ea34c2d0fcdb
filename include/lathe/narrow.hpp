// Narrowing a model: the same graph with fewer bits a number, in the open standard's own forms, ready for save() or compile(). Weights
// alone, or activations too, whose ranges are read off calibration data.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "lathe/graph.hpp"
#include "lathe/program.hpp"

namespace lathe {

// Items that show what a model's values are like in use.
struct Calibration {
  size_t items = 0;
  // A tensor an input, in the order of Graph::inputs. Called from one thread at a time, more than once an item.
  std::function<std::vector<Tensor>(size_t item)> load{};
  std::function<void(const std::string& what, size_t done, size_t of)> progress{};
  RunOptions run{};
};

// To which of its two neighbours a weight is rounded: the nearer one; or column by column, each taking up the error that those before it
// left in the layer's output on the calibration data (within 256 columns along K).
enum class Rounding { nearest, compensated };

struct NarrowOptions {
  // f16, bf16: initializers of f32 are kept so, behind a Cast. i8, u8, i4, u4: whole numbers behind a DequantizeLinear, for MatMul and
  // Gemm, Gather of rows, and (8 bits) Conv. Unsigned types have zero points: a block's least and largest number are both met.
  DType weights = DType::i8;
  // Numbers along K, or along a row of a table, that share a scale: 16 to 4096; 0: 8 bits one a column or filter, 4 bits 64. Conv has one
  // a filter.
  int64_t block = 0;
  int64_t least = 1024;                   // numbers: smaller weights stay as they are
  std::vector<std::string> leave{};       // nodes whose weights stay as they are
  Rounding rounding = Rounding::nearest;  // compensated: of Conv, MatMul and Gemm outside subgraphs, from the calibration data
};

struct NarrowedWeights {
  std::string node, op;  // the first that reads them
  Shape shape;
  int64_t bytes_before = 0, bytes_after = 0;  // scales and zero points counted
  double signal_to_noise = 0;                 // decibels; infinity: every number is kept exactly
};

struct NarrowReport {
  std::vector<NarrowedWeights> weights;
  std::vector<std::pair<std::string, std::string>> left;  // node, and why its weights stay wide
  int64_t bytes_before = 0, bytes_after = 0;              // of all initializers
};

// Weights of subgraphs too, their own and those that they capture. Carries the model over to the opset that the form needs. Throws Error:
// value (no such type or node, a block out of range, nothing to narrow, compensated rounding without calibration), unsupported (the opset
// cannot be reached); the graph is left as it was then.
NarrowReport narrow_model(Graph& graph, const NarrowOptions& options = {}, const Calibration* calibration = nullptr);

// Everything in f16 or bf16, activations too, between Casts at the model's inputs and outputs; subgraphs compute in f32 on weights kept as
// halves. What overflows on the calibration items, if
// there are any, is named in `left`, by the node that makes it, and stays f32. Throws Error as narrow_model does.
NarrowReport halve_model(Graph& graph, DType to, const Calibration* calibration = nullptr);

// ---- bytes ----

// How an activation's range is read off what was met of it: everything; what lies within a percentile; the range whose rounding and
// clipping have the least squared error; the one whose distribution diverges least from the one met (Kullback and Leibler).
enum class RangeChoice { extremes, percentile, squares, divergence };

struct ByteOptions {
  DType activations = DType::u8;  // or i8; with a zero point
  RangeChoice range = RangeChoice::squares;
  double percentile = 99.99;
  Rounding rounding = Rounding::compensated;
  bool equalise = true;  // scales move from activations of uneven channels into the weights that read them
  // Products of two activations too, as attention's are. Slower where attention would be one step, and coarser.
  bool products = false;
  bool correct_bias = true;  // what rounding weights adds to a layer's output on average is taken off its bias
};

// One node that can run on bytes.
struct ByteCandidate {
  std::string node, op;
  double low = 0, high = 0;                   // of its output's range as chosen
  double met_low = 0, met_high = 0;           // as met
  double weights_signal_to_noise = 0;         // decibels; infinity: it has no weights
  int64_t bytes_before = 0, bytes_after = 0;  // of its weights
};

// How a narrowed model's outputs are apart from the wide model's over the calibration items.
struct OutputError {
  double cosine = 1;           // the least over the outputs, all items' elements together
  double signal_to_noise = 0;  // decibels, of the worst output
};

struct Sensitivity {
  std::string node, op;
  OutputError error;  // with this node alone on bytes
  double loss = 0;    // what `measure` said of it, or the noise's share of the signal
};

// A model calibrated once, from which forms on bytes are written: i8 weights with a scale a filter, activations with one scale, between
// QuantizeLinear and DequantizeLinear. Products of two activations, recurrent layers and what has no byte form stay f32.
// Threads: one at a time. Ownership: holds a prepared copy of the graph. Failure: a call that throws leaves it as it was.
class ByteModel {
 public:
  // Folds normalisations, runs the items twice (once for extremes alone), rounds weights. Throws Error: value (no items; nothing to
  // narrow), unsupported (the model is quantised already; the opset cannot be reached), and what runs and `load` throw.
  ByteModel(const Graph& graph, const Calibration& calibration, const ByteOptions& options = {});
  ~ByteModel();
  ByteModel(ByteModel&&) noexcept;
  ByteModel& operator=(ByteModel&&) noexcept;

  const std::vector<ByteCandidate>& candidates() const;
  // Node and why it cannot run on bytes, of those that others of its kind do.
  const std::vector<std::pair<std::string, std::string>>& left() const;
  // What should make the user doubt the calibration.
  const std::vector<std::string>& warnings() const;
  // The model as it was prepared, in f32.
  const Graph& wide() const;
  // All candidates but these on bytes. Throws Error (value) for a name that is no candidate's.
  Graph write(const std::vector<std::string>& leave = {}) const;
  OutputError error_of(const Graph& written) const;
  // Signal to noise in decibels at each candidate's output, with the noise of everything before it, over at most 16 items; in the order of
  // candidates().
  std::vector<double> noise_by_step(const Graph& written) const;
  // Each candidate narrowed alone, the one that costs most first. `measure`: what a form loses, more is worse; else the outputs' noise.
  std::vector<Sensitivity> sensitivity(const std::function<double(const Graph&)>& measure = {}) const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

struct Budgeted {
  std::vector<std::string> wide;  // candidates kept f32, the most sensitive first
  double loss = 0;                // of the form written
  double loss_of_all = 0;         // with every candidate on bytes
  int tried = 0;                  // forms measured
};
// Keeps as few candidates wide as it takes for `loss` of the written form to be at most `most`: the most sensitive first, then each of
// these is tried on bytes again. Throws Error (value) saying the best there is, when no form but the wide model holds.
Budgeted within_budget(const ByteModel& model, const std::vector<Sensitivity>& ranked, const std::function<double(const Graph&)>& loss,
                       double most, const std::function<void(int tried)>& progress = {});

}  // namespace lathe
