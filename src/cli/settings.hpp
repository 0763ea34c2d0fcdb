// The user's settings file: options that are given to every call, and the logbook.
#pragma once

#include <span>
#include <string>
#include <vector>

#include "common.hpp"

namespace lathe::cli {

// A folder of the user's: what XDG's variable says, else one below home; empty: there is no home.
std::string user_folder(const char* variable, const char* below_home);
// Where settings are read: $XDG_CONFIG_HOME or ~/.config, mellow-lathe/settings.toml; "" without a home.
std::string settings_file();
// The logbook that the settings name; "" when they name none. Throws Error (format) for settings that cannot be read.
std::string named_logbook();
// Options of the table [every] and of the one named after the command that the words of the command line do not give, as further words.
// Throws Error (format) for a file that is no TOML, a command or an option that there is not, and values of the wrong kind, with the line.
std::vector<std::string> settings_words(const CLI::App& root, const CLI::App& command, std::span<char* const> given);

}  // namespace lathe::cli
