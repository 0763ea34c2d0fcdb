// What options may be, in one place.
#pragma once

#include "kernels/isa.hpp"
#include "lathe/program.hpp"

namespace lathe {

inline constexpr int kMostThreads = 1024;

// A number of threads as a caller gives it; 0 stands for `otherwise`. Throws Error (value).
int settled_threads(int asked, int otherwise, const char* meaning_of_zero);
// The options with threads, isa and editions filled in. Throws Error (value) naming the option, what it is and what it may be.
CompileOptions settled(CompileOptions options);
// The instruction set of that name ("": the best), when this machine has it. Throws Error (value) naming those it has.
kernels::Isa chosen_isa(const std::string& name);
// Whether this machine has it.
bool has_isa(const std::string& name);

}  // namespace lathe
