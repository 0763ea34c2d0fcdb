// Concat and Split. Parts are read where they are, and made where a Concat wants them; what is left is copied.
#include <fmt/format.h>

#include <algorithm>

#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

struct PartsMatch : Match {
  using Match::Match;
  std::vector<ValueId> parts;
  ValueId whole = kAbsent;
  Shape shape;  // of the whole
  int64_t axis = 0;
  int bytes = 0;  // of an element
  // Where the part that begins at this index of the axis is.
  Location part(const Location& all, int64_t at, Layout layout) const {
    const auto strides = strides_at(all, shape);
    return {all.buffer, all.offset + static_cast<size_t>(at * strides[axis] * bytes), layout, strides};
  }
};

class PartsFamily : public StepFamily {
 public:
  std::string_view name() const override { return "parts"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    const bool concat = n.op == "Concat";
    if (!n.domain.empty() || (!concat && n.op != "Split")) return nullptr;
    auto m = std::make_unique<PartsMatch>(view, group, StepKind::copy);
    m->parts = concat ? n.inputs : n.outputs;
    m->whole = concat ? n.outputs[0] : n.inputs[0];
    const auto fixed = [&](ValueId v) { return view.is_static(v); };
    if (!fixed(m->whole) || !std::ranges::all_of(m->parts, fixed)) return nullptr;
    m->bytes = copy_bytes(view.dtype(m->whole));
    if (m->bytes == 0) return nullptr;
    m->shape = view.shape(m->whole);
    m->axis = ops::wrap_axis(n.integer("axis", 0), static_cast<int64_t>(m->shape.size()));
    return m;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::shared, Order::shared, Order::shared}; }

  void lower(PlanBuilder& b, const Match& match, const Problem&, const Recipe&) const override {
    const auto& m = static_cast<const PartsMatch&>(match);
    m.node().op == "Concat" ? join(b, m) : part(b, m);
  }

 private:
  // Parts are read where they are, unless what runs fastest is cut to pieces.
  static void part(PlanBuilder& b, const PartsMatch& m) {
    const Layout layout = b.preferred(m.parts[0]);
    const Location from = b.strided(m.whole, layout);
    auto k = std::make_unique<CopyKernel>();
    Step step = copy_step(b.names(*m.group), "out of one buffer", 0, m.bytes);
    int64_t at = 0;
    for (ValueId v : m.parts) {
      const Shape shape = b.shape(v);
      Location here = m.part(from, at, layout);
      at += shape[m.axis];
      if (element_count(shape) > 0 && inner_is_contiguous(shape, here.strides, layout)) {
        if (is_contiguous(shape, here.strides, layout)) here.strides.clear();
        b.alias(v, here);
        continue;
      }
      const Location to = b.define_strided(v, layout);
      k->parts.push_back(copy_part(m.bytes, shape, here.strides, strides_at(to, shape), here, 0, to));
      step.bytes += 2.0 * static_cast<double>(element_count(shape)) * m.bytes;
      step.writes.push_back(to.buffer);
    }
    if (k->parts.empty()) return;
    step.reads = {from.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

  // Some parts may be there already.
  static void join(PlanBuilder& b, const PartsMatch& m) {
    const bool begun = std::ranges::any_of(m.parts, [&](ValueId v) { return b.is_part(v, m.whole); });
    const Layout layout = begun ? b.locate(m.whole).layout : b.preferred(m.whole);
    std::vector<Location> locations;
    for (ValueId v : m.parts) locations.push_back(b.strided(v, layout));
    const Location to = begun ? b.locate(m.whole) : b.define_strided(m.whole, layout);
    auto k = std::make_unique<CopyKernel>();
    Step step = copy_step(b.names(*m.group), "into one buffer", 0, m.bytes);
    int64_t at = 0;
    for (size_t i = 0; i < m.parts.size(); ++i) {
      const Shape shape = b.shape(m.parts[i]);
      const Location here = m.part(to, at, layout);
      at += shape[m.axis];
      if (element_count(shape) == 0 || (locations[i].buffer == here.buffer && locations[i].offset == here.offset)) continue;
      k->parts.push_back(copy_part(m.bytes, shape, strides_at(locations[i], shape), here.strides, locations[i], 0, here));
      step.bytes += 2.0 * static_cast<double>(element_count(shape)) * m.bytes;
      step.reads.push_back(locations[i].buffer);
    }
    if (k->parts.size() < m.parts.size() && !k->parts.empty())
      step.text = fmt::format("{} of {} parts into place", k->parts.size(), m.parts.size());
    if (begun && k->parts.empty()) return;
    step.writes = {to.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& parts() {
  static const PartsFamily family;
  return family;
}

}  // namespace lathe::lower
