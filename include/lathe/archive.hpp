// Program archives: a compiled Program in one file, mapped when it is loaded: start-up packs and optimises nothing. The format is ours and
// described in docs/archive.md.
#pragma once

#include <cstddef>
#include <filesystem>
#include <span>
#include <string>
#include <vector>

#include "lathe/program.hpp"

namespace lathe {

struct ArchiveOptions {
  // Also the optimised graph with its original weights: the archive can then be compiled again, for shapes or machines it was not made for.
  bool carry_graph = false;
  // The graph alone, for any processor: no edition and no packed weights. It is compiled where it is loaded (in a browser, on other
  // boards). Carries the graph, whatever `carry_graph` says.
  bool any_machine = false;
  // The model file it was made from: its name and a hash of its bytes are kept.
  std::filesystem::path source{};
};

// Writes the editions compiled so far (of a Program with open dims also what others are compiled from, without the weights that were
// packed) through a temporary file and a rename. Throws Error: resource when it cannot be written, unsupported for what has no place in an
// archive, shape when no edition has been compiled yet and `any_machine` does not say that none is needed.
void save_program(const Program& program, const std::filesystem::path& path, const ArchiveOptions& options = {});

struct LoadProgramOptions {
  int threads = 0;  // 0: as compiled, or as many as this process may use if those are fewer
  // Check the weights' checksum too, which reads the whole file; the rest is always checked.
  bool verify = true;
};

// Maps an archive; its weights stay in the file and are shared between processes. The file must not be changed while the Program lives.
// Throws Error: format when it is no archive, of another version, damaged or cut short; unsupported when it needs an instruction set this
// machine does not have and does not carry its graph.
Program load_program(const std::filesystem::path& path, const LoadProgramOptions& options = {});
// The same from memory, which must stay as it is for as long as the Program, its lanes or their results live; aligned to 64 bytes it is
// used where it is, else copied. No file is touched. Errors call it `name`.
Program load_program(std::span<const std::byte> archive, const LoadProgramOptions& options = {}, const std::string& name = "the archive");

// Whether the file begins as an archive does.
bool is_program_archive(const std::filesystem::path& path);

// What an archive made with carry_graph can be compiled from: optimised, with its original weights; states, if it keeps any, are outputs
// and inputs again, named in `states`. Throws Error: unsupported when it carries none; and as load_program does.
struct CarriedGraph {
  Graph graph;
  std::vector<StatePair> states;
};
CarriedGraph carried_graph(const std::filesystem::path& path);

struct ArchiveInfo {
  std::string made_by;       // version of the library
  std::string source;        // file name of the model, when it was given
  uint64_t source_hash = 0;  // XXH3, 64 bits
  std::string isa;           // instruction set it needs; "any"
  int threads = 0;           // it was compiled for
  bool carries_graph = false;
  std::vector<std::vector<Shape>> editions;  // input shapes
  size_t file_bytes = 0, index_bytes = 0;    // the index: steps, shapes, names; the rest are weights
};
// What an archive says of itself. Throws as load_program does, but for the instruction set.
ArchiveInfo archive_info(const std::filesystem::path& path);

}  // namespace lathe
