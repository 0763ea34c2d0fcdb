#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>

#include "lathe/report.hpp"

namespace lathe {
namespace {

constexpr int64_t kMost = 80;  // boxes that one still looks at

// The module that a node's name tells of, so many parts deep.
std::string module_of(const std::string& name, int depth) {
  size_t at = name.starts_with('/') ? 1 : 0;
  const size_t begin = at;
  for (int d = 0; d < depth; ++d) {
    const size_t next = name.find_first_of("/.", at);
    if (next == std::string::npos) break;
    at = next + 1;
  }
  return at == begin ? "" : name.substr(begin, at - 1 - begin);
}

// Modules of one node are none. Gives how many there are left.
int64_t keep_large(std::vector<std::string>& modules) {
  std::map<std::string, int> sizes;
  for (const std::string& m : modules) {
    if (!m.empty()) ++sizes[m];
  }
  for (std::string& m : modules) {
    if (!m.empty() && sizes[m] < 2) m.clear();
  }
  return std::ranges::count_if(sizes, [](const auto& s) { return s.second >= 2; });
}

// Sections between places that a single value passes.
std::vector<std::string> sections_of(std::span<const NodeInfo> nodes) {
  const size_t n = nodes.size();
  std::map<std::string, std::pair<size_t, size_t>> spans;  // of values: by position, made before the first, read at the last
  for (size_t i = 0; i < n; ++i) {
    for (const std::string& v : nodes[i].inputs) spans.try_emplace(v, 0, 0).first->second.second = i;
    for (const std::string& v : nodes[i].outputs) spans[v] = {i + 1, i + 1};
  }
  std::vector<int> change(n + 2, 0);
  for (const auto& [v, span] : spans) {
    if (span.second < span.first) continue;
    ++change[span.first];
    --change[span.second + 1];
  }
  std::vector<std::string> out(n);
  const size_t least = std::max<size_t>(2, n / 40);
  size_t begin = 0;
  int live = 0;
  const auto name = [&](size_t end) {
    std::vector<std::pair<std::string, int>> ops;
    for (size_t i = begin; i < end; ++i) {
      const auto it = std::ranges::find(ops, nodes[i].op, &std::pair<std::string, int>::first);
      if (it == ops.end()) ops.emplace_back(nodes[i].op, 1);
      else ++it->second;
    }
    std::ranges::stable_sort(ops, std::greater<>(), &std::pair<std::string, int>::second);
    std::string text = fmt::format("{} to {}:", begin + 1, end);
    for (size_t k = 0; k < std::min<size_t>(3, ops.size()); ++k)
      text += fmt::format("{} {}{}", k > 0 ? "," : "", ops[k].second > 1 ? std::to_string(ops[k].second) + " " : "", ops[k].first);
    for (size_t i = begin; i < end; ++i) out[i] = text;
    begin = end;
  };
  for (size_t i = 0; i < n; ++i) {
    live += change[i];
    if (i > 0 && live == 1 && i - begin >= least) name(i);
  }
  if (begin < n) name(n);
  return out;
}

}  // namespace

std::vector<std::string> modules_of(std::span<const NodeInfo> nodes, int depth) {
  const auto at = [&](int parts) {
    std::vector<std::string> modules;
    for (const NodeInfo& n : nodes) modules.push_back(module_of(n.label, parts));
    return modules;
  };
  if (depth > 0) return at(depth);
  std::vector<std::string> best(nodes.size());
  int64_t most = 1;
  for (int parts = 1; parts <= 4; ++parts) {
    std::vector<std::string> modules = at(parts);
    const int64_t large = keep_large(modules);
    if (large > kMost || large <= most) continue;
    most = large;
    best = std::move(modules);
  }
  if (most > 1) return best;
  std::vector<std::string> sections = sections_of(nodes);
  return keep_large(sections) > 1 ? sections : std::vector<std::string>(nodes.size());
}

}  // namespace lathe
