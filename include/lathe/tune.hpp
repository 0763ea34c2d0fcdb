// Searches, on the machine at hand, for faster ways to do each step of a model: families of steps and the numbers that they leave open.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <span>
#include <stop_token>
#include <string>
#include <vector>

#include "lathe/program.hpp"
#include "lathe/recipes.hpp"

namespace lathe {

struct TuneProgress {
  std::string what;  // "searching", ..
  double seconds = 0, of = 0;
  int trials = 0;
  double gain = 1;  // of the whole net so far, unconfirmed
};

struct TuneOptions {
  double seconds = 60;      // all of it: compiling, checking, searching, confirming
  int trials = 0;           // recipes measured, at most; 0: as many as the time allows
  uint64_t seed = 1;        // of the search
  bool keep_order = false;  // only what leaves the order of sums alone: results keep their bits
  int64_t held = 0;         // of a model that keeps states: positions that they hold when each run begins (zeros)
  // Each candidate first runs in a process of its own: one that crashes there is refused, and the search goes on. Takes about twice as long
  // a trial.
  bool apart = false;
  Recipes known{};                     // to begin with; confirmed again
  std::vector<RecipeTrial> history{};  // trials of other runs, of any problem: the cost model learns from them
  // What to leave out, to see what it is good for: the cost model (new recipes are then measured as they are thought of), the scheduler
  // (problems have their turns), evolution (recipes are drawn at random).
  bool learned = true, scheduled = true, evolved = true;
  // A narrow space: these knobs alone, of the family that the estimate takes; empty: all knobs, and other families.
  std::vector<std::string> knobs{};
  // Begins from knobs drawn at random, and knows nothing of the estimates: what the search finds by itself.
  bool blind = false;
  std::function<void(const TuneProgress&)> progress{};
  std::stop_token stop{};  // ends the search; what was found is confirmed and given
};

// One problem of the net: the steps that are alike.
struct TunedProblem {
  std::string problem, op;
  std::vector<std::string> nodes;  // of the first of these steps
  int steps = 0;
  double share = 0;                    // of the untuned net's time
  double before = 0, after = 0;        // seconds of all of them in one run, when confirmed
  std::string untuned, recipe;         // as StepInfo::chosen; equal where nothing was gained
  double gain = 1, low = 1, high = 1;  // before / after, median of pairs of runs, and its 95 % interval
  int trials = 0;
  double points = 0;  // recipes there are
};

struct TuneResult {
  std::vector<TunedProblem> problems;  // the longest first
  Recipes recipes;                     // of those that gained; the interval lies above 1
  std::vector<RecipeTrial> trials;     // all that was measured
  double before = 0, after = 0;        // seconds a run, medians of interleaved runs
  double gain = 1, low = 1, high = 1;  // of the whole net
  double seconds = 0;
  int rounds = 0;
  int wrong = 0;         // recipes whose outputs did not agree with plain evaluation: never taken
  int not_runnable = 0;  // recipes that their family refused, or that crashed
  int crashed = 0;       // with TuneOptions::apart
  struct Moment {
    int trials = 0;
    double seconds = 0, gain = 1;  // unconfirmed
  };
  std::vector<Moment> curve;
  // Rank correlation of what the cost model, taught by the other problems, says of a problem's trials with what was measured: mean over
  // problems; NaN with less than two of them.
  double model_quality = 0;
  double stolen = 0;  // share of the cores' time that other guests of the machine took meanwhile
  bool stopped = false;
};

// Each trial is a whole program, run by turns with the best one so far on the same inputs; its steps are timed where they stand in the net.
// Outputs are held against plain evaluation before a trial counts. At the end what was found runs by turns with the untuned program, and
// only gains whose interval lies above 1 are kept. `inputs`: in the order of the program's inputs; they decide the shapes.
// A model that keeps states (CompileOptions::states) takes inputs without them; each run begins with `held` positions, and what it adds is
// taken back. Outputs are those of a second run then, which reads what the first one put into the states.
// Throws Error: value (options), resource (no process for a trial), what compile and Lane::run throw of the untuned program.
TuneResult tune(const Graph& graph, const CompileOptions& compile, std::span<const Tensor> inputs, const TuneOptions& options = {});

// How the time of a problem's steps hangs on one knob, everything else as the estimate has it.
struct KnobCurve {
  std::string problem, op, recipe, knob;  // `recipe`: the estimate's
  int64_t estimate = 0;                   // its value of the knob
  double seconds = 0;                     // of all steps of the problem in one run, by the estimate's recipe: median
  struct Timing {
    int64_t value = 0;
    double seconds = 0;
    double ratio = 1, low = 1, high = 1;  // time / the estimate's, median of pairs of runs, 95 % interval
    std::string refused{};                // why it was not timed: the family refuses it, or results are wrong
  };
  std::vector<Timing> points;
};

// Each value runs by turns with the estimate, in the whole net, for its share of `options.seconds`. No values: about sixteen over the
// knob's range. Throws Error (value): no such problem (StepInfo::problem), a family without that knob; and as tune does.
KnobCurve knob_curve(const Graph& graph, const CompileOptions& compile, std::span<const Tensor> inputs, const std::string& problem,
                     const std::string& knob, std::vector<int64_t> values = {}, const TuneOptions& options = {});

// A JSON file that holds recipes with the machine they are for, for another machine of its kind, or a repository. Written whole or not at
// all. Throws Error: resource; read: format (no such file, of another version, what is wrong with an entry).
void write_recipes(const std::filesystem::path& path, const Recipes& recipes, const std::string& machine);
Recipes read_recipes(const std::filesystem::path& path, std::string* machine = nullptr);

}  // namespace lathe
