#include "base/log.hpp"

#include <array>
#include <atomic>
#include <mutex>
#include <string>

namespace lathe {
namespace {

constexpr int kNobody = 100;
std::atomic<int> least_wanted{kNobody};

struct Listener {
  std::mutex mutex;
  LogSink sink;
};
Listener& listener() {
  static Listener one;
  return one;
}

}  // namespace

std::string_view to_string(LogLevel level) {
  constexpr std::array<std::string_view, 4> kNames{"debug", "info", "warning", "error"};
  return kNames[static_cast<size_t>(level)];
}

void set_log(LogSink sink, LogLevel least) {
  Listener& l = listener();
  const std::lock_guard lock(l.mutex);
  least_wanted = sink ? static_cast<int>(least) : kNobody;
  l.sink = std::move(sink);
}

bool logs(LogLevel level) { return static_cast<int>(level) >= least_wanted.load(std::memory_order_relaxed); }

void log_text(LogLevel level, std::string_view text) {
  // What comes from a model may hold line ends.
  std::string line(text);
  for (char& c : line) {
    if (static_cast<unsigned char>(c) < 32 && c != '\t') c = ' ';
  }
  Listener& l = listener();
  const std::lock_guard lock(l.mutex);
  if (l.sink && logs(level)) l.sink(level, line);
}

}  // namespace lathe
