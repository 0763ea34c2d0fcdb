#include "lathe/recipes.hpp"

namespace lathe {

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
