// Softmax, normalisations and reductions: work along rows, with the elementwise nodes before and after it done while a row is near.
#include <algorithm>
#include <array>

#include "lower/steps/forms.hpp"
#include "lower/steps/rows.hpp"

namespace lathe::lower {
namespace {

class RowKernel : public StepKernel, public BoundRows {
 public:
  int64_t each = 1;
  int64_t strips = 1;     // of columns, when there are few rows to share out
  int64_t near_rows = 1;  // rows done together while they stay in L1

  void run(const StepContext& c) const override {
    c.workers.each((count + each - 1) / each * strips, [&](int64_t piece, int) {
      const int64_t task = piece / strips, strip = piece % strips;
      kernels::RowArguments a = arguments;
      a.out = pointer<float>(c, output);
      if (has_scale) a.scale = pointer<const float>(c, scale);
      if (has_bias) a.bias = pointer<const float>(c, bias);
      a.column_begin = a.width * strip / strips / 16 * 16;
      a.column_end = strip + 1 == strips ? a.width : a.width * (strip + 1) / strips / 16 * 16;
      const int64_t first = task * each, last = std::min(count, first + each);
      if (!before && !after) {
        a.in = pointer<const float>(c, input);
        a.begin = first;
        a.end = last;
        rows(a);
        return;
      }
      for (int64_t r = first; r < last; r += near_rows) {
        a.begin = r;
        a.end = std::min(last, r + near_rows);
        if (before) {
          // The kernel counts rows from 0 of what it is given; scratch holds only those of now.
          float* made = kept        ? pointer<float>(c, input)
                        : in_output ? a.out
                                    : pointer<float>(c, scratch) + (task * near_rows - r) * a.length;
          before->run_rows(c, r, a.end, a.length, made + r * a.length, kernels::TapeType::f32, false);
          a.in = made;
        } else {
          a.in = pointer<const float>(c, input);
        }
        rows(a);
        if (after) after->run_rows(c, r, a.end, a.length, a.out + r * a.length, kernels::TapeType::f32, true);
      }
    });
  }
};

class RowsFamily : public StepFamily {
 public:
  std::string_view name() const override { return "rows"; }
  std::span<const Numbers> numbers() const override { return kF32; }
  std::span<const StepFamily* const> forms() const override {
    static const std::array kForms{&wide_reductions()};
    return kForms;
  }

  Anchor anchor(const GraphView& view, const Node& n) const override { return rows_anchor(view, n); }
  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override { return match_rows(view, group); }
  LayoutDemand layouts(const Match& m) const override { return rows_layouts(static_cast<const RowsMatch&>(m)); }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const RowsMatch&>(match);
    const RowForm& f = m.form(p);
    const int64_t threads = p.machine.threads;
    const int64_t each =
        std::max<int64_t>(1, std::min<int64_t>(f.count / (threads * 4) + 1, 16384 / std::max<int64_t>(1, f.length * f.width) + 1));
    space.knob("rows_a_task", each, 1, std::max<int64_t>(1, f.count));
    const bool strips = f.width > 1 && threads > 1 && f.count < 4 * threads;
    space.knob("strips", strips ? std::clamp<int64_t>(f.width / 512, 1, 4 * threads) : 1, 1, std::max<int64_t>(1, f.width / 16));
    if (m.group->nodes.size() > 1) space.knob("near_rows", std::max<int64_t>(1, 4096 / std::max<int64_t>(1, f.length)), 1, 4096);
  }

  std::string fault(const Match& m, const Problem&, const Recipe& r) const override {
    return m.group->nodes.size() > 1 && r.at("strips") > 1 ? "rows with other nodes around them are not cut into strips" : "";
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const RowsMatch&>(match);
    const RowForm& form = m.form(p);
    auto kernel = std::make_unique<RowKernel>();
    RowKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.each = recipe.at("rows_a_task");
    k.strips = recipe.at("strips");
    if (m.group->nodes.size() > 1) k.near_rows = recipe.at("near_rows");
    bind_rows(b, m, form, p.machine.isa, (form.count + k.each - 1) / k.each * k.near_rows * form.length, k, step);
    step.text += tapes_text(k);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& rows() {
  static const RowsFamily family;
  return family;
}

}  // namespace lathe::lower
