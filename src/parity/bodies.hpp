// Subgraphs of control steps, held against plain evaluation in double run by run.
#pragma once

#include <optional>
#include <span>

#include "parity/net.hpp"

namespace lathe::parting {

// A run of a subgraph, as a model of its own and what it is fed.
struct BodyRun {
  std::string body;  // the attribute that holds it
  int64_t run = 0;   // how many came before
  Graph model;
  std::vector<Tensor> inputs;
};

// `part`: a model of one node with subgraphs. Evaluates it in double, and runs each subgraph compiled on the exact values that it is given
// there. The first run that is out of tolerance; when none is, the one whose error is largest and more than rounding explains; nothing when
// there is none. Throws Error as plain evaluation does.
std::optional<BodyRun> first_wrong_run(const Graph& part, std::span<const Tensor> inputs, const CompileOptions& options,
                                       const Tolerances& tolerances, const RunOptions& run);

}  // namespace lathe::parting
