// Lines of text, as the tokens that a model is judged on.
#include <algorithm>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "lathe/generate.hpp"
#include "lathe/judge_pictures.hpp"
#include "tensor/widen.hpp"

namespace lathe {

DrawnData read_lines(const std::filesystem::path& lines, const Program& program, const Vocabulary& vocabulary) {
  const Roles roles = find_roles(program);
  const auto port = [&](const std::string& name) { return *std::ranges::find(program.inputs(), name, &Port::name); };
  for (const Port& p : program.inputs()) {
    if (p.name == roles.tokens || p.name == roles.mask || p.name == roles.positions) continue;
    fail(Category::value, "input '{}' is neither tokens, mask nor positions: lines of text say nothing of it; give arrays and --targets",
         p.name);
  }
  std::vector<std::vector<int64_t>> all;
  const std::string text = read_file(lines);
  size_t number = 0;
  int64_t longest = 0;
  const auto dims = port(roles.tokens).dims;
  const int64_t room = dims && dims->size() == 2 && dims->back().known() ? dims->back().value : 0;
  for (size_t at = 0; at < text.size();) {
    const size_t end = std::min(text.find('\n', at), text.size());
    std::string line = text.substr(at, end - at);
    at = end + 1;
    ++number;
    if (line.ends_with('\r')) line.pop_back();
    if (line.empty()) continue;
    std::vector<int64_t> tokens;
    if (const auto begin = vocabulary.special("begin")) tokens.push_back(*begin);
    try {
      const std::vector<int64_t> said = vocabulary.encode(line);
      tokens.insert(tokens.end(), said.begin(), said.end());
    } catch (const Error& e) {
      fail(Category::format, "{}: line {}: {}", lines.string(), number, e.what());
    }
    const auto n = static_cast<int64_t>(tokens.size()) - 1;
    if (n < 1) continue;  // nothing comes after the first
    if (room > 0 && n > room) fail(Category::format, "{}: line {} is {} tokens long, the model takes {}", lines.string(), number, n, room);
    longest = std::max(longest, n);
    all.push_back(std::move(tokens));
  }
  if (all.empty()) fail(Category::format, "{}: expected lines of text, of two tokens or more", lines.string());
  const int64_t wide = room > 0 ? room : longest, items = static_cast<int64_t>(all.size());
  const Shape shape{items, wide};
  std::vector<int64_t> tokens(static_cast<size_t>(items * wide), vocabulary.special("pad").value_or(0)), targets(tokens.size(), -1),
      mask(tokens.size(), 0), positions(tokens.size(), 0);
  for (size_t i = 0; i < all.size(); ++i) {
    const size_t row = i * static_cast<size_t>(wide);
    for (size_t k = 0; k + 1 < all[i].size(); ++k) {
      tokens[row + k] = all[i][k];
      targets[row + k] = all[i][k + 1];
      mask[row + k] = 1;
    }
    for (size_t k = 0; k < static_cast<size_t>(wide); ++k) positions[row + k] = static_cast<int64_t>(k);
  }
  DrawnData d;
  d.kind = Drawn::tokens;
  d.items.items = all.size();
  const auto add = [&](const std::string& name, const std::vector<int64_t>& values) {
    if (!name.empty()) d.items.arrays.push_back({name, narrow<int64_t>(port(name).dtype, shape, values)});
  };
  add(roles.tokens, tokens);
  add(roles.mask, mask);
  add(roles.positions, positions);
  d.items.targets = Tensor::from<int64_t>(shape, targets);
  return d;
}

}  // namespace lathe
