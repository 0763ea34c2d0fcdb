#include "lower/recipe/features.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <limits>

#include "lower/plan/recipe.hpp"

namespace lathe::lower {
namespace {

double log2_of(int64_t v) { return v > 0 ? std::log2(static_cast<double>(v)) : -1; }

}  // namespace

void Features::learn(std::span<const FamilyInfo> families) {
  for (const FamilyInfo& f : families) {
    name("family " + f.family);
    for (const KnobInfo& k : f.knobs) name("knob " + k.name), name("change " + k.name);
  }
}

std::vector<std::string> Features::names() const {
  std::vector<std::string> all(slots_.size());
  for (const auto& [name, slot] : slots_) all[slot] = name;
  return all;
}

std::vector<double> Features::sizes(const std::string& problem, int threads) const {
  std::vector<double> x(count(), std::numeric_limits<double>::quiet_NaN());
  x[0] = threads;
  // The last four dims of what is read first, of what is read next, and of the result; and how much the result is.
  const auto shapes = shapes_in(problem);
  const auto put = [&](size_t at, const std::vector<int64_t>& shape) {
    for (size_t d = 0; d < 4 && d < shape.size(); ++d) x[at + d] = log2_of(shape[shape.size() - 1 - d]);
  };
  if (shapes.empty()) return x;
  put(1, shapes.front());
  if (shapes.size() > 1) put(5, shapes[1]);
  put(9, shapes.back());
  x[13] = 0;
  for (int64_t d : shapes.back()) x[13] += std::max(0.0, log2_of(d));
  return x;
}

size_t Features::at(const std::string& name) const {
  const auto it = slots_.find(name);
  return it == slots_.end() ? kNowhere : kSizes + it->second;
}

Features::Slots Features::slots(const FamilyInfo& family) const {
  Slots s{at("family " + family.family), {}};
  for (const KnobInfo& k : family.knobs) s.knobs.push_back({at("knob " + k.name), at("change " + k.name)});
  return s;
}

void Features::put(std::vector<double>& x, const Slots& slots, const FamilyInfo& family, std::span<const int64_t> values) {
  const auto set = [&x](size_t at, double v) {
    if (at != kNowhere) x[at] = v;
  };
  set(slots.family, 1);
  for (size_t i = 0; i < values.size(); ++i) {
    const double v = log2_of(values[i]);
    set(slots.knobs[i].value, v), set(slots.knobs[i].change, v - log2_of(family.knobs[i].first));
  }
}

std::vector<double> Features::row(const std::string& problem, int threads, const FamilyInfo& family,
                                  std::span<const int64_t> values) const {
  std::vector<double> x = sizes(problem, threads);
  put(x, slots(family), family, values);
  return x;
}

std::vector<double> Features::row(const std::string& problem, int threads, const std::string& recipe) const {
  std::vector<double> x = sizes(problem, threads);
  const auto set = [&](const std::string& name, double v) {
    if (const size_t slot = at(name); slot != kNowhere) x[slot] = v;
  };
  const auto read = read_recipe(recipe);
  if (!read) return x;
  set("family " + read->family, 1);
  for (const Knob& k : read->knobs) set("knob " + k.name, log2_of(k.value));
  return x;
}

std::vector<std::vector<int64_t>> shapes_in(const std::string& problem) {
  std::vector<std::vector<int64_t>> shapes;
  const size_t bar = problem.rfind('|');
  size_t at = bar == std::string::npos ? problem.size() : bar;
  while ((at = problem.find('[', at)) != std::string::npos) {
    auto& shape = shapes.emplace_back();
    while (at < problem.size() && problem[at] != ']') {
      int64_t v = 0;
      const char* from = problem.data() + at + 1;
      const auto [end, error] = std::from_chars(from, problem.data() + problem.size(), v);
      if (error == std::errc()) shape.push_back(v);
      at = std::max(at + 1, static_cast<size_t>(end - problem.data()));
    }
  }
  return shapes;
}

}  // namespace lathe::lower
