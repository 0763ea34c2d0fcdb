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
  // Inputs that are carried from trip to trip and whose sizes this trip changes, by index.
  std::vector<size_t> changing(const Node& node, const Plan& plan) const;
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
  // Compiles it again with inputs whose sizes stay open, so that trips of other sizes need no other program.
  void open(const ControlSite& site, const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs,
            std::span<const std::pair<ValueId, Tensor>> outer, const CompileOptions& options, const std::vector<size_t>& which);
  // Whether a program for a part (ops::kPart) pays for values of these sizes: a handful of small tensors is evaluated plainly in less time
  // than it takes to compile, and the sizes may never be met again. Decided by the sizes alone, so that the bits of a result do not depend
  // on what ran before.
  bool pays(const ControlSite& site, const Graph& body, std::span<const std::pair<ValueId, Tensor>> outer);

 private:
  std::mutex mutex_;
  std::map<const Graph*, std::shared_ptr<const CompiledBody>> made_;
  std::map<const Graph*, std::vector<bool>> open_;  // by input
  std::map<std::pair<const Graph*, std::vector<Shape>>, bool> pays_;
};

}  // namespace lathe::lower
