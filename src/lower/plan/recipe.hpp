// A recipe: how a step is done, as plain data. Compared, stored in archives, searched by a tuner.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace lathe::lower {

struct Knob {
  std::string name;
  int64_t value = 0;
  bool operator==(const Knob&) const = default;
};

// `family` is the name of a step family ("convolution.winograd"); `version` counts the meanings that its knobs have had.
struct Recipe {
  std::string family;
  int version = 1;
  std::vector<Knob> knobs;  // in the order in which the family states them
  bool operator==(const Recipe&) const = default;
  // The value of a knob that the family stated. Throws Error (internal) when there is none of that name.
  int64_t at(std::string_view knob) const;
};

std::string describe(const Recipe& recipe);  // "convolution.direct/1 k_block=576 row_tasks=8"
// The recipe of such a text; nothing when it is none.
std::optional<Recipe> read_recipe(std::string_view text);

}  // namespace lathe::lower
