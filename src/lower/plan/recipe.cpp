#include "lower/plan/recipe.hpp"

#include <algorithm>
#include <charconv>
#include <limits>

#include "base/fail.hpp"

namespace lathe::lower {

int64_t Recipe::at(std::string_view knob) const {
  const auto it = std::ranges::find(knobs, knob, &Knob::name);
  if (it == knobs.end()) fail(Category::internal, "the recipe {} has no knob '{}'", describe(*this), knob);
  return it->value;
}

std::string describe(const Recipe& recipe) {
  std::string text = fmt::format("{}/{}", recipe.family, recipe.version);
  for (const Knob& k : recipe.knobs) text += fmt::format(" {}={}", k.name, k.value);
  return text;
}

std::optional<Recipe> read_recipe(std::string_view text) {
  const auto number = [](std::string_view t) -> std::optional<int64_t> {
    int64_t v = 0;
    const auto [end, error] = std::from_chars(t.data(), t.data() + t.size(), v);
    return error == std::errc() && end == t.data() + t.size() ? std::optional(v) : std::nullopt;
  };
  const auto word = [&] {
    const size_t end = std::min(text.find(' '), text.size());
    const std::string_view w = text.substr(0, end);
    text.remove_prefix(std::min(end + 1, text.size()));
    return w;
  };
  const std::string_view head = word();
  const size_t slash = head.rfind('/');
  if (slash == std::string_view::npos) return std::nullopt;
  const auto version = number(head.substr(slash + 1));
  if (!version || *version < 1 || *version > std::numeric_limits<int>::max()) return std::nullopt;
  Recipe r{std::string(head.substr(0, slash)), static_cast<int>(*version), {}};
  while (!text.empty()) {
    const std::string_view w = word();
    const size_t equal = w.find('=');
    const auto value = equal == std::string_view::npos ? std::nullopt : number(w.substr(equal + 1));
    if (!value) return std::nullopt;
    r.knobs.push_back({std::string(w.substr(0, equal)), *value});
  }
  return r;
}

}  // namespace lathe::lower
