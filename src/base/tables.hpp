// Lines of cells between commas.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace lathe {

// The cells of each line; a cell in quotes may hold commas, and two quotes for one. Empty lines are one empty cell.
std::vector<std::vector<std::string>> table_rows(std::string_view text);

}  // namespace lathe
