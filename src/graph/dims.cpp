#include "graph/dims.hpp"

#include <algorithm>
#include <charconv>
#include <optional>

#include "base/fail.hpp"

namespace lathe {
namespace {

constexpr size_t kLongest = 96;  // characters of an expression anyone would read

// constant + sum of factor * atom; an atom is a name, a product of names, or a floor().
struct Linear {
  std::map<std::string, int64_t> terms;
  int64_t constant = 0;
};

std::optional<int64_t> whole_number(std::string_view text) {
  int64_t v = 0;
  const auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), v);
  if (text.empty() || ec != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return v;
}

bool add_checked(int64_t& to, int64_t v) { return !__builtin_add_overflow(to, v, &to); }

// Adds sign * one term.
bool add_term(Linear& l, std::string_view term, int64_t sign) {
  if (const auto n = whole_number(term)) return add_checked(l.constant, sign * *n);
  const size_t star = term.find('*');
  const auto factor = star == std::string_view::npos ? std::nullopt : whole_number(term.substr(0, star));
  const std::string atom(factor ? term.substr(star + 1) : term);
  if (atom.empty()) return false;
  int64_t f = 0;
  if (__builtin_mul_overflow(sign, factor.value_or(1), &f) || !add_checked(l.terms[atom], f)) return false;
  return true;
}

// Splits at " + " and " - " outside parentheses. Any text is at least an atom.
std::optional<Linear> parse(const Dim& d) {
  Linear l;
  if (d.known()) {
    l.constant = d.value;
    return l;
  }
  if (d.symbol.empty() || d.symbol.size() > kLongest) return std::nullopt;
  const std::string_view text = d.symbol;
  int depth = 0;
  int64_t sign = 1;
  size_t from = 0;
  for (size_t i = 0; i < text.size(); ++i) {
    depth += text[i] == '(' ? 1 : text[i] == ')' ? -1 : 0;
    if (depth != 0 || i + 2 >= text.size() || text[i] != ' ' || text[i + 2] != ' ' || (text[i + 1] != '+' && text[i + 1] != '-')) continue;
    if (!add_term(l, text.substr(from, i - from), sign)) return std::nullopt;
    sign = text[i + 1] == '+' ? 1 : -1;
    from = i + 3;
    i += 2;
  }
  if (!add_term(l, text.substr(from), sign)) return std::nullopt;
  return l;
}

Dim text_of(const Linear& l) {
  std::string text;
  const auto put = [&](int64_t factor, const std::string& atom) {
    if (factor == 0) return;
    const int64_t size = factor < 0 ? -factor : factor;
    if (text.empty()) text = factor < 0 ? "-" : "";
    else text += factor < 0 ? " - " : " + ";
    if (atom.empty()) text += std::to_string(size);
    else text += size == 1 ? atom : fmt::format("{}*{}", size, atom);
  };
  // What is added comes first: "seq - 1" rather than "-1 + seq".
  for (const auto& [atom, factor] : l.terms) {
    if (factor > 0) put(factor, atom);
  }
  if (text.empty()) {
    if (std::ranges::all_of(l.terms, [](const auto& t) { return t.second == 0; })) return l.constant >= 0 ? Dim(l.constant) : Dim();
    return {};  // a name taken from a number: nothing that sizes do
  }
  for (const auto& [atom, factor] : l.terms) {
    if (factor < 0) put(factor, atom);
  }
  put(l.constant, "");
  return text.size() > kLongest ? Dim() : Dim(text);
}

// The only atom, times one.
std::optional<std::string> atom_of(const Linear& l) {
  if (l.constant != 0) return std::nullopt;
  std::optional<std::string> found;
  for (const auto& [atom, factor] : l.terms) {
    if (factor == 0) continue;
    if (factor != 1 || found) return std::nullopt;
    found = atom;
  }
  return found;
}

Dim combined(const Dim& a, const Dim& b, int64_t sign) {
  if (a.known() && b.known()) {
    int64_t out;
    if (__builtin_add_overflow(a.value, sign * b.value, &out))
      fail(Category::shape, "a dim of {} and {} together overflows", a.value, b.value);
    return out < 0 ? Dim() : Dim(out);
  }
  auto x = parse(a);
  const auto y = parse(b);
  if (!x || !y || !add_checked(x->constant, sign * y->constant)) return {};
  for (const auto& [atom, factor] : y->terms) {
    if (!add_checked(x->terms[atom], sign * factor)) return {};
  }
  return text_of(*x);
}

}  // namespace

Dim sum(const Dim& a, const Dim& b) { return combined(a, b, 1); }
Dim difference(const Dim& a, const Dim& b) { return combined(a, b, -1); }

