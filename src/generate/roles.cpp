// What the inputs and outputs of a model of sequences are for.
#include <algorithm>
#include <cctype>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/generate.hpp"

namespace lathe {
namespace {

bool contains(std::string name, std::string_view part) {
  std::ranges::transform(name, name.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return name.find(part) != std::string::npos;
}

std::string listed(const std::vector<Port>& ports) {
  std::vector<std::string> all;
  for (const Port& p : ports) all.push_back(fmt::format("'{}' ({} {})", p.name, to_string(p.dtype), p.dims ? to_string(*p.dims) : "?"));
  return all.empty() ? "there are none" : fmt::format("they are {}", fmt::join(all, ", "));
}

const Port* named(const std::vector<Port>& ports, const std::string& name, std::string_view role) {
  if (name.empty()) return nullptr;
  std::vector<std::string> names;
  for (const Port& p : ports) {
    if (p.name == name) return &p;
    names.push_back(p.name);
  }
  fail(Category::value, "nothing is named '{}', which is said to be the model's {}{}", name, role, did_you_mean(name, names));
}

bool is_integer(const Port& p) { return p.dtype == DType::i64 || p.dtype == DType::i32; }

}  // namespace

Roles find_roles(const Program& program, const Roles& given) {
  const auto& inputs = program.inputs();
  const auto& outputs = program.outputs();
  Roles r = given;
  named(inputs, r.tokens, "tokens"), named(inputs, r.mask, "mask"), named(inputs, r.positions, "positions"),
      named(outputs, r.scores, "scores");
  for (const std::string& name : r.beside) named(inputs, name, "input beside the tokens");
  const auto beside = [&](const Port& p) { return std::ranges::find(r.beside, p.name) != r.beside.end(); };
  for (const Port& p : inputs) {
    if (p.name == r.tokens || beside(p)) continue;
    if (r.mask.empty() && p.name != r.positions && contains(p.name, "mask")) r.mask = p.name;
    if (r.positions.empty() && p.name != r.mask && is_integer(p) && contains(p.name, "pos")) r.positions = p.name;
  }
  if (r.tokens.empty()) {
    std::vector<const Port*> all, by_name;
    for (const Port& p : inputs) {
      if (!is_integer(p) || beside(p) || p.name == r.mask || p.name == r.positions) continue;
      all.push_back(&p);
      if (contains(p.name, "token") || contains(p.name, "ids")) by_name.push_back(&p);
    }
    if (all.size() > 1 && by_name.size() == 1) all = by_name;
    if (all.size() > 1)
      fail(Category::value, "more than one input may be the tokens; name it. Of the inputs beside states {}", listed(inputs));
    if (all.empty()) fail(Category::value, "no input takes tokens (i64 or i32). Of the inputs beside states {}", listed(inputs));
    r.tokens = all[0]->name;
  }
  // What is as long as something else than the tokens is what there is of everything.
  const auto& fresh = std::ranges::find(inputs, r.tokens, &Port::name)->dims;
  for (const Port& p : inputs) {
    if (!r.mask.empty() || beside(p) || p.name == r.tokens || p.name == r.positions || !p.dims || !fresh || p.dims->size() != fresh->size())
      continue;
    if (!p.dims->empty() && !p.dims->back().known() && p.dims->back() != fresh->back()) r.mask = p.name;
  }
  for (const Port& p : inputs) {
    if (p.name != r.tokens && p.name != r.mask && p.name != r.positions && !beside(p))
      fail(
          Category::value,
          "nobody knows what to give to input '{}' ({} {}): it is not the tokens, the mask or the positions, and no state. Pair it with an "
          "output if it is one",
          p.name, to_string(p.dtype), p.dims ? to_string(*p.dims) : "?");
  }
  if (r.scores.empty()) {
    for (const Port& p : outputs) {
      const bool real = p.dtype == DType::f32 || p.dtype == DType::f16 || p.dtype == DType::bf16 || p.dtype == DType::f64;
      if (!real || (p.dims && p.dims->size() != 2 && p.dims->size() != 3)) continue;
      if (!r.scores.empty()) fail(Category::value, "more than one output may be the scores; name it. Of the outputs {}", listed(outputs));
      r.scores = p.name;
    }
    if (r.scores.empty())
      fail(Category::value, "no output gives scores (floats, [batch, new, vocabulary]). Of the outputs {}", listed(outputs));
  }
  return r;
}

}  // namespace lathe
