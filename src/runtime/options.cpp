#include "runtime/options.hpp"

#include <algorithm>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/program.hpp"

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

std::string pin_fault(const Recipes& recipes, const EditionInfo& edition) {
  for (const PinnedKnob& pin : recipes.pins()) {
    bool there = pin.node.empty(), followed = false;
    std::vector<std::string> nodes;
    for (const StepInfo& s : edition.steps) {
      bool named = pin.node.empty();
      for (const std::string& label : s.nodes) {
        nodes.push_back(label.substr(0, label.rfind(" (")));  // "Conv_3 (Conv)"
        named = named || nodes.back() == pin.node;
      }
      if (!named) continue;
      there = true;
      // What is refused may be a tuned recipe; pins that are name themselves.
      if (s.chosen_by != "pinned" && s.refused.find(to_string(pin)) != std::string::npos) return s.refused;
      followed = followed || s.chosen_by == "pinned";
    }
    if (!there) return fmt::format("{}: no step has a node named '{}'{}", to_string(pin), pin.node, did_you_mean(pin.node, nodes));
    if (!followed)
      return pin.node.empty() ? fmt::format("{}: no step has such a knob", to_string(pin))
                              : fmt::format("{}: the step of '{}' has nothing to choose", to_string(pin), pin.node);
  }
  return "";
}

}  // namespace lathe
