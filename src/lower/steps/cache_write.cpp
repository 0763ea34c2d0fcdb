// TensorScatter: new entries put into a copy of a cache, from a place of each sequence on.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/fail.hpp"
#include "lower/plan/copies.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

class CacheWriteKernel : public StepKernel {
 public:
  Location cache, update, starts, output;
  bool given = false, wide = true, circular = false;  // starts: given, i64
  bool gives_output = false;
  std::string where;
  int64_t batch = 1, outer = 1, room = 1, count = 0, bytes = 0;  // `outer` lines a sequence, of `room` entries of `bytes`

  void run(const StepContext& c) const override {
    for (int64_t b = 0; b < batch; ++b) {
      const int64_t at = start(c, b);
      if (at < 0 || (!circular && at > room - count))
        fail_at(fmt::format("{} entries at position {} do not fit {} places", count, at, room));
    }
    const char *old = pointer<const char>(c, cache), *fresh = pointer<const char>(c, update);
    char* to = pointer<char>(c, output);
    // Up to where a line begins again.
    const auto each_run = [&](int64_t line, auto&& f) {
      const int64_t at = start(c, line / outer);
      for (int64_t i = 0; i < count;) {
        const int64_t place = (at + i) % room, some = std::min(count - i, room - place);
        f((line * room + place) * bytes, (line * count + i) * bytes, some * bytes);
        i += some;
      }
    };
    copy_to_change(c, gives_output, old, to, batch * outer * room * bytes, [&](std::vector<StateChanges::Run>& runs) {
      for (int64_t line = 0; line < batch * outer; ++line)
        each_run(line, [&](int64_t place, int64_t, int64_t size) { runs.push_back({place, size}); });
    });
    for (int64_t line = 0; line < batch * outer; ++line) {
      each_run(line, [&](int64_t place, int64_t from, int64_t size) { std::memcpy(to + place, fresh + from, static_cast<size_t>(size)); });
    }
  }

 private:
  int64_t start(const StepContext& c, int64_t b) const {
    if (!given) return 0;
    return wide ? pointer<const int64_t>(c, starts)[b] : pointer<const int32_t>(c, starts)[b];
  }
  [[noreturn]] void fail_at(std::string what) const { throw Error({{Category::value, where, std::move(what)}}); }
};

class CacheWriteFamily : public StepFamily {
 public:
  std::string_view name() const override { return "cache_write"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || n.op != "TensorScatter" || !view.is_static(n.inputs[0]) || !view.is_static(n.inputs[1]) ||
        !view.is_static(n.outputs[0]))
      return nullptr;
    const Shape cache = view.shape(n.inputs[0]), update = view.shape(n.inputs[1]);
    const std::string mode = n.text("mode", "linear");
    if (copy_bytes(view.dtype(n.inputs[0])) == 0 || cache.size() < 2 || update.size() != cache.size() || element_count(cache) == 0 ||
        (mode != "linear" && mode != "circular"))
      return nullptr;
    const auto axis = static_cast<size_t>(ops::wrap_axis(n.integer("axis", -2), static_cast<int64_t>(cache.size())));
    for (size_t d = 0; d < cache.size(); ++d) {
      if (d != axis && cache[d] != update[d]) return nullptr;
    }
    if (axis == 0 || update[axis] > cache[axis]) return nullptr;
    if (given(n.inputs, 2)) {
      const DType at = view.dtype(n.inputs[2]);
      if (!view.is_static(n.inputs[2]) || view.shape(n.inputs[2]) != Shape{cache[0]} || (at != DType::i64 && at != DType::i32))
        return nullptr;
    }
    auto m = std::make_unique<Match>(view, group, StepKind::copy);
    m->work.bytes = 2.0 * static_cast<double>(element_count(cache)) * copy_bytes(view.dtype(n.inputs[0]));
    return m;
  }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    const Node& n = m.node();
    auto k = std::make_unique<CacheWriteKernel>();
    Step step = begin_step(b, m);
    step.can_fail = true;
    const Shape cache = b.shape(n.inputs[0]);
    const auto axis = static_cast<size_t>(ops::wrap_axis(n.integer("axis", -2), static_cast<int64_t>(cache.size())));
    k->batch = cache[0], k->outer = product(cache, 1, axis), k->room = cache[axis], k->count = b.shape(n.inputs[1])[axis];
    k->bytes = product(cache, axis + 1, cache.size()) * copy_bytes(b.dtype(n.inputs[0]));
    k->circular = n.text("mode", "linear") == "circular";
    k->where = label(b.graph(), n);
    k->cache = b.contiguous(n.inputs[0], Layout::natural);
    k->update = b.contiguous(n.inputs[1], Layout::natural);
    step.reads = {k->cache.buffer, k->update.buffer};
    k->given = given(n.inputs, 2);
    if (k->given) {
      k->wide = b.dtype(n.inputs[2]) == DType::i64;
      k->starts = b.contiguous(n.inputs[2], Layout::natural);
      step.reads.push_back(k->starts.buffer);
    }
    k->gives_output = std::ranges::find(b.graph().outputs, m.result()) != b.graph().outputs.end();
    k->output = b.define(m.result(), Layout::natural);
    step.writes = {k->output.buffer};
    step.text = fmt::format("{} entries into {} lines of {}", k->count, k->batch * k->outer, k->room);
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& cache_writes() {
  static const CacheWriteFamily family;
  return family;
}

}  // namespace lathe::lower
