// Pictures of items side by side, with what is said of each.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "common.hpp"

namespace lathe::cli {

struct SheetItem {
  std::filesystem::path file;
  std::string name, caption;  // two lines below the picture
  // Drawn on it, in pixels of the picture: what is expected, and what was found.
  std::vector<Box> expected, found;
  Tensor pixels{};  // instead of a file
};

// Throws UsageError for a name that does not end in .png, Error (resource) when it cannot be written. A picture that cannot be read is an
// empty frame with the reason.
void check_sheet_name(const std::string& target);
void draw_contact_sheet(const std::string& target, const std::string& title, const std::vector<SheetItem>& items);

}  // namespace lathe::cli
