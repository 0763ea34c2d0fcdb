// The points of a problem's space, how new ones are thought of, and what the cost model sees of them. No measuring here.
#pragma once

#include <map>
#include <random>
#include <set>
#include <string>
#include <vector>

#include "lathe/recipes.hpp"
#include "tune/trees.hpp"

namespace lathe::tuning {

// A recipe: a family by index, and a value for each of its knobs.
struct Point {
  size_t family = 0;
  std::vector<int64_t> values;
  auto operator<=>(const Point&) const = default;
};

class Space {
 public:
  Space() = default;
  // `keep_order`: knobs that reorder sums stay as they are.
  Space(std::vector<FamilyInfo> families, bool keep_order);
  const std::vector<FamilyInfo>& families() const { return families_; }
  Point first(size_t family) const;
  std::string text(const Point& p) const;  // as StepInfo::chosen
  // Throws Error (value) saying what does not fit.
  Point parse(const std::string& text) const;
  double points() const;

  Point random(std::mt19937_64& r) const;
  Point changed(const Point& p, std::mt19937_64& r) const;
  // Of one family: each knob as one of the two has it.
  Point crossed(const Point& a, const Point& b, std::mt19937_64& r) const;

 private:
  int64_t drawn(const KnobInfo& k, std::mt19937_64& r) const;
  int64_t fitting(const KnobInfo& k, double value) const;
  std::vector<FamilyInfo> families_;
};

// Numbers for the cost model: sizes of the problem, and knobs by name, so that what one problem taught serves others.
class Encoder {
 public:
  // Learns the names; rows made before are shorter than those made after.
  void learn(const Space& space);
  size_t features() const { return kSizes + slots_.size(); }
  std::vector<double> row(const std::string& problem, int threads, const Space& space, const Point& p) const;
  // In two parts, for many points of a problem.
  std::vector<double> sizes(const std::string& problem, int threads) const;
  void put(std::vector<double>& sizes, const Space& space, const Point& p) const;
  // Of a problem whose space is not known: what the recipe says, without how far that is from the estimate's.
  std::vector<double> row(const std::string& problem, int threads, const std::string& recipe) const;

 private:
  static constexpr size_t kSizes = 14;
  struct Slots {
    size_t family = 0;
    std::vector<size_t> knobs;  // of each its value's; its change's is the next one
  };
  void set(std::vector<double>& x, const std::string& name, double v) const;
  std::map<std::string, size_t> slots_;  // "family direct", "knob k_block", "change k_block"
  std::map<std::string, Slots> by_family_;
};

// The shapes that stand behind the '|' of a problem's text.
std::vector<std::vector<int64_t>> shapes_in(const std::string& problem);

}  // namespace lathe::tuning
