// What a cost model sees of a recipe: sizes of the problem, and knobs by name, so that what one problem taught serves others.
#pragma once

#include <cstddef>
#include <cstdint>
#include <map>
#include <span>
#include <string>
#include <vector>

#include "lathe/recipes.hpp"

namespace lathe::lower {

class Features {
 public:
  // Learns the names; rows made before are shorter than those made after.
  void learn(std::span<const FamilyInfo> families);
  // Adds one name ("knob k_block"), as names() gives them.
  void name(const std::string& name) { slots_.try_emplace(name, slots_.size()); }
  // In the order in which they stand in a row, behind the sizes.
  std::vector<std::string> names() const;
  size_t count() const { return kSizes + slots_.size(); }
  // In two parts, for many recipes of a problem.
  std::vector<double> sizes(const std::string& problem, int threads) const;
  // Where a family and its knobs stand in a row; kNowhere where they have no name here.
  static constexpr size_t kNowhere = static_cast<size_t>(-1);
  struct Slots {
    struct Knob {
      size_t value = kNowhere, change = kNowhere;
    };
    size_t family = kNowhere;
    std::vector<Knob> knobs;
  };
  Slots slots(const FamilyInfo& family) const;
  // `values`: of each knob.
  static void put(std::vector<double>& sizes, const Slots& slots, const FamilyInfo& family, std::span<const int64_t> values);
  std::vector<double> row(const std::string& problem, int threads, const FamilyInfo& family, std::span<const int64_t> values) const;
  // Of a problem whose space is not known: what the recipe says, without how far that is from the estimate's.
  std::vector<double> row(const std::string& problem, int threads, const std::string& recipe) const;

 private:
  static constexpr size_t kSizes = 14;
  size_t at(const std::string& name) const;
  std::map<std::string, size_t> slots_;  // "family direct", "knob k_block", "change k_block"
};

// The shapes that stand behind the '|' of a problem's text.
std::vector<std::vector<int64_t>> shapes_in(const std::string& problem);

}  // namespace lathe::lower
