#include "lower/schedule/branches.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "lower/recipe/cost.hpp"
#include "lower/recipe/recipe_space.hpp"

namespace lathe::lower {
namespace {

// One thread's work: what runs side by side is not shared out again.
class Alone : public Workers {
 public:
  int size() const override { return 1; }
  void parallel(int64_t tasks, void (*f)(void*, int64_t, int), void* context) override {
    for (int64_t task = 0; task < tasks; ++task) f(context, task, 0);
  }
};

class SideBySide : public StepKernel {
 public:
  std::vector<std::unique_ptr<StepKernel>> parts;
  bool at_once = true;  // else one after the other, with all threads for each

  void run(const StepContext& c) const override {
    if (!at_once) {
      for (const auto& part : parts) part->run(c);
      return;
    }
    c.workers.each(static_cast<int64_t>(parts.size()), [&](int64_t part, int) {
      Alone alone;
      const StepContext own{c.buffers, c.tensors, alone, nullptr, c.held};
      parts[static_cast<size_t>(part)]->run(own);
    });
  }
};

bool meet(const std::vector<BufferId>& a, const std::vector<BufferId>& b) {
  return std::ranges::any_of(a, [&](BufferId x) { return std::ranges::find(b, x) != b.end(); });
}

// Whether b may run before or beside a, which stands before it.
bool independent(const Step& a, const Step& b) {
  return !meet(a.writes, b.reads) && !meet(a.writes, b.writes) && !meet(a.reads, b.writes) && !meet(a.scratch, b.scratch) &&
         !meet(a.scratch, b.reads) && !meet(a.reads, b.scratch) && !meet(a.scratch, b.writes) && !meet(a.writes, b.scratch);
}

// How they are done, and (where recipes are asked) what there was to choose from.
struct Way {
  Recipe recipe;
  std::shared_ptr<const Choosing> choosing;
  bool at_once() const { return recipe.at("at_once") != 0; }
};

Way way_of(const std::vector<const Step*>& parts, const Machine& machine, const Recipes* recipes, const Recipe* stored) {
  RecipeSpace space(kSideBySide, 1);
  space.knob("at_once", 1, 0, 1);
  const bool fits = stored && space.fault(*stored).empty();
  Way way{fits ? *stored : space.first(), nullptr};
  if (recipes == nullptr) return way;
  auto choosing = std::make_shared<Choosing>();
  for (const Step* s : parts)
    choosing->problem +=
        fmt::format("{}{}", choosing->problem.empty() ? "side by side: " : " || ", s->choosing ? s->choosing->problem : s->text);
  choosing->families = {space.info()};
  choosing->estimated = kSideBySide;
  choosing->by = fits ? "archive" : "estimate";
  way.choosing = choosing;
  if (fits) return way;
  const auto follow = [&](const Recipe& recipe, const std::string& text, std::string_view by) {
    if (const std::string fault = space.fault(recipe); !fault.empty()) choosing->refused = fmt::format("{}: {}", text, fault);
    else way.recipe = recipe, choosing->by = by;
    return choosing->by == by;
  };
  if (const TunedRecipe* t = recipes->find(choosing->problem, kernels::name(machine.isa), machine.threads)) {
    if (follow(read_recipe(t->recipe).value_or(Recipe()), t->recipe, "tuned")) choosing->gain = t->gain;
  }
  for (const PinnedKnob& pin : recipes->pins()) {
    const auto names_it = [&](const Step* s) {
      return std::ranges::any_of(s->nodes, [&](const std::string& label) { return label.starts_with(pin.node + " ("); });
    };
    if (pin.knob != "at_once" || !(pin.node.empty() || std::ranges::any_of(parts, names_it))) continue;
    Recipe pinned = way.recipe;
    pinned.knobs[0].value = pin.value;
    follow(pinned, to_string(pin), "pinned");
  }
  // What was pinned at one of the parts, followed or not.
  for (const Step* s : parts) {
    if (s->choosing && s->choosing->by == "pinned") choosing->by = "pinned";
    if (s->choosing && !s->choosing->refused.empty()) choosing->refused = s->choosing->refused;
  }
  return way;
}

template <typename T>
void append(std::vector<T>& to, const std::vector<T>& from) {
  to.insert(to.end(), from.begin(), from.end());
}

}  // namespace

void join_branches(Plan& plan, const Machine& machine, const Recipes* recipes, std::span<const Recipe> stored) {
  const int threads = machine.threads;
  if (threads < 2 || std::ranges::any_of(plan.steps, &Step::reads_tensors)) return;
  const auto seconds_of = [&](const Step& s) { return seconds(machine.rates, {s.flops, s.bytes}); };
  const auto small = [&](const Step& s) {
    return s.beside_others && !s.can_fail && small_enough_to_join(machine.rates, {s.flops, s.bytes});
  };
  // How far ahead a partner is looked for: what is moved forward lives longer.
  constexpr size_t kAhead = 12;
  std::vector<Step> out;
  std::vector<bool> taken(plan.steps.size(), false);
  size_t joined = 0;
  for (size_t i = 0; i < plan.steps.size(); ++i) {
    if (taken[i]) continue;
    Step& first = plan.steps[i];
    std::vector<size_t> together{i};
    for (size_t j = i + 1;
         small(first) && j < std::min(plan.steps.size(), i + kAhead) && together.size() < static_cast<size_t>(threads) * 2; ++j) {
      if (taken[j] || !small(plan.steps[j])) continue;
      // It passes every step between that is not taken yet.
      bool free = seconds_of(plan.steps[j]) > seconds_of(first) / 4 && seconds_of(plan.steps[j]) < seconds_of(first) * 4;
      for (size_t k = i; free && k < j; ++k) free = taken[k] || independent(plan.steps[k], plan.steps[j]);
      for (size_t k : together) free = free && independent(plan.steps[k], plan.steps[j]) && plan.steps[k].guards == plan.steps[j].guards;
      if (free) together.push_back(j);
    }
    if (together.size() == 1) {
      out.push_back(std::move(first));
      continue;
    }
    auto kernel = std::make_unique<SideBySide>();
    Step all;
    all.kind = StepKind::side_by_side;
    std::vector<const Step*> parts;
    for (size_t k : together) parts.push_back(&plan.steps[k]);
    const Way way = way_of(parts, machine, recipes, joined < stored.size() ? &stored[joined] : nullptr);
    ++joined;
    kernel->at_once = way.at_once();
    all.recipe = way.recipe, all.choosing = way.choosing;
    plan.recipes.push_back(way.recipe);
    if (!way.at_once()) all.text = "one after the other: ";
    for (size_t k : together) {
      Step& s = plan.steps[k];
      taken[k] = true;
      if (all.head < 0) all.head = s.head;  // a layout change has none
      all.guards = s.guards;
      append(all.nodes, s.nodes);
      append(all.members, s.members);
      append(all.reads, s.reads);
      append(all.writes, s.writes);
      append(all.scratch, s.scratch);
      all.flops += s.flops;
      all.bytes += s.bytes;
      all.text += fmt::format("{}{}: {}", kernel->parts.empty() ? "" : " | ", name_of(s.kind), s.text);
      kernel->parts.push_back(std::move(s.kernel));
    }
    all.why = way.at_once() ? fmt::format("{} independent steps, each too small to share among {} threads", together.size(), threads)
                            : fmt::format("{} independent steps, by their recipe one after the other", together.size());
    all.why_not = "what follows needs one of them, or is of another size";
    all.kernel = std::move(kernel);
    out.push_back(std::move(all));
  }
  plan.steps = std::move(out);
}

}  // namespace lathe::lower
