// What a person probably meant, and what a file probably is.
#pragma once

#include <span>
#include <string>
#include <string_view>

namespace lathe {

// The candidate that is nearest to a mistyped name, or "" when none is near: letters left out, added, changed or swapped, case aside.
std::string nearest(std::string_view name, std::span<const std::string> candidates);
// "; did you mean 'x'?", or "".
std::string did_you_mean(std::string_view name, std::span<const std::string> candidates);

// What a file that begins with these bytes is, where that is plain to see: "a PNG picture", "a program archive", "an npz or zip archive",
// "an HTML page", "empty"; else "". Of text: "text".
std::string_view kind_of_file(std::string_view head);

}  // namespace lathe
