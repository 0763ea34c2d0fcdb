// The points of a problem's space, and how new ones are thought of. No measuring here.
#pragma once

#include <random>
#include <string>
#include <vector>

#include "lathe/recipes.hpp"

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
  // Other values, drawn at random, in place of the first ones.
  void forget(std::mt19937_64& r);
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
  std::vector<FamilyInfo> families_;
};

}  // namespace lathe::tuning
