#include "runtime/options.hpp"

#include <algorithm>

#include "base/fail.hpp"

namespace lathe {

int settled_threads(int asked, int otherwise, const char* meaning_of_zero) {
  if (asked < 0 || asked > kMostThreads)
    fail(Category::value, "threads is {}, expected 1 to {} (0: {})", asked, kMostThreads, meaning_of_zero);
  return asked > 0 ? asked : otherwise;
}

bool has_isa(const std::string& name) {
  const auto isa = kernels::parse_isa(name);
  return isa && std::ranges::find(kernels::available(), *isa) != kernels::available().end();
}

kernels::Isa chosen_isa(const std::string& name) {
  if (name.empty()) return kernels::best();
  if (!has_isa(name)) {
    std::vector<std::string_view> names;
    for (kernels::Isa i : kernels::available()) names.push_back(kernels::name(i));
    fail(Category::value, "instruction set '{}' is not one this machine has: {}", name, fmt::join(names, ", "));
  }
  return *kernels::parse_isa(name);
}

CompileOptions settled(CompileOptions o) {
  o.threads = settled_threads(o.threads, usable_cores(), "all cores");
  o.isa = kernels::name(chosen_isa(o.isa));
  o.editions = std::max(1, o.editions);
  return o;
}

}  // namespace lathe
