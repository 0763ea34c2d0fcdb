#include "base/tables.hpp"

#include <algorithm>

namespace lathe {
namespace {

std::vector<std::string> cells_of(std::string_view line) {
  std::vector<std::string> cells(1);
  bool quoted = false;
  for (size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (c == '"' && quoted && i + 1 < line.size() && line[i + 1] == '"') cells.back() += line[++i];
    else if (c == '"') quoted = !quoted;
    else if (c == ',' && !quoted) cells.emplace_back();
    else cells.back() += c;
  }
  return cells;
}

}  // namespace

std::vector<std::vector<std::string>> table_rows(std::string_view text) {
  std::vector<std::vector<std::string>> rows;
  for (size_t at = 0; at < text.size();) {
    const size_t end = std::min(text.find('\n', at), text.size());
    std::string_view line = text.substr(at, end - at);
    at = end + 1;
    if (line.ends_with('\r')) line.remove_suffix(1);
    rows.push_back(cells_of(line));
  }
  return rows;
}

}  // namespace lathe
