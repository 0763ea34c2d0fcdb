// Recipes: how steps are done, as plain data that is found once on a machine (lathe/tune.hpp) and followed when models are compiled.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <string_view>
#include <tuple>
#include <utility>
#include <vector>

namespace lathe {

// What was found for one problem: a step's nodes, shapes, dtypes and layouts (StepInfo::problem).
struct TunedRecipe {
  std::string problem;
  std::string isa;  // "avx512"
  int threads = 1;
  std::string recipe;                  // "convolution.direct/1 k_block=576 panel_block=8"
  double gain = 1, low = 1, high = 1;  // time by the estimate's recipe / time by this one, and its 95 % interval
  double seconds = 0;                  // that one such step took
  int trials = 0;                      // recipes measured for this problem
};

// One measured recipe: what the search learns from.
struct RecipeTrial {
  std::string problem, isa;
  int threads = 1;
  std::string recipe;
  double ratio = 1;    // time by it / time by the estimate's recipe
  double seconds = 0;  // that one such step took
};

// A choice made by hand: at the step of a node, or (no node) at every step that has such a knob, this value; or another family of steps.
struct PinnedKnob {
  std::string node;
  std::string knob;  // "family": `family` is meant
  int64_t value = 0;
  std::string family;
};
// Of "Conv_3:k_block=288", "k_block=288" or "Conv_3:family=convolution.direct". Throws Error (value) saying what was expected.
PinnedKnob read_pin(std::string_view text);
std::string to_string(const PinnedKnob& pin);

// By problem, instruction set and threads, one each, beside what is pinned. They hold for the machine they were found on: who gathers them
// (Logbook::recipes) sees to that. Threads: const members from any number at once.
class Recipes {
 public:
  // Takes the place of one for the same.
  void add(TunedRecipe recipe);
  const TunedRecipe* find(std::string_view problem, std::string_view isa, int threads) const;
  std::vector<TunedRecipe> all() const;
  size_t size() const { return by_key_.size(); }
  // Goes before what is tuned or estimated. Those of one step are followed together or, where its family refuses them, not at all.
  void pin(PinnedKnob pin) { pins_.push_back(std::move(pin)); }
  const std::vector<PinnedKnob>& pins() const { return pins_; }

 private:
  std::map<std::tuple<std::string, std::string, int>, TunedRecipe> by_key_;
  std::vector<PinnedKnob> pins_;
};

struct EditionInfo;
// Why a pin is not followed: there is no such node, its step has no such knob, the family refuses it. Empty: all of them are.
std::string pin_fault(const Recipes& recipes, const EditionInfo& edition);

// A knob of a family of steps: values from `least` to `most` that are multiples of `step`, and `first`, which the estimate takes.
struct KnobInfo {
  std::string name;
  int64_t first = 0, least = 0, most = 0, step = 1;
  bool reorders_sums = false;  // another value may round another way
};

// A family of steps that can do a problem ("convolution.winograd"), with its knobs.
struct FamilyInfo {
  std::string family;
  int version = 1;
  std::vector<KnobInfo> knobs;
};

}  // namespace lathe
