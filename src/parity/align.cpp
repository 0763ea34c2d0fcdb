#include "parity/align.hpp"

#include <algorithm>
#include <vector>

namespace lathe::parting {
namespace {

struct Place {
  std::string name, op;
  const std::optional<Dims>* dims;
};

std::vector<Place> places(const Graph& g) {
  std::vector<Place> out;
  for (const Node& n : g.nodes) {
    if (n.outputs.empty() || n.outputs[0] == kAbsent) continue;
    const Value& v = g.values[static_cast<size_t>(n.outputs[0])];
    out.push_back({v.name, n.op, &v.dims});
  }
  return out;
}

// Open dims fit everything.
bool same_shape(const std::optional<Dims>& a, const std::optional<Dims>& b) {
  if (!a || !b) return true;
  if (a->size() != b->size()) return false;
  for (size_t i = 0; i < a->size(); ++i) {
    if ((*a)[i].known() && (*b)[i].known() && (*a)[i].value != (*b)[i].value) return false;
  }
  return true;
}

bool alike(const Place& a, const Place& b) { return a.op == b.op && same_shape(*a.dims, *b.dims); }

// The longest common subsequence of a[a0, a1) and b[b0, b1).
void match(const std::vector<Place>& a, size_t a0, size_t a1, const std::vector<Place>& b, size_t b0, size_t b1,
           std::map<std::string, std::string>& out) {
  const size_t n = a1 - a0, m = b1 - b0;
  if (n == 0 || m == 0 || n * m > 64'000'000) return;
  std::vector<uint32_t> best((n + 1) * (m + 1), 0);
  const auto at = [&](size_t i, size_t j) -> uint32_t& { return best[i * (m + 1) + j]; };
  for (size_t i = n; i-- > 0;) {
    for (size_t j = m; j-- > 0;) at(i, j) = alike(a[a0 + i], b[b0 + j]) ? at(i + 1, j + 1) + 1 : std::max(at(i + 1, j), at(i, j + 1));
  }
  for (size_t i = 0, j = 0; i < n && j < m;) {
    if (alike(a[a0 + i], b[b0 + j]) && at(i, j) == at(i + 1, j + 1) + 1) {
      out.emplace(a[a0 + i].name, b[b0 + j].name);
      ++i, ++j;
    } else if (at(i + 1, j) >= at(i, j + 1)) {
      ++i;
    } else {
      ++j;
    }
  }
}

}  // namespace

std::map<std::string, std::string> align(const Graph& ours, const Graph& theirs) {
  std::map<std::string, std::string> out;
  const auto a = places(ours), b = places(theirs);
  std::map<std::string, size_t> where;
  for (size_t j = 0; j < b.size(); ++j) where[b[j].name] = j;
  // Names of exporters that count ("x_12") may mean other values in another export: a name counts where shape and op agree.
  // Where most names differ, those that do not are no anchors.
  const auto named = std::ranges::count_if(a, [&](const Place& p) {
    const auto it = where.find(p.name);
    return it != where.end() && alike(p, b[it->second]);
  });
  const bool by_name = 2 * static_cast<size_t>(named) >= std::min(a.size(), b.size());
  size_t a0 = 0, b0 = 0;
  for (size_t i = 0; by_name && i < a.size(); ++i) {
    const auto it = where.find(a[i].name);
    if (it == where.end() || it->second < b0 || !alike(a[i], b[it->second])) continue;
    match(a, a0, i, b, b0, it->second, out);
    out.emplace(a[i].name, a[i].name);
    a0 = i + 1;
    b0 = it->second + 1;
  }
  match(a, a0, a.size(), b, b0, b.size(), out);
  // Values that names alone match: a narrowed or turned model makes some by another op.
  for (size_t v = 0; by_name && v < ours.values.size(); ++v) {
    const std::string& name = ours.values[v].name;
    if (name.empty() || out.contains(name) || ours.values[v].constant) continue;
    const ValueId w = theirs.find_value(name);
    if (w != kAbsent && !theirs.values[static_cast<size_t>(w)].constant &&
        same_shape(ours.values[v].dims, theirs.values[static_cast<size_t>(w)].dims) &&
        ours.values[v].dtype == theirs.values[static_cast<size_t>(w)].dtype)
      out.emplace(name, name);
  }
  // The results of both, in order, where they are as many.
  if (ours.outputs.size() == theirs.outputs.size()) {
    for (size_t i = 0; i < ours.outputs.size(); ++i)
      out[ours.values[static_cast<size_t>(ours.outputs[i])].name] = theirs.values[static_cast<size_t>(theirs.outputs[i])].name;
  }
  return out;
}

}  // namespace lathe::parting
