// Items shared out among the ranks of a job, and checkpoints.
#pragma once

#include <memory>
#include <string>

#include "common.hpp"

namespace lathe::cli {

struct RanksFlags {
  std::string ranks, checkpoint;

  void add_to(CLI::App& app, bool checkpoints = true);
};

// The ranks of this call, while it lasts. Those that are not rank 0 print nothing and write nothing.
class RanksScope {
 public:
  // Throws UsageError, Error (value, resource).
  explicit RanksScope(const RanksFlags& flags);
  ~RanksScope();
  RanksScope(const RanksScope&) = delete;
  RanksScope& operator=(const RanksScope&) = delete;

  bool reports() const { return !ranks_ || ranks_->rank() == 0; }
  const std::shared_ptr<Ranks>& ranks() const { return ranks_; }
  // For the `n`-th call of share_out of this job: on a model with its options, and on what `job` says beside them.
  ShareOptions share(const ModelOptions& model, const std::string& job, size_t n = 0) const;

 private:
  std::string checkpoint_;
  std::shared_ptr<Ranks> ranks_;
};

// "by 4 ranks: 60, 62, 58, 60 items; 20 done again (rank 2 was silent)"; "" where there was one process and nothing to go on from.
std::string shared_text(const Shared& shared);
Json shared_json(const Shared& shared);
// What standard error calls this process: "rank 3: ", or nothing.
const std::string& rank_prefix();

}  // namespace lathe::cli
