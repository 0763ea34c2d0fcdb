// Which outputs are states, from their names.
#include <algorithm>
#include <array>
#include <cctype>
#include <map>
#include <optional>
#include <set>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/state.hpp"

namespace lathe {
namespace {

std::vector<std::string> names_of(const Graph& g, const std::vector<ValueId>& values) {
  std::vector<std::string> names;
  for (ValueId v : values) names.push_back(g.values[static_cast<size_t>(v)].name);
  return names;
}

std::string_view trimmed(std::string_view s) {
  while (!s.empty() && s.front() == ' ') s.remove_prefix(1);
  while (!s.empty() && s.back() == ' ') s.remove_suffix(1);
  return s;
}

// What stands in place of the star; nothing: it is another name.
std::optional<std::string_view> matched(std::string_view name, std::string_view pattern) {
  const size_t star = pattern.find('*');
  if (star == std::string_view::npos) return name == pattern ? std::optional(std::string_view()) : std::nullopt;
  const std::string_view before = pattern.substr(0, star), after = pattern.substr(star + 1);
  if (name.size() < before.size() + after.size() || !name.starts_with(before) || !name.ends_with(after)) return std::nullopt;
  return name.substr(before.size(), name.size() - before.size() - after.size());
}

// The words of a name in small letters, without those that tell what was from what comes.
std::vector<std::string> core(std::string_view name) {
  static constexpr std::array kWords{"past",     "present", "in",   "out", "input",   "output", "old",     "new",   "prev",
                                     "previous", "next",    "last", "cur", "current", "init",   "initial", "final", "updated"};
  std::vector<std::string> words(1);
  for (size_t i = 0; i < name.size(); ++i) {
    const char c = name[i];
    const bool letter = std::isalpha(static_cast<unsigned char>(c)) != 0, digit = std::isdigit(static_cast<unsigned char>(c)) != 0;
    if (!letter && !digit) {
      words.emplace_back();
      continue;
    }
    const bool turn = !words.back().empty() && (std::isdigit(static_cast<unsigned char>(words.back().back())) != 0) != digit;
    if (turn) words.emplace_back();
    words.back() += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  }
  std::erase_if(words, [](const std::string& w) { return w.empty() || std::ranges::find(kWords, w) != kWords.end(); });
  if (words.empty()) return words;
  // h0 and hn, state and stateN: the first of a series and its last.
  if (words.size() == 2 && words[0].size() == 1 && words[1] == "0") words.pop_back();
  static constexpr std::array kLast{"hn", "cn", "staten"};
  if (std::ranges::find(kLast, words.back()) != kLast.end()) words.back().pop_back();
  return words;
}

// past_key_values.0.key and present.0.key: one says more in front.
bool ends_with(const std::vector<std::string>& longer, const std::vector<std::string>& shorter) {
  return longer.size() > shorter.size() && std::equal(shorter.rbegin(), shorter.rend(), longer.rbegin());
}

bool fit(const Value& out, const Value& in) {
  if (out.composite || in.composite || out.dtype != in.dtype || !in.dims) return false;
  if (!out.dims) return true;
  if (out.dims->size() != in.dims->size()) return false;
  int open = 0;
  for (size_t d = 0; d < in.dims->size(); ++d) {
    const Dim &a = (*out.dims)[d], &b = (*in.dims)[d];
    if (a.known() && b.known() && a.value != b.value) return false;
    open += a != b;
  }
  return open <= 1;
}

}  // namespace

std::vector<StatePair> pair_states(const Graph& graph, std::string_view patterns) {
  const auto inputs = names_of(graph, graph.inputs), outputs = names_of(graph, graph.outputs);
  std::vector<StatePair> pairs;
  std::set<std::string> used_in, used_out;
  while (!patterns.empty()) {
    const size_t comma = patterns.find(',');
    const std::string_view one = trimmed(patterns.substr(0, comma));
    patterns = comma == std::string_view::npos ? std::string_view() : patterns.substr(comma + 1);
    const size_t equals = one.find('=');
    if (equals == std::string_view::npos || std::ranges::count(one, '*') != (one.find('*') == std::string_view::npos ? 0 : 2))
      fail(Category::value,
           "'{}' does not say which states there are: expected OUTPUT=INPUT, or with a star on both sides, like out.*=in.*", one);
    const std::string_view from = trimmed(one.substr(0, equals)), to = trimmed(one.substr(equals + 1));
    const size_t before = pairs.size();
    for (const std::string& out : outputs) {
      const auto middle = matched(out, from);
      if (!middle) continue;
      std::string in(to);
      if (const size_t star = in.find('*'); star != std::string::npos) in.replace(star, 1, *middle);
      if (std::ranges::find(inputs, in) == inputs.end())
        fail(Category::value, "'{}' pairs output '{}' with input '{}', which is not there; the inputs are {}{}", one, out, in,
             fmt::join(inputs, ", "), did_you_mean(in, inputs));
      if (!used_out.insert(out).second || !used_in.insert(in).second)
        fail(Category::value, "'{}' pairs output '{}' with input '{}', of which one belongs to another pair already", one, out, in);
      pairs.push_back({out, in});
    }
    if (pairs.size() == before)
      fail(Category::value, "'{}' pairs nothing: no output is named '{}'; the outputs are {}{}", one, from, fmt::join(outputs, ", "),
           did_you_mean(from, outputs));
  }
  return pairs;
}

std::vector<StatePair> find_states(const Graph& graph) {
  if (const auto said = graph.metadata.find(kStatesKey); said != graph.metadata.end()) return pair_states(graph, said->second);
  const auto value = [&](ValueId v) -> const Value& { return graph.values[static_cast<size_t>(v)]; };
  std::vector<StatePair> pairs;
  std::map<std::vector<std::string>, std::vector<ValueId>> outputs, inputs;
  for (ValueId v : graph.outputs) outputs[core(value(v).name)].push_back(v);
  for (ValueId v : graph.inputs) inputs[core(value(v).name)].push_back(v);
  const auto pair = [&](ValueId made, ValueId given) {
    const Value &out = value(made), &in = value(given);
    if (out.name == in.name || !fit(out, in)) return false;
    pairs.push_back({out.name, in.name});
    return true;
  };
  for (auto& [name, made] : outputs) {
    const auto it = inputs.find(name);
    if (name.empty() || it == inputs.end() || made.size() != 1 || it->second.size() != 1) continue;
    if (pair(made[0], it->second[0])) made.clear(), it->second.clear();
  }
  for (auto& [core_name, made] : outputs) {
    const auto& name = core_name;  // clang 14 captures no structured bindings
    const auto related = [&](const auto& other) {
      return !other.second.empty() && (ends_with(other.first, name) || ends_with(name, other.first));
    };
    const auto it = std::ranges::find_if(inputs, related);
    if (name.size() < 2 || made.size() != 1 || it == inputs.end() || it->second.size() != 1 || it->first.size() < 2 ||
        std::ranges::count_if(inputs, related) != 1)
      continue;
    const auto also = [&](const auto& other) {
      return !other.second.empty() && (ends_with(other.first, it->first) || ends_with(it->first, other.first));
    };
    if (std::ranges::count_if(outputs, also) == 1 && pair(made[0], it->second[0])) made.clear(), it->second.clear();
  }
  // In the order of the model's inputs.
  const auto names = names_of(graph, graph.inputs);
  std::ranges::sort(pairs, {}, [&](const StatePair& p) { return std::ranges::find(names, p.input) - names.begin(); });
  return pairs;
}

}  // namespace lathe
