// Help beyond --help: words, manual pages, completion for shells.
#pragma once

#include <string>
#include <vector>

#include "common.hpp"

namespace lathe::cli {

// Stage of work, what to say of the command, and two calls of its own.
struct CommandHelp {
  const char* name;
  const char* stage;
  const char* what;
  std::vector<const char*> examples;
};
const std::vector<CommandHelp>& command_helps();
// Gives each command its stage and its examples.
void dress(CLI::App& root);

// What `lathe help TOPIC..` prints: "words", a command's name, "man COMMAND" (roff), "completion SHELL" (bash, zsh, fish). Throws
// UsageError with what there is.
std::string help_text(CLI::App& root, const std::vector<std::string>& topic);

}  // namespace lathe::cli
