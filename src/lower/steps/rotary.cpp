// Rotary embeddings.
#include <fmt/format.h>

#include <algorithm>

#include "lower/recipe/step_family.hpp"
#include "ops/internal_attributes.hpp"

namespace lathe::lower {
namespace {

// Pairs of elements turned by the angle of their position.
class RotaryKernel : public StepKernel {
 public:
  Location x, cosines, sines, positions, y;
  bool flat = false, interleaved = false, placed = false, wraps = false;
  int64_t batch = 0, heads = 0, length = 0, width = 0, half = 0, rows = 0;
  std::string where;

  void run(const StepContext& c) const override {
    constexpr int64_t kEach = 16;
    const int64_t positions_count = batch * length;
    for (int64_t i = 0; placed && i < positions_count; ++i) {
      const int64_t row = position(c, i);
      if (row < 0 || row >= rows)
        throw Error({{Category::value, where, fmt::format("position {} is outside a cache of {} rows", row, rows)}});
    }
    c.workers.each((positions_count + kEach - 1) / kEach, [&](int64_t task, int) {
      for (int64_t i = task * kEach; i < std::min(positions_count, (task + 1) * kEach); ++i) turn(c, i / length, i % length);
    });
  }

  int64_t position(const StepContext& c, int64_t i) const {
    const int64_t row = pointer<const int64_t>(c, positions)[i];
    return wraps && row < 0 ? row + rows : row;
  }

  void turn(const StepContext& c, int64_t b, int64_t t) const {
    const int64_t row = placed ? position(c, b * length + t) : b * length + t;
    const float *cosine = pointer<const float>(c, cosines) + row * half, *sine = pointer<const float>(c, sines) + row * half;
    for (int64_t h = 0; h < heads; ++h) {
      const int64_t at = flat ? ((b * length + t) * heads + h) * width : ((b * heads + h) * length + t) * width;
      const float* from = pointer<const float>(c, x) + at;
      float* to = pointer<float>(c, y) + at;
      if (interleaved) {
        for (int64_t i = 0; i < half; ++i) {
          to[2 * i] = cosine[i] * from[2 * i] - sine[i] * from[2 * i + 1];
          to[2 * i + 1] = sine[i] * from[2 * i] + cosine[i] * from[2 * i + 1];
        }
      } else {
        for (int64_t i = 0; i < half; ++i) to[i] = cosine[i] * from[i] - sine[i] * from[half + i];
        for (int64_t i = 0; i < half; ++i) to[half + i] = sine[i] * from[i] + cosine[i] * from[half + i];
      }
      std::copy(from + 2 * half, from + width, to + 2 * half);
    }
  }
};

struct RotaryMatch : Match {
  using Match::Match;
  bool flat = false, positioned = false;
  int64_t batch = 0, heads = 0, length = 0, width = 0, turned = 0, rows = 0;
};

class RotaryFamily : public StepFamily {
 public:
  std::string_view name() const override { return "rotary"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (n.op != "RotaryEmbedding" || !n.domain.empty() || n.inputs.size() < 3 || !view.is_static(n.outputs[0])) return nullptr;
    for (size_t i = 0; i < 3; ++i) {
      if (!view.is_f32(n.inputs[i])) return nullptr;
    }
    auto m = std::make_unique<RotaryMatch>(view, group, StepKind::rotary);
    const Shape s = view.shape(n.inputs[0]), cs = view.shape(n.inputs[1]), ss = view.shape(n.inputs[2]);
    const int64_t heads = n.integer("num_heads", 0);
    m->flat = s.size() == 3;
    // What does not fit together, plain evaluation reports.
    if ((s.size() != 4 && !(m->flat && heads > 0)) || (m->flat && s[2] % heads != 0) || cs != ss || cs.empty()) return nullptr;
    m->batch = s[0], m->length = m->flat ? s[1] : s[2], m->heads = m->flat ? heads : s[1], m->width = m->flat ? s[2] / heads : s[3];
    const int64_t asked = n.integer("rotary_embedding_dim", 0);
    m->turned = asked == 0 ? m->width : asked;
    if (m->turned < 0 || m->turned > m->width || m->turned % 2 != 0 || cs.back() != m->turned / 2 || m->turned == 0) return nullptr;
    m->rows = element_count(cs) / (m->turned / 2);
    m->positioned = given(n.inputs, 3);
    if (m->positioned) {
      const ValueId p = n.inputs[3];
      if (!view.is_static(p) || view.dtype(p) != DType::i64 || element_count(view.shape(p)) != m->batch * m->length) return nullptr;
    } else if (m->rows != m->batch * m->length) {
      return nullptr;
    }
    m->work = {3.0 * static_cast<double>(element_count(s)), 8.0 * static_cast<double>(element_count(s))};
    return m;
  }

  void lower(PlanBuilder& b, const Match& match, const Problem&, const Recipe&) const override {
    const auto& m = static_cast<const RotaryMatch&>(match);
    const Node& n = m.node();
    auto kernel = std::make_unique<RotaryKernel>();
    RotaryKernel& k = *kernel;
    Step step = begin_step(b, m);
    k.flat = m.flat;
    k.batch = m.batch, k.length = m.length, k.heads = m.heads, k.width = m.width;
    k.half = m.turned / 2;
    k.rows = m.rows;
    k.interleaved = n.integer("interleaved", 0) != 0;
    k.wraps = n.integer(ops::kWrapPositions, 0) != 0;
    k.placed = m.positioned;
    if (k.placed) {
      k.positions = b.contiguous(n.inputs[3], Layout::natural);
      step.reads.push_back(k.positions.buffer);
      step.can_fail = true;
    }
    k.x = b.contiguous(n.inputs[0], Layout::natural);
    k.cosines = b.contiguous(n.inputs[1], Layout::natural);
    k.sines = b.contiguous(n.inputs[2], Layout::natural);
    k.y = b.define(n.outputs[0], Layout::natural);
    for (const Location& l : {k.x, k.cosines, k.sines}) step.reads.push_back(l.buffer);
    step.writes = {k.y.buffer};
    step.text = fmt::format("{} of {} columns turned{}{}", m.turned, k.width, k.interleaved ? ", neighbours" : ", halves",
                            k.placed ? ", positions given" : "");
    k.where = label(b.graph(), n);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& rotary() {
  static const RotaryFamily family;
  return family;
}

}  // namespace lathe::lower
