// Subgraphs of control steps as programs of their own.
#pragma once

#include <map>
#include <mutex>

#include "lathe/program.hpp"
#include "lower/plan/plan.hpp"

namespace lathe::lower {

// A subgraph whose captured values became constants, where they are constants around it, or further inputs.
struct CompiledBody {
  Program program;
  std::vector<ValueId> captured;  // of the inputs, those after the subgraph's own

  std::vector<Tensor> arguments(std::span<const Tensor> inputs, std::span<const std::pair<ValueId, Tensor>> outer) const;
  // Whether every trip has the shapes of this one. Where a carried value grows, each trip would be compiled anew.
  bool steady(const Node& node, const Plan& plan) const;
};

// Those of one step. Lanes share them.
class CompiledBodies {
 public:
  static CompiledBodies& of(const ControlSite& site);
  // Compiled when it is asked for first. Nothing: it must be evaluated node by node, because values in it are no tensors, no program can be
  // made of it, or it was given up. The answer is the same for every lane and run.
  std::shared_ptr<const CompiledBody> get(const ControlSite& site, const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs,
                                          std::span<const std::pair<ValueId, Tensor>> outer, const CompileOptions& options);
  void give_up(const Graph& body);

 private:
  std::mutex mutex_;
  std::map<const Graph*, std::shared_ptr<const CompiledBody>> made_;
};

}  // namespace lathe::lower
