// The library's optional part for MPI, or another one.
#include <dlfcn.h>

#include <filesystem>

#include "base/fail.hpp"
#include "lathe/spread.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

// Where this library lies.
fs::path own_folder() {
  Dl_info info{};
  if (::dladdr(reinterpret_cast<const void*>(&load_ranks), &info) == 0 || info.dli_fname == nullptr) return {};
  std::error_code ec;
  return fs::weakly_canonical(info.dli_fname, ec).parent_path();
}

}  // namespace

std::shared_ptr<Ranks> load_ranks(const std::string& what) {
  fs::path file = what;
  if (what == "mpi") {
    constexpr const char* kFile = "mellowlathe_mpi.so";
    // Installed; or as built, the library or a program that has it in itself.
    const fs::path own = own_folder();
    for (const fs::path& folder : {own / "mellowlathe", own, own.parent_path() / "lib"}) {
      file = folder / kFile;
      if (fs::exists(file)) break;
    }
    if (!fs::exists(file))
      fail(Category::resource, "the part for MPI is not installed (no {} beside the library): it is built where libopenmpi-dev is", kFile);
  } else if (!fs::exists(file)) {
    fail(Category::value, "'{}' is no kind of ranks: expected mpi, or a library that has a function lathe_ranks", what);
  }
  // Its symbols are seen by what it loads itself, as MPI does.
  void* library = ::dlopen(file.c_str(), RTLD_NOW | RTLD_GLOBAL);
  if (library == nullptr) fail(Category::resource, "{}: cannot be loaded: {}", file.string(), ::dlerror());
  const auto make = reinterpret_cast<Ranks* (*)()>(::dlsym(library, "lathe_ranks"));
  if (make == nullptr) fail(Category::value, "{}: has no function lathe_ranks", file.string());
  return std::shared_ptr<Ranks>(make());
}

}  // namespace lathe
