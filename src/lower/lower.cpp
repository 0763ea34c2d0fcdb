// The driver: groups, then matches, then layouts, then for each group in order a recipe and its steps; what runs side by side; memory.
#include "lower/lower.hpp"

#include <fmt/ranges.h>

#include <algorithm>
#include <iterator>

#include "base/fail.hpp"
#include "lower/group/layouts.hpp"
#include "lower/group/partition.hpp"
#include "lower/group/reasons.hpp"
#include "lower/recipe/chooser.hpp"
#include "lower/recipe/learned.hpp"
#include "lower/schedule/branches.hpp"
#include "lower/schedule/choices.hpp"
#include "lower/schedule/memory.hpp"
#include "lower/steps/registry.hpp"
#include "ops/internal_attributes.hpp"
#include "ops/internal_ops.hpp"
#include "ops/operands.hpp"

namespace lathe::lower {
namespace {

// Whether values of a run decide what a node does: sizes, axes, how many. Then they may be wrong, whatever sizes the model declares of the
// result, and plain evaluation looks at them.
bool decided_while_running(const GraphView& view, const Group& group) {
  if (group.nodes.size() != 1) return false;
  const Node& n = view.node(group.nodes[0]);
  const OpDef* def = view.definition(n);
  if (def == nullptr || !def->statement) return false;
  const auto& operands = def->statement->operands;
  for (size_t i = 0; i < operands.size() && i < n.inputs.size(); ++i) {
    if (operands[i].decides && n.inputs[i] != kAbsent && !view.is_constant(n.inputs[i])) return true;
  }
  return false;
}

// A group with the families that can do it. Plain evaluation is among them only when no other is.
struct Planned {
  std::vector<Candidate> candidates;
  bool plain = false;
};

// Those of a table that are asked for.
std::vector<const StepFamily*> among(Families table, const LowerOptions& options) {
  std::vector<const StepFamily*> some;
  for (const StepFamily* f : table) {
    if (options.only.empty() || std::ranges::find(options.only, f) != options.only.end()) some.push_back(f);
  }
  return some;
}

Planned plan_group(Families families, const GraphView& view, const Group& group, const LowerOptions& options) {
  Planned p;
  const auto look_in = [&](Families table) {
    for (const StepFamily* family : table) look(*family, view, group, options.machine, p.candidates);
  };
  const bool nothing = makes_nothing(view.graph(), view.node(group.head())), decided = decided_while_running(view, group);
  if ((!nothing && !decided) || options.plain) look_in(families);
  if (p.candidates.empty() && !options.plain) {
    if (!nothing || decided) look_in(among(families_at_run(), options));
    else look_in(among(empty_families(), options));
  }
  if (!p.candidates.empty()) return p;
  p.plain = true;
  look_in(among(plain_families(), options));
  if (p.candidates.empty()) fail(Category::internal, "a group of {} nodes fits no step", group.nodes.size());
  return p;
}

bool is_fixed(Order o) { return o == Order::natural || o == Order::channels_last; }

// What the first candidate demands; where another one wants the opposite, the group has a choice.
LayoutDemand demand_of(const Planned& p) {
  LayoutDemand demand = p.candidates.front().family->layouts(*p.candidates.front().match);
  for (const auto& [family, match] : p.candidates) {
    const LayoutDemand other = family->layouts(*match);
    if (is_fixed(other.out) && is_fixed(demand.out) && other.out != demand.out) return {Order::shared, Order::shared, Order::shared};
  }
  return demand;
}

// Those whose result is made in the layout that was chosen for it; all, when there is no such.
std::vector<const Candidate*> fitting(const PlanBuilder& b, const Planned& p) {
  std::vector<const Candidate*> fit, all;
  for (const Candidate& c : p.candidates) {
    all.push_back(&c);
    if (p.candidates.size() == 1) return all;
    const Order out = c.family->layouts(*c.match).out;
    const bool other = is_fixed(out) && (out == Order::channels_last) != (b.preferred(c.match->result()) == Layout::channels_last);
    if (!other) fit.push_back(&c);
  }
  return std::ranges::any_of(fit, [](const Candidate* c) { return c->family->untuned(); }) ? fit : all;
}

// Why no family does a group, for people.
std::string plain_reason(const GraphView& view, const Group& group, const Planned& p) {
  const Node& n = view.node(group.head());
  if (ops::is_part(n)) {
    return n.attributes.contains(ops::kDeciding) ? "numbers of the run decide sizes or axes: compiled for those that it brings"
                                                 : "sizes are known only while running";
  }
  if (n.has_subgraphs()) return "what runs is decided by values";
  if (makes_nothing(view.graph(), n)) return "its result is empty";
  if (decided_while_running(view, group)) return "values of the run decide its sizes";
  const auto text = [&](ValueId v) { return v != kAbsent && view.dtype(v) == DType::string; };
  if (std::ranges::any_of(n.inputs, text) || std::ranges::any_of(n.outputs, text)) return "it works on strings";
  const auto open = [&](ValueId v) { return v != kAbsent && !view.is_static(v) && !view.graph().values[static_cast<size_t>(v)].composite; };
  if (std::ranges::any_of(n.inputs, open) || std::ranges::any_of(n.outputs, open)) return "sizes are known only while running";
  const auto composite = [&](ValueId v) { return v != kAbsent && view.graph().values[static_cast<size_t>(v)].composite; };
  if (std::ranges::any_of(n.inputs, composite) || std::ranges::any_of(n.outputs, composite)) return "it works on sequences or optionals";
  std::vector<std::string_view> types;
  for (ValueId v : n.inputs) {
    if (v != kAbsent && std::ranges::find(types, to_string(view.dtype(v))) == types.end()) types.push_back(to_string(view.dtype(v)));
  }
  if (p.candidates.front().match->kind == StepKind::plain && types.size() == 1 && types[0] == "f32")
    return "no kernel for this op with these attributes";
  return fmt::format("no kernel for this op on {}", types.empty() ? "nothing" : fmt::format("{}", fmt::join(types, ", ")));
}

// The sentence of an error without a place gets the node that the group is named after.
[[noreturn]] void rethrow_at(const Error& e, const GraphView& view, const Group& group) {
  std::vector<Fault> faults = e.faults();
  for (Fault& f : faults) {
    if (f.where.empty()) f.where = label(view.graph(), view.node(group.head()));
  }
  throw Error(std::move(faults));
}

// Tells each new step, from `first` on, what it stands for.
void explain(Plan& plan, size_t first, const Group& group, const Planned& planned, const GraphView& view, Families families,
             const std::vector<int>& owner, const LowerOptions& options) {
  for (size_t s = first; s < plan.steps.size(); ++s) {
    Step& step = plan.steps[s];
    if (step.kind == StepKind::layout) {
      step.why = fmt::format("{} reads it {}", node_label(view.node(group.head())), step.why);
      continue;
    }
    step.recipe = plan.recipes.back();
    if (step.members.empty()) step.members = group.nodes, step.head = group.head();
    if (step.why.empty()) step.why = planned.plain ? plain_reason(view, group, planned) : why(view, group);
    step.why_not = why_not(view, families, group, owner, options.fuse);
  }
}

}  // namespace

Plan lower(std::shared_ptr<const Graph> graph, const LowerOptions& options, Weights& weights, const std::vector<bool>& base_constants,
           const Remembered* remembered) {
  PlanBuilder b(std::move(graph), weights, base_constants, remembered ? remembered->own : nullptr);
  const GraphView& view = b.view();
  const auto families = among(options.plain      ? oracle_families()
                              : options.winograd ? step_families()
                                                 : step_families_without_winograd(),
                              options);
  const bool fuse = options.fuse && !options.plain;
  const std::vector<Group> groups = partition(view, families, options.machine, fuse);
  std::vector<int> owner(view.graph().nodes.size(), -1);
  for (size_t i = 0; i < groups.size(); ++i) {
    for (int n : groups[i].nodes) owner[n] = groups[i].nodes.size() > 1 ? static_cast<int>(i) : -1;
  }
  if (fuse) b.find_parts();
  std::vector<Planned> planned;
  std::vector<LayoutDemand> demands;
  for (const Group& group : groups) {
    try {
      planned.push_back(plan_group(families, view, group, options));
    } catch (const Error& e) {
      rethrow_at(e, view, group);
    }
    demands.push_back(demand_of(planned.back()));
  }
  b.prefer(choose_layouts(view, groups, demands));

  std::vector<Recipe> of_groups, of_branches;
  std::optional<StoredRecipes> stored;
  if (remembered) {
    std::partition_copy(remembered->recipes.begin(), remembered->recipes.end(), std::back_inserter(of_branches),
                        std::back_inserter(of_groups), [](const Recipe& r) { return r.family == kSideBySide; });
    if (!remembered->same_threads) of_branches.clear();
    stored.emplace(of_groups, remembered->same_threads);
  }
  Chooser chooser(stored ? &*stored : nullptr, options.recipes, options.learned ? learned_costs(options.machine.isa) : nullptr);
  for (size_t i = 0; i < groups.size(); ++i) {
    const size_t first = b.plan().steps.size();
    std::shared_ptr<const Choosing> choosing;
    bool learned = false;
    try {
      const auto candidates = fitting(b, planned[i]);
      const Problem problem = problem_of(b, groups[i], options.machine);
      const Chosen choice = chooser.choose(candidates, problem);
      const auto& [family, match] = *candidates[choice.candidate];
      choosing = choice.choosing, learned = choice.learned;
      b.plan().recipes.push_back(choice.recipe);
      family->lower(b, *match, problem, choice.recipe);
    } catch (const Error& e) {
      rethrow_at(e, view, groups[i]);
    }
    for (size_t s = first; s < b.plan().steps.size(); ++s) b.plan().steps[s].choosing = choosing, b.plan().steps[s].learned = learned;
    explain(b.plan(), first, groups[i], planned[i], view, families, owner, options);
  }
  if (stored && !stored->used_up())
    fail(Category::format, "it holds more recipes than its steps need; ship the model again with this version");
  Plan plan = b.finish();
  leave_out(plan);
  if (fuse) join_branches(plan, options.machine, options.recipes, of_branches);
  plan_memory(plan);
  return plan;
}

}  // namespace lathe::lower
