// Transpose, Slice and Expand: the input read with other strides. Often nothing is left to move.
#include <algorithm>

#include "lower/fuse/tape_ops.hpp"
#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/movement.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

struct StridedMatch : Match {
  using Match::Match;
  Shape in;
  int bytes = 0;          // of an element
  ops::StridedRead read;  // of an input in the standard's order
  bool is(std::string_view op) const { return node().op == op; }
};

// Whether a Transpose takes the standard's order to channels-last, or back.
bool turns(const Node& n, size_t rank, bool to_last) {
  const auto perm = n.integers("perm");
  if (n.op != "Transpose" || rank < 3 || perm.size() != rank) return false;
  const auto order = physical_order(static_cast<int>(rank), Layout::channels_last);
  for (size_t i = 0; i < rank; ++i) {
    if (to_last ? perm[i] != order[i] : perm[static_cast<size_t>(order[i])] != static_cast<int64_t>(i)) return false;
  }
  return true;
}

class StridedFamily : public StepFamily {
 public:
  std::string_view name() const override { return "strided"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || (n.op != "Transpose" && n.op != "Slice" && n.op != "Expand")) return nullptr;
    if (!view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0])) return nullptr;
    auto m = std::make_unique<StridedMatch>(view, group, StepKind::copy);
    m->in = view.shape(n.inputs[0]);
    m->bytes = copy_bytes(view.dtype(n.inputs[0]));
    if (m->bytes == 0) return nullptr;
    std::vector<Tensor> held;
    std::vector<const Tensor*> constants;
    held.reserve(n.inputs.size());
    for (size_t i = 0; i < n.inputs.size(); ++i) {
      held.push_back(i > 0 && n.inputs[i] != kAbsent && view.is_constant(n.inputs[i]) ? view.constant(n.inputs[i]) : Tensor());
      constants.push_back(held.back().empty() ? nullptr : &held.back());
    }
    auto read = ops::strided_read(n, view.version(n), m->in, constants);
    if (!read) return nullptr;
    m->read = std::move(*read);
    m->work.bytes = 2 * static_cast<double>(element_count(m->read.shape)) * m->bytes;
    return m;
  }

  LayoutDemand layouts(const Match& match) const override {
    const auto& m = static_cast<const StridedMatch&>(match);
    if (m.is("Slice")) return {Order::shared, Order::shared, Order::shared};
    if (turns(m.node(), m.in.size(), true)) return {Order::natural, Order::channels_last, Order::channels_last};
    if (turns(m.node(), m.in.size(), false)) return {Order::channels_last, Order::natural, Order::natural};
    return m.is("Transpose") ? LayoutDemand{Order::natural, Order::any, Order::any} : LayoutDemand{};
  }

  void lower(PlanBuilder& b, const Match& match, const Problem&, const Recipe&) const override {
    const auto& m = static_cast<const StridedMatch&>(match);
    const ValueId out = m.node().outputs[0];
    Layout layout = Layout::natural;
    Location from;
    const ops::StridedRead read = bind_read(b, m, from, layout);
    // Nothing moves: all of it, or a part that is read where it is.
    const Location seen{from.buffer, from.offset + static_cast<size_t>(read.offset * m.bytes), layout, read.strides};
    if (is_contiguous(read.shape, read.strides, layout)) return b.alias(out, {seen.buffer, seen.offset, layout});
    if (stays(m, read, seen)) return b.alias(out, seen);
    // Channels-last pictures that a model turns to the standard's order: they already are as window ops want them.
    if (m.is("Transpose") && from.layout == Layout::natural && from.contiguous() && m.in.size() > 2 &&
        read.strides == logical_strides(read.shape, Layout::channels_last) && b.preferred(out) == Layout::channels_last)
      return b.alias(out, {from.buffer, from.offset, Layout::channels_last});
    const Location to = b.define_strided(out, layout);
    auto k = std::make_unique<CopyKernel>();
    k->parts.push_back(copy_part(m.bytes, read.shape, read.strides, strides_at(to, read.shape), from, read.offset, to));
    Step step = begin_step(b, m);
    step.beside_others = true;
    step.text = "strided";
    step.reads = {from.buffer};
    step.writes = {to.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

 private:
  // The read from where and how the input is.
  static ops::StridedRead bind_read(PlanBuilder& b, const StridedMatch& m, Location& from, Layout& layout) {
    const ValueId value = m.node().inputs[0];
    ops::StridedRead read = m.read;
    if (m.is("Transpose")) {
      from = b.locate(value);
      const auto strides = strides_at(from, m.in);
      auto perm = m.node().integers("perm");
      if (perm.empty()) {
        for (int64_t i = static_cast<int64_t>(m.in.size()) - 1; i >= 0; --i) perm.push_back(i);
      }
      for (size_t i = 0; i < perm.size(); ++i)
        read.strides[i] = strides[perm[i] < 0 ? perm[i] + static_cast<int64_t>(perm.size()) : perm[i]];
    } else if (m.is("Slice") && element_count(read.shape) > 0) {
      layout = b.preferred(m.node().outputs[0]);
      from = b.strided(value, layout);
      const auto strides = strides_at(from, m.in), natural = logical_strides(m.in, Layout::natural);
      int64_t offset = 0;
      for (size_t i = 0; i < m.in.size(); ++i) {
        offset += read.offset / natural[i] % m.in[i] * strides[i];
        read.strides[i] = read.strides[i] / natural[i] * strides[i];
      }
      read.offset = offset;
    } else {
      from = b.contiguous(value, Layout::natural);
    }
    return read;
  }

  // Whether a part, or a transposition, is left where it is for its readers. Not a small part of much: that would be kept for it. A
  // transposition only for those who read it so; it would be copied under another name else.
  static bool stays(const StridedMatch& m, const ops::StridedRead& read, const Location& seen) {
    const GraphView& view = *m.view;
    const ValueId out = m.node().outputs[0];
    const auto reads_so = [&](int r) {
      const Node& reader = view.node(r);
      return reader.op == "Attention" || reader.op == "Concat" || reader.op == "Slice" || reader.op == "Split" ||
             reader.op == "Transpose" || (tapeable(view.graph(), reader) && contiguous_run(seen, read.shape) >= kShortRun);
    };
    const bool wanted = m.is("Slice") || (m.is("Transpose") && !view.is_output(out) && std::ranges::all_of(view.readers()[out], reads_so));
    return wanted && inner_is_contiguous(read.shape, read.strides, seen.layout) && element_count(read.shape) * 4 >= element_count(m.in);
  }
};

}  // namespace

const StepFamily& strided_reads() {
  static const StridedFamily family;
  return family;
}

}  // namespace lathe::lower
