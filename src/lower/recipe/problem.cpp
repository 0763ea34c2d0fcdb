#include "lower/recipe/problem.hpp"

#include <fmt/ranges.h>

#include <bit>

namespace lathe::lower {
namespace {

// One after the other, and the shorter list first.
template <typename List, typename Compare>
std::strong_ordering by_element(const List& a, const List& b, Compare compare) {
  auto i = a.begin(), j = b.begin();
  for (; i != a.end() && j != b.end(); ++i, ++j) {
    if (const std::strong_ordering c = compare(*i, *j); c != 0) return c;
  }
  return a.size() <=> b.size();
}

// NaNs differ in bits alone, and a key must be equal to itself.
std::strong_ordering compare(const Problem::Setting& a, const Problem::Setting& b) {
  if (a.index() != b.index()) return a.index() <=> b.index();
  const auto bits = [](float f) { return std::bit_cast<uint32_t>(f); };
  if (const auto* f = std::get_if<float>(&a)) return bits(*f) <=> bits(std::get<float>(b));
  if (const auto* list = std::get_if<std::vector<float>>(&a))
    return by_element(*list, std::get<std::vector<float>>(b), [&](float x, float y) { return bits(x) <=> bits(y); });
  if (const auto* i = std::get_if<int64_t>(&a)) return *i <=> std::get<int64_t>(b);
  if (const auto* s = std::get_if<std::string>(&a)) return *s <=> std::get<std::string>(b);
  if (const auto* list = std::get_if<std::vector<int64_t>>(&a)) return *list <=> std::get<std::vector<int64_t>>(b);
  return std::get<std::vector<std::string>>(a) <=> std::get<std::vector<std::string>>(b);
}

template <typename T>
bool take(const Attribute& attribute, std::map<std::string, Problem::Setting>& to, const std::string& key) {
  const T* value = std::get_if<T>(&attribute.data);
  if (value) to[key] = *value;
  return value != nullptr;
}

}  // namespace

std::strong_ordering Problem::Operation::operator<=>(const Operation& o) const {
  if (const std::strong_ordering c = op <=> o.op; c != 0) return c;
  if (const std::strong_ordering c = domain <=> o.domain; c != 0) return c;
  if (version != o.version) return version <=> o.version;
  if (const std::strong_ordering c = inputs <=> o.inputs; c != 0) return c;
  return by_element(attributes, o.attributes, [](const auto& a, const auto& b) {
    const std::strong_ordering c = a.first <=> b.first;
    return c != 0 ? c : compare(a.second, b.second);
  });
}

Problem problem_of(const PlanBuilder& builder, const Group& group, const Machine& machine) {
  const GraphView& view = builder.view();
  Problem p;
  p.machine = machine;
  p.kept = group.kept;
  p.weights_leave_caches = view.weights_leave_caches();
  std::map<ValueId, int> operands;
  const auto operand = [&](ValueId v) {
    if (v == kAbsent) return -1;
    const auto [it, fresh] = operands.try_emplace(v, static_cast<int>(p.operands.size()));
    if (!fresh) return it->second;
    Problem::Operand o;
    o.dtype = view.dtype(v);
    o.constant = view.is_constant(v);
    if (view.is_static(v)) o.shape = view.shape(v);
    if (const auto narrow = view.narrow(v)) {
      o.dtype = view.dtype(narrow->values);
      o.constant = true;
    }
    if (const Location* at = builder.find(v)) {
      o.layout = at->layout;
      o.strides = at->strides;
    }
    p.operands.push_back(std::move(o));
    return it->second;
  };
  for (int n : group.nodes) {
    const Node& node = view.node(n);
    if (n == group.anchor) p.anchor = static_cast<int>(p.operations.size());
    Problem::Operation o{node.op, node.domain, view.version(node), {}, {}};
    for (const auto& [key, attribute] : node.attributes) {
      take<int64_t>(attribute, o.attributes, key) || take<float>(attribute, o.attributes, key) ||
          take<std::string>(attribute, o.attributes, key) || take<std::vector<int64_t>>(attribute, o.attributes, key) ||
          take<std::vector<float>>(attribute, o.attributes, key) || take<std::vector<std::string>>(attribute, o.attributes, key);
    }
    for (ValueId v : node.inputs) o.inputs.push_back(operand(v));
    for (ValueId v : node.outputs) {
      operand(v);
      p.results.push_back(v == kAbsent ? Layout::natural : builder.preferred(v));
    }
    p.operations.push_back(std::move(o));
  }
  return p;
}

namespace {

std::string text_of(const Problem::Setting& s) {
  return std::visit(
      [](const auto& v) -> std::string {
        using T = std::decay_t<decltype(v)>;
        if constexpr (std::is_same_v<T, std::string>) return v;
        else if constexpr (std::is_arithmetic_v<T>) return fmt::format("{}", v);
        else return fmt::format("{}", fmt::join(v, ","));
      },
      s);
}

}  // namespace

std::string problem_text(const Problem& p) {
  std::string text;
  for (size_t i = 0; i < p.operations.size(); ++i) {
    const Problem::Operation& o = p.operations[i];
    text += fmt::format("{}{}{}{}/{}", i > 0 ? "; " : "", static_cast<int>(i) == p.anchor && p.operations.size() > 1 ? "*" : "",
                        o.domain.empty() ? "" : o.domain + "::", o.op, o.version);
    for (const auto& [name, setting] : o.attributes) text += fmt::format(" {}={}", name, text_of(setting));
    text += fmt::format(" ({})", fmt::join(o.inputs, " "));
  }
  text += " |";
  const auto lies = [](Layout l) { return l == Layout::channels_last ? " channels-last" : ""; };
  for (const Problem::Operand& o : p.operands) {
    text += fmt::format(" {}{}[{}]{}{}", o.constant ? "constant " : "", to_string(o.dtype), fmt::join(o.shape, ","), lies(o.layout),
                        o.strides.empty() ? "" : fmt::format(" <{}>", fmt::join(o.strides, ",")));
  }
  text += " ->";
  for (Layout l : p.results) text += l == Layout::channels_last ? " channels-last" : " natural";
  if (p.kept) text += " kept";
  if (p.weights_leave_caches) text += " far";
  return text;
}

}  // namespace lathe::lower
