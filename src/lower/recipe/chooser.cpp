#include "lower/recipe/chooser.hpp"

#include <algorithm>

#include "base/fail.hpp"

namespace lathe::lower {
namespace {

constexpr std::string_view kAgain = "; ship the model again with this version";

std::string names_of(const std::vector<const Candidate*>& candidates) {
  std::string text;
  for (const Candidate* c : candidates) text += fmt::format("{}{}", text.empty() ? "" : ", ", c->family->name());
  return text;
}

}  // namespace

std::optional<Recipe> StoredRecipes::next(const Problem&) {
  if (at_ == recipes_.size()) fail(Category::format, "it holds {} recipes, its steps need more{}", recipes_.size(), kAgain);
  return recipes_[at_++];
}

Choice Chooser::best(const std::vector<const Candidate*>& candidates, const Problem& problem) {
  std::vector<std::string_view> names;
  for (const Candidate* c : candidates) names.push_back(c->family->name());
  std::pair key(problem, std::move(names));
  // What a match found out may depend on more than the problem says (values of constants, what makes an operand): looked at again.
  const auto runs = [&](const Choice& c) {
    const auto& [family, match] = *candidates[c.candidate];
    return family->space(*match, problem).fault(c.recipe).empty() && family->fault(*match, problem, c.recipe).empty();
  };
  if (const auto it = chosen_.find(key); it != chosen_.end() && runs(it->second)) return it->second;
  std::vector<std::pair<std::pair<bool, double>, Choice>> ranked;
  for (size_t i = 0; i < candidates.size(); ++i) {
    const auto& [family, match] = *candidates[i];
    Recipe recipe = family->space(*match, problem).first();
    const double estimate = candidates.size() > 1 ? family->estimate(*match, problem, recipe) : 0;
    ranked.push_back({{!family->untuned(), estimate}, {i, std::move(recipe)}});
  }
  std::ranges::stable_sort(ranked, {}, [](const auto& r) { return r.first; });
  const auto it = std::ranges::find_if(ranked, runs, [](const auto& r) -> const Choice& { return r.second; });
  if (it == ranked.end()) fail(Category::internal, "no step for {}", names_of(candidates));
  Choice choice = it->second;
  if (learned_) {
    const auto& [family, match] = *candidates[choice.candidate];
    const RecipeSpace space = family->space(*match, problem);
    const auto better = learned_->better(problem_text(problem), problem.machine.threads, space);
    if (better && family->fault(*match, problem, *better).empty()) choice.recipe = *better, choice.learned = true;
  }
  return chosen_[std::move(key)] = std::move(choice);
}

Choice Chooser::stored(const Recipe& stored, const std::vector<const Candidate*>& candidates, const Problem& problem) const {
  for (size_t i = 0; i < candidates.size(); ++i) {
    const auto& [family, match] = *candidates[i];
    if (stored.family != family->name()) continue;
    const RecipeSpace space = family->space(*match, problem);
    Recipe recipe = source_->same_machine() ? stored : space.same_bits(stored);
    std::string fault = stored.version == family->version() ? space.fault(recipe) : space.fault(stored);
    if (fault.empty()) fault = family->fault(*match, problem, recipe);
    if (!fault.empty()) fail(Category::format, "a recipe it holds, {}, does not fit its step: {}{}", describe(stored), fault, kAgain);
    return {i, std::move(recipe)};
  }
  fail(Category::format, "a recipe it holds, {}, is for another kind of step than it belongs to{}", describe(stored), kAgain);
}

// What does not fit is left, and said: the file may be another version's, or nobody's.
std::optional<Choice> Chooser::tuned(Choosing& choosing, const std::vector<const Candidate*>& candidates, const Problem& problem) const {
  const TunedRecipe* t = tuned_->find(choosing.problem, kernels::name(problem.machine.isa), problem.machine.threads);
  if (t == nullptr) return std::nullopt;
  const auto recipe = read_recipe(t->recipe);
  std::string fault = recipe ? "it is for another kind of step" : "it is no recipe";
  for (size_t i = 0; recipe && i < candidates.size(); ++i) {
    const auto& [family, match] = *candidates[i];
    if (recipe->family != family->name()) continue;
    fault = family->space(*match, problem).fault(*recipe);
    if (fault.empty()) fault = family->fault(*match, problem, *recipe);
    if (!fault.empty()) break;
    choosing.by = "tuned", choosing.gain = t->gain;
    return Choice{i, *recipe};
  }
  choosing.refused = fmt::format("{}: {}", t->recipe, fault);
  return std::nullopt;
}

void Chooser::pin(Choosing& choosing, Choice& choice, const std::vector<const Candidate*>& candidates, const Problem& problem) const {
  const auto here = [&](const PinnedKnob& pin) {
    const Match& m = *candidates[choice.candidate]->match;
    return pin.node.empty() || std::ranges::any_of(m.group->nodes, [&](int n) { return m.view->node(n).name == pin.node; });
  };
  if (tuned_->pins().empty()) return;
  Choice wanted = choice;
  std::string texts, fault;
  const auto take = [&](const PinnedKnob& pin) {
    texts += (texts.empty() ? "" : ", ") + to_string(pin);
    if (!pin.family.empty()) {
      const auto it = std::ranges::find(candidates, pin.family, [](const Candidate* c) { return c->family->name(); });
      if (it == candidates.end()) fault = fmt::format("{} can do it", names_of(candidates));
      else if (const size_t at = static_cast<size_t>(it - candidates.begin()); at != wanted.candidate)
        wanted = {at, (*it)->family->space(*(*it)->match, problem).first()};
      return;
    }
    const auto knob = std::ranges::find(wanted.recipe.knobs, pin.knob, &Knob::name);
    if (knob != wanted.recipe.knobs.end()) knob->value = pin.value;
    else fault = fmt::format("{} has no such knob", wanted.recipe.family);
  };
  // Families first: knobs are theirs.
  for (const bool families : {true, false}) {
    for (const PinnedKnob& pin : tuned_->pins()) {
      if (pin.family.empty() == families || !here(pin)) continue;
      const bool has = families ? std::ranges::any_of(candidates, [&](const Candidate* c) { return c->family->name() == pin.family; })
                                : std::ranges::find(wanted.recipe.knobs, pin.knob, &Knob::name) != wanted.recipe.knobs.end();
      if (has || !pin.node.empty()) take(pin);
    }
  }
  if (texts.empty()) return;
  const auto& [family, match] = *candidates[wanted.candidate];
  if (fault.empty()) fault = family->space(*match, problem).fault(wanted.recipe);
  if (fault.empty()) fault = family->fault(*match, problem, wanted.recipe);
  if (!fault.empty()) {
    choosing.refused = fmt::format("{}: {}", texts, fault);
    return;
  }
  choice = std::move(wanted);
  choosing.by = "pinned";
}

Chosen Chooser::choose(const std::vector<const Candidate*>& candidates, const Problem& problem) {
  const auto from_source = source_ ? source_->next(problem) : std::nullopt;
  if (!tuned_) return {from_source ? stored(*from_source, candidates, problem) : best(candidates, problem), nullptr};
  auto choosing = std::make_shared<Choosing>();
  choosing->problem = problem_text(problem);
  for (const Candidate* c : candidates) choosing->families.push_back(c->family->space(*c->match, problem).info());
  Choice choice = best(candidates, problem);
  choosing->estimated = candidates[choice.candidate]->family->name();
  choosing->by = choice.learned ? "learned" : "estimate";
  if (from_source) choice = stored(*from_source, candidates, problem), choosing->by = "archive";
  else if (auto t = tuned(*choosing, candidates, problem)) choice = std::move(*t);
  if (!from_source) pin(*choosing, choice, candidates, problem);
  return {std::move(choice), std::move(choosing)};
}

}  // namespace lathe::lower
