// The one table of step families.
#pragma once

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

// All that have kernels, in the order in which equal estimates are decided. The first that matches a group says which layout it demands;
// what none matches is left to plain evaluation. The table never changes while a program runs.
Families step_families();
// Without Winograd's method, whose rounding errors are larger.
Families step_families_without_winograd();
bool is_winograd(const StepFamily& family);
// Of nodes whose sizes a run finds out: they look at them, and at the numbers that decide, themselves.
Families families_at_run();
// Of nodes that make nothing.
Families empty_families();
// Plain evaluation alone: of a group that is left to it, and of a program that is to be an oracle (there, bodies of control flow too).
Families plain_families();
Families oracle_families();

// All of them, with the names of the functions that give them, and the table they are in: for a program that is to have fewer of them
// (lathe/static_kit.hpp). Such a program defines the tables above itself.
enum class FamilyTable : uint8_t { steps, at_run, empty, plain, oracle };
struct NamedFamily {
  std::string_view function;
  FamilyTable table;
  const StepFamily* family;
};
std::span<const NamedFamily> all_families();

}  // namespace lathe::lower
