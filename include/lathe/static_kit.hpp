// A program that runs one archive and nothing else: what it needs of the library of deployment, and the files to build it from.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "lathe/archive.hpp"

namespace lathe {

// Of the library of deployment, by the names of functions in its sources.
struct StaticKit {
  std::vector<std::string> families;           // of steps, in the order of their table
  std::vector<std::string> ops;                // groups of ops, in theirs
  std::string isa{};                           // the instruction set that the archive was made for: kernels of the others are left out
  std::vector<std::string> kernels{};          // of its own, those that the steps run
  std::vector<std::filesystem::path> files{};  // written, below the folder
};

// What an archive's editions need, found by making their steps again with nothing else: the same recipes come of it.
// Throws Error: unsupported (what is compiled while running: branches, loops, parts, states, sizes that only a run knows; ops of the
// user's own), and what load_program throws.
StaticKit static_kit_of(const std::filesystem::path& archive);

// Puts into a folder, which is made if it is not there: the archive (model.lathe) and a file that takes it into a program (model.S), the
// tables of what is needed (needed.cpp), an example (main.cpp, which stays when it is there), CMakeLists.txt, and README.md with what to
// link. Files of a kit that was made before are replaced, each whole or not at all. Throws Error: value (a folder with other things in it),
// resource (it cannot be written), and what static_kit_of throws.
StaticKit write_static_kit(const std::filesystem::path& archive, const std::filesystem::path& folder);

}  // namespace lathe
