// Ops that only passes make.
#pragma once

#include "lathe/graph.hpp"

namespace lathe::ops {

inline constexpr const char* kInternalDomain = "mellow.lathe";
// Runs its `body`, which takes no inputs and captures what it reads: nodes on sizes that are known only while running.
inline constexpr const char* kPart = "Part";
inline bool is_part(const Node& n) { return n.op == kPart && n.domain == kInternalDomain; }
// Whole numbers as they are; a zero among them, by which something would be divided, is an error.
inline constexpr const char* kDivisors = "Divisors";
// One of two values of the same type and shape: condition, the one where it is true, the other. What makes the other need not run.
inline constexpr const char* kChoice = "Choice";
inline bool is_choice(const Node& n) { return n.op == kChoice && n.domain == kInternalDomain; }

}  // namespace lathe::ops
