#include "line/symbols.hpp"

#include <set>

namespace lathe::line {
namespace {

template <typename F>
void each_dim(Graph& g, F&& f) {
  for (Value& v : g.values) {
    if (!v.dims) continue;
    for (Dim& d : *v.dims) f(d);
  }
  for (const Node& n : g.nodes) {
    n.each_subgraph([&](const std::shared_ptr<Graph>& sub) { each_dim(*sub, f); });
  }
}

}  // namespace

size_t Symbols::of(const std::string& full, const std::string& plain) {
  const auto [it, fresh] = by_name_.try_emplace(full, classes_.size());
  if (fresh) classes_.push_back({classes_.size(), full, plain, {}});
  return it->second;
}

size_t Symbols::root(size_t c) const {
  while (classes_[c].above != c) c = classes_[c].above;
  return c;
}

void Symbols::adopt(Graph& graph, const std::string& part) {
  each_dim(graph, [&](Dim& d) {
    if (d.known() || d.symbol.empty()) return;
    const std::string full = part + "." + d.symbol;
    of(full, d.symbol);
    d.symbol = full;
  });
}

void Symbols::adopt(Dims& dims, const std::string& part) {
  for (Dim& d : dims) {
    if (d.known() || d.symbol.empty()) continue;
    const std::string full = part.empty() ? d.symbol : part + "." + d.symbol;
    of(full, d.symbol);
    d.symbol = full;
  }
}

std::string Symbols::written(Type type) const {
  for (size_t i = 0; type.dims && i < type.dims->size(); ++i) {
    Dim& d = (*type.dims)[i];
    if (const auto it = by_name_.find(d.symbol); !d.known() && it != by_name_.end()) d.symbol = classes_[it->second].plain;
  }
  return to_string(type);
}

bool Symbols::unite(const Dim& a, const Dim& b) {
  if (a.known() && b.known()) return a.value == b.value;
  if ((!a.known() && a.symbol.empty()) || (!b.known() && b.symbol.empty())) return true;
  const auto size = [&](const Dim& d) { return d.known() ? std::optional(d.value) : classes_[root(by_name_.at(d.symbol))].size; };
  const auto x = size(a), y = size(b);
  if (x && y && *x != *y) return false;
  if (!a.known() && !b.known()) classes_[root(by_name_.at(b.symbol))].above = root(by_name_.at(a.symbol));
  if (x || y) classes_[root(by_name_.at(a.known() ? b.symbol : a.symbol))].size = x ? x : y;
  return true;
}

Dim Symbols::settled(const Dim& d) {
  const size_t c = root(by_name_.at(d.symbol));
  if (classes_[c].size) return *classes_[c].size;
  return names_.at(c);
}

void Symbols::settle(Graph& graph) {
  std::set<std::string> taken;
  for (size_t c = 0; c < classes_.size(); ++c) {
    if (root(c) != c) continue;
    names_[c] = taken.insert(classes_[c].plain).second ? classes_[c].plain : classes_[c].full;
  }
  each_dim(graph, [&](Dim& d) {
    if (!d.known() && !d.symbol.empty() && by_name_.contains(d.symbol)) d = settled(d);
  });
}

}  // namespace lathe::line
