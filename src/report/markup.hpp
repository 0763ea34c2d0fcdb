// Text inside markup.
#pragma once

#include <string>
#include <string_view>

namespace lathe {

// What would be markup is written so that it is read as text; control characters are left out.
inline std::string as_markup(std::string_view text) {
  std::string out;
  for (char c : text) {
    if (c == '<') out += "&lt;";
    else if (c == '>') out += "&gt;";
    else if (c == '&') out += "&amp;";
    else if (c == '"') out += "&quot;";
    else if (static_cast<unsigned char>(c) >= 32) out += c;
  }
  return out;
}

}  // namespace lathe
