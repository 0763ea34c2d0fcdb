// Recipes as a JSON file.
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <cmath>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "lathe/tune.hpp"

namespace lathe {
namespace {

using Json = nlohmann::ordered_json;

constexpr int kVersion = 1;
constexpr const char* kFormat = "mellow-lathe recipes";

}  // namespace

void write_recipes(const std::filesystem::path& path, const Recipes& recipes, const std::string& machine) {
  Json list = Json::array();
  for (const TunedRecipe& r : recipes.all()) {
    list.push_back({{"problem", r.problem},
                    {"isa", r.isa},
                    {"threads", r.threads},
                    {"recipe", r.recipe},
                    {"gain", r.gain},
                    {"low", r.low},
                    {"high", r.high},
                    {"seconds", r.seconds},
                    {"trials", r.trials}});
  }
  const Json all{{"format", kFormat}, {"version", kVersion}, {"machine", machine}, {"recipes", std::move(list)}};
  write_file(path, all.dump(1) + "\n");
}

Recipes read_recipes(const std::filesystem::path& path, std::string* machine) {
  const Json all = Json::parse(read_file(path), nullptr, false);
  const std::string file = path.string();
  if (all.is_discarded() || !all.is_object() || all.value("format", Json()) != kFormat)
    fail(Category::format, "{}: holds no recipes; expected a file that 'lathe tune -o' has made", file);
  if (const Json v = all.value("version", Json()); v != kVersion)
    fail(Category::format, "{}: is of version {} of recipes; this one knows version {}", file, v.dump(), kVersion);
  const Json list = all.value("recipes", Json());
  if (!list.is_array()) fail(Category::format, "{}: 'recipes' is not a list", file);
  if (machine) *machine = all.value("machine", Json()).is_string() ? all["machine"].get<std::string>() : "";
  Recipes out;
  for (size_t i = 0; i < list.size(); ++i) {
    const Json& j = list[i];
    const auto text = [&](const char* key) {
      const Json v = j.is_object() ? j.value(key, Json()) : Json();
      if (!v.is_string()) fail(Category::format, "{}: recipe {}: '{}' is not a text", file, i + 1, key);
      return v.get<std::string>();
    };
    const auto number = [&](const char* key, double least, double most) {
      const Json v = j.value(key, Json());
      if (!v.is_number() || !(v.get<double>() >= least && v.get<double>() <= most))
        fail(Category::format, "{}: recipe {}: '{}' is {}, expected a number from {} to {}", file, i + 1, key, v.dump(), least, most);
      return v.get<double>();
    };
    TunedRecipe r;
    r.problem = text("problem"), r.isa = text("isa"), r.recipe = text("recipe");
    r.threads = static_cast<int>(number("threads", 1, 1 << 16));
    r.gain = number("gain", 1e-6, 1e6), r.low = number("low", 1e-6, 1e6), r.high = number("high", 1e-6, 1e6);
    r.seconds = number("seconds", 0, 1e9);
    r.trials = static_cast<int>(number("trials", 0, 1e9));
    out.add(std::move(r));
  }
  return out;
}

}  // namespace lathe
