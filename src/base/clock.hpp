// Time that passes while something is measured or waited for.
#pragma once

#include <chrono>

namespace lathe {

using Clock = std::chrono::steady_clock;
// Seconds.
inline double since(Clock::time_point start) { return std::chrono::duration<double>(Clock::now() - start).count(); }

}  // namespace lathe
