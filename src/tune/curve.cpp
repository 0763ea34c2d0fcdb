// One knob turned, everything else as the estimate has it.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "base/fail.hpp"
#include "lathe/parity.hpp"
#include "lathe/tune.hpp"
#include "tune/runner.hpp"
#include "tune/search.hpp"

namespace lathe {
namespace {

using tuning::Runner;

// About sixteen of its range, even in the logarithm, the estimate's among them.
std::vector<int64_t> values_of(const KnobInfo& k) {
  std::set<int64_t> values{k.first};
  const double low = static_cast<double>(std::max<int64_t>(k.least, 1)), high = static_cast<double>(std::max<int64_t>(k.most, 1));
  if (k.least <= 0) values.insert(0);
  for (int i = 0; i <= 15; ++i) {
    const double v = low * std::pow(high / low, i / 15.0);
    const int64_t multiple = static_cast<int64_t>(std::llround(v / static_cast<double>(k.step))) * k.step;
    if (multiple >= k.least && multiple <= k.most) values.insert(multiple);
  }
  return {values.begin(), values.end()};
}

}  // namespace

KnobCurve knob_curve(const Graph& graph, const CompileOptions& compile, std::span<const Tensor> inputs, const std::string& problem,
                     const std::string& knob, std::vector<int64_t> values, const TuneOptions& o) {
  Runner base(graph, compile, Recipes(), inputs, o.held);
  const auto mark = [&](Runner& r) {
    for (size_t i = 0; i < r.steps.size(); ++i) r.group_of[i] = r.steps[i].problem == problem ? 0 : -1;
  };
  mark(base);
  const auto step = std::ranges::find_if(base.steps, [&](const StepInfo& s) { return s.problem == problem && !s.chosen.empty(); });
  if (step == base.steps.end()) fail(Category::value, "the model has no such problem: {}", problem);
  const tuning::Space space(step->families, false);
  const tuning::Point first = space.parse(step->chosen);
  const std::vector<KnobInfo>& knobs = space.families()[first.family].knobs;
  const auto k = std::ranges::find(knobs, knob, &KnobInfo::name);
  if (k == knobs.end()) {
    std::vector<std::string> names;
    for (const KnobInfo& i : knobs) names.push_back(i.name);
    fail(Category::value, "{} has no knob '{}'; its knobs are {}", step->estimated, knob,
         names.empty() ? "none" : fmt::format("{}", fmt::join(names, ", ")));
  }
  KnobCurve curve{problem, step->op, step->chosen, knob, first.values[static_cast<size_t>(k - knobs.begin())], 0, {}};
  if (values.empty()) values = values_of(*k);
  std::optional<Outputs> right;
  (void)base.run(inputs, {}, &right);
  const std::string isa = base.program.options().isa;
  const int threads = base.program.options().threads;
  std::vector<double> own;
  for (const int64_t v : values) {
    if (o.stop.stop_requested()) break;
    if (o.progress) o.progress({fmt::format("{} {}", knob, v), 0, o.seconds, static_cast<int>(curve.points.size()), 1});
    KnobCurve::Timing& t = curve.points.emplace_back();
    t.value = v;
    tuning::Point p = first;
    p.values[static_cast<size_t>(k - knobs.begin())] = v;
    const std::string recipe = space.text(p);
    Recipes pinned;
    if (recipe != step->chosen) pinned.add({problem, isa, threads, recipe});
    Runner turned(graph, compile, pinned, inputs, o.held);
    mark(turned);
    const auto its = std::ranges::find_if(turned.steps, [&](const StepInfo& s) { return s.problem == problem && !s.chosen.empty(); });
    if (its == turned.steps.end() || its->chosen != recipe) {
      t.refused = its == turned.steps.end() ? "the step is another one then" : its->refused;
      continue;
    }
    std::optional<Outputs> got;
    (void)turned.run(inputs, {}, &got);
    for (size_t i = 0; i < got->size() && t.refused.empty(); ++i) {
      if ((*got)[i].composite()) continue;
      if (const Comparison c = compare(got->name(i), (*got)[i], (*right)[i]); !c.pass && c.error > 1e-4)
        t.refused = fmt::format("wrong: output '{}' {}", c.name, c.reason);
    }
    std::vector<double> ratios, seconds;
    tuning::by_turns(base, turned, inputs, 1, o.seconds / static_cast<double>(values.size()), 5, 400,
                     [&](const std::vector<double>& a, const std::vector<double>& b) {
                       if (a[0] > 0 && b[0] > 0) ratios.push_back(b[0] / a[0]), seconds.push_back(b[0]);
                       own.push_back(a[0]);
                       return true;
                     });
    const tuning::Ratio r = tuning::ratio_of(std::move(ratios));
    t.seconds = tuning::median(std::move(seconds));
    t.ratio = r.middle, t.low = r.low, t.high = r.high;
  }
  curve.seconds = tuning::median(std::move(own));
  return curve;
}

}  // namespace lathe
