// Pad and Tile, axis by axis.
#include <algorithm>

#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/indexed.hpp"
#include "ops/movement.hpp"

namespace lathe::lower {
namespace {

struct PadMatch : Match {
  using Match::Match;
  ops::AxisTables tables;
};

class PadFamily : public StepFamily {
 public:
  std::string_view name() const override { return "pad"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || (n.op != "Pad" && n.op != "Tile")) return nullptr;
    if (!view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0])) return nullptr;
    const Shape in = view.shape(n.inputs[0]);
    const int bytes = copy_bytes(view.dtype(n.inputs[0]));
    if (bytes == 0 || in.empty()) return nullptr;
    const auto held = constants_of(view, n);
    std::vector<const Tensor*> constants;
    for (const Tensor& t : held) constants.push_back(t.empty() ? nullptr : &t);
    auto tables = ops::axis_tables(n, view.version(n), view.dtype(n.inputs[0]), in, constants);
    if (!tables) return nullptr;
    auto m = std::make_unique<PadMatch>(view, group, StepKind::copy);
    m->tables = std::move(*tables);
    m->work.bytes = static_cast<double>(bytes) * static_cast<double>(element_count(in) + element_count(view.shape(n.outputs[0])));
    return m;
  }

  void lower(PlanBuilder& b, const Match& match, const Problem&, const Recipe&) const override {
    const auto& m = static_cast<const PadMatch&>(match);
    uint64_t fill = 0;
    if (!m.tables.fill.empty())
      std::copy_n(static_cast<const char*>(m.tables.fill.data()), copy_bytes(m.tables.fill.dtype()), reinterpret_cast<char*>(&fill));
    add_indexed(b, m, m.tables.tables, fill, m.node().op == "Pad" ? "rows with their padding" : "rows, repeated");
  }
};

}  // namespace

const StepFamily& pads() {
  static const PadFamily family;
  return family;
}

}  // namespace lathe::lower
