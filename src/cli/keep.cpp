// Which logbook, and writing to it.
#include "keep.hpp"

#include <cstdlib>
#include <filesystem>

#include "settings.hpp"

namespace lathe::cli {

namespace fs = std::filesystem;

void KeepFlags::add_to(CLI::App& app) {
  app.add_flag("--keep", keep, "Keep the result in the logbook");
  app.add_option("--logbook", logbook, "The logbook (LATHE_LOGBOOK in the environment, the settings file, or one in your data folder)")
      ->type_name("FILE");
}

std::string KeepFlags::file() const {
  if (!logbook.empty()) return logbook;
  if (const char* set = std::getenv("LATHE_LOGBOOK"); set && *set) return set;
  if (const std::string named = named_logbook(); !named.empty()) return named;
  const fs::path folder = user_folder("XDG_DATA_HOME", ".local/share");
  if (folder.empty()) throw UsageError("--logbook is missing: there is no home folder to keep one in");
  return (folder / "mellow-lathe" / "logbook.sqlite").string();
}

bool KeepFlags::on() const {
  if (keep || !logbook.empty()) return true;
  const char* set = std::getenv("LATHE_LOGBOOK");
  return (set && *set) || !named_logbook().empty();
}

std::string options_text(const Program& program, const std::vector<Shape>& shapes, int lanes) {
  std::string text = fmt::format("threads {}, lanes {}, {}", program.options().threads, lanes, program.options().isa);
  if (const auto& r = program.options().recipes; r && r->size() > 0) text += ", tuned";
  for (size_t i = 0; i < shapes.size(); ++i) text += fmt::format(", {} {}", program.inputs()[i].name, fmt::join(shapes[i], "x"));
  return text;
}

LogEntry entry_for(const std::string& kind, const std::string& model, const std::string& options, const Json& details) {
  LogEntry e;
  e.kind = kind;
  e.machine = machine_fingerprint();
  e.version = LATHE_VERSION;
  e.model = fs::path(model).filename().string();
  e.hash = hash_of_file(model);
  e.options = options;
  e.details = details.dump();
  return e;
}

int64_t keep_entry(const KeepFlags& flags, const LogEntry& entry, bool people) {
  if (!flags.on()) return 0;
  const fs::path file = flags.file();
  if (flags.logbook.empty() && !file.parent_path().empty()) {
    std::error_code ec;
    fs::create_directories(file.parent_path(), ec);
  }
  const int64_t id = Logbook(file).keep(entry);
  if (people) fmt::print("  kept as entry {} of {}\n", id, file.string());
  return id;
}

}  // namespace lathe::cli
