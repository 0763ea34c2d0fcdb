// DepthToSpace and SpaceToDepth: one copy, from the layout the value has into the same.
#include <fmt/format.h>

#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"

namespace lathe::lower {
namespace {

class BlocksFamily : public StepFamily {
 public:
  std::string_view name() const override { return "blocks"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || (n.op != "DepthToSpace" && n.op != "SpaceToDepth")) return nullptr;
    if (!view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0]) || copy_bytes(view.dtype(n.inputs[0])) == 0) return nullptr;
    const Shape s = view.shape(n.inputs[0]);
    if (s.size() != 4 || element_count(s) == 0) return nullptr;
    auto m = std::make_unique<Match>(view, group, StepKind::copy);
    m->work.bytes = 2 * static_cast<double>(element_count(s)) * copy_bytes(view.dtype(n.inputs[0]));
    return m;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::shared, Order::shared, Order::shared}; }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    const Node& n = m.node();
    const Shape s = b.shape(n.inputs[0]), o = b.shape(n.outputs[0]);
    const int64_t block = n.integer("blocksize", 1);
    const Layout layout = b.preferred(n.outputs[0]);
    const Location from = b.strided(n.inputs[0], layout), to = b.define_strided(n.outputs[0], layout);
    const auto in = strides_at(from, s), out = strides_at(to, o);
    // Dims: image, channel of the deeper side's blocks, row, row in the block, column, column in the block.
    const bool deep = n.op == "DepthToSpace", first = deep && n.text("mode", "DCR") == "CRD";
    const Shape &wide = deep ? o : s, &few = deep ? s : o;  // the side with more pixels, and the one with more channels
    const auto &wide_strides = deep ? out : in, &few_strides = deep ? in : out;
    const int64_t depth = wide[1], channel = few_strides[1];
    const Shape shape{s[0], depth, few[2], block, few[3], block};
    const std::vector<int64_t> pixels{wide_strides[0], wide_strides[1],         wide_strides[2] * block,
                                      wide_strides[2], wide_strides[3] * block, wide_strides[3]};
    const std::vector<int64_t> channels{few_strides[0], first ? channel * block * block : channel,
                                        few_strides[2], first ? channel * block : channel * depth * block,
                                        few_strides[3], first ? channel : channel * depth};
    auto k = std::make_unique<CopyKernel>();
    k->parts.push_back(copy_part(copy_bytes(b.dtype(n.inputs[0])), shape, deep ? channels : pixels, deep ? pixels : channels, from, 0, to));
    Step step = begin_step(b, m);
    step.beside_others = true;
    step.text = fmt::format("blocks of {} x {}", block, block);
    step.reads = {from.buffer};
    step.writes = {to.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& blocks() {
  static const BlocksFamily family;
  return family;
}

}  // namespace lathe::lower