Dim product(const Dim& a, const Dim& b) {
  if (a.known() && b.known()) {
    int64_t out;
    if (__builtin_mul_overflow(a.value, b.value, &out)) fail(Category::shape, "a dim of {} times {} overflows", a.value, b.value);
    return out;
  }
  if (a.known()) return product(b, a);
  auto x = parse(a);
  if (!x) return {};
  if (b.known()) {
    bool fits = !__builtin_mul_overflow(x->constant, b.value, &x->constant);
    for (auto& [atom, factor] : x->terms) fits = fits && !__builtin_mul_overflow(factor, b.value, &factor);
    return fits ? text_of(*x) : Dim();
  }
  const auto y = parse(b);
  const auto p = atom_of(*x), q = y ? atom_of(*y) : std::nullopt;
  if (!p || !q || p->find('(') != std::string::npos || q->find('(') != std::string::npos) return {};
  // Names in order, so that batch*heads is heads*batch.
  std::vector<std::string> names;
  for (const std::string* part : {&*p, &*q}) {
    for (size_t at = 0; at <= part->size();) {
      const size_t end = std::min(part->find('*', at), part->size());
      names.push_back(part->substr(at, end - at));
      at = end + 1;
    }
  }
  std::sort(names.begin(), names.end());
  const std::string text = fmt::format("{}", fmt::join(names, "*"));
  return text.size() > kLongest ? Dim() : Dim(text);
}

Dim quotient(const Dim& a, int64_t by) {
  if (by <= 0) return {};
  if (a.known()) return a.value / by;
  if (by == 1) return a;
  auto x = parse(a);
  if (!x) return {};
  // Exact when all of it divides; else what divides comes out of the floor.
  Linear outside, inside;
  for (const auto& [atom, factor] : x->terms) (factor % by == 0 ? outside : inside).terms[atom] = factor % by == 0 ? factor / by : factor;
  if (std::ranges::all_of(inside.terms, [](const auto& t) { return t.second == 0; })) {
    outside.constant = x->constant >= 0 ? x->constant / by : -((-x->constant + by - 1) / by);
    return text_of(outside);
  }
  // Whole multiples of the constant come out too: floor((h - 2)/2) + 1 is floor(h/2).
  inside.constant = (x->constant % by + by) % by;
  outside.constant = (x->constant - inside.constant) / by;
  const Dim part = text_of(inside);
  if (part.symbol.empty()) return {};
  const bool alone = part.symbol.find(' ') == std::string::npos;
  outside.terms[fmt::format("floor({}{}{}/{})", alone ? "" : "(", part.symbol, alone ? "" : ")", by)] += 1;
  return text_of(outside);
}

bool is_name(const Dim& d) { return !d.symbol.empty() && d.symbol.find_first_of(" *(") == std::string::npos; }

namespace {

std::optional<int64_t> value_of(const std::string& text, const std::map<std::string, int64_t>& sizes, int depth) {
  if (const auto it = sizes.find(text); it != sizes.end()) return it->second;
  if (depth > 8) return std::nullopt;
  if (text.starts_with("floor(") && text.ends_with(")")) {
    const size_t slash = text.rfind('/');
    if (slash == std::string::npos) return std::nullopt;
    const auto by = whole_number(std::string_view(text).substr(slash + 1, text.size() - slash - 2));
    std::string inner = text.substr(6, slash - 6);
    if (inner.starts_with("(") && inner.ends_with(")")) inner = inner.substr(1, inner.size() - 2);
    const auto x = by && *by > 0 ? value_of(inner, sizes, depth + 1) : std::nullopt;
    if (!x) return std::nullopt;
    return *x >= 0 ? *x / *by : -((-*x + *by - 1) / *by);
  }
  const auto l = parse(Dim(text));
  if (!l) return std::nullopt;
  int64_t total = l->constant;
  for (const auto& [atom, factor] : l->terms) {
    int64_t size = 1;
    if (atom.find('(') != std::string::npos) {
      const auto v = atom == text ? std::nullopt : value_of(atom, sizes, depth + 1);
      if (!v) return std::nullopt;
      size = *v;
    } else {  // a name, or a product of names
      for (size_t at = 0; at <= atom.size();) {
        const size_t end = std::min(atom.find('*', at), atom.size());
        const auto it = sizes.find(atom.substr(at, end - at));
        if (it == sizes.end() || __builtin_mul_overflow(size, it->second, &size)) return std::nullopt;
        at = end + 1;
      }
    }
    int64_t term = 0;
    if (__builtin_mul_overflow(size, factor, &term) || !add_checked(total, term)) return std::nullopt;
  }
  return total;
}

}  // namespace

Dim bound(const Dim& d, const std::map<std::string, int64_t>& sizes) {
  if (d.known() || d.symbol.empty()) return d;
  const auto v = value_of(d.symbol, sizes, 0);
  return v && *v >= 0 ? Dim(*v) : d;
}

}  // namespace lathe
