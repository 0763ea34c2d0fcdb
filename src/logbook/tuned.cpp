// Recipes from wherever they are kept.
#include <fstream>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/logbook.hpp"
#include "lathe/tune.hpp"

namespace lathe {

Recipes tuned_recipes(const std::filesystem::path& path) {
  std::ifstream in(path, std::ios::binary);
  if (!in || std::filesystem::is_directory(path)) fail(Category::resource, "{}: cannot be read; it should hold recipes", path.string());
  std::string head(64, '\0');
  in.read(head.data(), static_cast<std::streamsize>(head.size()));
  head.resize(static_cast<size_t>(std::max<std::streamsize>(0, in.gcount())));
  if (kind_of_file(head) == "an SQLite database") return Logbook(path).recipes(machine_fingerprint());
  std::string machine;
  Recipes recipes = read_recipes(path, &machine);
  if (machine != machine_fingerprint())
    fail(Category::value, "{}: its recipes are for another machine ({}); this is {}", path.string(), machine, machine_fingerprint());
  return recipes;
}

}  // namespace lathe
