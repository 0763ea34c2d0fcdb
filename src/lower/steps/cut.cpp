// An anchor and the elementwise nodes behind it as two steps, where other families make one of them. The second step reads and writes what
// the first has in registers, so that rarely pays; a tuner may find where it does (a long tail on small tiles, say).
#include <algorithm>
#include <memory>
#include <utility>

#include "lower/recipe/step_family.hpp"
#include "lower/steps/registry.hpp"

namespace lathe::lower {

const StepFamily& cut();
const StepFamily& elementwise();

namespace {

struct CutMatch : Match {
  using Match::Match;
  Group front, tail;              // as groups of their own
  std::vector<Candidate> fronts;  // never empty
  std::vector<Candidate> tails;   // one
  ValueId between() const { return view->node(group->anchor).outputs[0]; }
};

// Of the nodes up to the anchor: their operands and results come first.
Problem problem_of_front(const CutMatch& m, const Problem& whole) {
  Problem p = whole;
  p.operations.resize(m.front.nodes.size());
  size_t operands = 0, results = 0;
  for (size_t i = 0; i < p.operations.size(); ++i) {
    for (const int o : p.operations[i].inputs) operands = std::max(operands, static_cast<size_t>(o + 1));
    results += m.view->node(m.front.nodes[i]).outputs.size();
  }
  p.operands.resize(operands + 1);  // and what the anchor makes, which is named behind what it reads
  p.results.resize(results);
  p.results.back() = whole.results.back();
  return p;
}

class CutFamily : public StepFamily {
 public:
  std::string_view name() const override { return "cut"; }
  bool untuned() const override { return false; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine& machine) const override {
    if (group.anchor < 0 || group.joined || group.kept || group.nodes.back() == group.anchor) return nullptr;
    const Node& anchor = view.node(group.anchor);
    if (anchor.outputs.size() != 1 || !view.is_static(anchor.outputs[0])) return nullptr;
    auto m = std::make_unique<CutMatch>(view, group, StepKind::tape);
    m->front = group;
    m->front.nodes.resize(group.nodes.size() - group.from_anchor().size() + 1);
    m->tail.nodes.assign(group.from_anchor().begin() + 1, group.from_anchor().end());
    look(elementwise(), view, m->tail, machine, m->tails);
    if (m->tails.empty()) return nullptr;
    for (const StepFamily* f : step_families()) {
      // Winograd's method may be unwanted, and a match is not told.
      if (f != &cut() && !is_winograd(*f)) look(*f, view, m->front, machine, m->fronts);
    }
    if (m->fronts.empty()) return nullptr;
    m->work = m->fronts[0].match->work;
    return m;
  }

  // Whatever was chosen for those that make one step of it.
  LayoutDemand layouts(const Match&) const override { return {Order::any, Order::any, Order::any}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const CutMatch&>(match);
    const Problem front = problem_of_front(m, p);
    const Candidate& c = front_of(m, front);
    c.family->candidates(*c.match, front, space);
  }

  std::string fault(const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const CutMatch&>(match);
    const Problem front = problem_of_front(m, p);
    const Candidate& c = front_of(m, front);
    return c.family->fault(*c.match, front, as_of(c, recipe));
  }

  double estimate(const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const CutMatch&>(match);
    const Problem front = problem_of_front(m, p);
    const Candidate& c = front_of(m, front);
    return c.family->estimate(*c.match, front, as_of(c, recipe)) + seconds(p.machine.rates, m.tails[0].match->work);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const CutMatch&>(match);
    const Problem front = problem_of_front(m, p);
    const Candidate &c = front_of(m, front), &tail = m.tails[0];
    // The tail is done in the layout that the front makes, as it would be in the front's registers.
    const Order out = c.family->layouts(*c.match).out;
    const Layout layout = out == Order::channels_last ? Layout::channels_last : out == Order::natural ? Layout::natural : p.results.back();
    b.prefer(m.between(), layout);
    b.prefer(m.result(), layout);
    size_t at = b.plan().steps.size();
    const auto tell = [&](const Group& group) {
      for (; at < b.plan().steps.size(); ++at) {
        Step& step = b.plan().steps[at];
        if (step.kind == StepKind::layout) continue;
        step.members = group.nodes, step.head = group.head();
        step.why = "cut from what it could be fused with";
      }
    };
    c.family->lower(b, *c.match, front, as_of(c, recipe));
    tell(m.front);
    const Problem behind = problem_of(b, m.tail, p.machine);
    tail.family->lower(b, *tail.match, behind, tail.family->space(*tail.match, behind).first());
    tell(m.tail);
  }

 private:
  static Recipe as_of(const Candidate& c, const Recipe& recipe) {
    return {std::string(c.family->name()), c.family->version(), recipe.knobs};
  }

  // The one with the least estimate that makes the layout which is wanted, if there is such.
  static const Candidate& front_of(const CutMatch& m, const Problem& p) {
    const Candidate* best = nullptr;
    std::pair<bool, double> least;
    for (const Candidate& c : m.fronts) {
      const Recipe first = c.family->space(*c.match, p).first();
      if (!c.family->fault(*c.match, p, first).empty()) continue;
      const Order out = c.family->layouts(*c.match).out;
      const bool other = (out == Order::natural && p.results.back() == Layout::channels_last) ||
                         (out == Order::channels_last && p.results.back() == Layout::natural);
      const std::pair cost(other, c.family->estimate(*c.match, p, first));
      if (best == nullptr || cost < least) best = &c, least = cost;
    }
    return best ? *best : m.fronts[0];
  }
};

}  // namespace

const StepFamily& cut() {
  static const CutFamily family;
  return family;
}

}  // namespace lathe::lower
