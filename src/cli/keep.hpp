// Results that are kept in the logbook.
#pragma once

#include <map>
#include <string>

#include "common.hpp"

namespace lathe::cli {

struct KeepFlags {
  bool keep = false;
  std::string logbook;

  void add_to(CLI::App& app);
  // The file that results go to: --logbook, else LATHE_LOGBOOK in the environment, else the settings file's; else, when they are to be
  // kept at all, one in the user's data folder. Throws UsageError, Error (format) for settings that cannot be read.
  std::string file() const;
  // Whether results are kept: asked for, or a logbook is named somewhere.
  bool on() const;
};

// What times hang on, in a fixed order.
std::string options_text(const Program& program, const std::vector<Shape>& shapes, int lanes);
// The entry that this result is, without figures.
LogEntry entry_for(const std::string& kind, const std::string& model, const std::string& options, const Json& details);
// Writes it, when results are kept, and tells people where. Gives its id; 0: it was not kept.
int64_t keep_entry(const KeepFlags& flags, const LogEntry& entry, bool people);

// The entry that `of` is compared with: of that id, or LAST, the one before it of the same kind, model, options and machine. Throws
// UsageError, Error (value).
LogEntry earlier_entry(const Logbook& book, const LogEntry& of, const std::string& which);
// The sentence of it; "slower" stands out.
std::string change_text(const Change& change);
Json change_json(const LogEntry& before, const LogEntry& after, const Change& change);

}  // namespace lathe::cli
