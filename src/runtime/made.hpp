// Values that the steps of a run make, for whoever looks at a program at work.
#pragma once

#include <vector>

#include "lathe/program.hpp"
#include "lower/plan/plan.hpp"

namespace lathe {

// Which step makes each value that has memory of its own or is a Tensor of the lane.
class MadeValues {
 public:
  explicit MadeValues(const lower::Plan& plan);
  // Shows `look` what the step has made.
  void show(size_t step, const lower::StepContext& context, size_t buffers, const std::function<void(MadeValue&)>& look) const;

 private:
  const lower::Plan& plan_;
  std::vector<std::vector<ValueId>> by_step_;
};

}  // namespace lathe
