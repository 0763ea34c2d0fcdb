// Ops that only passes make.
#pragma once

#include "lathe/graph.hpp"

namespace lathe::ops {

inline constexpr const char* kInternalDomain = "mellow.lathe";
// Runs its `body`, which takes no inputs and captures what it reads: nodes on sizes that are known only while running.
inline constexpr const char* kPart = "Part";
inline bool is_part(const Node& n) { return n.op == kPart && n.domain == kInternalDomain; }

}  // namespace lathe::ops
