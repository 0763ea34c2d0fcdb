// Ops that only passes make.
#pragma once

namespace lathe::ops {

inline constexpr const char* kInternalDomain = "mellow.lathe";
// Runs its `body`, which takes no inputs and captures what it reads: nodes on sizes that are known only while running.
inline constexpr const char* kPart = "Part";

}  // namespace lathe::ops
