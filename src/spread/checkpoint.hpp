// Finished pieces in a file: a line that says of which job, then a record a piece, each with its check. What a crash left half-written at
// the end is cut off.
#pragma once

#include <filesystem>
#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "spread/pieces.hpp"

namespace lathe::spread {

class Checkpoint {
 public:
  // Hands over what the file holds. Throws Error: value (of another job), format (no checkpoint), resource.
  Checkpoint(const std::filesystem::path& path, const std::string& job, size_t items,
             const std::function<void(const Piece&, std::string_view result)>& take);
  ~Checkpoint();
  Checkpoint(const Checkpoint&) = delete;
  Checkpoint& operator=(const Checkpoint&) = delete;
  const std::vector<Piece>& held() const { return held_; }
  // On the disk when this returns. Throws Error (resource).
  void add(const Piece& piece, std::string_view result);

 private:
  void write(std::string_view bytes);
  std::filesystem::path path_;
  int file_ = -1;
  std::vector<Piece> held_;
};

}  // namespace lathe::spread
