// What a class is called.
#pragma once

#include <fmt/format.h>

#include <cstdint>
#include <string>
#include <vector>

namespace lathe::watching {

// Its label, or its number where there is none.
inline std::string label_of(int64_t label, const std::vector<std::string>& labels) {
  return label >= 0 && label < static_cast<int64_t>(labels.size()) ? labels[static_cast<size_t>(label)] : std::to_string(label);
}

}  // namespace lathe::watching
