// What the library tells of its work while it does it: for a log file, or to see why something takes long. Nobody listens by default, and
// then it costs a comparison.
#pragma once

#include <functional>
#include <string_view>

namespace lathe {

// debug: what each pass changed and how each step is done. info: models loaded, programs compiled, subgraphs compiled while running.
// warning: what works but is slow or was given up. error: what a command ends with.
enum class LogLevel { debug, info, warning, error };
std::string_view to_string(LogLevel level);

using LogSink = std::function<void(LogLevel level, std::string_view text)>;

// Who listens, and from which level on; an empty sink: nobody. May be called at any time, from any thread. The sink is called by the thread
// that does the work, by one at a time; it must not call the library. One line a call, without its end.
void set_log(LogSink sink, LogLevel least = LogLevel::info);

}  // namespace lathe
