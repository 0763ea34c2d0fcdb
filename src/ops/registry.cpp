// The op registry.

#include <map>

#include "base/library.hpp"
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
    ops::add_elementwise(all);
    ops::add_contractions(all);
    ops::add_normalisations(all);
    ops::add_pooling(all);
    ops::add_reductions(all);
    ops::add_movement(all);
    ops::add_resize(all);
    ops::add_creation(all);
    ops::add_control(all);
    ops::add_sequences(all);
    ops::add_indexing(all);
    ops::add_recurrent(all);
    ops::add_quantised(all);
    ops::add_attention(all);
    ops::add_vision(all);
    ops::add_signal(all);
    ops::add_random(all);
    ops::add_text(all);
    ops::add_losses(all);
    ops::add_linear_algebra(all);
    ops::add_companion(all);
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

void load_ops(const std::string& path) { call_library(path, "ops", "lathe_register_ops", "register_op"); }

std::vector<const OpDef*> all_ops() {
  std::vector<const OpDef*> out;
  for (const auto& [key, versions] : registry().defs) {
    for (const auto& [since, def] : versions) out.push_back(&def);
  }
  return out;
}

}  // namespace lathe
