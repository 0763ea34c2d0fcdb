// The log of a call: what the library tells of its work, in a file.
#pragma once

#include <memory>
#include <string>

#include "common.hpp"

namespace lathe::cli {

class CallLog {
 public:
  CallLog();
  ~CallLog();
  CallLog(const CallLog&) = delete;
  // --log and --log-level.
  void add_to(CLI::App& app);
  // Listens from now on, if a file was named. Throws UsageError for a file that holds something else, Error (resource) for one that cannot
  // be written.
  void begin(int argc, char** argv);
  void failed(const std::string& what) const;
  void ended(int code) const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace lathe::cli
