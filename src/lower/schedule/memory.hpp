// The memory plan: lifetimes to arena offsets.
#pragma once

#include "lower/plan/plan.hpp"

namespace lathe::lower {

// Offsets for arena buffers from their lifetimes; merges in-place pairs first. Fills arena_bytes and arena_bound.
void plan_memory(Plan& plan);

}  // namespace lathe::lower
