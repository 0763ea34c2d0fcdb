// Steps on Tensors: what a node reads as Tensors, whether it lies in the arena or a run found out its size, and what it makes likewise.
#pragma once

#include <optional>
#include <span>
#include <vector>

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

class TensorKernel : public StepKernel {
 public:
  std::shared_ptr<const Graph> graph;
  const Node* node = nullptr;

  // Where the node's operands and results are. Says of the step what it reads, writes and keeps.
  void bind(PlanBuilder& b, Step& step, const Node& n);
  void run(const StepContext& c) const override;

 protected:
  // The node's results. Inputs that are left out are empty. `before`: what the last run made of those whose size it found out, in the
  // order of the outputs; the others are empty.
  virtual std::vector<Tensor> make(const StepContext& c, std::span<const Tensor> inputs, std::span<const Tensor> captured,
                                   std::span<Tensor> before) const = 0;
  // As plain evaluation looks at operands before a node: throws what it throws.
  void check(std::span<const Tensor> inputs) const;
  // A tensor to be written all over: the one before, when it fits and nobody else holds it.
  static Tensor memory(DType dtype, const Shape& shape, Tensor& before);

 private:
  struct Source {
    ValueId value = kAbsent;
    std::optional<Tensor> constant;
    Location location;
    bool dynamic = false;
  };
  struct Target {
    ValueId value = kAbsent;
    Location location;
    bool dynamic = false;
  };
  std::vector<Tensor> fetch(const StepContext& c, const std::vector<Source>& from) const;

  std::vector<Source> sources_, captures_;
  std::vector<Target> targets_;
};

// A step of this match that looks at tensors, and may fail.
void add_tensor_step(PlanBuilder& b, const Match& m, std::unique_ptr<TensorKernel> kernel, const char* text);

}  // namespace lathe::lower
