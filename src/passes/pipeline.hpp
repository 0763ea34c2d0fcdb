// Which passes run, and in which order.
#pragma once

#include <vector>

#include "passes/passes.hpp"

namespace lathe::passes {

enum class When : uint8_t {
  program,  // once, before shapes are known
  edition,  // again for each set of input shapes: what needed sizes
};

struct How {
  When when = When::program;
  bool fuse = true;         // false: only what tidies up
  bool round_each = false;  // CompileOptions::round_each
};

// Runs the passes of the list in pipeline.cpp on a graph whose types are inferred, and infers them again. Returns a report a pass that
// changed something or was tried, in order; one that ran twice reports once.
std::vector<Report> run(Graph& graph, const How& how);

}  // namespace lathe::passes
