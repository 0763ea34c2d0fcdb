#include "lathe/recipes.hpp"

#include <charconv>

#include "base/fail.hpp"

namespace lathe {

PinnedKnob read_pin(std::string_view text) {
  const auto wrong = [&] {
    fail(Category::value, "'{}' pins nothing: expected NODE:KNOB=VALUE, KNOB=VALUE or NODE:family=NAME, like Conv_3:k_block=288", text);
  };
  const size_t equal = text.rfind('=');
  if (equal == std::string_view::npos) wrong();
  // Names of nodes may hold colons; those of knobs do not.
  const size_t colon = text.substr(0, equal).rfind(':');
  const std::string_view value = text.substr(equal + 1), left = text.substr(0, equal);
  PinnedKnob pin;
  if (colon != std::string_view::npos) pin.node = left.substr(0, colon);
  pin.knob = colon == std::string_view::npos ? left : left.substr(colon + 1);
  if (pin.knob.empty() || value.empty() || colon == 0) wrong();
  if (pin.knob == "family") {
    pin.family = value;
    return pin;
  }
  const auto [end, fault] = std::from_chars(value.data(), value.data() + value.size(), pin.value);
  if (fault != std::errc() || end != value.data() + value.size()) wrong();
  return pin;
}

std::string to_string(const PinnedKnob& pin) {
  return fmt::format("{}{}{}={}", pin.node, pin.node.empty() ? "" : ":", pin.knob,
                     pin.family.empty() ? std::to_string(pin.value) : pin.family);
}

void Recipes::add(TunedRecipe r) {
  std::tuple key(r.problem, r.isa, r.threads);
  by_key_[std::move(key)] = std::move(r);
}

const TunedRecipe* Recipes::find(std::string_view problem, std::string_view isa, int threads) const {
  const auto it = by_key_.find({std::string(problem), std::string(isa), threads});
  return it == by_key_.end() ? nullptr : &it->second;
}

std::vector<TunedRecipe> Recipes::all() const {
  std::vector<TunedRecipe> out;
  for (const auto& [key, r] : by_key_) out.push_back(r);
  return out;
}

}  // namespace lathe
