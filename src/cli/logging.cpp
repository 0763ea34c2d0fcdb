#include "logging.hpp"

#include <spdlog/sinks/basic_file_sink.h>
#include <spdlog/spdlog.h>

#include <chrono>
#include <cstdio>
#include <filesystem>
#include <iostream>
#include <regex>

#include "base/clock.hpp"
#include "base/files.hpp"
#include "base/text.hpp"
#include "lathe/log.hpp"

namespace lathe::cli {

struct CallLog::Impl {
  std::string file, level = "info";
  std::shared_ptr<spdlog::logger> logger;
  std::chrono::steady_clock::time_point start = std::chrono::steady_clock::now();
};

namespace {

spdlog::level::level_enum spdlog_level(LogLevel level) {
  switch (level) {
    case LogLevel::debug: return spdlog::level::debug;
    case LogLevel::info: return spdlog::level::info;
    case LogLevel::warning: return spdlog::level::warn;
    default: return spdlog::level::err;
  }
}

// Lines are put behind what is there: that must be a log.
bool is_log(const std::string& file) {
  std::error_code ec;
  if (!std::filesystem::is_regular_file(file, ec) || std::filesystem::file_size(file, ec) == 0) return true;
  std::FILE* in = std::fopen(file.c_str(), "rb");
  if (!in) return true;  // opening it for writing tells why
  char head[64]{};
  const size_t n = std::fread(head, 1, sizeof head - 1, in);
  std::fclose(in);
  static const std::regex kLine("^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:.]+ [a-z]+ ");
  return std::regex_search(std::string(head, n), kLine);
}

}  // namespace

CallLog::CallLog() : impl_(std::make_unique<Impl>()) {}
CallLog::~CallLog() { set_log({}); }

void CallLog::add_to(CLI::App& app) {
  app.add_option("--log", impl_->file, "Write what is done, line by line, behind what FILE holds")->type_name("FILE");
  app.add_option("--log-level", impl_->level, "How much of it: error, warning, info, debug, which is every pass and step (info)")
      ->check(CLI::IsMember({"error", "warning", "info", "debug"}))
      ->type_name("LEVEL");
}

void CallLog::begin(int argc, char** argv) {
  if (impl_->file.empty()) return;
  if (!is_log(impl_->file))
    throw UsageError(fmt::format("--log {}: holds something else than a log; name another file, or remove it", impl_->file));
  try {
    auto sink = std::make_shared<spdlog::sinks::basic_file_sink_mt>(impl_->file);
    impl_->logger = std::make_shared<spdlog::logger>("lathe", std::move(sink));
  } catch (const spdlog::spdlog_ex& e) {
    throw Error(Category::resource, fmt::format("--log {}: cannot be written: {}", impl_->file, e.what()));
  }
  impl_->logger->set_pattern("%Y-%m-%dT%H:%M:%S.%e %l %v");
  impl_->logger->flush_on(spdlog::level::debug);  // a call that crashes leaves its last line
  bool told = false;
  impl_->logger->set_error_handler([told](const std::string& what) mutable {
    if (!told) std::cerr << "lathe: the log cannot be written: " << what << "\n";
    told = true;
  });
  LogLevel least = LogLevel::info;
  for (const LogLevel level : {LogLevel::debug, LogLevel::info, LogLevel::warning, LogLevel::error}) {
    if (to_string(level) == impl_->level) least = level;
  }
  impl_->logger->set_level(spdlog_level(least));
  std::string words;
  for (int i = 1; i < argc; ++i) words += std::string(" ") + argv[i];
  impl_->logger->info("lathe {}:{}", LATHE_VERSION, words);
  const MachineInfo& m = machine_info();
  impl_->logger->info("on {}, {} of {} cores, {}", m.cpu, m.usable, m.cores, fmt::join(m.isas, " "));
  set_log([logger = impl_->logger](LogLevel level, std::string_view text) { logger->log(spdlog_level(level), "{}", text); }, least);
}

void CallLog::failed(const std::string& what) const {
  if (impl_->logger) impl_->logger->error("{}", what);
}

void CallLog::ended(int code) const {
  if (!impl_->logger) return;
  impl_->logger->info("exit code {} after {}", code, seconds_text(since(impl_->start)));
}

}  // namespace lathe::cli
