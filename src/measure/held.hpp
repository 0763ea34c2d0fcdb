// Runs of a lane with growing states, each from where the one before it began.
#pragma once

#include "lathe/program.hpp"

namespace lathe {

class HeldRuns {
 public:
  // `positions`: that the states hold when a run begins: zeros. Throws Error (value): more than fit.
  HeldRuns(Lane& lane, const std::vector<Tensor>& inputs, int64_t positions);
  // After each run: takes back what it added.
  void after_run();

 private:
  Lane& lane_;
  bool grows_ = false, all_grow_ = true;
  SavedState filled_;
};

}  // namespace lathe
