// Throws lathe::Error with a formatted sentence.
#pragma once

#include <fmt/format.h>

#include "lathe/error.hpp"

namespace lathe {

template <typename... Args>
[[noreturn]] void fail(Category category, fmt::format_string<Args...> text, Args&&... args) {
  throw Error(category, fmt::format(text, std::forward<Args>(args)...));
}

}  // namespace lathe
