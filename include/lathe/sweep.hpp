// Single kernels over many sizes: several implementations of one op side by side, checked against plain evaluation before they are
// timed, visited in turn, and each held against what this machine can do.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <vector>

#include "lathe/measure.hpp"
#include "lathe/parity.hpp"
#include "lathe/recipes.hpp"

namespace lathe {

// One size of an op: a graph whose weights are constants, as models have them, and tensors for what is fed.
struct SweepCase {
  std::string name;              // "128x768x768"
  double size = 0;               // where it stands on a chart's axis: elements, or arithmetic
  Graph graph;                   // with the op as its last node (of a chain: the last op)
  std::vector<Tensor> fed;       // in the order of graph.inputs
  double flops = 0;              // counted directly, whatever algorithm is used (a multiply-add counts two)
  double read = 0, written = 0;  // bytes: each operand and result once; state weights of recurrent layers once a step
  double working_set = 0;        // bytes that are read again and again, when they are fewer; 0: read + written
};

// What to sweep. `op` names an op of the standard, or several elementwise ones joined by '+' ("Mul+Add+Relu").
struct SweepRequest {
  std::string op = "MatMul";
  DType dtype = DType::f32;          // of what is fed
  DType weights = DType::undefined;  // MatMul: f16 or bf16 weights, cast to f32 in the model; undefined: as dtype
  // Sizes. Elementwise, rows, Transpose: numbers of elements, "4096" or "2^10..2^24" (powers of four between). MatMul, QLinearMatMul,
  // MatMulInteger: "MxNxK", or "B*MxNxK" for a batch whose second operand is no constant. Conv, ConvTranspose, QLinearConv:
  // "NxCxHxW FxKHxKW s2 p1 d1 g1" (one or two spatial axes). Pools: "NxCxHxW KHxKW s2 p1". Attention: "BxHxLxD". LSTM, GRU, RNN:
  // "TxBxIxH". Softmax, normalisations and reductions work on rows of `row` elements.
  std::vector<std::string> sizes;
  int64_t row = 1024;
  std::map<std::string, Attribute::Data> attributes{};
  uint64_t seed = 1;
};
// Throws Error (value) naming the op or the size that does not fit, with the form that does.
std::vector<SweepCase> sweep_cases(const SweepRequest& request);
// Sizes of a file: one a line, '#' begins a comment. Throws Error (format) naming file and line.
std::vector<std::string> read_sizes(const std::string& path);

// What another implementation is asked to do: outputs are written in place, in the op's own layout. `operands` are all of the node's
// inputs, constants too.
struct SweepTask {
  const SweepCase& item;
  const Node& node;
  std::vector<Tensor> operands, outputs;
  int threads = 1;
};
struct Implementation {
  std::string name;
  // Prepares a task and returns what is timed; an empty function when it does not do such tasks.
  std::function<std::function<void()>(const SweepTask&)> prepare;
};
// Adds an implementation to every sweep of this process, from then on. Not while a sweep runs, and from one thread at a time; there is no
// way to take one out. Throws Error (value) when the name is taken or nothing is prepared.
void register_implementation(Implementation implementation);
// Loads a library with a function `extern "C" void lathe_register_implementations()`. Throws Error (value).
void load_implementations(const std::string& path);

struct SweepOptions {
  int threads = 1;
  int rounds = 15;
  // Names: instruction sets ("avx512"), "unfused", "direct" (without Winograd's method), "plain", "pinned", registered ones. Empty: every
  // instruction set of this machine, unfused where there is more than one op, and all registered ones.
  std::vector<std::string> with{};
  std::vector<PinnedKnob> pins{};  // of "pinned", which is swept beside the others where there are any; without nodes
  bool cold = false;               // caches are emptied before every call
  double visit_seconds = 0.004;
  std::function<void(const std::string&)> progress{};
};

struct SweepResult {
  std::string implementation;
  std::string skipped;            // why it was not timed: it does not do this, or its numbers are wrong
  bool wrong = false;             // it was not timed because it failed the check
  Comparison check;               // against plain evaluation
  Latency latency;                // seconds a call
  double gflops = 0, gbytes = 0;  // at the median
  double share = 0;               // of the limit: median over rounds
  std::string recipe;             // ours: what was compiled
};
struct SweepRow {
  std::string name;
  double size = 0, flops = 0, bytes = 0;
  double peak_gflops = 0, bandwidth = 0;  // medians of probes in the same rounds: multiply-adds; copying or reading such a working set
  double limit_seconds = 0;               // the larger of arithmetic at the peak and bytes at the bandwidth
  bool by_arithmetic = false;             // which of the two it is
  std::string checked;                    // "all", or which part was checked when the whole would take too long plainly
  std::vector<SweepResult> results;
};

// Checks and times one case. Throws Error (value) when an implementation's name is not known.
SweepRow sweep(const SweepCase& item, const SweepOptions& options);

}  // namespace lathe
