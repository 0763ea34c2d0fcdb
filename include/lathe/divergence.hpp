// Where two computations of a model part, why they do, and what each step adds to the error of the result.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "lathe/parity.hpp"

namespace lathe {

// The model with every floating-point value in double: constants widened, Casts between floating types left out. A node whose op does not
// take f64 keeps its types, between two Casts. Functions are written out; subgraphs are treated alike. Values keep their names. Throws
// Error as infer does.
Graph in_double(const Graph& graph);

// A value of a model held against its reference.
struct ValueCheck {
  std::string name;      // of the value
  std::string node, op;  // that makes it
  int step = -1;         // index into the edition's steps; -1: of no step
  int depth = 0;         // nodes on the longest path to it from an input
  Comparison comparison;
  double error = 0;  // root mean square of got - expected over that of expected; of other than floating types the share that differs
};

// What an error was made by.
enum class Parting {
  none,       // every value agrees
  jump,       // the values it is made from agree, or are far closer
  growth,     // it grew from value to value
  amplified,  // the node does right what it is given: it makes small differences large
  input,      // already the first values computed from the inputs differ
};
std::string_view to_string(Parting parting);

struct Walk;
// Inside control flow: the run of a subgraph where an error arises, walked as a model of its own, on the exact values that it is given
// there.
struct InsideBody {
  std::string node, op, body;  // of the control step; its attribute
  int64_t run = 0;             // of that subgraph: how many came before
  std::shared_ptr<const Walk> walk;
};

struct Walk {
  std::string against;             // what the references are, for people
  std::vector<ValueCheck> values;  // those compared, in the order in which the program makes them
  int first = -1;                  // index of the first one out of tolerance; -1: all agree
  // Index of the value where the error arose, at or before `first`: its error is far above that of what it is made from, and of what its
  // type explains; -1: nowhere, it grew. Also when every value is within tolerance.
  int jump = -1;
  Parting parting = Parting::none;
  std::vector<ValueCheck> inside;  // of the step that made it: its nodes run one by one on the references of what the step reads
  // Where a control step made it, and references are plain evaluation in double; nothing: every run of its subgraphs does right what it is
  // given.
  std::optional<InsideBody> within;
  bool only_fused = false;           // they all agree: what differs is the step as a whole
  std::vector<std::string> missing;  // names of references that no value bears
  int64_t compared = 0, values_made = 0;
  int runs = 0, plain_runs = 0;  // of the program; of plain evaluation
  std::string verdict;           // a sentence
};

struct WalkOptions {
  Tolerances tolerances{};
  CompileOptions compile{};
  size_t keep_bytes = 0;  // references kept at a time; 0: a quarter of the memory. When they do not fit, the place is found by bisection
  RunOptions run{};
  std::function<void(const std::string&)> progress{};
};

// Walks the graph in the order of the program's steps and holds each value that the compiled program makes against its reference: plain
// evaluation in double,
Walk walk(const Graph& model, std::span<const Tensor> inputs, const WalkOptions& options = {});
// or values by name, a part of them is enough,
Walk walk(const Graph& model, std::span<const Tensor> inputs, std::span<const NamedTensor> references, const WalkOptions& options = {});
// or the values of another model, compiled, whose values have the same names or, where names differ, stand at the same place among nodes of
// the same op and shape. Throws Error (value) when no value can be matched.
Walk walk(const Graph& model, std::span<const Tensor> inputs, const Graph& other, const WalkOptions& options = {});

// Something that may have gone wrong between two programs for one model, tried.
struct Suspect {
  std::string what;    // "first and third channel of 'x' swapped"
  std::string where;   // an input, or a node and its attribute; "" of several nodes
  std::string change;  // what makes the outputs agree: "epsilon 0.001 instead of 1e-05"
  bool agrees = false;
  double error = 0;  // of the worst output, as in ValueCheck
};

struct Hunt {
  double error = 0;                // of the worst output as the model is
  bool agrees = false;             // it is within tolerance as it is: nothing to look for
  std::vector<Suspect> verified;   // changes with which every output agrees, simplest first
  std::optional<Suspect> nearest;  // when none does: what came nearest, and by a factor of 10 at least
  int tried = 0;
  bool complete = true;  // false: the time was up
};

struct HuntOptions {
  Tolerances tolerances{};
  CompileOptions compile{};
  double seconds = 30;  // no further change is tried after this time
  // Other ways to make the inputs, which only the caller knows (a picture fitted otherwise): words for it, and the inputs.
  std::vector<std::pair<std::string, std::vector<Tensor>>> otherwise{};
  RunOptions run{};
  std::function<void(const std::string&)> progress{};
};

// Tries what usually goes wrong, by running it: on inputs (order of channels, range of pixels, mean and scale, layout, height and width,
// place of the batch), then on nodes (epsilon, axis, padding side, coordinates of Resize, form of GELU, transposed weights, order of gates,
// and other attributes), on all nodes of an op together and one by one. `walked`: says where to look first.
Hunt hunt(const Graph& model, const Case& reference, const HuntOptions& options = {}, const Walk* walked = nullptr);

// What one step adds to the error of the result.
struct StepError {
  int step = -1;  // -1: an input that is rounded, or no step of the program bears the node's name
  std::string node, op, value;
  double own = 0;        // error of its value when it is fed the exact values
  double at_output = 0;  // error of the worst output that comes of it alone
  double share = 0;      // of the sum of squares over all steps
};

struct ErrorBudget {
  std::vector<StepError> steps;  // largest share first
  double total = 0;              // error of the worst output, all steps together
  double expected = 0;           // root of the sum of squares of at_output: what independent errors come to
  int steps_in_all = 0;
};

// The share of the final error that each step adds: each is fed the exact values (plain evaluation in double of `exact`, the model itself
// when null), and its own error is followed to the outputs through the steps behind it. `exact`: the model before it was narrowed. Where
// a model rounds to a few bits between its nodes (QuantizeLinear, DequantizeLinear), the model without that is what is exact when none is
// given, and what a step adds is what rounding its value adds, and with `exact` given its rounded weights too.
ErrorBudget error_budget(const Graph& model, std::span<const Tensor> inputs, const WalkOptions& options = {}, const Graph* exact = nullptr);

// The distance of a compiled output to the double result, beside that of plain f32 evaluation.
struct Distance {
  std::string output;
  double compiled = 0, plain = 0;  // as ValueCheck::error
  bool pass = false;
};
// Whether a program is as good as the types of its model can be. Plain evaluation sums in double and rounds once a node; sums in the type
// itself round at each term. `allowed`: how many times its distance an output may have; what the rounding of a few steps explains (f32:
// 1e-6) it always may.
std::vector<Distance> distances_to_double(const Graph& model, std::span<const Tensor> inputs, const WalkOptions& options = {},
                                          double allowed = 8);

}  // namespace lathe
