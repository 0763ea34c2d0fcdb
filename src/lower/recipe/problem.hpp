// What a recipe is for, as plain data: two steps with equal problems have the same recipes to choose from. The key of what is remembered.
#pragma once

#include <compare>
#include <cstdint>
#include <map>
#include <string>
#include <variant>
#include <vector>

#include "lower/plan/builder.hpp"
#include "lower/recipe/machine.hpp"

namespace lathe::lower {

struct Problem {
  struct Operand {
    DType dtype = DType::undefined;
    Shape shape;
    bool constant = false;
    Layout layout = Layout::natural;
    std::vector<int64_t> strides;  // empty: contiguous, or not made yet
    auto operator<=>(const Operand&) const = default;
  };
  using Setting = std::variant<int64_t, float, std::string, std::vector<int64_t>, std::vector<float>, std::vector<std::string>>;
  struct Operation {
    std::string op, domain;
    int version = 0;
    std::map<std::string, Setting> attributes;
    std::vector<int> inputs;  // indices into `operands`; -1: absent
    std::strong_ordering operator<=>(const Operation& o) const;
    bool operator==(const Operation& o) const { return (*this <=> o) == 0; }
  };
  std::vector<Operation> operations;  // of the group, in order: prologue, anchor, epilogue
  std::vector<Operand> operands;      // in the order in which the operations name them
  std::vector<Layout> results;        // the preferred layout of each
  int anchor = -1;                    // index into `operations`
  bool kept = false;
  bool weights_leave_caches = false;
  Machine machine;
  auto operator<=>(const Problem&) const = default;
};

// Of a group whose operands have been made: their locations are part of it. Adds nothing to the plan.
Problem problem_of(const PlanBuilder& builder, const Group& group, const Machine& machine);

// In one line: the nodes with their attributes, then behind '|' what they work on and how it lies. Without the machine.
std::string problem_text(const Problem& problem);

}  // namespace lathe::lower
