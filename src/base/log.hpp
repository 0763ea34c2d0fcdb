// Lines for whoever listens (lathe/log.hpp).
#pragma once

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "lathe/log.hpp"

namespace lathe {

bool logs(LogLevel level);
void log_text(LogLevel level, std::string_view text);

// Formats nothing that nobody reads.
template <typename... Args>
void log_line(LogLevel level, fmt::format_string<Args...> format, Args&&... args) {
  if (logs(level)) log_text(level, fmt::format(format, std::forward<Args>(args)...));
}

}  // namespace lathe
