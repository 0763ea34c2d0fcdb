// The op registry.
#include <map>

#include "base/fail.hpp"
#include "ops/operands.hpp"
#include "ops/support.hpp"

namespace lathe {
namespace {

struct Registry {
  // domain:name -> definitions by since-version
  std::map<std::pair<std::string, std::string>, std::map<int, OpDef>, std::less<>> defs;
};

Registry& registry() {
  static Registry r = [] {
    Registry fresh;
    std::vector<OpDef> all;
    for (const ops::OpGroup& group : ops::op_groups()) group.add(all);
    ops::add_attributes(all);
    ops::add_operands(all);
    for (OpDef& d : all) {
      d.statement = ops::read_statement(d);
      fresh.defs[{d.domain, d.name}][d.since] = std::move(d);
    }
    return fresh;
  }();
  return r;
}

}  // namespace

void register_op(OpDef def) {
  if (def.domain == "ai.onnx") def.domain.clear();
  if (def.name.empty() || !def.infer || !def.plain) fail(Category::value, "register_op: a definition needs a name, infer and plain");
  def.statement = ops::read_statement(def);
  auto& slot = registry().defs[{def.domain, def.name}];
  slot[def.since] = std::move(def);
}

const OpDef* find_op(std::string_view domain, std::string_view name, int64_t version) {
  const auto it = registry().defs.find(std::pair<std::string, std::string>(domain == "ai.onnx" ? "" : domain, name));
  if (it == registry().defs.end()) return nullptr;
  const OpDef* best = nullptr;
  for (const auto& [since, def] : it->second) {
    if (since <= version) best = &def;
  }
  return best;
}

std::vector<const OpDef*> all_ops() {
  std::vector<const OpDef*> out;
  for (const auto& [key, versions] : registry().defs) {
    for (const auto& [since, def] : versions) out.push_back(&def);
  }
  return out;
}

}  // namespace lathe
