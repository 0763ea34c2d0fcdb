#include "base/library.hpp"

#include <dlfcn.h>

#include "base/fail.hpp"

namespace lathe {

void call_library(const std::string& path, const char* what, const char* function, const char* registers) {
  // Symbols stay private to the library: two libraries may define things of the same names.
  void* library = ::dlopen(path.find('/') == std::string::npos ? ("./" + path).c_str() : path.c_str(), RTLD_NOW | RTLD_LOCAL);
  if (library == nullptr) fail(Category::value, "{}: cannot be loaded as a library of {}: {}", path, what, ::dlerror());
  const auto add = reinterpret_cast<void (*)()>(::dlsym(library, function));
  if (add == nullptr)
    fail(Category::value, "{}: has no function {}; define extern \"C\" void {}() that calls lathe::{}", path, function, function,
         registers);
  add();
}

}  // namespace lathe
